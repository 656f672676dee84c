package reach

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"
)

// Client makes an HTTP client that is bounded and secured as fetches are.
func Client(o Options) (*http.Client, error) {
	cfg, err := o.tls()
	if err != nil {
		return nil, err
	}
	if o.Timeout == 0 {
		o.Timeout = 20 * time.Second
	}
	return &http.Client{
		Timeout:   o.Timeout,
		Transport: secure{(&way{of: o.Of, public: o.Strangers}).transport(cfg)},
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("the token endpoint redirects: a secret is sent nowhere else")
		},
	}, nil
}

// secure sends nothing in the clear: http: is for loopback only, whatever a party publishes.
type secure struct{ *http.Transport }

// RoundTrip is http.RoundTripper's. Errors: ErrPlainHTTP.
func (s secure) RoundTrip(r *http.Request) (*http.Response, error) {
	if err := checkURL(r.URL.String()); err != nil {
		return nil, err
	}
	return s.Transport.RoundTrip(r)
}

// TokenRequest asks a token endpoint for a token that a client gets as itself (RFC 6749, section 4.4).
type TokenRequest struct {
	Endpoint  string
	ClientID  string
	Secret    string // "" with an Assertion
	Assertion string // a JWT signed by the client (RFC 7523, section 2.2)
	InBody    bool   // send the secret in the body (client_secret_post), not in the header
	Scopes    []string
	Resource  []string
	Extra     url.Values
}

// Token is what the endpoint answered.
type Token struct {
	Access  string
	Type    string
	Scope   string
	Expires time.Time // zero: not said
}

// RefusedError is the standard's error of a token endpoint (RFC 6749, section 5.2).
type RefusedError struct{ Code, Description, Endpoint string }

func (e *RefusedError) Error() string {
	s := e.Endpoint + " refused: " + e.Code
	if e.Description != "" {
		s += ": " + e.Description
	}
	return s
}

// AsItself gets a token with the client credentials grant. Errors: *RefusedError, ErrTLS and others of the way there.
func AsItself(ctx context.Context, client *http.Client, r TokenRequest, o Options) (*Token, error) {
	if err := checkURL(r.Endpoint); err != nil {
		return nil, err
	}
	extra := url.Values{}
	for k, v := range r.Extra {
		extra[k] = v
	}
	if len(r.Resource) > 0 {
		extra["resource"] = r.Resource
	}
	c := clientcredentials.Config{ClientID: r.ClientID, ClientSecret: r.Secret, TokenURL: r.Endpoint, Scopes: r.Scopes,
		EndpointParams: extra, AuthStyle: oauth2.AuthStyleInHeader}
	if r.InBody || r.Secret == "" { // by its certificate: its ID alone is sent
		c.AuthStyle = oauth2.AuthStyleInParams
	}
	if r.Assertion != "" {
		c.AuthStyle = oauth2.AuthStyleInParams
		extra.Set("client_assertion_type", "urn:ietf:params:oauth:client-assertion-type:jwt-bearer")
		extra.Set("client_assertion", r.Assertion)
	}
	t, err := c.Token(context.WithValue(ctx, oauth2.HTTPClient, client))
	var refused *oauth2.RetrieveError
	if errors.As(err, &refused) {
		if refused.ErrorCode == "" {
			return nil, fmt.Errorf("%s: %w: status %s", r.Endpoint, ErrStatus, refused.Response.Status)
		}
		return nil, &RefusedError{refused.ErrorCode, refused.ErrorDescription, r.Endpoint}
	}
	if err != nil {
		return nil, explain(r.Endpoint, o, err)
	}
	scope, _ := t.Extra("scope").(string)
	return &Token{Access: t.AccessToken, Type: t.Type(), Scope: scope, Expires: t.Expiry}, nil
}

// TokenError sends a token request that a client authenticates with its secret, and returns the status and the
// standard's error that came back, nil where there was none (RFC 6749, section 5.2). Errors: those of the way there.
func TokenError(ctx context.Context, client *http.Client, at string, form url.Values,
	id, secret string) (int, *RefusedError, error) {
	if err := checkURL(at); err != nil {
		return 0, nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, at, strings.NewReader(form.Encode()))
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.SetBasicAuth(url.QueryEscape(id), url.QueryEscape(secret))
	resp, err := client.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer resp.Body.Close()
	var e struct {
		Code        string `json:"error"`
		Description string `json:"error_description"`
	}
	if json.NewDecoder(io.LimitReader(resp.Body, 64<<10)).Decode(&e) != nil || e.Code == "" {
		return resp.StatusCode, nil, nil
	}
	return resp.StatusCode, &RefusedError{e.Code, e.Description, at}, nil
}

package oauth

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// objectLife is how long a request object may hold (FAPI 2.0 Message Signing, section 5.3.1, has an hour).
const objectLife = time.Hour

// ReadObject takes the parameters of an authorization request out of the signed object that it comes in (RFC 9101,
// sections 4 and 6). Only those count that the client signed; client_id alone stands beside it, and must be the same.
// A request without an object is returned as it is. Errors: invalid_request_object, invalid_request.
func ReadObject(q url.Values, r *Registered, e RequestExpect) (url.Values, finding.List, *oidc.Error) {
	var found finding.List
	token := q.Get("request")
	if token == "" {
		if r.Terms.Policy.Objects {
			return q, nil, oidc.Fail(oidc.InvalidRequest, "policy request-objects of "+r.Trust.Name+
				": the request is no signed object (RFC 9101)")
		}
		return q, nil, nil
	}
	bad := func(why string) (url.Values, finding.List, *oidc.Error) {
		return q, found, oidc.Fail(oidc.InvalidRequestObject, "the request object is refused: "+why)
	}
	if len(q["request"]) > 1 {
		return bad("it comes more than once")
	}
	h, claims, err := oidc.Peek(token)
	if err != nil {
		return bad(err.Error())
	}
	if t := strings.TrimPrefix(strings.ToLower(h.Typ), "application/"); t != "" && t != "jwt" &&
		t != oidc.TypeRequest {
		return bad("its type is " + h.Typ + ", not " + oidc.TypeRequest) // RFC 9101, section 10.8
	}
	if err := r.signs("the request object", token); err != nil {
		return bad(err.Description)
	}
	keys := r.verify()
	if len(keys) == 0 {
		return bad(r.Trust.Name + " has no client key with which it could be verified")
	}
	found = oidc.Verify(token, keys)
	for _, f := range found {
		if f.Level == finding.Error {
			return bad(f.Check + ": " + f.Saw)
		}
	}
	if why := objectClaims(claims, r, e); why != "" {
		return bad(why)
	}
	out := url.Values{}
	for name, v := range claims {
		switch name {
		case "iss", "aud", "exp", "nbf", "iat", "jti", "sub":
			continue
		case "request", "request_uri":
			return bad("it holds " + name + " itself")
		}
		list, ok := parameter(name, v)
		if !ok {
			return bad(name + " is no text")
		}
		out[name] = list
	}
	found = finding.List{{ID: finding.OAuthObject, Level: finding.Pass, Check: "request object",
		Saw: h.Alg + " by a key of the client"}}
	return out, found, nil
}

// objectClaims judges who made a request object, for whom and when; "" where all is right.
func objectClaims(claims map[string]any, r *Registered, e RequestExpect) string {
	id := r.Terms.ClientID
	exp, ends := oidc.Moment(claims, "exp")
	nbf, begins := oidc.Moment(claims, "nbf")
	aud := oidc.Texts(claims, "aud")
	switch {
	case oidc.Text(claims, "client_id") != id:
		return "client_id in it is another than " + id + ", or missing"
	case oidc.Text(claims, "iss") != "" && oidc.Text(claims, "iss") != id:
		return "its iss is another than the client ID"
	case oidc.Text(claims, "sub") == id: // RFC 9101, section 10.8: a client assertion must not pass for a request
		return "it has the client ID as its sub: a client assertion is no request object"
	case len(aud) > 0 && !slices.Contains(aud, e.Doc.Issuer):
		return "its aud is another than " + e.Doc.Issuer
	case r.Terms.Policy.Hardened() && (len(aud) == 0 || !ends || !begins):
		return "aud, nbf and exp must be there (profile " + r.Terms.Policy.Profile + ")"
	case e.Now.IsZero():
	case ends && !e.Now.Before(exp.Add(judge.Skew)):
		return "it has expired"
	case begins && e.Now.Add(judge.Skew).Before(nbf):
		return "it is not valid yet; compare the clocks"
	case ends && begins && exp.Sub(nbf) > objectLife, r.Terms.Policy.Hardened() && e.Now.Sub(nbf) > objectLife:
		return fmt.Sprintf("it holds longer than %d minutes", int(objectLife.Minutes()))
	}
	return ""
}

// parameter writes a claim of a request object as the parameter of its name: a text, a number, an object as JSON, a
// list of resources each for itself (RFC 9101, section 4; RFC 8707, section 2).
func parameter(name string, v any) ([]string, bool) {
	switch x := v.(type) {
	case string:
		return []string{x}, true
	case float64, bool:
		return oidc.Words(v), true
	case map[string]any:
		return oidc.Words(v), name == "claims"
	case []any:
		switch name {
		case "resource":
			list := oidc.Texts(map[string]any{name: v}, name)
			return list, len(list) == len(x)
		case "authorization_details":
			return []string{oidc.Raw(v)}, true
		}
	}
	return nil, false
}

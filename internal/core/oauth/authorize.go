package oauth

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
)

// Authorization is an authorization request (RFC 6749, section 4.1.1; OpenID Connect Core, section 3.1.2.1).
type Authorization struct {
	Redirect, State, Nonce string
	JKT                    string // dpop_jkt: the key that must prove the code; "" is any
	Challenge, Mode        string // Mode is response_mode: "", query or form_post
	Prompt                 []string
	MaxAge                 time.Duration // -1: none was asked for
	ACR                    []string
	Resource               []string
	Asks                   []federation.Ask
	Hint                   string   // login_hint
	Subject                string   // the sub that claims demands; "" is anybody
	MustACR                []string // the contexts of which claims demands one
	InIDToken              []string // claims that are wanted in the ID token
	// claims of no scope that are wanted of the userinfo endpoint; nil: what they are is not said, and all are
	FromUserInfo []string
}

// readAuthorization reads the parameters of an authorization request and judges all but client ID and redirect URI. The
// result is never nil: where there is an error, it has what is needed to answer with that.
func readAuthorization(q url.Values, r *Registered) (*Authorization, *oidc.Error) {
	a := &Authorization{Redirect: q.Get("redirect_uri"), State: q.Get("state"), Mode: q.Get("response_mode"),
		MaxAge: -1}
	switch a.Mode {
	case "", "query", "form_post":
	default:
		mode := a.Mode
		a.Mode = ""
		return a, oidc.Fail(oidc.InvalidRequest, "response_mode "+mode+" is not offered; use query or form_post")
	}
	switch rt := q.Get("response_type"); rt {
	case "code":
	case "":
		return a, oidc.Fail(oidc.InvalidRequest, "response_type is missing; send response_type=code")
	case "token", "id_token", "id_token token", "token id_token", "code token", "code id_token", "code id_token token":
		return a, oidc.Fail(oidc.UnsupportedResponseType,
			rt+" puts tokens into a URL, which RFC 9700 rules out; send response_type=code with PKCE, for apps in the "+
				"browser too")
	default:
		return a, oidc.Fail(oidc.UnsupportedResponseType, rt+" is not known; send response_type=code")
	}
	for _, x := range [2][2]string{{"request_uri", oidc.RequestURINotSupported},
		{"registration", oidc.RegistrationUnsupported}} {
		if q.Has(x[0]) {
			return a, oidc.Fail(x[1], "the parameter "+x[0]+" is not supported; send the parameters one by one")
		}
	}
	a.Nonce, a.Challenge, a.Hint = q.Get("nonce"), q.Get("code_challenge"), q.Get("login_hint")
	switch m := q.Get("code_challenge_method"); {
	case a.Challenge == "" && mayOmitPKCE(r):
	case a.Challenge == "":
		return a, oidc.Fail(oidc.InvalidRequest,
			"code_challenge is missing: PKCE protects every code; send code_challenge with code_challenge_method=S256")
	case m != "S256":
		return a, oidc.Fail(oidc.InvalidRequest,
			"code_challenge_method must be S256; plain, which is meant where none is sent, protects nothing")
	case !isBase64URL(a.Challenge, 43):
		return a, oidc.Fail(oidc.InvalidRequest,
			"code_challenge must be the SHA-256 of the verifier in base64url without padding, 43 characters")
	}
	if a.JKT = q.Get("dpop_jkt"); a.JKT != "" && !isBase64URL(a.JKT, 43) {
		return a, oidc.Fail(oidc.InvalidRequest, "dpop_jkt must be the SHA-256 thumbprint of a key in base64url, 43 "+
			"characters (RFC 9449, section 10)")
	}
	if len(a.Nonce) > 1024 || len(a.State) > 4096 {
		return a, oidc.Fail(oidc.InvalidRequest, "nonce or state is too long")
	}
	var e *oidc.Error
	if a.Asks, e = askedFor(q, r, federation.AsUser); e != nil {
		return a, e
	}
	a.Resource, a.Prompt, a.ACR = q["resource"], strings.Fields(q.Get("prompt")), strings.Fields(q.Get("acr_values"))
	for _, v := range a.Prompt {
		if !slices.Contains([]string{"none", "login", "consent", "select_account"}, v) {
			return a, oidc.Fail(oidc.InvalidRequest,
				"prompt "+v+" is not known; none, login, consent and select_account are")
		}
	}
	if slices.Contains(a.Prompt, "none") && len(a.Prompt) > 1 {
		return a, oidc.Fail(oidc.InvalidRequest, "prompt=none stands alone")
	}
	if e := a.readClaims(q.Get("claims"), r); e != nil {
		return a, e
	}
	if v := q.Get("max_age"); v != "" {
		if strings.Trim(v, "0123456789") != "" {
			return a, oidc.Fail(oidc.InvalidRequest, "max_age must be a number of seconds")
		}
		n, err := strconv.Atoi(v)
		if err != nil || n > longestAge {
			n = longestAge // older than any sign-in that is remembered
		}
		a.MaxAge = time.Duration(n) * time.Second
	} else if r.Client != nil && r.Client.MaxAge > 0 { // OpenID Connect Registration, section 2
		a.MaxAge = federation.Span(r.Client.MaxAge)
	}
	return a, nil
}

// longestAge is the greatest max_age that means anything, in seconds.
const longestAge = 10 * 366 * 24 * 3600

func isBase64URL(s string, n int) bool {
	for _, c := range s {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_') {
			return false
		}
	}
	return len(s) == n
}

// askedFor is all that a request asks for: by scopes, and in detail. Errors: those of PickAsks and of ReadDetails.
func askedFor(q url.Values, r *Registered, as string) ([]federation.Ask, *oidc.Error) {
	details, e := ReadDetails(q.Get("authorization_details"), r, as)
	if e != nil || len(details) > 0 && q.Get("scope") == "" {
		return details, e
	}
	asks, e := PickAsks(r, q.Get("scope"), q["resource"], as)
	return append(asks, details...), e
}

// PickAsks finds what a client asks for under the scopes and resources of a request. Errors: invalid_scope,
// invalid_target.
func PickAsks(r *Registered, scope string, resources []string, as string) ([]federation.Ask, *oidc.Error) {
	names, ok := oidc.Scope(scope)
	if !ok {
		return nil, oidc.Fail(oidc.InvalidScope, "scope holds a character that no scope can have")
	}
	var targets []string
	for _, res := range resources {
		name := ""
		for n := range r.APIs {
			if r.IsAPI(n, res) {
				name = n
			}
		}
		if name == "" {
			return nil, oidc.Fail(oidc.InvalidTarget,
				fmt.Sprintf("resource %s is the audience of no API in the ledger", res))
		}
		targets = append(targets, name)
	}
	var out []federation.Ask
	for _, n := range names {
		found, other := false, ""
		for _, a := range r.Terms.Asks {
			switch {
			case a.Name != n:
			case a.As == as && a.Narrowed != nil:
				return nil, oidc.Fail(oidc.InvalidScope, fmt.Sprintf("%s asks for %s in detail alone; send "+
					"authorization_details (RFC 9396)", r.Trust.Name, n))
			case a.As != as:
				other = a.As
			case a.API == "" || len(targets) == 0 || slices.Contains(targets, a.API):
				out, found = append(out, a), true
			default:
				other = "of " + a.API
			}
		}
		switch {
		case found:
		case other == federation.AsSelf:
			return nil, oidc.Fail(oidc.InvalidScope,
				fmt.Sprintf("%s asks for %s as itself alone; use grant_type=client_credentials", r.Trust.Name, n))
		case other == federation.AsUser:
			return nil, oidc.Fail(oidc.InvalidScope,
				fmt.Sprintf("%s asks for %s on behalf of a user alone; have a person sign in", r.Trust.Name, n))
		case other != "":
			return nil, oidc.Fail(oidc.InvalidScope,
				fmt.Sprintf("%s is a permission %s, which the resource named in the request is not", n, other))
		default:
			return nil, oidc.Fail(oidc.InvalidScope,
				fmt.Sprintf("%s does not ask for %s: it is not registered to", r.Trust.Name, n))
		}
	}
	if len(out) == 0 && as == federation.AsUser {
		return nil, oidc.Fail(oidc.InvalidScope, "scope is missing or empty; send at least openid")
	}
	return out, nil
}

// ScopeOf is the scope value of asks, each name once. What is narrowed is no scope: that would be the whole permission.
func ScopeOf(asks []federation.Ask) string {
	var out []string
	for _, a := range asks {
		if a.Narrowed == nil && !slices.Contains(out, a.Name) {
			out = append(out, a.Name)
		}
	}
	return strings.Join(out, " ")
}

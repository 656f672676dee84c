package oauth

import (
	"fmt"
	"maps"
	"slices"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// WantedClaims is the claims parameter (OpenID Connect Core, section 5.5).
type WantedClaims struct {
	IDToken  map[string]*WantedClaim `json:"id_token"`
	UserInfo map[string]*WantedClaim `json:"userinfo"`
}

// WantedClaim is how one claim is asked for; nil in the request is a plain wish.
type WantedClaim struct {
	Essential bool  `json:"essential"`
	Value     any   `json:"value"`
	Values    []any `json:"values"`
}

// maxClaims is how long the claims parameter may be.
const maxClaims = 16 << 10

// readClaims reads the claims parameter and takes out of it what the request demands: a subject, and contexts. A
// context that neither the server nor the trust knows is reached by no sign-in, so a demand for that alone fails
// (OpenID Connect Core, section 5.5.1.1). Errors: invalid_request, unmet_authentication_requirements.
func (a *Authorization) readClaims(text string, r *Registered) *oidc.Error {
	if text == "" {
		return nil
	}
	var w WantedClaims
	if len(text) > maxClaims {
		return oidc.Fail(oidc.InvalidRequest, "claims is too long")
	}
	if err := oidc.ReadObject([]byte(text), &w); err != nil {
		return oidc.Fail(oidc.InvalidRequest,
			fmt.Sprintf("claims is no object of OpenID Connect Core, section 5.5: %v", err))
	}
	for name, how := range w.IDToken {
		switch name {
		case "sub":
			if how != nil && how.Value != nil {
				a.Subject, _ = how.Value.(string)
				if a.Subject == "" {
					return oidc.Fail(oidc.InvalidRequest, "the sub that claims asks for is no text")
				}
			}
		case "acr":
			if how == nil || !how.Essential {
				break
			}
			known, unknown := append([]string{judge.ContextPassword, judge.ContextMFA}, r.Trust.Contexts()...), ""
			for _, v := range append(how.Values, how.Value) {
				if s, ok := v.(string); ok && slices.Contains(known, s) {
					a.MustACR = append(a.MustACR, s)
				} else if v != nil {
					unknown = fmt.Sprint(v)
				}
			}
			if unknown != "" && len(a.MustACR) == 0 {
				return oidc.Fail(oidc.UnmetAuthentication, fmt.Sprintf("the request demands the authentication "+
					"context "+
					"%.200q, which is not known here: no sign-in reaches it", unknown))
			}
		case "auth_time":
			// it stands in every ID token
		default:
			a.InIDToken = append(a.InIDToken, name)
		}
	}
	if w.UserInfo != nil {
		a.FromUserInfo = slices.Sorted(maps.Keys(w.UserInfo))
		if a.FromUserInfo == nil {
			a.FromUserInfo = []string{}
		}
	}
	return nil
}

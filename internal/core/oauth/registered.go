package oauth

import (
	"crypto/x509"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

// Registered is what the authorization server knows of one client.
type Registered struct {
	Trust    *federation.Trust
	Terms    *federation.OIDCTerms // those of the trust
	App      *federation.Party
	Provider *federation.Party
	Client   *federation.Client // as it is registered; its redirect URIs are compared exactly
	Secrets  []federation.Secret
	Consents []federation.Consent
	Keys     []oidc.Key // the client's own, for private_key_jwt
	APIs     map[string]*federation.Party
	// Places are the addresses at which APIs are played, by name, where those are not their audiences: an API says of
	// itself where it is (RFC 9728), and is named by that as well
	Places   map[string]string
	Releaser Releaser
	// Own is what the stand-in of the client shows on a stage in place of what the client has; nil: it has none
	Own *Own
	// Far says that the provider is the real one and foreign: what it holds of the client is its owner's to change
	Far bool
}

// Own is with what the stand-in of a client authenticates on its stage, and there alone.
type Own struct {
	Secret      string            // "" is none
	Key         *oidc.Key         // of its assertions and request objects; nil is none
	Certificate *x509.Certificate // of its connections; nil is none
}

// verify are the keys with which what the client signs is verified.
func (r *Registered) verify() []oidc.Key {
	if r.Own == nil || r.Own.Key == nil {
		return r.Keys
	}
	return append(slices.Clip(r.Keys), *r.Own.Key)
}

// Releaser works out what a client is told of a person. *federation.Releaser is one.
type Releaser interface {
	SubjectOf(p *people.Person) (string, error)
	Claims(p *people.Person, scopes []string, rulesAlone bool) map[string]any
}

// IsAPI reports whether a resource (RFC 8707) means an API: its audience, or the address at which it is played.
func (r *Registered) IsAPI(name, resource string) bool {
	p := r.APIs[name]
	return p != nil && p.API != nil && (p.API.Audience == resource || r.Places[name] == resource && resource != "")
}

// Granted reports whether an ask is consented to for a person; "" asks for everyone.
func (r *Registered) Granted(a federation.Ask, person string) bool {
	return federation.Granted(a, r.APIs, r.Consents, person)
}

// NeedsAdmin reports whether only an administrator can agree to an ask.
func (r *Registered) NeedsAdmin(a federation.Ask) bool { return federation.NeedsAdmin(a, r.APIs) }

// Audiences are those of the APIs whose permissions the client asks for in a way, of the scopes named; no scopes names
// all.
func (r *Registered) Audiences(scopes []string, as string) []string {
	var out []string
	for _, a := range r.Terms.Asks {
		p := r.APIs[a.API]
		if p != nil && a.As == as && (len(scopes) == 0 || slices.Contains(scopes, a.Name)) &&
			!slices.Contains(out, p.API.Audience) {
			out = append(out, p.API.Audience)
		}
	}
	return out
}

// Remedy says what to do about an error of the token endpoint.
func (r *Registered) Remedy(e *oidc.Error) finding.Remedy {
	if r.Far {
		side := map[string]string{oidc.InvalidClient: "give the secret that " + r.Provider.Name +
			" issued to the client, or ask its owner for a new one", oidc.InvalidGrant: "sign in again",
			oidc.InvalidScope: "have the owner of " + r.Provider.Name +
				" allow the client what it asks for, or ask for less"}[e.Code]
		if side == "" {
			side = "ask the owner of " + r.Provider.Name + ", with the time of the request"
		}
		return finding.Do(side)
	}
	switch e.Code {
	case oidc.InvalidClient:
		if r.Client != nil && !r.Client.Kind.Public() {
			return finding.Run("secret", "add", r.Trust.Name, "--lasts", "90d")
		}
	case oidc.InvalidScope:
		if r.Trust != nil {
			return r.Missing("")
		}
	case oidc.InvalidTarget:
		if r.Terms == nil {
			break
		}
		list := append(r.Audiences(nil, federation.AsUser), r.Audiences(nil, federation.AsSelf)...)
		if len(list) == 0 {
			return finding.Do("leave resource out: no permission of an API is asked for")
		}
		words := "name the API with resource=" + list[0]
		for _, a := range slices.Compact(list)[1:] {
			words += " or resource=" + a
		}
		return finding.Do(words)
	case oidc.InvalidGrant:
		return finding.Do("sign in again")
	}
	return finding.Do("change the request of the app")
}

// Missing says what the client lacks for a permission; label "" is any that it asks for.
func (r *Registered) Missing(label string) finding.Remedy {
	if r.Far {
		return finding.Do("have the owner of " + r.Provider.Name +
			" allow it to the client, and an administrator there consent to it")
	}
	asked := label == ""
	for _, a := range r.Terms.Asks {
		if label != "" && a.Label() != label {
			continue
		}
		asked = true
		if r.NeedsAdmin(a) && !r.Granted(a, "") {
			return r.Provider.Agree(r.Trust.Name, a.Label())
		}
	}
	if !asked {
		return finding.Run("permission", "ask", r.Trust.Name, label)
	}
	return finding.Run("consent", "show", r.Trust.Name)
}

// refusal is what an error of the protocol looks like among the findings.
func refusal(check string, e *oidc.Error, fix finding.Remedy, ref string) finding.Finding {
	return finding.Finding{ID: finding.OAuthFamily.With(e.Code), Level: finding.Error, Check: check, Saw: e.Description,
		Expected: "a request that the trust allows", Side: finding.App, Fix: fix, Ref: ref}
}

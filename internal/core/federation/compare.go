package federation

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
)

// PickFormat chooses the name identifier format: the first one the app names that the provider has; where a side names
// none, what the other prefers; persistent where neither names any. ok is false where both name some and share none.
func PickFormat(app, provider *saml.Role) (format string, ok bool) {
	named := func(list []string) []string {
		var out []string
		for _, f := range list {
			if f != saml.FormatUnspecified {
				out = append(out, f)
			}
		}
		return out
	}
	a, p := named(app.Formats()), named(provider.Formats())
	switch {
	case len(a) == 0 && len(p) == 0:
		return saml.FormatPersistent, true
	case len(a) == 0:
		if slices.Contains(p, saml.FormatPersistent) {
			return saml.FormatPersistent, true
		}
		return p[0], true
	case len(p) == 0:
		return a[0], true
	}
	for _, f := range a {
		if slices.Contains(p, f) {
			return f, true
		}
	}
	return a[0], false
}

// Compare puts both sides of a trust beside each other before anyone signs in: roles, bindings, name identifier format,
// signing, encryption, validity. What the claims release is compared by saml.JudgeWanted.
func Compare(t *Trust, terms *SAMLTerms, app, provider *Party, now time.Time) finding.List {
	var out finding.List
	for _, p := range []*Party{provider, app} {
		for _, f := range saml.JudgeEntity(&p.Entity, p.Kind.Side(), now) {
			if f.Level != finding.Pass {
				f.Party = p.Name
				out.Add(f)
			}
		}
	}
	if app.Entity.SP == nil || provider.Entity.IDP == nil {
		return out
	}
	sp, idp := app.Entity.SP, provider.Entity.IDP
	compareBindings(&out, sp, idp)
	compareFormat(&out, t, sp, idp)
	compareSigning(&out, t, terms, sp, idp, app)
	compareEncryption(&out, t, terms, sp)
	compareLogout(&out, sp, idp, app, provider)
	out.Pass(finding.TrustClock, "clocks",
		fmt.Sprintf("may differ by %d seconds; here it is %s", int(judge.Skew.Seconds()),
			now.UTC().Format("2006-01-02 15:04:05 UTC")))
	if app.Entity.ID == provider.Entity.ID {
		out.Add(finding.Finding{ID: finding.TrustSameEntityID, Level: finding.Error, Check: "entity IDs",
			Saw:      app.Entity.ID + " on both sides",
			Expected: "two different entity IDs", Side: finding.Both,
			Fix: finding.Do("give one side an entity ID of its own")})
	}
	return out
}

func compareBindings(out *finding.List, sp, idp *saml.Role) {
	sso, ok1 := saml.EndpointFor(idp.SSO, saml.BindingRedirect, saml.BindingPOST)
	acs, ok2 := saml.EndpointFor(sp.ACS, saml.BindingPOST)
	if ok1 && ok2 {
		out.Pass(finding.TrustBinding, "bindings",
			"request by "+saml.ShortName(sso.Binding)+", response by "+saml.ShortName(acs.Binding))
	}
}

func compareFormat(out *finding.List, t *Trust, sp, idp *saml.Role) {
	has := func(r *saml.Role) bool {
		all := r.Formats()
		return len(all) == 0 || slices.Contains(all, t.SubjectFormat) || slices.Contains(all, saml.FormatUnspecified)
	}
	list := func(r *saml.Role) string {
		var s []string
		for _, f := range r.Formats() {
			s = append(s, saml.ShortName(f))
		}
		return strings.Join(s, ", ")
	}
	f := finding.Finding{ID: finding.TrustSubjectFormat, Check: "name identifier format",
		Saw: saml.ShortName(t.SubjectFormat), Ref: "SAML Core 8.3"}
	switch {
	case !has(sp):
		f.Level, f.Side, f.Expected = finding.Error, finding.Provider, "one of "+list(sp)+", as the app's metadata says"
		f.Fix = finding.Run("claims", "set", t.Name, "--subject-format", sp.Formats()[0])
	case !has(idp):
		f.Level, f.Side, f.Expected = finding.Warning, finding.Provider,
			"one of "+list(idp)+", as the provider's metadata says"
		f.Fix = finding.Do("ask the provider to release the format").
			Or(finding.Run("claims", "set", t.Name, "--subject-format", idp.Formats()[0]))
	default:
		out.Pass(f.ID, f.Check, f.Saw)
		return
	}
	out.Add(f)
}

func compareSigning(out *finding.List, t *Trust, terms *SAMLTerms, sp, idp *saml.Role, app *Party) {
	keys, _ := sp.SigningKeys()
	switch {
	case idp.WantRequestsSigned && !terms.SignsRequests:
		out.Add(finding.Finding{ID: finding.TrustRequestsSigned, Level: finding.Error, Check: "signed requests",
			Saw:      "the app does not sign",
			Expected: "signed requests, as the provider's metadata says (WantAuthnRequestsSigned)",
			Side:     finding.App, Fix: finding.Do("switch on request signing at the app").
					Then(finding.Run("trust", "change", t.Name, "--sign-requests", "on"))})
	case terms.SignsRequests && len(keys) == 0:
		out.Add(finding.Finding{ID: finding.TrustRequestsSigned, Level: finding.Error, Check: "signed requests",
			Saw:      "signed, and the app's metadata has no signing certificate",
			Expected: "the certificate that verifies them",
			Side:     finding.App, Fix: finding.Do("read metadata of " + app.Name + " that has it")})
	case terms.SignsRequests:
		out.Pass(finding.TrustRequestsSigned, "signed requests", "the app signs, the provider can verify")
	default:
		out.Pass(finding.TrustRequestsSigned, "signed requests", "none, and none are wanted")
	}
	if sp.WantAssertionsSigned && terms.Signs == "response" {
		out.Add(finding.Finding{ID: finding.TrustAssertionsSigned, Level: finding.Error, Check: "signed assertions",
			Saw:      "only the response is signed",
			Expected: "signed assertions, as the app's metadata says (WantAssertionsSigned)",
			Side:     finding.Provider, Fix: finding.Run("trust", "change", t.Name, "--signs", "assertion")})
	} else {
		out.Pass(finding.TrustAssertionsSigned, "signed assertions", "the provider signs: "+terms.Signs)
	}
}

func compareEncryption(out *finding.List, t *Trust, terms *SAMLTerms, sp *saml.Role) {
	cert, alg := sp.EncryptionKey()
	dedicated := false
	for _, k := range sp.Keys {
		dedicated = dedicated || k.Use == "encryption"
	}
	switch {
	case terms.Encrypts && cert == nil:
		out.Add(finding.Finding{ID: finding.TrustEncryption, Level: finding.Error, Check: "encryption",
			Saw:      "wanted, and the app's metadata has no encryption certificate",
			Expected: "a KeyDescriptor for encryption",
			Side:     finding.App, Fix: finding.Do("read metadata of the app that has it").
					Or(finding.Run("trust", "change", t.Name, "--encrypt", "off"))})
	case terms.Encrypts:
		if alg == "" {
			alg = "aes256-gcm"
		}
		out.Pass(finding.TrustEncryption, "encryption",
			"assertions are encrypted to the app ("+alg[strings.LastIndexAny(alg, "#")+1:]+", RSA-OAEP)")
	case dedicated:
		out.Add(finding.Finding{ID: finding.TrustEncryption, Level: finding.Warning, Check: "encryption",
			Saw: "off, and the app publishes an encryption certificate", Expected: "encrypted assertions",
			Side: finding.Provider,
			Fix:  finding.Run("trust", "change", t.Name, "--encrypt", "on")})
	default:
		out.Pass(finding.TrustEncryption, "encryption", "none, the app has no certificate for it")
	}
}

// compareLogout says whether signing out at one side ends the session at the other.
func compareLogout(out *finding.List, sp, idp *saml.Role, app, provider *Party) {
	at, ok1 := idp.LogoutEndpoint(false)
	_, ok2 := sp.LogoutEndpoint(false)
	keys, _ := sp.SigningKeys()
	f := finding.Finding{ID: finding.TrustLogout, Level: finding.Note, Check: "single logout", Ref: "SAML Profiles 4.4"}
	one := func(p *Party, without string) {
		f.Saw, f.Side = "not at "+p.Name+": "+without, p.Kind.Side()
		f.Expected = "a SingleLogoutService on both sides"
		f.Fix = finding.Do("ask whether it has one, and enter it").
			Then(finding.Run(string(p.Kind), "change", p.Name, "--logout", "URL"))
	}
	switch {
	case ok1 && ok2 && len(keys) == 0:
		f.Level, f.Side, f.Saw = finding.Warning, finding.App, "the app's metadata has no signing certificate"
		f.Expected = "one, since logout messages must be signed"
		f.Fix = finding.Do("read metadata of " + app.Name + " that has it")
	case ok1 && ok2:
		out.Pass(f.ID, f.Check, "both ways, by "+saml.ShortName(at.Binding))
		return
	case !ok1 && !ok2:
		out.Pass(f.ID, f.Check, "on neither side: people sign out at each by itself")
		return
	case ok1:
		one(app, "signing out at the provider leaves the app signed in")
	default:
		one(provider, "signing out at the app leaves the provider signed in")
	}
	out.Add(f)
}

package handoff

import (
	"bytes"
	"fmt"
	"strings"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
)

// overSAML is what is SAML's of a trust.
type overSAML struct{ terms *federation.SAMLTerms }

// Compare compares metadata, terms, and what the claims release with what the app wants.
func (p overSAML) Compare(v *View) finding.List {
	t, app, provider := v.Trust, v.App, v.Provider
	out := federation.Compare(t, p.terms, app, provider, v.Now)
	var promised []saml.Attribute
	for _, r := range t.Rules {
		promised = append(promised, saml.Attribute{Name: r.Name, Format: r.NameFormat, Friendly: r.Claim,
			Values: []string{claims.Masked(r.Expression)}})
	}
	for _, f := range federation.JudgeClaims(t, app, provider, "", promised, v.Crowd.Census) {
		if f.Level == finding.Pass {
			f.Saw = "from " + f.Saw
			f.Expected = f.Saw
		}
		out.Add(f)
	}
	if len(t.Rules) == 0 && len(app.Entity.SP.Wishes()) == 0 {
		out.Add(finding.Finding{ID: finding.ClaimsNone, Level: finding.Note, Check: "claims", Saw: "none are released",
			Expected: "what the app reads",
			Side:     finding.Provider, Fix: finding.Do("ask the app's owner what it reads").Then(
				finding.Run("claims", "set", t.Name, "mail=person.mail"))})
	}
	return out
}

// Sheet fills in the other side's metadata as labelled values.
func (p overSAML) Sheet(v *View, h *Handoff) (err error) {
	if v.App.Entity.SP == nil || v.Provider.Entity.IDP == nil {
		return fmt.Errorf("%s: a SAML side of %s and of %s is needed", v.Trust.Name, v.App.Name, v.Provider.Name)
	}
	if h.For == "app" {
		h.providerItems(v, p.terms)
		h.Metadata, err = v.Metadata(v.Provider)
		return err
	}
	h.appItems(v, p.terms)
	h.Metadata, err = v.Metadata(v.App)
	return err
}

// Open says which wanted attributes are not released yet.
func (p overSAML) Open(v *View, found finding.List) []Todo { return claimTodos(v, found) }

// Thrift is empty: over SAML nothing is permitted but to sign in.
func (overSAML) Thrift(*View) finding.List { return nil }

// Made says that the trust is made.
func (overSAML) Made(*View) string { return "the trust is made" }

func (h *Handoff) keys(r *saml.Role, from string) {
	_, certs := r.SigningKeys()
	for _, c := range certs {
		h.add("Signing certificate, SHA-256", keys.Fingerprint(c), "KeyDescriptor use=signing", from)
		h.add("Signing certificate, expires", c.NotAfter.UTC().Format("2006-01-02 15:04 UTC"),
			"KeyDescriptor use=signing", from)
		h.Certificate = append(h.Certificate, keys.PEM(c)...)
	}
}

// encryptTo adds the certificate to which a side's messages are encrypted, where it publishes one.
func (h *Handoff) encryptTo(label string, r *saml.Role, from string) {
	c, alg := r.EncryptionKey()
	if c == nil {
		return
	}
	h.add(label+", SHA-256", keys.Fingerprint(c), "KeyDescriptor use=encryption", from)
	if alg != "" {
		h.add("Encryption method", alg, "EncryptionMethod", from)
	}
	if pem := keys.PEM(c); !bytes.Contains(h.Certificate, pem) {
		h.Certificate = append(h.Certificate, pem...)
	}
}

func (h *Handoff) logout(r *saml.Role, from string) {
	for _, e := range r.SLO {
		if e.Binding == saml.BindingRedirect || e.Binding == saml.BindingPOST {
			h.add("Single logout service, "+saml.ShortName(e.Binding), e.Location, "SingleLogoutService", from)
			h.add("Single logout service, answers", e.ResponseLocation, "SingleLogoutService ResponseLocation", from)
		}
	}
}

func (h *Handoff) providerItems(v *View, terms *federation.SAMLTerms) {
	t, app, provider := v.Trust, v.App, v.Provider
	from, idp := source(provider), provider.Entity.IDP
	h.add("Issuer (entity ID)", provider.Entity.ID, "EntityDescriptor entityID", from)
	for _, e := range idp.SSO {
		if e.Binding == saml.BindingRedirect || e.Binding == saml.BindingPOST {
			h.add("Single sign-on service, "+saml.ShortName(e.Binding), e.Location, "SingleSignOnService", from)
		}
	}
	h.logout(idp, from)
	h.keys(idp, from)
	if provider.Own || v.Staged {
		h.add("Metadata address", strings.TrimSuffix(provider.At, "/")+"/metadata", "",
			"where the file of `tressik metadata write` is to be served")
	}
	h.add("NameID format", t.SubjectFormat, "NameIDFormat", "this trust")
	h.add("NameID value", t.SubjectWords(), "", "this trust")
	h.add("Audience", app.Entity.ID, "EntityDescriptor entityID of the app", source(app))
	h.add("Signed by the provider", terms.Signs, "WantAssertionsSigned", "this trust")
	h.add("Encrypted assertions", yes(terms.Encrypts), "KeyDescriptor use=encryption", "this trust")
	h.add("Requests must be signed", yes(terms.SignsRequests), "WantAuthnRequestsSigned", "this trust")
	for _, k := range idp.Keys {
		if k.Use == "encryption" {
			h.encryptTo("Names in requests may be encrypted to", idp, from)
			break
		}
	}
	if c := t.Contexts(); len(c) > 0 {
		h.add("Authentication context", strings.Join(c, " "), "RequestedAuthnContext", "this trust")
	}
	h.links(terms, app, provider)
	for _, r := range t.Rules {
		h.Attributes = append(h.Attributes, Item{Label: r.Claim, Value: r.Name, Metadata: "Attribute, NameFormat " +
			saml.ShortName(r.NameFormat), From: claims.Masked(r.Expression)})
	}
}

func (h *Handoff) links(terms *federation.SAMLTerms, app, provider *federation.Party) {
	if l := app.StartLink(); l != "" {
		h.add("Link that starts at the app", l, "RequestInitiator", source(app))
	} else {
		h.add("Link that starts at the app", "not known", "RequestInitiator",
			"ask the app's owner, then `tressik app change "+app.Name+" --start URL`")
	}
	switch l := provider.LaunchLink(app); {
	case l != "" && !terms.Unsolicited:
		h.add("Link that starts at the provider", "none: the app is to take no response that it did not ask for", "",
			"where it does: `tressik trust change "+h.Trust+" --unsolicited allow`")
	case l != "":
		h.add("Link that starts at the provider", l, "", source(provider))
	default:
		h.add("Link that starts at the provider", "not known", "", "the provider is foreign: its owner knows it")
	}
}

func (h *Handoff) appItems(v *View, terms *federation.SAMLTerms) {
	t, app, provider := v.Trust, v.App, v.Provider
	from, sp := source(app), app.Entity.SP
	h.add("Entity ID (audience)", app.Entity.ID, "EntityDescriptor entityID", from)
	for _, e := range sp.ACS {
		if e.Binding == saml.BindingPOST {
			label := "Assertion consumer service, HTTP-POST"
			if use, _ := saml.EndpointFor(sp.ACS, saml.BindingPOST); use == e && len(sp.ACS) > 1 {
				label += " (default)"
			}
			h.add(label, e.Location, fmt.Sprintf("AssertionConsumerService index %d", e.Index), from)
		}
	}
	h.logout(sp, from)
	h.add("Page after sign-out", sp.SignedOut, "", from)
	h.add("NameID format", t.SubjectFormat, "NameIDPolicy", "this trust")
	h.add("Assertions must be signed", yes(sp.WantAssertionsSigned), "WantAssertionsSigned", from)
	h.add("Requests are signed", yes(terms.SignsRequests), "AuthnRequestsSigned", "this trust")
	h.keys(sp, from)
	if terms.Encrypts {
		h.encryptTo("Encryption certificate", sp, from)
	}
	h.add("Who may sign in", t.Admission().Short(), "", "this trust")
	if c := t.Contexts(); len(c) > 0 {
		h.add("Authentication context", strings.Join(c, " "), "RequestedAuthnContext", "this trust")
	}
	h.links(terms, app, provider)
	for i, w := range sp.Wishes() {
		need := "optional"
		switch {
		case w.Required:
			need = "required"
		case i >= len(sp.Wanted):
			need = "where another of its services is asked for"
		}
		h.Attributes = append(h.Attributes,
			Item{Label: w.Label(), Value: w.Name, Metadata: "RequestedAttribute, " + need, From: from})
	}
	for _, r := range t.Rules {
		known := false
		for _, w := range sp.Wishes() {
			known = known || saml.Satisfies(w, saml.Attribute{Name: r.Name, Format: r.NameFormat})
		}
		if !known {
			h.Attributes = append(h.Attributes,
				Item{Label: r.Claim, Value: r.Name, Metadata: "Attribute", From: claims.Masked(r.Expression)})
		}
	}
}

func claimTodos(v *View, found finding.List) []Todo {
	t := v.Trust
	var out []Todo
	for _, f := range found {
		if f.ID == finding.ClaimsRequired {
			out = append(out, todoOf(f))
		}
	}
	if len(out) == 0 {
		done := len(t.Rules) > 0
		if !v.Provider.Own { // what it sends is seen, or entered
			_, seen := t.Facts[finding.FactClaims]
			return append(out, Todo{ID: finding.StepClaims, Done: done ||
				seen, Step: "it is known what " + v.Provider.Name + " releases", Fix: finding.Run("watch", t.Name)})
		}
		out = append(out, Todo{ID: finding.StepClaims, Done: done, Step: "claims are released",
			Fix: finding.Run("claims", "set", t.Name, "mail=person.mail")})
	}
	return out
}

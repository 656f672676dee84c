package desk

import (
	"bytes"
	"fmt"
	"os"
	"strings"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
)

// Item is one value of a handoff.
type Item struct {
	Label    string `json:"label"`         // the standard's name of it
	Value    string `json:"value"`         // exactly as the other side must enter it
	Metadata string `json:"metadata"`      // what it is called in metadata
	From     string `json:"from"`          // where the value comes from
	Env      string `json:"env,omitempty"` // name in an app's environment
}

// Handoff is what one side of a trust must be given.
type Handoff struct {
	Trust       string `json:"trust"`
	For         string `json:"for"`   // app or provider: who is given it
	About       string `json:"about"` // the party it describes
	Items       []Item `json:"values"`
	Attributes  []Item `json:"attributes,omitempty"`
	Certificate []byte `json:"-"` // PEM
	Metadata    []byte `json:"-"`

	Registration []byte `json:"-"` // of a client: its metadata as RFC 7591, section 2 writes it
	secret       bool
}

// Mode is how files of the handoff are protected: one with a secret is for its owner alone.
func (h *Handoff) Mode() os.FileMode {
	if h.secret {
		return 0o600
	}
	return 0o644
}

// Handoff collects what a side needs and, unless dry, records that it was given. side is app or provider.
func (d *Desk) Handoff(name, side string, dry bool) (*Handoff, error) {
	t, app, provider, err := d.Trust(name)
	if err != nil {
		return nil, err
	}
	h := &Handoff{Trust: name, For: side}
	switch {
	case side == "app":
		h.About = provider.Name
	case side == "provider":
		h.About = app.Name
	default:
		return nil, fmt.Errorf("--for %q is %w; write app or provider", side, ErrValue)
	}
	switch {
	case t.OIDCTerms() != nil && side == "app":
		var s ClientState
		if s, err = d.Clients(t); err == nil {
			err = d.clientItems(h, t, app, provider, s)
		}
	case t.OIDCTerms() != nil:
		err = d.registrationItems(h, t, app, provider)
	case side == "app":
		d.providerItems(h, t, app, provider)
		h.Metadata, err = d.Metadata(provider, false, 0)
	default:
		d.appItems(h, t, app, provider)
		h.Metadata, err = d.Metadata(app, false, 0)
	}
	if err != nil {
		return nil, err
	}
	if dry || t.Standing == federation.Ended {
		return h, nil
	}
	_, had := t.Handed[side]
	if had {
		return h, nil
	}
	_, err = d.change(name, "trust.handoff", func(t *federation.Trust) error {
		t.HandOver(d.Now(), side)
		return nil
	})
	return h, err
}

func source(p *federation.Party) string {
	switch {
	case p.Own:
		return p.Name + ", an own party"
	case p.Source == "entered by hand":
		return p.Name + ", " + p.Source
	case p.Source != "":
		return "metadata of " + p.Name + " (" + p.Source + ")"
	}
	return "metadata of " + p.Name
}

func (h *Handoff) add(label, value, metadata, from string) {
	if value != "" {
		h.Items = append(h.Items, Item{Label: label, Value: value, Metadata: metadata, From: from})
	}
}

func (h *Handoff) keys(r *saml.Role, from string) {
	_, certs := r.SigningKeys()
	for _, c := range certs {
		h.add("Signing certificate, SHA-256", keys.Fingerprint(c), "KeyDescriptor use=signing", from)
		h.add("Signing certificate, expires", c.NotAfter.UTC().Format("2006-01-02 15:04 UTC"), "KeyDescriptor use=signing", from)
		h.Certificate = append(h.Certificate, keys.PEM(c)...)
	}
}

func (d *Desk) providerItems(h *Handoff, t *federation.Trust, app, provider *federation.Party) {
	from, idp := source(provider), provider.Entity.IDP
	h.add("Issuer (entity ID)", provider.Entity.ID, "EntityDescriptor entityID", from)
	for _, e := range idp.SSO {
		if e.Binding == saml.BindingRedirect || e.Binding == saml.BindingPOST {
			h.add("Single sign-on service, "+saml.ShortName(e.Binding), e.Location, "SingleSignOnService", from)
		}
	}
	h.keys(idp, from)
	if provider.Own {
		h.add("Metadata address", strings.TrimSuffix(provider.At, "/")+"/metadata", "", "where the file of `tressik metadata write` is to be served")
	}
	h.add("NameID format", t.SubjectFormat, "NameIDFormat", "this trust")
	h.add("NameID value", t.SubjectWords(), "", "this trust")
	h.add("Audience", app.Entity.ID, "EntityDescriptor entityID of the app", source(app))
	h.add("Signed by the provider", t.SAMLTerms().Signs, "WantAssertionsSigned", "this trust")
	h.add("Encrypted assertions", yes(t.SAMLTerms().Encrypts), "KeyDescriptor use=encryption", "this trust")
	h.add("Requests must be signed", yes(t.SAMLTerms().SignsRequests), "WantAuthnRequestsSigned", "this trust")
	if c := t.Contexts(); len(c) > 0 {
		h.add("Authentication context", strings.Join(c, " "), "RequestedAuthnContext", "this trust")
	}
	h.links(app, provider)
	for _, r := range t.Rules {
		h.Attributes = append(h.Attributes, Item{Label: r.Claim, Value: r.Name, Metadata: "Attribute, NameFormat " + saml.ShortName(r.NameFormat), From: r.Expression})
	}
}

func (h *Handoff) links(app, provider *federation.Party) {
	if l := app.StartLink(); l != "" {
		h.add("Link that starts at the app", l, "RequestInitiator", source(app))
	} else {
		h.add("Link that starts at the app", "not known", "RequestInitiator",
			"ask the app's owner, then `tressik app change "+app.Name+" --start URL`")
	}
	if l := provider.LaunchLink(app); l != "" {
		h.add("Link that starts at the provider", l, "", source(provider))
	} else {
		h.add("Link that starts at the provider", "not known", "", "the provider is foreign: its owner knows it")
	}
}

func (d *Desk) appItems(h *Handoff, t *federation.Trust, app, provider *federation.Party) {
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
	h.add("NameID format", t.SubjectFormat, "NameIDPolicy", "this trust")
	h.add("Assertions must be signed", yes(sp.WantAssertionsSigned), "WantAssertionsSigned", from)
	h.add("Requests are signed", yes(t.SAMLTerms().SignsRequests), "AuthnRequestsSigned", "this trust")
	h.keys(sp, from)
	if c, alg := sp.EncryptionKey(); c != nil && t.SAMLTerms().Encrypts {
		h.add("Encryption certificate, SHA-256", keys.Fingerprint(c), "KeyDescriptor use=encryption", from)
		if alg != "" {
			h.add("Encryption method", alg, "EncryptionMethod", from)
		}
		if pem := keys.PEM(c); !bytes.Contains(h.Certificate, pem) {
			h.Certificate = append(h.Certificate, pem...)
		}
	}
	h.add("Who may sign in", t.Admits, "", "this trust")
	if c := t.Contexts(); len(c) > 0 {
		h.add("Authentication context", strings.Join(c, " "), "RequestedAuthnContext", "this trust")
	}
	h.links(app, provider)
	for _, w := range sp.Wanted {
		need := "wished for"
		if w.Required {
			need = "required"
		}
		h.Attributes = append(h.Attributes, Item{Label: w.Label(), Value: w.Name, Metadata: "RequestedAttribute, " + need, From: from})
	}
	for _, r := range t.Rules {
		known := false
		for _, w := range sp.Wanted {
			known = known || saml.Satisfies(w, saml.Attribute{Name: r.Name, Format: r.NameFormat})
		}
		if !known {
			h.Attributes = append(h.Attributes, Item{Label: r.Claim, Value: r.Name, Metadata: "Attribute", From: r.Expression})
		}
	}
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// Todo is one step of the work on a trust.
type Todo struct {
	Done bool           `json:"done"`
	Step string         `json:"step"`
	Fix  finding.Remedy `json:"fix,omitzero"` // how to do it, if it is open
}

// Next lists what is done and what is left for a trust.
func (d *Desk) Next(name string) (*federation.Trust, []Todo, error) {
	t, app, provider, found, err := d.Compared(name)
	if err != nil {
		return nil, nil, err
	}
	persons, err := d.L.Persons()
	if err != nil {
		return nil, nil, err
	}
	c := app.ClientSide()
	machine := t.OIDCTerms() != nil && c != nil && !c.Kind.Redirects()
	out := []Todo{{true, "both parties are in the ledger: " + app.Name + ", " + provider.Name, finding.Remedy{}},
		{true, "the trust is made", finding.Remedy{}}}
	if t.OIDCTerms() != nil {
		out[1].Step = "the client is registered, with the client ID " + t.OIDCTerms().ClientID
	}
	for _, side := range []string{"app", "provider"} {
		p, about := app, provider.Name
		if side == "provider" {
			p, about = provider, app.Name
		}
		_, given := t.Handed[side]
		step := fmt.Sprintf("%s %s has what it needs of %s", side, p.Name, about)
		if p.Own {
			step += " (it is Tressik's own)"
		}
		out = append(out, Todo{given, step, finding.Run("handoff", name, "--for", side)})
	}
	if !machine {
		out = append(out, Todo{len(persons) > 0, "there are people to try it on", finding.Run("people", "load", "FILE")})
	}
	var consents []federation.Consent
	if t.OIDCTerms() != nil {
		out = append(out, clientTodos(t, found)...)
		if consents, err = d.L.Consents(name); err != nil {
			return nil, nil, err
		}
	} else {
		out = append(out, claimTodos(t, found)...)
	}
	for _, f := range found {
		if f.Level == finding.Error && !strings.HasPrefix(f.ID, "claims.") {
			out = append(out, Todo{false, f.Check + ": " + f.Saw, f.Fix})
		}
	}
	who := "PERSON"
	for i := range persons {
		if ok, _ := t.AdmitsPerson(&persons[i], consents); ok {
			who = persons[i].ID
			break
		}
	}
	rehearsed := t.Holds
	step := "a rehearsal succeeded"
	if t.Last != nil && !rehearsed {
		step = "a rehearsal succeeded since the last change"
	}
	command := finding.Run("rehearse", name, "--as", who)
	if machine {
		command = finding.Run("rehearse", name)
	}
	out = append(out, Todo{rehearsed, step, command})
	for i := range out {
		if out[i].Done {
			out[i].Fix = finding.Remedy{}
		}
	}
	return t, out, nil
}

func claimTodos(t *federation.Trust, found finding.List) []Todo {
	var out []Todo
	for _, f := range found {
		if f.ID == "claims.required" {
			out = append(out, Todo{false, f.Check + ": " + f.Saw, finding.Run("claims", "set", t.Name, suggestion(f))})
		}
	}
	if len(out) == 0 {
		done := len(t.Rules) > 0
		out = append(out, Todo{done, "claims are released", finding.Run("claims", "set", t.Name, "mail=person.mail")})
	}
	return out
}

// suggestion proposes the assignment for a required attribute: the attribute of the same name.
func suggestion(f finding.Finding) string {
	label := strings.TrimPrefix(f.Check, "required attribute ")
	attr := label
	if n := claims.FriendlyFor(label); n != "" {
		attr = n
	}
	if strings.ContainsAny(attr, ":/.-") {
		return fmt.Sprintf("%s=person[%q]", label, attr)
	}
	return label + "=person." + attr
}

package charter

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/plain"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/span"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/mapping"
)

// Writer writes what stands in a ledger as a charter.
type Writer struct {
	model.View
	// Rel turns the path of a file, as the ledger has it, into one that the charter names; nil leaves it.
	Rel func(string) string
	// Inline writes the documents of foreign parties as text, and not where they were read from.
	Inline bool
}

// Marshal writes a charter as YAML. Salts that stand in expressions are left out: they come from the ledger again where
// it is compared and enacted.
func (c *Charter) Marshal() ([]byte, error) {
	out := *c
	out.Trusts = map[string]*Trust{}
	for name, t := range c.Trusts {
		d := mapping.Document{Claims: slices.Clone(t.Claims)}
		if t.Subject != nil {
			s := *t.Subject
			d.Subject = &s
		}
		d.Mask()
		shown := *t
		shown.Claims, shown.Subject = d.Claims, d.Subject
		out.Trusts[name] = &shown
	}
	return plain.YAML(out)
}

// All writes everything that stands in the ledger.
func (w *Writer) All() (*Charter, error) {
	out, err := w.empty()
	if err != nil {
		return nil, err
	}
	out.Covers = Everything
	sources, err := w.Sources()
	if err != nil {
		return nil, err
	}
	for i := range sources {
		out.People = append(out.People, w.people(&sources[i]))
	}
	parties, err := w.Parties("")
	if err != nil {
		return nil, err
	}
	for i := range parties {
		if err := w.put(out, &parties[i]); err != nil {
			return nil, err
		}
	}
	trusts, err := w.Trusts()
	if err != nil {
		return nil, err
	}
	own := map[string]bool{}
	for i := range parties {
		own[parties[i].Name] = parties[i].Own
	}
	for i := range trusts {
		if t := &trusts[i]; t.Standing != federation.Ended {
			out.Trusts[t.Name] = declared(t, own[t.Provider])
		}
	}
	return out, w.rest(out, "")
}

// Of writes trusts with their parties, the APIs that they ask, and what belongs to them. Errors: *model.UnknownError.
func (w *Writer) Of(book *model.Book, names []string) (*Charter, error) {
	out, err := w.empty()
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		t, _, provider, err := book.Trust(name)
		if err != nil {
			return nil, err
		}
		app, err := w.Party(t.App) // as it stands, not as it is registered with this trust
		if err != nil {
			return nil, err
		}
		if t.Standing == federation.Ended {
			return nil, fmt.Errorf("%s %w; there is nothing to declare of it", name, model.ErrEnded)
		}
		parties := []*federation.Party{app, provider}
		for _, a := range t.Asks() {
			if a.API == "" {
				continue
			}
			p, err := w.Party(a.API)
			if err != nil {
				return nil, err
			}
			parties = append(parties, p)
		}
		for _, p := range parties {
			if err := w.put(out, p); err != nil {
				return nil, err
			}
		}
		out.Trusts[name] = declared(t, provider.Own)
		if err := w.rest(out, name); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (w *Writer) empty() (*Charter, error) {
	org, err := w.Value(model.SettingOrg)
	return &Charter{Charter: Kind, Organisation: org, Providers: map[string]*Provider{}, Apps: map[string]*App{},
		Trusts: map[string]*Trust{}, Routes: map[string]string{}}, err
}

// rest adds routes and expectations, those of one trust or of all.
func (w *Writer) rest(out *Charter, trust string) error {
	routes, _, err := w.Arrivals()
	if err != nil {
		return err
	}
	for _, r := range routes {
		if _, provider, ok := strings.Cut(r.Trust, "@"); ok && (trust == "" || r.Trust == trust) {
			out.Routes[r.Domain] = provider
		}
	}
	list, err := w.Expectations(trust)
	if err != nil {
		return err
	}
	for i := range list {
		out.Expectations = append(out.Expectations, expectationOf(&list[i]))
	}
	return nil
}

func (w *Writer) put(out *Charter, p *federation.Party) error {
	if p.Kind == federation.Provider {
		x, err := w.provider(p)
		out.Providers[p.Name] = x
		return err
	}
	x, err := w.app(p)
	out.Apps[p.Name] = x
	return err
}

func (w *Writer) rel(path string) string {
	if w.Rel == nil || strings.Contains(path, "://") {
		return path
	}
	return w.Rel(path)
}

// people declares a source of people.
func (w *Writer) people(s *people.Source) People {
	out := People{Source: s.Name, From: s.At, Base: s.Base, Filter: s.Filter, BindDN: s.BindDN,
		PasswordFrom: s.Password, ID: s.ID, Attributes: s.Wanted, Columns: s.Columns, CA: s.CA, TLSPin: s.Pin,
		Page: s.Page, Most: s.Most,
		Timeout: short(s.Timeout), Cache: short(s.Cache)}
	if !s.Directory() {
		out.From = w.rel(s.At)
	}
	return out
}

func (w *Writer) party(p *federation.Party) (Party, error) {
	out := Party{Title: p.Title, CA: p.TLS.CA, TLSPin: p.TLS.Pin, FetchesFrom: p.From}
	if p.Own {
		out.Own = &Own{At: p.At}
		base := federation.OwnEntity(p.Kind, p.At, p.Title, p.Entity.Organization)
		out.SAML = values(p.Kind, &base, &p.Entity)
		return out, nil
	}
	if p.Role() == nil {
		return out, nil
	}
	raw, err := w.Raw(p.Name)
	if err != nil {
		return out, err
	}
	if len(raw) == 0 {
		out.SAML = values(p.Kind, &saml.Entity{}, &p.Entity)
		return out, nil
	}
	read, err := desk.ReadEntity(raw, p.Entity.ID, nil)
	if err != nil {
		return out, err
	}
	out.SAML = values(p.Kind, read, &p.Entity)
	out.Metadata = w.rel(p.Source)
	if w.Inline || p.Source == "" || p.Source == "standard input" || strings.HasPrefix(p.Source, "entered ") ||
		strings.HasPrefix(p.Source, "a handoff ") {
		out.Metadata = string(raw)
	} else if desk.InGroup(raw) {
		out.Entity = p.Entity.ID
	}
	if der, err := base64.StdEncoding.DecodeString(p.Signer); err == nil && len(der) > 0 {
		out.SignedBy = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	}
	return out, nil
}

func (w *Writer) provider(p *federation.Party) (*Provider, error) {
	base, err := w.party(p)
	out := &Provider{Party: base, Administrators: p.Admins, AgreedBy: p.AgreedBy}
	if o := p.OpenID; o != nil {
		out.Issuer = o.Discovery.Issuer
		if w.Inline || !strings.HasPrefix(o.Source, "https://") {
			doc, err := json.MarshalIndent(o.Discovery, "", "  ")
			if err != nil {
				return nil, err
			}
			out.Discovery, out.JWKS = string(doc)+"\n", o.JWKS
			var keys bytes.Buffer
			if json.Indent(&keys, []byte(o.JWKS), "", "  ") == nil {
				out.JWKS = keys.String() + "\n"
			}
		}
		if out.CA+out.TLSPin == "" {
			out.CA, out.TLSPin = o.TLS.CA, o.TLS.Pin
		}
	}
	return out, err
}

func (w *Writer) app(p *federation.Party) (*App, error) {
	base, err := w.party(p)
	out := &App{Party: base, Reading: readingOf(p.Reads)}
	if c := p.Client; c != nil {
		out.Client = &Client{Kind: string(c.Kind), RedirectURIs: c.Redirects, AfterSignOut: c.AfterSignOut,
			BackChannelLogout: c.BackChannelLogout, FrontChannelLogout: c.FrontChannelLogout, SignInLink: c.Start,
			Contact: c.Contact, Home: c.Home, MaxAge: short(c.MaxAge), IDTokenAlg: c.IDTokenAlg}
	}
	if a := p.API; a != nil {
		out.API = &API{Audience: a.Audience, Permissions: map[string]*Permission{}}
		for _, x := range a.Permissions {
			n := &Permission{As: x.As, Says: x.Says, Includes: x.Includes, NarrowRecords: x.Records,
				NarrowAmount: x.Amount, NeedsStrength: x.Strength, NeedsFresh: short(x.Fresh)}
			if x.Admin {
				n.Needs = "admin"
			}
			out.API.Permissions[x.Name] = n
		}
	}
	return out, err
}

func readingOf(m *federation.Mapping) Reading {
	if m == nil {
		return Reading{}
	}
	out := Reading{AccountKey: m.Key, RoleField: m.Role, Strangers: m.Strangers, Reads: map[string]string{}}
	for _, x := range m.Fields {
		out.Reads[x.Field] = x.From
	}
	return out
}

// values are those of an entity that another one does not have so: what was entered by hand.
func values(kind federation.Kind, base, now *saml.Entity) *SAML {
	role := func(e *saml.Entity) *saml.Role {
		r := e.SP
		if kind == federation.Provider {
			r = e.IDP
		}
		if r == nil {
			return &saml.Role{}
		}
		return r
	}
	out, was, is := &SAML{}, role(base), role(now)
	if base.ID != now.ID {
		out.EntityID = now.ID
	}
	for _, l := range []struct {
		to      *[]string
		was, is []string
	}{{&out.ACS, places(was.ACS, false), places(is.ACS, false)}, {&out.SSO, places(was.SSO, true),
		places(is.SSO, true)}, {&out.Logout, places(was.SLO, true), places(is.SLO, true)},
		{&out.Formats, formats(was.NameIDFormats), formats(is.NameIDFormats)},
		{&out.Wants, wants(was.Wanted), wants(is.Wanted)}} {
		if slices.Equal(l.was, l.is) {
			continue
		}
		if *l.to = l.is; len(l.is) == 0 {
			*l.to = []string{"none"}
		}
	}
	if was.Start != is.Start {
		out.Start = is.Start
	}
	if was.SignedOut != is.SignedOut {
		if out.SignedOut = is.SignedOut; is.SignedOut == "" {
			out.SignedOut = "none"
		}
	}
	for _, k := range is.Keys {
		if slices.ContainsFunc(was.Keys, func(x saml.Key) bool { return x.Certificate == k.Certificate }) ||
			base.ID != "" && len(was.Keys) == 0 { // an own party's keys are the ledger's
			continue
		}
		der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(k.Certificate), ""))
		if err != nil {
			continue
		}
		text := string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
		if k.Use == "encryption" {
			out.EncryptionCertificate = text
		} else {
			out.SigningCertificate = text
		}
	}
	for _, b := range []struct {
		to      **bool
		was, is bool
	}{{&out.SignsRequests, was.RequestsSigned || was.WantRequestsSigned, is.RequestsSigned || is.WantRequestsSigned},
		{&out.SignedAssertions, was.WantAssertionsSigned, is.WantAssertionsSigned}} {
		if b.was != b.is {
			*b.to = &b.is
		}
	}
	if out.empty() {
		return nil
	}
	return out
}

func (s *SAML) empty() bool {
	return s.EntityID+s.Start+s.SignedOut+s.SigningCertificate+s.EncryptionCertificate == "" &&
		len(s.ACS)+len(s.SSO)+len(s.Logout)+len(s.Formats)+len(s.Wants) == 0 && s.SignsRequests == nil &&
		s.SignedAssertions == nil
}

func places(list []saml.Endpoint, bound bool) []string {
	var out []string
	for _, e := range list {
		if bound && e.Binding == saml.BindingPOST {
			out = append(out, "post="+e.Location)
		} else {
			out = append(out, e.Location)
		}
	}
	return out
}

func formats(list []string) []string {
	var out []string
	for _, f := range list {
		out = append(out, formatWord(f))
	}
	return out
}

// formatWord is the word for a name identifier format, or the format itself.
func formatWord(format string) string {
	for _, w := range []string{"persistent", "transient", "email", "unspecified"} {
		if f, _ := saml.FormatByWord(w); f == format {
			return w
		}
	}
	return format
}

func wants(list []saml.Wanted) []string {
	var out []string
	for _, w := range list {
		n := w.Name
		if w.Required {
			n += "!"
		}
		out = append(out, n)
	}
	return out
}

// short writes seconds as a span of time that can be read again; "" for none.
func short(seconds int) string {
	if seconds == 0 {
		return ""
	}
	return span.Short(time.Duration(seconds) * time.Second)
}

// declared declares a trust. The client ID that an own provider issued belongs to this ledger alone, and is left out.
func declared(t *federation.Trust, own bool) *Trust {
	out := trustOf(t)
	if own {
		out.ClientID = ""
	}
	return out
}

func trustOf(t *federation.Trust) *Trust {
	rules := mapping.DocumentOf(t)
	out := &Trust{Over: t.Over(), Admits: t.Admits, Strength: t.Strength, Owner: t.Owner, Ends: map[string]string{},
		SpeaksFor: t.SpeaksFor,
		Subject:   rules.Subject, Claims: rules.Claims, Reading: readingOf(t.Reads)}
	out.Subject.Format = formatWord(out.Subject.Format)
	for _, e := range t.Ends {
		if out.Ends[e.What] = e.At.UTC().Format(time.DateOnly); e.Unused > 0 {
			out.Ends[e.What] = "unused:" + short(e.Unused)
		}
	}
	overOf(t).write(out)
	if t.Arrival != nil {
		out.Arrival = arrivalOf(*t.Arrival)
	}
	return out
}

func arrivalOf(a federation.Arrival) *Arrival {
	out := &Arrival{Unknown: a.Unknown, Known: a.Known, Bind: a.Bind, Groups: a.Groups, Takes: map[string]string{}}
	for _, f := range a.Takes {
		out.Takes[f.Field] = f.From
	}
	return out
}

func expectationOf(e *federation.Expected) Expectation {
	out := Expectation{Trust: e.Trust, As: e.As, Refused: e.Refused, By: e.By, Claims: e.Claims, Without: e.Without,
		Account: e.Account, Subject: e.Subject, Answered: e.Answered, Denied: e.Denied, Note: e.Note}
	if len(e.AtMost) > 0 {
		out.AtMost = map[string]string{}
		for k, s := range e.AtMost {
			out.AtMost[k] = short(s)
		}
	}
	return out
}

package charter

import (
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/arrivals"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/expect"
	"tressik.example/internal/work/mapping"
	"tressik.example/internal/work/sources"
)

// Enactor makes true what a charter declares.
type Enactor struct {
	*desk.Desk
	File     *File
	Read     map[string][]byte            // what the charter's references lead to, by their path
	People   map[string]*people.Directory // what sources of people that are new or changed hold, by name
	TakeAway bool                         // what the charter does not declare goes, where it says what there is
	Accept   bool                         // what foreign parties publish may touch trust
}

// Made is a secret that a charter declared and that was made.
type Made struct {
	Trust  string
	ID     string
	Value  string // shown to nobody: it goes where the charter says
	Secret Secret
}

// Enact makes the charter true, as one change. Running it again does nothing. Errors: *Error, and those of the use
// cases within.
func (k *Enactor) Enact() ([]Made, error) {
	if org := k.View.Org(); k.File.Organisation != "" && k.File.Organisation != org {
		return nil, k.File.errorf("organisation", "this is the ledger of %s; enact it in one of %s, or leave it out",
			org, k.File.Organisation)
	}
	for _, step := range []func() error{k.people, k.providers, k.apps, k.trusts, k.routes, k.expectations, k.takeAway} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	return k.secrets()
}

// writer writes what stands now.
func (k *Enactor) writer() *Writer { return &Writer{View: k.View} }

// Sources are the sources of people that have to be read before the charter can be enacted: those that are new or
// described otherwise.
func (f *File) Sources(v model.View, read map[string][]byte) ([]people.Source, error) {
	have, err := v.Sources()
	if err != nil {
		return nil, err
	}
	var out []people.Source
	for i := range f.People {
		path := fmt.Sprintf("people[%d]", i)
		if f.People[i].Source == "" {
			continue
		}
		s, err := f.source(path, &f.People[i], read)
		if err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(have, func(x people.Source) bool {
			x.Read, x.People = s.Read, s.People
			return reflect.DeepEqual(x, *s)
		}) {
			out = append(out, *s)
		}
	}
	return out, nil
}

func (f *File) source(path string, p *People, read map[string][]byte) (*people.Source, error) {
	s := &people.Source{Name: p.Source, At: p.From, Base: p.Base, Filter: p.Filter, BindDN: p.BindDN,
		Password: p.PasswordFrom, ID: p.ID, Wanted: p.Attributes, Columns: p.Columns, CA: string(read[path+".ca"]),
		Pin: p.TLSPin, Page: p.Page, Most: p.Most}
	for _, x := range []struct {
		to   *int
		v, n string
	}{{&s.Timeout, p.Timeout, "timeout"}, {&s.Cache, p.Cache, "cache"}} {
		if x.v == "" {
			continue
		}
		d, err := desk.ParseSpan(x.v)
		if err != nil {
			return nil, f.at(path+"."+x.n, err)
		}
		*x.to = int(d.Seconds())
	}
	return s, f.at(path, s.Check())
}

func (k *Enactor) people() error {
	fresh, err := k.File.Sources(k.View, k.Read)
	if err != nil {
		return err
	}
	for i := range fresh {
		dir := k.People[fresh[i].Name]
		if dir == nil {
			return fmt.Errorf("the source of people %s was not read", fresh[i].Name)
		}
		if _, err := (&sources.Reader{Book: k.Book}).Add(&fresh[i], dir); err != nil {
			return err
		}
	}
	for i, p := range k.File.People {
		if p.Source != "" {
			continue
		}
		path := fmt.Sprintf("people[%d]", i)
		raw := k.Read[path+".from"]
		n, err := k.LoadPeople(raw, p.From, desk.Loading{Dry: true, Home: p.Home, Columns: p.Columns})
		if err == nil && n.Added+n.Changed > 0 {
			_, err = k.LoadPeople(raw, p.From, desk.Loading{Home: p.Home, Columns: p.Columns})
		}
		if err != nil {
			return k.File.at(path, err)
		}
	}
	return nil
}

func (k *Enactor) providers() error {
	for _, name := range slices.Sorted(maps.Keys(k.File.Providers)) {
		p, path := k.File.Providers[name], "providers."+name
		in, err := k.party(path, federation.Provider, name, &p.Party)
		if err != nil {
			return k.File.at(path, err)
		}
		in.Admins, in.AgreedBy = p.Administrators, p.AgreedBy
		if raw := k.Read[path+".discovery"]; raw != nil {
			in.OpenID = &desk.OpenIDInput{Issuer: p.Issuer, Discovery: raw, JWKS: k.Read[path+".jwks"],
				Source: sourceOf(p.Discovery, p.Issuer), TLS: in.TLS}
		}
		old, err := k.View.Party(name)
		if err == nil && k.resets() {
			in.From, in.Admins = orNone(old.From, in.From), cleared(old.Admins, in.Admins)
			if in.AgreedBy == 0 && old.AgreedBy > 0 {
				in.AgreedBy = 1
			}
		}
		if err == nil {
			var is Party
			if is, err = k.writer().party(old); err == nil {
				err = k.settled(&in, old, &is, &p.Party, path)
			}
		}
		if err == nil || errors.Is(err, model.ErrNotFound) {
			err = k.put(old, in)
		}
		if err != nil {
			return k.File.at(path, err)
		}
	}
	return nil
}

// sourceOf names where a document came from.
func sourceOf(document, issuer string) string {
	switch {
	case document == "":
		return issuer
	case isText(document):
		return "a charter"
	}
	return document
}

// isText reports whether a reference is the text itself.
func isText(ref string) bool {
	ref = strings.TrimSpace(ref)
	return strings.HasPrefix(ref, "<") || strings.HasPrefix(ref, "{") || strings.HasPrefix(ref, "-----BEGIN")
}

// party is what a declaration says of either kind of party.
func (k *Enactor) party(path string, kind federation.Kind, name string, p *Party) (in desk.PartyInput, err error) {
	in = desk.PartyInput{Kind: kind, Name: name, Title: p.Title, Entity: p.Entity,
		Source: sourceOf(p.Metadata, ""), Accept: k.Accept, From: p.FetchesFrom,
		TLS: federation.Server{CA: string(k.Read[path+".ca"]), Pin: p.TLSPin}}
	if p.Own != nil {
		in.Own, in.At, in.KeyKind, in.Seal = true, p.Own.At, p.Own.Key, p.Own.Encrypted
		if in.KeyKind == "" {
			in.KeyKind = "rsa-2048"
		}
	}
	if in.SignedBy, err = k.certificate(path + ".signedBy"); err != nil {
		return in, err
	}
	in.Received = desk.Cut(k.Read[path+".metadata"], p.Entity, in.SignedBy)
	if s := p.SAML; s != nil {
		in.Hand = &desk.Hand{EntityID: s.EntityID, ACS: s.ACS, SSO: s.SSO, Formats: s.Formats, Wants: s.Wants,
			Start: s.Start, SignedOut: s.SignedOut, Logout: s.Logout, Signed: s.SignsRequests,
			Wanted: s.SignedAssertions}
		if in.Hand.Signing, err = k.certificate(path + ".saml.signingCertificate"); err != nil {
			return in, err
		}
		in.Hand.Sealing, err = k.certificate(path + ".saml.encryptionCertificate")
	}
	return in, err
}

// settled takes out of an input what a foreign party published, where the ledger has just that already: the same
// document, signed by the same key, and the same values by hand. is declares the party as it stands.
func (k *Enactor) settled(in *desk.PartyInput, old *federation.Party, is, says *Party, path string) error {
	if old == nil || old.Own {
		return nil
	}
	raw, err := k.Raw(in.Name)
	if err != nil {
		return err
	}
	signer := in.SignedBy == nil || keys.Fingerprint(in.SignedBy) == old.Signed
	if !in.Received.Is(raw, desk.Signers(in.SignedBy)) || !signer || in.Entity != "" && in.Entity != old.Entity.ID {
		return nil
	}
	var want *SAML
	if says.SAML != nil {
		c := *says.SAML
		want = &c
		for _, x := range []struct {
			to  *string
			ref string
		}{{&want.SigningCertificate, "signingCertificate"}, {&want.EncryptionCertificate, "encryptionCertificate"}} {
			cert, err := k.certificate(path + ".saml." + x.ref)
			if err != nil {
				return err
			}
			if cert != nil {
				*x.to = string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Raw}))
			}
		}
	}
	if reflect.DeepEqual(is.SAML, want) {
		in.Raw, in.Hand, in.SignedBy = nil, nil, nil
	}
	return nil
}

func (k *Enactor) certificate(path string) (*x509.Certificate, error) {
	raw := k.Read[path]
	if raw == nil {
		return nil, nil
	}
	c, err := keys.ParseCertificate(raw)
	return c, k.File.at(path, err)
}

// put adds a party, or changes it where the declaration would have it otherwise. old is the party as it is; nil where
// there is none.
func (k *Enactor) put(old *federation.Party, in desk.PartyInput) (err error) {
	switch {
	case old == nil:
		_, _, err = k.AddParty(in)
		return err
	case old.Kind != in.Kind:
		return fmt.Errorf("%s is %w as %s", in.Name, model.ErrExists, old.Kind)
	case old.Own != in.Own:
		return fmt.Errorf("%s is %s in the ledger; that cannot be changed: remove it and add it anew", in.Name,
			map[bool]string{true: "own", false: "foreign"}[old.Own])
	case old.Own && strings.TrimSuffix(in.At, "/") != old.At:
		return fmt.Errorf("%s lies at %s; an own party's address cannot be changed: add one under another "+
			"name, and move "+
			"its trusts", in.Name, old.At)
	}
	if in.Raw == nil && in.Hand == nil && in.Client == nil && in.OpenID == nil && in.API+in.Admins == "" &&
		in.AgreedBy == 0 && len(in.From) == 0 && in.Reads.IsZero() && (in.Title == "" || in.Title == old.Title) {
		return nil // nothing is said of it that it is not
	}
	if in.SignedBy == nil && in.Raw != nil && old.Signer != "" {
		if in.SignedBy, err = keys.ParseCertificate([]byte(old.Signer)); err != nil {
			return err
		}
	}
	now, _, err := k.Would(old, in)
	if err != nil || sameParty(old, now) {
		return err
	}
	_, _, _, err = k.ChangeParty(in)
	return err
}

// sameParty reports whether two states of a party are the same, but for where it was read and when.
func sameParty(a, b *federation.Party) bool {
	x, y := *a, *b
	for _, p := range []*federation.Party{&x, &y} {
		p.Source, p.Added, p.Changed, p.Version = "", a.Added, a.Changed, 0
		if p.OpenID != nil {
			o := *p.OpenID
			o.Source = ""
			p.OpenID = &o
		}
	}
	if reflect.DeepEqual(x, y) {
		return true
	}
	one, err := json.Marshal(x)
	two, err2 := json.Marshal(y)
	return err == nil && err2 == nil && string(one) == string(two)
}

func (k *Enactor) apps() error {
	for _, name := range slices.Sorted(maps.Keys(k.File.Apps)) {
		path := "apps." + name
		if err := k.File.at(path, k.app(name, path)); err != nil {
			return err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(k.File.Apps)) {
		if err := k.publish(name); err != nil {
			return err
		}
	}
	return nil
}

func (k *Enactor) app(name, path string) error {
	says := k.File.Apps[name]
	is := &App{}
	old, err := k.View.Party(name)
	switch {
	case err == nil && old.Kind == federation.App:
		if is, err = k.writer().app(old); err != nil {
			return err
		}
	case err != nil && !errors.Is(err, model.ErrNotFound):
		return err
	}
	in, err := k.party(path, federation.App, name, &says.Party)
	if err != nil {
		return err
	}
	base := is
	if k.resets() {
		base = &App{}
		if old != nil {
			in.From = orNone(old.From, in.From)
		}
	}
	if err := k.settled(&in, old, &is.Party, &says.Party, path); err != nil {
		return err
	}
	want := merged(base, &App{Reading: says.Reading, Client: says.Client}, k.TakeAway)
	in.Reads = reading(is.Reading, want.Reading)
	if a := says.API; a != nil {
		in.API = a.Audience
	}
	if c := want.Client; says.Client != nil {
		was := is.Client
		if was == nil {
			was = &Client{}
		}
		in.Client = &desk.ClientInput{Kind: c.Kind, Redirects: orNone(was.RedirectURIs, c.RedirectURIs),
			AfterSignOut: orNone(was.AfterSignOut, c.AfterSignOut), Contact: cleared(was.Contact, c.Contact),
			Home: cleared(was.Home, c.Home), MaxAge: cleared(was.MaxAge, c.MaxAge),
			IDTokenAlg:   cleared(was.IDTokenAlg, c.IDTokenAlg),
			BackChannel:  cleared(was.BackChannelLogout, c.BackChannelLogout),
			FrontChannel: cleared(was.FrontChannelLogout, c.FrontChannelLogout),
			Start:        cleared(was.SignInLink, c.SignInLink)}
	}
	return k.put(old, in)
}

// orNone is a list to be entered whole; none where the last one goes.
func orNone(was, want []string) []string {
	if len(want) == 0 && len(was) > 0 {
		return []string{"none"}
	}
	return want
}

// reading is how a mapping is changed into another.
func reading(is, want Reading) federation.MappingInput {
	in := federation.MappingInput{Key: cleared(is.AccountKey, want.AccountKey),
		Role: cleared(is.RoleField, want.RoleField), Strangers: cleared(is.Strangers, want.Strangers)}
	for _, f := range slices.Sorted(maps.Keys(want.Reads)) {
		if is.Reads[f] != want.Reads[f] {
			in.Reads = append(in.Reads, f+"="+want.Reads[f])
		}
	}
	for _, f := range slices.Sorted(maps.Keys(is.Reads)) {
		if _, still := want.Reads[f]; !still {
			in.Reads = append(in.Reads, f+"=")
		}
	}
	return in
}

// publish publishes what an API declares, each permission after those that it includes.
func (k *Enactor) publish(name string) error {
	order, err := k.File.permissions(name)
	if err != nil || len(order) == 0 {
		return err
	}
	p, err := k.API(name)
	if err != nil {
		return err
	}
	for _, n := range order {
		says := k.File.Apps[name].API.Permissions[n]
		path := "apps." + name + ".api.permissions." + n
		if says.Needs != "" && says.Needs != "admin" {
			return k.File.errorf(path+".needs", "%q: write admin, or leave it out", says.Needs)
		}
		want := federation.Permission{Name: n, As: model.Unique(slices.Clone(says.As)), Says: says.Says,
			Admin: says.Needs == "admin", Includes: model.Unique(slices.Clone(says.Includes)),
			Records: says.NarrowRecords, Amount: says.NarrowAmount, Strength: says.NeedsStrength}
		if says.NeedsFresh != "" {
			fresh, err := desk.ParseSpan(says.NeedsFresh)
			if err != nil {
				return k.File.at(path+".needsFresh", err)
			}
			want.Fresh = int(fresh.Seconds())
		}
		if is := p.API.Find(n); is != nil && samePermission(*is, want) {
			continue
		}
		if p, err = k.Publish(name, want); err != nil {
			return k.File.at(path, err)
		}
	}
	return nil
}

// samePermission reports whether two permissions are the same, whatever the order of their lists.
func samePermission(a, b federation.Permission) bool {
	for _, p := range []*federation.Permission{&a, &b} {
		p.As, p.Includes = sorted(p.As), sorted(p.Includes)
	}
	return reflect.DeepEqual(a, b)
}

func sorted(list []string) []string { return slices.Sorted(slices.Values(list)) }

func (k *Enactor) trusts() error {
	for _, name := range slices.Sorted(maps.Keys(k.File.Trusts)) {
		if err := k.trust(name); err != nil {
			return k.File.at("trusts."+name, err)
		}
	}
	return nil
}

func (k *Enactor) trust(name string) error {
	says := k.File.Trusts[name]
	t, err := k.View.Trust(name)
	switch {
	case errors.Is(err, model.ErrNotFound):
		if t, err = k.federate(name, says); err != nil {
			return err
		}
	case err != nil:
		return err
	case t.Standing == federation.Ended:
		return finding.Advise(fmt.Errorf("%s %w, and cannot be used again", name, model.ErrEnded),
			finding.Run("trust", "remove", name))
	case says.Over != "" && t.Over() != says.Over:
		return k.File.errorf("trusts."+name+".over",
			"it is over %s in the ledger; a trust does not change its protocol: "+
				"end it and make another", t.Over())
	}
	is := trustOf(t)
	said := *says
	if said.Secret = nil; said.Admits != "" { // people are named as the ledger names them
		if said.Admits, err = k.Admitting(said.Admits); err != nil {
			return k.File.at("trusts."+name+".admits", err)
		}
	}
	if said.Claims, err = k.named(t, says.Claims); err != nil {
		return err
	}
	if says.Subject != nil {
		said.Subject = &mapping.SubjectDocument{Format: formatWord(says.Subject.Format),
			Expression: says.Subject.Expression}
		if err := (&mapping.Document{Subject: said.Subject}).Unmask(t); err != nil {
			return k.File.at("trusts."+name+".subject", err)
		}
	}
	if t.Reads == nil && says.reads() { // it begins with what the app makes of any provider's
		app, err := k.AnyParty(t.App)
		if err != nil {
			return err
		}
		is.Reading = readingOf(app.Reads)
	}
	base := is
	if k.resets() {
		if base, err = k.begin(name, t.Over(), says, map[string]*federation.Party{}); err != nil {
			return err
		}
		base.ClientID = is.ClientID
	}
	want := merged(base, &said, k.TakeAway)
	x, err := k.terms(name, is, want)
	if err != nil {
		return err
	}
	if !reflect.DeepEqual(x, desk.Terms{}) {
		if _, err := k.ChangeTrust(name, x); err != nil {
			return k.at(name, err)
		}
	}
	if !reflect.DeepEqual(is.Subject, want.Subject) || !sameRules(is.Claims, want.Claims) {
		doc := mapping.Document{Subject: want.Subject, Claims: want.Claims}
		if _, _, err := (&mapping.Mapper{Book: k.Book}).Replace(name, &doc); err != nil {
			return k.File.at("trusts."+name+".claims", err)
		}
	}
	if err := k.asks(name, is.Asks, want.Asks); err != nil {
		return k.File.at("trusts."+name+".asks", err)
	}
	if err := k.narrow(name, is, want); err != nil {
		return k.File.at("trusts."+name+".narrowed", err)
	}
	return k.File.at("trusts."+name+".arrival", k.arrival(name, is.Arrival, want.Arrival))
}

// resets reports whether what is declared nowhere goes back to what a new record begins with.
func (k *Enactor) resets() bool { return k.TakeAway && k.File.Covers == Everything }

// at puts the place of the field that an error names first into it.
func (k *Enactor) at(trust string, err error) error {
	path := "trusts." + trust
	text := finding.Say(err, key)
	first, _, _ := strings.Cut(text, " ")
	if k.File.lines[path+"."+first] > 0 {
		return &Error{Line: k.File.lines[path+"."+first], Path: path, Err: err}
	}
	return k.File.at(path, err)
}

// sameRules reports whether two lists have the same rules, whatever their order.
func sameRules(a, b []mapping.ClaimDocument) bool {
	by := func(list []mapping.ClaimDocument) []mapping.ClaimDocument {
		return slices.SortedFunc(slices.Values(list), func(x, y mapping.ClaimDocument) int {
			return strings.Compare(x.Claim, y.Claim)
		})
	}
	return len(a) == len(b) && (len(a) == 0 || reflect.DeepEqual(by(a), by(b)))
}

func (k *Enactor) federate(name string, says *Trust) (*federation.Trust, error) {
	app, provider, _ := strings.Cut(name, "@")
	over := says.Over
	if !slices.Contains(federation.Protocols(), over) {
		says := strconv.Quote(over)
		if over == "" {
			says = "it is missing"
		}
		return nil, k.File.errorf("trusts."+name+".over", "%s: write %s", says,
			strings.Join(federation.Protocols(), " or "))
	}
	t, _, err := k.Federate(over, app, provider, says.ClientID, desk.Terms{})
	return t, k.at(name, err)
}

// named gives the rules that say no name of their claim in a message the one that they would get from claims set.
func (k *Enactor) named(t *federation.Trust, list []mapping.ClaimDocument) ([]mapping.ClaimDocument, error) {
	if list == nil {
		return nil, nil
	}
	app, err := k.AnyParty(t.App)
	if err != nil {
		return nil, err
	}
	doc := mapping.Document{Claims: slices.Clone(list)}
	if err := doc.Unmask(t); err != nil {
		return nil, k.File.at("trusts."+t.Name+".claims", err)
	}
	out := doc.Claims
	for i, c := range out {
		out[i].Name, out[i].NameFormat = desk.ClaimName(t, app, c.Claim, c.Name, c.NameFormat)
		if r := c.Roles; r != nil && r.Several == "" {
			with := *r
			with.Several = "first"
			out[i].Roles = &with
		}
	}
	return out, nil
}

// reads reports whether something is said of what the app makes of what arrives.
func (r *Reading) reads() bool { return len(r.Reads) > 0 || r.AccountKey+r.RoleField+r.Strangers != "" }

// terms are what a declaration has otherwise than a trust. What the protocol does not know is refused when it is
// applied.
func (k *Enactor) terms(name string, is, want *Trust) (x desk.Terms, err error) {
	x = desk.Terms{Admits: changed(is.Admits, want.Admits), Strength: changed(is.Strength, want.Strength),
		Owner: cleared(is.Owner, want.Owner), Reads: reading(is.Reading, want.Reading),
		Signs: changed(is.Signs, want.Signs), SignsRequests: switched(is.SignRequests, want.SignRequests),
		Unsolicited: switched(is.Unsolicited, want.Unsolicited), AllowSHA1: switched(is.SHA1, want.SHA1),
		ForceAuthn: switched(is.ForceAuthn, want.ForceAuthn), IsPassive: switched(is.IsPassive, want.IsPassive)}
	said, err := judge.ReadVouching(want.SpeaksFor)
	if err != nil {
		return x, k.File.errorf("trusts."+name+".speaksFor", "%v", err)
	}
	if !slices.Equal(is.SpeaksFor, said.Said) {
		if x.SpeaksFor = want.SpeaksFor; len(x.SpeaksFor) == 0 {
			x.SpeaksFor = []string{"none"}
		}
	}
	if is.Encrypt != want.Encrypt {
		on, required := want.Encrypt != "off", want.Encrypt == "required"
		if !required && want.Encrypt != "on" && on {
			return x, k.File.errorf("trusts."+name+".encrypt", "%q: write off, on or required", want.Encrypt)
		}
		x.Encrypts, x.PlainRefused = &on, &required
	}
	for _, what := range slices.Sorted(maps.Keys(want.Ends)) {
		if is.Ends[what] != want.Ends[what] {
			x.Ends = append(x.Ends, what+"="+want.Ends[what])
		}
	}
	for _, what := range slices.Sorted(maps.Keys(is.Ends)) {
		if _, still := want.Ends[what]; !still {
			x.Ends = append(x.Ends, what+"=none")
		}
	}
	x.Policy = desk.PolicyTerms{Session: changed(is.Session, want.Session),
		AccessToken: changed(is.AccessToken, want.AccessToken), IDToken: changed(is.IDToken, want.IDToken),
		Refresh: changed(is.Refresh, want.Refresh), RefreshIdle: changed(is.RefreshIdle, want.RefreshIdle),
		Auth: changed(is.ClientAuth, want.ClientAuth), ClientID: changed(is.ClientID, want.ClientID),
		SignInFrom: networks(is.SignInFrom, want.SignInFrom), RefreshFrom: networks(is.RefreshFrom, want.RefreshFrom),
		SingleSignOut: switched(is.SingleSignOut, want.SingleSignOut),
		OfflineEnds:   switched(is.OfflineEnds, want.OfflineEnds), Device: switched(is.Device, want.Device),
		Pushed: switched(is.PushedRequests, want.PushedRequests), PKCE: switched(is.PKCE, want.PKCE),
		AsItself: switched(is.AsItself, want.AsItself), Objects: switched(is.RequestObjects, want.RequestObjects),
		Bound: changed(is.BoundTokens, want.BoundTokens), Profile: changed(is.Profile, want.Profile)}
	if !slices.Equal(sorted(is.RedirectURIs), sorted(want.RedirectURIs)) {
		x.Policy.Redirects = orNone(is.RedirectURIs, want.RedirectURIs)
	}
	path := "trusts." + name
	if cert := string(k.Read[path+".clientCert"]); cert != "" && cert != is.ClientCert {
		x.Policy.Certificates = cert
	}
	if ca := string(k.Read[path+".clientCertCA"]); want.ClientCertName != "" &&
		(ca != is.ClientCertCA || is.ClientCertName != want.ClientCertName) {
		x.Policy.CertificateName, x.Policy.CertificateCA = want.ClientCertName, ca
	}
	at, ref := want.ClientKeysAt, "clientKey"
	if k.File.Trusts[name].ClientKeysAt != "" {
		ref = "clientKeysAt"
	} else if k.File.Trusts[name].ClientKey != "" {
		at = ""
	}
	raw := k.Read[path+"."+ref]
	if raw == nil {
		return x, nil
	}
	jwks, err := desk.ClientKeys(raw)
	if err != nil {
		return x, k.File.at(path+"."+ref, err)
	}
	if is.ClientKey == jwks && is.ClientKeysAt == at {
		return x, nil
	}
	x.Policy.ClientKeys, x.Policy.ClientKeysAt = jwks, at
	x.Policy.ClientKeysTLS = federation.Server{CA: string(k.Read[path+".clientKeysCA"]), Pin: want.ClientKeysPin}
	return x, nil
}

// changed is the wanted value where it is another one.
func changed(is, want string) string {
	if is == want {
		return ""
	}
	return want
}

// cleared is the same for a value that none takes away.
func cleared(is, want string) string {
	if is != "" && want == "" {
		return "none"
	}
	return changed(is, want)
}

// switched is the wanted state of a switch where it is another one.
func switched(is, want *bool) *bool {
	if want == nil || is != nil && *is == *want {
		return nil
	}
	return want
}

func networks(is, want []string) string {
	switch {
	case slices.Equal(sorted(is), sorted(want)):
		return ""
	case len(want) == 0:
		return "anywhere"
	}
	return strings.Join(want, ",")
}

func (k *Enactor) asks(trust string, is, want *Asks) error {
	if want == nil {
		return nil
	}
	if is == nil {
		is = &Asks{}
	}
	for _, x := range []struct {
		as       string
		is, want []string
	}{{federation.AsUser, is.User, want.User}, {federation.AsSelf, is.Self, want.Self}} {
		if fresh := without(x.want, x.is); len(fresh) > 0 {
			if _, err := k.Ask(trust, fresh, x.as, nil); err != nil {
				return err
			}
		}
		if gone := without(x.is, x.want); len(gone) > 0 {
			if _, err := k.Drop(trust, gone, x.as); err != nil {
				return err
			}
		}
	}
	return nil
}

// narrow narrows what a trust asks for as is declared; what is declared no more is asked for as a whole.
func (k *Enactor) narrow(trust string, is, want *Trust) error {
	if want.Asks == nil {
		return nil
	}
	as := func(label string) string {
		if slices.Contains(want.Asks.Self, label) {
			return federation.AsSelf
		}
		return federation.AsUser
	}
	for _, label := range slices.Sorted(maps.Keys(want.Narrowed)) {
		n, was := want.Narrowed[label], is.Narrowed[label]
		if n == nil || was != nil && reflect.DeepEqual(was, n) {
			continue
		}
		if !slices.Contains(want.Asks.User, label) && !slices.Contains(want.Asks.Self, label) {
			return k.File.errorf("trusts."+trust+".narrowed", "%s is not among what it asks for", label)
		}
		if _, err := k.Ask(trust, []string{label}, as(label), &federation.Narrowed{Records: n.Records,
			Most: n.Most}); err != nil {
			return err
		}
	}
	for _, label := range slices.Sorted(maps.Keys(is.Narrowed)) {
		asked := slices.Contains(want.Asks.User, label) || slices.Contains(want.Asks.Self, label)
		if want.Narrowed[label] == nil && asked {
			if _, err := k.Ask(trust, []string{label}, as(label), &federation.Narrowed{}); err != nil {
				return err
			}
		}
	}
	return nil
}

// without are those of a list that are not in another.
func without(list, in []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(s string) bool { return slices.Contains(in, s) })
}

func (k *Enactor) arrival(trust string, is, want *Arrival) error {
	switch {
	case want == nil && is != nil && k.resets():
		_, err := (&arrivals.Router{Book: k.Book}).Forget(trust)
		return err
	case want == nil || reflect.DeepEqual(is, want):
		return nil
	}
	in := federation.Arrival{Unknown: want.Unknown, Known: want.Known, Bind: want.Bind, Groups: want.Groups}
	for _, f := range slices.Sorted(maps.Keys(want.Takes)) {
		in.Takes = append(in.Takes, federation.Fill{Field: f, From: want.Takes[f]})
	}
	if in.Groups != nil && len(in.Groups) == 0 {
		in.Groups = []string{"none"}
	}
	_, err := (&arrivals.Router{Book: k.Book}).Set(trust, in)
	return err
}

func (k *Enactor) routes() error {
	r := &arrivals.Router{Book: k.Book}
	have, err := r.Routes()
	if err != nil {
		return err
	}
	for _, domain := range slices.Sorted(maps.Keys(k.File.Routes)) {
		provider := k.File.Routes[domain]
		if i := slices.IndexFunc(have, func(x federation.Route) bool { return x.Domain == domain }); i >= 0 {
			if strings.HasSuffix(have[i].Trust, "@"+provider) {
				continue
			}
			if err := r.Unroute(have[i].Domain); err != nil {
				return err
			}
		}
		if _, err := r.Route(domain, provider); err != nil {
			return k.File.at("routes."+domain, err)
		}
	}
	return nil
}

// runner keeps expectations.
func (k *Enactor) runner() *expect.Runner { return &expect.Runner{Player: &play.Player{Book: k.Book}} }

func (k *Enactor) expectations() error {
	have, err := k.Expectations("")
	if err != nil {
		return err
	}
	for i := range k.File.Expectations {
		says := &k.File.Expectations[i]
		path := fmt.Sprintf("expectations[%d]", i)
		if p, err := k.Person(says.As); err == nil {
			says.As = p.ID // letter case does not count
		}
		if slices.ContainsFunc(have, func(e federation.Expected) bool {
			return named(reflect.ValueOf(expectationOf(&e))) == named(reflect.ValueOf(*says))
		}) {
			continue
		}
		e, err := says.expected()
		if err == nil {
			err = k.runner().Add(e)
		}
		if err != nil {
			return k.File.at(path, err)
		}
	}
	return nil
}

func (x *Expectation) expected() (*federation.Expected, error) {
	e := &federation.Expected{Trust: x.Trust, As: x.As, Refused: x.Refused, By: x.By, Claims: x.Claims,
		Without: x.Without, Account: x.Account, Subject: x.Subject, Answered: x.Answered, Denied: x.Denied,
		Note: x.Note}
	for what, s := range x.AtMost {
		d, err := desk.ParseSpan(s)
		if err != nil {
			return nil, err
		}
		if e.AtMost == nil {
			e.AtMost = map[string]int{}
		}
		e.AtMost[what] = int(d.Seconds())
	}
	return e, nil
}

func (x *Expectation) words() string {
	e, err := x.expected()
	if err != nil {
		return err.Error()
	}
	return e.Words()
}

// takeAway takes away what a charter that covers everything does not declare. A live trust is ended by a person, who
// sees whom that locks out.
func (k *Enactor) takeAway() error {
	if !k.TakeAway {
		return nil
	}
	for name, a := range k.File.Apps {
		if a.API != nil && a.API.Permissions != nil {
			if err := k.unpublish(name, a.API); err != nil {
				return err
			}
		}
	}
	if k.File.Covers != Everything {
		return nil
	}
	list, err := k.Expectations("")
	if err != nil {
		return err
	}
	for i := range list {
		if !slices.ContainsFunc(k.File.Expectations, func(x Expectation) bool {
			return named(reflect.ValueOf(expectationOf(&list[i]))) == named(reflect.ValueOf(x))
		}) {
			if _, err := k.runner().Remove(list[i].ID); err != nil {
				return err
			}
		}
	}
	r := &arrivals.Router{Book: k.Book}
	routes, err := r.Routes()
	if err != nil {
		return err
	}
	for _, x := range routes {
		if _, declared := k.File.Routes[x.Domain]; !declared {
			if err := r.Unroute(x.Domain); err != nil {
				return err
			}
		}
	}
	trusts, err := k.Trusts()
	if err != nil {
		return err
	}
	for _, t := range trusts {
		switch {
		case k.File.Trusts[t.Name] != nil:
		case t.Standing == federation.Live || t.Standing == federation.Paused:
			return finding.Advise(fmt.Errorf("%s is %s and is not declared: a charter ends no trust that "+
				"people sign in "+
				"through", t.Name, t.Standing), finding.Run("trust", "end", t.Name))
		default:
			if err := k.RemoveTrust(t.Name); err != nil {
				return err
			}
		}
	}
	return k.removeParties()
}

func (k *Enactor) unpublish(name string, says *API) error {
	p, err := k.API(name)
	if err != nil {
		return err
	}
	for left := p.API.Permissions; ; { // those that include others go before them
		var later []federation.Permission
		var last error
		for _, x := range left {
			if says.Permissions[x.Name] != nil {
				continue
			}
			if err := k.Unpublish(name, x.Name); err != nil {
				later, last = append(later, x), err
			}
		}
		if len(later) == 0 || len(later) == len(left) {
			return k.File.at("apps."+name+".api.permissions", last)
		}
		left = later
	}
}

func (k *Enactor) removeParties() error {
	parties, err := k.Parties("")
	if err != nil {
		return err
	}
	for _, p := range parties {
		if k.File.Providers[p.Name] != nil || k.File.Apps[p.Name] != nil {
			continue
		}
		if err := k.RemoveParty(p.Kind, p.Name); err != nil {
			return err
		}
	}
	return nil
}

// secrets makes those that are declared where a client has none that is valid.
func (k *Enactor) secrets() ([]Made, error) {
	var out []Made
	for _, name := range slices.Sorted(maps.Keys(k.File.Trusts)) {
		says := k.File.Trusts[name].Secret
		if says == nil {
			continue
		}
		path := "trusts." + name + ".secret"
		have, err := k.Secrets(name)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(have, desk.Valid(k.Now())) {
			continue
		}
		life, err := desk.ParseSpan(says.Lasts)
		if err != nil {
			return nil, k.File.at(path, err)
		}
		s, value, _, err := k.AddSecret(name, life, says.Note)
		if err != nil {
			return nil, k.File.at(path, err)
		}
		out = append(out, Made{Trust: name, ID: s.ID, Value: value, Secret: *says})
	}
	return out, nil
}

package desk

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/plain"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
	"tressik.example/internal/work/handoff"
)

// Terms are what can be said about a trust. Nil and empty leave things as they are or as they follow from the metadata.
type Terms struct {
	Admits        string
	Strength      string
	Signs         string
	Encrypts      *bool
	PlainRefused  *bool
	SignsRequests *bool
	Unsolicited   *bool
	AllowSHA1     *bool
	ForceAuthn    *bool
	IsPassive     *bool
	// domains for which the provider may speak; none alone takes them away
	SpeaksFor []string
	Owner     string // whom to ask about it; none takes it away
	// what ends at the foreign side: WHAT=DATE, WHAT=unused:SPAN, or WHAT=none, which takes it away
	Ends []string
	// how the app reads what this provider sends; as-app in Reads has it read as what any provider sends
	Reads  federation.MappingInput
	Policy PolicyTerms
}

func (d *Desk) apply(t *federation.Trust, x Terms) error {
	if x.Admits != "" {
		var err error
		if t.Admits, err = d.Admitting(x.Admits); err != nil {
			return err
		}
	}
	switch {
	case x.Owner == "none":
		t.Owner = ""
	case x.Owner != "":
		if err := model.CheckMail(finding.FieldOwner, x.Owner); err != nil {
			return err
		}
		t.Owner = x.Owner
	}
	if x.SpeaksFor != nil {
		if err := d.speaksFor(t, x.SpeaksFor); err != nil {
			return err
		}
	}
	if !x.Reads.IsZero() {
		if err := d.reads(t, x.Reads); err != nil {
			return err
		}
	}
	for _, e := range x.Ends {
		if err := d.ends(t, e); err != nil {
			return err
		}
	}
	if x.Strength != "" {
		if err := federation.CheckStrength(x.Strength); err != nil {
			return err
		}
		t.Strength = x.Strength
	}
	if err := over(t).apply(t, x); err != nil {
		return err
	}
	if id := x.Policy.ClientID; id != "" {
		provider, err := d.AnyParty(t.Provider)
		if err != nil {
			return err
		}
		if provider.Own {
			return finding.Errorf("%s is %w: %s is own, and issued the client ID itself", finding.FieldClientID,
				ErrValue, t.Provider)
		}
	}
	if p := x.Policy; p.PKCE == nil && p.AsItself == nil && p.Device == nil && p.Pushed == nil && p.Objects == nil &&
		p.Profile == "" && p.Bound == "" && (p.Auth == "" || p.Auth == "any") && len(p.Redirects) == 0 {
		return nil
	}
	app, err := d.View.Party(t.App)
	if err != nil {
		return err
	}
	return fitsClient(t, app, x.Policy)
}

// speaksFor says for which domains the provider of a trust may speak.
func (d *Desk) speaksFor(t *federation.Trust, list []string) error {
	if slices.Equal(list, []string{"none"}) {
		t.SpeaksFor = nil
		return nil
	}
	if len(list) == 0 {
		return finding.Errorf("%s is empty: %w; write DOMAIN, or none", finding.FieldSpeaksFor, ErrValue)
	}
	app, err := d.AnyParty(t.App)
	if err != nil {
		return err
	}
	if t.Terms.Machine(app) {
		return finding.Errorf("%s is %w: nobody signs in through %s", finding.FieldSpeaksFor, ErrValue, t.Name)
	}
	v, err := judge.ReadVouching(list)
	if err != nil {
		return finding.Errorf("%s %w", finding.FieldSpeaksFor, err)
	}
	for _, x := range v.Tenants { // as the message has it: a friendly name is anybody's to write
		if name, _ := over(t).name(x.Claim, ClaimInput{}, app); name != x.Claim {
			return finding.Errorf("%s %s=… is %w: write the attribute's name in the message, %s=%s",
				finding.FieldSpeaksFor, x.Claim, ErrValue, name, x.Values[0])
		}
	}
	if v.ByScopes {
		if err := d.claimsScopes(t); err != nil {
			return err
		}
	}
	t.SpeaksFor = v.Said
	return nil
}

// claimsScopes reports that the provider of a trust has no scope for which it could speak. Errors: ErrValue.
func (d *Desk) claimsScopes(t *federation.Trust) error {
	p, err := d.View.Party(t.Provider)
	if err != nil {
		return err
	}
	if len(t.Terms.Scopes(p)) > 0 {
		return nil
	}
	return finding.Errorf("%s %s is %w: what %s publishes over %s has none; write DOMAIN", finding.FieldSpeaksFor,
		judge.OfScopes, ErrValue, p.Name, federation.ProtocolTitle(t.Over()))
}

// reads says how the app of a trust reads what its provider sends.
func (d *Desk) reads(t *federation.Trust, in federation.MappingInput) error {
	if slices.Equal(in.Reads, []string{"as-app"}) {
		t.Reads = nil
		return nil
	}
	app, err := d.AnyParty(t.App)
	if err != nil {
		return err
	}
	if t.Terms.Machine(app) {
		return finding.Errorf("%s is %w: nobody signs in through %s, so that nothing arrives of a person",
			finding.FieldReads, ErrValue, t.Name)
	}
	t.Reads, err = t.Reading(app).Change(in)
	return err
}

// ends enters what ends at the foreign side of a trust, or takes it away.
func (d *Desk) ends(t *federation.Trust, word string) error {
	bad := func(why string) error {
		return finding.Errorf("%s %q is %w: %s", finding.FieldEnds, word, ErrValue, why)
	}
	what, when, ok := strings.Cut(word, "=")
	if what = strings.TrimSpace(what); !ok || what == "" || len(what) > 80 {
		return bad("write WHAT=2032-03-04, WHAT=unused:90d, or WHAT=none")
	}
	e := federation.End{What: what, Since: d.Now().UTC()}
	rest := slices.DeleteFunc(slices.Clone(t.Ends), func(x federation.End) bool { return x.What == what })
	span, unused := strings.CutPrefix(when, "unused:")
	switch {
	case when == "none" && len(rest) == len(t.Ends):
		return bad("nothing of that name is entered")
	case when == "none":
		t.Ends = rest
		return nil
	case unused:
		s, err := ParseSpan(span)
		if err != nil {
			return bad(err.Error())
		}
		e.Unused = int(s.Seconds())
	default:
		at, err := time.Parse(time.DateOnly, when)
		if ahead, no := ParseSpan(when); no == nil {
			at, err = d.Now().UTC().Truncate(24*time.Hour).Add(ahead), nil
		}
		if err != nil {
			return bad("write the day as 2032-03-04, or how far ahead it is, as 180d")
		}
		e.At = at
	}
	t.Ends = append(rest, e)
	return nil
}

// freshSAML is the trust between an app and a provider over SAML as a new one begins: all that follows from their
// metadata is filled in. Errors: ErrClientID, *UnknownError.
func (d *Desk) freshSAML(appName, providerName, clientID string) (*federation.Trust, error) {
	if clientID != "" {
		return nil, ErrClientID
	}
	app, err := d.Party(federation.App, appName)
	if err != nil {
		return nil, err
	}
	provider, err := d.Party(federation.Provider, providerName)
	if err != nil {
		return nil, err
	}
	return d.samlBetween(app, provider)
}

// samlBetween is freshSAML of parties that were read.
func (d *Desk) samlBetween(app, provider *federation.Party) (*federation.Trust, error) {
	if app.Entity.SP == nil || provider.Entity.IDP == nil {
		return nil, noSAML(app, provider)
	}
	sp, idp := app.Entity.SP, provider.Entity.IDP
	format, _ := federation.PickFormat(sp, idp)
	terms := &federation.SAMLTerms{Signs: "assertion", SignsRequests: sp.RequestsSigned || idp.WantRequestsSigned}
	for _, k := range sp.Keys {
		terms.Encrypts = terms.Encrypts || k.Use == "encryption"
	}
	return federation.NewTrust(app, provider, format, terms, d.Now()), nil
}

// federateSAML makes the trust between an app and a provider over SAML: all that follows from their metadata is filled
// in, both sides are compared. Errors: *UnknownError, model.ErrExists.
func (d *Desk) federateSAML(appName, providerName, clientID string, x Terms) (*federation.Trust, finding.List, error) {
	t, err := d.freshSAML(appName, providerName, clientID)
	if err != nil {
		return nil, nil, err
	}
	if err := d.apply(t, x); err != nil {
		return nil, nil, err
	}
	if err := d.makeTrust(t); err != nil {
		return nil, nil, err
	}
	return d.comparedNew(t)
}

// comparedNew compares both sides of a trust that was just made.
func (d *Desk) comparedNew(t *federation.Trust) (*federation.Trust, finding.List, error) {
	_, app, provider, err := d.Trust(t.Name)
	if err != nil {
		return nil, nil, err
	}
	found, err := d.Sides().Compare(t, app, provider)
	return t, found, err
}

// Admitting reads a rule of admission. Somebody who is named by their mail address is admitted by the name that the
// ledger has of them: who signs in is known by that alone. Errors: federation.ErrAdmits.
func (d *Desk) Admitting(rule string) (string, error) {
	a, err := federation.ReadAdmission(rule)
	if err != nil {
		return "", err
	}
	for _, id := range a.Persons {
		p, err := d.Person(id)
		var unknown *UnknownError
		switch {
		case errors.As(err, &unknown): // they may come with the next people that are loaded
		case err != nil:
			return "", err
		case !strings.EqualFold(p.ID, id):
			rule = strings.ReplaceAll(rule, id, p.ID)
		}
	}
	return rule, nil
}

// noSAML says which side has no SAML role, and what to do instead.
func noSAML(app, provider *federation.Party) error {
	p := app
	if app.Entity.SP != nil {
		p = provider
	}
	s := fmt.Sprintf("%s has no SAML side; read its metadata with `tressik %s change %s --metadata SOURCE`", p.Name,
		p.Kind, p.Name)
	if app.Client != nil {
		s += fmt.Sprintf(", or register its client with `tressik federate %s --with %s --over oidc`", app.Name,
			provider.Name)
	}
	return errors.New(s)
}

// change loads a trust, changes a copy and stores it.
func (d *Desk) change(name, action string, f func(*federation.Trust) error) (*federation.Trust, error) {
	old, _, provider, err := d.Trust(name)
	if err != nil {
		return nil, err
	}
	app, err := d.View.Party(old.App) // as it stands: how it is registered is what may change
	if err != nil {
		return nil, err
	}
	if old.Standing == federation.Ended && action != "trust.remove" {
		return nil, fmt.Errorf("%s %w; remove it and federate anew", name, ErrEnded)
	}
	t := old.Clone()
	if err := t.Change(d.Now(), app, provider, f); err != nil {
		return nil, err
	}
	if err := d.Sides().TakeBack(old, t); err != nil {
		return nil, err
	}
	return t, d.Change(func(tx *model.Edit) error { return tx.PutTrust(old, t, action) })
}

// ChangeTrust changes the terms of a trust.
func (d *Desk) ChangeTrust(name string, x Terms) (*federation.Trust, error) {
	return d.change(name, "trust.change", func(t *federation.Trust) error { return d.apply(t, x) })
}

// OnlyWay says of a live trust that it is the only one by which people get into its app, as a sentence with a space
// behind it; "" where it is not live, or not the only one. Errors: *UnknownError.
func (d *Desk) OnlyWay(name string) (string, error) {
	t, app, _, err := d.Trust(name)
	if err != nil || t.Standing != federation.Live {
		return "", err
	}
	all, err := d.TrustsOf(app.Name)
	if err != nil {
		return "", err
	}
	for _, o := range all {
		if o.App == app.Name && o.Name != name && o.Standing == federation.Live {
			return "", nil
		}
	}
	if t.Terms.Machine(app) {
		return app.Name + " gets its tokens through " + name + " alone: afterwards it gets none. ", nil
	}
	return name + " is the only live way into " + app.Name + ": afterwards nobody signs in there through Tressik's " +
		"trusts. ", nil
}

// EndTrust ends a trust: it stays on record and can no longer be used.
func (d *Desk) EndTrust(name string) (*federation.Trust, error) {
	return d.change(name, "trust.end", func(t *federation.Trust) error {
		t.End()
		return nil
	})
}

// SettleStep keeps that a step of the work on a trust was settled by hand.
func SettleStep(d *Desk, trust string, s *model.Settled) error {
	return d.Change(func(tx *model.Edit) error { return tx.Settle(trust, s) })
}

// RemoveTrust takes a trust out of the ledger.
func (d *Desk) RemoveTrust(name string) error {
	t, _, _, err := d.Trust(name)
	if err != nil {
		return err
	}
	return d.Change(func(tx *model.Edit) error { return tx.RemoveTrust(t) })
}

// ClaimInput is what claims set is told.
type ClaimInput struct {
	Assign        []string // CLAIM=EXPRESSION
	Name          string   // SAML attribute name, for a single assignment
	NameFormat    string
	Subject       *string
	SubjectFormat string
	When          string        // condition, for a single assignment; none takes it away
	Single        bool          // one value alone, for a single assignment
	Roles         *claims.Roles // the table that the single assignment is made of
}

// SetClaims sets rules and the subject of a trust. Expressions that do not compile are refused with a
// *claims.CompileError. The second result has hints on attributes that nobody in the ledger has.
func (d *Desk) SetClaims(name string, in ClaimInput) (*federation.Trust, finding.List, error) {
	engine, err := d.Engine()
	if err != nil {
		return nil, nil, err
	}
	engine = engine.Strict()
	if (in.Name != "" || in.NameFormat != "" || in.When != "" || in.Single) && len(in.Assign) != 1 {
		return nil, nil, finding.Errorf("%s, %s, %s and %s are %w with %d assignments; set that claim by itself",
			finding.FieldName, finding.FieldNameFormat, finding.FieldWhen, finding.FieldSingle, ErrValue,
			len(in.Assign))
	}
	old, app, _, err := d.Trust(name)
	if err != nil {
		return nil, nil, err
	}
	protocol := over(old)
	if err := protocol.sends(in); err != nil {
		return nil, nil, err
	}
	var hints finding.List
	rules := []claims.Rule{}
	for _, a := range in.Assign {
		claim, expr, ok := strings.Cut(a, "=")
		claim, expr = strings.TrimSpace(claim), strings.TrimSpace(expr)
		if !ok || claim == "" {
			return nil, nil, fmt.Errorf("%q is %w: write CLAIM=EXPRESSION, such as mail=person.mail", a, ErrValue)
		}
		_, there, _ := old.RuleFor(claim)
		if expr, err = claims.Unmasked(expr, expressions(old, there)...); err != nil { // copied from where it was shown
			return nil, nil, fmt.Errorf("claim %s: %w", claim, err)
		}
		prg, err := engine.Compile(expr)
		if err != nil {
			return nil, nil, fmt.Errorf("claim %s: %w", claim, err)
		}
		if err := d.hintReads(&hints, claim, prg); err != nil {
			return nil, nil, err
		}
		r := claims.Rule{Claim: claim, Expression: expr, Single: in.Single, Roles: in.Roles, When: in.When}
		if r.When != "" {
			if prg, err = engine.Condition(r.When); err != nil {
				return nil, nil, finding.Errorf("%s: %w", finding.FieldWhen, err)
			}
			if err := d.hintReads(&hints, claim, prg); err != nil {
				return nil, nil, err
			}
		}
		r.Name, r.NameFormat = protocol.name(claim, in, app)
		for _, text := range []string{claim, r.Name, r.NameFormat} {
			if err := plain.CheckLine(text, 1000); err != nil && text != "" {
				return nil, nil, fmt.Errorf("claim %q is %w: %w", text, ErrValue, err)
			}
		}
		rules = append(rules, r)
	}
	format := ""
	if in.SubjectFormat != "" {
		var ok bool
		if format, ok = saml.FormatByWord(in.SubjectFormat); !ok {
			return nil, nil,
				finding.Errorf("%s %q is %w; write persistent, transient, email, unspecified or a whole identifier",
					finding.FieldSubjectFormat, in.SubjectFormat, ErrValue)
		}
		if err := protocol.subject(format); err != nil {
			return nil, nil, err
		}
	}
	subject := ""
	if in.Subject != nil && *in.Subject != "" {
		if subject, err = claims.Unmasked(*in.Subject, expressions(old, old.Subject)...); err != nil {
			return nil, nil, fmt.Errorf("subject: %w", err)
		}
		prg, err := engine.Compile(subject)
		if err != nil {
			return nil, nil, fmt.Errorf("subject: %w", err)
		}
		if err := d.hintReads(&hints, "subject", prg); err != nil {
			return nil, nil, err
		}
	}
	t, err := d.change(name, "claims.set", func(t *federation.Trust) error {
		for _, r := range rules {
			t.Rules = claims.Set(t.Rules, r)
		}
		if format != "" {
			t.SubjectFormat = format
		}
		if in.Subject != nil {
			t.Subject = subject
		}
		return nil
	})
	return t, hints, err
}

// expressions are those of a trust, with the one that is to be replaced first.
func expressions(t *federation.Trust, first string) []string {
	out := []string{first, t.Subject}
	for _, r := range t.Rules {
		out = append(out, r.Expression)
	}
	return out
}

// hintReads warns of attributes that nobody in the ledger has.
func (d *Desk) hintReads(out *finding.List, claim string, prg *claims.Program) error {
	census, err := d.View.Census()
	if err != nil || census.People == 0 {
		return err
	}
	names := slices.Sorted(maps.Keys(census.Attributes))
	for _, r := range prg.Reads() {
		if census.Attributes[r] > 0 {
			continue
		}
		somebody := ""
		for p, err := range d.View.EachPerson() { // the first
			if err != nil {
				return err
			}
			somebody = p.ID
			break
		}
		fix := finding.Run("people", "show", somebody)
		if n := near.Names(r, names); len(n) > 0 {
			fix = finding.Do("read person." + strings.Join(n, " or person.") + " in its place")
		}
		out.Add(finding.Finding{ID: finding.ClaimsUnknownAttribute, Level: finding.Warning, Check: "claim " + claim,
			Of: claim, Saw: "person." + r + ", which nobody has",
			Expected: "an attribute that people in the ledger have", Side: finding.Ledger, Fix: fix})
	}
	return nil
}

// DropClaims takes rules away. Unknown ones are an *UnknownError.
func (d *Desk) DropClaims(name string, drop []string) (*federation.Trust, error) {
	return d.change(name, "claims.drop", func(t *federation.Trust) error {
		for _, c := range drop {
			kept := []claims.Rule{}
			var have []string
			for _, r := range t.Rules {
				have = append(have, r.Claim)
				if r.Claim != c {
					kept = append(kept, r)
				}
			}
			if len(kept) == len(t.Rules) {
				return &UnknownError{What: "claim in " + name, Name: c, Near: near.Names(c, have),
					Add: "see `tressik claims list " + name + "`"}
			}
			t.Rules = kept
		}
		return nil
	})
}

func (d *Desk) releaser(t *federation.Trust) (*federation.Releaser, error) {
	return d.Releaser(t, d.Rand)
}

// RenamePerson gives a person another ID. Errors: *UnknownError, model.ErrExists, ErrValue.
func (d *Desk) RenamePerson(name, now string) (*people.Person, error) {
	p, err := d.Person(name)
	if err != nil {
		return nil, err
	}
	if now == "" || len(now) > 255 || strings.ContainsFunc(now, func(r rune) bool {
		return unicode.IsSpace(r) ||
			unicode.In(r, unicode.Cc, unicode.Cf)
	}) {
		return nil, fmt.Errorf("the user name %q is %w: write it without spaces and invisible characters", now,
			ErrValue)
	}
	if err := d.Change(func(tx *model.Edit) error { return tx.RenamePerson(p.ID, now) }); err != nil {
		return nil, err
	}
	return d.Person(now)
}

// Loading says how people are loaded.
type Loading struct {
	Replace bool   // those who are not among them are taken away
	Dry     bool   // nothing is kept
	Home    string // name of the provider at which alone they sign in; "" is any
	// of CSV: the attribute that a column is, by its heading
	Columns map[string]string
}

// Loaded is what came of loading people.
type Loaded struct {
	Added   int `json:"added"`
	Changed int `json:"changed"`
	Read    int `json:"read"`
	Removed int `json:"removed"`
	// attributes that hold secrets
	LeftOut []string `json:"leftOut,omitempty"`
	// until when an API that judges access tokens by itself takes those of people who are removed
	TakenUntil time.Time `json:"takenUntil,omitzero"`
}

// LoadPeople reads persons and groups and keeps them. With replace, those not in the file are removed; with dry,
// nothing is kept.
func (d *Desk) LoadPeople(raw []byte, source string, how Loading) (*Loaded, error) {
	dir, err := people.ReadAs(raw, how.Columns)
	if err != nil {
		return nil, fmt.Errorf("people from %s: %w", source, err)
	}
	if how.Home != "" {
		if _, err := d.Party(federation.Provider, how.Home); err != nil {
			return nil, err
		}
	}
	for i := range dir.Persons {
		dir.Persons[i].Home = how.Home
	}
	n, in := &Loaded{Read: len(dir.Persons), LeftOut: dir.LeftOut}, d.Book
	if how.Dry {
		in = d.Try()
	}
	return n, in.Change(func(tx *model.Edit) (err error) {
		n.Added, n.Changed, n.Removed, err = tx.PutPersons(dir.Persons, how.Replace, source)
		return err
	})
}

// Sides works on what both sides of trusts say and need.
func (d *Desk) Sides() *handoff.Maker { return handoff.New(d.Book) }

// Prepared notes that what a side of a trust needs was written for it, with the keys that stand in it; side is app or
// provider.
func (d *Desk) Prepared(name, side string) error {
	t, app, provider, err := d.Trust(name)
	if err != nil || t.Standing == federation.Ended {
		return err
	}
	other := provider
	if side == "provider" {
		other = app
	}
	if _, had := t.Handed[side]; had && slices.Equal(t.Written[side], other.SignerIDs()) {
		return nil
	}
	_, err = d.change(name, "trust.prepare", func(t *federation.Trust) error {
		t.Prepare(d.Now(), side, other)
		return nil
	})
	return err
}

// Fetched notes that a party fetched what an own one publishes: metadata, or keys. ids are the signing keys that stood
// in it. It is kept of each trust of the two to which that document matters.
func (d *Desk) Fetched(own, by string, f federation.Fetch) error {
	all, err := d.TrustsOf(own)
	if err != nil {
		return err
	}
	for i := range all {
		t := &all[i]
		side := ""
		switch {
		case t.Standing == federation.Ended || t.Terms.Publishes() != f.What:
		case t.App == by && t.Provider == own:
			side = "app"
		case t.Provider == by && t.App == own:
			side = "provider"
		}
		if side == "" {
			continue
		}
		if _, err := d.change(t.Name, "trust.fetch", func(t *federation.Trust) error {
			t.Fetches(side, f)
			return nil
		}); err != nil {
			return err
		}
	}
	return nil
}

// ErrStale means that what was written for a side does not have all that it needs now.
var ErrStale = errors.New("is from before a key was announced")

// HandOver notes that a side of a trust was given what it needs, and to whom; side is app or provider. Errors:
// ErrStale, ErrEnded.
func (d *Desk) HandOver(name, side, to string) (*federation.Trust, error) {
	return d.change(name, "trust.handoff", func(t *federation.Trust) error {
		other := t.Provider
		if side == "provider" {
			other = t.App
		}
		p, err := d.View.Party(other)
		if err != nil {
			return err
		}
		if w, written := t.Written[side]; written {
			for _, id := range p.SignerIDs() {
				if !slices.Contains(w, id) {
					return finding.Advise(fmt.Errorf("what was written for the %s of %s last %w: it "+
						"does not have %s", side,
						name, ErrStale, id), finding.Run("handoff", name, "--for", side).
						Then(finding.Run("handoff", name, "--for", side, "--delivered", to)))
				}
			}
		}
		t.HandOver(d.Now(), side, to, p)
		return nil
	})
}

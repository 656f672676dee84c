package play

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/rehearse"
)

// ErrNobody means that a rehearsal needs a person.
var ErrNobody = finding.Errorf("%s PERSON is missing: who signs in?", finding.FieldAs)

// RehearseInput says what to rehearse.
type RehearseInput struct {
	rehearse.Script
	As     string // the person who signs in
	DryRun bool   // keep nothing
	// where the browser and the app call from, as the provider sees it; the zero value is this machine
	Address netip.Addr
	Sample  bool   // nobody signs with a real key: what is kept of it passes nowhere
	Secret  string // the client's secret, to try the real one
	OnCast  func(*cast.Cast)
	Hear    rehearse.Hear
}

// castOf is the cast of trusts at their own addresses. Parties that real names play with their own keys, in this
// process alone; the others with keys of the stage.
func (d *Player) castOf(names []string, o cast.Options, persons []people.Person, real func(*federation.Party) bool) (
	*cast.Cast, *fresh, error) {
	led := &cast.Ledger{Parties: map[string]*federation.Party{}, Subjects: map[string]federation.SubjectKey{},
		Secrets: map[string][]federation.Secret{}, Consents: map[string][]federation.Consent{},
		People: cast.NewPeople(persons)}
	var err error
	if led.Census, err = d.View.Census(); err != nil {
		return nil, nil, err
	}
	seen := map[string]bool{}
	for _, name := range names {
		if seen[name] {
			return nil, nil, fmt.Errorf("%s is named twice; name each trust once", name)
		}
		seen[name] = true
		t, _, provider, err := d.Trust(name)
		if err != nil {
			return nil, nil, err
		}
		app, err := d.View.Party(t.App) // each trust registers it in its own way
		if err != nil {
			return nil, nil, err
		}
		if t.Standing == federation.Ended {
			return nil, nil, fmt.Errorf("%s %w; it cannot be rehearsed", name, model.ErrEnded)
		}
		led.Trusts = append(led.Trusts, *t)
		led.Parties[app.Name], led.Parties[provider.Name] = app, provider
		if led.Subjects[name], err = d.View.SubjectKey(name); err != nil {
			return nil, nil, err
		}
		if led.Secrets[name], err = d.View.Secrets(name); err != nil {
			return nil, nil, err
		}
		if led.Consents[name], err = d.View.Consents(name); err != nil {
			return nil, nil, err
		}
	}
	apis, err := d.APIs()
	if err != nil {
		return nil, nil, err
	}
	for n, p := range apis {
		if led.Parties[n] == nil {
			led.Parties[n] = p
		}
	}
	made := &fresh{}
	ring := d.newRing(made.add)
	engine, err := d.Engine()
	if err != nil {
		return nil, nil, err
	}
	o.Engine, o.Now, o.Random = engine, d.Now(), d.random
	o.Keys = func(p *federation.Party) cast.Keys {
		if real(p) {
			return &realKeys{d: d, party: p}
		}
		return ring.of(p)
	}
	o.StandIn = func(p *federation.Party) bool { return !real(p) }
	c, err := cast.New(led, o)
	return c, made, err
}

// Rehearse walks through the sign-ins on a stage of its own and keeps the outcome with each trust.
func (d *Player) Rehearse(in RehearseInput) ([]federation.Rehearsal, error) {
	suppose := map[string]cast.Suppose{}
	for _, name := range in.Trusts {
		t, _, _, err := d.Trust(name)
		if err == nil {
			err = t.Registered()
		}
		if err != nil {
			return nil, err
		}
		x, err := d.suppose(t, in)
		if err != nil {
			return nil, err
		}
		if in.Address.IsValid() { // no value of the ledger's is supposed to be another: such a rehearsal counts
			x.From = in.Address
		}
		suppose[name] = x
	}
	for _, c := range in.Call {
		a, err := d.AskOf(c)
		if err != nil {
			return nil, finding.Errorf("%s: %w", finding.FieldCall, err)
		}
		if a.API == "" {
			return nil,
				finding.Errorf("%s %s is %w: it is one of OpenID's own scopes; write API:NAME, such as "+
					"telescope-api:frames.read", finding.FieldCall, c, model.ErrValue)
		}
	}
	var persons []people.Person
	if in.As != "" {
		p, err := d.Person(in.As)
		if err != nil {
			return nil, err
		}
		in.Person, persons = p.ID, []people.Person{*p}
	}
	secrets := map[string]string{}
	real := func(p *federation.Party) bool { return p.Own && !in.Sample }
	c, made, err := d.castOf(in.Trusts, cast.Options{Suppose: suppose, Secret: d.stageSecrets(secrets),
		Holder: cast.Holders(d.Rand, d.Now)}, persons, real)
	if err != nil {
		return nil, err
	}
	for _, x := range c.OIDC {
		if x.Client.Kind.Redirects() && x.Redirect() == "" {
			app := x.Deal.App.Party.Name
			return nil, finding.Advise(fmt.Errorf("%s has no redirect URI yet: nobody can sign in to it", app),
				finding.Run("app", "change", app, "--add-redirect", "URI"))
		}
	}
	if err := in.fits(c); err != nil {
		return nil, err
	}
	used := map[string]time.Time{} // the real secrets that were tried
	notes := op.NoNotes()
	notes.Secret = func(id string, at time.Time) { used[id] = at }
	notes.Keys = clientKeysAt
	s, err := stage.New(stage.Options{Now: d.Now, Rand: d.Rand, Notes: notes, CarryOn: true, Record: true})
	if err != nil {
		return nil, err
	}
	if err := s.Play(c); err != nil {
		return nil, err
	}
	if in.OnCast != nil {
		in.OnCast(c)
	}
	if in.Accounts, err = d.accountsOf(in.Trusts); err != nil {
		return nil, err
	}
	messages, told := NewMessages(persons...), in.Hear.Message
	in.Hear.Message = func(trust, kind, text string) {
		messages.Add(trust, kind, text)
		if told != nil {
			told(trust, kind, text)
		}
	}
	out, err := rehearse.Run(s, in.Script, in.Hear)
	d.keepKeys(made)
	if err != nil || in.DryRun {
		return out, err
	}
	if len(used) > 0 {
		if err := d.keep(func(tx *model.Edit) error { return tx.Saw(model.Sightings{Secrets: used}) }); err != nil {
			return nil, fmt.Errorf("keeping when secrets were used: %w", err)
		}
	}
	return out, d.keepRehearsals(out, messages)
}

// fits reports what of the input does not fit the trusts that are rehearsed.
func (in *RehearseInput) fits(c *cast.Cast) error {
	machines := rehearse.Machines(c, in.Trusts)
	switch {
	case in.As == "" && !machines:
		return ErrNobody
	case in.As != "" && machines:
		return finding.Errorf("%s is the trust of a machine client: nobody signs in there; rehearse it without %s",
			strings.Join(in.Trusts, " and "), finding.FieldAs)
	case in.Account != "" && (machines || len(in.Trusts) > 1):
		return finding.Errorf("%s is %w: it is of one person at the app of one trust", finding.FieldExpectAccount,
			model.ErrValue)
	case len(c.OIDC) == 0 && (len(in.Call) > 0 || in.Scope != "" || in.Secret != ""):
		return finding.Errorf("%s is over SAML: %s, %s and %s are for trusts over OpenID Connect", in.Trusts[0],
			finding.FieldCall, finding.FieldScope, finding.FieldSecretFile)
	}
	return nil
}

// accountsOf is what is known of the accounts of the apps of trusts, where it is said how each finds them.
func (d *Player) accountsOf(trusts []string) (map[string][]accounts.Account, error) {
	out := map[string][]accounts.Account{}
	for _, name := range trusts {
		t, app, _, err := d.Trust(name)
		if err == nil {
			if reads := t.Reading(app); reads != nil && reads.Key != "" {
				out[app.Name], err = d.View.Accounts(app.Name)
			}
		}
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

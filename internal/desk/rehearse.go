package desk

import (
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage"
	"tressik.example/internal/store"
)

// cast makes players of the parties of trusts. Own parties play with their keys out of the ledger; a foreign one is played
// by a stand-in with a key of its own, whose certificate takes the place of the published ones on this stage.
func (d *Desk) cast(trusts []string) ([]*stage.Deal, error) {
	players := map[string]*stage.Player{}
	var deals []*stage.Deal
	for _, name := range trusts {
		t, app, provider, err := d.Trust(name)
		if err != nil {
			return nil, err
		}
		if t.Standing == federation.Ended {
			return nil, fmt.Errorf("%s %w; it cannot be rehearsed", name, ErrEnded)
		}
		x := &stage.Deal{Trust: *t}
		if t.OIDCTerms() != nil {
			if err := d.castOIDC(x, players, app, provider); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
			deals = append(deals, x)
			continue
		}
		for _, p := range []*federation.Party{app, provider} {
			if players[p.Name] == nil {
				if players[p.Name], err = d.player(p); err != nil {
					return nil, fmt.Errorf("%s: %w", p.Name, err)
				}
			}
		}
		x.App, x.Provider = players[app.Name], players[provider.Name]
		if x.Releaser, err = d.releaser(t); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		deals = append(deals, x)
	}
	return deals, nil
}

func (d *Desk) player(p *federation.Party) (*stage.Player, error) {
	e, err := p.Entity.Clone()
	if err != nil {
		return nil, err
	}
	pl := &stage.Player{Party: *p, StandIn: !p.Own, Origin: p.Entity}
	pl.Party.Entity = *e
	if p.Kind == federation.App {
		pl.Home = stage.HomeOf(p)
	}
	pl.Client = p.ClientSide()
	if p.Kind == federation.Provider {
		pl.Client = nil
	}
	if p.Own {
		key, cert, err := d.L.Key(p.Name, "signing")
		if err != nil {
			return nil, err
		}
		pl.Signer = &xmlsec.Signer{Key: key, Certificate: cert, Rand: d.Rand}
		if p.Kind == federation.Provider {
			if pl.JOSE, err = oidc.NewSigner(key); err != nil {
				return nil, err
			}
			pl.OpenID = p.OpenIDOf()
		}
		seal, _, err := d.L.Key(p.Name, "encryption")
		if errors.Is(err, store.ErrNotFound) {
			return pl, nil
		}
		if err != nil {
			return nil, err
		}
		pl.Decrypt, _ = seal.(*rsa.PrivateKey)
		return pl, nil
	}
	return pl, d.standIn(pl)
}

// standIn gives a player a fresh key in place of the party's own.
func (d *Desk) standIn(pl *stage.Player) error {
	key, err := keys.Generate(d.Rand, "rsa-2048")
	if err != nil {
		return err
	}
	cert, err := keys.SelfSign(d.Rand, key, "stand-in for "+pl.Party.Name, "", d.Now(), 24*time.Hour)
	if err != nil {
		return err
	}
	pl.Signer = &xmlsec.Signer{Key: key, Certificate: cert, Rand: d.Rand}
	pl.Decrypt, _ = key.(*rsa.PrivateKey)
	if pl.Party.OpenID != nil {
		if algs := pl.Party.OpenID.Discovery.IDTokenAlgorithms; slices.Contains(algs, "ES256") && !slices.Contains(algs, "RS256") {
			if key, err = keys.Generate(d.Rand, "ecdsa-p256"); err != nil {
				return err
			}
		}
		if pl.JOSE, err = oidc.NewSigner(key); err != nil {
			return err
		}
		doc := pl.Party.OpenID.Discovery
		doc.IDTokenAlgorithms = []string{pl.JOSE.Alg}
		pl.OpenID = &doc
	}
	role := pl.Party.Role()
	if role == nil {
		return nil
	}
	seen := map[string]bool{}
	var out []saml.Key
	for _, k := range append(role.Keys, saml.Key{Use: "signing"}) {
		if (k.Use == "" || k.Use == "signing") && seen[""] || seen[k.Use] {
			continue
		}
		seen[k.Use] = true
		out = append(out, saml.Key{Use: k.Use, Certificate: base64.StdEncoding.EncodeToString(cert.Raw), Methods: k.Methods})
	}
	role.Keys = out
	return nil
}

// Unproven lists what a rehearsal cannot prove, one line for each party played by a stand-in.
func Unproven(deals []*stage.Deal) []string {
	var out []string
	done := map[string]bool{}
	for _, x := range deals {
		for _, p := range []*stage.Player{x.Provider, x.App} {
			if p.StandIn && !done[p.Party.Name] {
				done[p.Party.Name] = true
				out = append(out, fmt.Sprintf("%s is played by a STAND-IN with a key of its own: the real %s was not spoken to",
					p.Party.Name, p.Party.Label()))
			}
		}
	}
	return out
}

// RehearseInput says what to rehearse.
type RehearseInput struct {
	Trusts   []string
	Person   string
	Second   bool // confirm a second factor when asked
	From     string
	Suppose  []string // KEY=VALUE
	DryRun   bool     // keep nothing
	Call     []string // API:PERMISSION to call, over OpenID Connect
	Scope    string   // to ask for, in place of all that the trust asks for on behalf of a user
	Secret   string   // the client's secret, to try the real one
	OnCast   func([]*stage.Deal)
	OnStart  func(trust string)
	OnStep   func(stage.Step)
	OnEvents func([]stage.Event)

	OnMessage func(trust, kind, text string) // each SAML message as the browser carried it, and each token
}

// Rehearse walks through the sign-ins on a stage of its own and keeps the outcome with each trust.
func (d *Desk) Rehearse(in RehearseInput) ([]federation.Rehearsal, error) {
	deals, err := d.cast(in.Trusts)
	if err != nil {
		return nil, err
	}
	person := &people.Person{}
	services, over := 0, 0
	for _, x := range deals {
		if err := d.suppose(x, in.Suppose); err != nil {
			return nil, err
		}
		if x.Trust.OIDCTerms() != nil {
			x.Suppose.Scope = in.Scope
			if len(in.Call) > 0 {
				x.First = in.Call[0]
			}
			if in.Secret != "" {
				x.Suppose.Secret = in.Secret
			}
			over++
		}
		if isService(x) {
			services++
		}
	}
	for _, c := range in.Call {
		a, err := d.askOf(c)
		if err != nil {
			return nil, fmt.Errorf("--call: %w", err)
		}
		if a.API == "" {
			return nil, fmt.Errorf("--call %s is %w: it is one of OpenID's own scopes; write API:NAME, such as telescope-api:frames.read", c, ErrValue)
		}
	}
	if over == 0 && (len(in.Call) > 0 || in.Scope != "" || in.Secret != "") {
		return nil, fmt.Errorf("%s is over SAML: --call, --scope and --secret-file are for trusts over OpenID Connect", in.Trusts[0])
	}
	if in.Person != "" || services < len(deals) {
		if in.Person == "" {
			return nil, ErrNobody
		}
		if person, err = d.Person(in.Person); err != nil {
			return nil, err
		}
	}
	var events []stage.Event
	s := &stage.Stage{Deals: deals, People: []people.Person{*person}, Now: d.Now, Rand: d.Rand, CarryOn: true, Record: true}
	if err := d.apis(s); err != nil {
		return nil, err
	}
	used := map[string]time.Time{} // the real secrets that were tried
	s.Book.Saw = func(x stage.Sighting) {
		if x.Secret != "" {
			used[x.Secret] = x.At
		}
	}
	if err := s.Open(); err != nil {
		return nil, err
	}
	w, err := stage.NewWalker(s)
	if err != nil {
		return nil, err
	}
	defer w.Close()
	w.Person, w.Second = person.ID, in.Second
	w.OnStep = func(st stage.Step) {
		if in.OnStep != nil {
			in.OnStep(st)
		}
		if in.OnEvents != nil && len(events) > 0 {
			in.OnEvents(events)
		}
		events = nil
	}
	if in.OnCast != nil {
		in.OnCast(deals)
	}
	var out []federation.Rehearsal
	for i, x := range deals {
		if in.OnStart != nil {
			in.OnStart(x.Trust.Name)
		}
		r := federation.Rehearsal{At: d.Now().UTC(), Trust: x.Trust.Name, Person: person.ID, Suppose: in.Suppose, Verdict: judge.Refused,
			StandIns: []string{}}
		for _, p := range []*stage.Player{x.Provider, x.App} {
			if p.StandIn {
				r.StandIns = append(r.StandIns, p.Party.Name)
			}
		}
		s.Watch = func(e stage.Event) {
			events = append(events, e)
			if e.Trust != x.Trust.Name {
				return
			}
			r.Findings = append(r.Findings, e.Findings...)
			if e.Judged != nil {
				fill(&r, e.Judged)
			}
			if e.Token != nil {
				fillToken(&r, e.Token)
			}
			r.Records = append(r.Records, e.Records...)
			for _, m := range e.Kept {
				if in.OnMessage != nil {
					in.OnMessage(x.Trust.Name, m[0], m[1])
				}
			}
			if e.What == "answer" && !e.Findings.Failed() {
				r.Verdict = judge.Accepted
			}
		}
		if x.Trust.OIDCTerms() != nil {
			found := s.Discover(x)
			w.Server()
			told(in, &r, x.App.Party.Name, "discovery document", found, nil)
		}
		if isService(x) {
			d.rehearseService(s, w, x, in, &r)
			out = append(out, r)
			continue
		}
		w.OnMessage = func(kind, text string) {
			if in.OnMessage != nil {
				in.OnMessage(x.Trust.Name, kind, text)
			}
		}
		w.Note = ""
		if x.Trust.OIDCTerms() != nil {
			w.Note = "nothing yet (the start link is the stage's)"
		} else if in.From != "provider" && x.App.Party.StartLink() == "" {
			w.Note = "nothing yet (the ledger has no start link of the app; this one is the stage's)"
		}
		if err := w.Walk(startOf(x, in.From)); err != nil {
			f := finding.Finding{ID: "walk", Level: finding.Error, Check: "the walk", Saw: err.Error(), Expected: "a way to the app's page",
				Side: finding.Both, Fix: finding.Do("follow the last step above")}
			r.Findings.Add(f)
			if in.OnEvents != nil {
				in.OnEvents([]stage.Event{{Trust: x.Trust.Name, What: "walk", Findings: finding.List{f}}})
			}
		}
		continued(in, &r, i, w.Asked, w.Consented, deals)
		if x.Trust.OIDCTerms() != nil {
			for _, next := range after(x, in, r.Verdict == judge.Accepted) {
				w.Note = next.does
				if err := w.Walk(next.link); err != nil {
					r.Findings.Add(finding.Finding{ID: "walk", Level: finding.Error, Check: "the walk", Saw: err.Error(), Expected: "a page", Side: finding.Both, Fix: finding.Do("follow the last step above")})
				}
			}
		}
		if r.Findings.Failed() {
			r.Verdict = judge.Refused
		}
		if !r.Findings.Failed() && r.Verdict != judge.Accepted {
			r.Findings.Add(finding.Finding{ID: "walk", Level: finding.Error, Check: "the walk", Saw: "it ended before the app judged a response",
				Expected: "a response at the assertion consumer service", Side: finding.Both, Fix: finding.Do("follow the last step above")})
		}
		out = append(out, r)
	}
	if in.DryRun {
		return out, nil
	}
	if len(used) > 0 {
		if err := d.L.Change(func(tx *store.Tx) error { return tx.Saw(store.Sightings{Secrets: used}) }); err != nil {
			return nil, fmt.Errorf("keeping when secrets were used: %w", err)
		}
	}
	return out, d.keep(out)
}

func fill(r *federation.Rehearsal, j *saml.ResponseJudgement) {
	r.Verdict = j.Verdict
	if j.NameID != nil {
		r.Subject, r.Format = j.NameID.Value, j.NameID.Format
	}
	r.Claims = map[string][]string{}
	for _, a := range j.Attributes {
		name := a.Friendly
		if name == "" {
			name = a.Name
		}
		r.Claims[name] = a.Values
	}
}

// startOf is where the walk begins: the app's start link, or the provider's link to the app.
func startOf(x *stage.Deal, from string) string {
	if from == "provider" {
		return stage.LaunchOf(x)
	}
	return stage.StartOf(x)
}

// suppose reads KEY=VALUE: acs, entity-id, clock of the app; key of the provider.
func (d *Desk) suppose(x *stage.Deal, list []string) error {
	for _, s := range list {
		key, v, ok := strings.Cut(s, "=")
		if !ok || v == "" {
			return fmt.Errorf("--suppose %q is %w: write KEY=VALUE", s, ErrValue)
		}
		if x.Trust.OIDCTerms() != nil {
			if err := d.supposeOIDC(x, key, v); err != nil {
				return err
			}
			continue
		}
		switch key {
		case "acs":
			if err := checkURL("--suppose acs", v); err != nil {
				return err
			}
			x.Suppose.ACS = v
		case "entity-id":
			x.Suppose.EntityID = v
		case "clock":
			dur, err := time.ParseDuration(strings.TrimPrefix(v, "+"))
			if err != nil {
				return fmt.Errorf("--suppose clock=%s is %w: write a time span such as +10m or -90s", v, ErrValue)
			}
			x.Suppose.Clock = dur
		case "key":
			if v != "other" {
				return fmt.Errorf("--suppose key=%s is %w: write key=other", v, ErrValue)
			}
			key, err := keys.Generate(d.Rand, "rsa-2048")
			if err != nil {
				return err
			}
			var cert *x509.Certificate
			if cert, err = keys.SelfSign(d.Rand, key, "a key nobody knows", "", d.Now(), 24*time.Hour); err != nil {
				return err
			}
			x.Suppose.Signer = &xmlsec.Signer{Key: key, Certificate: cert, Rand: d.Rand}
		default:
			return fmt.Errorf("--suppose %s is %w: known are acs, entity-id and clock (of the app) and key (of the provider)", key, ErrValue)
		}
	}
	return nil
}

// keep stores rehearsals with their trusts. One with a supposed value says nothing about the ledger's values: it is kept
// and does not move the standing.
func (d *Desk) keep(list []federation.Rehearsal) error {
	for i := range list {
		r := &list[i]
		old, _, _, err := d.Trust(r.Trust)
		if err != nil {
			return err
		}
		t := old.Clone()
		t.Rehearse(r)
		err = d.L.Change(func(tx *store.Tx) error {
			if err := tx.AddRehearsal(r); err != nil {
				return err
			}
			return tx.PutTrust(old, t, "trust.rehearse")
		})
		if err != nil {
			return fmt.Errorf("keeping the rehearsal: %w", err)
		}
	}
	return nil
}

// Stage makes a stage of all trusts that have not ended, for a browser: parties at base/NAME/… close ends its tie to the
// ledger, in which consents and what was seen of permissions are kept.
func (d *Desk) Stage(base string) (s *stage.Stage, close func() error, err error) {
	trusts, err := d.L.Trusts()
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for _, t := range trusts {
		if t.Standing != federation.Ended {
			names = append(names, t.Name)
		}
	}
	if len(names) == 0 {
		return nil, nil, errors.New("there is no trust to play; make one with `tressik federate APP --with PROVIDER`")
	}
	deals, err := d.cast(names)
	if err != nil {
		return nil, nil, err
	}
	persons, err := d.L.Persons()
	if err != nil {
		return nil, nil, err
	}
	b, err := d.newBook(names)
	if err != nil {
		return nil, nil, err
	}
	s = &stage.Stage{Deals: deals, People: persons, Now: d.Now, Rand: d.Rand, Book: b.stage()}
	if err = d.apis(s); err == nil {
		s.Rebase(base)
		err = s.Open()
	}
	if err != nil {
		return nil, nil, errors.Join(err, b.Close())
	}
	return s, b.Close, nil
}

// Package testkit makes what tests work on: ledgers in memory, and histories of what people could have done to one.
package testkit

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand"
	"slices"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
)

// Vault leaves what it seals as it is: nothing of a ledger in memory is kept.
type Vault struct{}

// Seal returns a copy.
func (Vault) Seal(b []byte) ([]byte, error) { return append([]byte{}, b...), nil }

// Open returns a copy.
func (Vault) Open(b []byte) ([]byte, error) { return append([]byte{}, b...), nil }

// Noon is the time at which tests begin.
func Noon() time.Time { return time.Date(2031, 3, 4, 12, 0, 0, 0, time.UTC) }

// Env is what use cases are handed in tests: a clock that stands, randomness out of a seed.
func Env(seed int64) model.Env {
	return model.Env{Now: Noon, Rand: rand.New(rand.NewSource(seed)), Actor: "aiyana", Vault: Vault{}}
}

// History does to a ledger what people could do, one random thing after the other, always something that can be done.
type History struct {
	r    *rand.Rand
	Env  model.Env
	n    int
	key  []model.Opened
	last string
}

// NewHistory begins a history out of a seed. Its clock goes on by a minute with each thing done.
func NewHistory(seed int64) (*History, error) {
	h := &History{r: rand.New(rand.NewSource(seed))}
	h.Env = Env(seed + 1)
	h.Env.Now = func() time.Time { return Noon().Add(time.Duration(h.n) * time.Minute) }
	for range 3 {
		key, err := keys.Generate(h.Env.Rand, "ecdsa-p256")
		if err != nil {
			return nil, err
		}
		cert, err := keys.SelfSign(h.Env.Rand, key, "history", "", Noon(), 24*time.Hour)
		if err != nil {
			return nil, err
		}
		h.key = append(h.key, model.Opened{Key: key, Certificate: cert})
	}
	return h, nil
}

// Last names what was done last.
func (h *History) Last() string { return h.last }

// Do does one thing to what a Book says, which is open for changing.
func (h *History) Do(b *model.Book) error {
	err := b.Attempt(func() error { return b.Change(h.step) })
	if errors.Is(err, model.ErrExists) { // somebody of that name came from elsewhere: refused, and nothing stays
		return nil
	}
	return err
}

func (h *History) step(e *model.Edit) error {
	h.n++
	for range 50 {
		steps := h.steps()
		s := steps[h.r.Intn(len(steps))]
		done, err := s.do(e)
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		if done {
			h.last = s.name
			return nil
		}
	}
	return errors.New("nothing can be done")
}

type step struct {
	name string
	do   func(*model.Edit) (bool, error)
}

// steps are what can be done; each reports whether it could.
func (h *History) steps() []step {
	return []step{{"add a party", h.addParty}, {"change a party", h.changeParty}, {"remove a party", h.removeParty},
		{"add a trust", h.addTrust}, {"change a trust", h.changeTrust}, {"change a trust", h.changeTrust},
		{"remove a trust", h.removeTrust}, {"keep a run", h.keepRun}, {"add a secret", h.addSecret},
		{"add a registrar", h.registrar}, {"register", h.register}, {"retire a secret", h.retireSecret},
		{"consent", h.consent}, {"forget an ask", h.forgetAsk},
		{"load people", h.loadPeople}, {"rename somebody", h.rename}, {"read a source", h.source},
		{"forget a source", h.removeSource}, {"route a domain", h.route}, {"come in", h.arrive},
		{"load accounts", h.accounts}, {"expect", h.expect}, {"expect no longer", h.expectNot}, {"let be", h.letBe},
		{"settle a step", h.settle}, {"add a key", h.addKey}, {"place a key", h.placeKey},
		{"remove a key", h.removeKey},
		{"see uses", h.saw}, {"keep the state of a stage", h.state}, {"read a party again", h.reading},
		{"tell", h.tell}}
}

// pick picks one of a list; ok is false where there is none.
func pick[T any](h *History, list []T) (one T, ok bool) {
	if len(list) == 0 {
		return one, false
	}
	return list[h.r.Intn(len(list))], true
}

func (h *History) trust(e *model.Edit) (t *federation.Trust, ok bool, err error) {
	all, err := e.Trusts()
	x, ok := pick(h, all)
	return &x, ok, err
}

func (h *History) addParty(e *model.Edit) (bool, error) {
	kind := federation.App
	if h.r.Intn(3) == 0 {
		kind = federation.Provider
	}
	name := fmt.Sprintf("%s-%d", kind, h.n)
	p := &federation.Party{Name: name, Kind: kind, Own: h.r.Intn(2) == 0}
	role := &saml.Role{DisplayName: name}
	p.Entity = saml.Entity{ID: "https://" + name + ".example/saml"}
	if kind == federation.Provider {
		p.Entity.IDP = role
	} else {
		p.Entity.SP = role
		if h.r.Intn(3) == 0 {
			p.Client = federation.NewClient(oidc.Web)
		}
		if h.r.Intn(3) == 0 {
			p.API = &federation.API{Audience: "https://" + name + ".example"}
		}
	}
	return true, e.AddParty(p, []byte("<raw "+name+"/>"))
}

func (h *History) party(e *model.Edit) (*federation.Party, bool, error) {
	all, err := e.Parties("")
	x, ok := pick(h, all)
	return &x, ok, err
}

func (h *History) changeParty(e *model.Edit) (bool, error) {
	old, ok, err := h.party(e)
	if err != nil || !ok {
		return false, err
	}
	p := *old
	p.Title = fmt.Sprintf("title %d", h.n)
	if h.r.Intn(2) == 0 {
		p.Entity.ID += "/x"
	}
	return true, e.PutParty(old, &p, []byte(fmt.Sprintf("<raw %d/>", h.n)), h.r.Intn(2) == 0)
}

func (h *History) removeParty(e *model.Edit) (bool, error) {
	p, ok, err := h.party(e)
	if err != nil || !ok || h.r.Intn(2) == 0 {
		return false, err
	}
	err = e.RemoveParty(p)
	if errors.Is(err, model.ErrInUse) {
		return false, nil
	}
	return true, err
}

func (h *History) addTrust(e *model.Edit) (bool, error) {
	apps, err := e.Parties(federation.App)
	if err != nil {
		return false, err
	}
	providers, err := e.Parties(federation.Provider)
	if err != nil {
		return false, err
	}
	app, ok := pick(h, apps)
	provider, also := pick(h, providers)
	if !ok || !also {
		return false, nil
	}
	var terms federation.Terms = &federation.SAMLTerms{Signs: "assertion"}
	if app.Client != nil {
		terms = &federation.OIDCTerms{ClientID: "c", Policy: federation.DefaultPolicy()}
	}
	t := federation.NewTrust(&app, &provider, saml.FormatPersistent, terms, e.Now())
	err = e.AddTrust(t, federation.SubjectKey{Salt: []byte{byte(h.n)}, Anchor: app.Name})
	if errors.Is(err, model.ErrExists) {
		return false, nil
	}
	return true, err
}

func (h *History) changeTrust(e *model.Edit) (bool, error) {
	old, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	t := old.Clone()
	switch h.r.Intn(4) {
	case 3:
		t.Rules = claims.Set(slices.Clone(t.Rules), claims.Rule{Claim: "badge", Name: "badge",
			Expression: fmt.Sprintf("hashed(person.uid, \"salt %d\")", h.n)})
	case 0:
		t.Admits = fmt.Sprintf("group:g%d", h.n)
	case 1:
		t.Owner = fmt.Sprintf("owner%d@kestrelridge.example", h.n)
	default:
		t.Strength = []string{"any", "mfa"}[h.r.Intn(2)]
		t.SpeaksFor = []string{fmt.Sprintf("d%d.example", h.n)}
	}
	return true, e.PutTrust(old, t, "trust.change")
}

func (h *History) removeTrust(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok || h.r.Intn(2) == 0 {
		return false, err
	}
	return true, e.RemoveTrust(t)
}

func (h *History) keepRun(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	return true, e.AddRun(&federation.Run{Kind: federation.ByRehearsal, Rehearsal: federation.Rehearsal{Trust: t.Name,
		At: e.Now(), Verdict: "accepted", StandIns: []string{}}})
}

func (h *History) addSecret(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	return true, e.AddSecret(&federation.Secret{ID: fmt.Sprintf("s%d", h.n), Trust: t.Name, Hash: "h", EndsIn: "abcd",
		Added: e.Now(), Expires: e.Now().Add(time.Hour)})
}

func (h *History) registrar(e *model.Edit) (bool, error) {
	r := &model.Registrar{Registrar: federation.Registrar{Name: fmt.Sprintf("pipeline%d", h.n%3),
		Kinds: []string{"web"}, Uses: h.n, Added: e.Now().UTC().Truncate(time.Second)}, Hash: fmt.Sprint("h", h.n)}
	return true, e.PutRegistrar(r, "registrar.add")
}

func (h *History) register(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	return true, e.PutRegistration(&model.Registration{Registration: federation.Registration{Trust: t.Name,
		Registrar: fmt.Sprintf("pipeline%d", h.n%3), ClientID: fmt.Sprint("c", h.n)}, Hash: fmt.Sprint("h", h.n)},
		"registration.add")
}

func (h *History) retireSecret(e *model.Edit) (bool, error) {
	all, err := e.Secrets("")
	if err != nil {
		return false, err
	}
	s, ok := pick(h, all)
	if !ok || s.Retired != nil {
		return false, nil
	}
	return true, e.RetireSecret(&s)
}

func (h *History) consent(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	c := federation.Consent{Trust: t.Name, API: "api", Name: fmt.Sprintf("p%d", h.r.Intn(3)), As: "user",
		For:      []string{"", "Mira", "tobias"}[h.r.Intn(3)],
		Standing: []string{federation.Consented, federation.Requested, federation.Withdrawn}[h.r.Intn(3)], By: "aiyana",
		At: e.Now()}
	return true, e.Consented([]federation.Consent{c})
}

func (h *History) forgetAsk(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	// it is part of another change, and has no entry of its own
	c := t.Clone()
	c.Owner = "someone@kestrelridge.example"
	return true, errors.Join(e.ForgetAsk(t.Name, federation.Ask{API: "api", Name: "p0", As: "user"}),
		e.PutTrust(t, c, "permission.drop"))
}

func (h *History) somebody() people.Person {
	id := []string{"mira", "Tobias", "ilse", "petra", "noel", "Zoë"}[h.r.Intn(6)]
	p := people.Person{ID: id, Attributes: map[string][]string{"uid": {id}, "n": {fmt.Sprint(h.r.Intn(3))}},
		Groups: []string{}}
	if h.r.Intn(2) == 0 {
		p.Attributes["entryUUID"] = []string{"uuid-" + model.Folded(id)}
	}
	return p
}

func (h *History) crowd() []people.Person {
	var out []people.Person
	seen := map[string]bool{}
	for range 1 + h.r.Intn(4) {
		if p := h.somebody(); !seen[model.Folded(p.ID)] {
			seen[model.Folded(p.ID)] = true
			out = append(out, p)
		}
	}
	return out
}

func (h *History) loadPeople(e *model.Edit) (bool, error) {
	_, _, _, err := e.PutPersons(h.crowd(), h.r.Intn(3) == 0, "people.csv")
	return true, err
}

func (h *History) rename(e *model.Edit) (bool, error) {
	all, err := e.Persons()
	if err != nil {
		return false, err
	}
	p, ok := pick(h, all)
	if !ok {
		return false, nil
	}
	err = e.RenamePerson(p.ID, fmt.Sprintf("renamed%d", h.n))
	return true, err
}

func (h *History) source(e *model.Edit) (bool, error) {
	name := fmt.Sprintf("source%d", h.r.Intn(2))
	if err := e.PutSource(&people.Source{Name: name, At: "/people.csv"}); err != nil {
		return false, err
	}
	var list []people.Person
	for i := range 1 + h.r.Intn(3) {
		id := fmt.Sprintf("%s-%d", name, i)
		list = append(list, people.Person{ID: id, Attributes: map[string][]string{"uid": {id}, "n": {fmt.Sprint(h.n)}},
			Groups: []string{}})
	}
	_, _, _, err := e.PutPersonsOf(name, list)
	return true, err
}

func (h *History) removeSource(e *model.Edit) (bool, error) {
	all, err := e.Sources()
	if err != nil {
		return false, err
	}
	s, ok := pick(h, all)
	if !ok {
		return false, nil
	}
	return true, e.RemoveSource(s.Name)
}

func (h *History) route(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	return true, e.PutRoute(federation.Route{Domain: fmt.Sprintf("d%d.example", h.r.Intn(3)), Trust: t.Name})
}

func (h *History) arrive(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	p := people.Person{ID: fmt.Sprintf("guest%d", h.n), Attributes: map[string][]string{}, Groups: []string{}}
	if _, err := e.PutPerson(&p); err != nil {
		return false, err
	}
	return true, e.Bind(model.Arrival{Trust: t.Name, Subject: fmt.Sprintf("sub%d", h.r.Intn(4)), Person: p.ID}, "made")
}

func (h *History) accounts(e *model.Edit) (bool, error) {
	p, ok, err := h.party(e)
	if err != nil || !ok || p.Kind != federation.App {
		return false, err
	}
	return true, e.PutAccounts(p.Name, "accounts.csv",
		[]accounts.Account{{Line: 2, Fields: map[string][]string{"login": {
			fmt.Sprint(h.n)}}}})
}

func (h *History) expect(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	return true, e.AddExpected(&federation.Expected{Trust: t.Name, As: "mira"})
}

func (h *History) expectNot(e *model.Edit) (bool, error) {
	all, err := e.Expectations("")
	if err != nil {
		return false, err
	}
	x, ok := pick(h, all)
	if !ok {
		return false, nil
	}
	if h.r.Intn(2) == 0 {
		x.Held = e.Now()
		return true, e.Held([]federation.Expected{x})
	}
	return true, e.RemoveExpected(&x)
}

func (h *History) letBe(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	if h.r.Intn(3) == 0 {
		err := e.Reopen("trust.owner", t.Name)
		if errors.Is(err, model.ErrNotFound) {
			return false, nil
		}
		return true, err
	}
	return true, e.Let(&model.Let{Finding: "trust.owner", About: t.Name, Checks: []string{"owner"}, Reason: "later",
		By: "aiyana", At: e.Now(), Until: e.Now().Add(time.Hour)})
}

func (h *History) settle(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	return true, e.Settle(t.Name,
		&model.Settled{ID: finding.StepWatched, Step: "a real sign-in was watched", Waived: true,
			Reason: fmt.Sprint(h.n)})
}

func (h *History) ring(e *model.Edit) (p federation.Party, ring []federation.OwnKey, ok bool, err error) {
	all, err := e.Parties("")
	if err != nil {
		return p, nil, false, err
	}
	p, ok = pick(h, all)
	if !ok || !p.Own {
		return p, nil, false, nil
	}
	ring, err = e.Keys(p.Name)
	return p, ring, true, err
}

func (h *History) addKey(e *model.Edit) (bool, error) {
	p, ring, ok, err := h.ring(e)
	if err != nil || !ok || len(ring) >= len(h.key) {
		return false, err
	}
	for _, k := range h.key {
		there := false
		for _, x := range ring {
			there = there || x.Certificate.Equal(k.Certificate)
		}
		if !there {
			return true, e.AddKey(p.Name, federation.ForSigning, federation.Announced, k.Key, k.Certificate)
		}
	}
	return false, nil
}

func (h *History) placeKey(e *model.Edit) (bool, error) {
	p, ring, ok, err := h.ring(e)
	if err != nil || !ok {
		return false, err
	}
	k, ok := pick(h, ring)
	if !ok {
		return false, nil
	}
	return true, e.PlaceKey(p.Name, &k, []string{federation.Active, federation.Outgoing,
		federation.Announced}[h.r.Intn(3)])
}

func (h *History) removeKey(e *model.Edit) (bool, error) {
	p, ring, ok, err := h.ring(e)
	if err != nil || !ok {
		return false, err
	}
	k, ok := pick(h, ring)
	if !ok {
		return false, nil
	}
	return true, e.RemoveKey(p.Name, &k)
}

func (h *History) saw(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	s := model.Sightings{Uses: []federation.Use{{Trust: t.Name, API: "api", Name: "p0", As: "user", Issued: e.Now()}},
		Secrets: map[string]time.Time{}}
	if all, err := e.Secrets(t.Name); err == nil && len(all) > 0 {
		s.Secrets[all[0].ID] = e.Now()
	}
	return true, e.Saw(s)
}

func (h *History) state(e *model.Edit) (bool, error) {
	t, ok, err := h.trust(e)
	if err != nil || !ok {
		return false, err
	}
	until := e.Now().Add(time.Duration(h.r.Intn(60)) * time.Minute)
	return true, e.KeepState([]oauth.Kept{{UsedCode: fmt.Sprintf("code%d", h.n), Of: "f", Until: until},
		{Revoked: fmt.Sprintf("jti%d", h.n), Until: until},
		{Family: &oauth.Family{ID: fmt.Sprintf("f%d", h.r.Intn(3)), Grant: oauth.Grant{Trust: t.Name}, Until: until}}})
}

func (h *History) reading(e *model.Edit) (bool, error) {
	p, ok, err := h.party(e)
	if err != nil || !ok {
		return false, err
	}
	if h.r.Intn(3) == 0 {
		return true, e.Unread(p.Name)
	}
	return true, e.KeepReadings(map[string]federation.Reading{p.Name: {Outcome: federation.ReadTaken, At: e.Now(),
		Sources: []federation.Fetched{{Source: "https://x.example", ETag: fmt.Sprint(h.n)}}}})
}

func (h *History) tell(e *model.Edit) (bool, error) {
	return true, e.Tell([]string{fmt.Sprintf("item%d", h.n), "item"})
}

// Dump writes all that stands in a ledger at a time, record by record in the order in which it is found, with the
// documents beside them. What a stage kept and is over is left out.
func Dump(w io.Writer, v model.View, now time.Time) error {
	for _, k := range model.Kinds() {
		for r, err := range v.Find(model.Query{Kind: k}) {
			if err != nil {
				return fmt.Errorf("%s: %w", k, err)
			}
			if s, ok := r.(*model.Setting); ok && s.Name == model.SettingHead {
				continue
			}
			if k, ok := r.(*model.Kept); ok && k.Until.Before(now) {
				continue
			}
			b, err := json.Marshal(r)
			if err != nil {
				return err
			}
			doc, err := v.Document(r.Key())
			if err != nil {
				return fmt.Errorf("%v: %w", r.Key(), err)
			}
			fmt.Fprintf(w, "%s %q %s %q\n", k, r.Key().ID, b, doc)
		}
	}
	return nil
}

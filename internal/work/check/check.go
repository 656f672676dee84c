// Package check makes every judgement that needs no network, over parties and trusts at scale: both sides compared,
// redirect URIs, certificates, permissions, secrets, gaps and strangers, proof that is old, trusts without an owner.
package check

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/work/due"
	"tressik.example/internal/work/handoff"
	"tressik.example/internal/work/keyring"
	"tressik.example/internal/work/mapping"
)

// Checker checks what a ledger says.
type Checker struct {
	*model.Book
	Sides  *handoff.Maker
	Keeper *keyring.Keeper
	Mapper *mapping.Mapper
	Within time.Duration // what runs out so soon is said
	Old    time.Duration // proof of a live trust that is older is said
}

// Item is a finding with what it is about, and whether somebody accepted it.
type Item struct {
	About string `json:"about"` // a trust or a party
	Kind  string `json:"kind"`  // trust, provider, app or people
	finding.Finding
	Accepted *Accepted `json:"accepted,omitempty"` // silent until then
}

// Accepted is why a finding is let be, and until when.
type Accepted = model.Let

// Report is what a check found.
type Report struct {
	Parties  int    `json:"parties"`
	Trusts   int    `json:"trusts"`
	Items    []Item `json:"findings"` // errors first; those that passed are counted alone
	Passed   int    `json:"passed"`
	Accepted int    `json:"accepted"`
}

// Failed reports whether an error is found that nobody accepted.
func (r *Report) Failed() bool {
	return slices.ContainsFunc(r.Items, func(x Item) bool { return x.Level == finding.Error && x.Accepted == nil })
}

// Open are the items that nobody accepted.
func (r *Report) Open() []Item {
	return slices.DeleteFunc(slices.Clone(r.Items), func(x Item) bool { return x.Accepted != nil })
}

// state is what a check reads of the ledger, once.
type state struct {
	trusts   []federation.Trust
	parties  map[string]*federation.Party
	apis     map[string]*federation.Party
	secrets  map[string][]federation.Secret
	consents map[string][]federation.Consent
	uses     map[string][]federation.Use
	people   []people.Person
	groups   map[string]int
	ids      map[string]bool
	expected map[string]int
}

// Run checks what is named: parties and trusts; all where nothing is. Errors: *model.UnknownError, those of the ledger.
func (c *Checker) Run(ctx context.Context, names []string) (*Report, error) {
	s, err := c.read()
	if err != nil {
		return nil, err
	}
	about := func(string) bool { return true }
	if len(names) > 0 {
		wanted := map[string]bool{}
		for _, n := range names {
			switch isTrust := strings.Contains(n, "@"); {
			case isTrust:
				_, _, _, err = c.Trust(n)
			default:
				_, err = c.AnyParty(n)
			}
			if err != nil {
				return nil, err
			}
			wanted[n] = true
		}
		about = func(n string) bool {
			app, provider, _ := strings.Cut(n, "@")
			return wanted[n] || wanted[app] || wanted[provider]
		}
	}
	r := &Report{Items: []Item{}}
	add := func(kind, name string, l finding.List) {
		for _, f := range l {
			if f.Level == finding.Pass {
				r.Passed++
				continue
			}
			r.Items = append(r.Items, Item{About: name, Kind: kind, Finding: f})
		}
	}
	for name, p := range s.parties {
		if about(name) {
			r.Parties++
			add(string(p.Kind), name, c.party(p))
		}
	}
	for i := range s.trusts {
		t := &s.trusts[i]
		if !about(t.Name) || t.Standing == federation.Ended {
			continue
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		r.Trusts++
		l, err := c.trust(s, t)
		if err != nil {
			return nil, err
		}
		add("trust", t.Name, l)
	}
	if err := c.runsOut(r, about, s); err != nil {
		return nil, err
	}
	if err := c.accepted(r); err != nil {
		return nil, err
	}
	order(r.Items)
	return r, nil
}

// order puts errors first, then by what they are about.
func order(list []Item) {
	rank := map[finding.Level]int{finding.Error: 0, finding.Warning: 1, finding.Note: 2}
	slices.SortStableFunc(list, func(a, b Item) int {
		if d := rank[a.Level] - rank[b.Level]; d != 0 {
			return d
		}
		if d := strings.Compare(a.About, b.About); d != 0 {
			return d
		}
		return strings.Compare(a.ID+a.Check, b.ID+b.Check)
	})
}

func (c *Checker) read() (*state, error) {
	s := &state{parties: map[string]*federation.Party{}, secrets: map[string][]federation.Secret{},
		consents: map[string][]federation.Consent{}, uses: map[string][]federation.Use{}, groups: map[string]int{},
		ids: map[string]bool{}, expected: map[string]int{}}
	var err error
	if s.trusts, err = c.View.Trusts(); err != nil {
		return nil, err
	}
	parties, err := c.View.Parties("")
	if err != nil {
		return nil, err
	}
	s.apis = map[string]*federation.Party{}
	for i := range parties {
		s.parties[parties[i].Name] = &parties[i]
		if parties[i].API != nil {
			s.apis[parties[i].Name] = &parties[i]
		}
	}
	secrets, err := c.View.Secrets("")
	if err != nil {
		return nil, err
	}
	for _, x := range secrets {
		s.secrets[x.Trust] = append(s.secrets[x.Trust], x)
	}
	consents, err := c.View.Consents("")
	if err != nil {
		return nil, err
	}
	for _, x := range consents {
		s.consents[x.Trust] = append(s.consents[x.Trust], x)
	}
	uses, err := c.View.Uses("")
	if err != nil {
		return nil, err
	}
	for _, x := range uses {
		s.uses[x.Trust] = append(s.uses[x.Trust], x)
	}
	if s.people, err = c.View.Persons(); err != nil {
		return nil, err
	}
	for i := range s.people {
		s.ids[strings.ToLower(s.people[i].ID)] = true
		for _, g := range s.people[i].Groups {
			s.groups[g]++
		}
	}
	list, err := c.Expectations("")
	for _, e := range list {
		s.expected[e.Trust]++
	}
	return s, err
}

// party judges what a party is by itself.
func (c *Checker) party(p *federation.Party) finding.List {
	var out finding.List
	if p.Client != nil {
		out = append(out, p.Client.Judge()...)
	}
	if p.Own || p.ContactMail() != "WHOM" && p.ContactMail() != "" {
		return out
	}
	fix := finding.Do("ask its owner to name one in its metadata, and read that again")
	if p.Client != nil {
		fix = finding.Run("app", "change", p.Name, "--contact", "MAIL")
	}
	out.Add(finding.Finding{ID: "party.contact", Level: finding.Note, Check: "contact of " + p.Name, Saw: "none",
		Expected: "whom to write to when something changes", Side: p.Kind.Side(), Fix: fix})
	return out
}

// trust judges a trust.
func (c *Checker) trust(s *state, t *federation.Trust) (finding.List, error) {
	app, provider := s.parties[t.App], s.parties[t.Provider]
	if app == nil || provider == nil {
		return finding.List{{ID: "trust.party", Level: finding.Error, Check: "parties of " + t.Name,
			Saw:      "one is not in the ledger",
			Expected: "both", Side: finding.Ledger, Fix: finding.Run("journal", "verify")}}, nil
	}
	v := &handoff.View{Trust: t, App: app, Provider: provider, People: s.people, Now: c.Now(),
		ClientState: model.ClientState{APIs: s.apis, Secrets: s.secrets[t.Name], Consents: s.consents[t.Name],
			Uses: s.uses[t.Name]},
		Metadata: func(p *federation.Party) ([]byte, error) { return c.Sides.Metadata(p, handoff.Writing{}) }}
	over := handoff.Of(t)
	out := over.Compare(v)
	out = append(out, over.Thrift(v)...)
	c.admission(s, t, &out)
	c.owned(s, t, &out)
	if app.Reads == nil || app.Reads.Key == "" || over.Machine(v) {
		return out, nil
	}
	return out, c.strangers(t, app, &out)
}

// admission judges whom a trust admits against the people of the ledger.
func (c *Checker) admission(s *state, t *federation.Trust, out *finding.List) {
	if len(s.people) == 0 {
		return
	}
	groups, persons := federation.Admitted(t.Admits)
	fix := finding.Run("trust", "change", t.Name, "--admits", "group:NAME")
	for _, g := range groups {
		if s.groups[g] == 0 {
			out.Add(finding.Finding{ID: "trust.admits", Level: finding.Warning, Check: "who may sign in",
				Saw: "the group " + g + ", in which nobody is", Expected: "a group that people in the ledger are in",
				Side: finding.Ledger, Fix: fix})
		}
	}
	for _, p := range persons {
		if !s.ids[strings.ToLower(p)] {
			out.Add(finding.Finding{ID: "trust.admits", Level: finding.Warning, Check: "who may sign in",
				Saw: p + ", who is not in the ledger", Expected: "people of the ledger", Side: finding.Ledger, Fix: fix})
		}
	}
}

// owned judges who answers for a trust, what it rests on, and its secrets.
func (c *Checker) owned(s *state, t *federation.Trust, out *finding.List) {
	now := c.Now()
	if t.Owner == "" {
		out.Add(finding.Finding{ID: "trust.owner", Level: finding.Note, Check: "owner of " + t.Name, Saw: "nobody",
			Expected: "whom to ask about it", Side: finding.Ledger, Fix: finding.Run("trust", "change", t.Name, "--owner",
				"MAIL")})
	}
	p := t.Proof()
	live := t.Standing == federation.Live
	rehearse := finding.Run("next", t.Name)
	switch age := now.Sub(p.At); {
	case live && p.Kind == federation.Asserted:
		out.Add(finding.Finding{ID: "proof.none", Level: finding.Error, Check: "proof of " + t.Name,
			Saw: "it is live, and nothing proves it as it is now", Expected: "a probe, a watch or a rehearsal since the " +
				"last change",
			Side: finding.Ledger, Fix: rehearse})
	case live && age > c.Old:
		out.Add(finding.Finding{ID: "proof.old", Level: finding.Warning, Check: "proof of " + t.Name,
			Saw: fmt.Sprintf("%s %d days ago", p.Kind, int(age.Hours()/24)), Expected: fmt.Sprintf("within %d days",
				int(c.Old.Hours()/24)), Side: finding.Ledger, Fix: finding.Run("probe", t.Name)})
	case live && s.expected[t.Name] == 0:
		out.Add(finding.Finding{ID: "expect.none", Level: finding.Note, Check: "expectations of " + t.Name, Saw: "none",
			Expected: "one at least of a live trust", Side: finding.Ledger, Fix: finding.Run("expect", "record", t.Name)})
	}
	valid := 0
	for _, x := range s.secrets[t.Name] {
		if x.Standing(now) != "valid" {
			continue
		}
		valid++
		const long = 90 * 24 * time.Hour
		if x.Used == nil && now.Sub(x.Added) > long || x.Used != nil && now.Sub(*x.Used) > long {
			out.Add(finding.Finding{ID: "secret.unused", Level: finding.Warning, Check: "secret " + x.ID,
				Saw: "not used for 90 days", Expected: "a secret that is used", Side: finding.Ledger,
				Fix: finding.Run("secret", "retire", t.Name, x.ID)})
		}
	}
	if valid > 2 {
		out.Add(finding.Finding{ID: "secret.many", Level: finding.Warning, Check: "secrets of " + t.Name,
			Saw: fmt.Sprintf("%d are valid", valid), Expected: "one, and a second while it is replaced", Side: finding.Ledger,
			Fix: finding.Run("secret", "list", t.Name)})
	}
}

// strangers judges what the app's accounts make of those who may sign in.
func (c *Checker) strangers(t *federation.Trust, app *federation.Party, out *finding.List) error {
	list, err := c.View.Accounts(app.Name)
	if err != nil || len(list) == 0 {
		return err
	}
	g, err := c.Mapper.Gaps(t.Name, "")
	if err != nil {
		return err
	}
	*out = append(*out, g.Findings...)
	m, err := c.Mapper.Match(t.Name)
	if err != nil {
		return err
	}
	if n := len(m.Strangers); n > 0 && m.Strange != "created" {
		out.Add(finding.Finding{ID: "account.strangers", Level: finding.Warning, Check: "accounts of " + app.Name,
			Saw: fmt.Sprintf("%d of %d who may sign in have none", n, m.Admitted), Expected: "an account for each",
			Side: finding.Both, Fix: finding.Run("accounts", "match", t.Name)})
	}
	if n := len(m.Collisions); n > 0 {
		out.Add(finding.Finding{ID: "account.collisions", Level: finding.Error, Check: "accounts of " + app.Name,
			Saw: fmt.Sprintf("%d collisions of people and accounts",
				n), Expected: "one account for each person, and one person for each",
			Side: finding.Both, Fix: finding.Run("accounts", "match", t.Name)})
	}
	return nil
}

// runsOut adds what runs out.
func (c *Checker) runsOut(r *Report, about func(string) bool, s *state) error {
	list, err := (&due.Finder{Book: c.Book, Keeper: c.Keeper}).Within(c.Within)
	if err != nil {
		return err
	}
	for _, x := range list {
		if !about(x.About) {
			continue
		}
		kind := "trust"
		if p := s.parties[x.About]; p != nil {
			kind = string(p.Kind)
		}
		f := finding.Finding{ID: "due." + x.Kind, Level: finding.Warning, Check: x.What,
			Saw: x.At.UTC().Format("2006-01-02"), Expected: "later than in " +
				federation.SpanWords(c.Within), Side: finding.Ledger,
			Fix: x.Fix}
		if x.Overdue {
			f.Level = finding.Error
		}
		r.Items = append(r.Items, Item{About: x.About, Kind: kind, Finding: f})
	}
	return nil
}

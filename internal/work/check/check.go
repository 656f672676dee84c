// Package check makes every judgement that needs no network, over parties and trusts at scale: both sides compared,
// redirect URIs, certificates, permissions, secrets, gaps and strangers, proof that is old, trusts without an owner.
package check

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
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

// Accepted is what is told of why a finding is let be, and until when.
type Accepted struct {
	Finding string    `json:"finding"`
	About   string    `json:"about"`
	Checks  []string  `json:"checks"`
	Keys    []string  `json:"keys,omitempty"`
	Reason  string    `json:"reason"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Until   time.Time `json:"until"`
}

// Report is what a check found.
type Report struct {
	Parties  int    `json:"parties"`
	Trusts   int    `json:"trusts"`
	Items    []Item `json:"findings" rows:"each"` // errors first; those that passed are counted alone
	Passed   int    `json:"passed"`
	Accepted int    `json:"accepted"`
	// Verified is when the records were last held against the journal without a finding (journal verify); nil is never
	Verified *time.Time `json:"verified,omitempty"`
	All      bool       `json:"-"` // everything was checked, and not what was named
}

// Failed reports whether an error is found that nobody accepted.
func (r *Report) Failed() bool {
	return slices.ContainsFunc(r.Items, func(x Item) bool { return x.Level == finding.Error && x.Accepted == nil })
}

// Open are the items that nobody accepted.
func (r *Report) Open() []Item {
	return slices.DeleteFunc(slices.Clone(r.Items), func(x Item) bool { return x.Accepted != nil })
}

// Add adds findings about something to a report, those that weigh more before those that weigh less.
func (r *Report) Add(kind, about string, list finding.List) {
	weight := map[finding.Level]int{finding.Error: 0, finding.Warning: 1, finding.Note: 2}
	for _, f := range list {
		if f.Level == finding.Pass {
			r.Passed++
			continue
		}
		i := slices.IndexFunc(r.Items, func(x Item) bool { return weight[x.Level] > weight[f.Level] })
		if i < 0 {
			i = len(r.Items)
		}
		r.Items = slices.Insert(r.Items, i, Item{About: about, Kind: kind, Finding: f})
	}
}

// state is what a check reads of the ledger, once.
type state struct {
	*due.Ledger
	parties  map[string]*federation.Party
	apis     map[string]*federation.Party
	uses     map[string][]federation.Use
	beside   map[string][]*federation.Trust // by app, its trusts that have not ended
	crowd    *federation.Crowd
	expected map[string]int
	ways     map[string]*mapping.Ways // by app, to its accounts
	due      map[string]bool          // by party and kind: what runs out and is told as that
}

// Run checks what is named: parties and trusts; all where nothing is. Errors: *model.UnknownError, those of the ledger.
func (c *Checker) Run(ctx context.Context, names []string) (*Report, error) {
	s, err := c.read(names)
	if err != nil {
		return nil, err
	}
	about, sides := func(string) bool { return true }, map[string]bool{}
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
		for n := range wanted { // what is wrong with its parties is wrong with a trust
			if t, err := c.View.Trust(n); err == nil {
				sides[t.App], sides[t.Provider] = true, true
			}
		}
		about = func(n string) bool {
			app, provider, _ := strings.Cut(n, "@")
			return wanted[n] || wanted[app] || wanted[provider] || sides[n]
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
	running, err := c.runsOut(about, s)
	if err != nil {
		return nil, err
	}
	for name, p := range s.parties {
		if about(name) {
			r.Parties++
			add(string(p.Kind), name, c.party(s, p))
		}
	}
	for i := range s.Trusts {
		t := &s.Trusts[i]
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
		add("trust", t.Name, append(l, federation.JudgeVouching(t, s.beside[t.App], s.parties)...))
	}
	for name, l := range federation.SharedKeys(s.parties) {
		if about(name) {
			add(string(s.parties[name].Kind), name, l)
		}
	}
	if err := c.verified(r); err != nil {
		return nil, err
	}
	if r.All = len(names) == 0; r.All {
		add("people", "people", people.Judge(s.crowd.All()))
	}
	if err := s.crowd.Err(); err != nil {
		return nil, err
	}
	r.Items = append(r.Items, running...)
	if err := c.accepted(r); err != nil {
		return nil, err
	}
	order(r.Items)
	return r, nil
}

// verified reads when the ledger was verified last.
func (c *Checker) verified(r *Report) error {
	text, err := c.View.Value(model.SettingVerified)
	if err != nil || text == "" {
		return err
	}
	at, _, _ := strings.Cut(text, " ")
	if t, err := time.Parse(time.RFC3339, at); err == nil {
		r.Verified = &t
	}
	return nil
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
		return strings.Compare(string(a.ID)+a.Check, string(b.ID)+b.Check)
	})
}

// read reads the ledger, or as much of it as concerns what is named, where that is trusts alone.
func (c *Checker) read(names []string) (*state, error) {
	var l *due.Ledger
	var err error
	of := []string{""} // of all trusts
	if len(names) > 0 && !slices.ContainsFunc(names, func(n string) bool { return !strings.Contains(n, "@") }) {
		for _, n := range names {
			if _, _, _, err := c.Trust(n); err != nil {
				return nil, err
			}
		}
		of = names
		l, err = due.ReadOf(c.View, names)
	} else {
		l, err = due.Read(c.View)
	}
	if err != nil {
		return nil, err
	}
	s := &state{Ledger: l, parties: map[string]*federation.Party{}, apis: map[string]*federation.Party{},
		uses: map[string][]federation.Use{}, expected: map[string]int{}, due: map[string]bool{},
		beside: map[string][]*federation.Trust{}, ways: map[string]*mapping.Ways{}}
	for i := range l.Parties {
		p := &l.Parties[i]
		s.parties[p.Name] = p
		if p.API != nil {
			s.apis[p.Name] = p
		}
	}
	for i := range l.Trusts {
		if t := &l.Trusts[i]; t.Standing != federation.Ended {
			s.beside[t.App] = append(s.beside[t.App], t)
		}
	}
	for _, name := range of {
		uses, err := c.View.Uses(name)
		if err != nil {
			return nil, err
		}
		for _, x := range uses {
			s.uses[x.Trust] = append(s.uses[x.Trust], x)
		}
		list, err := c.Expectations(name)
		if err != nil {
			return nil, err
		}
		for _, e := range list {
			s.expected[e.Trust]++
		}
	}
	s.crowd, err = c.View.Crowd()
	return s, err
}

// party judges what a party is by itself. What runs out of it is told as that, once.
func (c *Checker) party(s *state, p *federation.Party) finding.List {
	out := append(p.Judge(s.crowd, c.Now()), p.JudgeContact()...)
	return slices.DeleteFunc(out, func(f finding.Finding) bool {
		switch f.ID {
		case finding.CertificateExpired, finding.CertificateExpiring:
			return s.due[p.Name+" "+due.Certificate]
		case finding.MetadataExpired, finding.MetadataExpiring:
			return s.due[p.Name+" "+due.Metadata]
		}
		return false
	})
}

// trust judges a trust: all that is to be said of it as it stands, who answers for it, what it rests on, and what the
// app's accounts make of those who may sign in.
func (c *Checker) trust(s *state, t *federation.Trust) (finding.List, error) {
	app, provider := s.parties[t.App], s.parties[t.Provider]
	if app == nil || provider == nil {
		return finding.List{{ID: finding.TrustParty, Level: finding.Error, Check: "parties of " + t.Name,
			Saw:      "one is not in the ledger",
			Expected: "both", Side: finding.Ledger, Fix: finding.Run("journal", "verify")}}, nil
	}
	v := c.Sides.ViewOf(t, app, provider, model.ClientState{APIs: s.apis, Secrets: s.Secrets[t.Name],
		Consents: s.Consents[t.Name], Uses: s.uses[t.Name]}, s.crowd,
		func() (*federation.Releaser, error) { return c.ReleaserWith(t, s.Subjects[t.Name], c.Rand) })
	out, err := c.Sides.Judge(v)
	if err != nil {
		return nil, err
	}
	out = slices.DeleteFunc(out, func(f finding.Finding) bool { return f.Party != "" }) // told of the party itself
	out = append(out, handoff.Of(t).Thrift(v)...)
	for _, f := range t.Terms.SignOut(app, provider) {
		if !slices.ContainsFunc(out, func(x finding.Finding) bool { return x.Key() == f.Key() }) {
			out.Add(f)
		}
	}
	c.owned(s, t, &out)
	if t.Terms.Machine(app) {
		return out, nil
	}
	return out, c.received(s, v, &out)
}

// owned judges who answers for a trust, what it rests on, and its secrets.
func (c *Checker) owned(s *state, t *federation.Trust, out *finding.List) {
	now := c.Now()
	if t.Owner == "" {
		out.Add(finding.Finding{ID: finding.TrustOwner, Level: finding.Note, Check: "owner of " + t.Name, Saw: "nobody",
			Expected: "whom to ask about it", Side: finding.Ledger,
			Fix: finding.Run("trust", "change", t.Name, "--owner", "MAIL")})
	}
	p := t.Proof()
	live := t.Standing == federation.Live
	rehearse := finding.Run("next", t.Name)
	for _, name := range p.Left {
		side, kind := finding.Provider, federation.Provider
		if name == t.App {
			side, kind = finding.App, federation.App
		}
		out.Add(finding.Finding{ID: finding.PartyLeft, Level: finding.Error, Check: "registry of " + name,
			Saw:      "it is there no more since " + t.Left[name].UTC().Format(time.DateOnly),
			Expected: "in the metadata from which it was read; until it is back nothing proves " + t.Name, Side: side,
			Fix: finding.Do("ask its registry, and its owner on another way, why").
				Then(finding.Run(string(kind), "refresh", name))})
	}
	switch age := now.Sub(p.At); {
	case len(p.Left) > 0:
	case live && p.Kind == federation.Asserted:
		out.Add(finding.Finding{ID: finding.ProofNone, Level: finding.Error, Check: "proof of " + t.Name,
			Saw:      "it is live, and nothing proves it as it is now",
			Expected: "a probe, a watch or a rehearsal since the last change",
			Side:     finding.Ledger, Fix: rehearse})
	case live && !p.Whole():
		out.Add(finding.Finding{ID: finding.ProofLost, Level: finding.Warning, Check: "proof of " + t.Name,
			Saw:      fmt.Sprintf("%s, and nothing shows any more: %s", p.Kind, p.LostWords()),
			Expected: "a sign-in that is watched, or a probe, since that changed",
			Side:     finding.Ledger, Fix: finding.Run("watch", t.Name).Or(finding.Run("probe", t.Name))})
	case live && age > c.Old:
		out.Add(finding.Finding{ID: finding.ProofOld, Level: finding.Warning, Check: "proof of " + t.Name,
			Saw: fmt.Sprintf("%s %d days ago", p.Kind, int(age.Hours()/24)), Expected: fmt.Sprintf("within %d days",
				int(c.Old.Hours()/24)), Side: finding.Ledger, Fix: finding.Run("probe", t.Name)})
	case live && s.expected[t.Name] == 0:
		out.Add(finding.Finding{ID: finding.ExpectNone, Level: finding.Note, Check: "expectations of " + t.Name,
			Saw: "none", Expected: "one at least of a live trust", Side: finding.Ledger,
			Fix: finding.Run("expect", "record", t.Name)})
	}
	valid := 0
	for _, x := range s.Secrets[t.Name] {
		if x.Standing(now) != "valid" {
			continue
		}
		valid++
		const long = 90 * 24 * time.Hour
		if x.Used == nil && now.Sub(x.Added) > long || x.Used != nil && now.Sub(*x.Used) > long {
			out.Add(finding.Finding{ID: finding.SecretUnused, Level: finding.Warning, Check: "secret " + x.ID, Of: x.ID,
				Saw: "not used for 90 days", Expected: "a secret that is used", Side: finding.Ledger,
				Fix: finding.Run("secret", "retire", t.Name, x.ID)})
		}
	}
	if valid > 2 {
		out.Add(finding.Finding{ID: finding.SecretMany, Level: finding.Warning, Check: "secrets of " + t.Name,
			Saw: fmt.Sprintf("%d are valid", valid), Expected: "one, and a second while it is replaced",
			Side: finding.Ledger,
			Fix:  finding.Run("secret", "list", t.Name)})
	}
}

// received judges what the app receives of those who may sign in, and which of its accounts it would take them for.
// What is missing of one attribute is told once: as the gap of the claim, where there is one.
func (c *Checker) received(s *state, v *handoff.View, out *finding.List) error {
	app, reads := v.App, v.Trust.Reading(v.App)
	if !v.Provider.Own && reads == nil { // what a foreign provider sends is not known
		return nil
	}
	if sp := app.Entity.SP; reads == nil && len(v.Trust.Rules) == 0 && v.Trust.SubjectExpression() == "" &&
		len(sp.Wishes()) == 0 {
		return nil // nothing is wanted, and nothing is sent that somebody could lack
	}
	rel, err := v.Releaser()
	var broken *claims.CompileError
	if errors.As(err, &broken) {
		return nil // that is told where the expression is set
	}
	if err != nil {
		return err
	}
	who := mapping.Admitted(v.Trust, app, v.Provider, rel, v.Consents, v.Crowd.All())
	for _, f := range who.Gaps().Findings {
		if f.ID == finding.ClaimsGap && f.Of == federation.Subject &&
			slices.ContainsFunc(*out,
				func(x finding.Finding) bool { return x.ID == finding.ClaimsSubject && x.Level != finding.Pass }) {
			continue
		}
		if f.ID == finding.ClaimsLacking && slices.ContainsFunc(*out, func(x finding.Finding) bool {
			return x.ID == finding.ClaimsRequired || x.ID == finding.ClaimsWanted
		}) {
			continue
		}
		out.Add(f)
	}
	if reads == nil || reads.Key == "" {
		return nil // what is not known is neither wrong nor right
	}
	list, err := c.View.Accounts(app.Name)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		return nil
	}
	if s.ways[app.Name] == nil {
		s.ways[app.Name], err = (&mapping.Mapper{Book: c.Book}).Ways(s.beside[app.Name], s.parties, v.Crowd.All(), list)
		if err != nil {
			return err
		}
	}
	m, err := s.ways[app.Name].Of(v.Trust.Name)
	if errors.Is(err, mapping.ErrNoAccounts) || errors.Is(err, mapping.ErrNotKnown) {
		return nil
	}
	if err != nil {
		return err
	}
	*out = append(*out, m.Judge()...)
	return nil
}

// runsOut lists what runs out, and notes what is told so.
func (c *Checker) runsOut(about func(string) bool, s *state) ([]Item, error) {
	list, err := (&due.Finder{Book: c.Book, Keeper: c.Keeper}).Of(s.Ledger, c.Within)
	if err != nil {
		return nil, err
	}
	var out []Item
	for _, x := range list {
		if !about(x.About) || x.Kind == due.Cutover { // a plan is nothing wrong
			continue
		}
		kind := "trust"
		if p := s.parties[x.About]; p != nil {
			kind = string(p.Kind)
		}
		s.due[x.About+" "+x.Kind] = true
		f := finding.Finding{ID: finding.DueFamily.With(x.Kind), Level: finding.Warning, Check: x.What, Of: x.ID,
			Saw: x.At.UTC().Format("2006-01-02"), Expected: "later than in " +
				federation.SpanWords(c.Within), Side: finding.Ledger,
			Fix: x.Fix}
		if x.Overdue {
			f.Level = finding.Error
		}
		out = append(out, Item{About: x.About, Kind: kind, Finding: f})
	}
	return out, nil
}

// Reopened is what is told of a finding that counts again.
type Reopened struct {
	About   string `json:"about"`
	Finding string `json:"reopened"`
}

package mapping

import (
	"slices"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
)

// Access is one app that a person gets into, or does not.
type Access struct {
	Trust    string              `json:"trust"`
	App      string              `json:"app"`
	Standing federation.Standing `json:"standing"`
	Admitted bool                `json:"admitted"`
	Why      string              `json:"why"` // by which policy
	// Unknown says that it is not known: nobody said whether the person signs in at the foreign provider
	Unknown bool `json:"notKnown,omitempty"`
	// Seen is when the person was seen to get in, or not, and how strong that is; nil where they were not
	Seen    *federation.Observation `json:"seen,omitempty"`
	Role    []string                `json:"role"`
	Account string                  `json:"account,omitempty"` // whom the app would take them for
	How     string                  `json:"how,omitempty"`     // what is known of that
}

// Access says of every trust whether a person gets in, with which role and account. Errors: *model.UnknownError.
func (m *Mapper) Access(person string) ([]Access, error) {
	p, err := m.Person(person)
	if err != nil {
		return nil, err
	}
	all, err := m.View.Trusts()
	if err != nil {
		return nil, err
	}
	parties, err := m.View.PartiesByName() // every trust is asked about
	if err != nil {
		return nil, err
	}
	given, err := m.View.ConsentsByTrust()
	if err != nil {
		return nil, err
	}
	out := []Access{}
	for i := range all {
		t, app, provider := &all[i], parties[all[i].App], parties[all[i].Provider]
		if t.Standing == federation.Ended || app == nil || provider == nil {
			continue
		}
		if app = t.AppOf(app); t.Terms.Machine(app) {
			continue
		}
		consents := given[t.Name]
		a := Access{Trust: t.Name, App: app.Name, Standing: t.Standing, Role: []string{}}
		for _, f := range federation.FactsOf(t, app, provider) {
			for _, o := range f.Seen {
				if f.Name == finding.FactAdmission && o.Person == p.ID &&
					(a.Seen == nil || o.Kind.Stronger(a.Seen.Kind)) {
					a.Seen = &o
				}
			}
		}
		who := t.Admission()
		if r := t.Refuses(p, consents); r != nil {
			switch a.Why = r.Why; {
			case t.Standing == federation.Paused:
				a.Why = "it is paused"
			case r.Policy == "admits" && !who.Consented && !who.Broken:
				a.Why = "it admits " + t.Admits
			}
			out = append(out, a)
			continue
		}
		// a stand-in signs anybody in: that says nothing of the real provider
		if real := a.Seen != nil && !a.Seen.Played; !real && !p.SignsInAt(provider.Name, provider.Own) {
			a.Why = "not known: no home given"
			if a.Unknown = !provider.Own; !a.Unknown {
				a.Why = p.ID + " signs in at " + p.Home
			}
			out = append(out, a)
			continue
		}
		a.Admitted, a.Why = true, who.By(p, consents)
		if reads := t.Reading(app); reads != nil {
			r, err := m.Releaser(t, m.Rand)
			if err != nil {
				return nil, err
			}
			got := r.Receive(p)
			a.Role = append(a.Role, got.Of(reads.From(reads.Role))...)
			list, err := m.View.Accounts(app.Name)
			if err != nil {
				return nil, err
			}
			a.Account, a.How = reads.TakenFor(list, got.Of(reads.From(reads.Key)))
		}
		out = append(out, a)
	}
	return out, nil
}

// Beside is a claim of two trusts, or of two people, side by side.
type Beside struct {
	Claim string   `json:"claim"`
	RuleA string   `json:"ruleA,omitempty"`
	RuleB string   `json:"ruleB,omitempty"`
	A     []string `json:"a"`
	B     []string `json:"b"`
	Same  bool     `json:"same"`
}

// CompareTrusts compares what two trusts release; with a person also what each would release for them. Errors:
// *model.UnknownError.
func (m *Mapper) CompareTrusts(a, b, person string) ([]Beside, error) {
	ta, _, _, err := m.Trust(a)
	if err != nil {
		return nil, err
	}
	tb, _, _, err := m.Trust(b)
	if err != nil {
		return nil, err
	}
	ga, gb := &federation.Received{}, &federation.Received{}
	if person != "" {
		if ga, err = m.received(ta, person); err != nil {
			return nil, err
		}
		if gb, err = m.received(tb, person); err != nil {
			return nil, err
		}
	}
	out := []Beside{{Claim: federation.Subject, RuleA: ta.SubjectWords(), RuleB: tb.SubjectWords(),
		A: ga.Of(federation.Subject),
		B: gb.Of(federation.Subject)}}
	for _, claim := range both(ta.Rules, tb.Rules) {
		_, ra, _ := ta.RuleFor(claim)
		_, rb, _ := tb.RuleFor(claim)
		out = append(out, Beside{Claim: claim, RuleA: ra, RuleB: rb, A: ga.Of(claim), B: gb.Of(claim)})
	}
	for i := range out {
		x := &out[i]
		if x.Same = x.RuleA == x.RuleB; person != "" {
			x.Same = slices.Equal(x.A, x.B)
		}
	}
	return out, nil
}

// ComparePeople compares what a trust would release for two people. Errors: *model.UnknownError.
func (m *Mapper) ComparePeople(trust, a, b string) ([]Beside, error) {
	t, _, _, err := m.Trust(trust)
	if err != nil {
		return nil, err
	}
	ga, err := m.received(t, a)
	if err != nil {
		return nil, err
	}
	gb, err := m.received(t, b)
	if err != nil {
		return nil, err
	}
	out := []Beside{{Claim: federation.Subject, RuleA: t.SubjectWords(), A: ga.Of(federation.Subject),
		B: gb.Of(federation.Subject)}}
	for _, r := range t.Rules {
		out = append(out, Beside{Claim: r.Claim, RuleA: claims.Masked(r.Expression), A: ga.Of(r.Claim),
			B: gb.Of(r.Claim)})
	}
	for i := range out {
		out[i].Same = slices.Equal(out[i].A, out[i].B)
	}
	return out, nil
}

func (m *Mapper) received(t *federation.Trust, person string) (*federation.Received, error) {
	p, err := m.Person(person)
	if err != nil {
		return nil, err
	}
	r, err := m.Releaser(t, m.Rand)
	if err != nil {
		return nil, err
	}
	return r.Receive(p), nil
}

func both(a, b []claims.Rule) []string {
	var out []string
	for _, r := range slices.Concat(a, b) {
		if !slices.Contains(out, r.Claim) {
			out = append(out, r.Claim)
		}
	}
	slices.Sort(out)
	return out
}

// Explained is a rule with what each part of it yields for a person, and what the app does with it.
type Explained struct {
	Claim string        `json:"claim"`
	Name  string        `json:"name"` // on the wire
	When  []claims.Step `json:"when,omitempty"`
	Steps []claims.Step `json:"steps"`
	Fills []string      `json:"fills"` // fields of the app's accounts
}

// Explain says how each rule of a trust comes to what it yields for a person. Errors: *model.UnknownError,
// *claims.CompileError.
func (m *Mapper) Explain(trust, person string) ([]Explained, error) {
	t, app, _, err := m.Trust(trust)
	if err != nil {
		return nil, err
	}
	p, err := m.Person(person)
	if err != nil {
		return nil, err
	}
	e, err := m.Engine()
	if err != nil {
		return nil, err
	}
	releaser, err := m.Releaser(t, m.Rand)
	if err != nil {
		return nil, err
	}
	out, pairwise := []Explained{}, releaser.Pairwise(p)
	if x := t.SubjectExpression(); x != "" {
		steps, err := e.Explain(x, p, pairwise)
		if err != nil {
			return nil, err
		}
		out = append(out, Explained{Claim: federation.Subject, Name: federation.Subject, Steps: steps,
			Fills: t.Reading(app).Filling(federation.Subject)})
	}
	for _, r := range t.Rules {
		x := Explained{Claim: r.Claim, Name: r.Name, Fills: t.Reading(app).Filling(r.Claim)}
		if x.Steps, err = e.Explain(r.Expression, p, pairwise); err != nil {
			return nil, err
		}
		if r.When != "" {
			if x.When, err = e.Explain(r.When, p, pairwise); err != nil {
				return nil, err
			}
		}
		out = append(out, x)
	}
	return out, nil
}

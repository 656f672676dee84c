package report

import (
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/sequence"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
)

// One gathers the hand-over page of a trust: what whoever takes it over has to know. Errors: *model.UnknownError.
func (m *Maker) One(d *Data, name string) (*One, error) {
	t, app, provider, err := m.Trust(name)
	if err != nil {
		return nil, err
	}
	o := &One{Trust: t}
	add := func(s Section) {
		if len(s.Lines)+len(s.Rows) > 0 {
			o.Sections = append(o.Sections, s)
		}
	}
	add(o.summary(app, provider, m.Now()))
	_, todos, err := m.Sides.Next(name)
	if err != nil {
		return nil, err
	}
	next := Section{Title: "What is left to do"}
	for _, x := range todos {
		if !x.Done {
			next.Rows = append(next.Rows, []string{x.Step, format.Remedy(x.Fix)})
		}
	}
	add(next)
	facts := Section{Title: "What it rests on", Head: []string{"Fact", "Rests on", "Value"}}
	for _, f := range federation.FactsOf(t, app, provider) {
		rests := layout.FactWords(&f, m.Now())
		facts.Rows = append(facts.Rows, []string{string(f.Name), rests, f.Value})
	}
	add(facts)
	for _, side := range []string{"app", "provider"} {
		if err := m.handed(o, name, side); err != nil {
			return nil, err
		}
	}
	told := Section{Title: "Claims", Head: []string{"Claim", "From", "Name in the message"}}
	for _, r := range t.Rules {
		told.Rows = append(told.Rows, []string{r.Claim, claims.Masked(r.Expression), r.Name})
	}
	add(told)
	if err := m.kept(o, name); err != nil {
		return nil, err
	}
	found := Section{Title: "Findings", Head: []string{"Level", "What was seen", "What to do"}}
	for _, x := range d.Check.Open() {
		if x.About == name && x.Level != finding.Note {
			found.Rows = append(found.Rows, []string{string(x.Level), x.Check + ": " + x.Saw, format.Remedy(x.Fix)})
		}
	}
	add(found)
	due := Section{Title: "What runs out", Head: []string{"Date", "About", "What", "What to do"}}
	for _, x := range d.Due {
		if x.About == name || x.About == t.App || x.About == t.Provider {
			due.Rows = append(due.Rows, []string{x.At.Format("2006-01-02"), x.About, x.What, format.Remedy(x.Fix)})
		}
	}
	add(due)
	return o, nil
}

func (o *One) summary(app, provider *federation.Party, now time.Time) Section {
	t := o.Trust
	s := Section{Title: "In short", Rows: [][]string{{"app", app.Label() + " (" + app.Name + ")"},
		{"provider", provider.Label() + " (" + provider.Name + ")"}, {"over", federation.ProtocolTitle(t.Over())},
		{"standing", string(t.Standing)}, {"rests on", layout.ProofWords(t, now)},
		{"who is admitted", t.Admission().Words()}, {"strength", t.Strength}, {"subject", t.SubjectWords()}}}
	for _, f := range [][2]string{{"owner", t.Owner}, {"contact of the app", mailOf(app)}, {"contact of the provider",
		mailOf(provider)}} {
		if f[1] != "" {
			s.Rows = append(s.Rows, f[:])
		}
	}
	if c := t.Cutover; c != nil {
		s.Rows = append(s.Rows, []string{"live",
			c.Way + " since " + c.From.UTC().Format("2006-01-02 15:04 UTC") + ", by " + c.By},
			[]string{"way back", c.Back})
	}
	if c := t.Plan; c != nil {
		s.Rows = append(s.Rows, []string{"planned",
			c.Way + " on " + c.When() + ", by " + c.By},
			[]string{"way back", c.Back})
	}
	return s
}

func mailOf(p *federation.Party) string {
	if m := p.Contact(); m != "" {
		return m
	}
	return ""
}

// handed are the values that a side was or has to be given.
func (m *Maker) handed(o *One, name, side string) error {
	h, err := m.Sides.Handoff(name, side)
	if err != nil {
		return nil // there is nothing to give yet, which the steps say
	}
	s := Section{Title: "What the " + side + " is given", Head: []string{"Value", "", "From"}}
	for _, i := range h.Items {
		s.Rows = append(s.Rows, []string{i.Label, i.Value, i.From})
	}
	o.Sections = append(o.Sections, s)
	return nil
}

// kept are expectations and runs.
func (m *Maker) kept(o *One, name string) error {
	list, err := m.Expectations(name)
	if err != nil {
		return err
	}
	s := Section{Title: "Expectations", Head: []string{"ID", "As", "Expected", "Last held"}}
	for _, e := range list {
		held := "never yet"
		if !e.Held.IsZero() {
			held = e.Held.UTC().Format("2006-01-02 15:04 UTC")
		}
		s.Rows = append(s.Rows, []string{strconv.FormatInt(e.ID, 10), e.Who(), e.Words(), held})
	}
	runs, err := m.Runs(name, 10)
	if err != nil {
		return err
	}
	for i := range runs {
		if o.Drawing = sequence.Kept(&runs[i]); !o.Drawing.Empty() {
			break
		}
	}
	r := Section{Title: "Newest runs", Head: []string{"Run", "Kind", "When", "As", "Verdict", "Played"}}
	for _, x := range runs {
		r.Rows = append(r.Rows, []string{strconv.FormatInt(x.Number, 10), string(x.Kind),
			x.At.UTC().Format("2006-01-02 15:04 UTC"),
			x.Person, string(x.Verdict), strings.Join(x.StandIns, ", ")})
	}
	for _, x := range []Section{s, r} {
		if len(x.Rows) > 0 {
			o.Sections = append(o.Sections, x)
		}
	}
	return nil
}

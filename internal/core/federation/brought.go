package federation

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// Brought is what a real sign-in brought to the app, by name: of a foreign provider the one thing that is known of what
// it sends. Values are not kept with it.
type Brought struct {
	At    time.Time `json:"at"`
	Run   int64     `json:"run"`
	Names []string  `json:"names"` // as people know them, in order
	// the name in the message of those that people know by another
	Wire   map[string]string `json:"wireNames,omitempty"`
	Format string            `json:"subjectFormat,omitempty"` // of the subject
}

// broughtBy is what a run brought; nil where it was no real sign-in that an app took, or nothing was seen of it.
func broughtBy(r *Run) *Brought {
	if r.Kind != WitnessProof || r.Verdict != judge.Accepted || len(r.Claims) == 0 {
		return nil
	}
	return &Brought{At: r.At, Run: r.Number, Names: slices.Sorted(maps.Keys(r.Claims)), Wire: r.Names, Format: r.Format}
}

// attributes are what was brought, as attributes with words for values.
func (b *Brought) attributes() []saml.Attribute {
	if b == nil {
		return nil
	}
	out := make([]saml.Attribute, len(b.Names))
	for i, n := range b.Names {
		out[i] = saml.Attribute{Name: n, Values: []string{b.words()}}
		if w := b.Wire[n]; w != "" {
			out[i].Name, out[i].Friendly = w, n
		}
	}
	return out
}

func (b *Brought) words() string {
	return fmt.Sprintf("seen arriving on %s, run %d", b.At.UTC().Format("2006-01-02"), b.Run)
}

// Seen says when a foreign provider was seen to send a name, in words; "" where it was not.
func (b *Brought) Seen(name string) string {
	if b == nil {
		return ""
	}
	for _, n := range b.Names {
		if n == name || b.Wire[n] == name {
			return b.words()
		}
	}
	return ""
}

// Entered is what was entered into a trust of what a run saw.
type Entered struct {
	Trust     string   `json:"trust"`
	Run       int64    `json:"run"`
	Claims    []string `json:"claims"`                  // rules, CLAIM=EXPRESSION
	Format    string   `json:"subjectFormat,omitempty"` // of the subject
	Admits    string   `json:"admits,omitempty"`
	NotClaims []string `json:"notEntered"` // names that arrived and of which nothing is known that they are made of
}

// ErrEnter means that a run has nothing that could be entered.
var ErrEnter = errors.New("nothing of it can be entered")

// Enter enters what a real sign-in showed: a rule for each value that is one of the person's attributes, the format of
// the subject, and where admission is asked for that the person is admitted. What the run saw stays shown by it. person
// is who signed in, nil where that is not known. It is for a provider that is foreign: an own one is told what to send.
// Errors: ErrEnter.
func (t *Trust) Enter(r *Run, person *people.Person, admission bool, app, provider *Party, now time.Time) (*Entered,
	error) {
	switch {
	case provider.Own:
		return nil, fmt.Errorf("%w: %s is own, and sends what the rules of %s say", ErrEnter, provider.Name, t.Name)
	case r.Kind != WitnessProof || r.Verdict != judge.Accepted:
		return nil, fmt.Errorf("%w: run %d of %s is no real sign-in that the app took", ErrEnter, r.Number, t.Name)
	}
	out := &Entered{Trust: t.Name, Run: r.Number, Claims: []string{}, NotClaims: []string{}}
	err := t.Change(now, app, provider, func(t *Trust) error {
		for _, name := range slices.Sorted(maps.Keys(r.Claims)) {
			if Reserved(name) {
				continue
			}
			expr := madeOf(person, name, r.Claims[name])
			if expr == "" {
				out.NotClaims = append(out.NotClaims, name)
				continue
			}
			rule := claims.Rule{Claim: name, Expression: expr, Name: r.Names[name]}
			if i := slices.IndexFunc(t.Rules, func(x claims.Rule) bool { return x.Claim == name }); i >= 0 {
				rule.Name, rule.NameFormat = t.Rules[i].Name, t.Rules[i].NameFormat
			}
			if rule.Name == "" {
				rule.Name = name
			}
			t.Rules = claims.Set(t.Rules, rule)
			out.Claims = append(out.Claims, name+"="+expr)
		}
		if r.Format != "" && r.Format != t.SubjectFormat {
			t.SubjectFormat, out.Format = r.Format, r.Format
		}
		if admission && person != nil && t.Admission().Refuses(person, nil) != nil {
			t.Admits = strings.TrimPrefix(t.Admits+",person:"+person.ID, ",")
			out.Admits = t.Admits
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for _, f := range FactsOf(t, app, provider) {
		if f.Name == finding.FactClaims && t.broughtAll(r) || f.Name == finding.FactAdmission && person != nil {
			t.still(r, f)
		}
	}
	t.settle()
	return out, nil
}

// broughtAll reports whether a run brought something for each rule.
func (t *Trust) broughtAll(r *Run) bool {
	return !slices.ContainsFunc(t.Rules, func(x claims.Rule) bool { return len(r.Claims[x.Claim]) == 0 })
}

// still keeps that a run showed a fact whose value was entered from that run.
func (t *Trust) still(r *Run, f Fact) {
	if !slices.Contains(r.Proves, f.Name) {
		return
	}
	o := Observation{Fact: f.Name, Value: f.Value, Kind: r.Kind, At: r.At, Run: r.Number}
	if f.Name == finding.FactAdmission {
		o.Of, o.Person = t.Provider, r.Person
	}
	f.saw(o)
	t.Facts[f.Name] = f
	if w := t.Witnessed; w != nil && w.Run == r.Number {
		w.Lost = slices.DeleteFunc(slices.Clone(w.Lost), func(x finding.FactID) bool { return x == f.Name })
	}
}

// madeOf is an expression that makes values of a person's attributes; "" where none of them is just these. The
// attribute of the claim's own name goes before others.
func madeOf(p *people.Person, claim string, values []string) string {
	if p == nil || len(values) == 0 {
		return ""
	}
	names := slices.Sorted(maps.Keys(p.Attributes))
	if slices.Contains(names, claim) {
		names = append([]string{claim}, names...)
	}
	for _, n := range names {
		if slices.Equal(slices.Sorted(slices.Values(p.Attributes[n])), slices.Sorted(slices.Values(values))) {
			return personExpression(n)
		}
	}
	return ""
}

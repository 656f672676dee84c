package federation

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
)

// Expected is a kept statement about a trust, which can be run again at any time: somebody gets in with these claims,
// or is refused by this rule; a machine's calls are answered or refused.
type Expected struct {
	ID       int64               `json:"id"`
	Trust    string              `json:"trust"`
	As       string              `json:"as,omitempty"` // ID of a person; "" is a machine client
	Refused  bool                `json:"refused"`      // else it is admitted
	By       string              `json:"by,omitempty"` // refused: ID of the finding that refuses, or its first words
	Claims   map[string][]string `json:"claims,omitempty"`
	Without  []string            `json:"without,omitempty"` // claims that must not come
	Account  string              `json:"account,omitempty"`
	Subject  string              `json:"subject,omitempty"`
	Answered []string            `json:"answered,omitempty"`              // calls, API:PERMISSION
	Denied   []string            `json:"denied,omitempty"`                // calls that are refused
	AtMost   map[string]int      `json:"atMost,omitempty" unit:"seconds"` // lives of tokens, in seconds
	Note     string              `json:"note,omitempty"`
	Added    time.Time           `json:"added"`
	Held     time.Time           `json:"held,omitzero"` // when it held last
	HeldSeq  int64               `json:"heldSeq,omitempty"`
}

// Who is who it is about, in words.
func (e *Expected) Who() string {
	if e.As == "" {
		return "the client itself"
	}
	return e.As
}

// Words says what is expected in a line.
func (e *Expected) Words() string {
	out := []string{"admitted"}
	if e.Refused {
		out[0] = "refused"
		if e.By != "" {
			out[0] += " by " + e.By
		}
	}
	for _, c := range slices.Sorted(maps.Keys(e.Claims)) {
		out = append(out, c+"="+strings.Join(e.Claims[c], ", "))
	}
	for _, c := range e.Without {
		out = append(out, "without "+c)
	}
	for _, f := range [][2]string{{"account", e.Account}, {"subject", e.Subject},
		{"answered", strings.Join(e.Answered, ", ")}, {"denied", strings.Join(e.Denied, ", ")}} {
		if f[1] != "" {
			out = append(out, f[0]+" "+f[1])
		}
	}
	for _, l := range slices.Sorted(maps.Keys(e.AtMost)) {
		out = append(out, fmt.Sprintf("%s at most %s", l, SpanWords(Span(e.AtMost[l]))))
	}
	return strings.Join(out, "; ")
}

// ErrContradicts means that what is expected cannot be so, or that a part of it would never be looked at.
var ErrContradicts = errors.New("contradicts")

// Check refuses what contradicts itself, and a rule that refuses nobody. Errors: ErrContradicts, ErrValue.
func (e *Expected) Check() error {
	switch {
	case e.Refused && len(e.Claims)+len(e.Without)+len(e.Answered)+len(e.Denied)+len(e.AtMost) > 0,
		e.Refused && e.Account+e.Subject != "":
		return fmt.Errorf("it %w itself: who is refused brings no claims, account, subject, calls or tokens",
			ErrContradicts)
	case !e.Refused && e.By != "":
		return fmt.Errorf("it %w itself: a rule refuses, and they are to be admitted", ErrContradicts)
	case e.By != "" && !finding.Rule(strings.TrimSuffix(e.By, ".")):
		return finding.Errorf("%s %q is %w: it is the ID of a finding, or its beginning, such as policy or "+
			"saml.admission", finding.FieldBy, e.By, ErrValue)
	}
	for _, c := range e.Without {
		if _, both := e.Claims[c]; both {
			return fmt.Errorf("it %w itself: the claim %s is to come, and not to come", ErrContradicts, c)
		}
	}
	for _, c := range e.Answered {
		if slices.Contains(e.Denied, c) {
			return fmt.Errorf("it %w itself: the call %s is to be answered, and refused", ErrContradicts, c)
		}
	}
	return nil
}

// Judge compares what is expected with what a rehearsal showed. Each difference is an error; the fix is the caller's to
// say, who knows what changed.
func (e *Expected) Judge(r *Rehearsal) finding.List {
	var out finding.List
	differs := func(id finding.ID, check, saw, expected string) {
		out.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected,
			Side: finding.Ledger})
	}
	var refusals []string
	var rules []finding.ID
	for _, f := range r.Findings {
		if f.Level == finding.Error {
			refusals = append(refusals, string(f.ID)+": "+f.Saw)
			rules = append(rules, f.ID)
		}
	}
	callErrors := func() bool { // the verdict of a machine is that of its calls, which are judged one by one
		for _, f := range r.Findings {
			if f.Level == finding.Error && !f.ID.Of(finding.CallFamily) && !f.ID.Of(finding.TokenFamily) {
				return false
			}
		}
		return len(e.Denied) > 0
	}
	switch in := r.Verdict == judge.Accepted || callErrors(); {
	case e.Refused && in:
		differs(finding.ExpectVerdict, "verdict", "admitted", "refused")
	case e.Refused && e.By != "" && !slices.ContainsFunc(rules, func(id finding.ID) bool { return by(id, e.By) }):
		differs(finding.ExpectRule, "rule that refuses", strings.Join(refusals, "; "), e.By)
	case !e.Refused && !in:
		differs(finding.ExpectVerdict, "verdict", "refused: "+strings.Join(refusals, "; "), "admitted")
	}
	if e.Refused || len(out) > 0 {
		return e.passed(out, r)
	}
	for _, c := range slices.Sorted(maps.Keys(e.Claims)) {
		have := slices.Sorted(slices.Values(r.Claims[c]))
		if want := slices.Sorted(slices.Values(e.Claims[c])); !slices.Equal(have, want) {
			saw := strings.Join(have, ", ")
			if len(have) == 0 {
				saw = "not sent"
			}
			differs(finding.ExpectClaim, "claim "+c, saw, strings.Join(want, ", "))
		}
	}
	for _, c := range e.Without {
		if v, there := r.Claims[c]; there {
			differs(finding.ExpectClaim, "claim "+c, strings.Join(v, ", "), "not sent")
		}
	}
	if e.Account != "" && r.Account != e.Account {
		saw := r.Account
		if saw == "" {
			saw = "none"
		}
		differs(finding.ExpectAccount, "account", saw, e.Account)
	}
	if e.Subject != "" && r.Subject != e.Subject {
		differs(finding.ExpectSubject, "subject", r.Subject, e.Subject)
	}
	for _, c := range e.Answered {
		if !answered(r, c) {
			differs(finding.ExpectCall, "call "+c, "refused", "answered")
		}
	}
	for _, c := range e.Denied {
		if answered(r, c) {
			differs(finding.ExpectCall, "call "+c, "answered", "refused")
		}
	}
	for _, l := range slices.Sorted(maps.Keys(e.AtMost)) {
		switch n, there := r.Lives[l]; {
		case !there:
			differs(finding.ExpectLife, "life of the "+l, "none was issued", "at most "+SpanWords(Span(e.AtMost[l])))
		case n > e.AtMost[l]:
			differs(finding.ExpectLife, "life of the "+l, SpanWords(Span(n)), "at most "+SpanWords(Span(e.AtMost[l])))
		}
	}
	return e.passed(out, r)
}

func (e *Expected) passed(out finding.List, r *Rehearsal) finding.List {
	if len(out) == 0 {
		out.Pass(finding.ExpectHeld, "what is expected of "+e.Who(), e.Words())
	}
	return out
}

// by reports whether a refusal is by a rule: that of its ID, or of the beginning of its ID.
func by(id finding.ID, rule string) bool {
	family := finding.ID(strings.TrimSuffix(rule, "."))
	return id == family || id.Of(family)
}

// called is the call that a finding is about; runs that older versions kept say it in words alone.
func called(f *finding.Finding) string { return cmp.Or(f.Of, strings.TrimPrefix(f.Check, "call of ")) }

func answered(r *Rehearsal, call string) bool {
	for _, f := range r.Findings {
		if f.ID == finding.CallRecords && called(&f) == call {
			return true
		}
	}
	return false
}

// ExpectedOf is the statement that what a rehearsal showed is what is to be: who got in with which claims, or by which
// rule they were refused.
func ExpectedOf(r *Rehearsal) *Expected {
	e := &Expected{Trust: r.Trust, As: r.Person, Account: r.Account}
	if r.Verdict != judge.Accepted {
		e.Refused = true
		for _, f := range r.Findings {
			if f.Level == finding.Error && e.By == "" {
				e.By = string(f.ID)
			}
		}
		e.Account = ""
		return e
	}
	for c, v := range r.Claims {
		if Reserved(c) {
			continue
		}
		if e.Claims == nil {
			e.Claims = map[string][]string{}
		}
		e.Claims[c] = slices.Clone(v)
	}
	for _, f := range r.Findings {
		if f.ID == finding.CallRecords {
			e.Answered = append(e.Answered, called(&f))
		}
	}
	for l, n := range r.Lives {
		if e.AtMost == nil {
			e.AtMost = map[string]int{}
		}
		e.AtMost[l] = n
	}
	return e
}

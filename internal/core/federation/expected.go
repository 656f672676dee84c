package federation

import (
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
	Answered []string            `json:"answered,omitempty"` // calls, API:PERMISSION
	Denied   []string            `json:"denied,omitempty"`   // calls that are refused
	AtMost   map[string]int      `json:"atMost,omitempty"`   // lives of tokens, in seconds
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

// Judge compares what is expected with what a rehearsal showed. Each difference is an error; the fix is the caller's to
// say, who knows what changed.
func (e *Expected) Judge(r *Rehearsal) finding.List {
	var out finding.List
	differs := func(check, saw, expected string) {
		out.Add(finding.Finding{ID: "expect." + strings.ReplaceAll(strings.Fields(check)[0], ":", ""),
			Level: finding.Error, Check: check, Saw: saw, Expected: expected, Side: finding.Ledger})
	}
	var refusals []string
	for _, f := range r.Findings {
		if f.Level == finding.Error {
			refusals = append(refusals, f.ID+": "+f.Saw)
		}
	}
	callErrors := func() bool { // the verdict of a machine is that of its calls, which are judged one by one
		for _, f := range r.Findings {
			if f.Level == finding.Error && !strings.HasPrefix(f.ID, "call.") && !strings.HasPrefix(f.ID, "token.") {
				return false
			}
		}
		return len(e.Denied) > 0
	}
	switch in := r.Verdict == judge.Accepted || callErrors(); {
	case e.Refused && in:
		differs("verdict", "admitted", "refused")
	case e.Refused && e.By != "" && !slices.ContainsFunc(refusals, func(s string) bool { return by(s, e.By) }):
		differs("rule that refuses", strings.Join(refusals, "; "), e.By)
	case !e.Refused && !in:
		differs("verdict", "refused: "+strings.Join(refusals, "; "), "admitted")
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
			differs("claim "+c, saw, strings.Join(want, ", "))
		}
	}
	for _, c := range e.Without {
		if v, there := r.Claims[c]; there {
			differs("claim "+c, strings.Join(v, ", "), "not sent")
		}
	}
	if e.Account != "" && r.Account != e.Account {
		saw := r.Account
		if saw == "" {
			saw = "none"
		}
		differs("account", saw, e.Account)
	}
	if e.Subject != "" && r.Subject != e.Subject {
		differs("subject", r.Subject, e.Subject)
	}
	for _, c := range e.Answered {
		if !answered(r, c) {
			differs("call "+c, "refused", "answered")
		}
	}
	for _, c := range e.Denied {
		if answered(r, c) {
			differs("call "+c, "answered", "refused")
		}
	}
	for _, l := range slices.Sorted(maps.Keys(e.AtMost)) {
		switch n, there := r.Lives[l]; {
		case !there:
			differs("life of the "+l, "none was issued", "at most "+SpanWords(Span(e.AtMost[l])))
		case n > e.AtMost[l]:
			differs("life of the "+l, SpanWords(Span(n)), "at most "+SpanWords(Span(e.AtMost[l])))
		}
	}
	return e.passed(out, r)
}

func (e *Expected) passed(out finding.List, r *Rehearsal) finding.List {
	if len(out) == 0 {
		out.Pass("expect.held", "what is expected of "+e.Who(), e.Words())
	}
	return out
}

// by reports whether a refusal is by a rule: that of its ID, or of the beginning of its ID.
func by(refusal, rule string) bool {
	id, _, _ := strings.Cut(refusal, ": ")
	return id == rule || strings.HasPrefix(id, strings.TrimSuffix(rule, ".")+".")
}

func answered(r *Rehearsal, call string) bool {
	api, permission, _ := strings.Cut(call, ":")
	for _, f := range r.Findings {
		if f.ID == "call.records" && f.Check == "call of "+api+":"+permission {
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
				e.By = f.ID
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
		if f.ID == "call.records" {
			e.Answered = append(e.Answered, strings.TrimPrefix(f.Check, "call of "))
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

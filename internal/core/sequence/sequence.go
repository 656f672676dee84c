// Package sequence is the drawing of a sign-in: a lane for each party, an arrow for each message, with its verdict. It
// is made from what parties judged, in the order in which they did, and drawn as text or as SVG.
package sequence

import (
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
)

// Person is the lane of whoever signs in, with their browser.
const Person = "person"

// Verdict is what became of a message.
type Verdict string

// The verdicts: what was judged passed, or did not; nothing was judged.
const (
	Passed  Verdict = "passed"
	Refused Verdict = "refused"
	Sent    Verdict = "sent"
)

// Arrow is one message. Where From and To are one it is something that was judged there, without a message.
type Arrow struct {
	From, To string
	What     string
	Verdict  Verdict
	Checks   int      // that passed
	Why      []string // what was wrong, a line for each error
}

// Drawing is what passed between parties.
type Drawing struct {
	Title  string
	Lanes  []string // from left to right
	Arrows []Arrow
}

// Judged is that a party judged something that arrived, or sent something.
type Judged struct {
	Trust    string // app@provider
	By       string
	What     string
	Sent     bool
	Findings finding.List
}

// New is an empty drawing with the lanes of trusts, each app@provider: the person first, then each party once.
func New(title string, trusts ...string) *Drawing {
	d := &Drawing{Title: title, Lanes: []string{Person}}
	for _, t := range trusts {
		app, provider, _ := strings.Cut(t, "@")
		d.lane(app)
		d.lane(provider)
	}
	return d
}

func (d *Drawing) lane(name string) {
	if name != "" && !slices.Contains(d.Lanes, name) {
		d.Lanes = append(d.Lanes, name)
	}
}

// Add adds what a party judged or sent. What is judged in a party right behind the message that it is about goes with
// that.
func (d *Drawing) Add(j Judged) {
	app, provider, ok := strings.Cut(j.Trust, "@")
	if !ok || j.By == "" {
		if j.Findings.Failed() {
			d.Arrows = append(d.Arrows, Arrow{From: Person, To: Person, What: j.What, Verdict: Refused,
				Why: why(j.Findings)})
		}
		return
	}
	for _, p := range []string{app, provider, j.By} {
		d.lane(p)
	}
	from, to := d.ends(app, provider, j)
	a := Arrow{From: from, To: to, What: j.What, Verdict: verdict(j), Checks: j.Findings.Count(finding.Pass),
		Why: why(j.Findings)}
	if n := len(d.Arrows); n > 0 && !j.Sent {
		last := &d.Arrows[n-1]
		same := last.From == from && last.What == j.What
		if last.To == to && (within(j.What) || same) || last.Verdict == Sent && same && last.To == to {
			last.merge(a)
			return
		}
	}
	if within(j.What) {
		a.From = a.To
	}
	d.Arrows = append(d.Arrows, a)
}

func (a *Arrow) merge(b Arrow) {
	a.Checks += b.Checks
	a.Why = append(a.Why, b.Why...)
	if b.Verdict == Refused || a.Verdict == Sent {
		a.Verdict = b.Verdict
	}
}

// ends are from where to where what was judged went: to whoever judged it, from the other side of the trust.
func (d *Drawing) ends(app, provider string, j Judged) (from, to string) {
	other := map[string]string{app: provider, provider: app}[j.By]
	switch {
	case j.Sent && other != "":
		return j.By, other
	case j.What == "sign-in" || j.What == "consent" || strings.HasPrefix(j.What, "way to "):
		return Person, j.By
	case j.What == "call" && j.By == app: // the API that it called last answered
		for i := len(d.Arrows) - 1; i >= 0; i-- {
			if a := d.Arrows[i]; a.From == app && a.To != app && a.To != provider {
				return a.To, app
			}
		}
	case other == "":
		return app, j.By // an API
	}
	return other, j.By
}

// within tells what is judged in a party without a message of its own.
func within(what string) bool {
	switch what {
	case "session", "account", "claims", "claims and account", "arrival", "what the sign-out ends", "signed-out page":
		return true
	}
	return strings.HasPrefix(what, "clock of ") || strings.HasPrefix(what, "answer, as ")
}

func verdict(j Judged) Verdict {
	switch {
	case j.Findings.Failed():
		return Refused
	case j.Sent || len(j.Findings) == 0:
		return Sent
	}
	return Passed
}

func why(list finding.List) (out []string) {
	for _, f := range list {
		if f.Level == finding.Error {
			out = append(out, f.Check+": "+f.Saw)
		}
	}
	return out
}

// Empty reports whether nothing passed.
func (d *Drawing) Empty() bool { return len(d.Arrows) == 0 }

// column is the number of a lane.
func (d *Drawing) column(name string) int { return max(0, slices.Index(d.Lanes, name)) }

// Receiver is the party of a trust that judges a captured message of a kind, as inspect names it, and what the message
// is called in a drawing.
func Receiver(trust, kind string) (by, what string) {
	app, provider, _ := strings.Cut(trust, "@")
	_, what, plain := strings.Cut(kind, " ")
	if !plain {
		what = kind
	}
	switch {
	case strings.HasSuffix(kind, "Request"), strings.HasSuffix(kind, " request"):
		return provider, what
	case strings.HasPrefix(kind, "JWT, "):
		return app, strings.TrimPrefix(kind, "JWT, an ")
	}
	return app, what
}

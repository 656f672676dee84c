package layout

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/expect"
)

// Expectations lists what is expected.
func Expectations(list []federation.Expected, now time.Time) format.Page {
	b := format.Block{Head: []string{"ID", "Trust", "As", "Last held", "Expected"}, Noun: "expectation",
		Empty: "Nothing is expected yet. Take what a rehearsal showed with `tressik expect record TRUST`, " +
			"or say it with `tressik expect add TRUST --as PERSON --admitted`."}
	for _, e := range list {
		held := "never yet"
		if !e.Held.IsZero() {
			held = format.Away(e.Held, now)
		}
		b.Rows = append(b.Rows, []string{strconv.FormatInt(e.ID, 10), e.Trust, e.As, held, e.Words()})
	}
	return format.Page{Data: desk.Results(list, expect.ResultOf), Blocks: []format.Block{b}}
}

// Outcomes lays out how expectations came out: those that do not hold in full.
func Outcomes(list []expect.Outcome, title string) format.Page {
	holds := 0
	var blocks []format.Block
	b := format.Block{Head: []string{"ID", "Trust", "As", "Passes", "Expected"}, Noun: "expectation",
		Empty: "Nothing is expected yet. Take what a rehearsal showed with `tressik expect record TRUST`."}
	for i := range list {
		x := &list[i]
		word := "no"
		if x.Holds {
			word = "yes"
			holds++
		}
		b.Rows = append(b.Rows, []string{strconv.FormatInt(x.ID, 10), x.Trust, x.As, word, x.Words()})
		if !x.Holds {
			blocks = append(blocks, broken(x))
		}
	}
	sum := fmt.Sprintf("%d of %d %s", holds, len(list), map[bool]string{true: "passes", false: "pass"}[holds == 1])
	if title != "" {
		sum = title + ": " + sum
	}
	out := []format.Block{{Lines: []string{sum}}}
	if len(list) == 0 {
		out = nil
	}
	return format.Page{Data: list, Blocks: append(append(out, b), blocks...)}
}

func broken(x *expect.Outcome) format.Block {
	b := format.Block{Title: fmt.Sprintf("%d  %s as %s", x.ID, x.Trust, x.Who()),
		Findings: x.Findings.Without(finding.Pass)}
	if len(x.Since) > 0 {
		b.Lines = append(b.Lines, "  What changed since it held:")
	}
	for _, e := range x.Since[max(0, len(x.Since)-5):] {
		b.Lines = append(b.Lines, fmt.Sprintf("    %d  %s  %s  %s %s", e.Seq, e.At.UTC().Format("2006-01-02 15:04 UTC"),
			e.Actor,
			e.Action, expect.Changed(&e)))
	}
	return b
}

// OutcomeCases are expectations as cases for CI.
func OutcomeCases(list []expect.Outcome) []format.Case {
	var out []format.Case
	for i := range list {
		x := &list[i]
		c := format.Case{Suite: x.Trust, Name: x.Who() + ": " + x.Words()}
		if !x.Holds {
			var all []string
			for _, f := range x.Findings.Without(finding.Pass) {
				all = append(all, f.Check+": "+f.Saw+"; expected "+f.Expected+". "+format.Remedy(f.Fix))
			}
			c.Failure, c.Detail = all[0], strings.Join(all, "\n")
		}
		out = append(out, c)
	}
	return out
}

// OutcomeResults are what does not hold, for tools that gather results.
func OutcomeResults(list []expect.Outcome) []format.Result {
	out := []format.Result{}
	for i := range list {
		for _, f := range list[i].Findings.Without(finding.Pass) {
			out = append(out, format.Result{About: list[i].Trust, Kind: "trust", Finding: f})
		}
	}
	return out
}

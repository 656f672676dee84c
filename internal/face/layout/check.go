package layout

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/check"
)

// Checked lays out what a check found: how much of what weight, then each finding under what it is about, the heaviest
// first; notes are counted alone, and shown with all.
func Checked(r *check.Report, all bool, now time.Time) format.Page {
	open := r.Open()
	count := map[finding.Level]int{}
	for _, x := range open {
		count[x.Level]++
	}
	head := format.Block{Lines: []string{fmt.Sprintf("%s and %s checked: %s, %s, %s; %d passed%s",
		format.Count(r.Parties, "party"),
		format.Count(r.Trusts, "trust"), format.Count(count[finding.Error], "error"),
		format.Count(count[finding.Warning], "warning"),
		format.Count(count[finding.Note], "note"), r.Passed, accepted(r.Accepted))}}
	switch {
	case !r.All:
	case r.Verified == nil:
		head.Lines = append(head.Lines, "The records were never held against the journal: tressik journal verify")
	default:
		head.Lines = append(head.Lines, "The records were last held against the journal "+format.When(*r.Verified,
			now)+".")
	}
	blocks := []format.Block{head}
	at := map[string]int{} // which block is about whom
	for _, x := range open {
		if x.Level == finding.Note && !all {
			continue
		}
		i, there := at[x.About]
		if !there {
			i = len(blocks)
			at[x.About] = i
			blocks = append(blocks, format.Block{Title: x.About})
		}
		blocks[i].Findings = append(blocks[i].Findings, x.Finding)
	}
	if n := count[finding.Note]; n > 0 && !all {
		by := map[finding.ID]int{}
		for _, x := range open {
			if x.Level == finding.Note {
				by[x.ID]++
			}
		}
		var words []string
		for id, k := range by {
			words = append(words, fmt.Sprintf("%d %s", k, id))
		}
		slices.Sort(words)
		blocks = append(blocks, format.Block{Title: "Notes",
			Lines: []string{format.Indented("  ", strings.Join(words, ", ")), "  --all shows them."}})
	}
	if r.Accepted > 0 {
		b := format.Block{Title: "Accepted", Head: []string{"About", "Finding", "Until", "Reason"}, Noun: "finding"}
		for _, x := range r.Items {
			if a := x.Accepted; a != nil {
				b.Rows = append(b.Rows, []string{x.About, string(x.ID),
					a.Until.Format("2006-01-02") + " (" + format.Away(a.Until, now) + ")",
					a.Reason + " (" + a.By + ")"})
			}
		}
		blocks = append(blocks, b)
	}
	return format.Page{Data: r, Blocks: blocks}
}

func accepted(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", %d accepted", n)
}

// CheckResults are what a check found, for tools that gather results.
func CheckResults(r *check.Report) []format.Result {
	out := make([]format.Result, len(r.Items))
	for i, x := range r.Items {
		out[i] = format.Result{About: x.About, Kind: x.Kind, Finding: x.Finding}
		if x.Accepted != nil {
			out[i].Let = x.Accepted.Reason + ", until " + x.Accepted.Until.Format("2006-01-02")
		}
	}
	return out
}

// CheckCases are the same as cases for CI: an error fails one, what is accepted is skipped.
func CheckCases(r *check.Report) []format.Case {
	var out []format.Case
	for _, x := range r.Items {
		c := format.Case{Suite: x.About, Name: string(x.ID) + ": " + x.Check}
		words := x.Saw + "; expected " + x.Expected
		switch {
		case x.Accepted != nil:
			c.Skipped = "accepted until " + x.Accepted.Until.Format("2006-01-02") + ": " + x.Accepted.Reason
		case x.Level == finding.Error:
			c.Failure, c.Detail = words, format.Remedy(x.Fix)
		}
		out = append(out, c)
	}
	return out
}

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
)

// Runs lists the runs that were kept of a trust.
func Runs(trust string, list []federation.Run, now time.Time) format.Page {
	b := format.Block{Verdicts: []int{4}, Head: []string{"Run", "Kind", "When", "As", "Verdict", "Checks"}, Noun: "run",
		Empty: "Nothing was kept of " + trust + " yet. The first comes with `tressik rehearse " + trust +
			" --as PERSON`."}
	for _, r := range list {
		who := r.Person
		if who == "" {
			who = "nobody"
		}
		b.Rows = append(b.Rows, []string{strconv.FormatInt(r.Number, 10), string(r.Kind), format.When(r.At, now), who,
			string(r.Verdict), format.Tally(r.Findings)})
	}
	return format.Page{Data: desk.Results(list, desk.RunResultOf), Blocks: []format.Block{b}}
}

// Run lays out one run with its messages.
func Run(r *federation.Run, now time.Time) format.Page {
	var proves []string
	for _, f := range r.Proves {
		proves = append(proves, string(f))
	}
	head := [][2]string{{"verdict", string(r.Verdict)}, {"when", format.When(r.At, now)}, {"as", r.Person},
		{"played", strings.Join(r.StandIns, ", ")}, {"subject", r.Subject}, {"account", r.Account},
		{"supposed", strings.Join(r.Suppose, ", ")}, {"proves", strings.Join(proves, ", ")}}
	title := fmt.Sprintf("run %d of %s, %s", r.Number, r.Trust, r.Kind)
	if r.Number == 0 {
		title = fmt.Sprintf("%s, %s; nothing of it was kept", r.Trust, r.Kind)
	}
	out := []format.Block{{Title: title, Fields: Filled(head)}}
	if open := r.Findings.Without(finding.Pass); len(open) > 0 {
		out = append(out, format.Block{Title: "Issues", Findings: open})
	}
	out = append(out, format.Block{Title: "Checks", Findings: passes(r.Findings), Passed: true})
	for i, m := range r.Messages {
		b := format.Block{Title: fmt.Sprintf("Message %d of %d: %s", i+1, len(r.Messages), m.Kind)}
		for _, l := range strings.Split(m.Text, "\n") {
			b.Lines = append(b.Lines, "  "+l)
		}
		out = append(out, b)
	}
	if len(r.Messages) > 0 {
		out = append(out, format.Block{Lines: []string{"Secrets, signatures and what names a person are " +
			"left out of the messages."}})
	}
	return format.Page{Data: desk.RunResultOf(r), Blocks: out}
}

// Filled are the fields that have a value.
func Filled(list [][2]string) [][2]string {
	var out [][2]string
	for _, f := range list {
		if f[1] != "" {
			out = append(out, f)
		}
	}
	return out
}

// Entered lays out what was entered of what a run saw.
func Entered(e *federation.Entered) format.Page {
	head := Filled([][2]string{{"subject", e.Format}, {"admits", e.Admits}})
	lines := []string{fmt.Sprintf("Entered into %s, as run %d saw it:", e.Trust, e.Run)}
	if len(e.Claims)+len(head) == 0 {
		lines[0] = fmt.Sprintf("Of run %d nothing was entered into %s.", e.Run, e.Trust)
	}
	for _, c := range e.Claims {
		lines = append(lines, "  "+c)
	}
	out := []format.Block{{Lines: lines}, {Fields: head}}
	if len(e.NotClaims) > 0 {
		out = append(out, format.Block{Title: "Arrived, and not entered: no attribute of the person has these values",
			Lines: []string{"  " + strings.Join(e.NotClaims, ", ")}})
	}
	return format.Page{Data: e, Blocks: out}
}

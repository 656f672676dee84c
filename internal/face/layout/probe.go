package layout

import (
	"fmt"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/probe"
)

// Probes lays out what probes found: one trust in full, of several a row each and what is wanting.
func Probes(list []probe.Result) format.Page {
	if len(list) == 1 {
		return format.Page{Data: list, Blocks: probed(&list[0])}
	}
	b := format.Block{Verdicts: []int{1}, Head: []string{"Trust", "Verdict", "Provider knows it", "Asked", "Checks"},
		Noun:  "trust",
		Empty: "There is no trust to probe. Make the first with `tressik federate APP --with PROVIDER`."}
	blocks := []format.Block{}
	for i := range list {
		r := &list[i]
		b.Rows = append(b.Rows, []string{r.Trust, ProbeWord(r), r.Known, strings.Join(r.Asked, ", "),
			format.Tally(r.Findings)})
		if open := wanting(r.Findings); len(open) > 0 {
			blocks = append(blocks, format.Block{Title: r.Trust, Findings: open})
		}
	}
	return format.Page{Data: list, Blocks: append([]format.Block{b}, blocks...)}
}

// ProbeWord is the verdict of a probe: nothing is said to be good where nobody was asked.
func ProbeWord(r *probe.Result) string {
	switch {
	case r.Findings.Failed():
		return "issues"
	case len(r.Asked) == 0:
		return "not asked"
	case r.Verdict == judge.Accepted:
		return "good"
	}
	return string(r.Verdict)
}

// wanting are the errors and the warnings.
func wanting(l finding.List) finding.List {
	var out finding.List
	for _, f := range l {
		if f.Level == finding.Error || f.Level == finding.Warning {
			out = append(out, f)
		}
	}
	return out
}

func probed(r *probe.Result) []format.Block {
	head := [][2]string{{"verdict", ProbeWord(r)}, {"asked", strings.Join(r.Asked, ", ")},
		{"provider knows it", r.Known}, {"not asked", strings.Join(r.NotAsked, "; ")}}
	if r.Run > 0 {
		head = append(head, [2]string{"kept as", fmt.Sprintf("run %d", r.Run)})
	}
	out := []format.Block{{Title: "Probe of " + r.Trust, Fields: Filled(head)}}
	if open := r.Findings.Without(finding.Pass); len(open) > 0 {
		out = append(out, format.Block{Title: "Issues", Findings: open})
	}
	if len(r.Records) > 0 {
		b := format.Block{Title: "Records of " + r.Records[0].Call, Head: []string{"Record", "Says"}, Noun: "record"}
		for _, x := range r.Records {
			b.Rows = append(b.Rows, []string{x.ID, x.Note})
		}
		out = append(out, b)
	}
	passed := format.Block{Title: "What the real parties answered"}
	for _, f := range r.Findings {
		if f.Level == finding.Pass {
			passed.Fields = append(passed.Fields, [2]string{f.Check, f.Saw})
		}
	}
	if len(passed.Fields) > 0 {
		out = append(out, passed)
	}
	return out
}

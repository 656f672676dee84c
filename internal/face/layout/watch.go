package layout

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/stage/watch"
)

// WatchStep is a step of a watch on the terminal, as it comes.
func WatchStep(p *format.Printer, s *watch.Step) string {
	verb := "judges the "
	switch {
	case s.Sent:
		verb = "sends the "
	case s.By == "":
		verb = ""
	}
	out := fmt.Sprintf("  %s  %s %s%s", s.At.Format("15:04:05"), p.Bold(s.By), verb, p.Clean(s.What))
	if s.Through != "" {
		out += p.Dim(" (" + s.Through + ")")
	}
	if len(s.Findings) > 0 {
		out += p.Dim(": " + format.Tally(s.Findings))
	}
	out += "\n"
	for _, f := range s.Findings.Without(finding.Pass) {
		out += indentFinding(p.Finding(f))
	}
	return out
}

// Watch lays out how a watch ended: the verdict first, then where it stopped or what the app learned. refusal says that
// somebody was to be refused.
func Watch(v *watch.View, run int64, refusal bool) format.Page {
	head := [][2]string{{"state", string(v.State)}}
	if v.State == watch.SignedIn || v.State == watch.SignedOut {
		head = append(head, [2]string{"as", v.Person}, [2]string{"subject", v.Subject}, [2]string{"account", v.Account})
		for _, name := range slices.Sorted(maps.Keys(v.Claims)) {
			head = append(head, [2]string{name, strings.Join(v.Claims[name], ", ")})
		}
	}
	head = append(head, [2]string{"real", strings.Join(v.Cast.Real, ", ")},
		[2]string{"played here", strings.Join(v.Cast.Played, ", ")})
	if run > 0 {
		head = append(head, [2]string{"kept as", fmt.Sprintf("run %d", run)})
	}
	out := []format.Block{{Title: "Watch of " + v.Trust, Lines: []string{format.Indented("  ", watch.Words(v))}},
		{Fields: Filled(head)}}
	if refusal {
		word := "no: a refusal by the terms of the trust was expected"
		if (&federation.Rehearsal{Findings: v.Findings()}).Meant() {
			word = "yes: refused by the terms of the trust"
		}
		head = append(head, [2]string{"as expected", word})
		out[1].Fields = Filled(head)
	}
	if s := v.Stopped(); s != nil {
		where := "Where it stopped: " + s.What
		if s.By != "" {
			where = "Where it stopped: " + s.By + " at the " + s.What
		}
		out = append(out, format.Block{Title: where, Findings: s.Findings.Without(finding.Pass)})
	}
	var warnings finding.List
	for _, f := range v.Findings() {
		if f.Level == finding.Warning || f.Level == finding.Note && f.ID.Of(finding.SignoutFamily) {
			warnings = append(warnings, f)
		}
	}
	if len(warnings) > 0 && v.Stopped() == nil {
		out = append(out, format.Block{Title: "Issues", Findings: warnings})
	}
	out = append(out, format.Block{Title: "Checks", Findings: passes(v.Findings()), Passed: true})
	return format.Page{Data: v, Blocks: out}
}

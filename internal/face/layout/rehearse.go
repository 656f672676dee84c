package layout

import (
	"fmt"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/stage/server"
)

// Rehearsals lays out kept rehearsals with all their checks.
func Rehearsals(list []federation.Rehearsal) []format.Block {
	var out []format.Block
	for _, r := range list {
		out = append(out, format.Block{Title: r.Trust, Fields: [][2]string{{"verdict", string(r.Verdict)}, {"person",
			r.Person},
			{"subject", r.Subject}, {"account", r.Account},
			{"stand-ins", strings.Join(r.StandIns, ", ")}}}, format.Block{Findings: r.Findings, Passed: true})
	}
	return out
}

// Event says in one line what a player of the stage judged.
func Event(e server.Event) string {
	s := fmt.Sprintf("%s: %s judges the %s: ", e.Trust, e.By, e.What)
	switch {
	case e.Findings.Failed():
		return s + "refused, " + strings.Join(e.Findings.IDs(finding.Error), ", ")
	case e.Outcome != nil && e.Outcome.Subject != "":
		return s + "accepted, " + e.Outcome.Subject
	}
	return s + "accepted"
}

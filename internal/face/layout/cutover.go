package layout

import (
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/cutover"
)

// Readiness lays out what has to be true before a trust is made live.
func Readiness(r *cutover.Readiness, now time.Time) []format.Block {
	word := "every condition is met"
	if !r.Ready() {
		word = "not ready"
	}
	out := []format.Block{{Title: "Cutover of " + r.Trust,
		Fields: Filled([][2]string{{"standing", r.Standing}, {"ready", word},
			{"plan", PlanWords(&r.Plan, now)}})}}
	if open := r.Findings.Without(finding.Pass); len(open) > 0 {
		out = append(out, format.Block{Title: "Issues", Findings: open})
	}
	good := format.Block{Title: "Ready"}
	for _, f := range passes(r.Findings) {
		good.Fields = append(good.Fields, [2]string{f.Check, f.Saw})
	}
	if len(good.Fields) > 0 {
		out = append(out, good)
	}
	return out
}

// PlanWords says how and when a trust is made live.
func PlanWords(c *federation.Cutover, now time.Time) string {
	way := map[string]string{federation.Whole: "for everyone whom it admits",
		federation.Beside: "beside the app's own sign-in",
		federation.Pilot:  "for the group " + c.Group + " first"}[c.Way]
	switch {
	case c.Done:
		return way + ", since " + format.When(c.From, now)
	case c.From.IsZero():
		return way + ", now"
	case !c.Until.IsZero():
		until, zone := c.Local(c.Until)
		return way + ", from " + c.When() + ", " + format.Away(c.From, now) + ", until " + until.Format("15:04 ") + zone
	}
	return way + ", on " + c.When() + ", " + format.Away(c.From, now)
}

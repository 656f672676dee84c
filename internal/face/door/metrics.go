package door

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/face/format"
)

// Gauge is one family of numbers, by the value of a label.
type Gauge struct {
	Name, Help, Label string
	Values            map[string]int64
}

// OpenMetrics writes gauges, and what the door counted itself, as OpenMetrics 1.0.
func (d *Door) OpenMetrics(list []Gauge) []byte {
	var b strings.Builder
	for _, g := range list {
		var samples []format.Sample
		for _, v := range slices.Sorted(maps.Keys(g.Values)) {
			samples = append(samples, format.Sample{Labels: [][2]string{{g.Label, v}}, Value: float64(g.Values[v])})
		}
		format.Gauge(&b, g.Name, g.Help, samples)
	}
	b.WriteString("# HELP tressik_answers Answers since the server was started.\n# TYPE tressik_answers counter\n")
	answers := d.Answers()
	for _, v := range slices.Sorted(maps.Keys(answers)) {
		fmt.Fprintf(&b, "tressik_answers_total{status=\"%s\"} %d\n", v, answers[v])
	}
	fmt.Fprintf(&b, "# HELP tressik_registrations Clients registered since the server was started.\n"+
		"# TYPE tressik_registrations counter\ntressik_registrations_total %d\n# EOF\n", d.Registered())
	return []byte(b.String())
}

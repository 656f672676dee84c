package layout

import (
	"slices"
	"strings"
	"time"

	"tressik.example/internal/face/format"
	"tressik.example/internal/work/due"
)

// Due is what runs out, the soonest first.
func Due(list []due.Item, now time.Time, within string, sinceLast bool) format.Page {
	empty := "Nothing expires in the next " + within + "; nothing is pending."
	if sinceLast {
		empty = "Nothing is new since the last time."
	}
	b := format.Block{Head: []string{"Date", "About", "What"}, Noun: "date",
		Empty: empty}
	var fixes []string
	for _, x := range list {
		when := x.At.Format("2006-01-02") + " (" + format.Away(x.At, now) + ")"
		switch {
		case x.Overdue:
			when = "OVERDUE " + when
		case x.At.Before(now):
			when += ", waits"
		}
		b.Rows = append(b.Rows, []string{when, x.About, x.What})
		fix := "  " + x.About + ": " + format.Remedy(x.Fix)
		if slices.Contains(fixes, fix) {
			continue
		}
		fixes = append(fixes, fix)
		if len(x.Tell) > 0 {
			fixes = append(fixes, "      tell "+strings.Join(x.Tell, ", "))
		}
	}
	blocks := []format.Block{b}
	if len(fixes) > 0 {
		blocks = append(blocks, format.Block{Title: "What to do", Lines: fixes})
	}
	return format.Page{Data: list, Blocks: blocks}
}

// DueCalendar is the same as an iCalendar object.
func DueCalendar(list []due.Item, org string, now time.Time) []byte {
	dates := make([]format.Date, len(list))
	for i, x := range list {
		text := format.Remedy(x.Fix)
		if len(x.Tell) > 0 {
			text += "\nTell " + strings.Join(x.Tell, ", ")
		}
		dates[i] = format.Date{ID: x.ID, At: x.At, Summary: x.About + ": " + x.What, Text: text}
	}
	return format.Calendar("Tressik//"+org, "tressik", now, dates)
}

// DueMetrics is the same in the OpenMetrics text format: the seconds that are left, negative where it is overdue.
func DueMetrics(list []due.Item, now time.Time) []byte {
	samples := make([]format.Sample, len(list))
	for i, x := range list {
		samples[i] = format.Sample{Labels: [][2]string{{"kind", x.Kind}, {"about", x.About}, {"what", x.What},
			{"id", x.ID}}, Value: x.At.Sub(now).Round(time.Second).Seconds()}
	}
	var b strings.Builder
	format.Gauge(&b, "tressik_due_seconds", "Time that is left until something runs out.", samples)
	b.WriteString("# EOF\n")
	return []byte(b.String())
}

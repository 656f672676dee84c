package format

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// Date is one entry of a calendar.
type Date struct {
	ID      string
	At      time.Time
	Until   time.Time // it begins at At and ends then; zero: the whole day
	Summary string
	Text    string
}

// Calendar writes an iCalendar object (RFC 5545): an entry of the whole day for each date, in UTC. product names the
// program, domain makes the entries' IDs unique.
func Calendar(product, domain string, now time.Time, dates []Date) []byte {
	var b strings.Builder
	line := func(name, value string) { fold(&b, name+":"+value) }
	line("BEGIN", "VCALENDAR")
	line("VERSION", "2.0")
	line("PRODID", calendarText("-//"+product+"//EN"))
	for _, d := range dates {
		line("BEGIN", "VEVENT")
		line("UID", d.ID+"@"+domain)
		line("DTSTAMP", now.UTC().Format("20060102T150405Z"))
		if d.Until.IsZero() {
			line("DTSTART;VALUE=DATE", d.At.UTC().Format("20060102"))
		} else {
			line("DTSTART", d.At.UTC().Format("20060102T150405Z"))
			line("DTEND", d.Until.UTC().Format("20060102T150405Z"))
		}
		line("SUMMARY", calendarText(d.Summary))
		if d.Text != "" {
			line("DESCRIPTION", calendarText(d.Text))
		}
		line("TRANSP", "TRANSPARENT")
		line("END", "VEVENT")
	}
	line("END", "VCALENDAR")
	return []byte(b.String())
}

// calendarText escapes a text (RFC 5545, section 3.3.11). Control characters are left out.
func calendarText(s string) string {
	var b strings.Builder
	for _, r := range s {
		switch {
		case r == '\n':
			b.WriteString(`\n`)
		case r == ';', r == ',', r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < 0x20 || r == 0x7f:
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// fold writes a content line in pieces of at most 75 octets (RFC 5545, section 3.1), never through a character.
func fold(b *strings.Builder, s string) {
	for room := 75; len(s) > room; room = 74 { // the blank that continues a line counts
		cut := room
		for !utf8.RuneStart(s[cut]) {
			cut--
		}
		b.WriteString(s[:cut] + "\r\n ")
		s = s[cut:]
	}
	b.WriteString(s + "\r\n")
}

// Sample is one value of a metric with its labels, in order.
type Sample struct {
	Labels [][2]string
	Value  float64
}

// Gauge writes a gauge in the OpenMetrics text format, without the end of the exposition. One whose name ends in
// _seconds is of seconds; others count.
func Gauge(b *strings.Builder, name, help string, samples []Sample) {
	fmt.Fprintf(b, "# TYPE %s gauge\n", name)
	if strings.HasSuffix(name, "_seconds") {
		fmt.Fprintf(b, "# UNIT %s seconds\n", name)
	}
	fmt.Fprintf(b, "# HELP %s %s\n", name, metricText(help))
	for _, s := range samples {
		labels := make([]string, len(s.Labels))
		for i, l := range s.Labels {
			labels[i] = l[0] + `="` + metricText(l[1]) + `"`
		}
		fmt.Fprintf(b, "%s{%s} %v\n", name, strings.Join(labels, ","), s.Value)
	}
}

// metricText escapes a label's value.
func metricText(s string) string {
	return strings.NewReplacer(`\`, `\\`, "\n", `\n`, `"`, `\"`).Replace(s)
}

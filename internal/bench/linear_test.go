package bench

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/redact"
	"tressik.example/internal/work/inspect"
)

// BenchmarkLinear does works at one size and at ten times of it, in turns: what grows without need shows as a hundred
// times the time where ten are right.
func BenchmarkLinear(b *testing.B) {
	for _, w := range []struct {
		name string
		at   int
		work func(n int) func() error // made once, measured without that
	}{
		{"folded", 20_000, func(n int) func() error { // one value of n folded lines
			text := []byte("dn: uid=mira,dc=example\nobjectClass: person\nuid: mira\nmail: " +
				"mira@kestrelridge.example\n" +
				"description: x\n" + strings.Repeat(" "+strings.Repeat("x", 70)+"\n", n))
			return func() error { _, err := people.Read(text); return err }
		}},
		{"columns", 2_000, func(n int) func() error { // a table of n columns
			var out bytes.Buffer
			w := csv.NewWriter(&out)
			for line := range 4 {
				row := make([]string, n)
				for i := range row {
					row[i] = fmt.Sprintf("c%d-%d", line, i)
				}
				w.Write(row)
			}
			w.Flush()
			return func() error { _, _, err := accounts.Read(out.Bytes()); return err }
		}},
		{"masked", 2_000, func(n int) func() error { // n known people in a text that names each of them
			m, text := redact.New(), strings.Builder{}
			for i := range n {
				name := fmt.Sprintf("Given%d Family%d", i, i)
				m.Know("name", name)
				text.WriteString(name + " was here.\n")
			}
			return func() error {
				if strings.Contains(m.Text(text.String()), "Given") {
					return fmt.Errorf("a name stands")
				}
				return nil
			}
		}},
		{"archive", 40, func(n int) func() error { // n messages of a browser, by a ledger of n trusts
			d, entries := ledgerOf(b, n, "ecdsa-p256"), []string{}
			for i := range n {
				entries = append(entries, fmt.Sprintf(`{"startedDateTime": "2031-03-04T09:00:00Z", "request": `+
					`{"method": "GET", "url": "https://dome.kestrelridge.example/callback?code=c%d&state=s%d"}, `+
					`"response": {}}`, i, i))
			}
			text := `{"log": {"entries": [` + strings.Join(entries, ",") + `]}}`
			return func() error {
				list, err := inspect.Archive(strings.NewReader(text))
				if err != nil || len(list) != n {
					return fmt.Errorf("%d messages are read: %w", len(list), err)
				}
				inspect.New(d.Book).Session(inspect.Input{}, list, func(inspect.Recorded, *inspect.Inspection,
					error) {
				})
				return nil
			}
		}},
	} {
		b.Run(w.name, func(b *testing.B) {
			few, many := w.work(w.at), w.work(10*w.at)
			var small, large time.Duration
			for b.Loop() {
				for range 10 { // so that both are as long, where both are linear
					small += timed(b, few)
				}
				large += timed(b, many)
			}
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(10*large.Seconds()/small.Seconds(), "x-tenfold")
			b.ReportMetric(large.Seconds()*1e3/float64(b.N), "ms-large")
		})
	}
}

func timed(b *testing.B, work func() error) time.Duration {
	start := time.Now()
	if err := work(); err != nil {
		b.Fatal(err)
	}
	return time.Since(start)
}

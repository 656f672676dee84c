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
			return func() error { _, err := accounts.Read(out.Bytes()); return err }
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

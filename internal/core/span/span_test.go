package span

import (
	"errors"
	"strings"
	"testing"
	"time"
)

const day = 24 * time.Hour

func TestParse(t *testing.T) {
	for v, want := range map[string]time.Duration{"90d": 90 * day, "8h": 8 * time.Hour, "10m": 10 * time.Minute,
		"30s": 30 * time.Second, "1d12h": 36 * time.Hour, "1h30m": 90 * time.Minute, "36h": 36 * time.Hour,
		"P90D":  90 * day,
		"PT15M": 15 * time.Minute, "P1DT2H": 26 * time.Hour, "P2W": 14 * day, "PT90S": 90 * time.Second,
		"36500d": Longest, "300ms": 300 * time.Millisecond} {
		if got, err := Parse(v); err != nil || got != want {
			t.Errorf("%s is %s, %v", v, got, err)
		}
	}
	for _, v := range []string{"", "d", "90", "90 d", "0d", "-1d", "+1d", "1.5h", "12h1d", "1d1d", "90D", "P", "PT",
		"P1Y",
		"P1M", "PT0S", "p1d", "P1D2H", "1w", "36501d", "P99999999999999999999D", strings.Repeat("9", 18) + "d", "1dx",
		"xP1D",
		"P-1D", "PT1H ", "P1DT"} {
		if got, err := Parse(v); !errors.Is(err, ErrSpan) {
			t.Errorf("%q is taken for %s", v, got)
		}
	}
	if d, err := ISO("P0D"); err != nil || d != 0 {
		t.Errorf("P0D is %s, %v", d, err)
	}
	if _, err := ISO("90d"); !errors.Is(err, ErrSpan) {
		t.Error("90d is ISO")
	}
}

func TestFormat(t *testing.T) {
	for d, want := range map[time.Duration]string{0: "PT0S", time.Second: "PT1S", 90 * day: "P90D",
		25 * time.Hour:    "P1DT1H",
		-10 * time.Minute: "-PT10M", 999 * time.Millisecond: "PT0S", 3661 * time.Second: "PT1H1M1S"} {
		if got := Format(d); got != want {
			t.Errorf("%s is %s, want %s", d, got, want)
		}
	}
}

func TestShort(t *testing.T) {
	for d, want := range map[time.Duration]string{90 * day: "90d", 36 * time.Hour: "36h", 90 * time.Minute: "90m",
		61 * time.Second: "61s", 0: "0s", 1500 * time.Millisecond: "1500ms"} {
		if got := Short(d); got != want {
			t.Errorf("%s is %s, want %s", d, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, v := range []string{"90d", "P1DT2H", "1d12h", "PT", "9999999999999999999s"} {
		f.Add(v)
	}
	f.Fuzz(func(t *testing.T, v string) {
		d, err := Parse(v)
		if err != nil || d < time.Second {
			return
		}
		if again, err := Parse(Format(d)); err != nil || again != d.Truncate(time.Second) {
			t.Errorf("%q is %s, and %s is %s, %v", v, d, Format(d), again, err)
		}
	})
}

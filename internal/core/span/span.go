// Package span reads and writes spans of time: as people write them (90d, 8h, 10m, 300ms, sums such as 1d12h) and as
// ISO 8601 does (P90D, PT8H). A day has 24 hours. Months and years are not read: how long they are is not known.
package span

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Longest is the longest span that is read: a hundred years.
const Longest = 36500 * 24 * time.Hour

// ErrSpan means that text is no span of time.
var ErrSpan = errors.New("no span of time")

// Parse reads a span that is longer than nothing and no longer than Longest. Errors: ErrSpan, with what would do.
func Parse(v string) (time.Duration, error) {
	d, ok := people(v)
	if strings.HasPrefix(v, "P") {
		d, ok = iso(v)
	}
	if !ok || d <= 0 || d > Longest {
		return 0, fmt.Errorf("%q is %w: write 90d, 8h, 10m or 30s, or P90D", v, ErrSpan)
	}
	return d, nil
}

// ISO reads an ISO 8601 duration of weeks, days, hours, minutes and whole seconds, as xs:duration has it but for weeks
// (XML Schema Part 2, section 3.2.6); P0D is nothing. Errors: ErrSpan.
func ISO(v string) (time.Duration, error) {
	d, ok := iso(v)
	if !ok || d > Longest {
		return 0, fmt.Errorf("%q is %w such as PT6H or P1D", v, ErrSpan)
	}
	return d, nil
}

// Format writes a span as an ISO 8601 duration; what is shorter than a second is cut off.
func Format(d time.Duration) string {
	var out strings.Builder
	if d < 0 {
		out.WriteByte('-')
		d = -d
	}
	out.WriteByte('P')
	secs := int64(d / time.Second)
	if days := secs / 86400; days > 0 {
		fmt.Fprintf(&out, "%dD", days)
	}
	if secs %= 86400; secs > 0 {
		out.WriteByte('T')
		for _, u := range units("HMS") {
			if n := secs / int64(u.of/time.Second); n > 0 {
				fmt.Fprintf(&out, "%d%c", n, u.name)
			}
			secs %= int64(u.of / time.Second)
		}
	}
	if s := out.String(); s != "P" && s != "-P" {
		return s
	}
	return "PT0S"
}

// Short writes a span of whole seconds as people write it, in the largest unit of which it is a whole number: 90d, 36h.
func Short(d time.Duration) string {
	for _, u := range units("dhm") {
		if d > 0 && d%u.of == 0 {
			return fmt.Sprintf("%d%c", d/u.of, u.name)
		}
	}
	if d%time.Second != 0 {
		return fmt.Sprintf("%dms", d/time.Millisecond)
	}
	return fmt.Sprintf("%ds", d/time.Second)
}

type unit struct {
	name rune
	of   time.Duration
}

// units are those of some names, in any case, in that order.
func units(names string) []unit {
	of := map[rune]time.Duration{'W': 7 * 24 * time.Hour, 'D': 24 * time.Hour, 'H': time.Hour, 'M': time.Minute,
		'S': time.Second}
	var out []unit
	for _, n := range names {
		out = append(out, unit{n, of[n-n&0x20]})
	}
	return out
}

// people reads 90d and the like; days are written before hours, and so on. Milliseconds stand alone.
func people(v string) (time.Duration, bool) {
	if n, short := strings.CutSuffix(v, "ms"); short {
		d, ok := sum(n+"s", units("s"))
		return d / 1000, ok
	}
	return sum(v, units("dhms"))
}

func iso(v string) (time.Duration, bool) {
	v, ok := strings.CutPrefix(v, "P")
	if n, weeks := strings.CutSuffix(v, "W"); weeks {
		d, is := sum(n+"W", units("W"))
		return d, ok && is
	}
	days, clock, timed := strings.Cut(v, "T")
	if !ok || days == "" && !timed || timed && clock == "" {
		return 0, false
	}
	var total time.Duration
	for _, part := range []struct {
		text, names string
	}{{days, "D"}, {clock, "HMS"}} {
		if part.text == "" {
			continue
		}
		d, is := sum(part.text, units(part.names))
		if !is {
			return 0, false
		}
		total += d
	}
	return total, true
}

// sum reads numbers with units, each at most once and in their order.
func sum(v string, units []unit) (total time.Duration, ok bool) {
	for _, u := range units {
		i := strings.IndexRune(v, u.name)
		if i < 0 {
			continue
		}
		n, err := strconv.ParseUint(v[:i], 10, 63)
		if err != nil || v[0] == '+' || n > uint64(Longest/u.of) {
			return 0, false
		}
		if total += time.Duration(n) * u.of; total > Longest {
			return 0, false
		}
		v, ok = v[i+1:], true
	}
	return total, ok && v == ""
}

// Package near finds the names closest to a mistyped one.
package near

import (
	"sort"
	"strings"

	"github.com/hbollon/go-edlib"
)

// Distance is the edit distance between two strings, swaps of neighbours counting one (optimal string alignment),
// letter case half ignored: strings that differ in case alone have the distance 1.
func Distance(a, b string) int {
	if a == b {
		return 0
	}
	la, lb := strings.ToLower(a), strings.ToLower(b)
	if la == lb {
		return 1
	}
	return edlib.OSADamerauLevenshteinDistance(la, lb)
}

// Names returns up to three of the candidates that are close to the name, the closest first.
func Names(name string, candidates []string) []string {
	type hit struct {
		name string
		d    int
	}
	var hits []hit
	seen := map[string]bool{}
	for _, c := range candidates {
		if seen[c] {
			continue
		}
		seen[c] = true
		if len(name) > 200 || len(c) > 200 {
			continue
		}
		d := Distance(name, c)
		limit := max(2, len(name)/3)
		lc, ln := strings.ToLower(c), strings.ToLower(name)
		if len(name) >= 3 && (strings.Contains(lc, ln) || strings.Contains(ln, lc) && len(c) >= 3) {
			d = min(d, limit)
		}
		if d <= limit {
			hits = append(hits, hit{c, d})
		}
	}
	sort.SliceStable(hits, func(i, j int) bool { return hits[i].d < hits[j].d })
	var out []string
	for _, h := range hits[:min(3, len(hits))] {
		out = append(out, h.name)
	}
	return out
}

// Told is a value that was seen, with how it differs from the one wanted behind it, where that can be said.
func Told(saw, want string) string {
	if d := Difference(saw, want); d != "" {
		return saw + " (" + d + ")"
	}
	return saw
}

// Difference says in words how two values that should be equal differ, where it is one of the usual slips; else "".
func Difference(saw, want string) string {
	switch {
	case saw == want:
		return ""
	case strings.TrimSuffix(saw, "/") == strings.TrimSuffix(want, "/"):
		if len(saw) < len(want) {
			return "it lacks the slash at the end"
		}
		return "it has a slash too many at the end"
	case strings.EqualFold(saw, want):
		return "only upper and lower case differ"
	case strings.TrimSpace(saw) == strings.TrimSpace(want):
		return "only white space differs"
	}
	ss, sr, ok1 := strings.Cut(saw, "://")
	ws, wr, ok2 := strings.Cut(want, "://")
	if ok1 && ok2 {
		if sr == wr {
			return "only the scheme differs: " + ss + " for " + ws
		}
		sh, sp, _ := strings.Cut(sr, "/")
		wh, wp, _ := strings.Cut(wr, "/")
		if sp == wp {
			sn, _, _ := strings.Cut(sh, ":")
			wn, _, _ := strings.Cut(wh, ":")
			if sn == wn {
				return "only the port differs"
			}
			return "only the host differs"
		}
	}
	if Distance(saw, want) <= 2 {
		return "they differ by a character or two"
	}
	return ""
}

package report

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	svg "github.com/ajstarks/svgo"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
)

// What the map's signs mean; colours are those of the page, light or dark.
const (
	rowHigh  = 34
	wide     = 1160
	fewEdges = 40 // so many trusts are drawn as lines; more in blocks, one for each provider
)

// standingStyle is how a line is drawn by a trust's standing, so that it shows without colours too.
func standingStyle(s string) string {
	switch federation.Standing(s) {
	case federation.Live:
		return "stroke-width:3.5"
	case federation.Rehearsed:
		return "stroke-width:1.6"
	case federation.Exchanged:
		return "stroke-width:1.6;stroke-dasharray:8 5"
	case federation.Paused:
		return "stroke-width:3.5;stroke-dasharray:3 5;opacity:.6"
	case federation.Ended:
		return "stroke-width:1;stroke-dasharray:1 6;opacity:.5"
	}
	return "stroke-width:1.6;stroke-dasharray:2 5"
}

// sign is the letter of a proof.
func sign(k federation.ProofKind) string {
	return map[federation.ProofKind]string{federation.Asserted: "a", federation.Told: "t",
		federation.ByRehearsal:  "r",
		federation.ProbedProof:  "p",
		federation.WitnessProof: "w"}[k]
}

// short is so much of a text as there is room for, without what whoever looks may not see: half a name is a name still.
func (d *Data) short(s string, n int) string {
	s = format.Safe(d.hidden(s))
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	return string([]rune(s)[:n-1]) + "…"
}

// begin starts a drawing that is as wide as the page lets it be.
func begin(b *bytes.Buffer, w, h int, title string) *svg.SVG {
	s := svg.New(b)
	s.Startraw(fmt.Sprintf(`viewBox="0 0 %d %d" width="%d" role="img"`, w, h, w))
	s.Title(title)
	return s
}

// drawn is a drawing without the head of a file of its own, to stand in a page.
func drawn(b *bytes.Buffer) string {
	out := b.String()
	if i := strings.Index(out, "<svg"); i > 0 {
		out = out[i:]
	}
	return out
}

// Map draws the trusts between providers and apps.
func (d *Data) Map() string {
	if len(d.Edges) > fewEdges {
		return d.blocks()
	}
	return d.lines()
}

// lines draws providers at the left, apps at the right and a line for each trust, apps in the order that crosses the
// fewest lines.
func (d *Data) lines() string {
	providers := d.providers()
	at := map[string]float64{}
	for i, p := range providers {
		at[p] = float64(i)
	}
	sum, count := map[string]float64{}, map[string]int{}
	var apps []string
	for _, e := range d.Edges {
		if count[e.App] == 0 {
			apps = append(apps, e.App)
		}
		sum[e.App] += at[e.Provider]
		count[e.App]++
	}
	slices.SortStableFunc(apps, func(a, b string) int {
		x, y := sum[a]/float64(count[a]), sum[b]/float64(count[b])
		switch {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return strings.Compare(a, b)
	})
	rows := max(len(d.Edges), len(providers)*2)
	high := rows*rowHigh + 20
	var b bytes.Buffer
	s := begin(&b, wide, high, "Map of trusts")
	const left, right = 250, 860
	// an app takes as many rows as it has trusts; a provider stands in the middle of its share of the height
	ay, row := map[string]int{}, float64(high-20)/float64(len(d.Edges))
	used := 0
	for _, a := range apps {
		ay[a] = 10 + int(row*(float64(used)+float64(count[a])/2))
		used += count[a]
	}
	spread := map[string]int{}
	for _, e := range d.Edges {
		spread[e.Provider]++
	}
	py, ph := map[string]int{}, map[string]int{}
	for i, p := range providers {
		py[p] = 10 + int((float64(i)+.5)*float64(high-20)/float64(len(providers)))
		ph[p] = min(max(28, spread[p]*12+8), (high-20)/len(providers)-6)
	}
	edges := slices.Clone(d.Edges)
	slices.SortStableFunc(edges, func(a, b Edge) int {
		return cmp.Or(ay[a.App]-ay[b.App], py[a.Provider]-py[b.Provider])
	})
	out, in := map[string]int{}, map[string]int{}
	for _, e := range edges {
		n := spread[e.Provider]
		from := py[e.Provider] - ph[e.Provider]/2 + (2*out[e.Provider]+1)*ph[e.Provider]/(2*n)
		to := ay[e.App] + int(row*(float64(in[e.App])+.5-float64(count[e.App])/2))
		out[e.Provider]++
		in[e.App]++
		s.Group(fmt.Sprintf(`class="trust %s"`, e.Health))
		s.Title(e.words())
		s.Path(fmt.Sprintf("M%d %d C%d %d %d %d %d %d", left, from, left+190, from, right-330, to, right, to),
			`class="line" style="`+standingStyle(e.Standing)+`"`)
		d.badge(s, right-22, to, e)
		label := to - 6
		if from < to { // the line comes from above
			label = to + 14
		}
		s.Text(right-40, label, e.Over+", "+e.Standing, `class="small end halo"`)
		s.Gend()
	}
	for _, p := range providers {
		d.box(s, 10, py[p]-ph[p]/2, left-10, ph[p], p)
	}
	for _, a := range apps {
		h := max(26, (count[a]-1)*int(row)+26)
		d.box(s, right, ay[a]-h/2, wide-right-10, h, a)
	}
	s.End()
	return drawn(&b)
}

// box is a party: own ones have a heavier frame.
func (d *Data) box(s *svg.SVG, x, y, w, h int, name string) {
	class := "party"
	if p := d.Parties[name]; p != nil && p.Own {
		class += " own"
	}
	s.Group(`class="` + class + `"`)
	s.Title(format.Safe(d.label(name) + " (" + name + ")"))
	s.Roundrect(x, y, w, h, 3, 3)
	s.Text(x+10, y+h/2+5, d.short(d.label(name), w/8))
	s.Gend()
}

// badge is the proof of a trust as a letter, in a shape by its health: a circle, a triangle or a square.
func (d *Data) badge(s *svg.SVG, x, y int, e Edge) {
	switch e.Health {
	case "good":
		s.Circle(x, y, 9, `class="badge"`)
	case "wanting":
		s.Polygon([]int{x - 12, x + 12, x}, []int{y + 9, y + 9, y - 12}, `class="badge"`)
	default:
		s.Rect(x-9, y-9, 18, 18, `class="badge"`)
	}
	s.Text(x, y+5, sign(e.Proof.Kind), `class="sign"`)
}

func (e Edge) words() string {
	s := fmt.Sprintf("%s, over %s: %s, %s since %s", e.Trust, e.Over, e.Standing, e.Proof.Kind,
		e.Proof.At.UTC().Format("2006-01-02"))
	if e.Why != "" {
		s += "; " + e.Why
	}
	return format.Safe(s)
}

// blocks draws a block for each provider with its apps in columns, for more trusts than lines can be told apart.
func (d *Data) blocks() string {
	const columns, cell, head = 5, 26, 44
	by := map[string][]Edge{}
	for _, e := range d.Edges {
		by[e.Provider] = append(by[e.Provider], e)
	}
	providers, high := d.providers(), 10
	for _, p := range providers {
		high += head + (len(by[p])+columns-1)/columns*cell + 14
	}
	var b bytes.Buffer
	s := begin(&b, wide, high, "Map of trusts")
	y := 10
	for _, p := range providers {
		list := by[p]
		slices.SortStableFunc(list, func(a, b Edge) int { return strings.Compare(a.App, b.App) })
		d.box(s, 10, y, 420, 28, p)
		s.Text(445, y+19, fmt.Sprintf("%d trusts", len(list)), `class="small"`)
		y += head - 6
		for i, e := range list {
			x, row := 24+i%columns*((wide-30)/columns), y+i/columns*cell
			s.Group(fmt.Sprintf(`class="trust %s"`, e.Health))
			s.Title(e.words())
			d.badge(s, x, row+8, e)
			s.Line(x+14, row+8, x+34, row+8, `class="line" style="`+standingStyle(e.Standing)+`"`)
			over, _, _ := strings.Cut(e.Over, " ")
			s.Text(x+40, row+13, d.short(e.App, 16)+", "+over, `class="name"`)
			s.Gend()
		}
		y += (len(list)+columns-1)/columns*cell + 20
	}
	s.End()
	return drawn(&b)
}

// fewDates is how many dates are drawn line by line; of more, how many there are in each week.
const fewDates = 30

// TimeLine draws what runs out, from now on.
func (d *Data) TimeLine() string {
	if len(d.Due) == 0 {
		return ""
	}
	if len(d.Due) > fewDates {
		return d.weeks()
	}
	const top, left, right = 40, 420, wide - 40
	high := top + len(d.Due)*24 + 20
	var b bytes.Buffer
	s := begin(&b, wide, high, "Time line of what runs out")
	x := d.months(s, left, right, top, high)
	for i, item := range d.Due {
		y := top + 16 + i*24
		class := "due"
		if item.Overdue {
			class += " bad"
		} else if item.At.Before(d.At.AddDate(0, 0, 30)) {
			class += " wanting"
		}
		s.Group(`class="` + class + `"`)
		s.Title(format.Safe(item.About + ": " + item.What + ", " + item.At.UTC().Format("2006-01-02")))
		s.Text(10, y+4, d.short(item.About+": "+item.What, 54), `class="name"`)
		s.Line(left, y, x(item.At), y, `class="span"`)
		s.Circle(x(item.At), y, 5, `class="end"`)
		words, anchor := item.At.UTC().Format("2 Jan 2006"), `class="small"`
		at := x(item.At) + 10
		if at > right-80 {
			at, anchor = x(item.At)-10, `class="small end"`
		}
		s.Text(at, y+4, words, anchor)
		s.Gend()
	}
	s.End()
	return drawn(&b)
}

// months draws the scale of a time line, and returns where a time lies on it.
func (d *Data) months(s *svg.SVG, left, right, top, high int) func(time.Time) int {
	end := d.At.AddDate(0, 13, 0)
	for _, i := range d.Due {
		if i.At.After(end) {
			end = i.At
		}
	}
	span := end.Sub(d.At)
	x := func(t time.Time) int {
		f := float64(t.Sub(d.At)) / float64(span)
		return left + int(max(0, min(1, f))*float64(right-left))
	}
	s.Line(left, top, right, top, `class="axis"`)
	s.Text(left, top-22, "today", `class="small"`)
	for m := time.Date(d.At.Year(), d.At.Month()+1, 1, 0, 0, 0, 0, time.UTC); m.Before(end); m = m.AddDate(0, 1, 0) {
		at := x(m)
		s.Line(at, top-4, at, high-10, `class="grid"`)
		words := m.Format("Jan")
		if m.Month() == time.January {
			words = m.Format("2006")
		}
		s.Text(at+3, top-8, words, `class="small"`)
	}
	return x
}

// weeks draws how much runs out in each week, a row for each kind.
func (d *Data) weeks() string {
	var kinds []string
	for _, i := range d.Due {
		if !slices.Contains(kinds, i.Kind) {
			kinds = append(kinds, i.Kind)
		}
	}
	slices.Sort(kinds)
	const top, left, right, row = 40, 160, wide - 40, 70
	high := top + len(kinds)*row + 20
	var b bytes.Buffer
	s := begin(&b, wide, high, "Time line of what runs out, by week")
	x := d.months(s, left, right, top, high)
	count, most := map[string]map[int]int{}, 1
	week := func(t time.Time) int { return max(0, int(t.Sub(d.At).Hours()/24/7)) }
	for _, i := range d.Due {
		if count[i.Kind] == nil {
			count[i.Kind] = map[int]int{}
		}
		count[i.Kind][week(i.At)]++
		most = max(most, count[i.Kind][week(i.At)])
	}
	for k, kind := range kinds {
		y := top + (k+1)*row
		s.Text(10, y-8, kind, `class="name"`)
		s.Line(left, y, right, y, `class="grid"`)
		for _, w := range slices.Sorted(maps.Keys(count[kind])) {
			n := count[kind][w]
			from := x(d.At.AddDate(0, 0, 7*w))
			high := max(3, n*(row-22)/most)
			class := "bar"
			if w == 0 {
				class += " bad"
			} else if w < 5 {
				class += " wanting"
			}
			s.Group(`class="` + class + `"`)
			s.Title(fmt.Sprintf("%s: %d in the week of %s", kind, n, d.At.AddDate(0, 0, 7*w).Format("2006-01-02")))
			s.Rect(from, y-high, 12, high)
			s.Text(from+6, y-high-3, fmt.Sprint(n), `class="small mid"`)
			s.Gend()
		}
	}
	s.End()
	return drawn(&b)
}

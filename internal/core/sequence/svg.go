package sequence

import (
	"fmt"
	"html"
	"strings"
	"unicode/utf8"
)

const (
	laneWide = 230
	rowHigh  = 46
	headHigh = 56
)

// SVG draws as SVG. With style it stands by itself, as a file; without it takes the colours of the page in which it
// stands, by the classes good, bad and soft. mask hides what whoever looks may not see.
func (d *Drawing) SVG(style bool, mask func(string) string) string {
	safe := func(s string) string { return html.EscapeString(printable(s)) }
	short := func(s string, n int) string { return safe(cut(mask(s), n)) } // half a name is a name still
	wide, high := len(d.Lanes)*laneWide, headHigh+len(d.Arrows)*rowHigh+20
	var out strings.Builder
	fmt.Fprintf(&out,
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" role="img" class="sequence">`,
		wide, high, wide)
	fmt.Fprintf(&out, "<title>%s</title><desc>%s</desc>\n", safe(mask(d.Title)), safe(mask(d.words())))
	if style {
		out.WriteString(`<style>.sequence{background:#fff;color:#1c2430;font:14px system-ui,sans-serif}` +
			`.sequence .good{color:#1a6b3a}.sequence .bad{color:#a3231f}.sequence .soft{color:#5a6472}</style>` + "\n")
		fmt.Fprintf(&out, `<rect width="%d" height="%d" fill="#fff"/>`+"\n", wide, high)
	}
	x := func(name string) int { return d.column(name)*laneWide + laneWide/2 }
	for _, l := range d.Lanes {
		at := x(l)
		fmt.Fprintf(&out, `<text x="%d" y="24" text-anchor="middle" font-weight="600" fill="currentColor">%s</text>`,
			at, short(l, 26))
		fmt.Fprintf(&out,
			`<line x1="%d" y1="36" x2="%d" y2="%d" class="soft" stroke="currentColor" stroke-opacity=".45"/>`+
				"\n", at, at, high-8)
	}
	for k, a := range d.Arrows {
		y := headHigh + k*rowHigh + rowHigh/2
		class := map[Verdict]string{Passed: "good", Refused: "bad", Sent: "soft"}[a.Verdict]
		from, to := x(a.From), x(a.To)
		left, right := min(from, to), max(from, to)
		says := strings.Join(append([]string{a.mark()}, a.Why...), "; ")
		fmt.Fprintf(&out, `<g class="%s" fill="currentColor" stroke="none"><title>%s</title>`, class,
			safe(mask(fmt.Sprintf("%d: %s, %s", k+1, a.What, says))))
		room := max(right-left, laneWide) - 20
		label := fmt.Sprintf("%d %s", k+1, a.What)
		if left == right {
			fmt.Fprintf(&out, `<rect x="%d" y="%d" width="10" height="10"/>`, left-5, y-5)
			fmt.Fprintf(&out, `<text x="%d" y="%d">%s</text></g>`+"\n", left+12, y+5, short(label+", "+a.mark(), 60))
			continue
		}
		dash := ""
		if a.Verdict == Sent {
			dash = ` stroke-dasharray="7 4"`
		}
		tip := to - 10
		if to < from {
			tip = to + 10
		}
		fmt.Fprintf(&out, `<line x1="%d" y1="%d" x2="%d" y2="%d" stroke="currentColor" stroke-width="1.8"%s/>`, from,
			y, tip,
			y, dash)
		fmt.Fprintf(&out, `<path d="M%d %d L%d %d L%d %d Z"/>`, to, y, tip, y-5, tip, y+5)
		fmt.Fprintf(&out, `<text x="%d" y="%d">%s</text>`, left+10, y-7, short(label, room/8))
		fmt.Fprintf(&out, `<text x="%d" y="%d" font-size="12">%s</text></g>`+"\n", left+10, y+14, safe(a.mark()))
	}
	out.WriteString("</svg>\n")
	return out.String()
}

// words is the drawing for whoever does not see it.
func (d *Drawing) words() string {
	var out []string
	for k, a := range d.Arrows {
		way := a.From + " to " + a.To
		if a.From == a.To {
			way = "at " + a.To
		}
		out = append(out, fmt.Sprintf("%d: %s, %s, %s", k+1, way, a.What, a.mark()))
	}
	return strings.Join(out, ". ")
}

// printable leaves out what is no character of XML (XML 1.0, section 2.2).
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r == utf8.RuneError || r < 0x20 || r >= 0x7f && r < 0xa0 || r == 0xfffe || r == 0xffff ||
			r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
			return -1
		}
		return r
	}, s)
}

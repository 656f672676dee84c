package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"strconv"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/work/due"
)

// rect is a box of a drawing.
type rect struct {
	class      string
	x, y, w, h int
}

// read reads a drawing as a browser would: it has to be well formed. It returns what its titles say, the boxes of its
// parties, and how high it is.
func read(t *testing.T, drawing string) (titles []string, boxes []rect, high int) {
	t.Helper()
	class, in := "", ""
	for d := xml.NewDecoder(strings.NewReader(drawing)); ; {
		tok, err := d.Token()
		if err == io.EOF {
			return titles, boxes, high
		}
		if err != nil {
			t.Fatalf("not well formed: %v", err)
		}
		switch x := tok.(type) {
		case xml.StartElement:
			at := map[string]string{}
			for _, a := range x.Attr {
				at[a.Name.Local] = a.Value
			}
			number := func(name string) int {
				n, _ := strconv.Atoi(at[name])
				return n
			}
			switch in = x.Name.Local; in {
			case "svg":
				fmt.Sscanf(at["viewBox"], "0 0 1160 %d", &high)
			case "g":
				class = at["class"]
			case "rect":
				if strings.HasPrefix(class, "party") {
					boxes = append(boxes, rect{class, number("x"), number("y"), number("width"), number("height")})
				}
			case "script", "a", "image", "foreignObject":
				t.Errorf("a %s in a drawing", in)
			}
		case xml.CharData:
			if in == "title" {
				titles, in = append(titles, string(x)), ""
			}
		}
	}
}

// world is so many trusts between apps and providers, some under names that would leave the drawing.
func world(trusts, providers int) *Data {
	d := &Data{At: time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC), Parties: map[string]*federation.Party{}}
	for i := range trusts {
		app, provider := fmt.Sprintf("app-%03d", i*7/8), fmt.Sprintf("provider-%02d", i%providers)
		d.Parties[app] = &federation.Party{Name: app,
			Title: `<script>"&'` + "\x1b[31m\u202e" + strings.Repeat("long ", 30)}
		d.Parties[provider] = &federation.Party{Name: provider, Own: i%2 == 0}
		d.Edges = append(d.Edges, Edge{Trust: app + "@" + provider, App: app, Provider: provider, Over: "SAML",
			Standing: "live", Health: []string{"good", "wanting", "bad"}[i%3], Why: "</title><a href='x'>",
			Proof: federation.Proof{Kind: federation.WitnessProof, At: d.At}})
	}
	return d
}

// TestMap draws few and many trusts: each is there once, no box covers another, and nothing lies outside.
func TestMap(t *testing.T) {
	for _, c := range [][2]int{{0, 1}, {1, 1}, {5, 2}, {12, 12}, {40, 3}, {40, 20}, {41, 3}, {500, 10}} {
		d := world(c[0], c[1])
		drawing := d.Map()
		if drawing != d.Map() {
			t.Errorf("%v: drawn twice, it differs", c)
		}
		titles, boxes, high := read(t, drawing)
		for _, e := range d.Edges {
			n := 0
			for _, s := range titles {
				if strings.HasPrefix(s, e.Trust+",") {
					n++
				}
			}
			if n != 1 {
				t.Errorf("%v: %s is drawn %d times", c, e.Trust, n)
			}
		}
		for i, a := range boxes {
			if a.x < 0 || a.y < 0 || a.y+a.h > high || a.x+a.w > wide {
				t.Errorf("%v: %+v lies outside of %d by %d", c, a, wide, high)
			}
			for _, b := range boxes[:i] {
				if a.x < b.x+b.w && b.x < a.x+a.w && a.y < b.y+b.h && b.y < a.y+a.h {
					t.Errorf("%v: %+v covers %+v", c, a, b)
				}
			}
		}
	}
}

// TestTimeLine draws each date alone while there are few, and how many there are in each week where there are many.
func TestTimeLine(t *testing.T) {
	for _, n := range []int{0, 1, fewDates, fewDates + 1, 400} {
		d := world(1, 1)
		for i := range n {
			d.Due = append(d.Due, due.Item{Kind: []string{"certificate", "secret"}[i%2],
				About: fmt.Sprintf("p%d & <b>", i),
				What:  "signing certificate", At: d.At.AddDate(0, 0, i-3), Overdue: i < 3})
		}
		drawing := d.TimeLine()
		if drawing != d.TimeLine() {
			t.Errorf("%d: drawn twice, it differs", n)
		}
		if n == 0 {
			if drawing != "" {
				t.Error("a time line of nothing")
			}
			continue
		}
		titles, _, _ := read(t, drawing)
		shown := len(titles) - 1 // but for that of the drawing
		if n > fewDates {
			shown = 0
			for _, s := range titles[1:] {
				var k int
				if _, after, ok := strings.Cut(s, ": "); ok {
					fmt.Sscanf(after, "%d in the week", &k)
				}
				shown += k
			}
		}
		if shown != n {
			t.Errorf("%d of %d dates are drawn", shown, n)
		}
	}
}

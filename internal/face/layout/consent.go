package layout

import (
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
)

// Matrix is the matrix of consent: permission, how, who must agree, standing.
func Matrix(v *desk.ConsentView) format.Block {
	b := format.Block{Verdicts: []int{3}, Head: []string{"Permission", "As", "Who agrees", "Standing", ""},
		Noun: "permission",
		Empty: fmt.Sprintf("It asks for no permission. Ask for the first with `tressik permission ask %s API:NAME`.",
			v.Trust)}
	for _, r := range v.Rows {
		who := "person"
		if r.Admin {
			who = "administrator"
		}
		b.Rows = append(b.Rows, []string{r.Label, r.How, who, r.Standing, r.Detail})
	}
	b.Tone = format.Good
	switch {
	case !v.Works:
		b.Tone = format.Bad
	case !v.Whole:
		b.Tone = format.Loud
	}
	for _, r := range v.Rows {
		if r.Narrowed != nil { // its sentence ends with to what
			b.Lines = append(b.Lines, strings.Split(format.Indented("  ", r.Label+": "+r.Says), "\n")...)
		}
	}
	b.Lines = append(append(b.Lines, ""), strings.Split(format.Indented("  ", v.Line), "\n")...)
	return b
}

// Consents lists the consents of one trust.
func Consents(list []federation.Consent) format.Block {
	b := format.Block{Title: list[0].Trust, Verdicts: []int{3}, Head: []string{"Permission", "As", "For", "Standing",
		"By", "When (UTC)"},
		Noun: "entry"}
	var asked []string
	for _, c := range list {
		who, by := c.For, c.By
		if who == "" {
			who = "everyone"
		} else if c.Admin {
			by += " (administrator)"
		}
		label := federation.Ask{API: c.API, Name: c.Name, Narrowed: c.Narrowed}.Full(nil)
		b.Rows = append(b.Rows, []string{label, c.As, who, c.Standing, by, c.At.UTC().Format("2006-01-02 15:04")})
		plain := federation.Ask{API: c.API, Name: c.Name}.Label()
		line := "  asked for: `tressik consent give " + c.Trust + " " + plain + " --for everyone`"
		if c.Standing == federation.Requested && !slices.Contains(asked, line) {
			asked = append(asked, line)
		}
	}
	if asked != nil {
		b.Lines = append([]string{""}, asked...)
	}
	return b
}

// Waiting lists what waits for an administrator: permissions, and what programs asked for past their bounds.
func Waiting(list []desk.Waiting) format.Page {
	b := format.Block{Title: "Waiting for an administrator", Head: []string{"Trust", "Permission", "As", "In words",
		"Registered by"}, Noun: "permission"}
	beyond := format.Block{Title: "Past the bounds of a registrar", Head: []string{"Trust", "Asked for", "In words",
		"Registrar", "Since", "Agreed"}, Noun: "value"}
	var lines []string
	for _, w := range list {
		lines = append(lines, "  "+format.Remedy(w.Fix))
		if w.Past == nil {
			b.Rows = append(b.Rows, []string{w.Trust, w.Permission, w.As, w.Says, w.Registrar})
			continue
		}
		agreed := fmt.Sprintf("0 of %d", w.Needs)
		if n := len(w.Past.Agreed); n > 0 {
			agreed = fmt.Sprintf("%d of %d: %s", n, w.Needs, w.Past.Agreed[0].By)
		}
		beyond.Rows = append(beyond.Rows, []string{w.Trust, w.Past.Value, w.Says, w.Registrar,
			w.Past.Since.Format("2006-01-02"), agreed})
	}
	var blocks []format.Block
	for _, x := range []format.Block{b, beyond} {
		if len(x.Rows) > 0 {
			blocks = append(blocks, x)
		}
	}
	if len(list) == 0 {
		return format.Page{Data: list, Blocks: []format.Block{{Lines: []string{"Nothing waits for an administrator."}}}}
	}
	return format.Page{Data: list, Blocks: append(blocks, format.Block{Title: "To agree", Lines: append([]string{""},
		lines...)})}
}

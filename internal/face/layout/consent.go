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
	b.Lines = append([]string{""}, strings.Split(format.Indented("  ", v.Line), "\n")...)
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
		label := federation.Ask{API: c.API, Name: c.Name}.Label()
		b.Rows = append(b.Rows, []string{label, c.As, who, c.Standing, by, c.At.UTC().Format("2006-01-02 15:04")})
		line := "  asked for: `tressik consent give " + c.Trust + " " + label + " --for everyone`"
		if c.Standing == federation.Requested && !slices.Contains(asked, line) {
			asked = append(asked, line)
		}
	}
	if asked != nil {
		b.Lines = append([]string{""}, asked...)
	}
	return b
}

// Waiting lists what waits for an administrator.
func Waiting(list []desk.Waiting) format.Page {
	b := format.Block{Title: "Waiting for an administrator", Head: []string{"Trust", "Permission", "As", "In words",
		"Registered by"}, Noun: "permission", Empty: "Nothing waits for an administrator."}
	for _, w := range list {
		b.Rows = append(b.Rows, []string{w.Trust, w.Permission, w.As, w.Says, w.Registrar})
	}
	blocks := []format.Block{b}
	if len(list) > 0 {
		lines := []string{""}
		for _, w := range list {
			lines = append(lines, "  "+format.Remedy(w.Fix))
		}
		blocks = append(blocks, format.Block{Title: "To agree", Lines: lines})
	}
	return format.Page{Data: list, Blocks: blocks}
}

package layout

import (
	"strings"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/inspect"
)

// Inspection lays out what a message says and how its receiver judges it.
func Inspection(v *inspect.Inspection) []format.Block {
	var blocks []format.Block
	mark := strings.ToUpper(string(v.Verdict))
	if v.Verdict == judge.Accepted && len(v.NotChecked) > 0 {
		mark += " as far as can be judged here,"
	}
	if v.Trust != "" {
		mark += " by the rules of " + v.Trust
	}
	blocks = append(blocks, format.Block{Title: v.Kind, Mark: strings.TrimSpace(mark), Good: v.Verdict != judge.Refused,
		Fields: v.Facts})
	if len(v.Explained) > 0 {
		b := format.Block{Title: "Claims"}
		if strings.HasPrefix(v.Kind, "OAuth") {
			b.Title = "Parameters"
		}
		for _, x := range v.Explained {
			text := x[1]
			if x[2] != "" {
				text += "  (" + x[2] + ")"
			}
			b.Fields = append(b.Fields, [2]string{x[0], text})
		}
		blocks = append(blocks, b)
	}
	if v.Subject != "" && v.Explained == nil {
		fs := [][2]string{{"subject", v.Subject}, {"format", v.Format}}
		for _, at := range v.Attributes {
			label := at.Name
			if at.Friendly != "" && at.Friendly != at.Name {
				label = at.Friendly
			}
			fs = append(fs, [2]string{label, strings.Join(at.Values, ", ")})
		}
		blocks = append(blocks, format.Block{Title: "Who and what", Fields: fs})
	}
	if len(v.NotChecked) > 0 {
		b := format.Block{Title: "Not judged, since it cannot be known here"}
		for _, n := range v.NotChecked {
			b.Lines = append(b.Lines, format.Indented("  ", n))
		}
		blocks = append(blocks, b)
	}
	if len(v.Findings) > 0 {
		blocks = append(blocks, format.Block{Title: "Checks", Findings: v.Findings, Passed: true})
	}
	return blocks
}

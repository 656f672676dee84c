package layout

import (
	"fmt"
	"slices"

	"tressik.example/internal/face/format"
	"tressik.example/internal/work/charter"
)

// Comparison lays out how a ledger and a charter differ: what enacting changes, record by record, and what it costs. Of
// records that are new the values are only counted, unless all are asked for.
func Comparison(c *charter.Comparison, every bool) []format.Block {
	if c.Equal {
		return []format.Block{{Lines: []string{"No difference: the ledger is as the charter declares it."}}}
	}
	does, did := "Enacting changes", "would be"
	if c.Enacted {
		does, did = "Changed", "is"
	}
	var out []format.Block
	if len(c.Differences) > 0 {
		out = append(out, format.Block{Title: fmt.Sprintf("%s %s", does,
			format.Count(len(c.Differences), "value")), Lines: differenceLines(c.Differences, every)})
	}
	if len(c.Undeclared) > 0 {
		out = append(out, format.Block{Title: "In the ledger and not declared; --take-away takes it away",
			Lines: differenceLines(c.Undeclared, true)})
	}
	if len(c.Costs) > 0 {
		b := format.Block{Title: "Evidence that this takes back", Head: []string{"Trust", "Fact", "Rests on"}}
		for _, x := range c.Costs {
			b.Rows = append(b.Rows, []string{x.Trust, string(x.Fact), string(x.Rests)})
		}
		out = append(out, b)
	}
	after := format.Block{Title: "Afterwards"}
	for _, h := range c.Handoffs {
		after.Lines = append(after.Lines,
			fmt.Sprintf("  the %s of %s has to be given what it needs again", h.Side, h.Trust))
	}
	for _, s := range c.Secrets {
		line := fmt.Sprintf("  a secret of %s %s made, for %s, into %s", s.Trust, did, s.Lasts, s.To)
		after.Lines = append(after.Lines, line)
	}
	for _, w := range c.Waiting {
		if c.Enacted { // it is the next step
			break
		}
		after.Lines = append(after.Lines, fmt.Sprintf("  %s waits for an administrator, at %s", w.Permission, w.Trust),
			"        "+format.Remedy(w.Fix))
	}
	if len(after.Lines) > 0 {
		out = append(out, after)
	}
	return out
}

// differenceLines are differences, those of one record below its name.
func differenceLines(list []charter.Difference, every bool) []string {
	mark := map[string]string{charter.Added: "+", charter.Changed: "~", charter.Removed: "-", charter.Undeclared: "?"}
	var out []string
	for len(list) > 0 {
		about, whole := list[0].About, list[0].Field == "" && list[0].Is == ""
		n := slices.IndexFunc(list, func(d charter.Difference) bool { return d.About != about })
		if n < 0 {
			n = len(list)
		}
		of := list[:n]
		list = list[n:]
		switch {
		case whole && of[0].Kind == charter.Added && !every && n > 1:
			out = append(out, fmt.Sprintf("  + %s, with %s", about, format.Count(n-1, "value")))
			continue
		case whole:
			out = append(out, fmt.Sprintf("  %s %s", mark[of[0].Kind], about))
			of = of[1:]
		default:
			out = append(out, "  ~ "+about)
		}
		for _, d := range of {
			out = append(out, "      "+mark[d.Kind]+" "+differenceLine(d))
		}
	}
	return out
}

func differenceLine(d charter.Difference) string {
	values := d.Was + d.Is
	if d.Was != "" && d.Is != "" {
		values = d.Was + " → " + d.Is
	}
	if d.Field != "" {
		values = d.Field + ": " + values
	}
	if d.Trust {
		values += "  (touches trust)"
	}
	return values
}

// Steps lists what people have to do at trusts, each with its command.
func Steps(list []charter.Step) format.Block {
	b := format.Block{Title: "Next, for people"}
	for _, s := range list {
		b.Lines = append(b.Lines, "  "+s.Trust+": "+s.Step, "        "+format.Remedy(s.Fix))
	}
	return b
}

// Beside lays out in what two trusts differ.
func Beside(one, other string, list []charter.Difference) format.Page {
	b := format.Block{Head: []string{"Of", "Field", one, other}, Noun: "difference",
		Empty: "Both are alike, in their terms and in the clients of their apps."}
	for _, d := range list {
		b.Rows = append(b.Rows, []string{d.About, d.Field, d.Was, d.Is})
	}
	return format.Page{Data: list, Blocks: []format.Block{b}}
}

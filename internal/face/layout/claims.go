package layout

import (
	"fmt"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
)

// Preview lays out what an app would get for one person. The printer marks what is missing.
func Preview(p *format.Printer, v *desk.Preview) []format.Block {
	admitted := "yes"
	if !v.Admitted {
		admitted = "no: " + v.Why
	}
	blocks := []format.Block{{Title: fmt.Sprintf("What %s would send for %s", v.Trust, v.Person),
		Fields: [][2]string{{"admitted", admitted},
			{"subject", v.Subject.Value}, {"subject format", v.Subject.Format}}}}
	if v.Tokens != nil {
		b := format.Block{Title: "Claims, once all that is asked for is consented to", Head: []string{"Claim",
			"Value", "Scope",
			"Where"}, Noun: "claim"}
		for _, c := range v.Tokens {
			scope, where := c.Scope, "userinfo"
			if scope == "" {
				scope = "none: a rule"
			}
			if c.Tokens {
				where = "ID token, userinfo"
			}
			b.Rows = append(b.Rows, []string{c.Name, strings.Join(oidc.Words(c.Value), ", "), scope, where})
		}
		return append(append(blocks, b), Gaps(v)...)
	}
	b := format.Block{Title: "Attributes", Head: []string{"Attribute", "Values", "Name in the message"},
		Noun:  "attribute",
		Empty: fmt.Sprintf("None. Set the first with `tressik claims set %s mail=person.mail`.", v.Trust)}
	for _, at := range v.Attributes {
		label := at.Friendly
		if label == "" {
			label = at.Name
		}
		b.Rows = append(b.Rows, []string{label, strings.Join(at.Values, "\n"),
			at.Name + " (" + saml.ShortName(at.Format) + ")"})
	}
	if v.Withheld != nil {
		withheld := "Not sent, since the service " + v.Service + " does not wish it: " + strings.Join(v.Withheld,
			", ") + "."
		if b.Empty = withheld; len(b.Rows) > 0 {
			b.Lines = append(b.Lines, withheld)
		}
	}
	blocks = append(append(blocks, b), Gaps(v)...)
	if open := v.Findings.Without(finding.Pass); len(open) > 0 {
		blocks = append(blocks, format.Block{Title: "What the app wants and would not get", Findings: open})
	} else {
		blocks = append(blocks, format.Block{Lines: []string{"The app gets all that it wants."}})
	}
	return blocks
}

// Gaps lists the rules that release nothing for the person, each with its reason.
func Gaps(v *desk.Preview) []format.Block {
	if len(v.Gaps) == 0 {
		return nil
	}
	g := format.Block{Title: "Not sent for this person"}
	for _, x := range v.Gaps {
		g.Fields = append(g.Fields, [2]string{x.Claim, x.Reason})
	}
	return []format.Block{g}
}

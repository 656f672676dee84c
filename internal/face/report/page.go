package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/sequence"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/check"
)

//go:embed page.css
var style string

//go:embed page.html
var pageText string

var pages = sync.OnceValue(func() *template.Template { return template.Must(template.New("").Parse(pageText)) })

// Of long lists the page has so much; the commands have all.
const (
	mostDue      = 60
	mostTrusts   = 200
	mostFindings = 200
	mostChanges  = 100
)

type counted struct {
	N    int
	Word string
}

func counts(m map[string]int, order ...string) []counted {
	var out []counted
	for _, w := range order {
		if m[w] > 0 {
			out = append(out, counted{m[w], w})
		}
	}
	return out
}

type shownCell struct{ Sign, Says string }

type shownRow struct {
	Trust string
	Cells []shownCell
}

// shown is the matrix as it is shown.
func (d *Data) shown() []shownRow {
	var out []shownRow
	for _, r := range d.Rows {
		x := shownRow{Trust: r.Trust}
		for _, c := range d.Columns {
			cell, asks := r.Cells[c]
			if !asks {
				x.Cells = append(x.Cells, shownCell{})
				continue
			}
			s := shownCell{Sign: map[string]string{"everyone": "●", "some": "◐", "nobody": "○"}[cell.Held],
				Says: fmt.Sprintf("%s: %s, agreed by %s", r.Trust, c, cell.Held)}
			if cell.Held == "some" {
				s.Says = fmt.Sprintf("%s: %s, %d people agreed", r.Trust, c, cell.Who)
			}
			x.Cells = append(x.Cells, s)
		}
		out = append(out, x)
	}
	return out
}

// weighty are the errors and warnings that nobody accepted.
func (d *Data) weighty() []check.Item {
	return slices.DeleteFunc(d.Check.Open(), func(x check.Item) bool { return x.Level == finding.Note })
}

// HTML writes the report as one page that needs nothing beside it.
func (d *Data) HTML(w io.Writer) error {
	items := d.weighty()
	level := map[finding.Level]int{}
	for _, x := range items {
		level[x.Level]++
	}
	changed := slices.Clone(d.Changes)
	slices.Reverse(changed)
	return d.page(w, "all", map[string]any{"Title": d.Org + ": what is federated",
		"Style": template.CSS(style), "D": d,
		"Map": template.HTML(d.Map()), "Time": template.HTML(d.TimeLine()), "Remedy": format.RemedyHTML,
		"Standings": counts(d.Standing, standings()...), "Proofs": proven(d.Proofs), "Errors": level[finding.Error],
		"Warnings": level[finding.Warning], "DueFirst": d.Due[:min(len(d.Due), mostDue)], "DueMore": max(0,
			len(d.Due)-mostDue),
		"Trusts": d.Edges[:min(len(d.Edges), mostTrusts)], "TrustsMore": max(0, len(d.Edges)-mostTrusts),
		"Matrix": d.shown(), "Findings": items[:min(len(items), mostFindings)], "More": max(0, len(items)-mostFindings),
		"Changed": changed[:min(len(changed), mostChanges)], "ChangedMore": max(0, len(changed)-mostChanges)})
}

func standings() []string {
	return []string{string(federation.Drafted), string(federation.Exchanged), string(federation.Rehearsed),
		string(federation.Live),
		string(federation.Paused), string(federation.Ended)}
}

// proven are the trusts by what they rest on.
func proven(m map[string]int) []counted {
	var out []counted
	for _, p := range [][2]string{{string(federation.Asserted), "only asserted"}, {string(federation.Told), "told"},
		{string(federation.ByRehearsal), "proven by rehearsal"},
		{string(federation.ProbedProof), "probed"}, {string(federation.WitnessProof), "witnessed"}} {
		if m[p[0]] > 0 {
			out = append(out, counted{m[p[0]], p[1]})
		}
	}
	return out
}

// Section is a part of the page of one trust.
type Section struct {
	Title string
	Lines []string
	Head  []string
	Rows  [][]string
}

// One is the hand-over page of one trust.
type One struct {
	Trust    *federation.Trust
	Sections []Section
	Drawing  *sequence.Drawing // of the newest run of which messages are kept
}

// HTML writes the page of one trust.
func (o *One) HTML(w io.Writer, d *Data) error {
	return d.page(w, "one", map[string]any{"Title": o.Trust.Name, "Style": template.CSS(style), "T": o,
		"Org": d.Org, "At": d.At, "Plain": false, "Code": format.CodeHTML, "Drawing": o.drawn(d.hidden)})
}

// drawn is the drawing as it stands in the page; "" where there is none.
func (o *One) drawn(mask func(string) string) template.HTML {
	if o.Drawing == nil || o.Drawing.Empty() {
		return ""
	}
	return template.HTML(o.Drawing.SVG(false, mask))
}

// Blocks are the sections as blocks of a view, for Markdown and the terminal.
func (o *One) Blocks() []format.Block {
	var out []format.Block
	for _, s := range o.Sections {
		b := format.Block{Title: s.Title, Lines: s.Lines, Head: s.Head}
		if len(s.Head) > 0 {
			b.Rows, b.Noun = s.Rows, "row"
		} else {
			for _, r := range s.Rows {
				b.Fields = append(b.Fields, [2]string{r[0], strings.Join(r[1:], " ")})
			}
		}
		out = append(out, b)
	}
	return out
}

// Blocks are the report as blocks of a view, for Markdown: tables in place of drawings.
func (d *Data) Blocks() []format.Block {
	head := format.Block{Title: d.Org + ": what is federated", Lines: []string{"As the ledger has it on " +
		d.At.Format("2 January 2006, 15:04 UTC") + "."}}
	trusts := format.Block{Title: "Trusts", Verdicts: []int{2}, Head: []string{"Trust", "Over", "Standing",
		"Rests on", "Issues"}, Noun: "trust"}
	for i := range d.Edges {
		e := &d.Edges[i]
		trusts.Rows = append(trusts.Rows, []string{e.Trust, e.Over, e.Standing, string(e.Proof.Kind) + " since " +
			e.Proof.At.UTC().Format("2006-01-02"), e.Issues()})
	}
	runs := format.Block{Title: "What runs out", Head: []string{"Date", "About", "What"}, Noun: "date",
		Empty: "Nothing within 400 days."}
	for _, x := range d.Due[:min(len(d.Due), mostDue)] {
		runs.Rows = append(runs.Rows, []string{x.At.Format("2006-01-02"), x.About, x.What})
	}
	who := format.Block{Title: "Who can do what", Head: []string{"Client", "Permission", "Agreed for"},
		Noun: "permission", Empty: "No client asks for a permission of an API."}
	for _, r := range d.Rows {
		for _, c := range slices.Sorted(maps.Keys(r.Cells)) {
			who.Rows = append(who.Rows, []string{r.Trust, c, r.Cells[c].Held})
		}
	}
	found := format.Block{Title: "Findings, by weight",
		Head: []string{"Level", "About", "What was seen", "What to do"}, Noun: "finding",
		Empty: "No issues that a check without the network can find."}
	items := d.weighty()
	for _, x := range items[:min(len(items), mostFindings)] {
		found.Rows = append(found.Rows,
			[]string{string(x.Level), x.About, x.Check + ": " + x.Saw, format.Remedy(x.Fix)})
	}
	changed := format.Block{Title: "What changed", Head: []string{"Entry", "When", "Who", "What", "About", "Fields"},
		Noun:  "change",
		Empty: "Nothing since the last report."}
	if d.Since.IsZero() {
		changed.Empty = "This is the first report: the next one says what changed since."
	} else {
		changed.Title += " since " + d.Since.Format("2 January 2006, 15:04 UTC")
	}
	for _, e := range d.Changes[max(0, len(d.Changes)-mostChanges):] {
		changed.Rows = append(changed.Rows, []string{fmt.Sprint(e.Seq), e.At.UTC().Format("2006-01-02 15:04"), e.Actor,
			e.Action,
			e.Party + e.Trust, e.Fields()})
	}
	return []format.Block{head, trusts, runs, who, found, changed}
}

// Package report makes the report: one page about everything that is federated, or about one trust, to be read,
// printed and handed over. It draws the map of trusts and the time line of what runs out.
package report

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
	"tressik.example/internal/work/check"
	"tressik.example/internal/work/due"
)

// Maker makes reports of a ledger.
type Maker struct {
	*check.Checker
	Due *due.Finder
}

// Edge is a trust on the map.
type Edge struct {
	Trust, App, Provider string
	Over, Standing       string
	Proof                federation.Proof
	Health               string // good, wanting or bad
	Why                  string // the first finding, in words
	Owner                string
}

// Class is how the health of a trust is marked.
func (e *Edge) Class() string {
	return map[string]string{"wanting": "warning", "bad": "error"}[e.Health]
}

// Issues are what the checks found wrong with a trust, in words: that they found nothing does not mean that it works.
func (e *Edge) Issues() string {
	if level := e.Class(); level != "" {
		return level + ": " + e.Why
	}
	return "none found"
}

// Of are those of a report's trusts, dates and changes that are about one trust or its parties.
func (d *Data) Of(trust string) (trusts, dates, changes int) {
	app, provider, _ := strings.Cut(trust, "@")
	about := func(name string) bool { return name == trust || name == app || name == provider }
	for i := range d.Edges {
		if d.Edges[i].Trust == trust {
			trusts++
		}
	}
	for i := range d.Due {
		if about(d.Due[i].About) {
			dates++
		}
	}
	for i := range d.Changes {
		if e := &d.Changes[i]; e.Trust == trust || e.Trust == "" && about(e.Party) {
			changes++
		}
	}
	return trusts, dates, changes
}

// Cell is what a client may do at an API.
type Cell struct {
	Permission string // API:NAME
	As         string
	Held       string // everyone, some, nobody
	Who        int    // how many people, of some
}

// Row is a client with what it may do.
type Row struct {
	Trust string
	Cells map[string]Cell // by permission and how
}

// Data is all that a report says.
type Data struct {
	Org      string
	At       time.Time
	Parties  map[string]*federation.Party
	Edges    []Edge
	Due      []due.Item
	Columns  []string // permissions that anybody asks for, with how
	Rows     []Row
	Check    *check.Report
	Since    time.Time // the report before
	Changes  []model.Entry
	Seq      int64
	Standing map[string]int
	Proofs   map[string]int
	// Mask is over each text of what is written, before it is laid out; nil masks nothing.
	Mask func(string) string
}

// lastKey is under what the ledger keeps up to which entry of the journal the report before told.
const lastKey = "report.seq"

// Gather reads what a report says: of everything, or of the trusts that are named. Errors: those of the ledger.
func (m *Maker) Gather(ctx context.Context, since time.Time, names ...string) (*Data, error) {
	d := &Data{Org: m.Org(), At: m.Now().UTC(), Parties: map[string]*federation.Party{}, Since: since,
		Standing: map[string]int{}, Proofs: map[string]int{}}
	if err := m.parties(d, names); err != nil {
		return nil, err
	}
	var err error
	if d.Check, err = m.Run(ctx, names); err != nil {
		return nil, err
	}
	if d.Due, err = m.Due.Within(400*24*time.Hour, names...); err != nil {
		return nil, err
	}
	trusts, err := m.trusts(names)
	if err != nil {
		return nil, err
	}
	d.edges(trusts)
	if err := m.matrix(d, trusts, names); err != nil {
		return nil, err
	}
	return d, m.changes(d)
}

// parties reads those of a report: all, or both sides of the trusts that are named.
func (m *Maker) parties(d *Data, names []string) error {
	for _, n := range names {
		_, app, provider, err := m.Trust(n)
		if err != nil {
			return err
		}
		d.Parties[app.Name], d.Parties[provider.Name] = app, provider
	}
	if len(names) > 0 {
		return nil
	}
	parties, err := m.View.Parties("")
	for i := range parties {
		d.Parties[parties[i].Name] = &parties[i]
	}
	return err
}

// trusts are those that are named, or all.
func (m *Maker) trusts(names []string) (out []federation.Trust, err error) {
	if len(names) == 0 {
		return m.View.Trusts()
	}
	for _, n := range names {
		t, err := m.View.Trust(n)
		if err != nil {
			return nil, err
		}
		out = append(out, *t)
	}
	return out, nil
}

func (d *Data) edges(trusts []federation.Trust) {
	worst := map[string]check.Item{}
	rank := map[finding.Level]int{finding.Error: 2, finding.Warning: 1}
	for _, x := range d.Check.Open() {
		if was, there := worst[x.About]; rank[x.Level] > 0 && (!there || rank[x.Level] > rank[was.Level]) {
			worst[x.About] = x
		}
	}
	for i := range trusts {
		t := &trusts[i]
		d.Standing[string(t.Standing)]++
		e := Edge{Trust: t.Name, App: t.App, Provider: t.Provider, Over: federation.ProtocolTitle(t.Over()),
			Standing: string(t.Standing), Proof: t.Proof(), Health: "good", Owner: t.Owner}
		d.Proofs[string(e.Proof.Kind)]++
		for _, about := range []string{t.Name, t.App, t.Provider} {
			x, ok := worst[about]
			if !ok || t.Standing == federation.Ended {
				continue
			}
			h := map[finding.Level]string{finding.Error: "bad", finding.Warning: "wanting"}[x.Level]
			if e.Health == "good" || h == "bad" && e.Health != "bad" {
				e.Health, e.Why = h, x.Check+": "+x.Saw
			}
		}
		d.Edges = append(d.Edges, e)
	}
}

// matrix gathers who can do what: what clients ask for, and who agreed.
func (m *Maker) matrix(d *Data, trusts []federation.Trust, names []string) error {
	of := []string{""} // of all trusts
	if len(names) > 0 {
		of = names
	}
	var consents []federation.Consent
	for _, trust := range of {
		list, err := m.View.Consents(trust)
		if err != nil {
			return err
		}
		consents = append(consents, list...)
	}
	everyone, some := map[string]bool{}, map[string]int{}
	for _, c := range consents {
		if c.Standing != federation.Consented {
			continue
		}
		key := strings.Join([]string{c.Trust, c.API, c.Name, c.As}, "\x00")
		if c.For == "" {
			everyone[key] = true
		} else {
			some[key]++
		}
	}
	columns := map[string]bool{}
	for i := range trusts {
		t := &trusts[i]
		r := Row{Trust: t.Name, Cells: map[string]Cell{}}
		for _, a := range t.Asks() {
			if a.API == "" || t.Standing == federation.Ended {
				continue
			}
			key := strings.Join([]string{t.Name, a.API, a.Name, a.As}, "\x00")
			c := Cell{Permission: a.Label(), As: a.As, Held: "nobody", Who: some[key]}
			switch {
			case everyone[key]:
				c.Held = "everyone"
			case c.Who > 0:
				c.Held = "some"
			}
			col := a.Label() + " as " + a.As
			columns[col], r.Cells[col] = true, c
		}
		if len(r.Cells) > 0 {
			d.Rows = append(d.Rows, r)
		}
	}
	for c := range columns {
		d.Columns = append(d.Columns, c)
	}
	slices.Sort(d.Columns)
	return nil
}

// changes lists what changed since the report before, or since a day.
func (m *Maker) changes(d *Data) error {
	var err error
	if d.Seq, err = m.LastSeq(); err != nil {
		return err
	}
	if !d.Since.IsZero() {
		d.Changes, err = m.View.Journal(model.Filter{Since: d.Since})
		return err
	}
	last, err := m.Value(lastKey)
	if err != nil || last == "" {
		return err
	}
	var seq int64
	var at string
	if _, err := fmt.Sscanf(last, "%d %s", &seq, &at); err != nil {
		return nil // kept by a version that wrote it otherwise
	}
	d.Since, _ = time.Parse(time.RFC3339, at)
	d.Changes, err = m.Journal(model.Filter{After: seq})
	return err
}

// Told keeps that a report was made, so that the next one says what changed since.
func (m *Maker) Told(d *Data) error {
	return m.Change(func(tx *model.Edit) error {
		return tx.SetValue(lastKey, fmt.Sprintf("%d %s", d.Seq, d.At.Format(time.RFC3339)))
	})
}

// providers are the providers on the map, those with the most trusts first.
func (d *Data) providers() []string {
	n := map[string]int{}
	for _, e := range d.Edges {
		n[e.Provider]++
	}
	var out []string
	for p := range n {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b string) int { return cmp.Or(n[b]-n[a], strings.Compare(a, b)) })
	return out
}

func (d *Data) label(name string) string {
	if p := d.Parties[name]; p != nil {
		return p.Label()
	}
	return name
}

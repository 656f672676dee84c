package report

import (
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/desk"
	"tressik.example/internal/view"
)

// TrustData is a trust as data, with what its protocol has besides.
type TrustData struct {
	federation.Trust
	Findings finding.List        `json:"findings"`
	Consent  *desk.ConsentView   `json:"consent,omitempty"` // over OpenID Connect
	Secrets  []federation.Secret `json:"secrets,omitempty"`
}

// Trust lays out a trust: terms, claims, both sides compared, and the last rehearsal.
func Trust(d *desk.Desk, t *federation.Trust, app, provider *federation.Party, fs finding.List) (view.Page, error) {
	data := TrustData{Trust: *t, Findings: fs}
	over := protocolOf(t)
	terms, err := over.terms(d)
	if err != nil {
		return view.Page{}, err
	}
	more, err := over.more(d, &data)
	if err != nil {
		return view.Page{}, err
	}
	sides, now := over.head(app, provider), d.Now()
	standing := string(t.Standing)
	if t.Last != nil && t.Standing == federation.Rehearsed && len(t.Last.StandIns) > 0 {
		standing += ", with stand-ins for " + strings.Join(t.Last.StandIns, " and ")
	}
	head := append([][2]string{{"standing", standing}}, sides.before...)
	for _, side := range []string{"app", "provider"} {
		at, ok := t.Handed[side]
		v := "not yet given what it needs"
		if ok {
			v = "has what it needs since " + view.When(at, now)
		}
		head = append(head, [2]string{"the " + side, v})
	}
	head = append(head, sides.after...)
	blocks := append([]view.Block{{Title: "trust " + t.Name, Fields: head}}, append(terms, more...)...)
	blocks = append(blocks, view.Block{Title: "Both sides compared", Findings: fs, Passed: true})
	return view.Page{Data: data, Blocks: append(blocks, lastBlock(t, now))}, nil
}

func issuerOf(p *federation.Party) string {
	if doc := p.OpenIDOf(); doc != nil {
		return doc.Issuer
	}
	return ""
}

func lastBlock(t *federation.Trust, now time.Time) view.Block {
	r := t.Last
	if r == nil {
		return view.Block{Title: "Last rehearsal", Lines: []string{"  none; see `tressik next " + t.Name + "`"}}
	}
	f := [][2]string{{"verdict", string(r.Verdict)}, {"when", view.When(r.At, now)}, {"as", r.Person}}
	if r.Person == "" {
		f[2][1] = "itself"
	}
	if r.Subject != "" {
		f = append(f, [2]string{"subject", r.Subject})
	}
	if len(r.StandIns) > 0 {
		f = append(f, [2]string{"stand-ins", strings.Join(r.StandIns, ", ")})
	}
	if len(r.Suppose) > 0 {
		f = append(f, [2]string{"supposed", strings.Join(r.Suppose, ", ")})
	}
	f = append(f, [2]string{"checks", view.Tally(r.Findings)})
	if r.Verdict == judge.Accepted && len(r.Suppose) == 0 && !t.Holds {
		f = append(f, [2]string{"note", "the trust was changed since; rehearse it again"})
	}
	return view.Block{Title: "Last rehearsal", Fields: f}
}

package inspect

import (
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/redact"
)

// Witness makes a run of what a browser recorded of a trust: witnessed, for both parties were real. It proves no more
// than what passed through the browser; over OpenID Connect tokens do not. began is whether there was a message of the
// trust at all. mask knows the people of the ledger.
func (d *Inspector) Witness(in Input, list []Recorded, mask *redact.Mask) (r *federation.Run, began bool, err error) {
	t, app, provider, err := d.Trust(in.Trust)
	if err != nil {
		return nil, false, err
	}
	r = &federation.Run{Kind: federation.WitnessProof, Rehearsal: federation.Rehearsal{At: d.Now().UTC(), Trust: t.Name,
		Verdict: judge.Refused, StandIns: []string{}, Findings: finding.List{}, Addresses: map[string]string{}}}
	var mine []Recorded
	sides := d.federated()
	for _, m := range list {
		if d.trustOf(m, sides) == t.Name {
			mine = append(mine, m)
		}
	}
	end := ""
	d.Session(in, mine, func(m Recorded, v *Inspection, err error) {
		if !began && !m.At.IsZero() {
			r.At = m.At.UTC()
		}
		began = true
		if len(r.Messages) < 40 {
			r.Messages = append(r.Messages, federation.Message{Kind: fmt.Sprintf("entry %d", m.Entry),
				Text: mask.Message(m.Text)})
		}
		if err != nil {
			r.Findings.Add(finding.Finding{ID: finding.InspectUnknown, Level: finding.Error, Check: "message",
				Saw:      err.Error(),
				Expected: "something that inspect knows", Side: finding.Sender, Fix: finding.Do("capture it whole")})
			return
		}
		r.Findings = append(r.Findings, v.Findings...)
		if response(v) {
			r.Addresses[app.Name] = m.To
		} else {
			r.Addresses[provider.Name] = m.To
		}
		switch {
		case v.Verdict != judge.Accepted:
		case v.Kind == "SAML Response":
			end, r.Subject, r.Format, r.Claims, r.Key = v.Kind, v.Subject, v.Format, v.Claims, v.Key
			r.Names = map[string]string{}
			for _, a := range v.Attributes {
				if a.Friendly != "" && a.Friendly != a.Name {
					r.Names[a.Friendly] = a.Name
				}
			}
		case strings.Contains(v.Kind, "authorization response"):
			end = v.Kind
		}
	})
	if end == "" && began {
		r.Findings.Add(finding.Finding{ID: finding.WatchUnfinished, Level: finding.Error, Check: "the recorded sign-in",
			Saw: "no answer that the app would take is in it", Expected: "a response or a code that is " +
				"accepted", Side: finding.Both,
			Fix: finding.Do("record the sign-in whole, from before its link is opened until the app's page shows")})
	}
	if end == "" || r.Findings.Failed() {
		return r, began, nil
	}
	r.Verdict = judge.Accepted
	seen := []finding.FactID{finding.FactIssuer, finding.FactSignIn, finding.FactClientID, finding.FactRedirect}
	if end == "SAML Response" { // it carries the rest itself
		seen = append(seen, finding.FactKeys, finding.FactEntityID, finding.FactACS, finding.FactClaims,
			finding.FactAdmission, finding.FactTerms)
	}
	for _, f := range federation.FactsOf(t, app, provider) {
		if slices.Contains(seen, f.Name) {
			r.Saw(f, federation.Observation{Of: map[string]string{"app": app.Name,
				"provider": provider.Name}[f.OfSide]})
		}
	}
	return r, began, nil
}

package sequence

import (
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
)

// Kept is the drawing of a run that was kept, from its messages: which check belongs to which of them is known of a
// request over SAML alone, and all others count for the last answer. It is empty where the messages do not say.
func Kept(r *federation.Run) *Drawing {
	d := New("Run of "+r.Trust, r.Trust)
	app, provider, _ := strings.Cut(r.Trust, "@")
	of := map[string]Judged{
		"request": {By: provider, What: "request"}, "response": {By: app, What: "response"},
		"authorization-request": {By: provider, What: "authorization request"},
		"id-token":              {By: app, What: "answer with an ID token"},
		"logout-request":        {By: provider, What: "logout request"},
		"logout-response":       {By: app, What: "logout response"},
	}
	requested := func(f finding.Finding) bool { return strings.HasPrefix(string(f.ID), "request.") }
	rest, answer := finding.List{}, -1
	for _, f := range r.Findings {
		if !requested(f) {
			rest = append(rest, f)
		}
	}
	for _, m := range r.Messages {
		j, known := of[m.Kind]
		if !known {
			continue
		}
		if j.Trust = r.Trust; m.Kind == "request" {
			j.Findings = slices.DeleteFunc(slices.Clone(r.Findings),
				func(f finding.Finding) bool { return !requested(f) })
		}
		d.Add(j)
		if m.Kind == "response" || m.Kind == "id-token" {
			answer = len(d.Arrows) - 1
		}
	}
	if answer >= 0 {
		d.Arrows[answer].merge(Arrow{Verdict: verdict(Judged{Findings: rest}), Checks: rest.Count(finding.Pass),
			Why: why(rest)})
	}
	return d
}

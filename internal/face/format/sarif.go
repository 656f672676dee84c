package format

import (
	"encoding/json"
	"io"

	"tressik.example/internal/core/finding"
)

// Result is a finding about something, for tools that gather results of checks.
type Result struct {
	About, Kind string
	finding.Finding
	Let string // why it is let be; "" where it is open
}

// SARIF writes findings in the format that code hosts and CI systems read (SARIF 2.1.0). What they are about is a
// logical location: a ledger has no lines.
func SARIF(w io.Writer, version string, list []Result) error {
	type text struct {
		Text string `json:"text"`
	}
	type rule struct {
		ID   string `json:"id"`
		Text text   `json:"shortDescription"`
	}
	type logical struct {
		Name string `json:"fullyQualifiedName"`
		Kind string `json:"kind"`
	}
	type location struct {
		Logical []logical `json:"logicalLocations"`
	}
	type suppression struct {
		Kind string `json:"kind"`
		Why  string `json:"justification"`
	}
	type result struct {
		Rule        string            `json:"ruleId"`
		Level       string            `json:"level"`
		Message     text              `json:"message"`
		Locations   []location        `json:"locations"`
		Prints      map[string]string `json:"partialFingerprints"`
		Suppressed  []suppression     `json:"suppressions,omitempty"`
		Expectation map[string]string `json:"properties"`
	}
	rules, results, seen := []rule{}, []result{}, map[finding.ID]bool{}
	level := map[finding.Level]string{finding.Error: "error", finding.Warning: "warning", finding.Note: "note"}
	for _, f := range list {
		if level[f.Level] == "" {
			continue
		}
		if !seen[f.ID] {
			seen[f.ID] = true
			means := Safe(f.Check)
			if e, ok := finding.Lookup(f.ID); ok {
				means = e.Means
			}
			rules = append(rules, rule{string(f.ID), text{means}})
		}
		r := result{Rule: string(f.ID), Level: level[f.Level],
			Message:     text{Safe(f.Check + ": " + f.Saw + "; expected " + f.Expected + ". " + Remedy(f.Fix))},
			Locations:   []location{{[]logical{{f.About, f.Kind}}}},
			Prints:      map[string]string{"about/v1": f.About + " " + Safe(f.Key())},
			Expectation: map[string]string{"side": string(f.Side), "reference": f.Ref}}
		if f.Let != "" {
			r.Suppressed = []suppression{{"external", Safe(f.Let)}}
		}
		results = append(results, r)
	}
	doc := map[string]any{"$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0",
		"runs": []any{map[string]any{"tool": map[string]any{"driver": map[string]any{"name": "tressik",
			"version": version, "rules": rules}}, "results": results, "columnKind": "unicodeCodePoints"}}}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(doc)
}

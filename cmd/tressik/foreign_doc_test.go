package main

import (
	"slices"
	"strings"
	"testing"

	"github.com/joshdk/go-junit"
	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
)

// TestDocumentsForTools: what CI systems read passes readers that are not ours: JUnit with its counts, SARIF with a
// rule and a place for each result.
func TestDocumentsForTools(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("expect", "add", "nightlog@ridge", "--as", "mira", "--admitted")
	d.ok("expect", "add", "nightlog@ridge", "--as", "petra", "--admitted")
	d.run("check", "--sarif", "c.sarif", "--junit", "c.xml")
	d.run("expect", "run", "--junit", "e.xml")
	d.ok("charter", "write", "--out", "now.yaml")
	d.run("charter", "try", "now.yaml", "--sarif", "t.sarif", "--junit", "t.xml")
	for _, f := range []string{"c.sarif", "t.sarif"} {
		r, err := sarif.FromString(d.read(f))
		if err != nil || len(r.Runs) != 1 || *r.Runs[0].Tool.Driver.Name != "tressik" {
			t.Fatalf("%s: %v", f, err)
		}
		rules := map[string]bool{}
		for _, x := range r.Runs[0].Tool.Driver.Rules {
			rules[*x.ID] = x.ShortDescription != nil && *x.ShortDescription.Text != ""
		}
		if len(r.Runs[0].Results) == 0 && f == "c.sarif" {
			t.Errorf("%s: the demo has findings", f)
		}
		for _, x := range r.Runs[0].Results {
			if !rules[*x.RuleID] || len(x.Locations) != 1 || len(x.Locations[0].LogicalLocations) != 1 ||
				!slices.Contains([]string{"error", "warning", "note"}, x.Level) || *x.Message.Text == "" {
				t.Errorf("%s: %+v", f, x)
			}
		}
	}
	total := 0
	for _, f := range []string{"c.xml", "e.xml", "t.xml"} {
		suites, err := junit.Ingest([]byte(d.read(f)))
		if err != nil || len(suites) == 0 {
			t.Fatalf("%s: %v, %d suites", f, err, len(suites))
		}
		failed := 0
		for _, s := range suites {
			total += s.Totals.Tests
			for _, c := range s.Tests {
				if c.Status == junit.StatusFailed {
					failed++
				}
				if strings.TrimSpace(c.Name) == "" || c.Classname == "" {
					t.Errorf("%s: a case without a name: %+v", f, c)
				}
			}
		}
		if f == "e.xml" && failed != 1 {
			t.Errorf("%s: %d failed, and one is not admitted", f, failed)
		}
	}
	if total < 10 {
		t.Errorf("%d cases", total)
	}
}

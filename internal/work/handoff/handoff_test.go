package handoff_test

import (
	"strings"
	"testing"

	"tressik.example/internal/testkit/fixture"
)

// TestSheets holds for both protocols that a sheet names under the standards' names what its side needs.
func TestSheets(t *testing.T) {
	h := fixture.New(t)
	for trust, want := range map[string]map[string][]string{
		fixture.OverSAML: {"app": {"https://login.kestrelridge.example"},
			"provider": {"https://nightlog.kestrelridge.example/saml/acs/"}},
		fixture.OverOIDC: {"app": {h.Trust(t, fixture.OverOIDC).ClientID(), "https://login.kestrelridge.example"},
			"provider": {"https://dome.kestrelridge.example/oidc/callback"}},
	} {
		for side, values := range want {
			sheet, err := h.Sides().Handoff(trust, side)
			if err != nil {
				t.Fatal(err)
			}
			var all strings.Builder
			for _, i := range sheet.Items {
				all.WriteString(i.Value + "\n")
			}
			for _, v := range values {
				if !strings.Contains(all.String(), v) {
					t.Errorf("%s for the %s lacks %s:\n%s", trust, side, v, all.String())
				}
			}
		}
		if _, err := h.Sides().Handoff(trust, "nobody"); err == nil {
			t.Errorf("%s was handed to nobody", trust)
		}
	}
}

// TestNextGetsDone holds that handing over turns an open step into a done one, and that each open step says how.
func TestNextGetsDone(t *testing.T) {
	h := fixture.New(t)
	for _, trust := range []string{fixture.OverSAML, fixture.OverOIDC} {
		open := func() (n int) {
			_, list, err := h.Sides().Next(trust)
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range list {
				if !x.Done {
					n++
					if x.Fix.IsZero() {
						t.Errorf("%s: %q is open and says not how to do it", trust, x.Step)
					}
				}
			}
			return n
		}
		before := open()
		if _, err := h.HandOver(trust, "app", "tobias"); err != nil {
			t.Fatal(err)
		}
		if after := open(); after != before-1 {
			t.Errorf("%s: %d steps were open, %d are after the app has its values", trust, before, after)
		}
	}
}

package federation

import (
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// TestArrive decides over everybody who may stand at the door.
func TestArrive(t *testing.T) {
	t.Parallel()
	lena := &people.Person{ID: "lena", Attributes: map[string][]string{"mail": {"lena@south.example"}, "room": {"5"}}}
	claims := func(mail string, verified any) map[string]any {
		c := map[string]any{"name": "Lena Holm", "given_name": "Lena"}
		if mail != "" {
			c["email"] = mail
		}
		if verified != nil {
			c["email_verified"] = verified
		}
		return c
	}
	open := Arrival{Unknown: "created", Known: "updated", Bind: "never", Groups: []string{"visitors"}}
	closed := Arrival{Unknown: "refused", Known: "kept", Bind: "verified"}
	for name, c := range map[string]struct {
		policy        Arrival
		claims        map[string]any
		bound, byMail *people.Person
		who, how, no  string
	}{
		"somebody new": {open, claims("Lena@South.example", true), nil, nil, "lena@south.example",
			ArrivedNew, ""},
		"new, nothing said of verified": {open, claims("lena@south.example", nil), nil, nil, "lena@south.example",
			ArrivedNew, ""},
		"new, not verified": {open, claims("lena@south.example", false), nil, nil, "", "",
			"arrival.unverified"},
		"new, without an address": {open, claims("", nil), nil, nil, "", "", "arrival.no-address"},
		"new, of another domain":  {open, claims("lena@ridge.example", true), nil, nil, "", "", "arrival.domain"},
		"new, of a domain below": {open, claims("lena@x.south.example", true), nil, nil, "", "",
			"arrival.domain"},
		"new where nobody is created": {closed, claims("lena@south.example", true), nil, nil, "", "",
			"arrival.unknown"},
		"came before": {open, claims("lena@south.example", true), lena, nil, "lena",
			ArrivedKnown, ""},
		"came before, now of another domain": {open, claims("lena@ridge.example", true), lena, nil, "", "",
			"arrival.domain"},
		"the same address, never bound": {open, claims("lena@south.example", true), nil, lena, "", "",
			"arrival.exists"},
		"the same address, bound": {closed, claims("lena@south.example", true), nil, lena, "lena", ArrivedBound,
			""},
		"the same address, not verified": {closed, claims("lena@south.example", nil), nil, lena, "", "",
			"arrival.unverified"},
		"the same address, verified in words": {closed, claims("lena@south.example", "true"), nil, lena, "", "",
			"arrival.unverified"},
	} {
		who, how, found := c.policy.Arrive(Arriving{Trust: "ridge@south", Subject: "s", Claims: c.claims,
			Domains: []string{"south.example"}, Bound: c.bound, ByMail: c.byMail})
		if c.no != "" {
			if ids := found.IDs(finding.Error); who != nil || len(ids) != 1 || ids[0] != c.no {
				t.Errorf("%s: %v, %v, want %s", name, who, ids, c.no)
			}
			continue
		}
		if who == nil || who.ID != c.who || how != c.how || found.Failed() {
			t.Errorf("%s: %+v, %s, %v", name, who, how, found)
		}
	}
	who, _, _ := open.Arrive(Arriving{Trust: "ridge@south", Claims: claims("new@south.example", false),
		Domains: []string{"south.example"}, Bound: lena})
	if who.Attributes["mail"][0] != "lena@south.example" || who.Attributes["displayName"][0] != "Lena Holm" ||
		who.Attributes["room"][0] != "5" || lena.Attributes["displayName"] != nil {
		t.Errorf("brought up to date: %v, and before %v", who.Attributes, lena.Attributes)
	}
	for _, d := range []string{"south", "south..example", "-south.example", "south.example/x", "süd.example",
		strings.Repeat("a", 64) + ".example", "192.0.2.1", "*.south.example"} {
		if got, err := RoutedDomain(d); err == nil {
			t.Errorf("%q is a domain: %s", d, got)
		}
	}
}

// TestVouchingUnread: what was said of whom a provider speaks for, and cannot be read, covers nobody.
func TestVouchingUnread(t *testing.T) {
	t.Parallel()
	for _, said := range [][]string{{"192.0.2.1"}, {"southmere.example", "no domain"}, {"scopes", "=x"}} {
		trust := &Trust{Name: "nightlog@southmere", SpeaksFor: said, Terms: Held{Terms: &SAMLTerms{}}}
		v := trust.Vouching(&Party{Name: "nightlog"}, &Party{Name: "southmere",
			Entity: saml.Entity{IDP: &saml.Role{Scopes: []saml.Scope{{Value: "southmere.example"}}}}})
		var found finding.List
		v.Judge(&found, trust.Name, "", map[string][]string{"mail": {"petra@southmere.example"}})
		if ids := found.IDs(finding.Error); len(ids) != 1 || ids[0] != string(finding.SubjectDomain) ||
			!strings.Contains(found[0].Expected, "cannot be read") {
			t.Errorf("%q: %+v", said, found)
		}
	}
}

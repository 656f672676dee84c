package desk_test

import (
	"errors"
	"strings"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
)

// TestTermsOfTheOtherProtocol holds that each protocol refuses the terms of the other, and leaves the trust as it was.
func TestTermsOfTheOtherProtocol(t *testing.T) {
	yes := true
	for _, c := range []struct {
		trust, name, want string
		x                 desk.Terms
	}{
		{fixture.OverSAML, "session", "is over SAML", desk.Terms{Policy: desk.PolicyTerms{Session: "8h"}}},
		{fixture.OverSAML, "consented", "nothing is consented to", desk.Terms{Admits: "consented"}},
		{fixture.OverSAML, "signs", `signs "nothing"`, desk.Terms{Signs: "nothing"}},
		{fixture.OverOIDC, "signs", "terms of trusts over SAML", desk.Terms{Signs: "both"}},
		{fixture.OverOIDC, "encrypts", "terms of trusts over SAML", desk.Terms{Encrypts: &yes}},
		{fixture.OverOIDC, "span", "session 1s", desk.Terms{Policy: desk.PolicyTerms{Session: "1s"}}},
		{fixture.OverOIDC, "network", "sign-in-from:", desk.Terms{Policy: desk.PolicyTerms{SignInFrom: "everywhere"}}},
		{fixture.OverOIDC, "strength", `strength "strong"`, desk.Terms{Strength: "strong"}},
	} {
		t.Run(c.trust+" "+c.name, func(t *testing.T) {
			h := fixture.New(t)
			before := h.Trust(t, c.trust)
			if _, err := h.ChangeTrust(c.trust, c.x); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("refused with %v, not with %q", err, c.want)
			}
			if after := h.Trust(t, c.trust); after.Version != before.Version || after.Changed != before.Changed {
				t.Errorf("the refused change left the trust changed: %+v", after)
			}
		})
	}
}

// TestTermsTakenUp holds that a change of terms is kept, and that a trust over each protocol has its own alone.
func TestTermsTakenUp(t *testing.T) {
	h := fixture.New(t)
	if _, err := h.ChangeTrust(fixture.OverSAML, desk.Terms{Signs: "both", Admits: "group:observers"}); err != nil {
		t.Fatal(err)
	}
	x := h.Trust(t, fixture.OverSAML)
	if x.SAMLTerms().Signs != "both" || x.Admits != "group:observers" || x.OIDCTerms() != nil || x.ClientID() != "" {
		t.Errorf("%+v", x)
	}
	if _, err := h.ChangeTrust(fixture.OverOIDC, desk.Terms{Policy: desk.PolicyTerms{Session: "8h",
		Refresh: "none"}}); err != nil {
		t.Fatal(err)
	}
	x = h.Trust(t, fixture.OverOIDC)
	if p := x.OIDCTerms().Policy; p.Session != 8*3600 || p.Refresh != 0 || x.SAMLTerms() != nil || x.ClientID() == "" {
		t.Errorf("%+v", x)
	}
}

func TestClaimsByProtocol(t *testing.T) {
	h := fixture.New(t)
	set := desk.ClaimInput{Assign: []string{"mail=person.mail"}}
	for trust, name := range map[string]string{fixture.OverSAML: "mail", fixture.OverOIDC: "mail"} {
		x, _, err := h.SetClaims(trust, set)
		if err != nil {
			t.Fatal(err)
		}
		if len(x.Rules) != 1 || x.Rules[0].Name != name ||
			(x.Rules[0].NameFormat == "") != (trust == fixture.OverOIDC) {
			t.Errorf("%s: %+v", trust, x.Rules)
		}
	}
	named := desk.ClaimInput{Assign: []string{"mail=person.mail"}, Name: "urn:oid:0.9.2342.19200300.100.1.3"}
	if x, _, err := h.SetClaims(fixture.OverSAML, named); err != nil || x.Rules[0].Name != named.Name {
		t.Errorf("%v %v", x, err)
	}
	if _, _, err := h.SetClaims(fixture.OverOIDC, named); err == nil {
		t.Error("a claim of a token was given the name of a SAML attribute")
	}
	passing := desk.ClaimInput{SubjectFormat: "transient"}
	if _, _, err := h.SetClaims(fixture.OverSAML, passing); err != nil {
		t.Error(err)
	}
	if _, _, err := h.SetClaims(fixture.OverOIDC, passing); !errors.Is(err, desk.ErrValue) {
		t.Errorf("a transient sub: %v", err)
	}
	for trust, in := range map[string]int{fixture.OverSAML: 1, fixture.OverOIDC: 0} {
		v, err := h.PreviewClaims(trust, "mira", "")
		if err != nil || len(v.Attributes) != in || (len(v.Tokens) > 0) == (in > 0) {
			t.Errorf("%s: %d attributes, %d claims, %v", trust, len(v.Attributes), len(v.Tokens), err)
		}
	}
}

func TestFederateRefuses(t *testing.T) {
	h := fixture.New(t)
	var unknown *desk.UnknownError
	for _, c := range []struct {
		over, app, provider, id string
		holds                   func(error) bool
	}{
		{federation.OverSAML, "nightlgo", "ridge", "", func(err error) bool {
			return errors.As(err, &unknown) && len(unknown.Near) > 0 && unknown.Near[0] == "nightlog"
		}},
		{federation.OverSAML, "nightlog", "ridge", "x",
			func(err error) bool { return errors.Is(err, desk.ErrClientID) }},
		{federation.OverSAML, "dome-scheduler", "ridge", "", func(err error) bool {
			return err != nil && strings.Contains(err.Error(), "--over oidc")
		}},
		{"carrier", "nightlog", "ridge", "", func(err error) bool { return errors.Is(err, federation.ErrTerms) }},
	} {
		if _, _, err := h.Federate(c.over, c.app, c.provider, c.id, desk.Terms{}); !c.holds(err) {
			t.Errorf("%s over %s: %v", c.app, c.over, err)
		}
	}
	if list, err := h.Trusts(); err != nil || len(list) != 2 {
		t.Errorf("%d trusts, %v", len(list), err)
	}
}

func TestRenameRefuses(t *testing.T) {
	h := fixture.New(t)
	for _, now := range []string{"", "a b", "a\x1bb", "a\u009bb", "\u202enoel", "a\u00a0b", strings.Repeat("x", 256)} {
		if _, err := h.RenamePerson("mira", now); !errors.Is(err, desk.ErrValue) {
			t.Errorf("mira became %q: %v", now, err)
		}
	}
	if p, err := h.RenamePerson("mira", "mira.solano"); err != nil || p.ID != "mira.solano" {
		t.Errorf("%v %v", p, err)
	}
}

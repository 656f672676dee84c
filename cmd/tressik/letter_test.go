package main

import (
	"slices"
	"strings"
	"testing"
)

// TestLetter has two ledgers federate by what each writes for the other, without a value typed, over both protocols.
func TestLetter(t *testing.T) {
	t.Parallel()
	ridge, apps := demoed(t), newDesk(t)
	apps.ok("init", "--org", "Hollin Array")
	give := func(from *desk, trust, side, file string, to *desk) string {
		t.Helper()
		from.ok("handoff", trust, "--for", side, "--out", "give", "--force")
		return to.write("got-"+file, from.read("give/"+file))
	}
	// Over SAML: the provider's side, read by whoever has the app.
	apps.ok("app", "add", "nightlog", "--metadata", apps.write("nightlog.xml", ridge.read("nightlog-metadata.xml")))
	l := give(ridge, "nightlog@ridge", "app", "ridge-handoff.json", apps)
	apps.ok("provider", "add", "ridge", "--handoff", l)
	apps.run("federate", "nightlog", "--with", "ridge", "--handoff", l)
	var p struct{ SAML struct{ EntityID string } }
	apps.json(&p, "provider", "show", "ridge")
	if p.SAML.EntityID != "https://login.kestrelridge.example/metadata" {
		t.Errorf("the provider is %+v", p)
	}
	// Over OpenID Connect: the registration as well.
	ridge.ok("handoff", "dome-scheduler@ridge", "--for", "app", "--out", "secret", "--with-new-secret", "30d")
	_, secret, _ := strings.Cut(ridge.read("secret/ridge.env"), "OIDC_CLIENT_SECRET=")
	secret, _, _ = strings.Cut(secret, "\n")
	l = give(ridge, "dome-scheduler@ridge", "app", "ridge-handoff.json", apps)
	if len(secret) < 40 || strings.Contains(ridge.read("secret/ridge-handoff.json"), secret) {
		t.Error("a secret is in it")
	}
	apps.ok("provider", "add", "ridge-openid", "--handoff", l)
	apps.ok("app", "add", "dome-scheduler", "--client", "web", "--redirect",
		"https://dome.kestrelridge.example/oidc/callback")
	apps.run("federate", "dome-scheduler", "--with", "ridge-openid", "--handoff", l)
	const there = "dome-scheduler@ridge-openid"
	var tr struct {
		Terms struct {
			OIDC struct {
				ClientID string
				Asks     []struct{ Permission string }
			}
		}
	}
	apps.json(&tr, "trust", "show", there)
	var asks []string
	for _, a := range tr.Terms.OIDC.Asks {
		asks = append(asks, a.Permission)
	}
	if tr.Terms.OIDC.ClientID != ridge.clientID("dome-scheduler@ridge") || !slices.Contains(asks, "openid") ||
		!slices.Contains(asks, "schedule.read") {
		t.Errorf("registered as %+v", tr)
	}
	// And back: the app's side, read by whoever has a provider.
	other := newDesk(t)
	other.ok("init", "--org", "Southmere University")
	other.ok("provider", "add", "southmere", "--own", "--at", "https://idp.southmere.example")
	l = give(apps, there, "provider", "dome-scheduler-handoff.json", other)
	other.ok("app", "add", "dome-scheduler", "--handoff", l)
	other.run("federate", "dome-scheduler", "--with", "southmere", "--handoff", l)
	other.fails(0, []string{"https://dome.kestrelridge.example/oidc/callback", "openid"}, "trust", "show",
		"dome-scheduler@southmere")
	// What is no such file, or is for the other side, is said.
	other.fails(1, []string{"it is for the provider"}, "provider", "add", "x", "--handoff", l)
	other.fails(1, []string{"no handoff that can be read"}, "app", "add", "x", "--handoff",
		other.write("no.json", `{"letter":"other"}`))
	other.fails(1, []string{"it is not the JSON"}, "app", "add", "x", "--handoff", other.write("no.txt", "x"))
	other.fails(1, []string{"it does not say \"from\""}, "app", "add", "x", "--handoff", other.write("odd.json",
		`{"letter":"tressik handoff 1","for":"provider","over":"oidc","trust":"a@b"}`))
	other.fails(1, []string{"it is over \"smoke\""}, "federate", "dome-scheduler", "--with", "southmere", "--handoff",
		other.write("smoke.json", `{"letter":"tressik handoff 1","from":"x","party":"y","for":"provider",`+
			`"over":"smoke","trust":"a@b"}`))
	other.fails(2, []string{"--handoff says all"}, "app", "add", "x", "--handoff", l, "--client", "web")
}

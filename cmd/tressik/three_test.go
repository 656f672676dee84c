package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/testkit/peer"
)

// chain is three organisations: apps at one, whose people and visitors sign in at the provider of another, which sends
// visitors on to the provider of a third. Each has a ledger and a stage of its own over HTTPS.
type chain struct {
	t                 *testing.T
	ca                *authority
	apps, ridge, home *organisation
	b                 *browser
}

// newChain federates the three from what each publishes, and leaves each with the real others.
func newChain(t *testing.T, chromium string) *chain {
	t.Helper()
	ca := newAuthority(t)
	c := &chain{t: t, ca: ca, apps: newOrganisation(t, ca, "Hollin Array"),
		ridge: newOrganisation(t, ca, "Kestrel Ridge Observatory"),
		home:  newOrganisation(t, ca, "Southmere University")}
	apps, ridge, home := c.apps, c.ridge, c.home
	home.write("people.csv", "uid,mail,displayName,givenName,sn,emailVerified\n"+
		"lena,lena.holm@southmere.example,Lena Holm,Lena,Holm,true\n")
	home.ok("people", "load", "people.csv")
	home.ok("provider", "add", "southmere", "--own", "--at", home.at+"/southmere")
	home.ok("app", "add", "ridge", "--client", "web", "--redirect", ridge.at+"/ridge/upstream/callback")
	ridge.write("people.ldif", twoPeople)
	ridge.ok("people", "load", "people.ldif")
	ridge.ok("provider", "add", "ridge", "--own", "--at", ridge.at+"/ridge")
	apps.ok("app", "add", "plates", "--own", "--at", apps.at+"/plates")
	apps.ok("app", "add", "planner", "--client", "web", "--redirect", apps.at+"/planner/callback")
	registered := func(o *organisation, app, provider string) (id, secret string) {
		t.Helper()
		trust := app + "@" + provider
		o.run("federate", app, "--with", provider, "--over", "oidc")
		for _, s := range []string{"openid", "email", "profile"} {
			o.ok("permission", "ask", trust, s, "--as", "user")
		}
		o.ok("consent", "give", trust, "--for", "everyone")
		return o.clientID(trust), o.secret(trust, "90d")
	}
	ridge.ok("app", "add", "planner", "--client", "web", "--redirect", apps.at+"/planner/callback")
	toRidge, secretAtRidge := registered(ridge, "planner", "ridge")
	toHome, secretAtHome := registered(home, "ridge", "southmere")
	apps.write("planner.secret", secretAtRidge)
	ridge.write("ridge.secret", secretAtHome)

	first := []func(){}
	for _, o := range []*organisation{apps, ridge, home} {
		s := o.stage(t)
		first = append(first, func() { s.Process.Signal(os.Interrupt); s.Wait() })
	}
	ridge.ok("app", "add", "plates", "--metadata", apps.at+"/plates/metadata", "--ca", "ca.pem")
	ridge.ok("federate", "plates", "--with", "ridge")
	ridge.ok("claims", "set", "plates@ridge", "mail=person.mail")
	ridge.ok("provider", "add", "southmere", "--issuer", home.at+"/southmere", "--ca", "ca.pem")
	ridge.ok("federate", "ridge", "--with", "southmere", "--over", "oidc", "--client-id", toHome)
	ridge.ok("permission", "ask", "ridge@southmere", "openid", "email", "profile", "--as", "user")
	ridge.ok("arrival", "set", "ridge@southmere", "--unknown", "created", "--groups", "visitors")
	ridge.ok("route", "add", "southmere.example", "--to", "southmere")
	apps.ok("provider", "add", "ridge", "--metadata", ridge.at+"/ridge/metadata", "--issuer", ridge.at+"/ridge", "--ca",
		"ca.pem")
	apps.ok("federate", "plates", "--with", "ridge")
	apps.ok("federate", "planner", "--with", "ridge", "--over", "oidc", "--client-id", toRidge)
	apps.ok("permission", "ask", "planner@ridge", "openid", "email", "profile", "--as", "user")
	for _, end := range first {
		end()
	}
	home.stage(t, "--real", "ridge")
	ridge.stage(t, "--real", "plates", "--real", "planner", "--real", "southmere")
	apps.stage(t, "--real", "ridge")

	ctx, cancel := context.WithTimeout(context.Background(), 280*time.Second)
	t.Cleanup(cancel)
	c.b = newBrowser(ctx, t, chromium, "--ignore-certificate-errors")
	c.b.ws.SetDeadline(time.Now().Add(270 * time.Second))
	return c
}

// visits has a visitor sign in from a link: the address says where they belong, and there they sign in.
func (c *chain) visits(link string) {
	c.t.Helper()
	c.b.signIn(link, "lena.holm@southmere.example")
	c.b.until(`location.href.startsWith("` + c.home.at + `") && document.querySelector("input[name=person]") !== null`)
	c.b.eval(`document.querySelector("input[name=person]").value = "lena";
		document.querySelector("form button").click()`)
}

// TestChain watches a visitor sign in through two providers of two organisations to apps of a third, over SAML and
// OpenID Connect: the observatory sees the chain as one, hop by hop, and creates the visitor.
func TestChain(t *testing.T) {
	t.Parallel()
	c := newChain(t, peer.Need(t, "chromium", "chromium-browser", "google-chrome"))
	// What was given once is known from then on: the secret at the real provider, the authority of its server.
	for _, p := range []struct {
		o            *organisation
		trust, known string
		more         []string
	}{{c.ridge, "ridge@southmere", "known", []string{"--secret-file", "ridge.secret", "--ca", "ca.pem"}},
		{c.apps, "planner@ridge", "known", []string{"--secret-file", "planner.secret", "--ca", "ca.pem"}},
		{c.ridge, "ridge@southmere", "known", nil}, {c.apps, "planner@ridge", "known", nil},
		{c.apps, "plates@ridge", "known", nil}} {
		r := p.o.probe(t, p.trust, p.more...)
		if len(r.Findings.errors()) > 0 || r.Known != p.known {
			t.Errorf("probe of %s: %q %+v", p.trust, r.Known, r.Findings)
		}
		if !strings.HasPrefix(p.trust, "plates") && !strings.Contains(fmt.Sprint(r.Findings), "probe.secret") {
			t.Errorf("the secret of %s is not tried with %v", p.trust, p.more)
		}
	}
	for _, trust := range []string{"plates@ridge", "planner@ridge"} {
		there := c.ridge.watch(t, trust, "--timeout", "60s")
		here := c.apps.watch(t, trust, "--timeout", "60s")
		c.visits(here.link)
		c.b.until(`document.title === "Signed in"`)
		v, code := here.end()
		if code != 0 || v.State != "signed in" {
			t.Fatalf("%s at the apps: %d %+v\n%s", trust, code, v, here.said.String())
		}
		if trust == "plates@ridge" {
			c.b.open(there.page)
			c.b.until(`document.querySelector("button[value=yes]") !== null`)
			c.b.shot("watch-chain")
			c.b.eval(`document.querySelector("button[value=yes]").click()`)
		}
		v, code = there.end()
		if code != 0 || v.State != "signed in" || v.Person != "lena.holm@southmere.example" {
			t.Fatalf("%s at the observatory: %d %+v\n%s", trust, code, v, there.said.String())
		}
		var through []string
		for _, s := range v.Steps {
			if s.Upstream != "" {
				through = append(through, s.By+" "+s.What)
			}
		}
		if want := "ridge authorization request, ridge answer, ridge arrival"; strings.Join(through, ", ") != want {
			t.Errorf("%s passed upstream through %q, not %q", trust, through, want)
		}
	}
	var p person
	c.ridge.json(&p, "people", "show", "lena.holm@southmere.example")
	if p.Source != "arrival ridge@southmere" || strings.Join(p.Groups, " ") != "visitors" {
		t.Errorf("the visitor is kept as %+v", p)
	}
	if kind := c.ridge.proofOf("ridge@southmere"); kind != "witnessed" {
		t.Errorf("the trust upstream is %s after it was passed through twice", kind)
	}
}

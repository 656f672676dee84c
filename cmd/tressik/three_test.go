package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
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
	secret            string // of the planner at the observatory
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
	home.ok("provider", "add", "southmere", "--own", "--at", home.at+"/southmere", "--administrators",
		"group:directors")
	home.ok("app", "add", "ridge", "--client", "web", "--redirect", ridge.at+"/ridge/upstream/callback")
	ridge.write("people.ldif", twoPeople)
	ridge.ok("people", "load", "people.ldif")
	ridge.ok("provider", "add", "ridge", "--own", "--at", ridge.at+"/ridge", "--administrators", "group:directors")
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
	c.secret = secretAtRidge
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
	home.runs(t, "--real", "ridge")
	ridge.runs(t, "--real", "plates", "--real", "planner", "--real", "southmere")
	apps.runs(t, "--real", "ridge")

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
			io.WriteString(there.in, "perhaps\nyes\n")
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
	// What arrived from the provider upstream can be entered in one step, and is still witnessed.
	var entered struct{ Claims, NotEntered []string }
	c.ridge.json(&entered, "proof", "enter", "ridge@southmere")
	if !slices.Contains(entered.Claims, "email=person.mail") {
		t.Errorf("entered %+v", entered)
	}
	c.ridge.fails(1, []string{"ridge is own"}, "proof", "enter", "plates@ridge")
	// What was seen says where, and with which key.
	var shown struct {
		Facts map[string]struct {
			Value string
			Seen  []struct{ Kind, Of, Address, Key string }
		}
	}
	c.apps.json(&shown, "trust", "show", "plates@ridge")
	f := shown.Facts["signingKeys"]
	if len(f.Seen) == 0 || f.Seen[0].Kind != "witnessed" || f.Seen[0].Of != "ridge" || f.Seen[0].Key == "" ||
		!strings.Contains(f.Value, f.Seen[0].Key) || f.Seen[0].Address != c.ridge.at+"/ridge/sso" {
		t.Errorf("the keys were seen as %+v", f)
	}
	// The provider is asked whether it takes the app's coming key; a rollover rests on the answer.
	c.apps.ok("key", "announce", "plates")
	said := func(words string) func() bool {
		return func() bool {
			c.apps.run("probe", "plates@ridge")
			return strings.Contains(strings.Join(strings.Fields(c.apps.ok("key", "plan", "plates")), " "), words)
		}
	}
	if !said("does not take it: probed")() {
		t.Errorf("the plan does not say that the coming key is not taken:\n%s", c.apps.ok("key", "plan", "plates"))
	}
	eventually(t, "the coming key is taken", func() bool { // the stage of the apps publishes it within a second
		c.ridge.run("app", "refresh", "plates", "--accept")
		return said("takes it: probed")()
	})
	c.apps.ok("key", "activate", "plates")
	if r := c.apps.probe(t, "plates@ridge"); r.Known != "known" || !r.Findings.has("probe.key") {
		t.Errorf("after the rollover %q %+v", r.Known, r.Findings)
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

// broken is one thing that goes wrong between organisations, and who names it how.
type broken struct {
	name  string
	trust string // watched at the apps, and probed there
	as    string // who signs in; "" is the visitor
	no    bool   // who signs in does not agree
	does  func(c *chain) (mend func())
	// what the probe at the apps, the watch there and the archive read there have to find, with words of what was seen;
	// "" finds nothing of it, for it cannot be seen from there
	probe, watch, archive [2]string
	there                 [2]string // what the watch at the observatory has to find
}

// TestChainBroken breaks each thing that can go wrong between the three in turn. The probe, the watch and the archive
// of the side that asks have to name it, with side and value.
func TestChainBroken(t *testing.T) {
	t.Parallel()
	c := newChain(t, peer.Need(t, "chromium", "chromium-browser", "google-chrome"))
	c.ridge.probe(t, "ridge@southmere", "--secret-file", "ridge.secret", "--ca", "ca.pem")
	c.apps.probe(t, "planner@ridge", "--secret-file", "planner.secret", "--ca", "ca.pem")
	c.b.record()
	undo := func(o *organisation, args ...string) func() { return func() { o.ok(args...) } }
	restarts := func(o *organisation, f func()) {
		o.end()
		f()
		o.begin()
	}
	for _, x := range []broken{
		{name: "redirect URI", trust: "planner@ridge", does: func(c *chain) func() {
			c.ridge.ok("app", "change", "planner", "--redirect", c.apps.at+"/planner/callback/")
			return undo(c.ridge, "app", "change", "planner", "--redirect", c.apps.at+"/planner/callback")
		}, probe: [2]string{"probe.unknown", "redirect URI"}, watch: [2]string{"probe.unknown", "redirect URI"},
			archive: [2]string{"inspect.refused", "redirect URI"},
			there:   [2]string{"oauth.redirect", "/planner/callback"}},
		{name: "assertion consumer service", trust: "plates@ridge", does: func(c *chain) func() {
			c.ridge.ok("app", "change", "plates", "--acs", c.apps.at+"/plates/acs2", "--accept")
			return undo(c.ridge, "app", "refresh", "plates", "--accept")
		}, probe: [2]string{"probe.unknown", "/plates/acs"}, watch: [2]string{"probe.unknown", "/plates/acs"},
			archive: [2]string{"inspect.refused", "/plates/acs"}, there: [2]string{"request.acs", "/plates/acs"}},
		{name: "secret", trust: "planner@ridge", as: "mira", does: func(c *chain) func() {
			c.apps.write("planner.secret", strings.Repeat("x", 43))
			return func() { c.apps.write("planner.secret", c.secret) }
		}, probe: [2]string{"probe.secret", "invalid_client"},
			watch:   [2]string{"oauth.invalid_client", "invalid_client"},
			archive: [2]string{"inspect.refused", "invalid_client"}, there: [2]string{"oauth.invalid_client", ""}},
		{name: "authority", trust: "planner@ridge", as: "mira", does: func(c *chain) func() {
			cert, key := newAuthority(t).serve()
			restarts(c.ridge, func() { c.ridge.write("stage.pem", cert); c.ridge.write("stage.key", key) })
			cert, key = c.ca.serve()
			return func() {
				restarts(c.ridge, func() { c.ridge.write("stage.pem", cert); c.ridge.write("stage.key", key) })
			}
		}, probe: [2]string{"probe.tls", "authority that is not known"},
			watch:   [2]string{"watch.down", "authority that is not known"},
			archive: [2]string{"inspect.answer", "authority that is not known"}},
		{name: "clock", trust: "plates@ridge", as: "mira", does: func(c *chain) func() {
			restarts(c.ridge, func() {
				c.ridge.env = append(c.ridge.env, "TRESSIK_NOW="+time.Now().AddDate(0, 0, 1).UTC().Format(time.RFC3339))
			})
			return func() { restarts(c.ridge, func() { c.ridge.env = c.ridge.env[:1] }) }
		}, probe: [2]string{"probe.clock", " off"}, watch: [2]string{"probe.clock", " off"},
			archive: [2]string{"inspect.answer", "request.time"}, there: [2]string{"request.time", ""}},
		{name: "consent", trust: "planner@ridge", as: "mira", does: func(c *chain) func() {
			c.ridge.ok("consent", "withdraw", "planner@ridge", "--for", "everyone", "--yes")
			c.ridge.ok("trust", "change", "planner@ridge", "--admits", "consented")
			return func() {
				c.ridge.ok("consent", "give", "planner@ridge", "--for", "everyone")
				c.ridge.ok("trust", "change", "planner@ridge", "--admits", "everyone")
			}
		}, watch: [2]string{"oauth.access_denied", "an administrator has to agree first"},
			archive: [2]string{"oauth.access_denied", "an administrator has to agree first"},
			there:   [2]string{"policy.access_denied", "nobody did for mira"}},
		{name: "admission", trust: "planner@ridge", as: "mira", does: func(c *chain) func() {
			c.ridge.ok("trust", "change", "planner@ridge", "--admits", "person:tobias")
			return undo(c.ridge, "trust", "change", "planner@ridge", "--admits", "everyone")
		}, watch: [2]string{"oauth.access_denied", "not admitted"},
			archive: [2]string{"oauth.access_denied", "not admitted"},
			there:   [2]string{"policy.access_denied", "mira is not admitted"}},
		{name: "cancelled", trust: "planner@ridge", as: "mira", no: true, does: func(c *chain) func() {
			c.ridge.ok("consent", "withdraw", "planner@ridge", "--for", "everyone", "--yes")
			return undo(c.ridge, "consent", "give", "planner@ridge", "--for", "everyone")
		}, watch: [2]string{"oauth.cancelled", "did not agree"}, archive: [2]string{"oauth.cancelled", "did not agree"},
			there: [2]string{"consent.refused", "did not agree"}},
		{name: "moved", trust: "plates@ridge", as: "mira", does: func(c *chain) func() {
			c.apps.ok("provider", "change", "ridge", "--sso", c.ridge.at+"/ridge/old-sso", "--accept")
			return undo(c.apps, "provider", "refresh", "ridge", "--accept")
		}, probe: [2]string{"probe.gone", "404"}, watch: [2]string{"probe.gone", "404"},
			archive: [2]string{"inspect.answer", "404"}},
		{name: "down", trust: "plates@ridge", as: "mira", does: func(c *chain) func() {
			c.ridge.end()
			return c.ridge.begin
		}, probe: [2]string{"probe.down", "nothing takes connections"},
			watch:   [2]string{"watch.down", "nothing takes connections"},
			archive: [2]string{"inspect.answer", "no answer"}},
		{name: "secret upstream", trust: "plates@ridge", does: func(c *chain) func() {
			was := c.ridge.read("ridge.secret")
			c.ridge.write("ridge.secret", strings.Repeat("x", 43))
			restarts(c.ridge, func() {})
			return func() { restarts(c.ridge, func() { c.ridge.write("ridge.secret", was) }) }
		}, there: [2]string{"watch.upstream", "invalid_client"}},
		{name: "upstream down", trust: "plates@ridge", does: func(c *chain) func() {
			c.home.end()
			return c.home.begin
		}, there: [2]string{"watch.upstream", "no answer"}},
		{name: "key", trust: "plates@ridge", as: "mira", does: func(c *chain) func() {
			c.ridge.ok("key", "announce", "ridge")
			c.ridge.ok("key", "activate", "ridge", "--break", "plates@ridge")
			return undo(c.apps, "provider", "refresh", "ridge", "--accept")
		}, probe: [2]string{"probe.differs", "key is new"}, watch: [2]string{"saml.signature.key", ""},
			archive: [2]string{"saml.signature.key", ""}},
	} {
		t.Run(x.name, func(t *testing.T) { c.breaks(t, &x) })
	}
}

// breaks runs one case: the others see only what lies behind it, so each is mended before the next.
func (c *chain) breaks(t *testing.T, x *broken) {
	t.Helper()
	c.t, c.b.t = t, t
	mend := x.does(c)
	defer func() {
		mend()
		eventually(t, "it works again", func() bool {
			return len(c.apps.probe(t, x.trust).Findings.errors()) == 0
		})
	}()
	names := func(who string, want [2]string, list findings) {
		t.Helper()
		if want[0] == "" {
			return
		}
		for _, f := range list {
			if f.ID == want[0] && f.Level != "pass" && strings.Contains(f.Saw, want[1]) && f.Side != "" {
				return
			}
		}
		t.Errorf("%s: %s names no %s with %q:\n%s", x.name, who, want[0], want[1], list.wrong())
	}
	if x.probe[0] != "" {
		eventually(t, "the probe sees it", func() bool {
			return slices.Contains(c.apps.probe(t, x.trust).Findings.errors(), x.probe[0])
		})
		names("the probe", x.probe, c.apps.probe(t, x.trust).Findings)
	}
	var there *watching
	if x.there[0] != "" {
		there = c.ridge.watch(t, x.trust, "--timeout", "8s")
	}
	here := c.apps.watch(t, x.trust, "--timeout", "8s")
	c.b.events = nil
	c.goes(here.link, x.as, !x.no)
	v, code := here.end()
	if code == 0 {
		t.Errorf("%s: the watch ended with %d: %+v", x.name, code, v)
	}
	names("the watch", x.watch, v.findings())
	c.apps.write("session.har", c.b.archive())
	var lines findings
	var list []struct{ Findings findings }
	c.apps.json(&list, "inspect", "session.har")
	for _, one := range list {
		lines = append(lines, one.Findings...)
	}
	names("the archive", x.archive, lines)
	if there != nil {
		v, _ = there.end()
		names("the watch at the observatory", x.there, v.findings())
	}
}

// wrong writes what is not a pass, a line for each.
func (f findings) wrong() string {
	var b strings.Builder
	for _, x := range f {
		if x.Level != "pass" {
			fmt.Fprintf(&b, "  %s %s: saw %q, expected %q, at %s\n", x.Level, x.ID, x.Saw, x.Expected, x.Side)
		}
	}
	return b.String()
}

// goes has somebody open a link and do what each page asks for, until a page asks for nothing more.
func (c *chain) goes(link, as string, agree bool) {
	c.t.Helper()
	c.b.call("Network.clearBrowserCookies", nil)
	c.b.open(link)
	still, last := 0, ""
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end) &&
		still < 8; time.Sleep(50 * time.Millisecond) {
		at := c.b.eval(`document.readyState !== "complete" ? "" : document.querySelector("input[name=person]") ?
			"person " + location.origin : document.querySelector("button[name=decision]") ? "decide" :
			"page " + location.href`)
		switch where, home := strings.CutPrefix(at, "person "); {
		case home:
			who := as
			if where == c.home.at {
				who = "lena"
			} else if who == "" {
				who = "lena.holm@southmere.example"
			}
			c.b.eval(`document.querySelector("input[name=person]").value = "` + who +
				`"; document.querySelector("form button").click()`)
		case at == "decide":
			word := "agree"
			if !agree {
				word = "refuse"
			}
			c.b.eval(`document.querySelector("button[value=` + word + `]").click()`)
		}
		if still++; at != last || !strings.HasPrefix(at, "page ") || strings.HasSuffix(at, "about:blank") {
			still, last = 0, at
		}
	}
}

package main

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"
)

// TestPastBoundsWait registers, over HTTP, a client that asks for more than its registrar may: what is within is there
// at once, the rest when two administrators have agreed, and what one of them refuses is told to whoever asks again.
func TestPastBoundsWait(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.env = d.env[1:] // the real clock
	d.write("second.csv", "id,uid,mail,displayName,groups\nruna,runa,runa@kestrelridge.example,Runa Ness,directors\n")
	d.fails(0, []string{"in which 1 is"}, "provider", "change", "ridge", "--agreed-by", "2")
	d.ok("people", "load", "second.csv")
	if s := d.ok("provider", "change", "ridge", "--agreed-by", "2"); strings.Contains(s, "in which 1 is") {
		t.Errorf("two are in the group, and yet:\n%s", s)
	}
	d.fails(2, []string{"--past-bounds"}, "registrar", "add", "pipeline", "--at-provider", "ridge", "--kinds", "web",
		"--lasts", "9d", "--past-bounds", "maybe", "--actor", "aiyana")
	d.ok("registrar", "add", "pipeline", "--at-provider", "ridge", "--kinds", "web,machine", "--hosts",
		"*.apps.kestrelridge.example", "--may-ask", "telescope-api:frames.read", "--lasts", "90d", "--out",
		"pipeline.token", "--past-bounds", "waits", "--actor", "aiyana")
	base, _, _ := openDoor(t, d)
	to := base + "/ridge/register"
	const body = `{"client_name":"Night Desk","redirect_uris":["https://desk.apps.kestrelridge.example/cb",
		"https://desk.partner.example/cb"],"backchannel_logout_uri":"https://out.partner.example/x",
		"scope":"openid frames.read dome.control"}`
	standings := func(r registered) string {
		b, _ := json.Marshal(r.body["past_bounds"])
		var list []struct{ Value, Standing string }
		json.Unmarshal(b, &list)
		var out []string
		for _, x := range list {
			out = append(out, x.Value+" "+x.Standing)
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	for _, c := range []struct{ body, code string }{ // what never waits, or what nobody can agree to
		{`{"client_name":"x","redirect_uris":["https://a.apps.kestrelridge.example"],` +
			`"token_endpoint_auth_method":"none"}`, "registers web, machine"},
		{`{"client_name":"x\u001b[2J","redirect_uris":["https://a.apps.kestrelridge.example/cb"]}`,
			"client_name: "},
		{`{"client_name":"x","redirect_uris":["https://a.apps.kestrelridge.example/cb"],"scope":"openid nonsense"}`,
			"of none of the APIs"},
		{`{"client_name":"x","redirect_uris":["https://a.apps.kestrelridge.example/cb"],` +
			`"token_endpoint_auth_method":"private_key_jwt","jwks_uri":"https://keys.partner.example/jwks"}`,
			"jwks_uri: https://keys.partner.example/jwks lies under none"},
	} {
		if r := at(t, "POST", to, d.token(), c.body, ""); r.status != 400 || !strings.Contains(r.raw, c.code) {
			t.Errorf("%s: %d %s", c.code, r.status, r.raw)
		}
	}
	made := at(t, "POST", to, d.token(), body, "")
	all := "dome.control waiting, https://desk.partner.example/cb waiting, https://out.partner.example/x waiting"
	if made.status != 201 || standings(made) != all || made.text("scope") != "openid frames.read" ||
		len(made.body["redirect_uris"].([]any)) != 1 || made.body["backchannel_logout_uri"] != nil {
		t.Fatalf("%d %s", made.status, made.raw)
	}
	const trust, uri = "night-desk@ridge", "https://desk.partner.example/cb"
	if s := d.ok("trust", "show", trust); strings.Contains(s, "partner.example") {
		t.Errorf("nobody agreed, and yet the trust has it:\n%s", s)
	}
	list := d.ok("consent", "list", "--waiting", "--trust", trust)
	for _, w := range []string{uri, "0 of 2", "pipeline", "people who sign in are sent there", "dome.control",
		"`tressik registrar agree " + trust + " " + uri + "`"} {
		if !strings.Contains(list, w) {
			t.Errorf("the list does not say %q:\n%s", w, list)
		}
	}
	d.fails(1, []string{"no administrator"}, "registrar", "agree", trust, "--yes", "--actor", "mira")
	d.fails(1, []string{"did you mean " + uri}, "registrar", "agree", trust, uri+"x", "--yes", "--actor", "aiyana")
	d.fails(1, []string{"past a registrar's bounds"}, "registrar", "agree", "skyview@ridge", "--yes", "--actor",
		"aiyana")
	if s := d.run("due", "--within", "30d").out; !strings.Contains(s, "asked for "+uri) || strings.Contains(s,
		"nobody waits") {
		t.Errorf("due does not say who waits:\n%s", s)
	}
	d.fails(1, []string{"there is no request"}, "registrar", "agree", "skyview@ridge") // nobody is asked about nothing
	d.fails(1, []string{"may not do this"}, "registrar", "agree", trust, "--yes", "--registrar", "pipeline.token")
	if s := d.ok("registrar", "agree", trust, uri, "dome.control", "--yes", "--actor", "aiyana"); !strings.Contains(s,
		"1 of 2 agreed") {
		t.Errorf("%s", s)
	}
	own, key := to+"/"+made.text("client_id"), made.text("registration_access_token")
	if r := at(t, "GET", own, key, "", ""); standings(r) != all || r.text("scope") != "openid frames.read" {
		t.Errorf("one of two agreed: %s", r.raw)
	}
	d.fails(1, []string{"has agreed to", "another one agrees"}, "registrar", "agree", trust, uri, "--yes", "--actor",
		"AIYANA")
	if s := d.ok("registrar", "agree", trust, uri, "dome.control", "--yes", "--actor", "runa"); !strings.Contains(s,
		"has "+uri+" now") {
		t.Errorf("%s", s)
	}
	if s := d.ok("registrar", "refuse", trust, "--yes", "--actor", "runa"); !strings.Contains(s,
		"refused: https://out.partner.example/x") {
		t.Errorf("%s", s)
	}
	r := at(t, "GET", own, key, "", "")
	if standings(r) != "https://out.partner.example/x refused" || len(r.body["redirect_uris"].([]any)) != 2 ||
		r.text("scope") != "openid frames.read dome.control" || r.text("scope_waiting") != "dome.control" {
		t.Errorf("two agreed: %s", r.raw)
	}
	// A replacement keeps what was agreed to, and is refused where it asks again for what was refused.
	again := `{"client_id":"` + made.text("client_id") + `",` + body[1:]
	if r = at(t, "PUT", own, key, again, ""); r.status != 400 || !strings.Contains(r.raw, "was refused by runa on ") {
		t.Errorf("asked again: %d %s", r.status, r.raw)
	}
	again = strings.Replace(again, `"backchannel_logout_uri":"https://out.partner.example/x",`, "", 1)
	if r = at(t, "PUT", own, key, again, ""); r.status != 200 || standings(r) != "" ||
		len(r.body["redirect_uris"].([]any)) != 2 || r.text("scope") != "openid frames.read dome.control" {
		t.Errorf("replaced: %d %s", r.status, r.raw)
	}
	// What is left out goes, and with it what was said to it: to have it again it waits again.
	key = r.text("registration_access_token")
	less := strings.Replace(again, `,
		"https://desk.partner.example/cb"`, "", 1)
	if r = at(t, "PUT", own, key, less, ""); r.status != 200 || len(r.body["redirect_uris"].([]any)) != 1 {
		t.Errorf("left out: %d %s", r.status, r.raw)
	}
	key = r.text("registration_access_token")
	if r = at(t, "PUT", own, key, again, ""); standings(r) != uri+" waiting" {
		t.Errorf("asked anew: %d %s", r.status, r.raw)
	}
	journal := d.ok("journal", "list", "--trust", trust)
	for _, w := range []string{"registration.agree", "registration.refuse", "runa", "registrar:pipeline"} {
		if !strings.Contains(journal, w) {
			t.Errorf("the journal does not say %q:\n%s", w, journal)
		}
	}
	d.ok("journal", "verify")
	d.ok("trust", "end", trust, "--yes")
	d.fails(1, []string{"nothing to agree to"}, "registrar", "agree", trust, "--yes", "--actor", "aiyana")
	if s := d.ok("consent", "list", "--waiting"); strings.Contains(s, uri) {
		t.Errorf("something waits at a trust that has ended:\n%s", s)
	}
	// A client whose every address waits is there, and nobody signs in at it.
	if r = at(t, "POST", to, d.token(), `{"client_name":"Far","redirect_uris":["https://far.partner.example/cb"]}`,
		""); r.status != 201 || r.body["redirect_uris"] != nil {
		t.Errorf("nothing within: %d %s", r.status, r.raw)
	}
}

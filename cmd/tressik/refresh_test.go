package main

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"
)

// refreshed is what came of reading a party again.
type refreshed struct {
	Party, Outcome, Why string
	Differences         []struct {
		What, Was, Now string
		Trust          bool
	}
	Trusts []string
}

// refresh reads southmere again, and says what came of it in the outcome and the differences that touch trust.
func (d *desk) refresh(code int, args ...string) (r refreshed, touches string) {
	d.t.Helper()
	var list []refreshed
	res := d.json(&list, append([]string{"provider", "refresh", "southmere"}, args...)...)
	if res.code != code || len(list) != 1 {
		d.t.Fatalf("refresh ends with %d, want %d: %s%s", res.code, code, res.out, res.err)
	}
	var t []string
	for _, x := range list[0].Differences {
		if x.Trust {
			t = append(t, x.What)
		}
	}
	return list[0], strings.Join(t, ", ")
}

// TestRefresh reads a provider again whose server changes, lies, dies and comes back.
func TestRefresh(t *testing.T) {
	t.Parallel()
	there := newDesk(t) // where southmere keeps its own ledger
	there.ok("init", "--org", "Southmere University")
	there.ok("provider", "add", "southmere", "--own", "--at", "https://idp.southmere.example", "--key", "ecdsa-p256")
	var page atomic.Value
	publish := func(edits ...string) string {
		text := strings.NewReplacer(edits...).Replace(there.ok("metadata", "write", "southmere"))
		page.Store(text)
		return text
	}
	publish()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text := page.Load().(string)
		if text == "" {
			w.WriteHeader(http.StatusInternalServerError)
			return
		}
		io.WriteString(w, text)
	}))
	t.Cleanup(srv.Close)
	d := federated(t)
	d.ok("provider", "add", "southmere", "--metadata", srv.URL+"/md")
	d.run("federate", "nightlog", "--with", "southmere") // the claims are no matter here
	state := func() string {
		var v map[string]any
		d.json(&v, "provider", "show", "southmere")
		b, _ := json.Marshal(v["saml"])
		return string(b)
	}
	if r, _ := d.refresh(0); r.Outcome != "unchanged" {
		t.Errorf("as it was: %+v", r)
	}
	// What touches no trust is taken.
	publish("Southmere University", "University of Southmere", "/sso\"", "/sign-on\"")
	r, touches := d.refresh(0)
	if r.Outcome != "taken" || touches != "" || len(r.Trusts) != 1 || r.Trusts[0] != "nightlog@southmere" {
		t.Errorf("a name and a path: %+v, %s", r, touches)
	}
	publish()
	d.refresh(0)
	// What touches trust waits, and changes nothing until it is accepted.
	for name, c := range map[string]struct {
		edits   []string
		touches string
	}{
		"another entity ID": {[]string{"idp.southmere.example/metadata", "idp.southmere.example/metadata2"},
			"entity ID"},
		"an endpoint elsewhere": {[]string{"https://idp.southmere.example/sso", "https://sso.southmere.test/sso"},
			"endpoint"},
	} {
		was := state()
		publish(c.edits...)
		if r, touches := d.refresh(3); r.Outcome != "waits" || !strings.HasPrefix(touches, c.touches) {
			t.Errorf("%s: %s, %s", name, r.Outcome, touches)
		}
		if state() != was {
			t.Errorf("%s: the ledger changed", name)
		}
	}
	was := state()
	there.ok("key", "announce", "southmere")
	publish()
	r, touches = d.refresh(3)
	if r.Outcome != "waits" || touches != "certificate" || r.Differences[0].Was != "" || state() != was {
		t.Errorf("a new certificate: %+v", r)
	}
	d.fails(3, []string{"waits   southmere", "! certificate is new: signing, ECDSA P-256",
		"provider refresh southmere --accept"},
		"provider", "refresh")
	d.fails(1, []string{"touches trust", "! certificate is new", "--accept"}, "provider", "change", "southmere",
		"--metadata",
		srv.URL+"/md")
	if r, _ := d.refresh(0, "--accept"); r.Outcome != "taken" || strings.Count(state(), `"certificate"`) != 2 {
		t.Errorf("accepted: %+v", r)
	}
	// A server that lies or dies changes nothing, and says what it said.
	was = state()
	for text, why := range map[string]string{"": "500", "<!DOCTYPE html><html>Sign in</html>": "HTML",
		"<md:Ent": "truncated"} {
		page.Store(text)
		if r, _ := d.refresh(3); r.Outcome != "failed" || !strings.Contains(r.Why, why) || state() != was {
			t.Errorf("%q: %+v", text, r)
		}
	}
	d.fails(3, []string{"FAILED  southmere", "what was there stays"}, "provider", "refresh")
	// What cannot be read is a date that ages; that it is read again takes it away.
	failing := func(clock string, code int, want ...string) {
		t.Helper()
		d.at(clock)
		d.refresh(3)
		d.fails(code, want, "due", "--within", "30d")
	}
	page.Store("")
	failing("2031-03-04T09:00:00Z", 0, "southmere", "it cannot be read since 2031-03-04", "500",
		"provider refresh southmere")
	failing("2031-03-06T09:00:00Z", 0, "it cannot be read since 2031-03-04")
	failing("2031-03-08T09:00:00Z", 3, "OVERDUE 2031-03-07", "it cannot be read since 2031-03-04")
	publish("idp.southmere.example/metadata", "idp.southmere.example/metadata2")
	failing("2031-03-08T10:00:00Z", 0, "southmere", "waits for your word", "provider refresh southmere --accept")
	publish()
	d.refresh(0)
	d.fails(0, []string{"Nothing expires in the next 30 days"}, "due", "--within", "30d")
	// The known signer speaks for who submitted it: a rollover waits for a word under it too, as under nobody's
	// signature.
	publish()
	d.refresh(0)
	signed := func(edits ...string) { page.Store(there.ok("metadata", "write", "southmere", "--sign")) }
	signed()
	there.ok("key", "export", "southmere", there.ring("southmere", "signing")["active"], "--out", "signer.pem")
	d.write("signer.pem", there.read("signer.pem"))
	d.ok("provider", "change", "southmere", "--metadata", srv.URL+"/md", "--signed-by", "signer.pem")
	there.ok("key", "withdraw", "southmere", there.ring("southmere", "signing")["announced"])
	signed()
	if r, touches := d.refresh(3); r.Outcome != "waits" || touches != "certificate" {
		t.Errorf("signed by the known signer: %+v", r)
	}
	if r, touches := d.refresh(0, "--accept"); r.Outcome != "taken" || touches != "certificate" {
		t.Errorf("signed by the known signer, with a word: %+v", r)
	}
	was = state()
	publish()
	if r, _ := d.refresh(3); r.Outcome != "failed" || !strings.Contains(r.Why, "signature") || state() != was {
		t.Errorf("without a signature: %+v", r)
	}
	there.ok("key", "announce", "southmere")
	there.ok("key", "activate", "southmere")
	signed()
	if r, _ := d.refresh(3); r.Outcome != "failed" || state() != was {
		t.Errorf("signed by another key: %+v", r)
	}
	d.fails(1, []string{"is Tressik's own"}, "provider", "refresh", "ridge")
	d.fails(0, []string{"by hand nightlog", "app change nightlog --metadata SOURCE"}, "app", "refresh")
}

// TestRefreshOfAnOpenIDProvider has a provider change its keys and endpoints.
func TestRefreshOfAnOpenIDProvider(t *testing.T) {
	t.Parallel()
	d := clients(t)
	keys := d.ok("key", "export", "ridge", "--jwks")
	token := "/t"
	var base string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/k" {
			io.WriteString(w, keys)
			return
		}
		at := base + token
		if strings.HasPrefix(token, "https:") {
			at = token
		}
		json.NewEncoder(w).Encode(map[string]any{"issuer": base, "authorization_endpoint": base + "/a",
			"token_endpoint": at,
			"jwks_uri":       base + "/k", "response_types_supported": []string{"code"},
			"subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"RS256",
				"ES256"}, "code_challenge_methods_supported": []string{"S256"}})
	}))
	t.Cleanup(srv.Close)
	base = srv.URL
	d.ok("provider", "add", "southmere", "--issuer", base)
	if r, _ := d.refresh(0); r.Outcome != "unchanged" {
		t.Errorf("as it was: %+v", r)
	}
	token = "/token"
	if r, touches := d.refresh(0); r.Outcome != "taken" || touches != "" {
		t.Errorf("another path: %+v", r)
	}
	token = "https://elsewhere.example/token"
	if r, touches := d.refresh(3); r.Outcome != "waits" || touches != "token endpoint" {
		t.Errorf("another host: %+v", r)
	}
	token = "/token"
	d.ok("key", "announce", "ridge", "--use", "tokens")
	keys = d.ok("key", "export", "ridge", "--jwks")
	if r, touches := d.refresh(3); r.Outcome != "waits" || touches != "key" {
		t.Errorf("a new key: %+v", r)
	}
	if r, _ := d.refresh(0, "--accept"); r.Outcome != "taken" {
		t.Errorf("accepted: %+v", r)
	}
}

// TestHistory keeps what a provider published, compares it, and gives one version back.
func TestHistory(t *testing.T) {
	t.Parallel()
	there := newDesk(t) // where southmere keeps its own ledger
	there.ok("init", "--org", "Southmere University")
	there.ok("provider", "add", "southmere", "--own", "--at", "https://idp.southmere.example", "--key", "ecdsa-p256")
	first := there.ok("metadata", "write", "southmere")
	d := federated(t)
	d.ok("provider", "add", "southmere", "--metadata", d.write("first.xml", first))
	d.run("federate", "nightlog", "--with", "southmere") // the claims are no matter here
	other := strings.NewReplacer("https://idp.southmere.example/sso", "https://sso.southmere.test/sso").Replace(first)
	if other == first {
		t.Fatal("the metadata has no such endpoint")
	}
	d.write("other.xml", other)
	d.ok("provider", "change", "southmere", "--metadata", "other.xml", "--accept")
	d.ok("provider", "change", "southmere", "--title", "Somebody") // is nothing that it published
	type version struct {
		Number      int
		Differences []struct {
			What  string
			Trust bool
		}
	}
	history := func() (list []version) { d.json(&list, "metadata", "history", "southmere"); return list }
	list := history()
	if len(list) != 2 || len(list[0].Differences) != 0 || len(list[1].Differences) == 0 ||
		!list[1].Differences[0].Trust {
		t.Fatalf("%+v", list)
	}
	d.fails(0, []string{"southmere:1  since 20", " UTC", "southmere:2", "as it is now", "! ", "sso.southmere.test"},
		"metadata", "history", "southmere")
	for _, pair := range [][2]string{{"first.xml", "other.xml"}, {"southmere:1", "southmere"}, {"southmere:1",
		"southmere:2"},
		{"southmere:1", "other.xml"}} {
		d.fails(3, []string{"touch trust", "! ", "sso.southmere.test"}, "metadata", "compare", pair[0], pair[1])
	}
	if err := os.Mkdir(d.path("southmere"), 0o700); err != nil { // a folder of the same name is no file
		t.Fatal(err)
	}
	d.fails(0, []string{"0 differences"}, "metadata", "compare", "southmere", "other.xml")
	for _, what := range []struct {
		code      int
		arg, want string
	}{{1, "nobody", "neither a file nor a party"}, {1, "southmere:3",
		"it has 1 to 2"}, {2, "southmere:x", "PARTY:NUMBER"}, {1, "ridge:1", "kept of foreign parties"}} {
		d.fails(what.code, []string{what.want}, "metadata", "compare", "southmere", what.arg)
	}
	bare := newDesk(t) // two files need no ledger
	bare.write("first.xml", first)
	bare.write("other.xml", other)
	bare.fails(3, []string{"sso.southmere.test"}, "metadata", "compare", "first.xml", "other.xml")

	d.fails(2, []string{"--yes"}, "metadata", "restore", "southmere", "1")
	d.fails(0, []string{"is what it was at version 1", "idp.southmere.example/sso", "nightlog@southmere"}, "metadata",
		"restore",
		"southmere", "1", "--yes")
	if got := d.ok("metadata", "received", "southmere"); got != first {
		t.Error("the metadata as received is not that of the version")
	}
	d.fails(0, []string{"0 differences"}, "metadata", "compare", "southmere", "first.xml")
	if list := history(); len(list) != 3 {
		t.Errorf("the restored one is a version of its own: %+v", list)
	}
	d.fails(0, []string{"already"}, "metadata", "restore", "southmere", "1", "--yes")
	d.fails(1, []string{"it has 1 to 3"}, "metadata", "restore", "southmere", "9", "--yes")
	d.ok("journal", "verify")
	// A side that came later is none that a version takes away.
	demo := demoed(t)
	demo.fails(0, []string{"the OpenID side is new"}, "metadata", "history", "southmere")
	demo.fails(0, []string{"already"}, "metadata", "restore", "southmere", "1", "--yes")
}

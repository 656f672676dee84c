package main

import (
	"net/http"
	"strings"
	"testing"
)

// TestSeenByFetch: who has the coming key is known of a party that fetched it from an address of its own, and of nobody
// else: not of one that fetched before the key, from an address that two have, or that somebody else claims.
func TestSeenByFetch(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.env = d.env[1:] // the real clock
	d.fails(2, []string{"--fetches-from", "IP address"}, "app", "change", "nightlog", "--fetches-from",
		"nightlog.example")
	d.fails(1, []string{"about foreign parties"}, "provider", "change", "ridge", "--fetches-from", "192.0.2.1")
	d.fails(2, []string{"--behind"}, "serve", "--behind", "proxy.example")
	d.ok("app", "change", "nightlog", "--fetches-from", "192.0.2.17")
	d.ok("app", "change", "dome-scheduler", "--fetches-from", "198.51.100.0/28,2001:db8::7")
	d.ok("app", "change", "plate-archive", "--fetches-from", "198.51.100.128/25")
	d.ok("app", "change", "skyview", "--fetches-from", "198.51.100.129")
	if s := d.ok("app", "show", "dome-scheduler"); !strings.Contains(s, "198.51.100.0/28, 2001:db8::7") {
		t.Errorf("the addresses are not shown:\n%s", s)
	}
	base, _, _ := openDoor(t, d, "--behind", "127.0.0.1,203.0.113.0/24")
	get := func(path, header, value string) {
		t.Helper()
		req, err := http.NewRequest("GET", base+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Host = "login.kestrelridge.example"
		req.Header.Set(header, value)
		resp, err := http.DefaultClient.Do(req)
		if err != nil || resp.StatusCode != 200 {
			t.Fatal(resp, err)
		}
		resp.Body.Close()
	}
	type row struct{ Party, How string }
	sights := func() map[string]string {
		t.Helper()
		var p struct{ Uses []struct{ Sights []row } }
		d.json(&p, "key", "plan", "ridge")
		out := map[string]string{}
		for _, u := range p.Uses {
			for _, s := range u.Sights {
				out[s.Party] = s.How
			}
		}
		return out
	}
	get("/metadata", "X-Forwarded-For", "192.0.2.17") // before there is a new key
	get("/jwks", "X-Forwarded-For", "198.51.100.3")
	keys := func() string { return at(t, "GET", base+"/jwks", "", "", "login.kestrelridge.example").raw }
	was := keys()
	eventually(t, "what was fetched is kept", func() bool {
		var x struct{ Fetched map[string]any }
		d.json(&x, "trust", "show", "nightlog@ridge")
		return len(x.Fetched) == 1
	})
	d.ok("key", "announce", "ridge")
	d.ok("key", "announce", "ridge", "--use", "tokens")
	how := sights()
	if strings.Contains(how["nightlog"], "fetch") || !strings.Contains(how["dome-scheduler"], "was before the key") {
		t.Errorf("what was fetched before the key: %v", how)
	}
	eventually(t, "the new keys are served", func() bool {
		return strings.Count(keys(), `"kid"`) > strings.Count(was,
			`"kid"`)+1
	})
	get("/metadata", "X-Forwarded-For", "192.0.2.17, 192.0.2.99, 203.0.113.5") // the last that no proxy of ours is
	get("/metadata", "Forwarded", `for=192.0.2.17, for="unknown"`)
	get("/jwks", "Forwarded", "for=198.51.100.129")       // two have it
	get("/metadata", "X-Forwarded-For", "198.51.100.200") // of an app with SAML alone, which reads no keys there
	eventually(t, "plate-archive fetched it", func() bool {
		return strings.Contains(sights()["plate-archive"], "198.51.100.200 read it")
	})
	how = sights()
	for _, p := range []string{"nightlog", "skyview"} {
		if strings.Contains(how[p], "seen by fetch") {
			t.Errorf("%s did not fetch it: %s", p, how[p])
		}
	}
	n := d.entries()
	for range 3 { // one and the same is kept once
		get("/metadata", "X-Forwarded-For", "192.0.2.17, 203.0.113.5")
		get("/jwks", "Forwarded", `proto=https;For="[2001:db8::7]:4711", for=203.0.113.9`)
	}
	eventually(t, "both fetched it", func() bool {
		how = sights()
		return strings.Contains(how["nightlog"], "seen by fetch: its address 192.0.2.17 read it ") &&
			strings.Contains(how["dome-scheduler"], "2001:db8::7 read it")
	})
	if m := d.entries(); m != n+2 {
		t.Errorf("two parties fetched three times each, and %d entries were written", m-n)
	}
	d.ok("journal", "verify")
}

package main

import (
	"os"
	"strings"
	"testing"
)

type renewal struct {
	Trust, Stage, Secret, Retired, DeliveredTo, Problem string
	Until                                               string
	Key                                                 bool
}

func (d *desk) renew(code int, args ...string) []renewal {
	d.t.Helper()
	var list []renewal
	r := d.json(&list, append([]string{"secret", "renew", "--lasts", "90d"}, args...)...)
	if r.code != code {
		d.t.Fatalf("%v: %d %s", args, r.code, r.err)
	}
	return list
}

// valid counts the secrets of a trust that are valid.
func (d *desk) valid(trust string) (n int) {
	d.t.Helper()
	return strings.Count(d.ok("secret", "list", trust, "--format", "csv"), ",valid\n")
}

// TestRenewalWithoutHands: a secret is made, brought where it belongs, used, and the old one goes, each in a run of its
// own; a crash on the way loses nothing but a secret that nobody had.
func TestRenewalWithoutHands(t *testing.T) {
	t.Parallel()
	const trust = "frame-courier@ridge"
	d := demoed(t)
	args := []string{trust, "--out", "courier.secret"}
	old := d.read("courier.secret")
	one := d.renew(0, args...)[0]
	if one.Stage != "delivered" || one.Until == "" || d.valid(trust) != 2 {
		t.Fatalf("%+v", one)
	}
	fresh := d.read("courier.secret")
	if fi, err := os.Stat(d.path("courier.secret")); err != nil || fi.Mode().Perm() != 0o600 || fresh == old {
		t.Errorf("%v %v", fi, err)
	}
	for range 2 { // nothing more happens until it is used
		if x := d.renew(0, args...)[0]; x.Stage != "delivered" || x.Secret != one.Secret || d.valid(trust) != 2 {
			t.Errorf("%+v", x)
		}
	}
	d.at("2031-03-04T10:00:00Z")
	d.ok("rehearse", trust, "--secret-file", "courier.secret")
	if x := d.renew(0, args...)[0]; x.Stage != "use seen" || x.Retired == "" || d.valid(trust) != 1 {
		t.Errorf("%+v", x)
	}
	// The next one is never used: the overlap ends it all the same.
	two := d.renew(0, args...)[0]
	if two.Stage != "delivered" || two.Secret == one.Secret {
		t.Errorf("%+v", two)
	}
	d.at("2031-03-12T10:00:01Z")
	if x := d.renew(0, args...)[0]; x.Stage != "overlap over" || x.Retired != one.Secret || d.valid(trust) != 1 {
		t.Errorf("%+v", x)
	}
	// A crash between making and bringing: the secret that nobody has goes, and another is made.
	lost := d.renew(0, args...)[0]
	d.edit("UPDATE secrets SET delivered = '' WHERE id = ?", lost.Secret)
	again := d.renew(0, args...)[0]
	if again.Stage != "delivered" || again.Secret == lost.Secret || d.valid(trust) != 2 {
		t.Errorf("after a crash: %+v", again)
	}
	d.ok("secret", "retire", trust, again.Secret, "--yes")
	if x := d.renew(1, trust, "--into", "false")[0]; x.Stage != "failed" || !strings.Contains(x.Problem,
		"is retired again") {
		t.Errorf("%+v", x)
	}
	d.fails(1, []string{"exit status 1", "is retired again"}, "secret", "renew", trust, "--lasts", "90d", "--into",
		"false")
	if n := d.valid(trust); n != 1 {
		t.Errorf("%d are valid after a delivery that failed", n)
	}
	if x := d.renew(0, trust, "--into", `cat > "$TRESSIK_TRUST.txt"`)[0]; x.Stage != "delivered" ||
		d.valid(trust) != 2 {
		t.Errorf("%+v", x)
	}
	if s := d.read(trust + ".txt"); len(strings.TrimSpace(s)) != 43 {
		t.Errorf("%q", s)
	}
	// Nothing secret stands anywhere but there.
	for _, out := range []string{d.ok("journal", "list", "--format", "json"), d.ok("secret", "list", trust)} {
		if strings.Contains(out, strings.TrimSpace(d.read(trust+".txt"))) {
			t.Error("the secret is shown")
		}
	}
	// All that is due; one that fails does not stop the others where that is said.
	d.at("2031-05-30T09:00:00Z")
	list := d.renew(0, "--due", "--out", "{trust}.secret", "--keep-going", "--within", "30d")
	if len(list) != 2 {
		t.Errorf("%+v", list)
	}
	for _, c := range [][]string{{"--lasts", "90d", trust}, {"--lasts", "90d", "--due", trust, "--out", "x"},
		{"--lasts", "5d", trust, "--out", "x", "--overlap", "7d"}, {trust, "--out", "x"}} {
		d.fails(2, nil, append([]string{"secret", "renew"}, c...)...)
	}
	d.fails(1, []string{"no regular file"}, "secret", "renew", trust, "--lasts", "90d", "--out", ".")
}

// TestKeysAreRenewed: of a client that authenticates by a key the key is renewed: both are taken for a time, then the
// new one alone.
func TestKeysAreRenewed(t *testing.T) {
	t.Parallel()
	const trust = "frame-courier@ridge"
	d := demoed(t)
	ssl := d.openssl()
	ssl("genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-out", "old.key")
	ssl("pkey", "-in", "old.key", "-pubout", "-out", "old.pub")
	d.ok("trust", "change", trust, "--client-key", "old.pub", "--client-auth", "key")
	d.ok("consent", "give", trust, "--for", "everyone", "--actor", "aiyana")
	for _, s := range strings.Fields(d.ok("secret", "list", trust, "--format", "csv")) {
		if id, _, _ := strings.Cut(s, ","); strings.HasPrefix(id, "s-") {
			d.ok("secret", "retire", trust, id, "--yes")
		}
	}
	registered := func() int {
		return strings.Count(d.ok("trust", "show", trust, "--format", "json"), `\"kid\"`)
	}
	args := []string{trust, "--out", "new.key"}
	if x := d.renew(1, trust, "--into", "false")[0]; x.Stage != "failed" || !strings.Contains(x.Problem,
		"is retired again") || registered() != 1 {
		t.Errorf("%+v, and %d are registered", x, registered())
	}
	one := d.renew(0, args...)[0]
	if one.Stage != "delivered" || !one.Key || registered() != 2 {
		t.Fatalf("%+v, and %d are registered", one, registered())
	}
	if s := d.read("new.key"); !strings.Contains(s, "BEGIN PRIVATE KEY") {
		t.Errorf("%q", s)
	}
	d.ok("token", "get", trust, "--key", "old.key")
	if x := d.renew(0, args...)[0]; x.Stage != "delivered" || x.Secret != one.Secret {
		t.Errorf("the old key was used, and: %+v", x)
	}
	d.at("2031-03-04T10:00:00Z")
	d.ok("token", "get", trust, "--key", "new.key")
	if x := d.renew(0, args...)[0]; x.Stage != "use seen" || x.Retired == "" || registered() != 1 {
		t.Errorf("%+v, and %d are registered", x, registered())
	}
	d.fails(1, []string{"not registered for " + trust}, "token", "get", trust, "--key", "old.key")
	d.ok("token", "get", trust, "--key", "new.key")
	if s := d.run("due", "--within", "100d").out; !strings.Contains(s, "key is to be renewed") {
		t.Errorf("when it is to be renewed is not due:\n%s", s)
	}
	// A crash before it was brought anywhere: the key that nobody has goes.
	lost := d.renew(0, args...)[0]
	d.edit("UPDATE secrets SET delivered = '' WHERE id = ?", lost.Secret)
	if x := d.renew(0, args...)[0]; x.Stage != "delivered" || x.Secret == lost.Secret || registered() != 2 {
		t.Errorf("after a crash: %+v, and %d are registered", x, registered())
	}
	d.at("2031-03-12T10:00:01Z")
	if x := d.renew(0, args...)[0]; x.Stage != "overlap over" || registered() != 1 {
		t.Errorf("%+v, and %d are registered", x, registered())
	}
	d.at("2031-05-30T09:00:00Z")
	found := false
	for _, x := range d.renew(0, "--due", "--out", "{trust}.secret", "--within", "30d") {
		found = found || x.Trust == trust && x.Key
	}
	if !found {
		t.Error("a key that is due is not renewed")
	}
	if strings.Contains(d.ok("journal", "list", "--format", "json"), "PRIVATE KEY") {
		t.Error("a private key stands in the journal")
	}
	d.ok("journal", "verify")
}

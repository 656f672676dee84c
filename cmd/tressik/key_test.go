package main

import (
	"crypto"
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"software.sslmate.com/src/go-pkcs12"

	md "tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/testkit/peer"
)

// ringKey is what key list tells of a key.
type ringKey struct{ Party, ID, Use, Place, Kind, KID string }

// ring lists the keys of a party for a use, by place.
func (d *desk) ring(party, use string) map[string]string {
	d.t.Helper()
	var list []ringKey
	d.json(&list, "key", "list", party)
	out := map[string]string{}
	for _, k := range list {
		if k.Use == use {
			out[k.Place] = k.ID
		}
	}
	return out
}

// signIns rehearses trusts and says which are refused, and by which errors.
func (d *desk) signIns(trusts ...string) map[string]string {
	d.t.Helper()
	out := map[string]string{}
	for _, trust := range trusts {
		args := []string{"rehearse", trust}
		if trust != "frame-courier@ridge" {
			args = append(args, "--as", "mira")
		}
		var list []struct {
			Verdict  string
			Findings findings
		}
		d.json(&list, args...)
		if list[0].Verdict == "accepted" {
			continue
		}
		var ids []string
		for _, f := range list[0].Findings {
			if f.Level == "error" {
				ids = append(ids, f.ID)
			}
		}
		out[trust] = strings.Join(ids, " ")
	}
	return out
}

// TestRollover replaces the signing key of ridge with a sign-in on each of its five trusts after each step, and then
// once more without waiting.
func TestRollover(t *testing.T) {
	t.Parallel()
	trusts := []string{"nightlog@ridge", "plate-archive@ridge", "dome-scheduler@ridge", "skyview@ridge",
		"frame-courier@ridge"}
	all := func(d *desk, after string) {
		t.Helper()
		if refused := d.signIns(trusts...); len(refused) > 0 {
			t.Errorf("after %s: refused %v", after, refused)
		}
	}
	d := demoed(t)
	first := d.ring("ridge", "signing")["active"]
	d.fails(1, []string{"no announced key", "key announce ridge --use signing"}, "key", "activate", "ridge")
	d.fails(0, []string{"nightlog@ridge: not yet", "dome-scheduler@ridge: assumed", "10.1.1"}, "key", "announce",
		"ridge")
	second := d.ring("ridge", "signing")["announced"]
	if r := d.ring("ridge", "signing"); r["active"] != first || second == "" || second == first {
		t.Fatalf("announced: %v", r)
	}
	all(d, "announcing")
	if got := strings.Count(d.ok("metadata", "write", "ridge"), "<ds:X509Certificate>"); got != 2 {
		t.Errorf("%d certificates are published", got)
	}
	d.fails(1, []string{"announced already", "key withdraw ridge " + second}, "key", "announce", "ridge")
	d.fails(1, []string{"nightlog@ridge, plate-archive@ridge may break", "--break nightlog@ridge,plate-archive@ridge",
		"handoff nightlog@ridge --for app --delivered"}, "key", "activate", "ridge")
	d.fails(0, []string{"waits for nightlog@ridge, plate-archive@ridge", "done now it may break"}, "key", "plan",
		"ridge")
	d.fails(1, []string{"is from before a key was announced"}, "handoff", "nightlog@ridge", "--for", "app",
		"--delivered", "tobias.renn@kestrelridge.example")
	d.ok("handoff", "nightlog@ridge", "--for", "app")
	d.ok("handoff", "nightlog@ridge", "--for", "app", "--delivered", "tobias.renn@kestrelridge.example")
	d.fails(1, []string{"plate-archive@ridge may break"}, "key", "activate", "ridge")
	broken := demoed(t)
	d.ok("handoff", "plate-archive@ridge", "--for", "app")
	d.ok("handoff", "plate-archive@ridge", "--for", "app", "--delivered", "ilse.varga@kestrelridge.example")
	d.fails(0, []string{"activate " + second + ": safe now", "delivered 2031-03-04", "tobias.renn"}, "key", "plan",
		"ridge")
	d.ok("key", "activate", "ridge")
	all(d, "activating")
	if r := d.ring("ridge", "signing"); r["active"] != second || r["outgoing"] != first {
		t.Errorf("active: %v", r)
	}
	d.fails(1, []string{"too early", "--early"}, "key", "withdraw", "ridge")
	d.fails(1, []string{"is active and cannot be withdrawn"}, "key", "withdraw", "ridge", second)
	d.ok("key", "withdraw", "ridge", "--early")
	all(d, "withdrawing")
	d.fails(1, []string{"no outgoing key"}, "key", "withdraw", "ridge")
	if out := d.ok("metadata", "write", "ridge"); strings.Count(out, "<ds:X509Certificate>") != 1 {
		t.Error("the withdrawn key is still published")
	}
	d.ok("journal", "verify")

	// Without waiting it is refused, and breaks exactly what was said to break.
	d = broken
	d.ok("key", "announce", "ridge")
	d.fails(1, []string{"plate-archive@ridge may break"}, "key", "activate", "ridge", "--break", "nightlog@ridge")
	d.fails(2, []string{"skyview is not waited for (assumed"}, "key", "activate", "ridge", "--break",
		"nightlog@ridge,plate-archive@ridge,skyview@ridge")
	d.ok("key", "activate", "ridge", "--break", "nightlog@ridge,plate-archive@ridge")
	refused := d.signIns(trusts...)
	if len(refused) != 2 || refused["nightlog@ridge"] != "saml.signature.key" ||
		refused["plate-archive@ridge"] != "saml.signature.key" {
		t.Errorf("refused: %v", refused)
	}
	d.fails(3, []string{"keys that the app was given", "handoff nightlog@ridge --for app"}, "rehearse",
		"nightlog@ridge", "--as",
		"mira")
	d.fails(0, []string{"open  app nightlog has what it needs"}, "next", "nightlog@ridge")
	for trust, to := range map[string]string{"nightlog@ridge": "tobias.renn@kestrelridge.example",
		"plate-archive@ridge": "ilse.varga@kestrelridge.example"} {
		d.ok("handoff", trust, "--for", "app")
		d.ok("handoff", trust, "--for", "app", "--delivered", to)
	}
	all(d, "mending")
}

// TestRolloverOfTokens replaces the key that signs tokens alone: what the old one signed is good until it is withdrawn.
func TestRolloverOfTokens(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("rehearse", "dome-scheduler@ridge", "--as", "mira", "--keep", "before")
	old := d.kept("before", "access-token")
	judge := func(code int, words ...string) {
		t.Helper()
		d.fails(code, words, "inspect", old, "--trust", "dome-scheduler@ridge")
	}
	judge(0, "ACCEPTED")
	d.ok("key", "announce", "ridge", "--use", "tokens", "--kind", "ecdsa-p384")
	d.ok("key", "activate", "ridge", "--use", "tokens")
	judge(0, "ACCEPTED")
	d.ok("rehearse", "dome-scheduler@ridge", "--as", "mira", "--keep", "after")
	d.fails(0, []string{"header alg  ES384", "ACCEPTED"}, "inspect", d.kept("after", "access-token"), "--trust",
		"dome-scheduler@ridge")
	d.ok("key", "withdraw", "ridge", "--early")
	judge(3, "token.kid")
}

// TestRolloverOfEncryption replaces the key to which assertions are encrypted: it decrypts before anybody encrypts to
// it.
func TestRolloverOfEncryption(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.ok("people", "load", d.write("people.csv", "uid,mail\nmira,mira.solano@kestrelridge.example\n"))
	d.ok("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example")
	d.ok("app", "add", "plates", "--own", "--at", "https://plates.kestrelridge.example", "--encrypted")
	d.ok("federate", "plates", "--with", "ridge")
	d.ok("trust", "change", "plates@ridge", "--encrypt", "on")
	signIn := func(after string) {
		t.Helper()
		if refused := d.signIns("plates@ridge"); len(refused) > 0 {
			t.Errorf("after %s: %v", after, refused)
		}
	}
	signIn("federating")
	d.ok("rehearse", "plates@ridge", "--as", "mira", "--keep", "before")
	d.ok("key", "announce", "plates", "--use", "encryption")
	was := d.ring("plates", "encryption")
	published := d.ok("metadata", "write", "plates")
	if strings.Count(published, `use="encryption"`) != 1 {
		t.Error("the announced key is published before it is active")
	}
	signIn("announcing")
	d.ok("key", "activate", "plates", "--use", "encryption")
	if d.ok("metadata", "write", "plates") == published || d.ring("plates", "encryption")["outgoing"] != was["active"] {
		t.Error("the new key is not published")
	}
	signIn("activating")
	// What was encrypted to the outgoing key is still read.
	kept := d.kept("before", "response")
	d.fails(0, []string{"encryption"}, "inspect", kept, "--trust", "plates@ridge", "--every-check")
	d.ok("key", "withdraw", "plates", "--early")
	d.fails(3, []string{"saml.encryption"}, "inspect", kept, "--trust", "plates@ridge")
	signIn("withdrawing")
}

// TestKeysBroughtAlong announces keys that openssl made, and refuses those that do not fit. openssl reads what is
// exported.
func TestKeysBroughtAlong(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	run := d.openssl()
	subject := "/CN=login.kestrelridge.example"
	run("req", "-x509", "-newkey", "rsa:3072", "-nodes", "-keyout", "a.pem", "-out", "a.crt", "-days", "90", "-subj",
		subject)
	run("req", "-x509", "-newkey", "rsa:1024", "-nodes", "-keyout", "weak.pem", "-out", "weak.crt", "-subj", subject)
	run("ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", "ec.pem")
	run("genpkey", "-algorithm", "ed25519", "-out", "ed.pem")
	d.at(time.Now().UTC().Format(time.RFC3339)) // openssl's clock
	for _, c := range []struct {
		code  int
		words []string
		args  []string
	}{
		{1, []string{"that of another key"}, []string{"--key", "ec.pem", "--cert", "a.crt"}},
		{1, []string{"RSA 1024"}, []string{"--key", "weak.pem", "--cert", "weak.crt"}},
		{2, []string{"not usable for SAML"}, []string{"--key", "ed.pem"}},
		{1, []string{"--key", "private key in PEM"}, []string{"--key", "a.crt"}},
		{2, []string{"unknown key kind", "rsa-3072"}, []string{"--kind", "dsa"}},
		{2, []string{"signing, encryption or tokens"}, []string{"--use", "both"}},
	} {
		d.fails(c.code, c.words, append([]string{"key", "announce", "ridge"}, c.args...)...)
	}
	d.fails(1, []string{"is foreign"}, "key", "announce", "southmere")
	d.fails(1, []string{"for encryption", "RSA"}, "key", "announce", "ridge", "--use", "encryption", "--key", "ec.pem")
	d.fails(2, []string{"--key that it belongs to"}, "key", "announce", "ridge", "--cert", "a.crt")
	if got := d.ring("ridge", "signing"); len(got) != 1 {
		t.Fatalf("a refused key is there: %v", got)
	}
	d.ok("key", "announce", "ridge", "--key", "a.pem", "--cert", "a.crt")
	d.ok("key", "announce", "ridge", "--use", "tokens", "--key", "ed.pem")
	id := d.ring("ridge", "signing")["announced"]
	d.fails(0, []string{"RSA 3072", "signs nothing yet", "kid in the JWKS"}, "key", "show", "ridge", id)
	d.fails(1, []string{"did you mean"}, "key", "show", "ridge", id[:len(id)-1]+"x")
	d.ok("key", "export", "ridge", id, "--out", "exported.pem")
	out := run("x509", "-in", "exported.pem", "-noout", "-subject", "-fingerprint", "-sha256")
	if !strings.Contains(out,
		"login.kestrelridge.example") || d.ok("key", "show", "ridge", id) == "" ||
		!strings.Contains(d.ok("key", "show", "ridge", id), strings.TrimSpace(out[strings.LastIndex(out, "=")+1:])) {
		t.Errorf("openssl reads %s", out)
	}
	if jwks := d.ok("key", "export", "ridge", "--jwks"); strings.Count(jwks, `"kid"`) != 4 || strings.Contains(jwks,
		`"d"`) {
		t.Errorf("%s", jwks)
	}
	// No private half is anywhere but sealed.
	for _, f := range []string{"tressik.ledger", "exported.pem"} {
		b, err := os.ReadFile(filepath.Join(d.dir, f))
		if err != nil || strings.Contains(string(b), "PRIVATE KEY") {
			t.Errorf("%s: %v, a private key in it", f, err)
		}
	}
	d.ok("key", "withdraw", "ridge", id) // an announcement is taken back at any time
	if got := d.ring("ridge", "signing"); len(got) != 1 {
		t.Errorf("%v", got)
	}
}

// TestDrill tries rollovers on a copy: it finds beforehand what would break, and the ledger is as it was.
func TestDrill(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	before, journal := d.ring("ridge", "signing"), d.ok("journal", "list", "--format", "json")
	drill := func(code int, args ...string) (v struct {
		Holds    bool
		NotTried map[string]string
		Steps    []struct {
			What     string
			Expected bool
			Accepted []string
			Refused  map[string][]string
		}
	}) {
		t.Helper()
		if r := d.json(&v, append([]string{"key", "drill"}, args...)...); r.code != code {
			t.Errorf("%v ends with %d: %s", args, r.code, r.err)
		}
		return v
	}
	v := drill(0, "ridge")
	if !v.Holds || len(v.Steps) != 5 || len(v.NotTried) != 0 {
		t.Fatalf("%+v", v)
	}
	for i, s := range v.Steps {
		if i < 4 && (len(s.Accepted) != 6 || len(s.Refused) != 0) {
			t.Errorf("%s: %+v", s.What, s)
		}
	}
	at := v.Steps[4]
	if !at.Expected || len(at.Accepted) != 4 || len(at.Refused) != 2 ||
		at.Refused["nightlog@ridge"][0] != "saml.signature.key" ||
		at.Refused["plate-archive@ridge"][0] != "saml.signature.key" {
		t.Errorf("at once: %+v", at)
	}
	if got := d.ring("ridge", "signing"); len(got) != 1 || got["active"] != before["active"] ||
		d.ok("journal", "list", "--format", "json") != journal {
		t.Error("the ledger changed")
	}
	// A trust that fails already says nothing of the keys.
	d.ok("claims", "set", "nightlog@ridge", "--subject", "person.roomNumber")
	v = drill(0, "ridge")
	if !strings.Contains(v.NotTried["nightlog@ridge"], "refused as it is") || len(v.Steps[1].Accepted) != 5 {
		t.Errorf("%+v", v)
	}
	d.fails(0, []string{"Not tried", "nightlog@ridge", "activated at once", "REFUSED  plate-archive@ridge"}, "key",
		"drill", "ridge")
	if v = drill(0, "ridge", "--use", "tokens"); len(v.Steps) != 4 {
		t.Errorf("tokens: %+v", v)
	}
	d.fails(1, []string{"is foreign"}, "key", "drill", "southmere")
	d.fails(1, []string{"a sign-in does not use it"}, "key", "drill", "ridge", "--use", "encryption")
	if left, err := filepath.Glob(filepath.Join(os.TempDir(),
		"tressik-drill-*")); err != nil || len(left) > 2 { // of tests at once
		t.Errorf("copies are left: %v %v", left, err)
	}
}

// TestRevokedKey has a key taken away at once: what it signed is refused, whoever has not got the new one refuses, and
// the most urgent is told first.
func TestRevokedKey(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	lost := d.ring("ridge", "signing")["active"]
	d.ok("rehearse", "nightlog@ridge", "--as", "mira", "--keep", "kept")
	d.ok("handoff", "plate-archive@ridge", "--for", "app", "--delivered", "ilse.varga@kestrelridge.example")
	d.fails(2, []string{"Take the key " + lost, "--yes"}, "key", "revoke", "ridge", lost)
	var e struct {
		Gone, Active struct{ ID string }
		Invalid      []string
		Tell         []struct{ Trust, Standing, Mail string }
		APIs         []struct {
			API         string
			Permissions []string
		}
	}
	d.json(&e, "key", "revoke", "ridge", lost, "--yes")
	if e.Gone.ID != lost || e.Active.ID == lost || e.Active.ID != d.ring("ridge",
		"signing")["active"] || len(e.Tell) != 5 ||
		e.Tell[0].Standing != "rehearsed" || e.Tell[4].Standing == "rehearsed" {
		t.Errorf("%+v", e)
	}
	if len(e.APIs) != 1 || e.APIs[0].API != "telescope-api" ||
		!slices.Contains(e.APIs[0].Permissions, "dome.control") ||
		strings.Contains(strings.Join(e.Invalid, " "), "end within") {
		t.Errorf("what whoever has the key can reach: %+v, %q", e.APIs, e.Invalid)
	}
	refused := d.signIns("nightlog@ridge", "plate-archive@ridge", "dome-scheduler@ridge", "skyview@ridge",
		"frame-courier@ridge")
	if len(refused) != 2 || refused["nightlog@ridge"] == "" || refused["plate-archive@ridge"] == "" {
		t.Errorf("refused: %v", refused)
	}
	d.fails(3, []string{"saml.signature", "handoff nightlog@ridge --for app"}, "inspect", d.kept("kept", "response"),
		"--trust",
		"nightlog@ridge")
	for _, trust := range []string{"nightlog@ridge", "plate-archive@ridge"} {
		d.ok("handoff", trust, "--for", "app")
		d.ok("handoff", trust, "--for", "app", "--delivered", "tobias.renn@kestrelridge.example")
	}
	if refused = d.signIns("nightlog@ridge", "plate-archive@ridge"); len(refused) > 0 {
		t.Errorf("once they have it: %v", refused)
	}
	d.fails(3, []string{"saml.signature"}, "inspect", d.kept("kept", "response"), "--trust", "nightlog@ridge")
	// Where one is announced it takes the place.
	d.ok("key", "announce", "ridge")
	r := d.ring("ridge", "signing")
	d.ok("key", "revoke", "ridge", r["active"], "--yes")
	if got := d.ring("ridge", "signing"); len(got) != 1 || got["active"] != r["announced"] {
		t.Errorf("%v, was %v", got, r)
	}
}

// TestKeysAndOpenSSL passes requests, answers and PKCS #12 files to and fro.
func TestKeysAndOpenSSL(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	run := d.openssl()
	id := d.ring("ridge", "signing")["active"]
	// A request, and its answer.
	d.ok("key", "request", "ridge", id, "--out", "ridge.csr")
	if out := run("req", "-in", "ridge.csr", "-noout", "-verify", "-subject"); !strings.Contains(out,
		"login.kestrelridge.example") {
		t.Errorf("%s", out)
	}
	run("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "ca.key", "-out", "ca.crt", "-days", "900",
		"-subj", "/CN=Authority")
	run("x509", "-req", "-in", "ridge.csr", "-CA", "ca.crt", "-CAkey", "ca.key", "-days", "700", "-out", "answer.crt")
	d.at("2031-03-04T09:00:00Z")
	d.fails(1, []string{"it is valid from"}, "key", "certify", "ridge", id, "--cert", "answer.crt")
	d.env = append(d.env[:0:0], d.env...)
	for i, e := range d.env {
		if strings.HasPrefix(e, "TRESSIK_NOW=") { // the real clock, as openssl has it
			d.env = append(d.env[:i], d.env[i+1:]...)
			break
		}
	}
	d.fails(1, []string{"it is that of the key"}, "key", "certify", "ridge", id, "--cert", "ca.crt")
	d.fails(0, []string{"key " + id, "CN=login.kestrelridge.example"}, "key", "certify", "ridge", id, "--cert",
		"answer.crt")
	d.ok("key", "export", "ridge", id, "--out", "now.crt")
	if got, want := d.read("now.crt"), d.read("answer.crt"); strings.TrimSpace(got) != strings.TrimSpace(want) {
		t.Error("the certificate is not that of the answer")
	}
	if refused := d.signIns("nightlog@ridge"); len(refused) > 0 {
		t.Errorf("with another certificate of one key: %v", refused)
	}
	// PKCS #12 out and in.
	d.write("word", "correct horse battery\n")
	d.write("short", "horse\n")
	d.fails(2, []string{"--password-file"}, "key", "export", "ridge", id, "--private", "--out", "ridge.p12")
	d.fails(2, []string{"at least 12"}, "key", "export", "ridge", id, "--private", "--out", "ridge.p12",
		"--password-file", "short")
	d.ok("key", "export", "ridge", id, "--private", "--out", "ridge.p12", "--password-file", "word")
	if fi, err := os.Stat(d.path("ridge.p12")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi.Mode(), err)
	}
	if out := run("pkcs12", "-in", "ridge.p12", "-passin", "file:word", "-nokeys"); !strings.Contains(out,
		"login.kestrelridge.example") {
		t.Errorf("%s", out)
	}
	run("req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", "b.key", "-out",
		"b.crt",
		"-days", "90", "-subj", "/CN=coming")
	run("pkcs12", "-export", "-inkey", "b.key", "-in", "b.crt", "-passout", "file:word", "-out", "new.p12")
	run("pkcs12", "-export", "-legacy", "-inkey", "b.key", "-in", "b.crt", "-passout", "file:word", "-out", "old.p12")
	d.fails(1, []string{"the password is wrong"}, "key", "announce", "ridge", "--pkcs12", "new.p12",
		"--password-file", "short")
	d.fails(2, []string{"choose one"}, "key", "announce", "ridge", "--pkcs12", "new.p12", "--key", "b.key")
	d.ok("key", "announce", "ridge", "--pkcs12", "new.p12", "--password-file", "word")
	d.fails(1, []string{"is a key of ridge already"}, "key", "announce", "ridge", "--use", "tokens", "--pkcs12",
		"old.p12",
		"--password-file", "word")
	d.ok("key", "withdraw", "ridge", d.ring("ridge", "signing")["announced"])
	d.ok("key", "announce", "ridge", "--use", "tokens", "--pkcs12", "old.p12", "--password-file", "word")
	// Private keys in each form that openssl writes, with and without a password.
	run("genrsa", "-out", "rsa.key", "2048")
	run("ecparam", "-name", "secp384r1", "-genkey", "-out", "params.key") // EC PARAMETERS stand before the key
	run("rsa", "-in", "rsa.key", "-traditional", "-out", "pkcs1.key")
	run("rsa", "-in", "rsa.key", "-traditional", "-aes128", "-passout", "file:word", "-out", "pkcs1-locked.key")
	run("ec", "-in", "params.key", "-aes256", "-passout", "file:word", "-out", "sec1-locked.key")
	run("pkcs8", "-topk8", "-in", "params.key", "-nocrypt", "-out", "pkcs8.key")
	run("pkcs8", "-topk8", "-in", "params.key", "-passout", "file:word", "-out", "pkcs8-locked.key")
	run("pkcs8", "-topk8", "-in", "params.key", "-scrypt", "-passout", "file:word", "-out", "scrypt-locked.key")
	run("pkcs8", "-topk8", "-in", "params.key", "-v2", "des3", "-outform", "DER", "-passout", "file:word", "-out",
		"der-locked.key")
	run("pkcs8", "-topk8", "-in", "params.key", "-v1", "PBE-SHA1-3DES", "-passout", "file:word", "-out",
		"pbes1-locked.key")
	run("pkcs8", "-topk8", "-in", "params.key", "-iter", "10000001", "-passout", "file:word", "-out", "slow-locked.key")
	for _, file := range []string{"pkcs1", "params", "pkcs8", "pkcs1-locked", "sec1-locked", "pkcs8-locked",
		"scrypt-locked",
		"der-locked"} {
		if strings.HasSuffix(file, "-locked") {
			d.fails(1, []string{"under a password", "--password-file"}, "key", "announce", "ridge", "--key",
				file+".key")
			d.fails(1, []string{"the password is wrong"}, "key", "announce", "ridge", "--key", file+".key",
				"--password-file", "short")
		}
		d.ok("key", "announce", "ridge", "--key", file+".key", "--password-file", "word")
		announced := d.ring("ridge", "signing")["announced"]
		d.ok("key", "export", "ridge", announced, "--out", file+".crt", "--force")
		if got, want := run("x509", "-in", file+".crt", "-noout", "-pubkey"),
			run("pkey", "-in", file+".key", "-passin", "file:word", "-pubout"); got != want {
			t.Errorf("%s: another key: %s", file, got)
		}
		d.ok("key", "withdraw", "ridge", announced)
	}
	// Keys that nobody should use, and certificates of another key or of another time.
	run("genrsa", "-out", "small.key", "1024")
	run("ecparam", "-name", "secp256k1", "-genkey", "-out", "other-curve.key")
	d.fails(1, []string{"give an RSA, ECDSA P-256 or P-384 private key"}, "key", "announce", "ridge", "--key",
		"other-curve.key")
	run("genrsa", "-3", "-out", "three.key", "2048")
	run("req", "-x509", "-key", "rsa.key", "-subj", "/CN=soon", "-days", "30", "-out", "soon.crt")
	d.fails(1, []string{"RSA 1024 is not usable"}, "key", "announce", "ridge", "--key", "small.key")
	d.fails(1, []string{"RSA 2048 with exponent 3 is not usable"}, "key", "announce", "ridge", "--key", "three.key")
	d.fails(1, []string{"that of another key"}, "key", "announce", "ridge", "--key", "pkcs8.key", "--cert", "soon.crt")
	d.at(time.Now().AddDate(0, 0, 60).UTC().Format(time.RFC3339))
	d.fails(1, []string{"it is valid from"}, "key", "announce", "ridge", "--key", "rsa.key", "--cert", "soon.crt")
	d.at(time.Now().UTC().Format(time.RFC3339))
	d.fails(1, []string{"not PBES2", "openssl pkcs8"}, "key", "announce", "ridge", "--key", "pbes1-locked.key",
		"--password-file", "word")
	d.fails(1, []string{"10000001 times"}, "key", "announce", "ridge", "--key", "slow-locked.key", "--password-file",
		"word")
	d.ok("journal", "verify")
}

// openssl runs openssl in the folder.
func (d *desk) openssl() func(args ...string) string {
	openssl := peer.Need(d.t, "openssl")
	return func(args ...string) string {
		d.t.Helper()
		c := exec.Command(openssl, args...)
		c.Dir = d.dir
		out, err := c.CombinedOutput()
		if err != nil {
			d.t.Fatalf("openssl %v: %v\n%s", args, err, out)
		}
		return string(out)
	}
}

// TestEncryptionKeyOfAProvider gives ridge a key for the names in requests: it is published once it is active, a
// request that is encrypted to it is opened, and what a sign-in cannot show is not drilled.
func TestEncryptionKeyOfAProvider(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	if r := d.ok("metadata", "write", "ridge"); strings.Contains(r, `use="encryption"`) {
		t.Fatal("it has one already")
	}
	said := d.ok("key", "announce", "ridge", "--use", "encryption")
	if !strings.Contains(said, "decrypts already") || strings.Contains(said, "not yet") {
		t.Errorf("somebody is waited for: %s", said)
	}
	if r := d.ok("metadata", "write", "ridge"); strings.Contains(r, `use="encryption"`) {
		t.Error("it is published before it is active")
	}
	if said = d.ok("key", "activate", "ridge", "--use", "encryption"); strings.Contains(said, "outgoing") {
		t.Errorf("an outgoing key that is not there: %s", said)
	}
	if r := d.ok("metadata", "write", "ridge"); !strings.Contains(r, `use="encryption"`) {
		t.Error("it is not published")
	}
	if said = d.ok("handoff", "nightlog@ridge", "--for", "app"); !strings.Contains(said, "Names in requests may be") {
		t.Errorf("the sheet is silent: %s", said)
	}
	d.fails(1, []string{"a sign-in does not use it"}, "key", "drill", "ridge", "--use", "encryption")

	d.ok("provider", "add", "annex", "--own", "--at", "https://annex.kestrelridge.example", "--encrypted")
	if r := d.ok("metadata", "write", "annex"); !strings.Contains(r, `use="encryption"`) {
		t.Error("--encrypted makes none")
	}

	// an app that encrypts the name in its request
	d.ok("app", "add", "asker", "--own", "--at", "https://asker.kestrelridge.example")
	d.ok("federate", "asker", "--with", "ridge")
	d.write("word", "a long word for the file\n")
	id := d.ring("asker", "signing")["active"]
	d.ok("key", "export", "asker", id, "--private", "--out", "asker.p12", "--password-file", "word")
	key, cert, err := pkcs12.Decode([]byte(d.read("asker.p12")), "a long word for the file")
	if err != nil {
		t.Fatal(err)
	}
	tree, err := xmlsec.Parse([]byte(d.ok("metadata", "write", "ridge")), xmlsec.MetadataLimits())
	if err != nil {
		t.Fatal(err)
	}
	published, err := md.ReadDocument(tree)
	if err != nil {
		t.Fatal(err)
	}
	ridge, err := published.Entity("")
	if err != nil {
		t.Fatal(err)
	}
	to, alg := ridge.IDP.EncryptionKey()
	name := xmlsec.New("saml:NameID", "xmlns:saml", md.NSAssertion)
	name.SetText("somebody")
	data, err := xmlsec.Encrypt(rand.Reader, name, to, alg)
	if err != nil {
		t.Fatal(err)
	}
	r := &md.AuthnRequest{ID: "_q1", Issuer: "https://asker.kestrelridge.example/metadata",
		IssueInstant: time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC),
		Destination:  "https://login.kestrelridge.example/sso", ACS: "https://asker.kestrelridge.example/acs"}
	el := r.Element()
	box := xmlsec.New("saml:EncryptedID")
	box.AddChild(data)
	about := xmlsec.New("saml:Subject", "xmlns:saml", md.NSAssertion)
	about.AddChild(box)
	el.InsertChildAt(1, about)
	s := &xmlsec.Signer{Key: key.(crypto.Signer), Certificate: cert, Rand: rand.Reader}
	if err := s.Sign(el, xmlsec.Child(el, md.NSAssertion, "Issuer")); err != nil {
		t.Fatal(err)
	}
	d.write("request.xml", string(xmlsec.Serialize(el)))
	d.fails(0, []string{"About, decrypted", "somebody", "ACCEPTED"}, "inspect", "request.xml", "--trust", "asker@ridge")
	gone := d.ring("ridge", "encryption")["active"]
	d.ok("key", "revoke", "ridge", gone, "--yes")
	d.fails(3, []string{"does not decrypt"}, "inspect", "request.xml", "--trust", "asker@ridge")
}

package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
)

// TestNewKeys makes keys that nobody knows of until they are announced, has an authority certify one, and takes others
// along with their chains.
func TestNewKeys(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	run := d.openssl()
	published := d.ok("key", "export", "ridge", "--jwks") + unnamed(d.ok("metadata", "write", "ridge"))
	var made ringKey
	d.json(&made, "key", "new", "ridge")
	if made.Place != "unpublished" || made.Kind != "RSA 2048" || made.Use != "signing" {
		t.Errorf("made %+v", made)
	}
	if now := d.ok("key", "export", "ridge", "--jwks") + unnamed(d.ok("metadata", "write", "ridge")); now != published {
		t.Error("a new key is published before it is announced")
	}
	d.fails(0, []string{"unpublished: nobody else knows of it"}, "key", "show", "ridge", made.ID)
	d.ok("rehearse", "nightlog@ridge", "--as", "mira")

	// An authority of two certificates answers a request; its answer in the wrong order is refused.
	d.write("ext", "basicConstraints=critical,CA:true\nkeyUsage=keyCertSign\n")
	run("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "root.key", "-out", "root.crt", "-subj", "/CN=Root",
		"-days", "4000")
	run("req", "-newkey", "rsa:2048", "-nodes", "-keyout", "mid.key", "-out", "mid.csr", "-subj", "/CN=Middle")
	sign := func(csr, ca, out string, ext ...string) {
		run(append([]string{"x509", "-req", "-in", csr, "-CA", ca + ".crt", "-CAkey", ca + ".key", "-CAcreateserial",
			"-out", out,
			"-days", "4000"}, ext...)...)
	}
	sign("mid.csr", "root", "mid.crt", "-extfile", "ext")
	d.ok("key", "request", "ridge", made.ID, "--out", "new.csr")
	run("req", "-in", "new.csr", "-verify", "-noout")
	sign("new.csr", "mid", "leaf.crt")
	d.write("answer.pem", d.read("leaf.crt")+d.read("mid.crt")+d.read("root.crt"))
	d.write("wrong.pem", d.read("leaf.crt")+d.read("root.crt")+d.read("mid.crt"))
	d.fails(1, []string{"no chain in order", "CN=Root", "own certificate first"}, "key", "certify", "ridge", made.ID,
		"--cert", "wrong.pem")
	d.fails(0, []string{"CN=Middle", "CN=Root"}, "key", "certify", "ridge", made.ID, "--cert", "answer.pem")
	d.ok("key", "export", "ridge", made.ID, "--out", "chain.pem")
	if strings.Count(d.read("chain.pem"), "BEGIN CERTIFICATE") != 3 {
		t.Error("the chain is not exported")
	}
	run("verify", "-CAfile", "root.crt", "-untrusted", "chain.pem", "chain.pem")

	// With its chain through PKCS #12 and back; for an age recipient; the password is never in an argument.
	d.write("word", "correct horse battery\n")
	d.ok("key", "export", "ridge", made.ID, "--private", "--out", "new.p12", "--password-file", "word")
	if out := run("pkcs12", "-in", "new.p12", "-passin", "file:word", "-nokeys"); strings.Count(out,
		"BEGIN CERTIFICATE") != 3 {
		t.Errorf("openssl sees %s", out)
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	d.ok("key", "export", "ridge", made.ID, "--private", "--out", "new.age", "--to", id.Recipient().String())
	if fi, err := os.Stat(d.path("new.age")); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("new.age: %v %v", fi.Mode(), err)
	}
	r, err := age.Decrypt(strings.NewReader(d.read("new.age")), id)
	if err != nil {
		t.Fatal(err)
	}
	plain := make([]byte, 8192)
	n, _ := r.Read(plain)
	d.write("plain.pem", string(plain[:n]))
	run("pkey", "-in", "plain.pem", "-noout", "-check")
	for _, bad := range [][]string{{}, {"--to", "nobody"},
		{"--to", id.Recipient().String(), "--password-file", "word"}} {
		d.fails(2, []string{"age"}, append([]string{"key", "export", "ridge", made.ID, "--private", "--out", "x"},
			bad...)...)
	}
	d.ok("key", "withdraw", "ridge", made.ID)
	var taken ringKey
	d.json(&taken, "key", "import", "ridge", "--pkcs12", "new.p12", "--password-file", "word")
	if taken.ID != made.ID || taken.Place != "unpublished" {
		t.Errorf("taken along: %+v", taken)
	}
	d.fails(0, []string{"CN=Middle", "CN=Root"}, "key", "show", "ridge", taken.ID)
	d.fails(1, []string{"is a key of ridge already"}, "key", "import", "ridge", "--key", "plain.pem")
	d.fails(2, []string{"--key or --pkcs12"}, "key", "import", "ridge")
	d.ok("key", "announce", "ridge", taken.ID)
	if d.ring("ridge", "signing")["announced"] != taken.ID || !strings.Contains(d.ok("key", "show", "ridge", taken.ID),
		"since") {
		t.Error("it is not announced")
	}
	d.fails(1, []string{"announced already"}, "key", "announce", "ridge", taken.ID)
	d.fails(2, []string{"is there already"}, "key", "announce", "ridge", taken.ID, "--kind", "rsa-2048")

	// Ed25519 signs tokens, and openssl reads it.
	d.fails(2, []string{"--use tokens"}, "key", "new", "ridge", "--kind", "ed25519")
	var ed ringKey
	d.json(&ed, "key", "new", "ridge", "--use", "tokens", "--kind", "ed25519")
	d.ok("key", "announce", "ridge", ed.ID, "--use", "tokens")
	d.ok("key", "activate", "ridge", "--use", "tokens")
	d.ok("rehearse", "dome-scheduler@ridge", "--as", "mira")
	d.ok("key", "export", "ridge", ed.ID, "--out", "ed.pem")
	if out := run("x509", "-in", "ed.pem", "-noout", "-text"); !strings.Contains(out, "ED25519") {
		t.Errorf("openssl sees %s", out)
	}
	d.ok("journal", "verify")
	if left, _ := filepath.Glob(d.path("*new-*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

package main

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync/atomic"
	"testing"
)

// TestOwnMetadataSaysMore has an own party say beside the protocol what federations ask for; another ledger reads it
// back and shows it.
func TestOwnMetadataSaysMore(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("provider", "change", "ridge", "--published-contact", "security=csirt@kestrelridge.example",
		"--published-contact", "support=help@kestrelridge.example", "--display-name", "en=Ridge", "--display-name",
		"de=Grat", "--logo", "80x60=https://login.kestrelridge.example/logo.png", "--error-url",
		"https://login.kestrelridge.example/error", "--privacy-url", "https://login.kestrelridge.example/privacy",
		"--scope-of", "kestrelridge.example", "--scope-namespace", "urn:federation:scope", "--entity-attribute",
		"http://macedir.org/entity-category-support=https://refeds.org/category/personalized")
	d.ok("metadata", "write", "ridge", "--out", "ridge.xml")
	other := newDesk(t)
	other.ok("init", "--org", "Southmere University")
	b, err := os.ReadFile(d.path("ridge.xml"))
	if err != nil {
		t.Fatal(err)
	}
	other.ok("provider", "add", "ridge", "--metadata", other.write("ridge.xml", string(b)))
	out := other.ok("provider", "show", "ridge")
	for _, w := range []string{"csirt@kestrelridge.example", "Grat", "logo.png, 80 × 60", "/privacy", "/error",
		"kestrelridge.example", "https://refeds.org/category/personalized", "security"} {
		if !strings.Contains(out, w) {
			t.Errorf("%q is not shown:\n%s", w, out)
		}
	}
	for _, c := range [][]string{{"--published-contact", "press=x@kestrelridge.example"},
		{"--logo", "https://x.test/l"},
		{"--display-name", "Grat"}, {"--error-url", "http://login.kestrelridge.example/e"},
		{"--scope-of", "*.kestrelridge.example"}, {"--entity-attribute", "x"}} {
		d.fails(2, []string{c[0], c[1]}, append([]string{"provider", "change", "ridge"}, c...)...)
	}
	d.fails(1, []string{"--scope-namespace"}, "app", "change", "nightlog", "--scope-of", "kestrelridge.example")
}

// TestSignersOfARegistry: the signature of a known signer speaks for who submitted metadata, and not for what; a second
// signer is known beside while a registry changes its key.
func TestSignersOfARegistry(t *testing.T) {
	t.Parallel()
	there := newDesk(t)
	there.ok("init", "--org", "Southmere University")
	there.ok("provider", "add", "southmere", "--own", "--at", "https://idp.southmere.example", "--key", "ecdsa-p256")
	d := federated(t)
	d.signer("first", "ecdsa-p256")
	d.signer("second", "ecdsa-p256")
	d.signer("stranger", "ecdsa-p256")
	var page atomic.Value
	publish := func(by string, edits ...string) {
		t.Helper()
		plain := there.ok("metadata", "write", "southmere")
		d.write("plain.xml", strings.NewReplacer(edits...).Replace(plain))
		d.ok("metadata", "sign", "plain.xml", "--key", by+".key", "--cert", by+".pem", "--out", "signed.xml", "--force")
		b, err := os.ReadFile(d.path("signed.xml"))
		if err != nil {
			t.Fatal(err)
		}
		page.Store(string(b))
	}
	publish("first")
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, page.Load().(string))
	}))
	t.Cleanup(srv.Close)
	d.ok("provider", "add", "southmere", "--metadata", srv.URL+"/md", "--signed-by", "first.pem")
	publish("first", "Southmere University", "University of Southmere")
	if r, _ := d.refresh(0); r.Outcome != "taken" {
		t.Errorf("a name, under the known signer: %+v", r)
	}
	publish("first", "https://idp.southmere.example/sso", "https://sso.southmere.test/sso")
	if r, touches := d.refresh(3); r.Outcome != "waits" || !strings.HasPrefix(touches, "endpoint") {
		t.Errorf("a host elsewhere, under the known signer: %+v, %s", r, touches)
	}
	publish("second")
	if r, _ := d.refresh(3); r.Outcome != "failed" {
		t.Errorf("another signer: %+v", r)
	}
	d.ok("provider", "change", "southmere", "--next-signer", "second.pem")
	for _, by := range []string{"second", "first", "second"} {
		publish(by)
		if r, _ := d.refresh(0); r.Outcome != "taken" && r.Outcome != "unchanged" {
			t.Errorf("signed by the %s: %+v", by, r)
		}
	}
	d.fails(1, []string{"goes with a signer that is known"}, "provider", "change", "ridge", "--next-signer",
		"second.pem")
	publish("stranger")
	if r, _ := d.refresh(3); r.Outcome != "failed" {
		t.Errorf("a stranger: %+v", r)
	}
	d.ok("provider", "change", "southmere", "--next-signer", "none")
	publish("first")
	if r, _ := d.refresh(3); r.Outcome != "failed" {
		t.Errorf("the one that is known no more: %+v", r)
	}
}

package main

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	metadata "tressik.example/internal/core/saml"
	"tressik.example/internal/outside/aggregate"
)

// lapsing is an aggregate in which a group, an entity and a role have an end each, and one entity has none.
func lapsing(cert, root, group, entity, role string) string {
	until := func(v string) string {
		if v == "" {
			return ""
		}
		return ` validUntil="` + v + `"`
	}
	one := func(id, at, of string) string {
		return `<EntityDescriptor entityID="https://` + id + `.southmere.example"` + until(at) + `><IDPSSODescriptor` +
			until(of) + ` protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"><KeyDescriptor><KeyInfo ` +
			`xmlns="http://www.w3.org/2000/09/xmldsig#"><X509Data><X509Certificate>` + cert +
			`</X509Certificate></X509Data></KeyInfo></KeyDescriptor><SingleSignOnService ` +
			`Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect" Location="https://` + id +
			`.southmere.example/sso"/></IDPSSODescriptor></EntityDescriptor>`
	}
	return `<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" ID="all" Name="all"` + until(root) +
		`><EntitiesDescriptor Name="pilot"` + until(group) + `>` + one("grouped", "", "") + `</EntitiesDescriptor>` +
		one("whole", entity, "") + one("partly", "", role) + one("well", "", "") + `</EntitiesDescriptor>`
}

// TestWhatHasRunOut: what is in an aggregate runs out by group, entity and role, and all that read it say of which and
// since when; a document that has run out itself is not signed again with that end.
func TestWhatHasRunOut(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	const past, future = "2025-03-04T09:00:00Z", "2099-03-04T09:00:00Z"
	d.signer("feed", "ecdsa-p256")
	d.signer("sound", "ecdsa-p256")
	sound := pemBody(d.read("sound.pem"))
	d.write("in.xml", lapsing(sound, future, past, past, past))
	d.write("well.xml", lapsing(sound, future, future, future, future))
	d.write("over.xml", lapsing(sound, past, "", "", ""))
	says := []string{"its group pilot ran out at " + past, "the entity ran out at " + past,
		"its IDPSSODescriptor ran out at " + past}
	all := func(out string) {
		t.Helper()
		out = strings.Join(strings.Fields(out), " ")
		for _, w := range says {
			if strings.Count(out, w) != 1 {
				t.Errorf("it does not say once %q:\n%s", w, out)
			}
		}
		if strings.Contains(out, "well.southmere.example: ") {
			t.Errorf("of one that has not run out something is said:\n%s", out)
		}
	}
	all(d.ok("metadata", "read", "in.xml"))
	var found []metadata.Listed
	if d.json(&found, "metadata", "find", "in.xml", "--broken"); len(found) != 3 {
		t.Errorf("broken are %d: %+v", len(found), found)
	}
	d.fails(0, []string{"None of the 4 entities is broken or in doubt."}, "metadata", "find", "well.xml", "--broken")
	d.fails(3, []string{"None of the 4 entities matches"}, "metadata", "find", "well.xml", "nobody", "--broken")
	d.fails(3, []string{"The document itself", "2025-03-04 09:00 UTC"}, "metadata", "find", "over.xml", "well")
	d.fails(0, says[:1], "metadata", "split", "in.xml", "--into", "files")
	all(d.fails(0, nil, "metadata", "sign", "in.xml", "--key", "feed.key", "--cert", "feed.pem", "--out",
		"out.xml").err)
	all(d.ok("metadata", "verify", "out.xml", "--signed-by", "feed.pem"))
	d.fails(1, []string{"over.xml is not signed", past, "--lasts"}, "metadata", "sign", "over.xml", "--key", "feed.key",
		"--cert", "feed.pem", "--out", "again.xml")
	d.ok("metadata", "sign", "over.xml", "--key", "feed.key", "--cert", "feed.pem", "--out", "again.xml", "--lasts",
		"7d")
	for _, verb := range []string{"read", "find"} {
		d.fails(3, []string{"metadata.expired"}, "metadata", verb, "over.xml")
		d.fails(0, nil, "metadata", verb, "well.xml")
	}
}

// TestNothingBadIsSignedInSilence signs and splits what is wrong in other ways: it is told, and what is well is not.
// Whoever reads, verifies or searches is told the same, and an index keeps it.
func TestNothingBadIsSignedInSilence(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.signer("feed", "ecdsa-p256")
	d.signer("sound", "ecdsa-p256")
	text := lapsing(pemBody(d.read("sound.pem")), "", "", "", "")
	d.write("well.xml", text)
	text = strings.Replace(text, "https://whole.southmere.example/sso", "http://whole.southmere.example/sso", 1)
	text = strings.Replace(text, "bindings:HTTP-Redirect\" Location=\"https://partly",
		"bindings:PAOS\" Location=\"https://partly",
		1)
	text = strings.Replace(text, "<IDPSSODescriptor", `<Extensions><k:Scope xmlns:k="urn:test:scopes" regexp="false">`+
		"kestrelridge.example</k:Scope></Extensions><IDPSSODescriptor", 1)
	d.write("bad.xml", text)
	sign := func(in string) string {
		return d.fails(0, nil, "metadata", "sign", in, "--key", "feed.key", "--cert", "feed.pem", "--out",
			in+".signed").err
	}
	if out := sign("well.xml"); strings.Contains(out, "southmere.example") {
		t.Errorf("of what is well something is told:\n%s", out)
	}
	out := sign("bad.xml")
	split := d.ok("metadata", "split", "bad.xml", "--into", "files")
	for _, id := range []string{"https://whole.southmere.example", "https://partly.southmere.example",
		"https://grouped.southmere.example"} {
		if !strings.Contains(out, id) || !strings.Contains(split, id+" should not be published") {
			t.Errorf("of %s nothing is told:\n%s\n%s", id, out, split)
		}
	}
	if strings.Contains(out, "https://well") {
		t.Errorf("of what is well something is told:\n%s", out)
	}
	var v struct {
		Broken, Doubtful []metadata.Listed
		Findings         []struct{ ID string }
	}
	d.json(&v, "metadata", "verify", "bad.xml.signed", "--signed-by", "feed.pem")
	doubts := 0
	for _, f := range v.Findings {
		if f.ID == "metadata.doubtful" {
			doubts++
		}
	}
	if len(v.Broken) != 0 || len(v.Doubtful) != 3 || doubts != 3 {
		t.Errorf("verify: %d broken, %d doubtful, %d findings", len(v.Broken), len(v.Doubtful), doubts)
	}
	if d.json(&v, "metadata", "read", "bad.xml"); len(v.Broken) != 0 || len(v.Doubtful) != 3 {
		t.Errorf("read: %d broken, %d doubtful", len(v.Broken), len(v.Doubtful))
	}
	d.write("large.xml", strings.Replace(text, "<EntitiesDescriptor ", "<!--"+strings.Repeat("x",
		1<<20)+"--><EntitiesDescriptor ", 1))
	for range 2 { // reading, and out of the index
		var found []metadata.Listed
		if d.json(&found, "metadata", "find", "large.xml", "--broken"); len(found) != 3 || len(found[0].Doubts) != 1 ||
			!strings.Contains(found[0].Doubts[0], "scope: kestrelridge.example") {
			t.Errorf("find: %+v", found)
		}
	}
	d.fails(0, []string{"metadata.doubtful", "kestrelridge.example, which none of its addresses is of"}, "metadata",
		"read",
		"bad.xml", "--entity", "https://grouped.southmere.example")
}

func pemBody(s string) string {
	body, _, _ := strings.Cut(strings.TrimPrefix(s, "-----BEGIN CERTIFICATE-----\n"), "-----END")
	return strings.Join(strings.Fields(body), "")
}

// TestRunsOutBehindTheIndex makes an index while all is in force, and searches it when something no longer is.
func TestRunsOutBehindTheIndex(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	at := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	d.signer("sound", "ecdsa-p256")
	d.write("in.xml", lapsing(pemBody(d.read("sound.pem")), "", "2031-03-05T09:00:00Z", "2031-03-06T09:00:00Z",
		"2031-03-07T09:00:00Z"))
	for day := range 5 {
		s, err := aggregate.File(d.path("in.xml"))
		if err != nil {
			t.Fatal(err)
		}
		f, err := s.Find(context.Background(), aggregate.Reading{Now: at.AddDate(0, 0, day)},
			metadata.Sought{Broken: true},
			d.path("index"))
		if err != nil || f.Indexed != (day > 0) || len(f.Entities) != min(day, 3) {
			t.Errorf("on day %d: %v, %v", day, fmt.Sprintf("%+v", f), err)
		}
	}
}

// TestOneEntityByItself has a document that is one entity, with one thing wrong: whoever reads, verifies or searches it
// ends with the same status, and says what it is. What no reader would take for a role of SAML 2.0 does not pass in
// silence.
func TestOneEntityByItself(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.signer("feed", "ecdsa-p256")
	d.signer("sound", "ecdsa-p256")
	const protocol = ` protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"`
	sound := `<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" ID="one" ` +
		`entityID="https://planner.kestrelridge.example"><SPSSODescriptor` + protocol + `><KeyDescriptor><KeyInfo ` +
		`xmlns="http://www.w3.org/2000/09/xmldsig#"><X509Data><X509Certificate>` + pemBody(d.read("sound.pem")) +
		`</X509Certificate></X509Data></KeyInfo></KeyDescriptor><AssertionConsumerService index="1" ` +
		`Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" ` +
		`Location="https://planner.kestrelridge.example/acs"/></SPSSODescriptor></EntityDescriptor>`
	for i, c := range []struct {
		was, is string
		code    int
		says    string
	}{
		{"one", "one", 0, ""},
		{protocol, "", 3, "SPSSODescriptor, which names no protocol"},
		{"SAML:2.0:protocol", "SAML:1.1:protocol", 3, "SPSSODescriptor for urn:oasis:names:tc:SAML:1.1:protocol"},
		{` Location="https://planner.kestrelridge.example/acs"`, "", 3, "no Location"},
		{` index="1"`, "", 0, "none at https://planner.kestrelridge.example/acs"},
		{"bindings:HTTP-POST", "bindings:HTTP-Redirect", 3, "only HTTP-Redirect"},
		{` ID="one"`, ` ID="one" cacheDuration="1 day"`, 0, "which is no duration"},
		{` ID="one"`, ` ID="one" cacheDuration="P1Y2M3DT4H5M6.5S"`, 0, ""},
		{` ID="one"`, ` ID="one" cacheDuration="-P1D"`, 0, "which is no duration"},
		{` ID="one"`, ` ID="one" cacheDuration="P1DT"`, 0, "which is no duration"},
		{` ID="one"`, ` ID="one" cacheDuration="P1D2M"`, 0, "which is no duration"},
		{"<X509Certificate>", "<X509Certificate>AAAA", 3, "this is not a certificate"},
		{"SPSSODescriptor", "AffiliationDescriptor", 0, ""},
	} {
		file := fmt.Sprint("one", i, ".xml")
		text := strings.Replace(sound, c.was, c.is, 1)
		if c.is == "AffiliationDescriptor" {
			text = strings.ReplaceAll(sound, c.was, c.is)
		}
		d.write(file, text)
		d.ok("metadata", "sign", file, "--key", "feed.key", "--cert", "feed.pem", "--out", file+".signed")
		says := []string{c.says}
		if c.says == "" {
			says = nil
		}
		for _, args := range [][]string{{"read", file}, {"verify", file + ".signed", "--signed-by", "feed.pem"},
			{"find", file, "--broken"}} {
			r := d.run(append([]string{"metadata", "--width", "300"}, args...)...)
			out := strings.Join(strings.Fields(r.out), " ")
			if r.code != c.code {
				t.Errorf("%s: %d, not %d:\n%s%s", args, r.code, c.code, r.out, r.err)
			}
			for _, w := range says {
				if !strings.Contains(out, w) && args[0] != "find" {
					t.Errorf("%s does not say %q:\n%s", args, w, r.out)
				}
			}
			if says == nil && (strings.Contains(out, "warn ") || strings.Contains(out, "ERROR")) {
				t.Errorf("%s finds something wrong with what is well:\n%s", args, r.out)
			}
		}
	}
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	r := d.fails(1, []string{"which names no protocol"}, "app", "add", "planner", "--metadata", "one1.xml")
	if strings.Contains(r.err, "provider add") {
		t.Errorf("it is taken for the other kind of party:\n%s", r.err)
	}
}

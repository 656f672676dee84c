package bench

import (
	"bytes"
	"crypto"
	"encoding/base64"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage"
)

// program builds tressik into a folder and returns a way to run it there. A finding (exit status 3) is no failure.
func program(b *testing.B, dir string) func(args ...string) []byte {
	b.Helper()
	tressik := built(b)
	return func(args ...string) []byte {
		c := exec.Command(tressik, args...)
		c.Dir, c.Env = dir, append(os.Environ(), "GOMAXPROCS=1") // one core, as the rest
		var said bytes.Buffer
		c.Stderr = &said
		o, err := c.Output()
		if err != nil && c.ProcessState.ExitCode() != 3 {
			b.Fatalf("%s: %v\n%s%s", args, err, o, said.Bytes())
		}
		return o
	}
}

// BenchmarkInspectMany judges 1,000 captured responses in one process: the command reads a folder and the ledger,
// judges each message by its trust and writes a JSON object for each. Beside it stands the judgement alone, in this
// process. The limit to keep is twice the judgement for each message.
func BenchmarkInspectMany(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent)) // as the command does
	const n = 1000
	dir := b.TempDir()
	run := program(b, dir)
	idp := signer(b)
	const provider, app, acs = "https://login.southmere.example/idp", "https://nightlog.kestrelridge.example/saml",
		"https://nightlog.kestrelridge.example/saml/acs"
	metadata := `<md:EntityDescriptor xmlns:md="` + saml.NSMetadata + `" xmlns:ds="` + xmlsec.NS + `" entityID="` +
		provider +
		`"><md:IDPSSODescriptor protocolSupportEnumeration="` + saml.NSProtocol + `"><md:KeyDescriptor use="signing">` +
		`<ds:KeyInfo><ds:X509Data><ds:X509Certificate>` + base64.StdEncoding.EncodeToString(idp.Certificate.Raw) +
		`</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor><md:SingleSignOnService Binding="` +
		saml.BindingRedirect +
		`" Location="https://login.southmere.example/sso"/></md:IDPSSODescriptor></md:EntityDescriptor>`
	if err := os.WriteFile(filepath.Join(dir, "southmere.xml"), []byte(metadata), 0o600); err != nil {
		b.Fatal(err)
	}
	for _, args := range []string{"init|--org|Kestrel Ridge Observatory",
		"provider|add|southmere|--metadata|southmere.xml",
		"app|add|nightlog|--entity-id|" + app + "|--acs|" + acs, "federate|nightlog|--with|southmere"} {
		run(strings.Split(args, "|")...)
	}
	now := time.Now()
	e := saml.Expect{App: app, ACS: []string{acs}, Provider: provider, Keys: []crypto.PublicKey{idp.Key.Public()},
		Now: now}
	var messages [][]byte
	if err := os.Mkdir(filepath.Join(dir, "messages"), 0o700); err != nil {
		b.Fatal(err)
	}
	for i := range n {
		a := saml.Answer{ID: fmt.Sprintf("_r%d", i), AssertionID: fmt.Sprintf("_a%d", i),
			InResponseTo: fmt.Sprintf("_q%d", i),
			Issuer:       provider, ACS: acs, Audience: app, Now: now, Lifetime: time.Hour,
			Subject: saml.Subject{Value: fmt.Sprintf("4f54a6ed8652656e4e3f287c3cb74299%08x", i),
				Format: saml.FormatPersistent},
			Context: judge.ContextPassword, AuthnInstant: now, SessionIndex: "_s", SignAssertion: true, Signer: idp,
			Rand: idp.Rand}
		for k, v := range person().Attributes {
			a.Attributes = append(a.Attributes, saml.Attribute{Name: k, Format: saml.NameFormatURI, Values: v})
		}
		text, err := a.Bytes()
		if err != nil {
			b.Fatal(err)
		}
		messages = append(messages, text)
		if err := os.WriteFile(filepath.Join(dir, "messages", fmt.Sprintf("%04d.txt", i)),
			[]byte(base64.StdEncoding.EncodeToString(text)), 0o600); err != nil {
			b.Fatal(err)
		}
	}
	tl, tw := against(b, "judgements-of-1000", func() {
		for _, m := range messages {
			doc, err := xmlsec.Parse(m, xmlsec.MessageLimits())
			if err != nil {
				b.Fatal(err)
			}
			if j := saml.JudgeResponse(doc.Root(), e); j.Verdict != judge.Accepted {
				b.Fatal(j.Findings)
			}
		}
	}, nil, func() {
		o := run("inspect", "messages", "--trust", "nightlog@southmere", "--format", "json")
		if got := bytes.Count(o, []byte(`"verdict":"accepted"`)); got != n {
			b.Fatalf("%d of %d accepted\n%.2000s", got, n, o)
		}
	})
	b.ReportMetric(tw.Seconds()/tl.Seconds(), "x-judgement")
}

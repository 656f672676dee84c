package saml

import (
	"crypto"
	"encoding/base64"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/testkit/peer"
)

const sloURL = "https://login.kestrelridge.example/slo"

func leave() (*LogoutRequest, *LogoutResponse, LogoutExpect) {
	until := now.Add(5 * time.Minute)
	return &LogoutRequest{ID: "_l1", Issuer: appID, Destination: sloURL, IssueInstant: now, NotOnOrAfter: &until,
			NameID: Subject{Value: "mira", Format: FormatPersistent}, Sessions: []string{"_s1"}},
		&LogoutResponse{ID: "_l2", InResponseTo: "_l1", Issuer: appID, Destination: sloURL, IssueInstant: now,
			Status: Status{Top: StatusSuccess}},
		LogoutExpect{From: appID, Side: finding.App, Name: "nightlog", At: []string{sloURL}, Now: now,
			Keys: []crypto.PublicKey{signers().app.Key.Public()}, CheckRequest: true, RequestID: "_l1",
			Seen: func(string) bool { return false }}
}

// TestLogoutToTheLetter has one thing wrong in each logout message, by each binding.
func TestLogoutToTheLetter(t *testing.T) {
	past := now.Add(-2 * time.Minute)
	for _, c := range []struct {
		name, request, response string // the errors of each; "" accepts
		change                  func(*LogoutRequest, *LogoutResponse, *LogoutExpect)
		signer                  *xmlsec.Signer
	}{
		{name: "as it is", signer: signers().app},
		{"unsigned", "logout.signature.missing", "logout.signature.missing", nil, nil},
		{"signed with another key", "logout.signature.key", "logout.signature.key", nil, signers().other},
		{"another issuer", "logout.issuer", "logout.issuer",
			func(q *LogoutRequest, a *LogoutResponse, _ *LogoutExpect) { q.Issuer, a.Issuer = "x", "x" },
			signers().app},
		{"another destination", "logout.destination", "logout.destination",
			func(q *LogoutRequest, a *LogoutResponse, _ *LogoutExpect) {
				q.Destination, a.Destination = sloURL+"/", sloURL+"/"
			}, signers().app},
		{"no destination", "logout.destination", "logout.destination",
			func(q *LogoutRequest, a *LogoutResponse, _ *LogoutExpect) { q.Destination, a.Destination = "", "" },
			signers().app},
		{"too old", "logout.time", "logout.time", func(q *LogoutRequest, a *LogoutResponse, _ *LogoutExpect) {
			q.IssueInstant, a.IssueInstant = now.Add(-time.Hour), now.Add(-time.Hour)
		}, signers().app},
		{"over", "logout.late", "", func(q *LogoutRequest, _ *LogoutResponse,
			_ *LogoutExpect) {
			q.NotOnOrAfter = &past
		}, signers().app},
		{"nobody named", "logout.subject", "",
			func(q *LogoutRequest, _ *LogoutResponse, _ *LogoutExpect) { q.NameID.Value = "" }, signers().app},
		{"no ID", "logout.shape", "logout.shape", func(q *LogoutRequest, a *LogoutResponse, _ *LogoutExpect) {
			q.ID, a.ID = "", ""
		}, nil},
		{"sent before", "logout.replay", "", func(_ *LogoutRequest, _ *LogoutResponse, e *LogoutExpect) {
			e.Seen = func(string) bool { return true }
		}, signers().app},
		{"metadata that has expired", "logout.metadata.expired", "logout.metadata.expired",
			func(_ *LogoutRequest, _ *LogoutResponse, e *LogoutExpect) { e.Until = &past }, signers().app},
		{"an answer to another request", "", "logout.in-response-to",
			func(_ *LogoutRequest, a *LogoutResponse, _ *LogoutExpect) { a.InResponseTo = "_z" }, signers().app},
		{"an answer to nothing", "", "logout.in-response-to",
			func(_ *LogoutRequest, a *LogoutResponse, e *LogoutExpect) { a.InResponseTo, e.RequestID = "", "" },
			signers().app},
		{"an answer that failed", "", "logout.status", func(_ *LogoutRequest, a *LogoutResponse, _ *LogoutExpect) {
			a.Status = Status{Top: StatusResponder}
		}, signers().app},
	} {
		q, a, e := leave()
		if c.change != nil {
			c.change(q, a, &e)
		}
		for parameter, m := range map[string]struct {
			write func(*xmlsec.Signer) ([]byte, error)
			want  string
		}{"SAMLRequest": {q.Bytes, c.request}, "SAMLResponse": {a.Bytes, c.response}} {
			for _, binding := range []string{BindingPOST, BindingRedirect} {
				j := carriedLogout(t, binding, parameter, m.write, c.signer, e)
				want := m.want
				if c.name == "no ID" { // it cannot be signed: it has no ID to refer to
					want += " logout.signature.missing"
				}
				if got := strings.Join(j.Findings.IDs(finding.Error), " "); got != want {
					t.Errorf("%s, %s by %s: %q, want %q", c.name, parameter, ShortName(binding), got, want)
				}
				if strings.Contains(m.want, "signature") && j.Subject != "" {
					t.Errorf("%s: a subject came out of what no signature covers", c.name)
				}
			}
		}
	}
	_, a, e := leave()
	a.Status.Sub = StatusPartialLogout
	j := carriedLogout(t, BindingPOST, "SAMLResponse", a.Bytes, signers().app, e)
	if got := j.Findings.IDs(finding.Warning); j.Verdict != "accepted" || strings.Join(got, "") != "logout.partial" {
		t.Errorf("partial: %s, %v", j.Verdict, got)
	}
}

// carriedLogout sends a message by a binding and judges it as its receiver does.
func carriedLogout(t *testing.T, binding, parameter string, write func(*xmlsec.Signer) ([]byte, error),
	s *xmlsec.Signer,
	e LogoutExpect) *LogoutJudgement {
	t.Helper()
	var c *Carried
	if binding == BindingRedirect {
		b, err := write(nil)
		if err != nil {
			t.Fatal(err)
		}
		to, err := EncodeRedirect(sloURL, parameter, b, "r", s)
		if err != nil {
			t.Fatal(err)
		}
		_, query, _ := strings.Cut(to, "?")
		if c, err = DecodeRedirect(query); err != nil {
			t.Fatal(err)
		}
	} else {
		b, err := write(s)
		if err != nil {
			t.Fatal(err)
		}
		if c, err = DecodePOST(url.Values{parameter: {base64.StdEncoding.EncodeToString(b)}}); err != nil {
			t.Fatal(err)
		}
	}
	doc, err := xmlsec.Parse(c.XML, xmlsec.MessageLimits())
	if err != nil {
		t.Fatal(err)
	}
	if c.Root() != doc.Root().Tag {
		t.Errorf("the root of %s is told as %q", doc.Root().Tag, c.Root())
	}
	return JudgeLogout(c, doc.Root(), e)
}

// TestPeerVerifiesLogout has xmlsec1 verify both messages.
func TestPeerVerifiesLogout(t *testing.T) {
	xmlsec1 := peer.Need(t, "xmlsec1")
	dir := t.TempDir()
	pemFile := filepath.Join(dir, "app.pem")
	if err := os.WriteFile(pemFile, keys.PEM(signers().app.Certificate), 0o600); err != nil {
		t.Fatal(err)
	}
	q, a, _ := leave()
	for name, write := range map[string]func(*xmlsec.Signer) ([]byte, error){"LogoutRequest": q.Bytes,
		"LogoutResponse": a.Bytes} {
		b, err := write(signers().app)
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(dir, name+".xml")
		if err := os.WriteFile(file, b, 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command(xmlsec1, "--verify", "--id-attr:ID", NSProtocol+":"+name, "--pubkey-cert-pem",
			pemFile, file).CombinedOutput(); err != nil {
			t.Errorf("%s: %v\n%s", name, err, out)
		}
	}
}

// FuzzPOST takes messages out of forms: one message, and what comes out is what was put in.
func FuzzPOST(f *testing.F) {
	f.Add("SAMLResponse=PGEvPg%3D%3D&RelayState=x")
	f.Add("SAMLRequest=&SAMLResponse=QQ%3D%3D")
	f.Add("SAMLResponse=QQ&SAMLResponse=QQ")
	f.Fuzz(func(t *testing.T, body string) {
		form, err := url.ParseQuery(body)
		if err != nil {
			return
		}
		c, err := DecodePOST(form)
		if err != nil {
			return
		}
		_ = c.Root()
		if len(form["SAMLResponse"])+len(form["SAMLRequest"]) != 1 {
			t.Fatalf("%q holds %d messages", body, len(form["SAMLResponse"])+len(form["SAMLRequest"]))
		}
	})
}

package saml

import (
	"crypto"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/xmlsec"
)

// TestRecordedRequests judges requests in the ways in which libraries write them, kept as bytes that other programs
// made and signed: prefixes and quotes of their own, escapes in small letters or none, parameters in another order,
// lines in base64, a declaration and white space, compression where there is none to be.
func TestRecordedRequests(t *testing.T) {
	t.Parallel()
	pem, err := os.ReadFile("testdata/recorded/app.pem")
	if err != nil {
		t.Fatal(err)
	}
	cert, err := keys.ParseCertificate(pem)
	if err != nil {
		t.Fatal(err)
	}
	both := []string{judge.ContextPassword, judge.ContextMFA}
	want := map[string]struct {
		relay, errs, compare string
		contexts             []string
	}{
		"redirect-lower.txt": {"https://nightlog.kestrelridge.example/start?night=2031-03-04&dome=2", "", "minimum",
			both},
		"redirect-order.txt": {"rs 1+2", "", "minimum", both},
		"redirect-raw.txt":   {"ss:mem:0f/9~a'(b)*", "", "minimum", both},
		"redirect-empty.txt": {"", "", "minimum", both},
		"redirect-plus.txt":  {"seven of nine & ten", "", "minimum", both},
		"redirect-unsigned.txt": {"", "request.signature.missing", "minimum",
			both},
		"post-mime.txt":       {"ss:mem:77", "", "exact", []string{judge.ContextMFA}},
		"post-compressed.txt": {"/start?a=1&b=2", "saml.encoding", "exact", []string{judge.ContextMFA}},
		"post-zlib.txt":       {"", "saml.encoding", "exact", []string{judge.ContextMFA}},
		"redirect-zlib.txt":   {"z", "saml.encoding", "minimum", both},
	}
	files, err := filepath.Glob("testdata/recorded/*.txt")
	if err != nil || len(files) != len(want) {
		t.Fatalf("%d files, %v", len(files), err)
	}
	for _, file := range files {
		name := filepath.Base(file)
		b, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var c *Carried
		if strings.HasPrefix(name, "post") {
			form, ferr := url.ParseQuery(string(b))
			if ferr != nil {
				t.Fatal(ferr)
			}
			c, err = DecodePOST(form)
		} else {
			c, err = DecodeRedirect(string(b))
		}
		w := want[name]
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		doc, err := xmlsec.Parse(c.XML, xmlsec.MessageLimits())
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		_, e := request()
		e.Skew = judge.Skew
		e.Keys, e.WantSigned = []crypto.PublicKey{cert.PublicKey}, true
		e.App.SP.Wanted = []Wanted{{Name: "mail"}}
		j := JudgeRequest(c, doc.Root(), e)
		if got := strings.Join(j.Findings.IDs(finding.Error), " "); got != w.errs {
			t.Errorf("%s: %q, want %q: %v", name, got, w.errs, j.Findings.Without(finding.Pass))
		}
		if c.RelayState != w.relay {
			t.Errorf("%s: RelayState %q, want %q", name, c.RelayState, w.relay)
		}
		q := j.Request.Context
		if q == nil || q.Comparison != w.compare || !slices.Equal(q.Classes, w.contexts) {
			t.Errorf("%s: contexts %+v", name, q)
		}
		// one letter elsewhere, and it is nobody's
		if !strings.HasPrefix(name, "redirect") || w.errs != "" {
			continue
		}
		at := strings.Index(string(b), "SAMLRequest=") + len("SAMLRequest=") + 40
		other := byte('A')
		if b[at] == other {
			other = 'B'
		}
		changed := slices.Clone(b)
		changed[at] = other
		if c, err := DecodeRedirect(string(changed)); err == nil &&
			c.VerifyRedirect(xmlsec.Policy{Keys: e.Keys}) == nil {
			t.Errorf("%s: changed, and its signature holds", name)
		}
	}
}

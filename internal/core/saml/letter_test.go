package saml

import (
	"crypto/rsa"
	"encoding/base64"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/xmlsec"
)

// signedAfter writes an answer without signatures, edits it, and then signs what the answer says is signed, so that the
// edit is the provider's own doing and the only thing wrong.
func signedAfter(t *testing.T, a *Answer, edits ...string) []byte {
	t.Helper()
	signAssertion, signResponse, encrypt := a.SignAssertion, a.SignResponse, a.EncryptTo
	a.SignAssertion, a.SignResponse, a.EncryptTo = false, false, nil
	text := string(build(t, a))
	for i := 0; i+1 < len(edits); i += 2 {
		was := text
		if text = strings.Replace(text, edits[i], edits[i+1], 1); text == was {
			t.Fatalf("the edit of %q changed nothing", edits[i])
		}
	}
	doc, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits())
	if err != nil {
		t.Fatal(err)
	}
	as := xmlsec.Child(doc.Root(), NSAssertion, "Assertion")
	if signAssertion {
		if err := a.Signer.Sign(as, xmlsec.Child(as, NSAssertion, "Issuer")); err != nil {
			t.Fatal(err)
		}
	}
	if encrypt != nil {
		data, err := xmlsec.Encrypt(a.Rand, as, encrypt, a.EncryptWith)
		if err != nil {
			t.Fatal(err)
		}
		doc.Root().RemoveChild(as)
		xmlsec.Add(doc.Root(), "saml:EncryptedAssertion", "xmlns:saml", NSAssertion).AddChild(data)
	}
	if signResponse {
		if err := a.Signer.Sign(doc.Root(), xmlsec.Child(doc.Root(), NSAssertion, "Issuer")); err != nil {
			t.Fatal(err)
		}
	}
	return xmlsec.Serialize(doc.Root())
}

const (
	respIssuer = `<saml:Issuer xmlns:saml="` + NSAssertion + `">` + idpID + `</saml:Issuer>`
	audiences  = `<saml:AudienceRestriction>`
	bearer     = `<saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer">`
)

// TestToTheLetter has a response that its provider signed with one thing wrong in each case, and the finding that
// names it.
func TestToTheLetter(t *testing.T) {
	t.Parallel()
	past, later := now.Add(-time.Hour), now.Add(time.Hour)
	for _, c := range []struct {
		name, want string
		answer     func(*Answer)
		expect     func(*Expect)
		edits      []string
	}{
		{"as it is", "", nil, nil, nil},
		{"an unknown condition", "saml.condition", nil, nil, []string{audiences,
			`<x:Weekday xmlns:x="urn:example:x">Monday</x:Weekday>` + audiences}},
		{"a condition of another type", "saml.condition", nil, nil, []string{audiences,
			`<saml:Condition xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="x"/>` + audiences}},
		{"one-time use is understood", "", nil, nil, []string{audiences, `<saml:OneTimeUse/>` + audiences}},
		{"proxy restriction is understood", "", nil, nil, []string{audiences, `<saml:ProxyRestriction Count="0"/>` +
			audiences}},
		{"an assertion of another version", "saml.shape", nil, nil,
			[]string{`Version="2.0"><saml:Issuer>`, `Version="2.1"><saml:Issuer>`}},
		{"NotBefore in the bearer confirmation", "saml.confirmation", nil, nil,
			[]string{`<saml:SubjectConfirmationData `,
				`<saml:SubjectConfirmationData NotBefore="2031-03-04T08:59:00Z" `}},
		{"a response without InResponseTo", "saml.in-response-to", nil, nil,
			[]string{` ID="_r1" InResponseTo="_req1"`, ` ID="_r1"`}},
		{"a confirmation without InResponseTo", "saml.in-response-to", nil, nil,
			[]string{`<saml:SubjectConfirmationData InResponseTo="_req1"`, `<saml:SubjectConfirmationData`}},
		{"a confirmation for another request", "saml.in-response-to", nil, nil,
			[]string{`<saml:SubjectConfirmationData InResponseTo="_req1"`,
				`<saml:SubjectConfirmationData InResponseTo="_req2"`}},
		{"a signed response without issuer", "saml.issuer", func(a *Answer) { a.SignResponse = true }, nil,
			[]string{respIssuer, ""}},
		{"an encrypted assertion in a response without issuer", "saml.issuer",
			func(a *Answer) { a.EncryptTo = signers().app.Certificate }, nil, []string{respIssuer, ""}},
		{"a response without issuer and signature", "", nil, nil, []string{respIssuer, ""}},
		{"an issuer that is no entity", "saml.issuer", nil, nil, []string{`Version="2.0"><saml:Issuer>`,
			`Version="2.0"><saml:Issuer Format="` + FormatEmail + `">`}},
		{"an issuer that says entity", "", nil, nil, []string{`<saml:Issuer>`, `<saml:Issuer Format="` + FormatEntity +
			`">`}},
		{"by Redirect", "saml.binding", nil, func(e *Expect) { e.Carried = &Carried{Binding: BindingRedirect} }, nil},
		{"by POST", "", nil, func(e *Expect) { e.Carried = &Carried{Binding: BindingPOST} }, nil},
		{"metadata that has expired", "saml.metadata.expired", nil, func(e *Expect) { e.Until = &past }, nil},
		{"metadata in force", "", nil, func(e *Expect) { e.Until = &later }, nil},
		{"two confirmations, the first for another app", "", nil, nil, []string{bearer, bearer +
			`<saml:SubjectConfirmationData NotOnOrAfter="2031-03-04T09:05:00Z" ` +
			`Recipient="https://other.example/acs"/>` +
			`</saml:SubjectConfirmation>` + bearer}},
		{"two confirmations, the first is over", "", nil, nil, []string{bearer, bearer +
			`<saml:SubjectConfirmationData InResponseTo="_req1" NotOnOrAfter="2031-03-04T08:00:00Z" Recipient="` +
			acsURL +
			`"/></saml:SubjectConfirmation>` + bearer}},
		{"an unsolicited response with the request unknown", "saml.unsolicited",
			func(a *Answer) { a.InResponseTo = "" }, func(e *Expect) { e.CheckRequest, e.RequestID = false, "" }, nil},
		{"an answer with the request unknown", "", nil,
			func(e *Expect) { e.CheckRequest, e.RequestID = false, "" }, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			a, e := answer(), expect()
			if c.answer != nil {
				c.answer(a)
			}
			if c.expect != nil {
				c.expect(&e)
			}
			j := judged(t, signedAfter(t, a, c.edits...), e)
			got := strings.Join(j.Findings.IDs(finding.Error), " ")
			if got != c.want || (j.Verdict == judge.Accepted) != (c.want == "") {
				t.Fatalf("%s with %q, want %q", j.Verdict, got, c.want)
			}
			if !e.CheckRequest && c.want == "" && len(j.NotChecked) == 0 {
				t.Error("nothing says that the request was not checked")
			}
		})
	}
}

// TestWholeDocumentReference holds that a signature must name the ID of what it covers.
func TestWholeDocumentReference(t *testing.T) {
	a := answer()
	a.SignAssertion, a.SignResponse = false, true
	b := strings.Replace(string(build(t, a)), `URI="#_r1"`, `URI=""`, 1)
	if got := judged(t, []byte(b), expect()).Findings.IDs(finding.Error); !slices.Contains(got, "saml.wrapping") {
		t.Errorf("%v", got)
	}
}

// TestEncryptedParts reads an EncryptedID and an EncryptedAttribute with the app's key, and refuses them without.
func TestEncryptedParts(t *testing.T) {
	sealedIn := func(t *testing.T, from, to string) []byte {
		a := answer()
		a.SignAssertion = false
		doc, err := xmlsec.Parse(build(t, a), xmlsec.MessageLimits())
		if err != nil {
			t.Fatal(err)
		}
		as := xmlsec.Child(doc.Root(), NSAssertion, "Assertion")
		parent := xmlsec.Child(as, NSAssertion, map[string]string{"NameID": "Subject",
			"Attribute": "AttributeStatement"}[from])
		el := xmlsec.Child(parent, NSAssertion, from)
		el.CreateAttr("xmlns:saml", NSAssertion)
		data, err := xmlsec.Encrypt(a.Rand, el, signers().app.Certificate, "")
		if err != nil {
			t.Fatal(err)
		}
		at := el.Index()
		parent.RemoveChild(el)
		box := xmlsec.New("saml:" + to)
		box.AddChild(data)
		parent.InsertChildAt(at, box)
		if err := a.Signer.Sign(as, xmlsec.Child(as, NSAssertion, "Issuer")); err != nil {
			t.Fatal(err)
		}
		return xmlsec.Serialize(doc.Root())
	}
	for from, to := range map[string]string{"NameID": "EncryptedID", "Attribute": "EncryptedAttribute"} {
		b := sealedIn(t, from, to)
		j := judged(t, b, expect())
		if j.Verdict != judge.Accepted || j.Subject != "mira@kestrelridge.example" || len(j.Claims["mail"]) != 1 {
			t.Errorf("%s: %s, %q, %v, %v", to, j.Verdict, j.Subject, j.Claims, j.Findings.Without(finding.Pass))
		}
		e := expect()
		e.DecryptionKeys = []*rsa.PrivateKey{signers().other.Key.(*rsa.PrivateKey)}
		if got := judged(t, b, e).Findings.IDs(finding.Error); !slices.Contains(got, "saml.encryption") {
			t.Errorf("%s with another key: %v", to, got)
		}
	}
}

// TestDecryptionTellsOneThing holds that whatever is wrong with encrypted content, the finding is the same to the
// letter.
func TestDecryptionTellsOneThing(t *testing.T) {
	words := map[string]string{}
	for name, f := range map[string]func(string) string{
		"another key": func(s string) string { return s },
		"a changed byte": func(s string) string {
			i := strings.LastIndex(s, "</xenc:CipherValue>")
			return s[:i-9] + "AAAA" + s[i-5:]
		},
		"a short key": func(s string) string {
			i, j := strings.Index(s, "<xenc:CipherValue>"), strings.Index(s, "</xenc:CipherValue>")
			return s[:i] + "<xenc:CipherValue>AAAA" + s[j:]
		},
	} {
		a := answer()
		a.EncryptTo = signers().app.Certificate
		if name == "another key" {
			a.EncryptTo = signers().other.Certificate
		}
		for _, x := range judged(t, []byte(f(string(build(t, a)))), expect()).Findings {
			if x.ID == "saml.encryption" {
				words[name] = x.Saw + "|" + x.Expected + "|" + x.Fix.Do
			}
		}
	}
	// an element that is no assertion, encrypted as it should be
	a := answer()
	a.SignAssertion = false
	b := string(build(t, a))
	data, err := xmlsec.Encrypt(a.Rand, xmlsec.New("x"), signers().app.Certificate, "")
	if err != nil {
		t.Fatal(err)
	}
	i, k := strings.Index(b, "<saml:Assertion "), strings.Index(b, "</saml:Assertion>")
	b = b[:i] + `<saml:EncryptedAssertion xmlns:saml="` + NSAssertion + `">` + string(xmlsec.Serialize(data)) +
		"</saml:EncryptedAssertion>" +
		b[k+len("</saml:Assertion>"):]
	for _, x := range judged(t, []byte(b), expect()).Findings {
		if x.ID == "saml.encryption" {
			words["no assertion"] = x.Saw + "|" + x.Expected + "|" + x.Fix.Do
		}
	}
	for name, w := range words {
		if w != words["another key"] {
			t.Errorf("%s is told apart: %q, %q", name, w, words["another key"])
		}
	}
	if len(words) != 4 || words["another key"] == "" {
		t.Errorf("%d of 4 cases were refused for the encryption: %v", len(words), words)
	}
}

// TestTwoEncryptedKeys reads content that was encrypted for several receivers, of which this app is one.
func TestTwoEncryptedKeys(t *testing.T) {
	for _, transport := range []string{xmlsec.RSAOAEP, "http://www.w3.org/2001/04/xmlenc#rsa-1_5"} {
		a := answer()
		a.EncryptTo = signers().app.Certificate
		b := string(build(t, a))
		i := strings.Index(b, "<xenc:EncryptedKey>")
		other := `<xenc:EncryptedKey Recipient="other"><xenc:EncryptionMethod Algorithm="` + transport +
			`"/><xenc:CipherData><xenc:CipherValue>AAAA</xenc:CipherValue></xenc:CipherData></xenc:EncryptedKey>`
		j := judged(t, []byte(b[:i]+other+b[i:]), expect())
		if j.Verdict != judge.Accepted {
			t.Errorf("%s: %v", transport, j.Findings.Without(finding.Pass))
		}
	}
}

// TestWhiteSpaceStays keeps white space in values and remarks on it.
func TestWhiteSpaceStays(t *testing.T) {
	a := answer()
	a.Subject.Value, a.Attributes[1].Values[0] = " mira ", "Mira Solano\n"
	j := judged(t, build(t, a), expect())
	if j.Verdict != judge.Accepted || j.Subject != " mira " || j.Claims["displayName"][0] != "Mira Solano\n" {
		t.Errorf("%s, %q, %q", j.Verdict, j.Subject, j.Claims)
	}
	if notes := j.Findings.IDs(finding.Note); !slices.Contains(notes, "saml.space") {
		t.Errorf("no remark: %v", notes)
	}
	a = answer()
	a.Issuer += " "
	if got := judged(t, build(t, a), expect()).Findings.IDs(finding.Error); !slices.Equal(got,
		[]string{"saml.issuer"}) {
		t.Errorf("an issuer with a space at its end: %v", got)
	}
}

// TestEveryStatusHasItsAdvice holds that no two statuses of the standard are told in the same words, and none sends
// people to a log where the status says the cause.
func TestEveryStatusHasItsAdvice(t *testing.T) {
	said := map[string]string{}
	for _, s := range []Status{{Top: StatusRequester}, {Top: StatusResponder}, {Top: StatusVersionMismatch},
		{Sub: StatusAuthnFailed}, {Sub: StatusInvalidAttr}, {Sub: StatusInvalidNameIDPolicy},
		{Sub: StatusNoAvailableIDP},
		{Sub: StatusNoSupportedIDP}, {Sub: StatusNoPassive}, {Sub: StatusPartialLogout},
		{Sub: StatusProxyCountExceeded},
		{Sub: StatusRequestUnsupported}, {Sub: StatusVersionDeprecated}, {Sub: StatusVersionTooHigh},
		{Sub: StatusNotRecognized},
		{Sub: StatusTooManyResponses}, {Sub: StatusUnknownAttrProfile}, {Sub: StatusUnknownPrincipal},
		{Sub: StatusUnsupportedBinding}, {Top: "urn:example:other"}} {
		x := adviceOn(s)
		name := ShortName(s.Top + s.Sub)
		if other, twice := said[x.do]; twice || x.do == "" || x.side == "" {
			t.Errorf("%s is told like %s: %q", name, other, x.do)
		}
		said[x.do] = name
		if s.Sub != "" && strings.Contains(x.do, " log") {
			t.Errorf("%s sends to a log: %q", name, x.do)
		}
	}
	a := answer()
	a.Status, a.SubStatus = StatusResponder, StatusNoAuthn
	if got := judged(t, build(t, a), expect()).Findings.IDs(finding.Error); !slices.Equal(got,
		[]string{"saml.strength"}) {
		t.Errorf("NoAuthnContext: %v", got)
	}
}

// request is a good AuthnRequest and what the provider knows.
func request() (*AuthnRequest, RequestExpect) {
	return &AuthnRequest{ID: "_q1", Issuer: appID, Destination: "https://login.kestrelridge.example/sso", ACS: acsURL,
			IssueInstant: now},
		RequestExpect{SSO: []string{"https://login.kestrelridge.example/sso"}, Format: FormatPersistent, Now: now,
			App: &Entity{ID: appID, SP: &Role{ACS: []Endpoint{{Binding: BindingPOST, Location: acsURL, Index: 3}},
				Keys: []Key{{Use: "signing", Certificate: pemBody(signers().app)}}}}}
}

func pemBody(s *xmlsec.Signer) string { return base64.StdEncoding.EncodeToString(s.Certificate.Raw) }

// TestScopes holds scoped values against the scopes of the provider's metadata: plain ones as they are, patterns over
// the whole of a domain, and what is not scoped not at all.
func TestScopes(t *testing.T) {
	t.Parallel()
	plain := []Scope{{Value: "kestrelridge.example"}}
	pattern := []Scope{{Value: `[a-z]+\.kestrelridge\.example`, Pattern: true}}
	for _, c := range []struct {
		name   string
		scopes []Scope
		attr   string
		value  string
		want   string
	}{
		{"its own", plain, "eduPersonPrincipalName", "mira@kestrelridge.example", ""},
		{"its own in capitals", plain, "eduPersonPrincipalName", "mira@KestrelRidge.example", ""},
		{"another's", plain, "eduPersonPrincipalName", "mira@southmere.example", "saml.scope"},
		{"below its own", plain, "eduPersonScopedAffiliation", "staff@x.kestrelridge.example", "saml.scope"},
		{"without a scope", plain, "eduPersonScopedAffiliation", "staff", "saml.scope"},
		{"a scope of two", plain, "eduPersonPrincipalName", "mira@southmere.example@kestrelridge.example",
			"saml.scope"},
		{"by its name of the standard", plain, "urn:oid:1.3.6.1.4.1.5923.1.1.1.6", "mira@southmere.example",
			"saml.scope"},
		{"a mail address of another domain", plain, "mail", "mira@southmere.example", ""},
		{"no scopes are registered", nil, "eduPersonPrincipalName", "mira@southmere.example", ""},
		{"by a pattern", pattern, "eduPersonPrincipalName", "mira@north.kestrelridge.example", ""},
		{"a pattern fits a part", pattern, "eduPersonPrincipalName", "mira@north.kestrelridge.example.test",
			"saml.scope"},
		{"a pattern that cannot be read", []Scope{{Value: "(", Pattern: true}}, "eduPersonPrincipalName",
			"mira@kestrelridge.example", "saml.scope"},
	} {
		a, e := answer(), expect()
		a.Attributes = append(a.Attributes, Attribute{Name: c.attr, Format: NameFormatURI, Values: []string{c.value}})
		e.Scopes = c.scopes
		j := judged(t, signedAfter(t, a), e)
		if got := strings.Join(j.Findings.IDs(finding.Error), " "); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// TestWhereSomebodySignedIn: where and by whom somebody was signed in is shown, and a persistent name that another
// party qualifies is noted.
func TestWhereSomebodySignedIn(t *testing.T) {
	t.Parallel()
	a := answer()
	a.Subject = Subject{Value: "x1", Format: FormatPersistent, NameQualifier: "https://elsewhere.test"}
	j := judged(t, signedAfter(t, a, `<saml:AuthnContext>`, `<saml:SubjectLocality Address="192.0.2.7"/>`+
		`<saml:AuthnContext>`, `</saml:AuthnContextClassRef>`, `</saml:AuthnContextClassRef>`+
		`<saml:AuthenticatingAuthority>https://upstream.test</saml:AuthenticatingAuthority>`), expect())
	if j.Verdict != judge.Accepted || j.Locality != "192.0.2.7" || len(j.Authorities) != 1 ||
		j.Authorities[0] != "https://upstream.test" {
		t.Errorf("%s: %q, %v", j.Verdict, j.Locality, j.Authorities)
	}
	if got := j.Findings.IDs(finding.Note); len(got) != 1 || got[0] != "saml.qualifier" {
		t.Errorf("a foreign qualifier: %v", got)
	}
}

// TestRequestsToTheLetter has one thing wrong in each request, and the finding that names it.
func TestRequestsToTheLetter(t *testing.T) {
	t.Parallel()
	past := now.Add(-time.Hour)
	for _, c := range []struct {
		name, want, answer string
		change             func(*AuthnRequest, *RequestExpect)
		edit               [2]string
		signed             bool
		relay              string
	}{
		{name: "as it is"},
		{name: "signed", signed: true},
		{name: "signed without Destination", want: "request.destination", signed: true,
			change: func(r *AuthnRequest, _ *RequestExpect) { r.Destination = "" }},
		{name: "unsigned without Destination", change: func(r *AuthnRequest, _ *RequestExpect) { r.Destination = "" }},
		{name: "an index", change: func(r *AuthnRequest, _ *RequestExpect) { r.ACS, r.ACSIndex = "", "3" }},
		{name: "an index and a URL", want: "request.acs", change: func(r *AuthnRequest,
			_ *RequestExpect) {
			r.ACSIndex = "3"
		}},
		{name: "an index and a binding", want: "request.acs",
			change: func(r *AuthnRequest, _ *RequestExpect) { r.ACS, r.ACSIndex = "", "3" },
			edit:   [2]string{` Version="2.0"`, ` Version="2.0" ProtocolBinding="` + BindingPOST + `"`}},
		{name: "a binding that is not served", want: "request.binding", edit: [2]string{BindingPOST,
			"urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Artifact"}},
		{name: "an issuer of another format", want: "request.issuer", edit: [2]string{"<saml:Issuer",
			`<saml:Issuer Format="` + FormatEmail + `"`}},
		{name: "an unknown comparison", want: "request.authn-context", change: func(r *AuthnRequest, _ *RequestExpect) {
			r.Context = &Requested{Comparison: "most", Classes: []string{judge.ContextMFA}}
		}},
		{name: "classes and declarations", want: "request.authn-context",
			change: func(r *AuthnRequest, _ *RequestExpect) {
				r.Context = &Requested{Classes: []string{judge.ContextMFA}, Decls: []string{"urn:x"}}
			}},
		{name: "a weaker context than the trust's", want: "request.authn-context", answer: StatusNoAuthn,
			change: func(r *AuthnRequest, e *RequestExpect) {
				e.Contexts = []string{judge.ContextMFA}
				r.Context = &Requested{Classes: []string{judge.ContextPassword}}
			}},
		{name: "the app's metadata has expired", want: "request.metadata.expired",
			change: func(_ *AuthnRequest, e *RequestExpect) { e.App.SP.ValidUntil = &past }},
		{name: "a format that is not given", want: "request.format", answer: StatusInvalidNameIDPolicy,
			change: func(r *AuthnRequest, _ *RequestExpect) { r.Policy = &NameIDPolicy{Format: FormatEmail} }},
		{name: "an encrypted one", want: "request.format", answer: StatusInvalidNameIDPolicy,
			change: func(r *AuthnRequest, _ *RequestExpect) { r.Policy = &NameIDPolicy{Format: FormatEncrypted} }},
		{name: "unspecified", change: func(r *AuthnRequest, _ *RequestExpect) {
			r.Policy = &NameIDPolicy{Format: FormatUnspecified}
		}},
		{name: "a confirmed subject", want: "request.subject", answer: StatusRequestUnsupported, edit: [2]string{
			"</saml:Issuer>", `</saml:Issuer><saml:Subject xmlns:saml="` + NSAssertion +
				`"><saml:NameID>mira</saml:NameID><saml:SubjectConfirmation Method="x"/></saml:Subject>`}},
		{name: "a long RelayState", relay: strings.Repeat("x", 81)},
		{name: "the service that is there", change: func(r *AuthnRequest, e *RequestExpect) {
			e.App.SP.Services = []Service{{Index: 1, Default: true}, {Index: 4, Name: "Archive"}}
			r.Service, r.ProviderName = "4", "Night Log"
		}},
		{name: "a service that is not there", want: "request.service", answer: StatusRequestUnsupported,
			change: func(r *AuthnRequest, e *RequestExpect) {
				e.App.SP.Services = []Service{{Index: 1, Default: true}, {Index: 4, Name: "Archive"}}
				r.Service = "2"
			}},
		{name: "a service that is no number", want: "request.shape",
			change: func(r *AuthnRequest, _ *RequestExpect) { r.Service = "x" }},
		{name: "another provider and a requester", change: func(r *AuthnRequest, _ *RequestExpect) {
			r.Providers, r.Requesters = []string{"https://elsewhere.test"}, []string{"https://gateway.test"}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, e := request()
			if c.change != nil {
				c.change(r, &e)
			}
			var s *xmlsec.Signer
			if c.signed {
				s = signers().app
			}
			b, err := r.Bytes(s)
			if err != nil {
				t.Fatal(err)
			}
			text := string(b)
			if c.edit[0] != "" {
				if text = strings.Replace(text, c.edit[0], c.edit[1], 1); text == string(b) {
					t.Fatalf("the edit changed nothing in %s", b)
				}
			}
			doc, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits())
			if err != nil {
				t.Fatal(err)
			}
			j := JudgeRequest(&Carried{Binding: BindingPOST, RelayState: c.relay}, doc.Root(), e)
			if got := strings.Join(j.Findings.IDs(finding.Error), " "); got != c.want {
				t.Errorf("%q, want %q", got, c.want)
			}
			if (j.Answer == nil) != (c.answer == "") || j.Answer != nil && j.Answer.Sub != c.answer {
				t.Errorf("answered by %+v, want %q", j.Answer, c.answer)
			}
			if warned := slices.Contains(j.Findings.IDs(finding.Warning),
				"saml.relay-state"); warned != (c.relay != "") {
				t.Errorf("RelayState of %d bytes: warned %v", len(c.relay), warned)
			}
		})
	}
	for _, form := range []url.Values{{"SAMLResponse": {"QQ==", "QQ=="}},
		{"SAMLRequest": {"QQ=="}, "SAMLResponse": {""}},
		{"SAMLRequest": {"QQ=="}, "RelayState": {"a", "b"}}} {
		if _, err := DecodePOST(form); err == nil {
			t.Errorf("%v was taken", form)
		}
	}
}

// TestAcceptable compares contexts as the standard has it; a request never takes anything off the trust's demand.
func TestAcceptable(t *testing.T) {
	pw, mfa, own, other := judge.ContextPassword, judge.ContextMFA, "urn:example:own", "urn:example:other"
	for _, c := range []struct {
		trust []string
		asked *Requested
		want  string // the contexts; "-" none satisfies
	}{
		{nil, nil, ""},
		{nil, &Requested{Classes: []string{pw}}, pw},
		{nil, &Requested{Classes: []string{mfa, pw}}, pw + " " + mfa},
		{nil, &Requested{Comparison: CompareMinimum, Classes: []string{pw}}, pw + " " + mfa},
		{nil, &Requested{Comparison: CompareMinimum, Classes: []string{mfa}}, mfa},
		{nil, &Requested{Comparison: CompareMaximum, Classes: []string{pw}}, pw},
		{nil, &Requested{Comparison: CompareMaximum, Classes: []string{mfa}}, pw + " " + mfa},
		{nil, &Requested{Comparison: CompareBetter, Classes: []string{pw}}, mfa},
		{nil, &Requested{Comparison: CompareBetter, Classes: []string{mfa}}, "-"},
		{nil, &Requested{Comparison: CompareBetter, Classes: []string{other}}, "-"},
		{nil, &Requested{Comparison: CompareMinimum, Classes: []string{other, mfa}}, mfa},
		{nil, &Requested{Classes: []string{other}}, "-"},
		{nil, &Requested{Decls: []string{"x"}}, "-"},
		{[]string{mfa}, nil, mfa},
		{[]string{mfa}, &Requested{Classes: []string{pw}}, "-"},
		{[]string{mfa}, &Requested{Comparison: CompareMinimum, Classes: []string{pw}}, mfa},
		{[]string{own}, nil, own},
		{[]string{own}, &Requested{Comparison: CompareMinimum, Classes: []string{pw}}, own},
		{[]string{own}, &Requested{Classes: []string{own}}, own},
		// an order that the trust states
		{[]string{pw, own, mfa}, nil, pw + " " + own + " " + mfa},
		{[]string{pw, own, mfa}, &Requested{Comparison: CompareMinimum, Classes: []string{own}}, own + " " + mfa},
		{[]string{pw, own, mfa}, &Requested{Comparison: CompareBetter, Classes: []string{own}}, mfa},
		{[]string{pw, own, mfa}, &Requested{Comparison: CompareMaximum, Classes: []string{own}}, pw + " " + own},
		{[]string{pw, other, own}, &Requested{Comparison: CompareBetter, Classes: []string{other}}, own},
		{[]string{pw, other, own}, &Requested{Comparison: CompareMinimum, Classes: []string{mfa}}, other + " " + own},
		{[]string{other, own}, &Requested{Comparison: CompareMaximum, Classes: []string{mfa}}, "-"},
		{[]string{other, mfa, own}, &Requested{Comparison: CompareBetter, Classes: []string{mfa}}, own},
	} {
		got, ok := Acceptable(c.trust, c.asked)
		s := strings.Join(got, " ")
		if !ok {
			s = "-"
		}
		if s != c.want {
			t.Errorf("trust %v, asked %s: %q, want %q", c.trust, c.asked.Words(), s, c.want)
		}
	}
}

// TestMetadataToTheLetter has one thing wrong in each metadata document.
func TestMetadataToTheLetter(t *testing.T) {
	past := `validUntil="2031-03-04T08:00:00Z"`
	sp := func(entity, role, key, location string) string {
		return `<md:EntityDescriptor xmlns:md="` + NSMetadata + `" xmlns:ds="` + xmlsec.NS + `" ` + entity +
			`><md:SPSSODescriptor protocolSupportEnumeration="` + NSProtocol + `" ` + role + `>` + key +
			`<md:AssertionConsumerService Binding="` + BindingPOST + `" Location="` + location +
			`" index="1"/></md:SPSSODescriptor></md:EntityDescriptor>`
	}
	id := `entityID="` + appID + `"`
	key := func(use, info string) string {
		return `<md:KeyDescriptor use="` + use + `"><ds:KeyInfo>` + info + `</ds:KeyInfo></md:KeyDescriptor>`
	}
	cert := `<ds:X509Data><ds:X509Certificate>` + pemBody(signers().app) + `</ds:X509Certificate></ds:X509Data>`
	format := func(f string) string {
		return strings.Replace(sp(id, "", "", acsURL), "<md:AssertionConsumerService", "<md:NameIDFormat>"+f+
			"</md:NameIDFormat><md:AssertionConsumerService", 1)
	}
	second := strings.Replace(sp(id, "", "", acsURL), "</md:EntityDescriptor>", `<md:SPSSODescriptor `+
		`protocolSupportEnumeration="`+NSProtocol+`"/></md:EntityDescriptor>`, 1)
	for _, c := range []struct{ name, want, text string }{
		{"as it is", "", sp(id, "", key("signing", cert), acsURL)},
		{"a role that has expired", "metadata.expired", sp(id, past, "", acsURL)},
		{"an entity that has expired", "metadata.expired", sp(id+" "+past, "", "", acsURL)},
		{"a group that has expired", "metadata.expired", `<md:EntitiesDescriptor xmlns:md="` + NSMetadata +
			`"><md:EntitiesDescriptor ` + past + `>` + sp(id, "", "", acsURL) +
			`</md:EntitiesDescriptor></md:EntitiesDescriptor>`},
		{"a root that has expired", "metadata.expired",
			`<md:EntitiesDescriptor xmlns:md="` + NSMetadata + `" ` + past + `>` +
				sp(id, "", "", acsURL) + `</md:EntitiesDescriptor>`},
		{"a second role", "metadata.second-role", second},
		{"a long entity ID", "metadata.entity-id",
			sp(`entityID="https://`+strings.Repeat("x", 1020)+`"`, "", "", acsURL)},
		{"a user name in a URL", "metadata.endpoint-user",
			sp(id, "", "", "https://u:p@nightlog.kestrelridge.example/acs")},
		{"a misspelt use", "metadata.key-use", sp(id, "", key("signning", cert), acsURL)},
		{"a format that is a word", "metadata.name-id-format", format("persistent")},
		{"a misspelt format", "metadata.name-id-format", format("emailAdress")},
		{"a format of the other version", "metadata.name-id-format",
			format("urn:oasis:names:tc:SAML:2.0:nameid-format:emailAddress")},
		{"a format that is nothing", "metadata.name-id-format", format("whatever you like")},
		{"a format of somebody's own", "", format("https://kestrelridge.example/formats/badge")},
		{"a format among white space", "", format("\n  " + FormatEmail + "\n")},
		{"a key by value", "metadata.key", sp(id, "", key("signing", `<ds:KeyValue/>`), acsURL)},
		{"a key by name", "metadata.key", sp(id, "", key("signing", `<ds:KeyName>k1</ds:KeyName>`), acsURL)},
	} {
		doc, err := xmlsec.Parse([]byte(c.text), xmlsec.MetadataLimits())
		if err != nil {
			t.Fatal(c.name, err)
		}
		md, err := ReadDocument(doc)
		if err != nil {
			t.Fatal(c.name, err)
		}
		e, err := md.Entity("")
		if err != nil {
			t.Fatal(c.name, err)
		}
		got := ""
		for _, f := range JudgeEntity(e, finding.App, now) {
			if (f.Level == finding.Error || f.Level == finding.Warning) &&
				!strings.HasPrefix(string(f.ID), "certificate.") {
				got += string(f.ID)
			}
			if f.Fix.IsZero() && f.Level != finding.Pass {
				t.Errorf("%s: no remedy for %s", c.name, f.ID)
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	// of an X509Data the first certificate is the signer's; what else stands there is its chain
	two := `<ds:X509Data><ds:X509Certificate>` + pemBody(signers().app) + `</ds:X509Certificate><ds:X509Certificate>` +
		pemBody(signers().other) + `</ds:X509Certificate></ds:X509Data>`
	if keys, _ := readBack(t, []byte(sp(id, "", key("signing", two), acsURL))).SP.SigningKeys(); len(keys) != 1 {
		t.Errorf("%d signing keys of one X509Data", len(keys))
	}
	if keys, _ := readBack(t, []byte(sp(id, "", key("signning", cert), acsURL))).SP.SigningKeys(); len(keys) != 0 {
		t.Errorf("a key with a misspelt use signs")
	}
}

// TestTenantsByTheirOwnName: what a provider says of tenants is read by the name in the message, whatever friendly
// names it gives.
func TestTenantsByTheirOwnName(t *testing.T) {
	t.Parallel()
	const tenant = "urn:oid:1.3.6.1.4.1.25178.1.2.9"
	at := func(name, friendly, value string) Attribute {
		return Attribute{Name: name, Format: NameFormatURI, Friendly: friendly, Values: []string{value}}
	}
	for _, c := range []struct {
		name  string
		attrs []Attribute
		want  string
	}{
		{"its own", []Attribute{at(tenant, "schacHomeOrganization", "north")}, ""},
		{"another's", []Attribute{at(tenant, "schacHomeOrganization", "south")}, "subject.tenant"},
		{"by a friendly name alone", []Attribute{at("urn:x", tenant, "north")}, "subject.tenant"},
		{"another's beside its own", []Attribute{at(tenant, "", "north"), at(tenant, "", "south")}, "subject.tenant"},
		{"another's under the friendly name of the account", []Attribute{at(tenant, "", "north"),
			at(tenant, "account", "south")}, "subject.tenant"},
	} {
		a, e := answer(), expect()
		a.Attributes = append(a.Attributes, c.attrs...)
		e.Speaks = judge.Vouching{Tenants: []judge.Tenant{{Claim: tenant, Values: []string{"north"}}}, Key: "account"}
		j := judged(t, signedAfter(t, a), e)
		if got := strings.Join(j.Findings.IDs(finding.Error), " "); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// TestFrame: a message or an assertion has version 2.0 and an ID; one that no schema knows as an ID is told.
func TestFrame(t *testing.T) {
	for _, c := range []struct {
		version, id string
		level       finding.Level
	}{
		{"2.0", "_1", ""}, {"2.0", "a-b.c_1", ""}, {"2.0", "é1", ""}, {"2.0", "_a\u0301", ""},
		{"2.0", "1a", finding.Warning}, {"2.0", "-a", finding.Warning}, {"2.0", ".a", finding.Warning},
		{"2.0", "a:b", finding.Warning}, {"2.0", "a b", finding.Warning}, {"2.0", "{a}", finding.Warning},
		{"2.0", "", finding.Error}, {"", "_1", finding.Error}, {"1.1", "_1", finding.Error}, {"2", "1", finding.Error},
	} {
		el := xmlsec.New("saml:Assertion", "xmlns:saml", NSAssertion, "ID", c.id, "Version", c.version)
		var out finding.List
		judgeFrame(&out, finding.SAMLShape, el, finding.Provider, "SAML Core 2.3.3")
		if c.level == "" && len(out) > 0 || c.level != "" && (len(out) != 1 || out[0].Level != c.level) {
			t.Errorf("version %q, ID %q: %+v", c.version, c.id, out)
		}
	}
}

package saml

import (
	"crypto/rsa"
	"errors"
	"fmt"
	"time"

	"github.com/beevik/etree"

	"crypto"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/xmlsec"
)

// Expect is what an app knows when it judges a response: all of it from the ledger and its own request.
type Expect struct {
	App                  string   // entity ID of the app: the audience
	ACS                  []string // the app's assertion consumer service locations
	Provider             string   // entity ID of the provider: the issuer
	Keys                 []crypto.PublicKey
	DecryptionKeys       []*rsa.PrivateKey
	CheckRequest         bool   // whether InResponseTo is judged at all
	RequestID            string // ID of the request sent; "" if none was
	AllowUnsolicited     bool
	WantAssertionsSigned bool
	WantEncrypted        bool     // a plain assertion is warned of
	RefusePlain          bool     // a plain assertion is refused
	Contexts             []string // acceptable AuthnContextClassRefs; none: any
	Wanted               []Wanted
	AllowSHA1            bool
	Trust                string // names of the trust and its parties, for what findings say
	AppName              string
	ProviderName         string
	Now                  time.Time
	Skew                 time.Duration
	Seen                 func(assertionID string) bool // reports and remembers an ID; nil: not checked
}

// ResponseJudgement is the outcome of judging a response. The name identifier and the attributes are there only if they
// stand under a good signature.
type ResponseJudgement struct {
	judge.Judgement
	Issuer       string
	InResponseTo string
	AssertionID  string
	SessionIndex string
	Context      string
	Encrypted    bool
	NameID       *Subject
	Attributes   []Attribute
}

// judging carries one judgement through its steps.
type judging struct {
	Expect
	*ResponseJudgement
	resp      *etree.Element
	assertion *etree.Element
	genuine   bool // the assertion stands under a good signature
}

// JudgeResponse judges a Response as the app that receives it (SAML Profiles, section 4.1.4.3; SAML Core, sections 2.5
// and 3.2.2). All checks are made and reported, not the first that fails alone.
func JudgeResponse(root *etree.Element, e Expect) *ResponseJudgement {
	if e.Skew == 0 {
		e.Skew = judge.Skew
	}
	j := &judging{Expect: e, ResponseJudgement: &ResponseJudgement{Judgement: judge.Judgement{Kind: "SAML response"}},
		resp: root}
	j.run()
	if !j.genuine {
		j.NameID, j.Attributes = nil, nil
	}
	if j.NameID != nil {
		j.Subject, j.Format = j.NameID.Value, j.NameID.Format
	}
	j.Claims = make(map[string][]string, len(j.Attributes))
	for _, a := range j.Attributes {
		j.Claims[a.Name] = append(j.Claims[a.Name], a.Values...)
	}
	if !j.CheckRequest {
		j.NotChecked = append(j.NotChecked, "whether the app sent the request that this answers")
	}
	if j.Seen == nil {
		j.NotChecked = append(j.NotChecked, "whether the assertion was used before")
	}
	j.Settle()
	return j.ResponseJudgement
}

func (j *judging) fail(id, check, saw, expected string, side finding.Side, fix, ref string) {
	j.failWith(id, check, saw, expected, side, finding.Do(fix), ref)
}

func (j *judging) failWith(id, check, saw, expected string, side finding.Side, fix finding.Remedy, ref string) {
	j.Findings.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected, Side: side,
		Fix: fix, Ref: ref})
}

// named returns the command with a name in it where the name is known, else the same in words.
func named(name, words string, args ...string) finding.Remedy {
	if name == "" {
		return finding.Do(words)
	}
	return finding.Run(args...)
}

func (j *judging) run() {
	if !xmlsec.Is(j.resp, NSProtocol, "Response") {
		j.fail("saml.shape", "message", "<"+j.resp.FullTag()+">", "a SAML 2.0 Response", finding.Provider,
			"send a Response to the assertion consumer service", "SAML Profiles 4.1.4.2")
		return
	}
	if v := xmlsec.Attr(j.resp, "Version"); v != "2.0" || xmlsec.Attr(j.resp, "ID") == "" {
		j.fail("saml.shape", "version and ID", fmt.Sprintf("Version %q, ID %q", v, xmlsec.Attr(j.resp, "ID")),
			"Version 2.0 and an ID", finding.Provider, "send SAML 2.0", "SAML Core 3.2.2")
	}
	j.InResponseTo = xmlsec.Attr(j.resp, "InResponseTo")
	ok := j.status()
	signed := j.structure()
	respSigned := j.responseSignature()
	if ok {
		j.pickAssertion(&signed)
		j.assertionSignature(respSigned, signed)
	}
	j.issuer()
	j.destination()
	if j.assertion != nil {
		j.AssertionID = xmlsec.Attr(j.assertion, "ID")
		j.subject()
		j.confirmation()
		j.window()
		j.audience()
		j.authn()
		j.attributes()
	}
	j.request()
	if j.Seen != nil && j.genuine && !j.Findings.Failed() {
		if j.Seen(j.AssertionID) {
			j.fail("saml.replay", "one-time use", "assertion "+j.AssertionID+" was used before", "an assertion not seen yet",
				finding.Sender, "start the sign-in again; a message that comes twice may be stolen", "SAML Profiles 4.1.4.5")
		} else {
			j.Findings.Pass("saml.replay", "one-time use", "first use of "+j.AssertionID)
		}
	}
}

func (j *judging) status() bool {
	code := xmlsec.Path(j.resp, NSProtocol, "Status", "StatusCode")
	top := xmlsec.Attr(code, "Value")
	if top == StatusSuccess {
		j.Findings.Pass("saml.status", "status", "Success")
		return true
	}
	sub := xmlsec.Attr(xmlsec.Child(code, NSProtocol, "StatusCode"), "Value")
	saw := ShortName(top)
	if sub != "" {
		saw += ", " + ShortName(sub)
	}
	if msg := xmlsec.Text(xmlsec.Path(j.resp, NSProtocol, "Status", "StatusMessage")); msg != "" {
		saw += ": " + msg
	}
	switch sub {
	case StatusRequestDenied:
		j.failWith("saml.admission", "admission", saw, "Success", finding.Provider,
			finding.Do("the provider does not admit this person to this app: add them to an admitted group").
				Or(named(j.Trust, "change who is admitted", "trust", "change", j.Trust, "--admits", "everyone")),
			"SAML Core 3.2.2.2")
	case StatusNoAuthn:
		j.fail("saml.strength", "authentication strength", saw, "Success", finding.Person,
			"sign in with the factors that the app asks for", "SAML Core 3.2.2.2")
	default:
		j.fail("saml.status", "status", saw, "Success", finding.Provider,
			"look in the provider's log at the time of this message for the reason", "SAML Core 3.2.2.2")
	}
	return false
}

func (j *judging) trustName() string {
	if j.Trust == "" {
		return "TRUST"
	}
	return j.Trust
}

// structure finds whatever hides an assertion or a signature where none belongs. It returns whether there is a
// signature anywhere that counts as an attempt to sign.
func (j *judging) structure() (sawSignature bool) {
	xmlsec.Walk(j.resp, func(el *etree.Element) bool {
		switch {
		case xmlsec.Is(el, NSAssertion, "Assertion"), xmlsec.Is(el, NSAssertion, "EncryptedAssertion"):
			if el.Parent() != j.resp {
				j.wrapped("an assertion stands inside <" + el.Parent().FullTag() + ">")
			}
		case xmlsec.Is(el, NSProtocol, "Response"):
			if el != j.resp {
				j.wrapped("a response stands inside <" + el.Parent().FullTag() + ">")
			}
		case xmlsec.Is(el, xmlsec.NS, "Signature"):
			sawSignature = true
			p := el.Parent()
			if p != j.resp && !(xmlsec.Is(p, NSAssertion, "Assertion") && p.Parent() == j.resp) {
				j.wrapped("a signature stands inside <" + p.FullTag() + ">")
			}
		}
		return true
	})
	return sawSignature
}

func (j *judging) wrapped(saw string) {
	j.fail("saml.wrapping", "what the signature covers", saw,
		"one assertion, directly in the response, and a signature only as a child of what it signs", finding.Sender,
		"refuse the message and look at where it came from: this is how signed messages are forged", "SAML Core 5.4")
}

// signatureFinding explains an error of verifying a signature that a side made; name is the party of that side.
func signatureFinding(prefix, check string, err error, side finding.Side, name string) finding.Finding {
	f := finding.Finding{ID: prefix + ".shape", Level: finding.Error, Check: check, Saw: err.Error(),
		Expected: "a signature with the key of the " + string(side), Side: side,
		Fix: finding.Do("sign as SAML Core 5.4 says"), Ref: "SAML Core 5.4"}
	var se *xmlsec.SignatureError
	if !errors.As(err, &se) {
		return f
	}
	f.Saw = se.Detail
	f.ID = prefix + "." + string(se.Reason)
	switch se.Reason {
	case xmlsec.NoSignature:
		f.Fix = finding.Do("switch on signing at the " + string(side))
	case xmlsec.WrongKey:
		f.Fix = finding.Do("the " + string(side) +
			" signs with a key that its metadata in the ledger does not have: read it again").
			Then(named(name, "from where it is published", string(side), "change", name, "--metadata", "SOURCE"))
	case xmlsec.NoKey:
		f.Fix = finding.Do("give the ledger the " + string(side) + "'s metadata with its signing certificate")
	case xmlsec.Changed:
		f.Expected = "content unchanged since it was signed"
		f.Fix = finding.Do("find what changes the message on its way (a proxy, an editor, a pretty-printer); capture it raw")
	case xmlsec.BadReference:
		f.ID = "saml.wrapping"
		f.Expected = "a signature that covers exactly the element that carries it"
		f.Side = finding.Sender
		f.Fix = finding.Do("refuse the message and look at where it came from: this is how signed messages are forged")
	case xmlsec.WeakAlgorithm:
		f.Expected = "SHA-256 or better, RSA of 2048 bits or more"
		f.Fix = finding.Do("set the " + string(side) + " to sign with SHA-256")
	case xmlsec.BadAlgorithm:
		f.Expected = "an algorithm of XML Signature 1.1 with SHA-256 or better"
		f.Fix = finding.Do("set the " + string(side) + " to RSA or ECDSA with SHA-256 and exclusive canonicalization")
	}
	return f
}

// responseSignature verifies the signature over the whole response, if there is one.
func (j *judging) responseSignature() bool {
	v, err := xmlsec.Verify(j.resp, xmlsec.Policy{Keys: j.Keys, AllowSHA1: j.AllowSHA1})
	var se *xmlsec.SignatureError
	if errors.As(err, &se) && se.Reason == xmlsec.NoSignature {
		return false
	}
	if err != nil {
		j.Findings.Add(signatureFinding("saml.signature", "signature of the response", err, finding.Provider, j.ProviderName))
		return false
	}
	j.goodSignature("signature of the response", v)
	return true
}

func (j *judging) goodSignature(check string, v xmlsec.Verified) {
	if v.SHA1 {
		j.Findings.Add(finding.Finding{ID: "saml.signature.weak", Level: finding.Warning, Check: check,
			Saw: xmlsec.ShortAlgorithm(v.Method) + ", allowed by this trust", Expected: "SHA-256 or better",
			Side: finding.Provider, Fix: finding.Do("set the provider to sign with SHA-256, then take the exception away")})
		return
	}
	j.Findings.Pass("saml.signature", check, xmlsec.ShortAlgorithm(v.Method)+" by the provider's key")
}

// pickAssertion decides which assertion is read: there must be exactly one, plain or encrypted.
func (j *judging) pickAssertion(sawSignature *bool) {
	plain := xmlsec.Children(j.resp, NSAssertion, "Assertion")
	sealed := xmlsec.Children(j.resp, NSAssertion, "EncryptedAssertion")
	if n := len(plain) + len(sealed); n != 1 {
		j.fail("saml.assertion-count", "number of assertions", fmt.Sprint(n), "exactly one", finding.Provider,
			"send one assertion; of several it is unclear which was meant, and that is how messages are forged",
			"SAML Profiles 4.1.4.2")
		return
	}
	if len(plain) == 1 {
		j.assertion = plain[0]
		if j.WantEncrypted || j.RefusePlain {
			level := finding.Warning
			if j.RefusePlain {
				level = finding.Error
			}
			j.Findings.Add(finding.Finding{ID: "saml.encryption", Level: level, Check: "encryption", Saw: "a plain assertion",
				Expected: "an encrypted assertion, as this trust says", Side: finding.Provider, Ref: "SAML Core 2.3.4",
				Fix: finding.Do("set the provider to encrypt for this app with the certificate in the app's metadata")})
		}
		return
	}
	j.Encrypted = true
	data := xmlsec.Child(sealed[0], xmlsec.EncNS, "EncryptedData")
	if data == nil {
		j.fail("saml.encryption", "encryption", "EncryptedAssertion without EncryptedData", "EncryptedData",
			finding.Provider, "send a whole EncryptedAssertion", "SAML Core 2.3.4")
		return
	}
	el, err := xmlsec.Decrypt(data, j.DecryptionKeys)
	if err != nil {
		fix := "set the provider to encrypt with the certificate that is in the app's metadata now"
		side := finding.Provider
		if errors.Is(err, xmlsec.ErrNoRecipientKey) {
			fix, side = "give the app's private key with --key FILE; the ledger has it only for own apps", finding.App
		}
		j.fail("saml.encryption", "encryption", err.Error(), "an assertion encrypted to the app's key", side, fix,
			"SAML Core 2.3.4")
		return
	}
	if !xmlsec.Is(el, NSAssertion, "Assertion") {
		j.fail("saml.encryption", "encryption", "<"+el.FullTag()+"> was encrypted", "an Assertion", finding.Provider,
			"encrypt the assertion and nothing else", "SAML Core 2.3.4")
		return
	}
	bad := false
	xmlsec.Walk(el, func(c *etree.Element) bool {
		if xmlsec.Is(c, xmlsec.NS, "Signature") {
			*sawSignature = true
			bad = bad || c.Parent() != el
		}
		bad = bad || c != el && xmlsec.Is(c, NSAssertion, "Assertion")
		return true
	})
	if bad {
		j.wrapped("a second assertion or signature stands inside the encrypted one")
	}
	j.Findings.Pass("saml.encryption", "encryption", "encrypted with "+
		xmlsec.ShortAlgorithm(xmlsec.Attr(xmlsec.Child(data, xmlsec.EncNS, "EncryptionMethod"), "Algorithm")))
	j.assertion = el
}

func (j *judging) assertionSignature(respSigned, sawSignature bool) {
	if j.assertion == nil {
		return
	}
	v, err := xmlsec.Verify(j.assertion, xmlsec.Policy{Keys: j.Keys, AllowSHA1: j.AllowSHA1})
	var se *xmlsec.SignatureError
	switch {
	case err == nil:
		j.goodSignature("signature of the assertion", v)
		j.genuine = true
	case errors.As(err, &se) && se.Reason == xmlsec.NoSignature:
		switch {
		case respSigned && j.WantAssertionsSigned:
			j.genuine = true
			j.fail("saml.signature.assertion", "signature of the assertion", "only the response is signed",
				"a signed assertion, as the app's metadata says (WantAssertionsSigned)", finding.Provider,
				"set the provider to sign assertions for this app", "SAML Metadata 2.4.4")
		case respSigned:
			j.genuine = true
		case !sawSignature:
			j.fail("saml.signature.missing", "signature", "neither the response nor the assertion is signed",
				"a signature with the provider's key", finding.Provider, "switch on signing at the provider",
				"SAML Profiles 4.1.3.5")
		case !j.Findings.Failed():
			j.wrapped("the assertion is under no signature")
		}
	default:
		j.Findings.Add(signatureFinding("saml.signature", "signature of the assertion", err, finding.Provider,
			j.ProviderName))
	}
}

func (j *judging) issuer() {
	ri := xmlsec.Text(xmlsec.Child(j.resp, NSAssertion, "Issuer"))
	ai := xmlsec.Text(xmlsec.Child(j.assertion, NSAssertion, "Issuer"))
	saw := ai
	if j.assertion == nil || ri != "" && ri != j.Provider {
		saw = ri
	}
	j.Issuer = saw
	compareWith(&j.Findings, "saml.issuer", "issuer", saw, []string{j.Provider}, finding.Provider,
		"set the provider's entity ID to %s", "SAML Profiles 4.1.4.2", named(j.ProviderName, "read its metadata again",
			"provider", "change", j.ProviderName, "--metadata", "SOURCE"))
}

func (j *judging) destination() {
	d := xmlsec.Attr(j.resp, "Destination")
	if d == "" {
		if _, err := xmlsec.SignatureOf(j.resp); err == nil && xmlsec.Child(j.resp, xmlsec.NS, "Signature") == nil {
			return // only a signed response must have one (SAML Bindings 3.5.5.2)
		}
	}
	compare(&j.Findings, "saml.destination", "destination", d, j.ACS, finding.Provider,
		"set the app's assertion consumer URL at the provider to %s", "SAML Core 3.2.2")
}

package saml

import (
	"crypto"
	"crypto/rsa"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/beevik/etree"

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
	Speaks               judge.Vouching
	Scopes               []Scope // those of the provider's metadata; none: nothing is said
	Wanted               []Wanted
	Service              string                      // index of the one that was asked for; "" is the default
	Advise               func(Wanted) finding.Remedy // what to do about a missing one; nil: words alone
	AllowSHA1            bool
	Carried              *Carried   // how it came; nil where that is not known
	Until                *time.Time // until when the provider's metadata is valid; nil: no end
	OwnProvider          bool       // the provider is Tressik's own
	Far                  bool       // it is the real one and foreign: whom it admits is its owner's to change
	Trust                string     // names of the trust and its parties, for what findings say
	AppName              string
	ProviderName         string
	Now                  time.Time
	Skew                 time.Duration
	Seen                 func(assertionID string) bool // reports and remembers an ID; nil: not checked
}

// For has the response expected that a service of the app was asked for: what is wanted is what that one wishes. An
// index that the app's metadata does not have, and "", leave what the default one wishes.
func (e *Expect) For(sp *Role, index string) {
	if s := sp.ServiceOf(index); s != nil {
		e.Service, e.Wanted = index, s.Wanted
	}
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
	Locality     string   // address or name of the machine at which the person signed in, as the provider says
	Authorities  []string // AuthenticatingAuthority: who signed the person in, where it was not the provider itself
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
	genuine   bool           // the assertion stands under a good signature
	spaced    []string       // values with white space at an end
	confirmed *etree.Element // the data of the bearer confirmation that is judged
}

// JudgeResponse judges a Response as the app that receives it (SAML Profiles, section 4.1.4.3; SAML Core, sections 2.5
// and 3.2.2). All checks are made and reported, not the first that fails alone.
func JudgeResponse(root *etree.Element, e Expect) *ResponseJudgement {
	if e.Skew == 0 {
		e.Skew = judge.Skew
	}
	j := &judging{Expect: e, ResponseJudgement: &ResponseJudgement{Judgement: judge.Judgement{Kind: "SAML response",
		Service: e.Service, Findings: make(finding.List, 0, 12+len(e.Wanted))}}, resp: root}
	j.run()
	if !j.genuine {
		j.NameID, j.Attributes = nil, nil
	}
	if j.NameID != nil {
		j.Subject, j.Format = j.NameID.Value, j.NameID.Format
	}
	j.Claims = make(map[string][]string, len(j.Attributes))
	for i := range j.Attributes {
		a := &j.Attributes[i]
		if had := j.Claims[a.Name]; had != nil {
			j.Claims[a.Name] = append(had, a.Values...)
			continue
		}
		j.Claims[a.Name] = a.Values[:len(a.Values):len(a.Values)]
	}
	if j.genuine && j.Speaks.Bounds() {
		j.NotChecked = append(j.NotChecked, j.Speaks.Judge(&j.Findings, j.Trust, j.Subject, j.names())...)
	}
	if j.genuine {
		j.scopes()
	}
	if !j.CheckRequest && j.InResponseTo != "" {
		j.NotChecked = append(j.NotChecked, "whether the app sent the request that this answers ("+j.InResponseTo+")")
	}
	if j.Carried == nil || j.Carried.Binding == "" {
		j.NotChecked = append(j.NotChecked, "by which binding it came")
	}
	if j.Seen == nil {
		j.NotChecked = append(j.NotChecked, "whether the assertion was used before")
	}
	j.Settle()
	return j.ResponseJudgement
}

// scopes judges values that are scoped by their attribute against the scopes of the provider's metadata: a federation
// registers them so that nobody speaks for others. A mail address is no scoped value.
func (j *judging) scopes() {
	if len(j.Expect.Scopes) == 0 {
		return
	}
	var words []string
	for _, s := range j.Expect.Scopes {
		words = append(words, s.Words())
	}
	held := ""
	for _, a := range j.Attributes {
		if !judge.ScopedByRegistry(a.Name) && !judge.ScopedByRegistry(a.Friendly) {
			continue
		}
		for _, v := range a.Values {
			_, domain, ok := strings.Cut(v, "@")
			if ok && slices.ContainsFunc(j.Expect.Scopes, func(s Scope) bool { return s.Covers(domain) }) {
				held = domain
				continue
			}
			j.Findings.Add(finding.Finding{ID: finding.SAMLScope, Level: finding.Error, Check: "scope of " + a.Name,
				Saw: v, Expected: "one of " + strings.Join(words, ", ") + ", which its metadata has",
				Side: finding.Provider, Fix: finding.Do("leave it refused; if the scope is the provider's, have " +
					"it registered " +
					"with its federation").Then(named(j.ProviderName, "read its metadata again", "provider", "change",
					j.ProviderName, "--metadata", "SOURCE"))})
		}
	}
	if held != "" {
		j.Findings.Pass(finding.SAMLScope, "scope of names", held)
	}
}

// names are the values that came by the name in the message, and where the app reads a friendly one by that as well: a
// friendly name is anybody's to write, and takes nothing from what is judged by the other.
func (j *judging) names() map[string][]string {
	out := map[string][]string{}
	for _, a := range j.Attributes {
		out[a.Name] = append(out[a.Name], a.Values...)
		if f := a.Friendly; f != "" && f != a.Name && strings.EqualFold(f, j.Speaks.Key) {
			out[f] = append(out[f], a.Values...)
		}
	}
	return out
}

func (j *judging) fail(id finding.ID, check, saw, expected string, side finding.Side, fix, ref string) {
	j.failWith(id, check, saw, expected, side, finding.Do(fix), ref)
}

func (j *judging) failWith(id finding.ID, check, saw, expected string, side finding.Side, fix finding.Remedy,
	ref string) {
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

// judgeFrame judges the version and the ID of a message or an assertion. An ID that is no xs:ID (SAML Core, section
// 1.3.4) is taken here, and told: many a receiver validates by the schema and refuses it.
func judgeFrame(out *finding.List, id finding.ID, el *etree.Element, side finding.Side, ref string) {
	v, name := xmlsec.Attr(el, "Version"), xmlsec.Attr(el, "ID")
	f := finding.Finding{ID: id, Level: finding.Error, Check: "version and ID of the " + el.Tag, Side: side,
		Ref: ref, Saw: fmt.Sprintf("Version %q, ID %q", v, name), Expected: "Version 2.0 and an ID",
		Fix: finding.Do("send SAML 2.0")}
	switch {
	case v != "2.0" || name == "":
	case !isID(name):
		f.Level, f.Ref, f.Saw = finding.Warning, "SAML Core 1.3.4", fmt.Sprintf("ID %q", name)
		f.Expected = "an ID that begins with a letter or _, and goes on with letters, digits, dots, - and _"
		f.Fix = finding.Do("have the sender begin its IDs with _: receivers that validate by the schema refuse " +
			"this one")
	default:
		return
	}
	out.Add(f)
}

// isID reports whether a text is an xs:ID: a name without a colon (Namespaces in XML 1.0, section 3).
func isID(s string) bool {
	for i, r := range s {
		switch {
		case r == '_', unicode.IsLetter(r):
		case i > 0 && (r == '-' || r == '.' || r == 0xB7 || unicode.IsDigit(r) || unicode.Is(unicode.M, r)):
		default:
			return false
		}
	}
	return s != ""
}

func (j *judging) run() {
	if !xmlsec.Is(j.resp, NSProtocol, "Response") {
		j.fail(finding.SAMLShape, "message", "<"+j.resp.FullTag()+">", "a SAML 2.0 Response", finding.Provider,
			"send a Response to the assertion consumer service", "SAML Profiles 4.1.4.2")
		return
	}
	judgeFrame(&j.Findings, finding.SAMLShape, j.resp, finding.Provider, "SAML Core 3.2.2")
	if err := Shape(j.resp); err != nil {
		j.Findings.Add(Unread(j.resp, err, finding.Provider))
	}
	if c := j.Carried; c != nil {
		if c.Binding != "" && c.Binding != BindingPOST {
			j.fail(finding.SAMLBinding, "binding", ShortName(c.Binding), "HTTP-POST", finding.Provider,
				"send responses by HTTP-POST: a URL is too short for them and stays in logs", "SAML Profiles 4.1.2")
		} else {
			judgeCarriage(&j.Findings, c, j.resp, finding.Provider)
		}
		judgeRelay(&j.Findings, c.RelayState, finding.Provider)
	}
	j.InResponseTo = xmlsec.Attr(j.resp, "InResponseTo")
	j.validity()
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
		j.conditions()
		j.audience()
		j.authn()
		j.attributes()
	}
	j.request()
	j.space()
	if j.Seen != nil && j.genuine && !j.Findings.Failed() {
		if j.Seen(j.AssertionID) {
			j.fail(finding.SAMLReplay, "one-time use", "assertion "+j.AssertionID+" was used before",
				"an assertion not seen yet",
				finding.Sender, "start the sign-in again; a message that comes twice may be stolen",
				"SAML Profiles 4.1.4.5")
		} else {
			j.Findings.Pass(finding.SAMLReplay, "one-time use", "first use of "+j.AssertionID)
		}
	}
}

// validity refuses what rests on metadata that has expired: it carries no trust (SAML Metadata, section 2.3.2).
func (j *judging) validity() {
	if j.Until != nil && !j.Now.Before(*j.Until) {
		j.failWith(finding.SAMLMetadataExpired, "validity of the provider's metadata", "ended "+stamp(*j.Until),
			"metadata in force",
			finding.Provider, finding.Do("read the provider's metadata again").
				Then(named(j.ProviderName, "from its source", "provider", "change", j.ProviderName, "--metadata",
					"SOURCE")),
			"SAML Metadata 2.3.2")
	}
}

// status judges the status and reports whether it is success.
func (j *judging) status() bool {
	st := ReadStatus(j.resp)
	if st.Top == StatusSuccess {
		j.Findings.Pass(finding.SAMLStatus, "status", "Success")
		return true
	}
	saw := st.Words()
	switch st.Sub {
	case StatusRequestDenied:
		if j.Far {
			j.failWith(finding.SAMLAdmission, "admission", saw, "Success", finding.Provider,
				finding.Do("that is right unless they were meant to get in; then have the owner of "+j.ProviderName+
					" admit this person to "+j.AppName), "SAML Core 3.2.2.2")
			break
		}
		j.failWith(finding.SAMLAdmission, "admission", saw, "Success", finding.Provider,
			finding.Do("nothing is wrong unless they were meant to get in: it is yours to decide whether they belong "+
				"into an admitted group, or whether the trust should admit them").
				Then(named(j.Trust, "see whom the trust admits", "trust", "show", j.Trust)), "SAML Core 3.2.2.2")
	case StatusNoAuthn:
		j.fail(finding.SAMLStrength, "authentication strength", saw, "Success", finding.Person,
			"sign in with the factors that are asked for; if that was done, the provider cannot give the "+
				"authentication "+
				"context that the request names", "SAML Core 3.2.2.2")
	default:
		x := adviceOn(st)
		fix := finding.Do(x.do)
		if j.OwnProvider && st.Sub == "" && st.Message != "" {
			fix = named(j.Trust, x.do, "next", j.Trust) // the message is Tressik's own and says the cause
		}
		j.failWith(finding.SAMLStatus, "status", saw, "Success", x.side, fix, "SAML Core 3.2.2.2")
	}
	return false
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
	j.fail(finding.SAMLWrapping, "what the signature covers", saw,
		"one assertion, directly in the response, and a signature only as a child of what it signs", finding.Sender,
		"refuse the message and look at where it came from: this is how signed messages are forged", "SAML Core 5.4")
}

// signatureFinding explains an error of verifying a signature that a side made; name is the party of that side.
func signatureFinding(id finding.ID, check string, err error, side finding.Side, name string) finding.Finding {
	f := finding.Finding{ID: id.With("shape"), Level: finding.Error, Check: check, Saw: err.Error(),
		Expected: "a signature with the key of the " + string(side), Side: side,
		Fix: finding.Do("sign as SAML Core 5.4 says"), Ref: "SAML Core 5.4"}
	var se *xmlsec.SignatureError
	if !errors.As(err, &se) {
		return f
	}
	f.Saw = se.Detail
	f.ID = id.With(string(se.Reason))
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
		f.Fix = finding.Do("find what changes the message on its way (a proxy, an editor, a pretty-printer); capture " +
			"it raw")
	case xmlsec.BadReference:
		f.ID = finding.SAMLWrapping
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
	if xmlsec.Child(j.resp, xmlsec.NS, "Signature") == nil {
		return false
	}
	v, err := xmlsec.Verify(j.resp, xmlsec.Policy{Keys: j.Keys, AllowSHA1: j.AllowSHA1})
	if err != nil {
		j.badSignature("signature of the response", err)
		return false
	}
	j.goodSignature("signature of the response", v)
	return true
}

// badSignature tells of a signature that does not verify. Where the provider is Tressik's own, it is the app that has
// not been given the key which signs now.
func (j *judging) badSignature(check string, err error) {
	f := signatureFinding(finding.SAMLSignature, check, err, finding.Provider, j.ProviderName)
	var se *xmlsec.SignatureError
	lacks := errors.As(err, &se) && (se.Reason == xmlsec.WrongKey || se.Reason == xmlsec.NoKey)
	if j.OwnProvider && lacks && j.Trust != "" {
		f.Side, f.Expected = finding.App, "a signature with one of the keys that the app was given"
		f.Fix = finding.Run("handoff", j.Trust, "--for", "app").
			Then(finding.Do("give it to the app's owner: the app has not got the key that " + j.ProviderName +
				" signs with now")).
			Then(finding.Run("handoff", j.Trust, "--for", "app", "--delivered", "MAIL"))
	}
	j.Findings.Add(f)
}

func (j *judging) goodSignature(check string, v xmlsec.Verified) {
	j.Signed = j.Keys[v.Key]
	if v.SHA1 {
		j.Findings.Add(finding.Finding{ID: finding.SAMLSignatureWeak, Level: finding.Warning, Check: check,
			Saw: xmlsec.ShortAlgorithm(v.Method) + ", allowed by this trust", Expected: "SHA-256 or better",
			Side: finding.Provider, Fix: finding.Do("set the provider to sign with SHA-256, then take the " +
				"exception away")})
		return
	}
	j.Findings.Pass(finding.SAMLSignature, check, xmlsec.ShortAlgorithm(v.Method)+" by the provider's key")
}

// pickAssertion decides which assertion is read: there must be exactly one, plain or encrypted.
func (j *judging) pickAssertion(sawSignature *bool) {
	plain := xmlsec.Children(j.resp, NSAssertion, "Assertion")
	sealed := xmlsec.Children(j.resp, NSAssertion, "EncryptedAssertion")
	if n := len(plain) + len(sealed); n != 1 {
		j.fail(finding.SAMLAssertionCount, "number of assertions", fmt.Sprint(n), "exactly one", finding.Provider,
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
			j.Findings.Add(finding.Finding{ID: finding.SAMLEncryption, Level: level, Check: "encryption",
				Saw:      "a plain assertion",
				Expected: "an encrypted assertion, as this trust says", Side: finding.Provider, Ref: "SAML Core 2.3.4",
				Fix: finding.Do("set the provider to encrypt for this app with the certificate in the app's metadata")})
		}
		return
	}
	j.Encrypted = true
	el, ok := j.decrypt(sealed[0], "Assertion")
	if !ok {
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
	if err := Shape(el); err != nil {
		j.Findings.Add(Unread(el, err, finding.Provider))
	}
	j.Findings.Pass(finding.SAMLEncryption, "encryption", "encrypted with "+
		xmlsec.ShortAlgorithm(xmlsec.Attr(xmlsec.Path(sealed[0], xmlsec.EncNS, "EncryptedData", "EncryptionMethod"),
			"Algorithm")))
	j.assertion = el
}

// decrypt opens an EncryptedAssertion, EncryptedID or EncryptedAttribute. What is wrong with what is inside is told in
// one way, so that nobody learns about the content by sending variants of it.
func (j *judging) decrypt(el *etree.Element, want string) (*etree.Element, bool) {
	inside, err := unseal(el, want, j.DecryptionKeys)
	if err == nil {
		return inside, true
	}
	side := finding.Provider
	saw, fix := unsealWords(err, side)
	if fix == "" {
		fix, side = "give the app's private key too; the ledger has it only for own apps", finding.App
	}
	j.fail(finding.SAMLEncryption, "encryption", saw, "content encrypted to the app's key", side, fix,
		"SAML Core 2.3.4")
	return nil, false
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
			j.fail(finding.SAMLSignatureAssertion, "signature of the assertion", "only the response is signed",
				"a signed assertion, as the app's metadata says (WantAssertionsSigned)", finding.Provider,
				"set the provider to sign assertions for this app", "SAML Metadata 2.4.4")
		case respSigned:
			j.genuine = true
		case !sawSignature:
			j.fail(finding.SAMLSignatureMissing, "signature", "neither the response nor the assertion is signed",
				"a signature with the provider's key", finding.Provider, "switch on signing at the provider",
				"SAML Profiles 4.1.3.5")
		case !j.Findings.Failed():
			j.wrapped("the assertion is under no signature")
		}
	default:
		j.badSignature("signature of the assertion", err)
	}
}

func (j *judging) issuer() {
	respIssuer, asIssuer := xmlsec.Child(j.resp, NSAssertion, "Issuer"),
		xmlsec.Child(j.assertion, NSAssertion, "Issuer")
	ri, ai := xmlsec.Value(respIssuer), xmlsec.Value(asIssuer)
	saw := ai
	if j.assertion == nil || ri != "" && ri != j.Provider {
		saw = ri
	}
	j.Issuer = saw
	compareWith(&j.Findings, finding.SAMLIssuer, "issuer", saw, []string{j.Provider}, finding.Provider,
		"set the provider's entity ID to %s", "SAML Profiles 4.1.4.2", named(j.ProviderName, "read its metadata again",
			"provider", "change", j.ProviderName, "--metadata", "SOURCE"))
	for _, el := range []*etree.Element{respIssuer, asIssuer} {
		if f := xmlsec.Attr(el, "Format"); el != nil && f != "" && f != FormatEntity {
			j.fail(finding.SAMLIssuer, "format of the issuer", ShortName(f), "entity, or no Format", finding.Provider,
				"name the issuer by its entity ID, without another Format", "SAML Profiles 4.1.4.2")
		}
	}
	if respIssuer == nil && j.assertion != nil && (xmlsec.Child(j.resp, xmlsec.NS, "Signature") != nil || j.Encrypted) {
		j.fail(finding.SAMLIssuer, "issuer of the response", "none",
			"an Issuer, since the response is signed or its assertion "+
				"encrypted", finding.Provider, "send the Issuer in the Response too", "SAML Profiles 4.1.4.2")
	}
}

func (j *judging) destination() {
	d := xmlsec.Attr(j.resp, "Destination")
	if d == "" {
		if _, err := xmlsec.SignatureOf(j.resp); err == nil && xmlsec.Child(j.resp, xmlsec.NS, "Signature") == nil {
			return // only a signed response must have one (SAML Bindings 3.5.5.2)
		}
	}
	compare(&j.Findings, finding.SAMLDestination, "destination", d, j.ACS, finding.Provider,
		"set the app's assertion consumer URL at the provider to %s", "SAML Core 3.2.2")
}

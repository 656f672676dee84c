// Package inspect says what it is that somebody was given, and how its receiver would judge it.
package inspect

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/model"
)

// Inspector looks at messages. Its ledger may be nil where no trust is named.
type Inspector struct {
	*model.Book
	// what is expected of responses, by trust, so that many are judged without reading the ledger for each
	expected map[string]saml.Expect
}

// New makes an inspector that reads a ledger.
func New(b *model.Book) *Inspector { return &Inspector{b, map[string]saml.Expect{}} }

// Inspection is what inspect found out about its input.
type Inspection struct {
	Kind       string              `json:"kind"`
	Verdict    judge.Verdict       `json:"verdict"` // accepted or refused; "" where nothing was judged
	Subject    string              `json:"subject"` // under a good signature only
	Format     string              `json:"subjectFormat,omitempty"`
	Claims     map[string][]string `json:"claims"` // by attribute name; under a good signature only
	Attributes []saml.Attribute    `json:"attributes,omitempty"`
	Facts      [][2]string         `json:"-"`
	Explained  [][3]string         `json:"-"` // of a token: claim, value, meaning
	FactMap    map[string]string   `json:"-"`
	Told       []Fact              `json:"facts" rows:"each"` // the same for programs, in the order of the message
	Findings   finding.List        `json:"findings" rows:"each"`
	NotChecked []string            `json:"notChecked,omitempty"` // what the judge could not know
	Trust      string              `json:"trust,omitempty"`
	Key        string              `json:"key,omitempty"` // ID of the key whose signature is good
}

// Fact is one thing that was read, under the word by which people know it.
type Fact struct {
	Label string `json:"label"`
	Value string `json:"value"`
}

// Input says what to look at and, with a trust, how to judge it.
type Input struct {
	Raw     []byte
	Trust   string
	At      time.Time // zero: now
	Request string    // ID of the request that was sent; "" is not judged
	Key     []byte    // PEM of the app's private key
	Service string    // index of the app's service that was asked for; "" is the default one
	As      string    // whom it is about: what it says is compared with what the trust releases for them
	Posted  bool      // it is known to be the form of a POST
}

// ErrUnrecognised is for input that is nothing Inspect knows.
var ErrUnrecognised = errors.New("this is nothing that inspect knows")

func (v *Inspection) fact(label, value string) {
	if value != "" {
		v.Facts = append(v.Facts, [2]string{label, value})
	}
}

// Inspect recognises what it is given and explains it; with a trust it judges a message as the receiving side would.
// d.L may be nil where no trust is named; if it is there, the key of a token is looked for in it. Errors:
// ErrUnrecognised, *model.UnknownError.
func (d *Inspector) Inspect(in Input) (*Inspection, error) {
	if in.At.IsZero() {
		in.At = d.Now()
	}
	v, err := d.recognise(in)
	if err != nil {
		return nil, err
	}
	if v.Findings == nil {
		v.Findings = finding.List{}
	}
	if v.Claims == nil {
		v.Claims = map[string][]string{}
	}
	v.FactMap = map[string]string{}
	for _, x := range v.Explained {
		v.FactMap[x[0]] = x[1]
	}
	for _, f := range v.Facts {
		if was, ok := v.FactMap[f[0]]; ok {
			v.FactMap[f[0]] = was + "\n" + f[1]
		} else {
			v.FactMap[f[0]] = f[1]
		}
	}
	v.Told = []Fact{}
	for _, f := range v.Facts {
		v.Told = append(v.Told, Fact{f[0], f[1]})
	}
	for _, x := range v.Explained {
		v.Told = append(v.Told, Fact{x[0], x[1]})
	}
	if v.Verdict == "" && v.Findings.Failed() {
		v.Verdict = judge.Refused
	}
	return v, nil
}

func (d *Inspector) recognise(in Input) (*Inspection, error) {
	raw := bytes.TrimPrefix(bytes.TrimSpace(in.Raw), []byte{0xEF, 0xBB, 0xBF})
	if len(raw) == 0 {
		return nil, fmt.Errorf("%w: it is empty; give a file, or pipe the captured message in", ErrUnrecognised)
	}
	switch {
	case bytes.HasPrefix(raw, []byte("-----BEGIN ")):
		return d.inspectPEM(raw, in.At)
	case raw[0] == '<' || bytes.HasPrefix(in.Raw, []byte{0xFE, 0xFF}) || bytes.HasPrefix(in.Raw, []byte{0xFF, 0xFE}):
		return d.inspectXML(in, bytes.TrimSpace(in.Raw), nil)
	case raw[0] == '{':
		return d.inspectJSON(in, raw)
	case raw[0] == 0x30:
		return d.inspectDER(raw, in.Raw, in.At)
	}
	text := string(raw)
	for _, head := range []string{"Authorization: ", "Bearer ", "DPoP "} { // as a captured header has it
		if len(text) > len(head) && strings.EqualFold(text[:len(head)], head) {
			text = strings.TrimSpace(text[len(head):])
		}
	}
	if c, ok, err := carriedIn(text, in.Posted); ok {
		if err != nil {
			return nil, fmt.Errorf("the captured message cannot be taken out of its binding: %w", err)
		}
		return d.inspectXML(in, c.XML, c)
	}
	if kind, at, q, ok := oauthIn(text); ok {
		return d.inspectOAuth(in, kind, at, q)
	}
	if parts := strings.Split(text, "."); len(parts) == 3 && strings.HasPrefix(text, "ey") {
		return d.inspectJWT(in, text)
	} else if len(parts) == 5 && strings.HasPrefix(text, "ey") {
		v := &Inspection{Kind: "JWT, encrypted (JWE)"}
		v.fact("Claims", "cannot be read without the key of its receiver")
		return v, nil
	}
	return d.inspectBase64(in, text)
}

// parameters reports whether text can hold parameters with values: an equals sign before its end, where base64 has its
// own.
func parameters(text string) bool {
	at := strings.IndexByte(text, '=')
	return at >= 0 && at < len(text)-2
}

// carriedIn finds a SAML message in a whole URL, a query, a form body or a captured HTTP request. posted says that it
// is known to be a form that was posted. Of parameters alone it is not known whether they were a form or a query,
// unless they carry the signature of a query: of those that are compressed, the binding is left open.
func carriedIn(text string, posted bool) (*saml.Carried, bool, error) {
	if !parameters(text) || !strings.Contains(text, "SAMLRequest=") && !strings.Contains(text, "SAMLResponse=") {
		return nil, false, nil
	}
	posted = posted || strings.HasPrefix(text, "POST ")
	for _, field := range strings.Fields(text) {
		_, q, isURL := strings.Cut(field, "?")
		if !isURL {
			q = field
		}
		q, _, _ = strings.Cut(q, "#")
		if !strings.Contains(q, "SAMLRequest=") && !strings.Contains(q, "SAMLResponse=") {
			continue
		}
		if isURL || !posted && strings.Contains(q, "SigAlg=") {
			c, err := saml.DecodeRedirect(q)
			return c, true, err
		}
		form, err := url.ParseQuery(q)
		if err != nil {
			return nil, true, err
		}
		c, err := saml.DecodePOST(form)
		if err == nil && c.Deflated && !posted {
			c.Binding = ""
		}
		return c, true, err
	}
	return nil, true, saml.ErrNoMessage
}

func looksXML(b []byte) bool { return bytes.HasPrefix(bytes.TrimSpace(b), []byte("<")) }

func (d *Inspector) inspectBase64(in Input, text string) (*Inspection, error) {
	for range 2 { // URL-encoded once, perhaps
		b, err := saml.Decode64(text)
		if err == nil {
			switch {
			case looksXML(b):
				return d.inspectXML(in, b, nil)
			case len(b) > 0 && b[0] == 0x30:
				return d.inspectDER(b, b, in.At)
			}
			if x, _, err := saml.Inflate(b); err == nil && looksXML(x) {
				return d.inspectXML(in, x, nil)
			}
			break
		}
		if !strings.Contains(text, "%") {
			if !nearlyBase64(text) {
				break
			}
			return nil, fmt.Errorf("%w: it looks like base64 and is damaged: %v; capture it whole",
				ErrUnrecognised, err)
		}
		if text, err = url.QueryUnescape(text); err != nil {
			return nil, fmt.Errorf("%w: a percent sign in it is no URL encoding: %v", ErrUnrecognised, err)
		}
	}
	return nil,
		fmt.Errorf("%w. It takes SAML metadata; a SAML message as XML, base64, URL-encoded, a whole captured URL or a "+
			"form body; "+
			"a certificate; a private key; a JSON Web Key, JWKS or JWT; a discovery document; an authorization "+
			"request or "+
			"response of OAuth as a captured URL", ErrUnrecognised)
}

// nearlyBase64 reports whether text is made of base64 characters but for a slip or two, and long enough to mean it.
func nearlyBase64(text string) bool {
	other := 0
	for _, c := range text {
		ok := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("+/=\r\n", c)
		if !ok {
			other++
		}
	}
	return len(text) >= 16 && other*50 <= len(text)
}

func (d *Inspector) inspectXML(in Input, b []byte, c *saml.Carried) (*Inspection, error) {
	limits := xmlsec.MetadataLimits()
	if c != nil {
		limits = xmlsec.MessageLimits()
	}
	doc, err := xmlsec.Parse(b, limits)
	if err != nil {
		return &Inspection{Kind: "XML that is refused", Verdict: judge.Refused,
			Findings: finding.List{saml.ReadFinding(err)}}, nil
	}
	root := doc.Root()
	if most := xmlsec.MessageLimits().Bytes; len(b) > most && xmlsec.Namespace(root) == saml.NSProtocol {
		err := &xmlsec.ReadError{Err: xmlsec.ErrTooLarge, Detail: fmt.Sprintf("%d bytes, at most %d are read", len(b),
			most)} // the limit is that of messages, however it came here
		return &Inspection{Kind: "XML that is refused", Verdict: judge.Refused,
			Findings: finding.List{saml.ReadFinding(err)}}, nil
	}
	switch {
	case xmlsec.Is(root, saml.NSMetadata, "EntityDescriptor"), xmlsec.Is(root, saml.NSMetadata, "EntitiesDescriptor"):
		return d.inspectMetadata(doc, in)
	case xmlsec.Is(root, saml.NSProtocol, "Response"):
		return d.inspectResponse(root, c, in)
	case xmlsec.Is(root, saml.NSProtocol, "AuthnRequest"):
		return d.inspectRequest(root, c, in)
	case saml.IsLogout(root):
		return d.inspectLogout(root, c, in)
	case xmlsec.Is(root, saml.NSAssertion, "Assertion"):
		v := &Inspection{Kind: "SAML assertion"}
		explainAssertion(v, root)
		return v, nil
	}
	return nil, fmt.Errorf("%w: XML with the root <%s> in namespace %q; SAML metadata and protocol messages are known",
		ErrUnrecognised,
		root.FullTag(), xmlsec.Namespace(root))
}

func (d *Inspector) inspectMetadata(doc *etree.Document, in Input) (*Inspection, error) {
	md, err := saml.ReadDocument(doc)
	if err != nil {
		return nil, err
	}
	v := &Inspection{Kind: "SAML metadata"}
	signed := "no"
	if xmlsec.Child(md.Root, xmlsec.NS, "Signature") != nil {
		signed = "yes; not verified here"
	}
	if md.Aggregate {
		v.Kind = "SAML metadata aggregate"
		ids := md.IDs()
		v.fact("Name", md.Name)
		if again := md.Repeated(); len(again) > 0 {
			v.Findings.Add(finding.Finding{ID: finding.MetadataRepeated, Level: finding.Error, Check: "entity IDs",
				Saw:      strings.Join(again[:min(5, len(again))], ", ") + " stands there more than once",
				Expected: "each entity ID once",
				Side:     finding.Sender, Fix: finding.Do("ask the publisher of the aggregate which one is right"),
				Ref: "SAML Metadata 2.3.2"})
		}
		if md.ValidUntil != nil {
			saml.JudgeValidity(&v.Findings, md.ValidUntil, finding.Sender, in.At)
		}
		v.fact("Entities", fmt.Sprint(len(ids)))
		v.fact("Signed", signed)
		for _, id := range ids[:min(5, len(ids))] {
			v.fact("Holds", id)
		}
		if len(ids) > 5 {
			v.fact("Holds", fmt.Sprintf("and %d more; `tressik metadata read … --entity ID` shows one", len(ids)-5))
		}
		return v, nil
	}
	e, err := md.Entity("")
	if err != nil {
		return nil, err
	}
	v.fact("Entity ID", e.ID)
	v.fact("Signed", signed)
	for _, s := range []struct {
		role *saml.Role
		kind federation.Kind
	}{{e.IDP, federation.Provider}, {e.SP, federation.App}} {
		if s.role == nil {
			continue
		}
		v.fact("Role", string(s.kind))
		for _, x := range append(append([]saml.Endpoint{}, s.role.SSO...), s.role.ACS...) {
			v.fact("Endpoint", saml.ShortName(x.Binding)+" "+x.Location)
		}
	}
	v.Findings = append(v.Findings, saml.JudgeRoles(e, in.At)...)
	if e.IDP == nil && e.SP == nil && len(e.Unread) == 0 {
		v.Findings = append(v.Findings, saml.JudgeEntity(e, finding.App, in.At)...)
	}
	return v, nil
}

func (d *Inspector) inspectRequest(root *etree.Element, c *saml.Carried, in Input) (*Inspection, error) {
	v := &Inspection{Kind: "SAML AuthnRequest", Trust: in.Trust}
	r, err := saml.ReadRequest(root)
	if err != nil {
		v.Verdict, v.Findings = judge.Refused, finding.List{saml.Unread(root, err, finding.App)}
		return v, nil
	}
	v.fact("ID", r.ID)
	v.fact("Issuer (app)", r.Issuer)
	v.fact("Destination", r.Destination)
	v.fact("Assertion consumer service", r.ACS)
	v.fact("Made at", when(r.IssueInstant))
	if p := r.Policy; p != nil {
		v.fact("NameID format wanted", saml.ShortName(p.Format))
		v.fact("SPNameQualifier wanted", p.SPNameQualifier)
	}
	switch {
	case r.Encrypted():
		v.fact("About", "an encrypted name identifier")
	case r.Subject != nil:
		v.fact("About", r.Subject.Value)
	}
	v.fact("Authentication wanted", r.Context.Words())
	v.fact("Asks for", strings.Join(flagsOf(r), ", "))
	if in.Trust == "" {
		return v, nil
	}
	t, terms, app, provider, err := d.samlTrust(in.Trust, "a SAML request")
	if err != nil {
		return nil, err
	}
	e := federation.RequestExpectation(t, terms, &app.Entity, app, provider, in.At)
	if r.Encrypted() {
		if e.Unseals.Keys, err = d.opens(provider, in); err != nil {
			return nil, err
		}
	}
	j := saml.JudgeRequest(c, root, e)
	v.Verdict, v.Findings, v.NotChecked = j.Verdict, j.Findings, j.NotChecked
	if r.Encrypted() && j.Request.Subject != nil {
		v.fact("About, decrypted", j.Request.Subject.Value)
	}
	if j.Answer != nil {
		v.fact("Answered by", j.Answer.Words())
	}
	return v, nil
}

// flagsOf names what a request asks of the sign-in itself.
func flagsOf(r *saml.AuthnRequest) []string {
	var out []string
	if r.ForceAuthn {
		out = append(out, "ForceAuthn: a fresh sign-in")
	}
	if r.IsPassive {
		out = append(out, "IsPassive: no page may be shown")
	}
	return out
}

// ErrProtocol means that a message is not of the protocol of the trust by which it was to be judged.
var ErrProtocol = errors.New("cannot be judged by this trust")

// samlTrust is the trust by which a SAML message is judged, with its parties. Errors: *model.UnknownError, ErrProtocol.
func (d *Inspector) samlTrust(name, what string) (t *federation.Trust, terms *federation.SAMLTerms, app,
	provider *federation.Party, err error) {
	if t, app, provider, err = d.Trust(name); err != nil {
		return nil, nil, nil, nil, err
	}
	terms, over := t.SAML()
	if !over {
		return nil, nil, nil, nil, otherProtocol(t, what)
	}
	if provider.Entity.IDP == nil || app.Entity.SP == nil {
		return nil, nil, nil, nil, fmt.Errorf("%s: a SAML side of %s and of %s is needed to judge it", t.Name, app.Name,
			provider.Name)
	}
	return t, terms, app, provider, nil
}

func otherProtocol(t *federation.Trust, what string) error {
	return fmt.Errorf("%s %w: %s is over %s", what, ErrProtocol, t.Name, federation.ProtocolTitle(t.Over()))
}

func when(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04:05 UTC")
}

func (d *Inspector) inspectResponse(root *etree.Element, c *saml.Carried, in Input) (*Inspection, error) {
	v := &Inspection{Kind: "SAML Response", Trust: in.Trust}
	v.fact("ID", xmlsec.Attr(root, "ID"))
	v.fact("Issuer", xmlsec.Text(xmlsec.Child(root, saml.NSAssertion, "Issuer")))
	v.fact("Destination", xmlsec.Attr(root, "Destination"))
	v.fact("In response to", xmlsec.Attr(root, "InResponseTo"))
	v.fact("Status", saml.ShortName(xmlsec.Attr(xmlsec.Path(root, saml.NSProtocol, "Status", "StatusCode"), "Value")))
	v.fact("Status message", xmlsec.Text(xmlsec.Path(root, saml.NSProtocol, "Status", "StatusMessage")))
	if xmlsec.Child(root, saml.NSAssertion, "EncryptedAssertion") != nil {
		v.fact("Assertion", "encrypted")
	}
	if _, err := givenKey(in); err != nil {
		return nil, err
	}
	if in.Trust == "" {
		if a := xmlsec.Child(root, saml.NSAssertion, "Assertion"); a != nil {
			explainAssertion(v, a)
		}
		v.Findings.Add(unjudged())
		return v, nil
	}
	e, err := d.expect(in)
	if err != nil {
		return nil, err
	}
	e.CheckRequest, e.RequestID = in.Request != "", in.Request
	e.Carried = c
	_, _, app, _, err := d.samlTrust(in.Trust, "a SAML response")
	if err != nil {
		return nil, err
	}
	if err := model.CheckService(app, in.Service); err != nil {
		return nil, err
	}
	e.For(app.Entity.SP, in.Service)
	j := saml.JudgeResponse(root, e)
	if j.Verdict == judge.Refused {
		if _, _, provider, err := d.Trust(in.Trust); err == nil {
			d.byStandIn(j.Findings, provider, func(keys []crypto.PublicKey) finding.List {
				e.Keys = keys
				return saml.JudgeResponse(root, e).Findings
			})
		}
	}
	told := map[string][]string{}
	for _, a := range j.Attributes {
		name := a.Friendly
		if name == "" {
			name = a.Name
		}
		told[name] = append(told[name], a.Values...)
	}
	err = d.promised(in, &j.Judgement, told, func(r *federation.Releaser, p *people.Person) map[string][]string {
		return r.Serving(app, in.Service).AttributeTexts(p)
	})
	if err != nil {
		return nil, err
	}
	v.Verdict, v.Findings, v.NotChecked = j.Verdict, j.Findings, j.NotChecked
	if in.Service == "" && len(app.Entity.SP.Services) > 1 {
		v.NotChecked = append(v.NotChecked, fmt.Sprintf("which service of the app was asked for: it has %s, and "+
			"this is judged by what the default one wishes", app.Entity.SP.ServiceWords()))
	}
	v.Subject, v.Format, v.Key = j.Subject, j.Format, federation.KeyID(j.Signed)
	v.Attributes = j.Attributes
	v.Claims = map[string][]string{}
	for _, a := range j.Attributes {
		v.Claims[a.Name] = append(v.Claims[a.Name], a.Values...)
	}
	return v, nil
}

// promised compares what a message says of somebody with what its trust releases for the person who is named. Nothing
// is compared where nothing stands under a good signature.
func (d *Inspector) promised(in Input, j *judge.Judgement, told map[string][]string,
	release func(*federation.Releaser, *people.Person) map[string][]string) error {
	if in.As == "" {
		return nil
	}
	t, _, _, err := d.Trust(in.Trust)
	if err != nil {
		return err
	}
	p, err := d.Person(in.As)
	if err != nil {
		return err
	}
	r, err := d.Releaser(t, rand.Reader)
	if err != nil || j.Subject == "" {
		return err
	}
	j.Findings = append(j.Findings, federation.Promised(t, r, p, release(r, p),
		federation.Learned{Subject: j.Subject, Format: j.Format, Claims: told})...)
	return nil
}

// expect is what the app of a trust expects of a response; all but the time is worked out once for a trust.
func (d *Inspector) expect(in Input) (saml.Expect, error) {
	if e, ok := d.expected[in.Trust]; ok {
		e.Now = in.At
		return e, nil
	}
	t, terms, app, provider, err := d.samlTrust(in.Trust, "a SAML response")
	if err != nil {
		return saml.Expect{}, err
	}
	census, err := d.View.Census()
	if err != nil {
		return saml.Expect{}, err
	}
	e := federation.Expectation(t, terms, app, provider, census, in.At)
	if e.DecryptionKeys, err = d.opens(app, in); err != nil {
		return saml.Expect{}, err
	}
	d.expected[in.Trust] = e
	return e, nil
}

// givenKey is the receiver's private key that was given, nil where none was. Errors: that it is no RSA key.
func givenKey(in Input) ([]*rsa.PrivateKey, error) {
	if in.Key == nil {
		return nil, nil
	}
	k, err := keys.ParsePrivate(in.Key)
	if err != nil {
		return nil, finding.Errorf("%s: %w; give the receiver's private key in PEM", finding.FieldKey, err)
	}
	r, ok := k.(*rsa.PrivateKey)
	if !ok {
		return nil, finding.Errorf("%s: messages are encrypted to RSA keys, this is %s", finding.FieldKey,
			keys.Describe(k.Public()))
	}
	return []*rsa.PrivateKey{r}, nil
}

// opens are the keys that open what is encrypted to a party: the one that was given, else those of an own party.
func (d *Inspector) opens(to *federation.Party, in Input) ([]*rsa.PrivateKey, error) {
	if in.Key != nil || !to.Own {
		return givenKey(in)
	}
	all, err := d.View.Keys(to.Name)
	if err != nil {
		return nil, err
	}
	var out []*rsa.PrivateKey
	for i := range all {
		if all[i].Use != federation.ForEncryption {
			continue
		}
		k, err := d.PrivateKey(to.Name, &all[i])
		if err != nil {
			return nil, err
		}
		if r, ok := k.(*rsa.PrivateKey); ok {
			out = append(out, r)
		}
	}
	return out, nil
}

// explainAssertion says what stands in an assertion without judging it.
func explainAssertion(v *Inspection, a *etree.Element) {
	v.fact("Assertion issuer", xmlsec.Text(xmlsec.Child(a, saml.NSAssertion, "Issuer")))
	id := xmlsec.Path(a, saml.NSAssertion, "Subject", "NameID")
	v.fact("Subject, not verified", xmlsec.Text(id))
	v.fact("Subject format", xmlsec.Attr(id, "Format"))
	cond := xmlsec.Child(a, saml.NSAssertion, "Conditions")
	v.fact("Not before", xmlsec.Attr(cond, "NotBefore"))
	v.fact("Not on or after", xmlsec.Attr(cond, "NotOnOrAfter"))
	v.fact("Audience", xmlsec.Text(xmlsec.Path(cond, saml.NSAssertion, "AudienceRestriction", "Audience")))
	v.fact("Authentication", xmlsec.Text(xmlsec.Path(a, saml.NSAssertion, "AuthnStatement", "AuthnContext",
		"AuthnContextClassRef")))
	for _, at := range xmlsec.Children(xmlsec.Child(a, saml.NSAssertion, "AttributeStatement"), saml.NSAssertion,
		"Attribute") {
		var vals []string
		for _, x := range xmlsec.Children(at, saml.NSAssertion, "AttributeValue") {
			vals = append(vals, xmlsec.Text(x))
		}
		v.fact("Attribute "+xmlsec.Attr(at, "Name"), strings.Join(vals, ", "))
	}
}

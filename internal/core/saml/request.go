package saml

import (
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/xmlsec"
)

// AuthnRequest is a request for a sign-in (SAML Core, section 3.4.1).
type AuthnRequest struct {
	ID           string
	Issuer       string
	Destination  string
	ACS          string // AssertionConsumerServiceURL; "" leaves the choice to the provider
	ACSIndex     string // AssertionConsumerServiceIndex, in place of the URL
	IssueInstant time.Time
	NameIDFormat string
	Contexts     []string // RequestedAuthnContext class references
	ForceAuthn   bool
	IsPassive    bool
}

// Element writes the request as XML.
func (r *AuthnRequest) Element() *etree.Element {
	el := xmlsec.New("samlp:AuthnRequest", "xmlns:samlp", NSProtocol, "xmlns:saml", NSAssertion, "ID", r.ID, "Version",
		"2.0",
		"IssueInstant", FormatTime(r.IssueInstant), "Destination", r.Destination, "AssertionConsumerServiceURL", r.ACS,
		"AssertionConsumerServiceIndex", r.ACSIndex)
	if r.ACS != "" {
		el.CreateAttr("ProtocolBinding", BindingPOST)
	}
	if r.ForceAuthn {
		el.CreateAttr("ForceAuthn", "true")
	}
	if r.IsPassive {
		el.CreateAttr("IsPassive", "true")
	}
	xmlsec.AddText(el, "saml:Issuer", r.Issuer)
	if r.NameIDFormat != "" {
		xmlsec.Add(el, "samlp:NameIDPolicy", "Format", r.NameIDFormat, "AllowCreate", "true")
	}
	if len(r.Contexts) > 0 {
		c := xmlsec.Add(el, "samlp:RequestedAuthnContext", "Comparison", "exact")
		for _, ref := range r.Contexts {
			xmlsec.AddText(c, "saml:AuthnContextClassRef", ref)
		}
	}
	return el
}

// Bytes writes the request, signed by an enveloped signature if a signer is given (POST binding).
func (r *AuthnRequest) Bytes(s *xmlsec.Signer) ([]byte, error) {
	el := r.Element()
	doc := etree.NewDocument()
	doc.SetRoot(el)
	if s != nil {
		if err := s.Sign(el, xmlsec.Child(el, NSAssertion, "Issuer")); err != nil {
			return nil, err
		}
	}
	return xmlsec.Serialize(el), nil
}

// ReadRequest reads an AuthnRequest element.
func ReadRequest(el *etree.Element) (*AuthnRequest, error) {
	if !xmlsec.Is(el, NSProtocol, "AuthnRequest") {
		return nil, fmt.Errorf("<%s> is no AuthnRequest", el.FullTag())
	}
	r := &AuthnRequest{ID: xmlsec.Attr(el, "ID"), Destination: xmlsec.Attr(el, "Destination"),
		Issuer: xmlsec.Text(xmlsec.Child(el, NSAssertion, "Issuer")), ACS: xmlsec.Attr(el, "AssertionConsumerServiceURL"),
		ACSIndex:   xmlsec.Attr(el, "AssertionConsumerServiceIndex"),
		ForceAuthn: boolAttr(el, "ForceAuthn"), IsPassive: boolAttr(el, "IsPassive"),
		NameIDFormat: xmlsec.Attr(xmlsec.Child(el, NSProtocol, "NameIDPolicy"), "Format")}
	t, err := readTime(el, "IssueInstant")
	if err != nil {
		return nil, err
	}
	if t != nil {
		r.IssueInstant = *t
	}
	for _, c := range xmlsec.Children(xmlsec.Child(el, NSProtocol, "RequestedAuthnContext"), NSAssertion,
		"AuthnContextClassRef") {
		r.Contexts = append(r.Contexts, xmlsec.Text(c))
	}
	return r, nil
}

// RequestExpect is what a provider knows when it judges a request.
type RequestExpect struct {
	SSO        []string // the provider's SingleSignOnService locations
	App        *Entity
	Format     string // the name identifier format that will be sent; "" is not compared
	WantSigned bool
	AllowSHA1  bool
	Trust      string // names of the trust and the app, for what findings say
	AppName    string
	Now        time.Time
	Skew       time.Duration
	Seen       func(id string) bool // reports and remembers an ID; nil: not checked
}

// RequestJudgement is the outcome of judging a request; Request is nil where it cannot be read.
type RequestJudgement struct {
	judge.Judgement
	Request *AuthnRequest
}

// JudgeRequest judges an AuthnRequest as the provider does (SAML Profiles, section 4.1.4.1).
func JudgeRequest(c *Carried, el *etree.Element, e RequestExpect) *RequestJudgement {
	j := &RequestJudgement{Judgement: judge.Judgement{Kind: "SAML request"}}
	j.Request, j.Findings = judgeRequest(c, el, e)
	if e.Seen == nil {
		j.NotChecked = append(j.NotChecked, "whether the request was sent before")
	}
	j.Settle()
	return j
}

func judgeRequest(c *Carried, el *etree.Element, e RequestExpect) (*AuthnRequest, finding.List) {
	var out finding.List
	r, err := ReadRequest(el)
	if err != nil {
		out.Add(finding.Finding{ID: "request.shape", Level: finding.Error, Check: "AuthnRequest", Saw: err.Error(),
			Expected: "a SAML 2.0 AuthnRequest", Side: finding.App, Fix: finding.Do("send an AuthnRequest to this endpoint")})
		return nil, out
	}
	if v := xmlsec.Attr(el, "Version"); v != "2.0" || r.ID == "" {
		out.Add(finding.Finding{ID: "request.shape", Level: finding.Error, Check: "version and ID",
			Saw: fmt.Sprintf("Version %q, ID %q", v, r.ID), Expected: "Version 2.0 and an ID", Side: finding.App,
			Fix: finding.Do("send SAML 2.0")})
	}
	compareWith(&out, "request.issuer", "issuer of the request", r.Issuer, []string{e.App.ID}, finding.App,
		"set the app's entity ID to %s", "SAML Core 3.2.1",
		named(e.AppName, "read its metadata again", "app", "change", e.AppName, "--metadata", "SOURCE"))
	if r.Destination != "" || c != nil && c.Signature != nil {
		compare(&out, "request.destination", "destination of the request", r.Destination, e.SSO, finding.App,
			"set the provider's sign-in URL at the app to %s", "SAML Core 3.2.1")
	}
	if r.ACS == "" && r.ACSIndex != "" {
		var indexes []string
		for _, a := range e.App.SP.ACS {
			if a.Binding == BindingPOST {
				indexes = append(indexes, strconv.Itoa(a.Index))
				if strconv.Itoa(a.Index) == r.ACSIndex {
					r.ACS = a.Location
				}
			}
		}
		compare(&out, "request.acs", "assertion consumer service asked for, by index", r.ACSIndex, indexes, finding.App,
			"ask for an index that the app's metadata has, such as %s", "SAML Core 3.4.1")
	} else if r.ACS != "" {
		var acs []string
		for _, a := range e.App.SP.ACS {
			if a.Binding == BindingPOST {
				acs = append(acs, a.Location)
			}
		}
		compare(&out, "request.acs", "assertion consumer service asked for", r.ACS, acs, finding.App,
			"make both sides use one URL: either the app is set to %s, or its metadata is corrected and read again",
			"SAML Core 3.4.1")
	}
	if e.Format != "" && r.NameIDFormat != "" && r.NameIDFormat != FormatUnspecified && r.NameIDFormat != e.Format {
		out.Add(finding.Finding{ID: "request.format", Level: finding.Warning, Check: "name identifier format asked for",
			Saw: ShortName(r.NameIDFormat), Expected: ShortName(e.Format) + ", which this trust sends", Side: finding.Both,
			Fix: finding.Do("set the app to ask for it").Or(named(e.Trust, "set the trust to send what the app asks for",
				"claims", "set", e.Trust, "--subject-format", r.NameIDFormat)), Ref: "SAML Core 3.4.1.1"})
	}
	judgeRequestSignature(&out, c, el, e)
	if age := e.Now.Sub(r.IssueInstant); r.IssueInstant.IsZero() || age > 10*time.Minute+e.Skew || age < -e.Skew {
		out.Add(finding.Finding{ID: "request.time", Level: finding.Error, Check: "time of the request",
			Saw: stamp(r.IssueInstant), Expected: "within 10 minutes before " + stamp(e.Now), Side: finding.Clock,
			Fix: finding.Do("set both clocks by NTP")})
	} else {
		out.Pass("request.time", "time of the request", stamp(r.IssueInstant))
	}
	if e.Seen != nil && e.Seen(r.ID) {
		out.Add(finding.Finding{ID: "request.replay", Level: finding.Error, Check: "one-time use", Saw: r.ID + " again",
			Expected: "a new ID", Side: finding.Sender, Fix: finding.Do("start the sign-in at the app again")})
	}
	return r, out
}

func judgeRequestSignature(out *finding.List, c *Carried, el *etree.Element, e RequestExpect) {
	keys, _ := e.App.SP.SigningKeys()
	p := xmlsec.Policy{Keys: keys, AllowSHA1: e.AllowSHA1}
	var err error
	if c != nil && c.Binding == BindingRedirect {
		err = c.VerifyRedirect(p)
	} else {
		_, err = xmlsec.Verify(el, p)
	}
	var se *xmlsec.SignatureError
	wanted := e.WantSigned || e.App.SP.RequestsSigned
	switch {
	case err == nil:
		out.Pass("request.signature", "signature of the request", "made with the app's key")
	case errors.As(err, &se) && se.Reason == xmlsec.NoSignature && !wanted:
		out.Pass("request.signature", "signature of the request", "none, and none is wanted")
	case errors.As(err, &se) && se.Reason == xmlsec.NoKey && !wanted:
		out.Add(finding.Finding{ID: "request.signature", Level: finding.Note, Check: "signature of the request",
			Saw: "signed, and no key of the app is known", Expected: "the app's signing certificate in its metadata",
			Side: finding.App, Fix: finding.Do("add the certificate to the app's metadata so that it can be verified")})
	default:
		out.Add(signatureFinding("request.signature", "signature of the request", err, finding.App, e.AppName))
	}
}

// compare checks a value against the ones that would do, and says how it differs.
func compare(out *finding.List, id, check, saw string, want []string, side finding.Side, fix, ref string) {
	compareWith(out, id, check, saw, want, side, fix, ref, finding.Remedy{})
}

// compareWith is compare with another remedy that would do as well.
func compareWith(out *finding.List, id, check, saw string, want []string, side finding.Side, fix, ref string,
	or finding.Remedy) {
	for _, w := range want {
		if saw == w {
			out.Pass(id, check, saw)
			return
		}
	}
	best, diff := "", ""
	for _, w := range want {
		if best == "" || near.Distance(saw, w) < near.Distance(saw, best) {
			best = w
		}
	}
	if best == "" {
		best = "(none)"
	} else {
		diff = near.Difference(saw, best)
	}
	f := finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: best, Side: side,
		Fix: finding.Do(fmt.Sprintf(fix, best)), Ref: ref}
	if !or.IsZero() {
		f.Fix = f.Fix.Or(or)
	}
	if saw == "" {
		f.Saw = "none"
	}
	if diff != "" {
		f.Saw += " (" + diff + ")"
	}
	out.Add(f)
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return "none"
	}
	return t.UTC().Format("2006-01-02 15:04:05 UTC")
}

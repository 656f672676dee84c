package saml

import (
	"crypto"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
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
	IssuerFormat string
	Destination  string
	ACS          string // AssertionConsumerServiceURL; "" leaves the choice to the provider
	ACSIndex     string // AssertionConsumerServiceIndex, in place of the URL
	Binding      string // ProtocolBinding; "" leaves the choice to the provider
	IssueInstant time.Time
	Policy       *NameIDPolicy
	Subject      *Subject   // whom the request is about; nil: whoever signs in
	Confirmed    bool       // its Subject carries confirmations, which no browser can satisfy here
	Context      *Requested // nil: any
	ForceAuthn   bool
	IsPassive    bool
	Service      string // AttributeConsumingServiceIndex; "" is the default one
	ProviderName string // what the app calls itself, for people
	sealed       *etree.Element
	Requesters   []string // RequesterID: entity IDs of those on whose behalf the request is made (section 3.4.1.2)
	Providers    []string // entity IDs of the IDPList: where the person may sign in (section 3.4.1.3)
}

// NameIDPolicy says which name identifier the app asks for (section 3.4.1.1).
type NameIDPolicy struct {
	Format          string
	SPNameQualifier string
	AllowCreate     bool
}

// Element writes the request as XML.
func (r *AuthnRequest) Element() *etree.Element {
	el := xmlsec.New("samlp:AuthnRequest", "xmlns:samlp", NSProtocol, "xmlns:saml", NSAssertion, "ID", r.ID, "Version",
		"2.0",
		"IssueInstant", FormatTime(r.IssueInstant), "Destination", r.Destination, "AssertionConsumerServiceURL", r.ACS,
		"AssertionConsumerServiceIndex", r.ACSIndex, "AttributeConsumingServiceIndex", r.Service, "ProviderName",
		r.ProviderName)
	if r.ACS != "" && r.ACSIndex == "" {
		el.CreateAttr("ProtocolBinding", BindingPOST)
	}
	if r.ForceAuthn {
		el.CreateAttr("ForceAuthn", "true")
	}
	if r.IsPassive {
		el.CreateAttr("IsPassive", "true")
	}
	xmlsec.AddText(el, "saml:Issuer", r.Issuer)
	if r.Subject != nil {
		r.Subject.add(xmlsec.Add(el, "saml:Subject"))
	}
	if p := r.Policy; p != nil {
		n := xmlsec.Add(el, "samlp:NameIDPolicy", "Format", p.Format, "SPNameQualifier", p.SPNameQualifier)
		if p.AllowCreate {
			n.CreateAttr("AllowCreate", "true")
		}
	}
	if q := r.Context; q != nil {
		c := xmlsec.Add(el, "samlp:RequestedAuthnContext", "Comparison", q.Comparison)
		for _, ref := range q.Classes {
			xmlsec.AddText(c, "saml:AuthnContextClassRef", ref)
		}
		for _, ref := range q.Decls {
			xmlsec.AddText(c, "saml:AuthnContextDeclRef", ref)
		}
	}
	if len(r.Providers)+len(r.Requesters) > 0 {
		s := xmlsec.Add(el, "samlp:Scoping")
		if len(r.Providers) > 0 {
			list := xmlsec.Add(s, "samlp:IDPList")
			for _, id := range r.Providers {
				xmlsec.Add(list, "samlp:IDPEntry", "ProviderID", id)
			}
		}
		for _, id := range r.Requesters {
			xmlsec.AddText(s, "samlp:RequesterID", id)
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

// Encrypted reports whether a request that was read names its subject by an EncryptedID, which nobody has opened.
func (r *AuthnRequest) Encrypted() bool { return r.sealed != nil }

// ReadRequest reads an AuthnRequest element. Errors: ErrSchema, ErrBadTimeFormat, and one for another element.
func ReadRequest(el *etree.Element) (*AuthnRequest, error) {
	if !xmlsec.Is(el, NSProtocol, "AuthnRequest") {
		return nil, fmt.Errorf("<%s> is no AuthnRequest", el.FullTag())
	}
	if err := Shape(el); err != nil {
		return nil, err
	}
	issuer := xmlsec.Child(el, NSAssertion, "Issuer")
	r := &AuthnRequest{ID: xmlsec.Attr(el, "ID"), Destination: xmlsec.Attr(el, "Destination"),
		Issuer: xmlsec.Value(issuer), IssuerFormat: xmlsec.Attr(issuer, "Format"),
		ACS: xmlsec.Attr(el, "AssertionConsumerServiceURL"), ACSIndex: xmlsec.Attr(el, "AssertionConsumerServiceIndex"),
		Binding: xmlsec.Attr(el, "ProtocolBinding"), ForceAuthn: boolAttr(el, "ForceAuthn"), IsPassive: boolAttr(el,
			"IsPassive"), Service: strings.TrimSpace(xmlsec.Attr(el, "AttributeConsumingServiceIndex")),
		ProviderName: xmlsec.Attr(el, "ProviderName")}
	if s := xmlsec.Child(el, NSProtocol, "Scoping"); s != nil {
		for _, e := range xmlsec.Children(xmlsec.Child(s, NSProtocol, "IDPList"), NSProtocol, "IDPEntry") {
			r.Providers = append(r.Providers, xmlsec.Attr(e, "ProviderID"))
		}
		for _, e := range xmlsec.Children(s, NSProtocol, "RequesterID") {
			r.Requesters = append(r.Requesters, xmlsec.Text(e))
		}
	}
	t, err := readTime(el, "IssueInstant")
	if err != nil {
		return nil, err
	}
	if t != nil {
		r.IssueInstant = *t
	}
	if p := xmlsec.Child(el, NSProtocol, "NameIDPolicy"); p != nil {
		r.Policy = &NameIDPolicy{Format: xmlsec.Attr(p, "Format"), SPNameQualifier: xmlsec.Attr(p, "SPNameQualifier"),
			AllowCreate: boolAttr(p, "AllowCreate")}
	}
	if s := xmlsec.Child(el, NSAssertion, "Subject"); s != nil {
		if r.Subject = subjectOf(xmlsec.Child(s, NSAssertion, "NameID")); r.Subject == nil {
			r.Subject = &Subject{}
		}
		r.sealed = xmlsec.Child(s, NSAssertion, "EncryptedID")
		r.Confirmed = xmlsec.Child(s, NSAssertion, "SubjectConfirmation") != nil
	}
	if q := xmlsec.Child(el, NSProtocol, "RequestedAuthnContext"); q != nil {
		r.Context = &Requested{Comparison: xmlsec.Attr(q, "Comparison")}
		for _, c := range xmlsec.Children(q, NSAssertion, "AuthnContextClassRef") {
			r.Context.Classes = append(r.Context.Classes, xmlsec.Text(c))
		}
		for _, c := range xmlsec.Children(q, NSAssertion, "AuthnContextDeclRef") {
			r.Context.Decls = append(r.Context.Decls, xmlsec.Text(c))
		}
	}
	return r, nil
}

// RequestExpect is what a provider knows when it judges a request.
type RequestExpect struct {
	SSO        []string // the provider's SingleSignOnService locations
	App        *Entity
	Keys       []crypto.PublicKey // with which the app's requests are verified; nil: those of its metadata
	Format     string             // the name identifier format that will be sent; "" is not compared
	Contexts   []string           // the authentication contexts that the trust demands; none: any
	WantSigned bool
	AllowSHA1  bool
	Unseals    Unseals  // opens an EncryptedID in the request
	Provider   string   // entity ID of the provider itself
	Routes     []string // entity IDs and issuers of providers to which its routes lead
	Trust      string   // names of the trust and the app, for what findings say
	AppName    string
	Now        time.Time
	Skew       time.Duration
	Seen       func(id string) bool // reports and remembers an ID; nil: not checked
}

// RequestJudgement is the outcome of judging a request; Request is nil where it cannot be read.
type RequestJudgement struct {
	judge.Judgement
	Request *AuthnRequest
	// Answer is what the provider answers the app with, where the request is genuine and asks for what it cannot get.
	// Where it is nil a refused request is answered by nothing.
	Answer *Status
}

// JudgeRequest judges an AuthnRequest as the provider does (SAML Profiles, section 4.1.4.1).
func JudgeRequest(c *Carried, el *etree.Element, e RequestExpect) *RequestJudgement {
	j := &asking{RequestExpect: e,
		RequestJudgement: &RequestJudgement{Judgement: judge.Judgement{Kind: "SAML request"}}}
	j.run(c, el)
	if e.Seen == nil {
		j.NotChecked = append(j.NotChecked, "whether the request was sent before")
	}
	if !j.Findings.Failed() {
		j.wishes() // nobody who is not known to be the app is told what the trust gives
	}
	j.Settle()
	return j.RequestJudgement
}

// asking carries one judgement of a request.
type asking struct {
	RequestExpect
	*RequestJudgement
	signed bool // the request stands under a good signature of the app
}

func (j *asking) fail(id finding.ID, check, saw, expected, fix, ref string) {
	j.Findings.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected,
		Side: finding.App, Fix: finding.Do(fix), Ref: ref})
}

func (j *asking) run(c *Carried, el *etree.Element) {
	r, err := ReadRequest(el)
	if err != nil {
		j.Findings.Add(Unread(el, err, finding.App))
		return
	}
	j.Request = r
	if x := judgeCarriage(&j.Findings, c, el, finding.App); x != "" {
		j.NotChecked = append(j.NotChecked, x)
	}
	judgeFrame(&j.Findings, finding.RequestShape, el, finding.App, "SAML Core 3.2.1")
	compareWith(&j.Findings, finding.RequestIssuer, "issuer of the request", r.Issuer, []string{j.App.ID}, finding.App,
		"set the app's entity ID to %s", "SAML Core 3.2.1",
		named(j.AppName, "read its metadata again", "app", "change", j.AppName, "--metadata", "SOURCE"))
	if r.IssuerFormat != "" && r.IssuerFormat != FormatEntity {
		j.fail(finding.RequestIssuer, "format of the issuer", ShortName(r.IssuerFormat), "entity, or no Format",
			"name the issuer by its entity ID, without another Format", "SAML Profiles 4.1.4.1")
	}
	if until := j.App.Until(j.App.SP); until != nil && !j.Now.Before(*until) {
		j.Findings.Add(finding.Finding{ID: finding.RequestMetadataExpired, Level: finding.Error,
			Check: "validity of the app's metadata", Saw: "ended " + stamp(*until), Expected: "metadata in force",
			Side: finding.App, Ref: "SAML Metadata 2.3.2", Fix: finding.Do("read the app's metadata again").
				Then(named(j.AppName, "from its source", "app", "change", j.AppName, "--metadata", "SOURCE"))})
	}
	signed := xmlsec.Child(el, xmlsec.NS, "Signature") != nil || c != nil && c.Signature != nil
	if r.Destination != "" || signed {
		compare(&j.Findings, finding.RequestDestination, "destination of the request", r.Destination, j.SSO,
			finding.App, "set the provider's sign-in URL at the app to %s", "SAML Bindings 3.4.5.2 and 3.5.5.2")
	}
	j.consumer()
	j.signature(c, el)
	if c != nil {
		judgeRelay(&j.Findings, c.RelayState, finding.App)
	}
	if age := j.Now.Sub(r.IssueInstant); r.IssueInstant.IsZero() || age > 10*time.Minute+j.Skew || age < -j.Skew {
		j.Findings.Add(finding.Finding{ID: finding.RequestTime, Level: finding.Error, Check: "time of the request",
			Saw: stamp(r.IssueInstant), Expected: "within 10 minutes before " + stamp(j.Now), Side: finding.Clock,
			Fix: finding.Do("set both clocks by NTP")})
	} else {
		j.Findings.Pass(finding.RequestTime, "time of the request", stamp(r.IssueInstant))
	}
	if j.Seen != nil && j.Seen(r.ID) {
		j.Findings.Add(finding.Finding{ID: finding.RequestReplay, Level: finding.Error, Check: "one-time use",
			Saw:      r.ID + " again",
			Expected: "a new ID", Side: finding.Sender, Fix: finding.Do("start the sign-in at the app again")})
	}
	if err := r.Context.check(); err != nil {
		j.fail(finding.RequestAuthnContext, "authentication context asked for", err.Error(), "what SAML 2.0 has",
			"correct the RequestedAuthnContext, or leave it out", "SAML Core 3.3.2.2.1")
	}
}

// consumer judges where the answer is to go.
func (j *asking) consumer() {
	r := j.Request
	var acs, indexes []string
	at := map[string]string{}
	for _, a := range j.App.SP.ACS {
		if a.Binding == BindingPOST {
			acs = append(acs, a.Location)
			indexes = append(indexes, strconv.Itoa(a.Index))
			at[strconv.Itoa(a.Index)] = a.Location
		}
	}
	switch {
	case r.ACSIndex != "" && (r.ACS != "" || r.Binding != ""):
		j.fail(finding.RequestACS, "assertion consumer service asked for", "an index together with a URL or a binding",
			"one of them", "send AssertionConsumerServiceIndex, or the URL with its binding, and not both",
			"SAML Core 3.4.1")
		return
	case r.ACSIndex != "":
		compare(&j.Findings, finding.RequestACS, "assertion consumer service asked for, by index", r.ACSIndex, indexes,
			finding.App,
			"ask for an index that the app's metadata has, such as %s", "SAML Core 3.4.1")
		r.ACS = at[r.ACSIndex]
	case r.ACS != "":
		compare(&j.Findings, finding.RequestACS, "assertion consumer service asked for", r.ACS, acs, finding.App,
			"make both sides use one URL: either the app is set to %s, or its metadata is corrected and read again",
			"SAML Core 3.4.1")
	}
	if r.Binding != "" && r.Binding != BindingPOST {
		j.fail(finding.RequestBinding, "binding asked for", ShortName(r.Binding), "HTTP-POST",
			"ask for the answer by HTTP-POST, or leave ProtocolBinding out", "SAML Core 3.4.1")
	}
}

// wishes judges what a genuine request asks for against what the trust gives. What it cannot get is answered to the
// app.
func (j *asking) wishes() {
	r := j.Request
	refuse := func(sub string, id finding.ID, check, saw, expected, ref string, fix finding.Remedy) {
		j.Findings.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected,
			Side: finding.Both, Fix: fix, Ref: ref})
		if j.Answer == nil {
			top := StatusRequester
			if sub == StatusNoAuthn {
				top = StatusResponder
			}
			j.Answer = &Status{Top: top, Sub: sub, Message: check + ": " + saw + "; it can be " + expected}
		}
	}
	if p := r.Policy; p != nil {
		if j.Format != "" && p.Format != "" && p.Format != FormatUnspecified && p.Format != j.Format {
			fix := finding.Do("set the app to ask for it, or for none")
			if p.Format != FormatEncrypted {
				fix = fix.Or(named(j.Trust, "set the trust to send what the app asks for", "claims", "set", j.Trust,
					"--subject-format", p.Format))
			}
			refuse(StatusInvalidNameIDPolicy, finding.RequestFormat, "name identifier format asked for",
				ShortName(p.Format), ShortName(j.Format)+", which this trust sends", "SAML Core 3.4.1.1", fix)
		}
		if p.SPNameQualifier != "" && p.SPNameQualifier != j.App.ID {
			refuse(StatusInvalidNameIDPolicy, finding.RequestQualifier, "SPNameQualifier asked for", p.SPNameQualifier,
				j.App.ID+", the app itself", "SAML Core 3.4.1.1",
				finding.Do("leave SPNameQualifier out; name identifiers are for this app alone"))
		}
	}
	if r.sealed != nil {
		s := sealedName{r.sealed, j.Unseals, j.signed, finding.App, finding.RequestSubject, "SAML Core 3.4.1"}
		if r.Subject = s.open(&j.Findings); r.Subject == nil {
			j.Answer = &Status{Top: StatusRequester, Sub: StatusRequestUnsupported,
				Message: "the encrypted name identifier of the request is not read here"}
		}
	}
	if r.Subject != nil && (r.Confirmed || r.Subject.Value == "") {
		refuse(StatusRequestUnsupported, finding.RequestSubject, "subject of the request",
			"confirmations, or no NameID", "a NameID alone", "SAML Profiles 4.1.4.1",
			finding.Do("name the person by a NameID, or leave the Subject out"))
	}
	j.service(refuse)
	j.scoping()
	if _, ok := Acceptable(j.Contexts, r.Context); !ok {
		want := "password or multi-factor"
		if len(j.Contexts) > 0 {
			var names []string
			for _, c := range j.Contexts {
				names = append(names, ShortName(c))
			}
			want = strings.Join(names, " or ") + ", which this trust demands"
		}
		refuse(StatusNoAuthn, finding.RequestAuthnContext, "authentication context asked for", r.Context.Words(), want,
			"SAML Core 3.3.2.2.1", finding.Do("have the app ask for a context that the provider gives, or for none"))
	} else if r.Context != nil {
		j.Findings.Pass(finding.RequestAuthnContext, "authentication context asked for", r.Context.Words())
	}
}

// service judges which service of the app the request is for: one that its metadata has (section 3.4.1).
func (j *asking) service(refuse func(sub string, id finding.ID, check, saw, expected, ref string,
	fix finding.Remedy)) {
	r := j.Request
	if r.ProviderName != "" {
		j.Findings.Pass(finding.RequestProviderName, "what the app calls itself", r.ProviderName)
	}
	if r.Service == "" {
		return
	}
	if s := j.App.SP.ServiceOf(r.Service); s != nil {
		j.Findings.Pass(finding.RequestService, "service asked for", s.Label())
		return
	}
	refuse(StatusRequestUnsupported, finding.RequestService, "AttributeConsumingServiceIndex", r.Service,
		j.App.SP.ServiceWords(), "SAML Core 3.4.1", finding.Do("have the app ask for an index of its metadata, or "+
			"for none").
			Then(named(j.AppName, "read its metadata again", "app", "change", j.AppName, "--metadata", "SOURCE")))
}

// scoping tells on whose behalf the request is made, and where the app would have the person sign in: that is honoured
// where a route leads there, and else the person signs in here.
func (j *asking) scoping() {
	r := j.Request
	if len(r.Requesters) > 0 {
		j.Findings.Pass(finding.RequestRequester, "on whose behalf it is asked", strings.Join(r.Requesters, ", "))
	}
	if len(r.Providers) == 0 {
		return
	}
	for _, id := range r.Providers {
		if id == j.Provider || slices.Contains(j.Routes, id) {
			j.Findings.Pass(finding.RequestProviders, "providers asked for", id)
			return
		}
	}
	j.Findings.Add(finding.Finding{ID: finding.RequestProviders, Level: finding.Note, Check: "providers asked for",
		Saw: strings.Join(r.Providers, ", "), Expected: "this one, or one to which a route leads; the person " +
			"signs in here",
		Side: finding.App, Fix: finding.Do("none is needed where that is meant"), Ref: "SAML Core 3.4.1.3"})
}

// judgeRelay warns of a RelayState that is longer than the standard lets it be.
func judgeRelay(out *finding.List, relay string, side finding.Side) {
	if len(relay) > 80 {
		out.Add(finding.Finding{ID: finding.SAMLRelayState, Level: finding.Warning, Check: "RelayState",
			Saw: fmt.Sprintf("%d bytes", len(relay)), Expected: "at most 80", Side: side,
			Ref: "SAML Bindings 3.4.3 and 3.5.3",
			Fix: finding.Do("send a short reference and keep what it stands for; others cut or refuse longer ones")})
	}
}

func (j *asking) signature(c *Carried, el *etree.Element) {
	out, e := &j.Findings, j.RequestExpect
	if e.Keys == nil {
		e.Keys, _ = e.App.SP.SigningKeys()
	}
	p := xmlsec.Policy{Keys: e.Keys, AllowSHA1: e.AllowSHA1}
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
		j.signed = true
		out.Pass(finding.RequestSignature, "signature of the request", "made with the app's key")
	case errors.As(err, &se) && se.Reason == xmlsec.NoSignature && !wanted:
		out.Pass(finding.RequestSignature, "signature of the request", "none, and none is wanted")
	case errors.As(err, &se) && se.Reason == xmlsec.NoKey && !wanted:
		out.Add(finding.Finding{ID: finding.RequestSignature, Level: finding.Note, Check: "signature of the request",
			Saw: "signed, and no key of the app is known", Expected: "the app's signing certificate in its metadata",
			Side: finding.App, Fix: finding.Do("add the certificate to the app's metadata so that it can be verified")})
	default:
		out.Add(signatureFinding(finding.RequestSignature, "signature of the request", err, finding.App, e.AppName))
	}
}

// compare checks a value against the ones that would do, and says how it differs.
func compare(out *finding.List, id finding.ID, check, saw string, want []string, side finding.Side, fix, ref string) {
	compareWith(out, id, check, saw, want, side, fix, ref, finding.Remedy{})
}

// compareWith is compare with another remedy that would do as well.
func compareWith(out *finding.List, id finding.ID, check, saw string, want []string, side finding.Side, fix, ref string,
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

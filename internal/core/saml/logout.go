package saml

import (
	"crypto"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/xmlsec"
)

// LogoutRequest asks the other side to end a session (SAML Core, section 3.7.1).
type LogoutRequest struct {
	ID           string
	Issuer       string
	IssuerFormat string
	Destination  string
	IssueInstant time.Time
	NotOnOrAfter *time.Time // nil: no end
	NameID       Subject
	sealed       *etree.Element
	Sessions     []string // SessionIndex; none: all sessions of the person
	Reason       string
}

// LogoutResponse answers a LogoutRequest (section 3.7.2).
type LogoutResponse struct {
	ID           string
	InResponseTo string
	Issuer       string
	IssuerFormat string
	Destination  string
	IssueInstant time.Time
	Status       Status
}

// Bytes writes the request, signed by an enveloped signature if a signer is given (POST binding).
func (r *LogoutRequest) Bytes(s *xmlsec.Signer) ([]byte, error) {
	until := ""
	if r.NotOnOrAfter != nil {
		until = FormatTime(*r.NotOnOrAfter)
	}
	el := xmlsec.New("samlp:LogoutRequest", "xmlns:samlp", NSProtocol, "xmlns:saml", NSAssertion, "ID", r.ID,
		"Version", "2.0", "IssueInstant", FormatTime(r.IssueInstant), "Destination", r.Destination,
		"NotOnOrAfter", until,
		"Reason", r.Reason)
	xmlsec.AddText(el, "saml:Issuer", r.Issuer)
	r.NameID.add(el)
	for _, x := range r.Sessions {
		xmlsec.AddText(el, "samlp:SessionIndex", x)
	}
	return signedBytes(el, s)
}

// Bytes writes the response, signed by an enveloped signature if a signer is given (POST binding).
func (r *LogoutResponse) Bytes(s *xmlsec.Signer) ([]byte, error) {
	el := xmlsec.New("samlp:LogoutResponse", "xmlns:samlp", NSProtocol, "xmlns:saml", NSAssertion, "ID", r.ID,
		"Version", "2.0", "IssueInstant", FormatTime(r.IssueInstant), "Destination", r.Destination,
		"InResponseTo", r.InResponseTo)
	xmlsec.AddText(el, "saml:Issuer", r.Issuer)
	st := xmlsec.Add(el, "samlp:Status")
	code := xmlsec.Add(st, "samlp:StatusCode", "Value", r.Status.Top)
	if r.Status.Sub != "" {
		xmlsec.Add(code, "samlp:StatusCode", "Value", r.Status.Sub)
	}
	if r.Status.Message != "" {
		xmlsec.AddText(st, "samlp:StatusMessage", xmlsec.Carried(r.Status.Message))
	}
	return signedBytes(el, s)
}

func signedBytes(el *etree.Element, s *xmlsec.Signer) ([]byte, error) {
	etree.NewDocument().SetRoot(el)
	if s != nil {
		if err := s.Sign(el, xmlsec.Child(el, NSAssertion, "Issuer")); err != nil {
			return nil, err
		}
	}
	return xmlsec.Serialize(el), nil
}

// ErrNoLogout means that a message is neither a LogoutRequest nor a LogoutResponse.
var ErrNoLogout = errors.New("neither a LogoutRequest nor a LogoutResponse")

// IsLogout reports whether a message is a LogoutRequest or a LogoutResponse.
func IsLogout(el *etree.Element) bool {
	return xmlsec.Is(el, NSProtocol, "LogoutRequest") || xmlsec.Is(el, NSProtocol, "LogoutResponse")
}

// Encrypted reports whether a request that was read names the person by an EncryptedID, which nobody has opened.
func (r *LogoutRequest) Encrypted() bool { return r.sealed != nil }

// ReadLogoutRequest reads a LogoutRequest as it stands. Errors: ErrNoLogout, ErrSchema, ErrBadTimeFormat.
func ReadLogoutRequest(el *etree.Element) (*LogoutRequest, error) {
	if !xmlsec.Is(el, NSProtocol, "LogoutRequest") {
		return nil, fmt.Errorf("<%s> is %w", el.FullTag(), ErrNoLogout)
	}
	if err := Shape(el); err != nil {
		return nil, err
	}
	issuer := xmlsec.Child(el, NSAssertion, "Issuer")
	r := &LogoutRequest{ID: xmlsec.Attr(el, "ID"), Issuer: xmlsec.Value(issuer),
		IssuerFormat: xmlsec.Attr(issuer, "Format"), Destination: xmlsec.Attr(el, "Destination"),
		Reason: xmlsec.Attr(el, "Reason")}
	at, err := readTime(el, "IssueInstant")
	if err != nil {
		return nil, err
	}
	if at != nil {
		r.IssueInstant = *at
	}
	if r.NotOnOrAfter, err = readTime(el, "NotOnOrAfter"); err != nil {
		return nil, err
	}
	if id := subjectOf(xmlsec.Child(el, NSAssertion, "NameID")); id != nil {
		r.NameID = *id
	}
	r.sealed = xmlsec.Child(el, NSAssertion, "EncryptedID")
	for _, x := range xmlsec.Children(el, NSProtocol, "SessionIndex") {
		r.Sessions = append(r.Sessions, xmlsec.Text(x))
	}
	return r, nil
}

// ReadLogoutResponse reads a LogoutResponse as it stands. Errors: ErrNoLogout, ErrSchema, ErrBadTimeFormat.
func ReadLogoutResponse(el *etree.Element) (*LogoutResponse, error) {
	if !xmlsec.Is(el, NSProtocol, "LogoutResponse") {
		return nil, fmt.Errorf("<%s> is %w", el.FullTag(), ErrNoLogout)
	}
	if err := Shape(el); err != nil {
		return nil, err
	}
	issuer := xmlsec.Child(el, NSAssertion, "Issuer")
	r := &LogoutResponse{ID: xmlsec.Attr(el, "ID"), InResponseTo: xmlsec.Attr(el, "InResponseTo"),
		Issuer: xmlsec.Value(issuer), IssuerFormat: xmlsec.Attr(issuer, "Format"),
		Destination: xmlsec.Attr(el, "Destination"), Status: ReadStatus(el)}
	at, err := readTime(el, "IssueInstant")
	if err != nil {
		return nil, err
	}
	if at != nil {
		r.IssueInstant = *at
	}
	return r, nil
}

// LogoutExpect is what the receiver of a logout message knows: all of it from the ledger and its own messages.
type LogoutExpect struct {
	From      string // entity ID of the other side, which sent it
	Side      finding.Side
	Name      string   // of the party that sent it, for remedies
	At        []string // the receiver's SingleLogoutService locations, those for responses included
	Keys      []crypto.PublicKey
	Until     *time.Time // until when the sender's metadata is valid; nil: no end
	AllowSHA1 bool
	Unseals   Unseals // opens an EncryptedID in a request
	Now       time.Time
	Skew      time.Duration

	Seen         func(id string) bool // of a request: reports and remembers an ID; nil: not checked
	CheckRequest bool                 // of a response: whether InResponseTo is judged
	RequestID    string               // of a response: the ID of the request that was sent
}

// LogoutJudgement is the outcome of judging a logout message. One of Request and Response is there, where it can be
// read.
type LogoutJudgement struct {
	judge.Judgement
	Request  *LogoutRequest
	Response *LogoutResponse
	// Genuine says that the message stands under a good signature of the other side, whatever else is wrong with it.
	Genuine bool
}

// leaving carries one judgement of a logout message.
type leaving struct {
	LogoutExpect
	*LogoutJudgement
}

// JudgeLogout judges a LogoutRequest or LogoutResponse as its receiver does (SAML Profiles, section 4.4.4). Both must
// be signed: they come by way of a browser.
func JudgeLogout(c *Carried, el *etree.Element, e LogoutExpect) *LogoutJudgement {
	if e.Skew == 0 {
		e.Skew = judge.Skew
	}
	j := &leaving{e, &LogoutJudgement{Judgement: judge.Judgement{Kind: "SAML logout request"}}}
	if xmlsec.Is(el, NSProtocol, "LogoutResponse") {
		j.Kind = "SAML logout response"
		j.response(c, el)
	} else {
		j.request(c, el)
	}
	j.Settle()
	return j.LogoutJudgement
}

func (j *leaving) fail(id finding.ID, check, saw, expected, fix, ref string) {
	j.Findings.Add(finding.Finding{ID: id, Level: finding.Error, Check: check, Saw: saw, Expected: expected,
		Side: j.Side, Fix: finding.Do(fix), Ref: ref})
}

func (j *leaving) request(c *Carried, el *etree.Element) {
	r, err := ReadLogoutRequest(el)
	if err != nil {
		j.Findings.Add(Unread(el, err, j.Side))
		return
	}
	j.Request = r
	j.common(c, el, r.Issuer, r.IssuerFormat, r.Destination, r.IssueInstant)
	if r.NotOnOrAfter != nil && !j.Now.Before(r.NotOnOrAfter.Add(j.Skew)) {
		j.fail(finding.LogoutLate, "end of the request", "ended "+stamp(*r.NotOnOrAfter), "a time to come",
			"start the logout again; if it happens on a fresh one, set both clocks by NTP", "SAML Core 3.7.1")
	}
	if r.sealed != nil {
		s := sealedName{r.sealed, j.Unseals, j.Genuine, j.Side, finding.LogoutSubject, "SAML Core 3.7.1"}
		if id := s.open(&j.Findings); id != nil {
			r.NameID = *id
		}
	}
	switch {
	case r.sealed != nil && r.NameID.Value == "": // told already
	case strings.TrimSpace(r.NameID.Value) == "":
		j.fail(finding.LogoutSubject, "name identifier", "none", "the NameID of the sign-in, as it was sent",
			"name the person as the assertion did", "SAML Core 3.7.1")
	default:
		if j.Genuine {
			j.Subject, j.Format = r.NameID.Value, r.NameID.Format
		}
		j.Findings.Pass(finding.LogoutSubject, "name identifier", r.NameID.Value+formatWords(r.NameID.Format))
	}
	if j.Seen == nil {
		j.NotChecked = append(j.NotChecked, "whether the request was sent before",
			"whether the person has a session there")
	} else if !j.Findings.Failed() && j.Seen(r.ID) {
		j.fail(finding.LogoutReplay, "one-time use", r.ID+" again", "a new ID", "start the logout again",
			"SAML Core 3.2.1")
	}
}

func (j *leaving) response(c *Carried, el *etree.Element) {
	r, err := ReadLogoutResponse(el)
	if err != nil {
		j.Findings.Add(Unread(el, err, j.Side))
		return
	}
	j.Response = r
	j.common(c, el, r.Issuer, r.IssuerFormat, r.Destination, r.IssueInstant)
	switch {
	case !j.CheckRequest:
		j.NotChecked = append(j.NotChecked, "whether the request that it answers was sent ("+r.InResponseTo+")")
	case r.InResponseTo != j.RequestID || j.RequestID == "":
		saw, want := r.InResponseTo, j.RequestID
		if saw == "" {
			saw = "none"
		}
		if want == "" {
			want = "no answer: no request was sent"
		}
		j.fail(finding.LogoutInResponseTo, "answer to a request", saw, want, "start the logout again in one browser",
			"SAML Core 3.2.2")
	default:
		j.Findings.Pass(finding.LogoutInResponseTo, "answer to a request", r.InResponseTo)
	}
	switch st := r.Status; {
	case st.Top == StatusSuccess && st.Sub == "":
		j.Findings.Pass(finding.LogoutStatus, "status", "Success")
	case st.Sub == StatusPartialLogout:
		x := adviceOn(st)
		j.Findings.Add(finding.Finding{ID: finding.LogoutPartial, Level: finding.Warning, Check: "status",
			Saw: st.Words(), Expected: "Success", Side: x.side, Fix: finding.Do(x.do), Ref: "SAML Core 3.7.3.2"})
	default:
		x := adviceOn(st)
		j.Findings.Add(finding.Finding{ID: finding.LogoutStatus, Level: finding.Error, Check: "status", Saw: st.Words(),
			Expected: "Success", Side: x.side, Fix: finding.Do(x.do), Ref: "SAML Core 3.2.2.2"})
	}
}

// common judges what both messages have.
func (j *leaving) common(c *Carried, el *etree.Element, issuer, format, destination string, at time.Time) {
	if x := judgeCarriage(&j.Findings, c, el, j.Side); x != "" {
		j.NotChecked = append(j.NotChecked, x)
	}
	if format != "" && format != FormatEntity {
		j.fail(finding.LogoutIssuer, "format of the issuer", ShortName(format), "entity, or no Format",
			"name the issuer by its entity ID, without another Format", "SAML Profiles 4.4.4")
	}
	judgeFrame(&j.Findings, finding.LogoutShape, el, j.Side, "SAML Core 3.2.1")
	compareWith(&j.Findings, finding.LogoutIssuer, "issuer", issuer, []string{j.From}, j.Side,
		"set the entity ID there to %s", "SAML Profiles 4.4.4", named(j.Name, "read its metadata again", string(j.Side),
			"change", j.Name, "--metadata", "SOURCE"))
	compare(&j.Findings, finding.LogoutDestination, "destination", destination, j.At, j.Side,
		"set the single logout URL there to %s", "SAML Bindings 3.4.5.2 and 3.5.5.2")
	if j.Until != nil && !j.Now.Before(*j.Until) {
		j.fail(finding.LogoutMetadataExpired, "validity of the sender's metadata", "ended "+stamp(*j.Until),
			"metadata in force", "read the sender's metadata again", "SAML Metadata 2.3.2")
	}
	if c != nil {
		judgeRelay(&j.Findings, c.RelayState, j.Side)
	}
	if age := j.Now.Sub(at); at.IsZero() || age > 10*time.Minute+j.Skew || age < -j.Skew {
		j.Findings.Add(finding.Finding{ID: finding.LogoutTime, Level: finding.Error, Check: "time of the message",
			Saw: stamp(at), Expected: "within 10 minutes before " + stamp(j.Now), Side: finding.Clock,
			Fix: finding.Do("set both clocks by NTP")})
	}
	var err error
	if c != nil && c.Binding == BindingRedirect {
		err = c.VerifyRedirect(xmlsec.Policy{Keys: j.Keys, AllowSHA1: j.AllowSHA1})
	} else {
		_, err = xmlsec.Verify(el, xmlsec.Policy{Keys: j.Keys, AllowSHA1: j.AllowSHA1})
	}
	if err == nil {
		j.Findings.Pass(finding.LogoutSignature, "signature", "made with the key of the "+string(j.Side))
		j.Genuine = true
		return
	}
	j.Findings.Add(signatureFinding(finding.LogoutSignature, "signature", err, j.Side, j.Name))
}

// LogoutEndpoint returns where a logout message is sent to: Redirect before POST. Requests go to the Location,
// responses to the ResponseLocation where there is one (SAML Metadata, section 2.2.2).
func (r *Role) LogoutEndpoint(response bool) (Endpoint, bool) {
	if r == nil {
		return Endpoint{}, false
	}
	e, ok := EndpointFor(r.SLO, BindingRedirect, BindingPOST)
	if response && e.ResponseLocation != "" {
		e.Location = e.ResponseLocation
	}
	return e, ok
}

// LogoutLocations lists where logout messages arrive at a role.
func (r *Role) LogoutLocations() []string {
	var out []string
	if r == nil {
		return nil
	}
	for _, e := range r.SLO {
		for _, l := range []string{e.Location, e.ResponseLocation} {
			if l != "" && (e.Binding == BindingRedirect || e.Binding == BindingPOST) && !slices.Contains(out, l) {
				out = append(out, l)
			}
		}
	}
	return out
}

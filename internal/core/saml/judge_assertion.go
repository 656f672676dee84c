package saml

import (
	"fmt"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/xmlsec"
)

func (j *judging) subject() {
	id := xmlsec.Path(j.assertion, NSAssertion, "Subject", "NameID")
	if id == nil {
		saw := "none"
		if xmlsec.Path(j.assertion, NSAssertion, "Subject", "EncryptedID") != nil {
			saw = "an encrypted one"
		}
		j.fail("saml.subject", "name identifier", saw, "a NameID in the subject", finding.Provider,
			"set the provider to send a name identifier", "SAML Core 2.4.1")
		return
	}
	j.NameID = &Subject{Value: xmlsec.Text(id), Format: xmlsec.Attr(id, "Format")}
	if j.NameID.Value == "" || len(id.ChildElements()) > 0 {
		j.fail("saml.subject", "name identifier", "empty, or elements inside", "text", finding.Provider,
			"set the provider to send a name identifier", "SAML Core 2.2.2")
		return
	}
	j.Findings.Pass("saml.subject", "name identifier", j.NameID.Value+formatWords(j.NameID.Format))
}

func formatWords(format string) string {
	if format == "" {
		return ", without a format"
	}
	return " (" + ShortName(format) + ")"
}

// confirmation checks recipient and presence of a bearer confirmation. Its times are judged in window, its InResponseTo
// in request.
func (j *judging) confirmation() {
	data := j.bearer()
	if data == nil {
		j.fail("saml.confirmation", "subject confirmation", "no bearer confirmation with data", "one bearer confirmation",
			finding.Provider, "set the provider to the Web Browser SSO profile", "SAML Profiles 4.1.4.2")
		return
	}
	compare(&j.Findings, "saml.recipient", "recipient", xmlsec.Attr(data, "Recipient"), j.ACS, finding.Provider,
		"set the app's assertion consumer URL at the provider to %s", "SAML Profiles 4.1.4.2")
}

// bearer returns the SubjectConfirmationData of the bearer confirmation: of several, the one for this recipient.
func (j *judging) bearer() *etree.Element {
	var first *etree.Element
	for _, c := range xmlsec.Children(xmlsec.Child(j.assertion, NSAssertion, "Subject"), NSAssertion,
		"SubjectConfirmation") {
		d := xmlsec.Child(c, NSAssertion, "SubjectConfirmationData")
		if xmlsec.Attr(c, "Method") != methodBearer || d == nil {
			continue
		}
		for _, a := range j.ACS {
			if xmlsec.Attr(d, "Recipient") == a {
				return d
			}
		}
		if first == nil {
			first = d
		}
	}
	return first
}

// window judges all times of the assertion at once.
func (j *judging) window() {
	var from, until time.Time
	bad := func(what string, err error) {
		j.fail("saml.time", "times of the assertion", err.Error(), what, finding.Provider, "send times in UTC",
			"SAML Core 1.3.3")
	}
	take := func(el *etree.Element, attr string, start bool) bool {
		if el == nil || !xmlsec.HasAttr(el, attr) {
			return true
		}
		t, err := readTime(el, attr)
		if err != nil || t == nil {
			if err == nil {
				err = fmt.Errorf("%s is empty", attr)
			}
			bad("an xs:dateTime in "+attr, err)
			return false
		}
		if start && t.After(from) {
			from = *t
		}
		if !start && (until.IsZero() || t.Before(until)) {
			until = *t
		}
		return true
	}
	data, cond := j.bearer(), xmlsec.Child(j.assertion, NSAssertion, "Conditions")
	st := xmlsec.Child(j.assertion, NSAssertion, "AuthnStatement")
	if !take(cond, "NotBefore", true) || !take(cond, "NotOnOrAfter", false) || !take(data, "NotBefore", true) ||
		!take(data, "NotOnOrAfter", false) || !take(st, "SessionNotOnOrAfter", false) || !take(j.assertion, "IssueInstant",
		true) {
		return
	}
	if data != nil && !xmlsec.HasAttr(data, "NotOnOrAfter") {
		j.fail("saml.time", "times of the assertion", "no NotOnOrAfter in the subject confirmation",
			"a time at which it ends",
			finding.Provider, "set the provider to the Web Browser SSO profile", "SAML Profiles 4.1.4.2")
		return
	}
	window := stamp(from) + " to " + stamp(until)
	skew := fmt.Sprintf("within %s, clocks may differ by %s", window, span(j.Skew))
	switch {
	case j.Now.Add(j.Skew).Before(from):
		j.fail("saml.time.early", "time window", fmt.Sprintf("it is %s, %s too early", stamp(j.Now), span(from.Sub(j.Now))),
			skew, finding.Clock, "set the clocks of the provider and the app by NTP; the provider's is ahead", "SAML Core 2.5.1")
	case !until.IsZero() && !j.Now.Before(until.Add(j.Skew)):
		j.fail("saml.time.late", "time window", fmt.Sprintf("it is %s, %s too late", stamp(j.Now), span(j.Now.Sub(until))),
			skew, finding.Clock, "sign in again; if it happens on a fresh sign-in, set the clocks of both sides by NTP",
			"SAML Core 2.5.1")
	default:
		j.Findings.Pass("saml.time", "time window", window)
	}
}

// span writes a duration in words.
func span(d time.Duration) string {
	n, unit := int(d.Round(time.Second).Seconds()), "second"
	switch {
	case n >= 2*86400:
		n, unit = n/86400, "day"
	case n >= 2*3600:
		n, unit = n/3600, "hour"
	case n >= 120:
		n, unit = n/60, "minute"
	}
	if n != 1 {
		unit += "s"
	}
	return fmt.Sprintf("%d %s", n, unit)
}

func (j *judging) audience() {
	rs := xmlsec.Children(xmlsec.Child(j.assertion, NSAssertion, "Conditions"), NSAssertion, "AudienceRestriction")
	if len(rs) == 0 {
		compare(&j.Findings, "saml.audience", "audience", "", []string{j.App}, finding.Provider,
			"set the audience for this app at the provider to %s", "SAML Profiles 4.1.4.2")
		return
	}
	for i, r := range rs {
		var all []string
		ok := false
		for _, a := range xmlsec.Children(r, NSAssertion, "Audience") {
			all = append(all, xmlsec.Text(a))
			ok = ok || xmlsec.Text(a) == j.App
		}
		if ok && i < len(rs)-1 {
			continue
		}
		saw := strings.Join(all, ", ")
		if ok {
			saw = j.App
		}
		compare(&j.Findings, "saml.audience", "audience", saw, []string{j.App}, finding.Provider,
			"set the audience for this app at the provider to %s", "SAML Core 2.5.1.4")
		return
	}
}

func (j *judging) authn() {
	st := xmlsec.Child(j.assertion, NSAssertion, "AuthnStatement")
	if st == nil {
		j.fail("saml.authn", "authentication statement", "none", "one AuthnStatement", finding.Provider,
			"set the provider to the Web Browser SSO profile", "SAML Profiles 4.1.4.2")
		return
	}
	j.SessionIndex = xmlsec.Attr(st, "SessionIndex")
	j.Context = xmlsec.Text(xmlsec.Path(st, NSAssertion, "AuthnContext", "AuthnContextClassRef"))
	if len(j.Contexts) == 0 {
		j.Findings.Pass("saml.strength", "authentication strength", ShortName(j.Context))
		return
	}
	want := make([]string, len(j.Contexts))
	for i, c := range j.Contexts {
		if c == j.Context {
			j.Findings.Pass("saml.strength", "authentication strength", ShortName(j.Context))
			return
		}
		want[i] = ShortName(c)
	}
	j.fail("saml.strength", "authentication strength", ShortName(j.Context), strings.Join(want, " or "), finding.Person,
		"sign in with a second factor; if that was done, set the provider to say so in AuthnContextClassRef",
		"SAML Core 3.3.2.2.1")
}

func (j *judging) attributes() {
	for _, st := range xmlsec.Children(j.assertion, NSAssertion, "AttributeStatement") {
		for _, a := range xmlsec.Children(st, NSAssertion, "Attribute") {
			at := Attribute{Name: xmlsec.Attr(a, "Name"), Format: xmlsec.Attr(a, "NameFormat"), Friendly: xmlsec.Attr(a,
				"FriendlyName"),
				Values: []string{}}
			for _, v := range xmlsec.Children(a, NSAssertion, "AttributeValue") {
				text := xmlsec.Text(v)
				if kids := v.ChildElements(); len(kids) == 1 && text == "" {
					text = xmlsec.Text(kids[0]) // a NameID as value
				}
				at.Values = append(at.Values, text)
			}
			j.Attributes = append(j.Attributes, at)
		}
	}
	if len(j.Wanted) > 0 {
		j.Findings = append(j.Findings, JudgeWanted(j.Wanted, j.Attributes, j.Trust)...)
	}
}

// Satisfies reports whether an attribute is the wanted one: equal names, and equal formats where both sides name one.
func Satisfies(w Wanted, a Attribute) bool {
	if w.Name != a.Name {
		return false
	}
	f, g := w.Format, a.Format
	return f == g || f == "" || g == "" || f == NameFormatUnspecified || g == NameFormatUnspecified
}

// JudgeWanted compares what an app wants with what it gets: one finding for each wanted attribute. trust is the name of
// the trust, for the remedy.
func JudgeWanted(wanted []Wanted, got []Attribute, trust string) finding.List {
	var out finding.List
	names := []string{}
	for _, a := range got {
		names = append(names, a.Name)
		if a.Friendly != "" && a.Friendly != a.Name {
			names = append(names, a.Friendly)
		}
	}
	for _, w := range wanted {
		hit := false
		for _, a := range got {
			if Satisfies(w, a) && len(a.Values) > 0 {
				out.Pass("claims.wanted", "wanted attribute "+w.Label(), strings.Join(a.Values, ", "))
				hit = true
				break
			}
		}
		if hit {
			continue
		}
		f := finding.Finding{ID: "claims.wanted", Level: finding.Note, Check: "wanted attribute " + w.Label(),
			Saw: "not sent", Expected: w.Name, Side: finding.Provider, Ref: "SAML Metadata 2.4.4.2",
			Fix: finding.Run("claims", "set", trust, w.Label()+"=EXPRESSION")}
		if n := near.Names(w.Name, names); len(n) == 0 && w.Friendly != "" {
			names2 := near.Names(w.Friendly, names)
			if len(names2) > 0 {
				f.Saw = fmt.Sprintf("wants `%s`, gets `%s`", w.Label(), names2[0])
			}
		} else if len(n) > 0 {
			f.Saw = fmt.Sprintf("wants `%s`, gets `%s`", w.Name, n[0])
			if n[0] == w.Name {
				f.Saw = fmt.Sprintf("`%s` with another NameFormat, or without a value", w.Name)
			}
		}
		if w.Required {
			f.ID, f.Level = "claims.required", finding.Error
			f.Check = "required attribute " + w.Label()
		}
		out.Add(f)
	}
	return out
}

// request judges InResponseTo, in the response and in the subject confirmation.
func (j *judging) request() {
	if !j.CheckRequest {
		return
	}
	saw := j.InResponseTo
	if j.assertion != nil {
		if d := j.bearer(); d != nil {
			if in := xmlsec.Attr(d, "InResponseTo"); in != saw && (in != j.RequestID || saw == "") {
				saw = in
			}
		}
	}
	switch {
	case saw == "" && j.RequestID == "" && j.AllowUnsolicited:
		j.Findings.Pass("saml.in-response-to", "answer to a request", "unsolicited, as this trust allows")
	case saw == "" && j.RequestID == "":
		j.failWith("saml.unsolicited", "answer to a request", "an unsolicited response", "an answer to a request of the app",
			finding.Both, finding.Do("start the sign-in at the app").
				Or(named(j.Trust, "allow such responses", "trust", "change", j.Trust, "--unsolicited", "allow")),
			"SAML Profiles 4.1.5")
	case saw == j.RequestID:
		j.Findings.Pass("saml.in-response-to", "answer to a request", saw)
	default:
		want := j.RequestID
		if want == "" {
			want = "no InResponseTo: no request was sent"
		}
		if saw == "" {
			saw = "none"
		}
		j.fail("saml.in-response-to", "answer to a request", saw, want, finding.Sender,
			"start the sign-in at the app again in one browser; a link that was kept or sent on does not work",
			"SAML Core 3.2.2")
	}
}

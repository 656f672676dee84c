package saml

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/xmlsec"
)

func (j *judging) subject() {
	sub := xmlsec.Child(j.assertion, NSAssertion, "Subject")
	id := xmlsec.Child(sub, NSAssertion, "NameID")
	if sealed := xmlsec.Child(sub, NSAssertion, "EncryptedID"); id == nil && sealed != nil {
		el, ok := j.decrypt(sealed, "NameID")
		if !ok {
			return
		}
		id = el
	}
	if id == nil {
		j.fail(finding.SAMLSubject, "name identifier", "none", "a NameID in the subject", finding.Provider,
			"set the provider to send a name identifier", "SAML Core 2.4.1")
		return
	}
	j.NameID = subjectOf(id)
	if strings.TrimSpace(j.NameID.Value) == "" || hasElements(id) {
		j.fail(finding.SAMLSubject, "name identifier", "empty, or elements inside", "text", finding.Provider,
			"set the provider to send a name identifier", "SAML Core 2.2.2")
		return
	}
	j.spaces("the name identifier", "", j.NameID.Value)
	j.Findings.Pass(finding.SAMLSubject, "name identifier", j.NameID.Value+formatWords(j.NameID.Format))
	for _, q := range [][3]string{{"NameQualifier", j.NameID.NameQualifier, j.Provider},
		{"SPNameQualifier", j.NameID.SPNameQualifier, j.App}} {
		if j.NameID.Format == FormatPersistent && q[1] != "" && q[1] != q[2] {
			j.Findings.Add(finding.Finding{ID: finding.SAMLQualifier, Level: finding.Note, Check: q[0], Saw: q[1],
				Expected: q[2] + ", or none", Side: finding.Provider, Ref: "SAML Core 8.3.7",
				Fix: finding.Do("keep it with the identifier, and compare both: it is a name that another party " +
					"made, " +
					"or for others")})
		}
	}
}

// hasElements reports whether an element has child elements.
func hasElements(el *etree.Element) bool {
	for range xmlsec.Elements(el) {
		return true
	}
	return false
}

// spaces notes a value with white space at an end: it is kept as it came, and it is hardly ever meant. What the value
// is is said in words and a name.
func (j *judging) spaces(what, name, value string) {
	if len(value) != len(strings.TrimSpace(value)) {
		j.spaced = append(j.spaced, what+name)
	}
}

// space remarks on the values that spaces noted.
func (j *judging) space() {
	if len(j.spaced) > 0 {
		j.Findings.Add(finding.Finding{ID: finding.SAMLSpace, Level: finding.Note, Check: "white space in values",
			Saw:      strings.Join(j.spaced, ", ") + " begins or ends with white space; it was kept",
			Expected: "values without it",
			Side:     finding.Provider, Fix: finding.Do("take it off at the provider; many apps compare " +
				"the whole value")})
	}
}

func formatWords(format string) string {
	if format == "" {
		return ", without a format"
	}
	return " (" + ShortName(format) + ")"
}

// confirmation checks the bearer confirmation: that there is one, its recipient, and that it has no NotBefore. Its
// end is judged in window, its InResponseTo in request.
func (j *judging) confirmation() {
	data := j.bearer()
	if data == nil {
		j.fail(finding.SAMLConfirmation, "subject confirmation", "no bearer confirmation with data",
			"one bearer confirmation",
			finding.Provider, "set the provider to the Web Browser SSO profile", "SAML Profiles 4.1.4.2")
		return
	}
	compare(&j.Findings, finding.SAMLRecipient, "recipient", xmlsec.Attr(data, "Recipient"), j.ACS, finding.Provider,
		"set the app's assertion consumer URL at the provider to %s", "SAML Profiles 4.1.4.2")
	if xmlsec.HasAttr(data, "NotBefore") {
		j.fail(finding.SAMLConfirmation, "subject confirmation", "NotBefore "+xmlsec.Attr(data, "NotBefore"),
			"no NotBefore",
			finding.Provider, "leave NotBefore out of the bearer confirmation; it belongs into the conditions",
			"SAML Profiles 4.1.4.2")
	}
}

// bearer returns the SubjectConfirmationData of the bearer confirmation that is judged: of several, the first that
// holds, for one is enough (SAML Core, section 2.4.1.1); where none does, the one for this recipient, else the first.
func (j *judging) bearer() *etree.Element {
	if j.confirmed != nil {
		return j.confirmed
	}
	var best *etree.Element
	most := -1
	for c := range xmlsec.All(xmlsec.Child(j.assertion, NSAssertion, "Subject"), NSAssertion, "SubjectConfirmation") {
		d := xmlsec.Child(c, NSAssertion, "SubjectConfirmationData")
		if xmlsec.Attr(c, "Method") != methodBearer || d == nil {
			continue
		}
		if n := j.holds(d); n > most {
			best, most = d, n
		}
	}
	j.confirmed = best
	return best
}

// holds counts what is right about a bearer confirmation, its recipient before all else.
func (j *judging) holds(d *etree.Element) int {
	n := 0
	if slices.Contains(j.ACS, xmlsec.Attr(d, "Recipient")) {
		n += 4
	}
	if !xmlsec.HasAttr(d, "NotBefore") {
		n++
	}
	if t, err := readTime(d, "NotOnOrAfter"); err == nil && t != nil && j.Now.Before(t.Add(j.Skew)) {
		n++
	}
	if in := xmlsec.Attr(d, "InResponseTo"); in == j.RequestID || !j.CheckRequest && in == j.InResponseTo {
		n++
	}
	return n
}

// conditions refuses a condition that is not understood (SAML Core, section 2.5.1.1), and another version of assertion.
func (j *judging) conditions() {
	judgeFrame(&j.Findings, finding.SAMLShape, j.assertion, finding.Provider, "SAML Core 2.3.3")
	all := xmlsec.Children(j.assertion, NSAssertion, "Conditions")
	if len(all) > 1 {
		j.fail(finding.SAMLCondition, "conditions", fmt.Sprintf("%d Conditions elements", len(all)), "at most one",
			finding.Provider, "send one Conditions element", "SAML Core 2.3.3")
		return
	}
	for _, cond := range all {
		for c := range xmlsec.Elements(cond) {
			if xmlsec.Is(c, NSAssertion, "AudienceRestriction") || xmlsec.Is(c, NSAssertion, "OneTimeUse") ||
				xmlsec.Is(c, NSAssertion, "ProxyRestriction") {
				continue
			}
			saw := "<" + c.FullTag() + ">"
			if t := typeOf(c); t != "" {
				saw += " of type " + t
			}
			j.fail(finding.SAMLCondition, "conditions", saw, "conditions of SAML 2.0 alone", finding.Provider,
				"take the condition out for this app: it must be refused, since nobody knows whether it holds",
				"SAML Core 2.5.1.1")
		}
	}
}

// typeOf is the xsi:type of an element.
func typeOf(el *etree.Element) string {
	for _, a := range el.Attr {
		if a.Space != "" && a.Key == "type" {
			return a.Value
		}
	}
	return ""
}

// window judges all times of the assertion at once.
func (j *judging) window() {
	var from, until time.Time
	bad := func(what string, err error) {
		j.fail(finding.SAMLTime, "times of the assertion", err.Error(), what, finding.Provider, "send times in UTC",
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
	if !take(cond, "NotBefore", true) || !take(cond, "NotOnOrAfter", false) ||
		!take(data, "NotOnOrAfter", false) || !take(st, "SessionNotOnOrAfter", false) ||
		!take(j.assertion, "IssueInstant",
			true) {
		return
	}
	if data != nil && !xmlsec.HasAttr(data, "NotOnOrAfter") {
		j.fail(finding.SAMLTime, "times of the assertion", "no NotOnOrAfter in the subject confirmation",
			"a time at which it ends",
			finding.Provider, "set the provider to the Web Browser SSO profile", "SAML Profiles 4.1.4.2")
		return
	}
	window := stamp(from) + " to " + stamp(until)
	skewed := func() string { return fmt.Sprintf("within %s, clocks may differ by %s", window, spanWords(j.Skew)) }
	switch {
	case j.Now.Add(j.Skew).Before(from):
		j.fail(finding.SAMLTimeEarly, "time window",
			fmt.Sprintf("it is %s, %s too early", stamp(j.Now), spanWords(from.Sub(j.Now))),
			skewed(), finding.Clock, "set the clocks of the provider and the app by NTP; the provider's is ahead",
			"SAML Core 2.5.1")
	case !until.IsZero() && !j.Now.Before(until.Add(j.Skew)):
		j.fail(finding.SAMLTimeLate, "time window",
			fmt.Sprintf("it is %s, %s too late", stamp(j.Now), spanWords(j.Now.Sub(until))),
			skewed(), finding.Clock, "sign in again; if it happens on a fresh sign-in, set the clocks of both sides "+
				"by NTP",
			"SAML Core 2.5.1")
	default:
		j.Findings.Pass(finding.SAMLTime, "time window", window)
	}
}

// span writes a duration in words.
func spanWords(d time.Duration) string {
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
		compare(&j.Findings, finding.SAMLAudience, "audience", "", []string{j.App}, finding.Provider,
			"set the audience for this app at the provider to %s", "SAML Profiles 4.1.4.2")
		return
	}
	for i, r := range rs {
		var all []string
		ok := false
		for a := range xmlsec.All(r, NSAssertion, "Audience") {
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
		compare(&j.Findings, finding.SAMLAudience, "audience", saw, []string{j.App}, finding.Provider,
			"set the audience for this app at the provider to %s", "SAML Core 2.5.1.4")
		return
	}
}

func (j *judging) authn() {
	st := xmlsec.Child(j.assertion, NSAssertion, "AuthnStatement")
	if st == nil {
		j.fail(finding.SAMLAuthn, "authentication statement", "none", "one AuthnStatement", finding.Provider,
			"set the provider to the Web Browser SSO profile", "SAML Profiles 4.1.4.2")
		return
	}
	j.SessionIndex = xmlsec.Attr(st, "SessionIndex")
	if l := xmlsec.Child(st, NSAssertion, "SubjectLocality"); l != nil {
		j.Locality = strings.TrimSpace(xmlsec.Attr(l, "Address") + " " + xmlsec.Attr(l, "DNSName"))
		j.Findings.Pass(finding.SAMLLocality, "where the person signed in, as the provider says", j.Locality)
	}
	for _, a := range xmlsec.Children(xmlsec.Child(st, NSAssertion, "AuthnContext"), NSAssertion,
		"AuthenticatingAuthority") {
		j.Authorities = append(j.Authorities, xmlsec.Text(a))
	}
	if len(j.Authorities) > 0 {
		j.Findings.Pass(finding.SAMLAuthority, "who signed the person in, as the provider says",
			strings.Join(j.Authorities, ", "))
	}
	j.Context = xmlsec.Text(xmlsec.Path(st, NSAssertion, "AuthnContext", "AuthnContextClassRef"))
	if len(j.Contexts) == 0 {
		j.Findings.Pass(finding.SAMLStrength, "authentication strength", ShortName(j.Context))
		return
	}
	want := make([]string, len(j.Contexts))
	for i, c := range j.Contexts {
		if c == j.Context {
			j.Findings.Pass(finding.SAMLStrength, "authentication strength", ShortName(j.Context))
			return
		}
		want[i] = ShortName(c)
	}
	j.fail(finding.SAMLStrength, "authentication strength", ShortName(j.Context), strings.Join(want, " or "),
		finding.Person,
		"sign in with a second factor; if that was done, set the provider to say so in AuthnContextClassRef",
		"SAML Core 3.3.2.2.1")
}

func (j *judging) attributes() {
	for st := range xmlsec.All(j.assertion, NSAssertion, "AttributeStatement") {
		if j.Attributes == nil {
			j.Attributes = make([]Attribute, 0, len(st.Child))
		}
		for a := range xmlsec.Elements(st) {
			if xmlsec.Is(a, NSAssertion, "EncryptedAttribute") {
				el, ok := j.decrypt(a, "Attribute")
				if !ok {
					continue
				}
				a = el
			}
			if xmlsec.Is(a, NSAssertion, "Attribute") {
				j.attribute(a)
			}
		}
	}
	if len(j.Wanted) > 0 {
		judgeWanted(&j.Findings, j.Wanted, j.Attributes, j.Advise, "")
	}
}

// attribute takes an attribute with its values as they stand.
func (j *judging) attribute(a *etree.Element) {
	at := Attribute{Name: xmlsec.Attr(a, "Name"), Format: xmlsec.Attr(a, "NameFormat"),
		Friendly: xmlsec.Attr(a, "FriendlyName"), Values: make([]string, 0, len(a.Child))}
	for v := range xmlsec.All(a, NSAssertion, "AttributeValue") {
		text := xmlsec.Value(v)
		if hasElements(v) && strings.TrimSpace(text) == "" {
			if kids := v.ChildElements(); len(kids) == 1 {
				text = xmlsec.Value(kids[0]) // a NameID as value
			}
		}
		j.spaces("attribute ", at.Name, text)
		at.Values = append(at.Values, text)
	}
	j.Attributes = append(j.Attributes, at)
}

// Satisfies reports whether an attribute is the wanted one: equal names, and equal formats where both sides name one.
func Satisfies(w Wanted, a Attribute) bool {
	if w.Name != a.Name {
		return false
	}
	f, g := w.Format, a.Format
	return f == g || f == "" || g == "" || f == NameFormatUnspecified || g == NameFormatUnspecified
}

// JudgeWanted compares what an app wants with what it gets: one finding for each wanted attribute. advise says what
// to do about one that is missing; nil gives no more than words. far names a foreign provider of which got is what is
// assumed, "" where got is all that is sent: what a foreign provider sends beside is not known, and neither wrong.
func JudgeWanted(wanted []Wanted, got []Attribute, advise func(Wanted) finding.Remedy, far string) finding.List {
	out := make(finding.List, 0, len(wanted))
	judgeWanted(&out, wanted, got, advise, far)
	return out
}

func judgeWanted(out *finding.List, wanted []Wanted, got []Attribute, advise func(Wanted) finding.Remedy, far string) {
	for i := range wanted {
		w := &wanted[i]
		at := slices.IndexFunc(got, func(a Attribute) bool { return Satisfies(*w, a) && len(a.Values) > 0 })
		if at >= 0 {
			out.Pass(finding.ClaimsWanted, "wanted attribute "+w.Label(), strings.Join(got[at].Values, ", "))
			continue
		}
		f := finding.Finding{ID: finding.ClaimsWanted, Level: finding.Note, Check: "wanted attribute " + w.Label(),
			Of: w.Name, Saw: "not sent", Expected: w.Name, Side: finding.Provider, Ref: "SAML Metadata 2.4.4.2",
			Fix: finding.Do("release it to the app under the name that it reads")}
		if advise != nil {
			f.Fix = advise(*w)
		}
		names, missing := namesOf(got), true
		if n := near.Names(w.Name, names); len(n) == 0 && w.Friendly != "" {
			names2 := near.Names(w.Friendly, names)
			if missing = len(names2) == 0; !missing {
				f.Saw = fmt.Sprintf("wants `%s`, gets `%s`", w.Label(), names2[0])
			}
		} else if len(n) > 0 {
			missing = false
			f.Saw = fmt.Sprintf("wants `%s`, gets `%s`", w.Name, n[0])
			if n[0] == w.Name {
				f.Saw = fmt.Sprintf("`%s` with another NameFormat, or without a value", w.Name)
			}
		}
		if w.Required {
			f.ID, f.Level = finding.ClaimsRequired, finding.Error
			f.Check = "required attribute " + w.Label()
		}
		if missing && far != "" {
			f.ID, f.Level = finding.ClaimsNotKnown, finding.Note
			f.Saw = "not known: no rule says whether " + far + " sends it, and under which name"
			f.Fix = finding.Do("watch a sign-in to see what arrives, or ask its owner and enter it").Then(f.Fix)
		}
		out.Add(f)
	}
}

// namesOf returns what attributes are called, friendly names included.
func namesOf(got []Attribute) []string {
	names := make([]string, 0, 2*len(got))
	for _, a := range got {
		names = append(names, a.Name)
		if a.Friendly != "" && a.Friendly != a.Name {
			names = append(names, a.Friendly)
		}
	}
	return names
}

// request judges InResponseTo, in the response and in the subject confirmation: both name the request, or neither where
// none was sent (SAML Profiles, sections 4.1.4.2 and 4.1.4.3).
func (j *judging) request() {
	saw, want := j.InResponseTo, j.RequestID
	if !j.CheckRequest {
		want = saw // which request was sent is not known; that both say the same can be seen
	}
	if j.assertion != nil && saw == want {
		if d := j.bearer(); d != nil && xmlsec.Attr(d, "InResponseTo") != want {
			j.notAnswering(xmlsec.Attr(d, "InResponseTo"), want, " in the subject confirmation")
			return
		}
	}
	switch {
	case saw == "" && want == "" && j.AllowUnsolicited:
		j.Findings.Pass(finding.SAMLInResponseTo, "answer to a request", "unsolicited, as this trust allows")
	case saw == "" && want == "":
		j.failWith(finding.SAMLUnsolicited, "answer to a request", "an unsolicited response",
			"an answer to a request of the app", finding.Both, finding.Do("start the sign-in at the app").
				Or(named(j.Trust, "allow such responses", "trust", "change", j.Trust, "--unsolicited", "allow")),
			"SAML Profiles 4.1.5")
	case saw != want:
		j.notAnswering(saw, want, "")
	case j.CheckRequest:
		j.Findings.Pass(finding.SAMLInResponseTo, "answer to a request", saw)
	}
}

func (j *judging) notAnswering(saw, want, where string) {
	if want == "" {
		want = "no InResponseTo: no request was sent"
	}
	fix := "start the sign-in at the app again in one browser; a link that was kept or sent on does not work"
	side := finding.Sender
	if saw == "" {
		saw, side = "none", finding.Provider
		fix = "set the provider to name the request in InResponseTo, in the Response and in the SubjectConfirmationData"
	}
	j.fail(finding.SAMLInResponseTo, "answer to a request", saw+where, want, side, fix, "SAML Core 3.2.2")
}

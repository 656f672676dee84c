package stage

import (
	"encoding/base64"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage/cast"
)

// stopAt has the browser follow redirects until one leads to an address, and returns that one.
func (x *set) stopAt(from, at string) *url.URL {
	x.t.Helper()
	follow := x.client.CheckRedirect
	defer func() { x.client.CheckRedirect = follow }()
	x.client.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if strings.HasPrefix(r.URL.String(), at) {
			return http.ErrUseLastResponse
		}
		return nil
	}
	resp, err := x.client.Get(from)
	if err != nil {
		x.t.Fatal(err)
	}
	resp.Body.Close()
	to, err := resp.Location()
	if err != nil {
		x.t.Fatalf("%s leads nowhere: %v", from, err)
	}
	return to
}

// TestLogoutAnswersOfOthers has an app asked to end its session, and answers come that it did not give: one without a
// signature, one of another participant, one to another request. None of them counts; the app's own does, once.
func TestLogoutAnswersOfOthers(t *testing.T) {
	x := newSet(t, beside(true))
	x.in()
	plates, to, q, err := x.askedToEnd()
	if err != nil || len(q.Sessions) != 1 {
		t.Fatalf("plates is not told which session ends: %+v, %v", q, err)
	}
	at := x.deal().Provider.Party.Entity.IDP.SLO[1].Location
	answer := func(issuer, to string, s *xmlsec.Signer) answerPage {
		a := &saml.LogoutResponse{ID: x.s.ID(), InResponseTo: to, Issuer: issuer, Destination: at, IssueInstant: now,
			Status: saml.Status{Top: saml.StatusSuccess}}
		b, err := a.Bytes(s)
		if err != nil {
			t.Fatal(err)
		}
		return x.read(x.client.PostForm(at, url.Values{"SAMLResponse": {base64.StdEncoding.EncodeToString(b)}}))
	}
	for _, c := range []struct {
		name, issuer, to string
		by               *xmlsec.Signer
		want             string
	}{
		{"without a signature", plates.AppID(), q.ID, nil, "logout.signature.missing"},
		{"of another participant", x.deal().AppID(), q.ID, signer(), "logout.in-response-to"},
		{"to another request", plates.AppID(), "_other", signer(), "logout.in-response-to"},
	} {
		p := answer(c.issuer, c.to, c.by)
		if p.status != 403 || !slices.Equal(lastErrors(x.running), []string{c.want}) {
			t.Errorf("%s: %d, %v: %s", c.name, p.status, lastErrors(x.running), leadOf(p.text))
		}
	}
	if p := x.follow(x.get(to.String())); p.Title != "Signed out" || !strings.Contains(p.text, "here and at Ridge") {
		t.Errorf("the app's own answer: %s, %v, %s", p.Title, lastErrors(x.running), leadOf(p.text))
	}
	if p := answer(plates.AppID(), q.ID, signer()); p.status != 403 {
		t.Errorf("the answer is taken a second time: %d", p.status)
	}
}

// TestLogoutOfOneBrowser ends the session of one browser, and not that of another one of the same person.
func TestLogoutOfOneBrowser(t *testing.T) {
	x := newSet(t, beside(true))
	x.in()
	first := x.client
	x.client = browser(t)
	x.in()
	second := x.client
	x.client = first
	if p := x.follow(x.get(x.deal().App.Home + "sign-out")); p.Title != "Signed out" {
		t.Fatalf("%s", p.text)
	}
	if apps, asked := x.whoIsIn(); len(apps) != 0 || !asked {
		t.Errorf("the browser that signed out is in at %v, the provider asks: %t", apps, asked)
	}
	x.client = second
	if apps, asked := x.whoIsIn(); len(apps) != 3 || asked {
		t.Errorf("the other browser is in at %v, the provider asks: %t", apps, asked)
	}
}

// TestLogoutOfAnotherName asks to end the session of somebody whose name differs in its format or a qualifier: it is
// nobody's.
func TestLogoutOfAnotherName(t *testing.T) {
	x := newSet(t, beside(true))
	x.in()
	plates, to, was, err := x.askedToEnd()
	if err != nil {
		t.Fatal(err)
	}
	for _, change := range []func(*saml.LogoutRequest){
		func(q *saml.LogoutRequest) { q.NameID.Format = saml.FormatEmail },
		func(q *saml.LogoutRequest) { q.NameID.NameQualifier = "https://other.example/metadata" },
		func(q *saml.LogoutRequest) { q.NameID.SPNameQualifier = "https://other.example/saml" },
	} {
		q := *was
		q.ID = x.s.ID()
		change(&q)
		b, err := q.Bytes(signer())
		if err != nil {
			t.Fatal(err)
		}
		at := plates.App.Party.Entity.SP.SLO[1].Location
		x.read(x.client.PostForm(at, url.Values{"SAMLRequest": {base64.StdEncoding.EncodeToString(b)}}))
		if x.get(plates.App.Home).Title != "Signed in" {
			t.Fatalf("%+v ended a session", q.NameID)
		}
	}
	x.follow(x.get(to.String()))
	if x.get(plates.App.Home).Title == "Signed in" {
		t.Error("the name that the app knows ended none")
	}
}

// askedToEnd signs out at the first app, and returns the second, where it is asked, and what.
func (x *set) askedToEnd() (*cast.SAML, *url.URL, *saml.LogoutRequest, error) {
	plates := x.s.Cast().SAML[1]
	to := x.stopAt(x.deal().App.Home+"sign-out", plates.App.Party.Entity.SP.SLO[0].Location)
	c, err := saml.DecodeRedirect(to.RawQuery)
	if err != nil {
		return nil, nil, nil, err
	}
	doc, err := xmlsec.Parse(c.XML, xmlsec.MessageLimits())
	if err != nil {
		return nil, nil, nil, err
	}
	q, err := saml.ReadLogoutRequest(doc.Root())
	return plates, to, q, err
}

// inside replaces the NameID of a message, or puts a Subject behind its Issuer, by the name encrypted to the key of
// everybody here, and signs it.
func (x *set) inside(message []byte, name saml.Subject) []byte {
	x.t.Helper()
	id := xmlsec.New("saml:NameID", "xmlns:saml", saml.NSAssertion, "Format", name.Format, "NameQualifier",
		name.NameQualifier, "SPNameQualifier", name.SPNameQualifier)
	id.SetText(name.Value)
	data, err := xmlsec.Encrypt(signer().Rand, id, signer().Certificate, "")
	if err != nil {
		x.t.Fatal(err)
	}
	box := xmlsec.New("saml:EncryptedID", "xmlns:saml", saml.NSAssertion)
	box.AddChild(data)
	doc, err := xmlsec.Parse(message, xmlsec.MessageLimits())
	if err != nil {
		x.t.Fatal(err)
	}
	root := doc.Root()
	if plain := xmlsec.Child(root, saml.NSAssertion, "NameID"); plain != nil {
		root.InsertChildAt(plain.Index(), box)
		root.RemoveChild(plain)
	} else {
		s := xmlsec.New("saml:Subject", "xmlns:saml", saml.NSAssertion)
		s.AddChild(box)
		root.InsertChildAt(xmlsec.Child(root, saml.NSAssertion, "Issuer").Index()+1, s)
	}
	if err := signer().Sign(root, xmlsec.Child(root, saml.NSAssertion, "Issuer")); err != nil {
		x.t.Fatal(err)
	}
	return xmlsec.Serialize(root)
}

// TestEncryptedNames has people named by what only the receiver reads: an app asks for the sign-in of the one who is
// signed in and of somebody else, ends a session, and is asked to end one.
func TestEncryptedNames(t *testing.T) {
	x := newSet(t, beside(true))
	x.in()
	d := x.deal()
	idp := d.Provider.Party.Entity.IDP
	c, err := saml.DecodeRedirect(x.stopAt(d.App.Home+"sign-out", idp.SLO[0].Location).RawQuery)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := xmlsec.Parse(c.XML, xmlsec.MessageLimits())
	if err != nil {
		t.Fatal(err)
	}
	was, err := saml.ReadLogoutRequest(doc.Root())
	if err != nil {
		t.Fatal(err)
	}
	mira, other := was.NameID, was.NameID
	other.Value = "somebody else"
	send := func(at string, message []byte) answerPage {
		return x.read(x.client.PostForm(at, url.Values{"SAMLRequest": {base64.StdEncoding.EncodeToString(message)}}))
	}
	post := idp.SSO[slices.IndexFunc(idp.SSO, func(e saml.Endpoint) bool { return e.Binding == saml.BindingPOST })]
	for name, want := range map[saml.Subject]string{mira: saml.StatusSuccess, other: saml.StatusUnknownPrincipal} {
		r := &saml.AuthnRequest{ID: x.s.ID(), Issuer: d.AppID(), Destination: post.Location,
			ACS: d.App.Party.Entity.SP.ACS[0].Location, IssueInstant: now}
		b, err := r.Bytes(nil)
		if err != nil {
			t.Fatal(err)
		}
		p := send(post.Location, x.inside(b, name))
		got, _ := base64.StdEncoding.DecodeString(p.Fields.Get("SAMLResponse"))
		if !strings.Contains(string(got), want) {
			t.Errorf("%s: %d %s, %v, want %s", name.Value, p.status, leadOf(p.text), lastErrors(x.running), want)
		}
	}
	x.client = browser(t)
	x.in()
	plates, _, q, err := x.askedToEnd()
	if err != nil {
		t.Fatal(err)
	}
	b, err := q.Bytes(nil)
	if err != nil {
		t.Fatal(err)
	}
	x.follow(send(plates.App.Party.Entity.SP.SLO[1].Location, x.inside(b, q.NameID)))
	if apps, _ := x.whoIsIn(); slices.Contains(apps, "plates") {
		t.Errorf("still in at %v: %v", apps, lastErrors(x.running))
	}
	x.client = browser(t)
	x.in()
	was.ID, was.Sessions, was.Destination = x.s.ID(), nil, idp.SLO[1].Location
	if b, err = was.Bytes(nil); err != nil {
		t.Fatal(err)
	}
	x.follow(send(was.Destination, x.inside(b, mira)))
	if _, asked := x.whoIsIn(); !asked {
		t.Errorf("the provider knows the session still: %v", lastErrors(x.running))
	}
}

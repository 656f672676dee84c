package probe

import (
	"context"
	"encoding/base64"
	"net/url"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// over is what differs by the protocol of a trust: the one place where it is chosen.
func over(t *federation.Trust) protocol {
	switch terms := t.Terms.Terms.(type) {
	case *federation.OIDCTerms:
		return &overOIDC{terms}
	case *federation.SAMLTerms:
		return &overSAML{terms}
	}
	return nil
}

type overSAML struct{ terms *federation.SAMLTerms }

func (o *overSAML) endpoints(j *job) []endpoint {
	var out []endpoint
	if r := j.provider.Entity.IDP; r != nil {
		for _, binding := range []string{saml.BindingRedirect, saml.BindingPOST} {
			e, ok := saml.EndpointFor(r.SSO, binding)
			switch {
			case ok && len(out) == 0:
				out = append(out, endpoint{"sign-on service", e.Location, j.provider,
					binding == saml.BindingPOST})
			case ok && out[0].at != e.Location:
				out = append(out, endpoint{"sign-on service, HTTP-POST", e.Location, j.provider, true})
			}
		}
	}
	if r := j.app.Entity.SP; r != nil {
		if e, ok := saml.EndpointFor(r.ACS, saml.BindingPOST); ok {
			out = append(out, endpoint{"assertion consumer service", e.Location, j.app, true})
		}
	}
	return out
}

func (o *overSAML) published(p *federation.Party) (at, what string) {
	return strings.TrimSuffix(p.At, "/") + "/metadata", "metadata"
}

func (o *overSAML) start(j *job) string { return j.app.StartLink() }

func (o *overSAML) authenticates(*job) (secret, token bool) { return false, false }

func (o *overSAML) isRequest(at *url.URL, form url.Values) bool {
	return form.Has("SAMLRequest") || at.Query().Has("SAMLRequest")
}

// knows sends a passive request: a provider that knows the app and where nobody is signed in answers the app that it
// would have to ask (SAML Core, section 3.4.1), or shows its sign-in page.
func (o *overSAML) knows(ctx context.Context, j *job) {
	if j.provider.Own || j.provider.Entity.IDP == nil || j.app.Entity.SP == nil {
		return
	}
	check := "whether " + j.provider.Name + " knows " + j.app.Name
	sso, ok := saml.EndpointFor(j.provider.Entity.IDP.SSO, saml.BindingRedirect, saml.BindingPOST)
	if !ok {
		j.skip(check, "it takes requests neither by HTTP-Redirect nor by HTTP-POST")
		return
	}
	acs, _ := saml.EndpointFor(j.app.Entity.SP.ACS, saml.BindingPOST)
	var signer *xmlsec.Signer
	if o.terms.SignsRequests && j.app.Own {
		var err error
		if signer, err = j.p.SignerOf(j.app); err != nil {
			j.skip(check, "the key that signs requests of "+j.app.Name+" cannot be opened: "+err.Error())
			return
		}
	}
	own := j.request
	if o.terms.SignsRequests && !j.app.Own && own.at == "" {
		j.skip(check, "its requests are signed with a key that only "+j.app.Name+" has; with its start link in the "+
			"ledger its own request can be shown to the provider")
		return
	}
	if own.at == "" {
		var err error
		if own, err = o.request(j, sso, j.app.Entity.ID, acs.Location, signer); err != nil {
			j.skip(check, err.Error())
			return
		}
	}
	toApp := func(u *url.URL, form url.Values) bool {
		return form.Has("SAMLResponse") && strings.HasPrefix(u.String(), acs.Location)
	}
	if own.form == nil {
		j.keep("request", own.at)
	} else {
		j.keep("request", own.form.Encode())
	}
	a, led, form, err := j.follow(ctx, j.provider, own, toApp)
	if err != nil {
		j.trouble(finding.ProbeKnows, check, sso.Location, j.provider, err)
		return
	}
	stranger := heard{reply: denied, id: "https://nobody.invalid/" + j.id()}
	if other, err := o.request(j, sso, stranger.id, acs.Location, signer); err == nil {
		b, there, _, err := j.follow(ctx, j.provider, other, toApp)
		if err == nil {
			stranger.reply, stranger.text = replyOf(b, there != nil), b.text()
		}
	}
	j.answered[j.provider.Name] = true
	words := a.words()
	if led != nil {
		words = o.answer(j, form)
	}
	j.recognised(heard{replyOf(a, led != nil), words, a.text(), j.app.Entity.ID,
		finding.FactEntityID, a.title()}, stranger)
	if j.out.Known == known {
		o.tries(ctx, j, sso, acs.Location, toApp, replyOf(a, led != nil))
	}
}

func (j *job) id() string {
	v, err := federation.RandomID(j.p.Rand)
	if err != nil {
		return "_0"
	}
	return v
}

// request is a passive request of an app, by the binding of the service that it is sent to.
func (o *overSAML) request(j *job, sso saml.Endpoint, issuer, acs string, signer *xmlsec.Signer) (ask, error) {
	q := &saml.AuthnRequest{ID: j.id(), Issuer: issuer, Destination: sso.Location, ACS: acs, IssueInstant: j.p.Now(),
		IsPassive: true,
		Policy:    &saml.NameIDPolicy{Format: j.t.SubjectFormat, AllowCreate: true}}
	if sso.Binding == saml.BindingPOST {
		b, err := q.Bytes(signer)
		return ask{sso.Location, url.Values{"SAMLRequest": {base64.StdEncoding.EncodeToString(b)}}}, err
	}
	b, err := q.Bytes(nil)
	if err != nil {
		return ask{}, err
	}
	at, err := saml.EncodeRedirect(sso.Location, "SAMLRequest", b, "", signer)
	return ask{at: at}, err
}

// answer says what the provider answered the app. That a sign-in would be needed is what it should; all else is a
// finding.
func (o *overSAML) answer(j *job, form url.Values) string {
	j.keep("response", form.Encode())
	c, err := saml.DecodePOST(form)
	if err != nil {
		return "an answer to the app that cannot be read"
	}
	doc, err := xmlsec.Parse(c.XML, xmlsec.MessageLimits())
	if err != nil {
		return "an answer to the app that cannot be read"
	}
	s := saml.ReadStatus(doc.Root())
	if s.Sub == saml.StatusNoPassive || s.Top == saml.StatusSuccess {
		return "it answers the app that nobody is signed in"
	}
	j.add(finding.Finding{ID: finding.ProbeAnswer, Level: finding.Error, Check: "what " + j.provider.Name + " answers",
		Saw: s.Words(), Expected: "that a sign-in is needed (NoPassive)", Side: finding.Provider,
		Fix: finding.Do("compare what the provider has of the app with the handoff").
			Then(finding.Run("handoff", j.t.Name, "--for", "provider")), Ref: "SAML Core 3.2.2.2"})
	return "it answers the app: " + s.Words()
}

func (o *overSAML) secret(context.Context, *job) {}

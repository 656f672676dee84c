package inspect

import (
	"cmp"
	"crypto"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

// inspectJWT explains a JWT. With a ledger it says which provider's key verifies it and what it may do; with a trust it
// judges it as the client (an ID token) or the API (an access token) would.
func (d *Inspector) inspectJWT(in Input, text string) (*Inspection, error) {
	head, body, err := oidc.Peek(text)
	if err != nil {
		return nil, fmt.Errorf("%w: it looks like a JWT: %v", ErrUnrecognised, err)
	}
	v := &Inspection{Kind: "JWT", Trust: in.Trust}
	switch {
	case accessType(head):
		v.Kind = "JWT, an access token"
	case typed(head, oidc.TypeProof):
		v.Kind = "JWT, a DPoP proof"
	case isRequest(head, body):
		v.Kind = "JWT, a request object"
	case body["nonce"] != nil || body["at_hash"] != nil:
		v.Kind = "JWT, an ID token"
	}
	for _, f := range [][3]string{{"header alg", head.Alg, "algorithm of the signature"}, {"header kid", head.Kid,
		"which key signed it"}, {"header typ", head.Typ, "what kind of token it is"},
		{"header jku", head.JKU, "where the sender says its keys are: never followed"}, {"header x5u", head.X5U,
			"where the sender says its certificate is: never followed"}} {
		if f[1] != "" {
			v.Explained = append(v.Explained, f)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(body)) {
		val, meaning := claimWords(k, body[k], in.At)
		v.Explained = append(v.Explained, [3]string{k, val, meaning})
	}
	switch {
	case typed(head, oidc.TypeProof):
		proofOf(v, in, text, body)
		return v, nil
	case isRequest(head, body):
		return v, d.judgeObject(v, in, text, body)
	}
	if d.Known() {
		if err := d.mayDo(v, body); err != nil {
			return nil, err
		}
	}
	if in.Trust != "" {
		return v, d.judgeToken(v, in, text, head, body)
	}
	if strings.EqualFold(head.Alg, "none") {
		v.Findings.Add(finding.Finding{ID: finding.JWTAlgNone, Level: finding.Error, Check: "algorithm", Saw: "none",
			Expected: "a signature",
			Side:     finding.Sender, Fix: finding.Do("refuse it"), Ref: "RFC 8725 3.1"})
	}
	if exp, ok := oidc.Moment(body, "exp"); ok && in.At.After(exp) {
		v.Findings.Add(finding.Finding{ID: finding.JWTExpired, Level: finding.Warning, Check: "exp", Saw: when(exp),
			Expected: "a time to come", Side: finding.Clock, Fix: finding.Do("get a fresh one"), Ref: "RFC 7519 4.1.4"})
	}
	return v, d.verifiedBy(v, text, head, body)
}

// typed reports whether a header names a type (RFC 7515, section 4.1.9).
func typed(h oidc.Header, as string) bool {
	return strings.TrimPrefix(strings.ToLower(h.Typ), "application/") == as
}

func accessType(h oidc.Header) bool { return typed(h, "at+jwt") }

// isRequest reports whether a JWT holds an authorization request (RFC 9101, section 4), by its type or by what is in
// it.
func isRequest(h oidc.Header, body map[string]any) bool {
	return typed(h, oidc.TypeRequest) || body["client_id"] != nil && (body["response_type"] != nil ||
		body["redirect_uri"] != nil)
}

// proofOf judges a DPoP proof as far as it can be by itself: its shape, the signature by the key that it brings, and
// when it was made.
func proofOf(v *Inspection, in Input, text string, body map[string]any) {
	method, at := oidc.Text(body, "htm"), oidc.Text(body, "htu")
	e := oidc.ProofExpect{Method: cmp.Or(method, "the method of the request"), Now: in.At}
	if at == "" {
		e.URL = "the address of the request"
	}
	p := oidc.JudgeProof(text, e)
	v.fact("For", strings.TrimSpace(method+" "+at))
	v.Trust = "" // no trust has a part in it
	v.Verdict, v.Findings = judge.Refused, p.Findings
	if p.Error == nil {
		v.Verdict = judge.Accepted
		v.fact("Proves", "whoever made it has the private key of the one in its header, and nothing else")
		v.fact("Key", p.JKT)
	}
	v.NotChecked = append(v.NotChecked, "the request that it came with", "whether it was used before",
		"the token or code that is bound to its key")
}

// judgeObject judges a request object as the authorization endpoint of a trust would.
func (d *Inspector) judgeObject(v *Inspection, in Input, text string, body map[string]any) error {
	id := oidc.Text(body, "client_id")
	if in.Trust == "" {
		name := "APP@PROVIDER"
		for _, s := range d.federated() {
			if id != "" && s.trust.ClientID() == id {
				name = s.trust.Name
			}
		}
		v.Findings.Add(finding.Finding{ID: finding.InspectUnjudged, Level: finding.Note, Check: "judgement",
			Saw: "nothing was verified", Expected: "a trust to judge by", Side: finding.Ledger,
			Fix: finding.Run("inspect", "FILE", "--trust", name)})
		return nil
	}
	r, doc, err := d.registered(in.Trust, "a request object")
	if err != nil {
		return err
	}
	j := oauth.JudgeAuthorization(url.Values{"client_id": {id}, "request": {text}}, r,
		oauth.RequestExpect{Doc: doc, Now: in.At})
	v.Verdict, v.Findings, v.NotChecked = j.Verdict, j.Findings, append(j.NotChecked, "what was sent beside it")
	return nil
}

// verifiedBy says which key of the ledger verifies a token, if one does.
func (d *Inspector) verifiedBy(v *Inspection, text string, head oidc.Header, body map[string]any) error {
	note := finding.Finding{ID: finding.InspectUnjudged, Level: finding.Note, Check: "signature", Saw: "not verified",
		Expected: "a key of the issuer", Side: finding.Ledger, Fix: finding.Do("trust nothing of it on this showing")}
	iss := oidc.Text(body, "iss")
	p, keys, err := d.issuer(iss)
	if err != nil {
		return err
	}
	if p == nil {
		if of, err := d.stagedBy(text, iss); err != nil || of != nil {
			if err == nil {
				v.Findings.Add(ofStage(finding.TokenSignature, "signature", of))
			}
			return err
		}
		if d.Known() && iss != "" {
			note.Saw = "not verified: no provider in the ledger has the issuer " + iss
		}
		v.Findings.Add(note)
		return nil
	}
	for _, f := range oidc.Verify(text, keys) {
		if f.Level != finding.Pass {
			v.Findings.Add(f)
			continue
		}
		v.Findings.Pass(f.ID, f.Check, f.Saw+" of "+p.Name)
		v.Findings.Add(finding.Finding{ID: finding.InspectUnjudged, Level: finding.Note, Check: "judgement",
			Saw: "the signature alone was verified", Expected: "a trust to judge by",
			Side: finding.Ledger, Fix: finding.Run("inspect", "FILE", "--trust", "APP@"+p.Name)})
	}
	return nil
}

// issuer finds the provider of an issuer, and its keys.
func (d *Inspector) issuer(iss string) (*federation.Party, []oidc.Key, error) {
	if !d.Known() || iss == "" {
		return nil, nil, nil
	}
	all, err := d.View.Parties(federation.Provider)
	if err != nil {
		return nil, nil, err
	}
	for i := range all {
		if doc := all[i].OpenIDOf(); doc != nil && doc.Issuer == iss {
			keys, err := tokenKeys(&all[i])
			return &all[i], keys, err
		}
	}
	return nil, nil, nil
}

// tokenKeys are the keys with which a provider's tokens are verified: those of its signing certificates where it is
// own, else those that it published.
func tokenKeys(p *federation.Party) ([]oidc.Key, error) {
	if !p.Own {
		if p.OpenID == nil {
			return nil, fmt.Errorf("%s has no OpenID side in the ledger; read it with `tressik provider change %s "+
				"--issuer URL`",
				p.Name, p.Name)
		}
		list, _, err := oidc.ReadKeys([]byte(p.OpenID.JWKS), finding.Provider)
		return list, err
	}
	return keysOf(p.TokenSigners())
}

// keysOf are public keys as those of a JWKS.
func keysOf(list []crypto.PublicKey) ([]oidc.Key, error) {
	var out []oidc.Key
	for _, pub := range list {
		id, err := oidc.KeyID(pub)
		if err != nil {
			return nil, err
		}
		out = append(out, oidc.Key{ID: id, Alg: oidc.Algorithm(pub), Public: pub})
	}
	return out, nil
}

// mayDo says in words what the scopes of a token let its bearer do.
func (d *Inspector) mayDo(v *Inspection, body map[string]any) error {
	apis, err := d.View.APIs()
	if err != nil {
		return err
	}
	names, _ := oidc.Scope(oidc.Text(body, "scope"))
	for _, n := range names {
		if s, ok := oidc.Standard(n); ok {
			v.fact("May", n+": "+s.Says)
			continue
		}
		says := "a permission that no API in the ledger publishes"
		for _, name := range slices.Sorted(maps.Keys(apis)) {
			if x := apis[name].API.Find(n); x != nil &&
				slices.Contains(oidc.Texts(body, "aud"), apis[name].API.Audience) {
				says = x.Says + " (" + name + ")"
			}
		}
		v.fact("May", n+": "+says)
	}
	if id := oidc.Text(body, "client_id"); id != "" && id == oidc.Text(body, "sub") {
		v.fact("Acts", "as itself: sub is the client ID")
	} else if len(names) > 0 {
		v.fact("Acts", "on behalf of the user in sub")
	}
	return nil
}

// judgeToken judges a token as the receiving side of a trust would.
func (d *Inspector) judgeToken(v *Inspection, in Input, text string, head oidc.Header, body map[string]any) error {
	t, app, provider, err := d.Trust(in.Trust)
	if err != nil {
		return err
	}
	terms, over := t.OIDC()
	if !over {
		return otherProtocol(t, "a token")
	}
	if err := t.Registered(); err != nil {
		return err
	}
	keys, err := tokenKeys(provider)
	if err != nil {
		return err
	}
	client := *app.ClientSide()
	client.MaxAge = 0 // whether this sign-in was asked for with one cannot be known from the token
	issuer := provider.OpenIDOf().Issuer
	iss := oidc.Text(body, "iss")
	staged, err := d.staged(text, iss, provider)
	if err != nil {
		return err
	}
	if staged != nil { // judged as if it were at the ledger's address, so that what else is wrong with it is seen
		keys, issuer = staged, iss
	}
	e := federation.TokenExpectation(t, terms, app, &client, issuer, provider.Name, keys, in.At)
	var j *oidc.TokenJudgement
	if accessType(head) {
		var who string
		if e.Audience, who, err = d.audienceOf(t, body, e.Issuer); err != nil {
			return err
		}
		v.fact("Judged as", who+" would")
		e.ClientID = terms.ClientID
		j = oidc.JudgeAccessToken(text, e)
	} else {
		v.fact("Judged as", "the client "+app.Name+" would")
		j = oidc.JudgeIDToken(text, e)
		j.Tell()
		err = d.promised(in, &j.Judgement, j.Claims,
			func(r *federation.Releaser, p *people.Person) map[string][]string {
				return r.ClaimTexts(p, federation.ScopesOf(terms), true)
			})
		if err != nil {
			return err
		}
	}
	if staged != nil {
		j.Findings = append(finding.List{ofStage(finding.TokenSignature, "signature", provider)}, j.Findings...)
		j.Settle()
	}
	v.Verdict, v.Findings, v.Subject, v.NotChecked = j.Verdict, j.Findings, j.Subject, j.NotChecked
	v.Key = federation.KeyID(j.Signed)
	v.Claims = map[string][]string{}
	for k, x := range j.Body {
		v.Claims[k] = oidc.Words(x)
	}
	return nil
}

// audienceOf is the audience that an access token of a trust is judged for: that of the API which it names, of those
// that the trust asks for, else the first of them, else the provider itself.
func (d *Inspector) audienceOf(t *federation.Trust, body map[string]any, issuer string) (audience, who string,
	err error) {
	apis, err := d.View.APIs()
	if err != nil {
		return "", "", err
	}
	audience, who = issuer, "the userinfo endpoint of "+t.Provider
	first := true
	for _, a := range t.OIDCTerms().Asks {
		p := apis[a.API]
		if p == nil {
			continue
		}
		if slices.Contains(oidc.Texts(body, "aud"), p.API.Audience) {
			return p.API.Audience, "the API " + p.Name, nil
		}
		if first && !slices.Contains(oidc.Texts(body, "aud"), issuer) {
			audience, who, first = p.API.Audience, "the API "+p.Name, false
		}
	}
	return audience, who, nil
}

// claimWords writes a claim's value, times in words, and what the claim means (RFC 7519, section 4.1; OpenID Connect
// Core, sections 2 and 5.1; RFC 9068, section 2.2).
func claimWords(name string, v any, now time.Time) (value, meaning string) {
	meanings := map[string]string{"iss": "who issued it", "sub": "whom it is about",
		"aud": "whom it is for: others refuse it", "exp": "it expires", "iat": "it was issued",
		"nbf": "not valid before", "jti": "its own ID", "nonce": "ties it to the request",
		"azp": "the client it was issued to", "acr": "how strongly the person was authenticated",
		"amr": "by which methods", "auth_time": "the person signed in", "at_hash": "ties it to its access token",
		"c_hash": "ties it to its code", "sid": "the session at the provider",
		"client_id": "the client that it is of", "scope": "what it may do", "name": "full name",
		"family_name": "family name", "given_name": "given name",
		"preferred_username": "user name", "email": "mail address",
		"email_verified": "whether the provider verified it",
		"phone_number":   "telephone number",
		"address":        "postal address", "locale": "language", "zoneinfo": "time zone",
		"cnf": "the key that its bearer must prove", "htm": "the method of the request that it goes with",
		"htu": "the address of the request that it goes with", "ath": "ties it to its access token"}
	meaning = meanings[name]
	switch name {
	case "exp", "iat", "nbf", "auth_time", "updated_at":
		if t, ok := oidc.Moment(map[string]any{name: v}, name); ok {
			return when(t) + ", " + ago(t, now), meaning
		}
		meaning += "; it should be a number of seconds"
	}
	switch x := v.(type) {
	case string:
		return x, meaning
	case []any:
		return strings.Join(oidc.Words(x), ", "), meaning
	}
	b, _ := json.Marshal(v) // it came out of JSON
	return string(b), meaning
}

func ago(t, now time.Time) string {
	d := t.Sub(now).Round(time.Second)
	word := func(d time.Duration) string {
		switch {
		case d < 2*time.Minute:
			return fmt.Sprintf("%d seconds", int(d.Seconds()))
		case d < 2*time.Hour:
			return fmt.Sprintf("%d minutes", int(d.Minutes()))
		case d < 48*time.Hour:
			return fmt.Sprintf("%d hours", int(d.Hours()))
		}
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	}
	switch {
	case d == 0:
		return "now"
	case d > 0:
		return "in " + word(d)
	}
	return word(-d) + " ago"
}

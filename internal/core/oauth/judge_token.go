package oauth

import (
	"crypto/sha256"
	"crypto/subtle"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// AssertionType is the client_assertion_type of private_key_jwt (RFC 7523, section 2.2).
const AssertionType = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"

// TokenRequest is a request to the token endpoint or one like it: its form, and the Authorization header.
type TokenRequest struct {
	Form          url.Values
	Authorization string // the header as it came; "" is none
	ID, Secret    string // of a Basic header, as they came
	Basic         bool
	Method        string              // of HTTP
	Proofs        []string            // DPoP headers, as they came
	Chain         []*x509.Certificate // with which the client connected, its own first; none: without
}

// ClientID is the client that a request says it comes from: of the header, the form or the assertion.
func (t *TokenRequest) ClientID() string {
	id := t.Form.Get("client_id")
	if t.Basic {
		if v, err := url.QueryUnescape(t.ID); err == nil { // RFC 6749, section 2.3.1
			id = v
		}
	}
	if a := t.Form.Get("client_assertion"); a != "" && id == "" {
		if _, claims, err := oidc.Peek(a); err == nil {
			id = oidc.Text(claims, "sub")
		}
	}
	return id
}

// TokenExpect is what the token endpoint knows when it judges a request.
type TokenExpect struct {
	Doc  *oidc.Discovery
	Now  time.Time
	Once func(id string, until time.Time) bool // reports and remembers the ID of an assertion; nil: not judged
	Tell func(id string)                       // gets the ID of the secret that was used, or of the key; may be nil
	// Nonce reports whether the nonce of a DPoP proof is one that is taken; nil: none is asked for
	Nonce func(string) bool
	// FormAlone says that nothing but the form is known, as of a message that was captured
	FormAlone bool
}

// TokenJudgement is the outcome of judging a token request.
type TokenJudgement struct {
	judge.Judgement
	Public bool // the client has nothing to authenticate with
	// Credential is the ID of the secret or the key by which it did; "" where the ledger has none
	Credential string
	Bound      Confirmation // to what the tokens are to be bound
	Error      *oidc.Error  // the first thing that is wrong; nil where the request is accepted
}

// JudgeTokenRequest judges a token request as far as no state is needed: how the client authenticates, whether its kind
// may use the grant, and the parameters that the grant needs (RFC 6749, sections 2.3, 4.1.3, 4.4 and 6; RFC 7636,
// section 4.5). r is nil where no client has the ID.
func JudgeTokenRequest(t *TokenRequest, r *Registered, e TokenExpect) *TokenJudgement {
	j := &TokenJudgement{Judgement: judge.Judgement{Kind: "token request"}}
	grant := t.Form.Get("grant_type")
	if j.Error = knownGrant(grant); j.Error == nil {
		tell := e.Tell
		e.Tell = func(id string) {
			if j.Credential = id; tell != nil {
				tell(id)
			}
		}
		j.Public, j.Error = Authenticate(t, r, e)
	}
	if j.Error == nil {
		j.Error = j.grant(t, r, grant)
	}
	if j.Error == nil {
		j.Error = j.bind(t, r, e.Doc.TokenEndpoint, e)
	}
	if j.Error != nil {
		fix := (&Registered{}).Remedy
		if r != nil {
			fix = r.Remedy
		}
		f := refusal("token request", j.Error, fix(j.Error), "RFC 6749 5.2")
		j.Findings.Add(f)
	} else {
		j.Findings.Pass(finding.OAuthTokenRequest, "token request", grant+" by "+r.Terms.ClientID)
	}
	j.Settle()
	return j
}

func knownGrant(grant string) *oidc.Error {
	switch grant {
	case "authorization_code", "refresh_token", "client_credentials", DeviceGrant:
		return nil
	case "":
		return oidc.Fail(oidc.InvalidRequest, "grant_type is missing")
	case "password":
		return oidc.Fail(oidc.UnsupportedGrantType,
			"the password grant hands people's passwords to apps, which RFC 9700 rules out; use authorization_code "+
				"with PKCE")
	}
	return oidc.Fail(oidc.UnsupportedGrantType,
		"grant_type "+grant+" is not known; authorization_code, refresh_token, client_credentials and that of "+
			"device authorization are")
}

func (j *TokenJudgement) grant(t *TokenRequest, r *Registered, grant string) *oidc.Error {
	kind, grants := r.Client.Kind, r.Terms.Policy.Grants(r.Client.Kind)
	if !slices.Contains(grants, grant) {
		hint := ""
		if grant == "client_credentials" && kind == oidc.Web {
			hint = "; the trust can let it act as itself too (policy as-itself), or add a machine client to the " +
				"ledger for it"
		}
		return oidc.Fail(oidc.UnauthorizedClient,
			fmt.Sprintf("a %s client does not use grant_type=%s; it uses %s", kind, grant,
				strings.Join(grants, ", "))+hint)
	}
	switch grant {
	case "authorization_code":
		j.NotChecked = append(j.NotChecked, "whether the code was issued, to this client, and is good")
		return codeParameters(t.Form, mayOmitPKCE(r))
	case "refresh_token":
		j.NotChecked = append(j.NotChecked, "whether the refresh token was issued, to this client, and is good")
		if t.Form.Get("refresh_token") == "" {
			return oidc.Fail(oidc.InvalidRequest, "refresh_token is missing")
		}
		return nil
	}
	if grant == DeviceGrant {
		j.NotChecked = append(j.NotChecked, "whether the device code was issued, to this client, and somebody agreed")
		if t.Form.Get("device_code") == "" {
			return oidc.Fail(oidc.InvalidRequest, "device_code is missing")
		}
		return nil
	}
	_, _, e := selfAsks(r, t.Form)
	return e
}

// mayOmitPKCE reports whether a client may do without PKCE: a web client that authenticates, where its trust says so.
func mayOmitPKCE(r *Registered) bool {
	return r.Terms.Policy.PKCEOff && !r.Terms.Policy.Hardened() && r.Client.Kind == oidc.Web
}

func codeParameters(form url.Values, pkceOff bool) *oidc.Error {
	switch verifier := form.Get("code_verifier"); {
	case form.Get("code") == "":
		return oidc.Fail(oidc.InvalidRequest, "code is missing")
	case !form.Has("redirect_uri"):
		return oidc.Fail(oidc.InvalidRequest, "redirect_uri is missing; send the one of the authorization request")
	case verifier == "" && pkceOff:
	case verifier == "":
		return oidc.Fail(oidc.InvalidRequest, "code_verifier is missing: PKCE protects every code")
	case !isVerifier(verifier):
		return oidc.Fail(oidc.InvalidRequest,
			"code_verifier must have 43 to 128 characters of A-Z, a-z, 0-9, '-', '.', '_' and '~' (RFC "+
				"7636, section 4.1)")
	}
	return nil
}

// isVerifier reports whether a code verifier has the form of RFC 7636, section 4.1.
func isVerifier(v string) bool {
	for _, c := range v {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("-._~", c)) {
			return false
		}
	}
	return len(v) >= 43 && len(v) <= 128
}

// Authenticate judges how a client authenticates (RFC 6749, section 2.3; RFC 7523, section 3). public is true for a
// client that has nothing to authenticate with. r is nil where no client has the ID.
func Authenticate(t *TokenRequest, r *Registered, e TokenExpect) (public bool, err *oidc.Error) {
	bad := func(why string) (bool, *oidc.Error) { return false, oidc.Fail(oidc.InvalidClient, why) }
	secret, ways, form := "", 0, t.Form
	id := t.ClientID()
	if t.Basic {
		ways++
		var err1, err2 error
		_, err1 = url.QueryUnescape(t.ID)
		secret, err2 = url.QueryUnescape(t.Secret)
		if err1 != nil || err2 != nil {
			return bad("client ID and secret must be form-encoded before they go into the Authorization header")
		}
	} else if t.Authorization != "" {
		return bad("the Authorization header is no Basic one")
	}
	if form.Has("client_secret") {
		ways++
		secret = form.Get("client_secret")
	}
	asserts := form.Has("client_assertion") || form.Has("client_assertion_type")
	used := AuthOf(t, r)
	own := r.isOwn(secret) // the stage's own stand-in
	if asserts {
		ways++
	}
	switch {
	case ways > 1:
		return false, oidc.Fail(oidc.InvalidRequest, "the client authenticates in more than one way; use one")
	case t.Basic && form.Has("client_id") && form.Get("client_id") != id:
		return false, oidc.Fail(oidc.InvalidRequest,
			"client_id in the body is another than in the Authorization header")
	case id == "":
		return bad("the request does not say which client sends it: neither client_id nor an Authorization header does")
	case r == nil || r.Terms.ClientID != id:
		return bad(fmt.Sprintf("no client with the ID '%s' is registered here", id))
	case !r.Terms.Policy.MayAuthenticate(used) && !own && !r.Client.Kind.Public() && !(e.FormAlone && used == ""):
		if used == "" {
			used = "none"
		}
		return bad(fmt.Sprintf("policy client-auth of %s: the client authenticates with %s, not with %s", r.Trust.Name,
			strings.Join(r.Terms.Policy.Auths(), " or "), used))
	case asserts:
		return false, assertion(form, r, id, e)
	case t.Basic || form.Has("client_secret"):
		if r.Client.Kind.Public() {
			return bad(fmt.Sprintf("%s is a %s client, which has no secret; send client_id alone, PKCE "+
				"protects the code",
				r.App.Name, r.Client.Kind))
		}
		return false, r.checkSecret(secret, e)
	case r.Client.Kind.Public():
		return true, nil
	case used == federation.AuthTLS || used == federation.AuthSelfSigned:
		return false, r.certificate(t.Chain, e.Now)
	}
	return bad(fmt.Sprintf("%s is a %s client and must authenticate: with its secret (basic or in the body), with "+
		"private_key_jwt or by its certificate",
		r.App.Name, r.Client.Kind))
}

// isOwn reports whether a secret is that of the stage's own stand-in of the client.
func (r *Registered) isOwn(secret string) bool {
	return r != nil && r.Own != nil && r.Own.Secret != "" &&
		subtle.ConstantTimeCompare([]byte(secret), []byte(r.Own.Secret)) == 1
}

// AuthOf names the way in which a request authenticates its client; "" is none. A certificate counts where nothing else
// comes and the client has one.
func AuthOf(t *TokenRequest, r *Registered) string {
	switch {
	case t.Form.Has("client_assertion"):
		return federation.AuthKey
	case t.Basic:
		return federation.AuthBasic
	case t.Form.Has("client_secret"):
		return federation.AuthPost
	case len(t.Chain) > 0:
		return r.byCertificate()
	}
	return ""
}

func assertion(form url.Values, r *Registered, id string, e TokenExpect) *oidc.Error {
	if form.Get("client_assertion_type") != AssertionType {
		return oidc.Fail(oidc.InvalidClient, "client_assertion_type must be "+AssertionType)
	}
	if len(r.verify()) == 0 {
		return oidc.Fail(oidc.InvalidClient, r.Trust.Name+" has no client key")
	}
	once := e.Once
	if once == nil {
		once = func(string, time.Time) bool { return true }
	}
	audiences := present(e.Doc.Issuer, e.Doc.TokenEndpoint, e.Doc.IntrospectionEndpoint, e.Doc.RevocationEndpoint,
		e.Doc.PushedEndpoint, e.Doc.DeviceEndpoint) // RFC 9126, section 2: what serves one serves all
	if err := r.signs("the client assertion", form.Get("client_assertion")); err != nil {
		return err
	}
	if r.Terms.Policy.Hardened() { // FAPI 2.0 Security Profile, section 5.3.2.1
		audiences = audiences[:1]
	}
	by, err := oidc.JudgeAssertion(form.Get("client_assertion"), id, audiences,
		r.verify(), e.Now,
		func(jti string) bool { return !once(id+" "+jti, e.Now.Add(2*time.Hour)) })
	if err == nil && e.Tell != nil {
		if kid, err := oidc.KeyID(by); err == nil {
			e.Tell(kid)
		}
	}
	return err
}

// signs refuses what is signed by an algorithm that the profile of a trust rules out.
func (r *Registered) signs(what, token string) *oidc.Error {
	p := r.Terms.Policy
	if h, _, err := oidc.Peek(token); err == nil && !p.Signs(h.Alg) {
		return oidc.Fail(oidc.InvalidClient, "profile "+p.Profile+" of "+r.Trust.Name+": "+what+" is signed with "+
			h.Alg+"; "+strings.Join(federation.HardenedAlgorithms(), ", ")+" are taken")
	}
	return nil
}

// present are the values that are there.
func present(list ...string) []string {
	return slices.DeleteFunc(list, func(s string) bool { return s == "" })
}

// checkSecret compares a secret with those of the registration, in constant time for each.
func (r *Registered) checkSecret(secret string, e TokenExpect) *oidc.Error {
	if r.isOwn(secret) {
		return nil
	}
	sum := sha256.Sum256([]byte(secret))
	hash := []byte(hex.EncodeToString(sum[:]))
	for i := range r.Secrets {
		x := &r.Secrets[i]
		if subtle.ConstantTimeCompare(hash, []byte(x.Hash)) != 1 {
			continue
		}
		const layout = "2006-01-02 15:04 UTC"
		switch x.Standing(e.Now) {
		case "valid":
			if e.Tell != nil {
				e.Tell(x.ID)
			}
			return nil
		case "expired":
			return oidc.Fail(oidc.InvalidClient,
				fmt.Sprintf("the secret %s expired %s", x.ID, x.Expires.UTC().Format(layout)))
		}
		return oidc.Fail(oidc.InvalidClient, fmt.Sprintf("the secret %s was retired %s; use a newer one", x.ID,
			x.Retired.UTC().Format(layout)))
	}
	for i := range r.Secrets {
		if r.Secrets[i].ID == secret {
			return oidc.Fail(oidc.InvalidClient,
				secret+" is the ID of a secret, not the secret itself, which was shown once "+
					"when it was made")
		}
	}
	return oidc.Fail(oidc.InvalidClient, "this is no secret of "+r.Trust.Name)
}

// selfAsks are the permissions and the resources of a token that a client asks for as itself (RFC 6749, section 4.4).
func selfAsks(r *Registered, form url.Values) ([]federation.Ask, []string, *oidc.Error) {
	resource := form["resource"]
	asks, e := askedFor(form, r, federation.AsSelf)
	if e != nil {
		return nil, nil, e
	}
	if len(asks) == 0 {
		var waiting []string
		for _, a := range r.Terms.Asks {
			if a.As != federation.AsSelf {
				continue
			}
			if !r.Granted(a, "") {
				waiting = append(waiting, a.Label())
			} else if len(resource) == 0 ||
				slices.ContainsFunc(resource, func(res string) bool { return r.IsAPI(a.API, res) }) {
				asks = append(asks, a)
			}
		}
		switch {
		case len(asks) == 0 && len(waiting) > 0:
			return nil, nil, oidc.Fail(oidc.InvalidScope,
				"an administrator has not consented yet to "+strings.Join(waiting, ", "))
		case len(asks) == 0:
			return nil, nil, oidc.Fail(oidc.InvalidScope, r.Trust.Name+" asks for no permission as itself")
		}
	}
	for _, a := range asks {
		if !r.Granted(a, "") {
			return nil, nil, oidc.Fail(oidc.InvalidScope, "an administrator has not consented yet to "+a.Label())
		}
	}
	return asks, resource, nil
}

package federation

import (
	"cmp"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// Releaser works out what a trust sends for a person.
type Releaser struct {
	trust   *Trust
	key     SubjectKey
	rules   *claims.Release
	subject *claims.Program
	rand    io.Reader
	service *saml.Service // nil: whatever the rules say
}

// SubjectKey is what a trust's pseudonyms are made from besides the person's own key. Neither part ever changes, so
// that no edit of a party, a person or the trust makes anybody a stranger to the app.
type SubjectKey struct {
	Salt   []byte // 256 random bits of the trust
	Anchor string // a fixed name: for trusts of older ledgers the app's entity ID as it was then
	// Carried are the subjects by which the app knew people before, by the person's own key
	Carried map[string]string `json:"-"`
}

// NewReleaser compiles the claims of a trust. Errors: *claims.CompileError.
func NewReleaser(e *claims.Engine, t *Trust, key SubjectKey, rand io.Reader) (*Releaser, error) {
	rules, err := e.Prepare(t.Rules)
	if err != nil {
		return nil, err
	}
	r := &Releaser{trust: t, key: key, rules: rules, rand: rand}
	if expr := t.SubjectExpression(); expr != "" {
		if r.subject, err = e.Compile(expr); err != nil {
			return nil, fmt.Errorf("subject: %w", err)
		}
	}
	return r, nil
}

// Subject returns the name identifier for a person (SAML Core, section 8.3).
func (r *Releaser) Subject(p *people.Person) (saml.Subject, error) {
	s, err := r.subjectOf(p)
	if err != nil {
		return s, err
	}
	if err := r.trust.Terms.carries(s.Value); err != nil {
		return s, fmt.Errorf("no subject for %s from %s: %w", p.ID, r.trust.SubjectExpression(), err)
	}
	return s, nil
}

func (r *Releaser) subjectOf(p *people.Person) (saml.Subject, error) {
	s := saml.Subject{Format: r.trust.SubjectFormat}
	if v, carried := r.key.Carried[p.SubjectKey()]; carried {
		s.Value = v
		return s, nil
	}
	switch {
	case r.subject != nil:
		v, err := r.subject.Evaluate(p, r.Pairwise(p))
		if err == nil && len(v) != 1 {
			err = fmt.Errorf("it yields %d values where one is needed; first(…) takes the first", len(v))
		}
		if err != nil {
			return s, fmt.Errorf("no subject for %s from %s: %w", p.ID, r.trust.SubjectExpression(), err)
		}
		s.Value = v[0]
	case r.trust.SubjectFormat == saml.FormatTransient:
		id, err := RandomID(r.rand)
		if err != nil {
			return s, err
		}
		s.Value = id
	default:
		s.Value = r.Pairwise(p)
	}
	return s, nil
}

// Pairwise is the name of a person at the app of the trust alone: it is made from the trust's own key, so that no two
// apps can tell by it that they know the same person (SAML Core, section 8.3.7; OpenID Connect Core, section 8.1).
func (r *Releaser) Pairwise(p *people.Person) string {
	m := hmac.New(sha256.New, r.key.Salt)
	io.WriteString(m, p.SubjectKey()+"\x00"+r.key.Anchor)
	return hex.EncodeToString(m.Sum(nil)[:20])
}

// SubjectOf returns the value of a person's subject.
func (r *Releaser) SubjectOf(p *people.Person) (string, error) {
	s, err := r.Subject(p)
	return s.Value, err
}

// Serving is the releaser for a request that asks for a service of the app by its index (SAML Core, section 3.4.1): of
// what the rules release that service gets what it wishes. An index that the app's metadata does not have, and "",
// release whatever the rules say.
func (r *Releaser) Serving(app *Party, index string) *Releaser {
	s := app.Entity.SP.ServiceOf(index)
	if s == nil {
		return r
	}
	c := *r
	c.service = s
	return &c
}

// Attributes returns what is released for a person, and the rules that release nothing with the reason.
func (r *Releaser) Attributes(p *people.Person) ([]saml.Attribute, []claims.Gap) {
	out, gaps := r.rules.For(p, r.Pairwise(p))
	out = slices.DeleteFunc(out, func(a saml.Attribute) bool {
		for _, texts := range [][]string{{a.Name, a.Friendly}, a.Values} {
			for _, v := range texts {
				if err := r.trust.Terms.carries(v); err != nil {
					gaps = append(gaps, claims.Gap{Claim: cmp.Or(a.Friendly, a.Name), Reason: err.Error()})
					return true
				}
			}
		}
		return false
	})
	if r.service == nil {
		return out, gaps
	}
	return slices.DeleteFunc(out, func(a saml.Attribute) bool { return !r.service.Takes(a) }), gaps
}

// RandomID makes an ID of 160 random bits that is an xs:ID (SAML Core, section 1.3.4).
func RandomID(rand io.Reader) (string, error) {
	b := make([]byte, 20)
	if _, err := io.ReadFull(rand, b); err != nil {
		return "", fmt.Errorf("reading randomness: %w", err)
	}
	return "_" + hex.EncodeToString(b), nil
}

// Expectation is what the app of a trust expects of a response, from the ledger alone. census is of the people of the
// ledger, for the advice.
func Expectation(t *Trust, terms *SAMLTerms, app, provider *Party, census people.Census,
	now time.Time) saml.Expect {
	e := saml.Expect{App: app.Entity.ID, Provider: provider.Entity.ID, AllowUnsolicited: terms.Unsolicited,
		AllowSHA1: terms.AllowSHA1, Trust: t.Name, AppName: app.Name, ProviderName: provider.Name,
		OwnProvider: provider.Own, WantEncrypted: terms.Encrypts, RefusePlain: terms.PlainRefused,
		Contexts: t.Contexts(), Speaks: t.Vouching(app, provider),
		Scopes: provider.Entity.AllScopes(provider.Entity.IDP),
		Now:    now, Skew: judge.Skew}
	if sp := app.Entity.SP; sp != nil {
		e.WantAssertionsSigned = sp.WantAssertionsSigned
		e.Wanted, e.Advise = sp.Wanted, AdviseWanted(t, census)
		if !provider.Own {
			e.Advise = adviseForeign(t, provider, app, census, e.Advise)
		}
		for _, a := range sp.ACS {
			if a.Binding == saml.BindingPOST {
				e.ACS = append(e.ACS, a.Location)
			}
		}
	}
	if idp := provider.Entity.IDP; idp != nil {
		all, _ := idp.SigningKeys()
		e.Keys = t.Known("app", all)
		e.Until = provider.Entity.Until(idp)
	}
	return e
}

// JudgeClaims says of wanted attributes which a person would get and which not: those of the service of the app that is
// asked for by its index, and for "" those of the default one, with what others of its services require besides.
func JudgeClaims(t *Trust, app, provider *Party, service string, got []saml.Attribute,
	persons people.Census) finding.List {
	if app.Entity.SP == nil {
		return nil
	}
	far := ""
	if !provider.Own {
		far = provider.Name
		for _, a := range t.Brought.attributes() { // a rule goes before: it was entered
			if !slices.ContainsFunc(got, func(x saml.Attribute) bool { return x.Name == a.Name }) {
				got = append(slices.Clip(got), a)
			}
		}
	}
	sp := app.Entity.SP
	advise := AdviseWanted(t, persons)
	if service != "" {
		if s := sp.ServiceOf(service); s != nil {
			return saml.JudgeWanted(s.Wanted, got, advise, far)
		}
	}
	out := saml.JudgeWanted(sp.Wanted, got, advise, far)
	for _, s := range sp.Services {
		if s.Default {
			continue
		}
		for _, f := range saml.JudgeWanted(s.Wanted, got, advise, far) {
			// what the default one wishes too is told already, and whether the app asks for another is not known
			if f.ID == finding.ClaimsRequired && !slices.ContainsFunc(out, func(x finding.Finding) bool {
				return x.ID == f.ID && x.Of == f.Of
			}) {
				f.Level = finding.Warning
				f.Check += ", where the app asks for the service " + s.Label()
				f.Of += " of the service " + strconv.Itoa(s.Index)
				out.Add(f)
			}
		}
	}
	return out
}

// Claims returns the claims of a person for the scopes that were granted (OpenID Connect Core, sections 5.1 and 5.4):
// the rules of the trust, then for the standard claims of the scopes what the person's attributes hold. A rule for a
// standard claim counts where its scope was granted; other rules always do. own asks for the rules alone, as an ID
// token has them.
func (r *Releaser) Claims(p *people.Person, scopes []string, own bool) map[string]any {
	out := map[string]any{}
	attrs, _ := r.rules.For(p, r.Pairwise(p))
	for i, a := range attrs {
		name := a.Friendly
		if name == "" {
			name = a.Name
		}
		s := oidc.ScopeOfClaim(name)
		if s == "openid" || reserved(name) || s != "" && !slices.Contains(scopes, s) {
			continue
		}
		out[name] = oidcValue(name, attrs[i].Values)
	}
	if own {
		return out
	}
	for _, c := range standardClaims() {
		if _, set := out[c.Claim]; set || !slices.Contains(scopes, c.Scope) {
			continue
		}
		for _, at := range c.From {
			if v := p.Attributes[at]; len(v) > 0 {
				out[c.Claim] = oidcValue(c.Claim, v[:1])
				break
			}
		}
	}
	if _, set := out["email_verified"]; !set && out["email"] != nil {
		// the organisation's own directory vouches for its addresses, unless it says otherwise
		v := p.Attributes["emailVerified"]
		out["email_verified"] = len(v) == 0 || strings.EqualFold(v[0], "true")
	}
	return out
}

// StandardClaim is a claim of a scope that is sent without a rule: what the person's attributes hold (OpenID Connect
// Core, sections 5.1 and 5.4).
type StandardClaim struct {
	Claim string   `json:"claim"`
	Scope string   `json:"scope"`
	From  []string `json:"from"` // attributes, of which the first counts that the person has
}

func standardClaims() []StandardClaim {
	out := []StandardClaim{{Claim: "name", From: []string{"displayName", "cn"}}, {Claim: "family_name",
		From: []string{"sn"}}, {Claim: "given_name", From: []string{"givenName"}}, {Claim: "preferred_username",
		From: []string{"uid"}}, {Claim: "locale", From: []string{"preferredLanguage"}}, {Claim: "website",
		From: []string{"labeledURI"}}, {Claim: "email", From: []string{"mail"}}, {Claim: "phone_number",
		From: []string{"telephoneNumber", "mobile"}}, {Claim: "address", From: []string{"postalAddress"}}}
	for i := range out {
		out[i].Scope = oidc.ScopeOfClaim(out[i].Claim)
	}
	return out
}

// Unruled are the claims that the scopes of a trust bring although it has no rule for them; none over SAML.
func (t *Trust) Unruled() (out []StandardClaim) {
	for _, c := range standardClaims() {
		asked := slices.ContainsFunc(t.Asks(), func(a Ask) bool { return a.API == "" && a.Name == c.Scope })
		if _, _, ruled := t.RuleFor(c.Claim); asked && !ruled {
			out = append(out, c)
		}
		if verified := "email_verified"; c.Claim == "email" && asked {
			if _, _, ruled := t.RuleFor(verified); !ruled {
				out = append(out, StandardClaim{verified, c.Scope, []string{"emailVerified"}})
			}
		}
	}
	return out
}

// Reserved reports whether a claim is one that the provider alone sets.
func Reserved(claim string) bool { return reserved(claim) }

// reserved are the claims that the provider alone sets.
func reserved(claim string) bool {
	return slices.Contains([]string{"iss", "sub", "aud", "exp", "iat", "nbf", "jti", "nonce", "acr", "amr", "azp",
		"auth_time", "at_hash", "c_hash", "sid", "client_id", "scope"}, claim)
}

// oidcValue gives a claim its type (OpenID Connect Core, section 5.1): text, a list, true or false, an address object.
func oidcValue(claim string, values []string) any {
	switch claim {
	case "email_verified", "phone_number_verified":
		return values[0] == "true"
	case "address":
		return map[string]string{"formatted": strings.ReplaceAll(values[0], "$", "\n")}
	case "updated_at":
		n, _ := strconv.ParseInt(values[0], 10, 64)
		return n
	}
	if len(values) == 1 || oidc.ScopeOfClaim(claim) != "" { // standard claims are one text each
		return values[0]
	}
	return values
}

package federation

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

// Difference is one thing that a party publishes otherwise than before.
type Difference struct {
	What  string `json:"what"` // in an administrator's words
	Was   string `json:"was"`  // "" where there was nothing
	Now   string `json:"now"`  // "" where there is nothing any more
	Trust bool   `json:"trust"`
	// it is of a validity alone, for which the signature of a known signer speaks
	Validity bool `json:"-"`
}

// Words says the difference in one line.
func (d *Difference) Words() string {
	switch {
	case d.Was == "":
		return d.What + " is new: " + d.Now
	case d.Now == "":
		return d.What + " is gone: " + d.Was
	}
	return d.What + ": " + d.Was + " → " + d.Now
}

// TouchTrust reports whether any of the differences touches what trust rests on: keys, entity ID or issuer, hosts,
// algorithms, scopes, what a registry says of an entity, a validity that went back, or a demand that was given up.
// signed says that a signer who is known vouches for who submitted it: that speaks for a validity, and for nothing else
// of this.
func TouchTrust(list []Difference, signed bool) bool {
	return slices.ContainsFunc(list, func(d Difference) bool { return d.Trust && !(signed && d.Validity) })
}

// Differences compares what a foreign party published before with what it publishes now.
func Differences(old, now *Party) []Difference {
	c := &comparing{}
	c.entity(&old.Entity, &now.Entity)
	switch {
	case old.OpenID == nil && now.OpenID == nil:
	case old.OpenID == nil:
		c.add("the OpenID side", "", now.OpenID.Discovery.Issuer, false)
	case now.OpenID == nil:
		c.add("the OpenID side", old.OpenID.Discovery.Issuer, "", true)
	default:
		c.openID(old.OpenID, now.OpenID)
	}
	return c.out
}

type comparing struct{ out []Difference }

func (c *comparing) add(what, was, now string, trust bool) {
	if was != now {
		c.out = append(c.out, Difference{What: what, Was: was, Now: now, Trust: trust})
	}
}

// sets compares two lists without their order: each value that is new, and each that is gone.
func (c *comparing) sets(what string, was, now []string, added, gone func(string) bool) {
	for _, v := range now {
		if !slices.Contains(was, v) {
			c.add(what, "", v, added(v))
		}
	}
	for _, v := range was {
		if !slices.Contains(now, v) {
			c.add(what, v, "", gone(v))
		}
	}
}

func always(trust bool) func(string) bool { return func(string) bool { return trust } }

func (c *comparing) entity(old, now *saml.Entity) {
	c.add("entity ID", old.ID, now.ID, old.ID != "" && now.ID != "")
	c.until("validity of the metadata", old.ValidUntil, now.ValidUntil)
	for _, r := range []struct {
		name     string
		old, now *saml.Role
	}{{"provider", old.IDP, now.IDP}, {"app", old.SP, now.SP}} {
		switch {
		case r.old == nil && r.now == nil:
		case r.old == nil:
			c.add("the role of a SAML "+r.name, "", "published", false)
		case r.now == nil:
			c.add("the role of a SAML "+r.name, "published", "", true)
		default:
			c.role(r.old, r.now)
		}
	}
	c.add("name of the organisation", orgOf(old), orgOf(now), false)
	c.sets("contact", contactsOf(old), contactsOf(now), always(false), always(false))
	if !old.Extended || !now.Extended {
		return // it was not read then, and is not known to be new
	}
	c.add("registrar", old.Registrar, now.Registrar, true)
	c.sets("scope", scopesOf(old.Scopes), scopesOf(now.Scopes), always(true), always(false))
	c.sets("entity attribute", attributesOf(old), attributesOf(now), always(true), always(true))
	for _, r := range [][2]*saml.Role{{old.IDP, now.IDP}, {old.SP, now.SP}} {
		if r[0] != nil && r[1] != nil {
			c.extensions(r[0], r[1])
		}
	}
}

// extensions compares what a role says of itself beside the protocol: domains, and what people are shown.
func (c *comparing) extensions(old, now *saml.Role) {
	c.sets("scope", scopesOf(old.Scopes), scopesOf(now.Scopes), always(true), always(false))
	hosts := hostsOf(append(endpointsOf(old), old.ErrorURL, old.UI.Privacy, old.UI.Information, old.Start))
	for _, l := range old.UI.Logos {
		hosts = append(hosts, hostOf(l.URL))
	}
	elsewhere := func(v string) bool { return v != "" && !slices.Contains(hosts, hostOf(v)) }
	for _, x := range [][3]string{{"address of its privacy statement", old.UI.Privacy, now.UI.Privacy},
		{"address of information about it", old.UI.Information, now.UI.Information}} {
		c.add(x[0], x[1], x[2], elsewhere(x[2]))
	}
	c.sets("logo", logosOf(old), logosOf(now), elsewhere, always(false))
	c.sets("name for people", namesOf(old), namesOf(now), always(false), always(false))
	for _, s := range now.Services {
		if had := old.ServiceAt(s.Index); had != nil {
			c.sets(fmt.Sprintf("attribute wanted by the service %d", s.Index), wishesOf(had.Wanted), wishesOf(s.Wanted),
				always(false), always(false))
		} else {
			c.add("service", "", fmt.Sprintf("%d, %s", s.Index, s.Name), false)
		}
	}
	for _, s := range old.Services {
		if now.ServiceAt(s.Index) == nil {
			c.add("service", fmt.Sprintf("%d, %s", s.Index, s.Name), "", false)
		}
	}
}

func scopesOf(list []saml.Scope) (out []string) {
	for _, s := range list {
		out = append(out, s.Words())
	}
	return out
}

func attributesOf(e *saml.Entity) (out []string) {
	for _, a := range e.Attributes {
		for _, v := range a.Values {
			out = append(out, a.Name+" = "+v)
		}
	}
	return out
}

func logosOf(r *saml.Role) (out []string) {
	for _, l := range r.UI.Logos {
		out = append(out, fmt.Sprintf("%d × %d, %s", l.Width, l.Height, l.URL))
	}
	return out
}

func namesOf(r *saml.Role) (out []string) {
	for _, n := range r.UI.Names {
		out = append(out, n.Lang+": "+n.Text)
	}
	return out
}

func orgOf(e *saml.Entity) string {
	if e.Organization == nil {
		return ""
	}
	return e.Organization.DisplayName
}

func contactsOf(e *saml.Entity) []string {
	var out []string
	for _, c := range e.Contacts {
		out = append(out, strings.TrimSpace(c.Type+" "+strings.Join(c.Email, ", ")))
	}
	return out
}

// until compares ends: one that comes sooner, or that came from nowhere, touches trust less than one that was taken
// away.
func (c *comparing) until(what string, was, now *time.Time) {
	words := func(t *time.Time) string {
		if t == nil {
			return "without end"
		}
		return t.UTC().Format("2006-01-02 15:04 UTC")
	}
	back := was != nil && now != nil && now.Before(*was)
	if c.add(what, words(was), words(now), back); words(was) != words(now) {
		c.out[len(c.out)-1].Validity = true
	}
}

func (c *comparing) role(old, now *saml.Role) {
	was, is := certificatesOf(old), certificatesOf(now)
	c.sets("certificate", was, is, always(true), always(true))
	if a, b := slices.Sorted(slices.Values(was)), slices.Sorted(slices.Values(is)); slices.Equal(a, b) {
		c.add("order of the keys", strings.Join(was, "; "), strings.Join(is, "; "), false)
	}
	was, is = endpointsOf(old), endpointsOf(now)
	hosts := hostsOf(was)
	c.sets("endpoint", was, is, func(v string) bool { return !slices.Contains(hosts, hostOf(v)) }, always(false))
	c.until("validity of the role", old.ValidUntil, now.ValidUntil)
	c.sets("name identifier format", old.NameIDFormats, now.NameIDFormats, always(false), always(false))
	for _, f := range []struct {
		what     string
		was, now bool
	}{{"wants requests signed", old.WantRequestsSigned, now.WantRequestsSigned},
		{"signs requests", old.RequestsSigned, now.RequestsSigned},
		{"wants assertions signed", old.WantAssertionsSigned, now.WantAssertionsSigned}} {
		c.add(f.what, yes(f.was), yes(f.now), f.was && !f.now)
	}
	c.add("address for errors", old.ErrorURL, now.ErrorURL,
		now.ErrorURL != "" && !slices.Contains(hosts, hostOf(now.ErrorURL)))
	c.sets("wanted attribute", wishesOf(old.Wanted), wishesOf(now.Wanted), always(false), always(false))
	c.add("start link", old.Start, now.Start, old.Start != "" && hostOf(now.Start) != hostOf(old.Start))
	c.add("name for people", old.DisplayName, now.DisplayName, false)
}

func yes(v bool) string {
	if v {
		return "yes"
	}
	return "no"
}

func certificatesOf(r *saml.Role) []string {
	var out []string
	for _, k := range r.Keys {
		use := k.Use
		if use == "" {
			use = "signing and encryption"
		}
		if cert, err := k.X509(); err == nil {
			out = append(out, use+", "+keys.Describe(cert.PublicKey)+", ends "+cert.NotAfter.UTC().Format("2006-01-02")+
				", SHA-256 "+keys.Fingerprint(cert))
		}
	}
	return out
}

func endpointsOf(r *saml.Role) []string {
	var out []string
	for _, list := range [][]saml.Endpoint{r.SSO, r.ACS, r.SLO} {
		for _, e := range list {
			words := saml.ShortName(e.Binding)
			if e.Default {
				words += ", the default,"
			}
			out = append(out, words+" "+e.Location)
			if e.ResponseLocation != "" {
				out = append(out, saml.ShortName(e.Binding)+" "+e.ResponseLocation)
			}
		}
	}
	return out
}

// wishesOf are attributes that are wanted, each with whether it must come.
func wishesOf(list []saml.Wanted) []string {
	var out []string
	for _, w := range list {
		label := w.Label()
		if w.Required {
			label += ", required"
		}
		out = append(out, label)
	}
	return out
}

// hostOf is the host of the address at the end of some words.
func hostOf(s string) string {
	u, err := url.Parse(s[strings.LastIndexByte(s, ' ')+1:])
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Host
}

func hostsOf(list []string) []string {
	var out []string
	for _, s := range list {
		out = append(out, hostOf(s))
	}
	return out
}

func (c *comparing) openID(old, now *OpenID) {
	a, b := &old.Discovery, &now.Discovery
	c.add("issuer", a.Issuer, b.Issuer, true)
	var hosts []string
	each := func(f func(what, was, now string)) {
		f("authorization endpoint", a.AuthorizationEndpoint, b.AuthorizationEndpoint)
		f("token endpoint", a.TokenEndpoint, b.TokenEndpoint)
		f("userinfo endpoint", a.UserinfoEndpoint, b.UserinfoEndpoint)
		f("address of the keys", a.JWKSURI, b.JWKSURI)
		f("introspection endpoint", a.IntrospectionEndpoint, b.IntrospectionEndpoint)
		f("revocation endpoint", a.RevocationEndpoint, b.RevocationEndpoint)
		f("end-session endpoint", a.EndSessionEndpoint, b.EndSessionEndpoint)
		f("device endpoint", a.DeviceEndpoint, b.DeviceEndpoint)
		f("pushed request endpoint", a.PushedEndpoint, b.PushedEndpoint)
		now := b.ForCertificates()
		for i, was := range a.ForCertificates() {
			f(strings.ReplaceAll(was[0], "_", " ")+" for a certificate", was[1], now[i][1])
		}
	}
	each(func(_, was, _ string) { hosts = append(hosts, hostOf(was)) })
	each(func(what, was, now string) {
		c.add(what, was, now, now != "" && !slices.Contains(hosts, hostOf(now)))
	})
	c.sets("key", keyWordsOf(old), keyWordsOf(now), always(true), always(true))
	c.sets("algorithm of ID tokens", a.IDTokenAlgorithms, b.IDTokenAlgorithms, always(true), always(true))
	c.sets("client authentication", a.TokenAuthMethods, b.TokenAuthMethods, always(false), always(false))
	c.sets("PKCE method", a.ChallengeMethods, b.ChallengeMethods, always(false), always(true))
	c.sets("scope", a.ScopesSupported, b.ScopesSupported, always(false), always(false))
	c.sets("grant", a.GrantTypes, b.GrantTypes, always(false), always(false))
	c.add("iss in the answer", yes(a.IssInResponse), yes(b.IssInResponse), a.IssInResponse && !b.IssInResponse)
}

// keyWordsOf are the keys of a provider, each by its thumbprint: under one kid another key can stand (RFC 7638).
func keyWordsOf(o *OpenID) []string {
	list, _, _ := oidc.ReadKeys([]byte(o.JWKS), finding.Provider) // those that can be read
	var out []string
	for _, k := range list {
		words := keys.Describe(k.Public)
		if k.ID != "" {
			words = k.ID + ", " + words
		}
		if k.Alg != "" {
			words += " for " + k.Alg
		}
		print, err := oidc.KeyID(k.Public)
		if err != nil {
			continue // what was read has one
		}
		if print != k.ID {
			words += ", thumbprint " + print
		}
		out = append(out, words)
	}
	return out
}

// Reading is how reading a foreign party again ended last.
type Reading struct {
	Outcome string
	Why     string    // it failed
	Since   time.Time // it ends so since then
	At      time.Time // the last time; zero in ledgers from before
	Again   time.Time // when it should be read again, by what it published and how; zero where that is not known
	Pinned  time.Time // when the certificate of its server ends that is pinned; zero where it was not seen
	Sources []Fetched // the documents that were read
}

// Fetched is by what a server knows the state of a document that was read from it (RFC 9110, section 8.8); empty where
// it did not say.
type Fetched struct{ Source, ETag, Modified string }

// Again is when something that was read at a time should be read again: after its cacheDuration or what the server
// said, the shorter of them, else after a day; and while what was read still has a quarter of its validity. It is never
// sooner than in five minutes, and never later than in a week.
func Again(at time.Time, said []time.Duration, until *time.Time) time.Time {
	wait := time.Duration(0)
	for _, d := range said {
		if d > 0 && (wait == 0 || d < wait) {
			wait = d
		}
	}
	if wait == 0 {
		wait = 24 * time.Hour
	}
	if until != nil {
		wait = min(wait, until.Sub(at)*3/4)
	}
	return at.Add(min(max(wait, 5*time.Minute), 7*24*time.Hour))
}

// The outcomes of reading a foreign party again.
const (
	ReadUnchanged = "unchanged"
	ReadTaken     = "taken"
	ReadWaits     = "waits"  // a difference touches trust, and nobody said that it may
	ReadLeft      = "left"   // the registry that it was read from has it no more
	ReadFailed    = "failed" // it could not be read, or not be trusted: what was there stays
)

// AcceptDifferences is what to do about differences that touch trust.
func AcceptDifferences(kind Kind, name string) finding.Remedy {
	return finding.Do("ask its owner on another way whether this is right").
		Then(finding.Run(string(kind), "refresh", name, "--accept"))
}

// Version is what a foreign party published from a time on.
type Version struct {
	Number int       `json:"number"` // counts from 1, the oldest
	At     time.Time `json:"at"`
	Party  Party     `json:"party"`
}

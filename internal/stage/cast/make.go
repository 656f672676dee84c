package cast

import (
	"fmt"
	"iter"
	"maps"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

func keysOf[V any](m map[string]V) iter.Seq[string] { return maps.Keys(m) }

// deal casts a trust by its terms: the one place on the stage where a protocol is chosen.
func (m *maker) deal(t *federation.Trust) error {
	app, provider := m.led.Parties[t.App], m.led.Parties[t.Provider]
	if app == nil || provider == nil {
		return fmt.Errorf("a party of it is not in the ledger any more")
	}
	d := Deal{Trust: t, Suppose: m.Suppose[t.Name]}
	d.release = sync.OnceValues(func() (*federation.Releaser, error) {
		return federation.NewReleaser(m.Engine, t, m.led.Subjects[t.Name], randomReader(m.Random))
	})
	switch terms := t.Terms.Terms.(type) {
	case *federation.SAMLTerms:
		return m.dealSAML(d, terms, app, provider)
	case *federation.OIDCTerms:
		return m.dealOIDC(d, terms, app, provider)
	}
	return fmt.Errorf("nothing on the stage plays the protocol %s", t.Over())
}

type randomReader func([]byte) error

func (f randomReader) Read(b []byte) (int, error) { return len(b), f(b) }

func (m *maker) dealSAML(d Deal, terms *federation.SAMLTerms, app, provider *federation.Party) (err error) {
	if app.Entity.SP == nil || provider.Entity.IDP == nil {
		return fmt.Errorf("a SAML side of %s and of %s is needed", app.Name, provider.Name)
	}
	if d.App, err = m.player(app, ""); err != nil {
		return err
	}
	if d.Provider, err = m.player(provider, ""); err != nil {
		return err
	}
	x := &SAML{Deal: d, Terms: terms}
	x.expect = sync.OnceValues(func() (saml.Expect, error) {
		e := federation.Expectation(d.Trust, terms, &d.App.Party, &d.Provider.Party, m.led.Census, time.Time{})
		var err error
		e.Far = d.Provider.Real
		list, err := d.Provider.SigningKeys()
		if err != nil {
			return e, err
		}
		if e.Keys = list; !d.Provider.StandIn { // which keys the app was given is known of the real ones
			e.Keys = d.Trust.Known("app", list)
		}
		e.DecryptionKeys, err = d.App.Opens()
		return e, err
	})
	m.cast.SAML = append(m.cast.SAML, x)
	return nil
}

func (m *maker) dealOIDC(d Deal, terms *federation.OIDCTerms, app, provider *federation.Party) (err error) {
	if d.Provider, err = m.player(provider, ""); err != nil {
		return err
	}
	if d.Provider.OpenID == nil {
		return finding.Advise(fmt.Errorf("%s has no OpenID side in the ledger", provider.Name),
			finding.Run("provider", "change", provider.Name, "--issuer", "URL"))
	}
	if app.Kind == federation.Provider { // before an upstream provider it plays another part than as a provider
		d.App, err = m.upstream(app)
	} else {
		d.App, err = m.player(app, "")
	}
	if err != nil {
		return err
	}
	if d.App.Client == nil {
		return fmt.Errorf("%s has no client side any more", app.Name)
	}
	t := d.Trust
	client := m.registered(d.App, terms)
	x := &OIDC{Deal: d, Registered: &oauth.Registered{Trust: t, Terms: terms, App: &d.App.Party,
		Provider: &d.Provider.Party, Client: client, Far: d.Provider.Real,
		Secrets: m.led.Secrets[t.Name], Consents: m.led.Consents[t.Name], APIs: m.cast.APIs, Places: m.cast.Places,
		Releaser: lazily(d.release)}}
	if terms.JWKS != "" {
		if x.Keys, _, err = oidc.ReadKeys([]byte(terms.JWKS), finding.App); err != nil {
			return err
		}
	}
	m.give(x, provider)
	m.cast.OIDC = append(m.cast.OIDC, x)
	return nil
}

// canAuthenticate reports whether a confidential client has something to authenticate with. What a foreign provider
// issued is not in the ledger: there the stand-in stands for it.
func (m *maker) canAuthenticate(x *OIDC, provider *federation.Party) bool {
	for i := range x.Secrets {
		if x.Secrets[i].Standing(m.Now) == "valid" {
			return true
		}
	}
	return len(x.Keys) > 0 || x.Terms.ByCertificate() != "" || !provider.Own
}

// player casts a party once.
func (m *maker) player(p *federation.Party, key string) (*Player, error) {
	if key == "" {
		key = p.Name
	}
	if pl := m.players[key]; pl != nil {
		return pl, nil
	}
	e, err := p.Entity.Clone()
	if err != nil {
		return nil, err
	}
	pl := &Player{Party: *p, StandIn: m.StandIn(p), Keys: m.Keys(p)}
	pl.Party.Entity = *e
	if p.Kind == federation.App {
		pl.Home, pl.Client = homeOf(p), p.ClientSide()
	} else if doc := p.OpenIDOf(); doc != nil {
		c := *doc
		pl.OpenID = &c
	}
	m.players[key] = pl
	if m.Real[p.Name] && !p.Own {
		pl.Real, pl.StandIn = true, false
		return pl, nil
	}
	m.place(pl)
	return pl, nil
}

// registered is the client of an app as it is registered with a trust. Where its redirect URIs there are others than
// elsewhere the played client listens at them too.
func (m *maker) registered(app *Player, terms *federation.OIDCTerms) *federation.Client {
	if len(terms.Redirects) == 0 || app.Party.Kind != federation.App {
		return app.Client
	}
	c, all := *app.Client, *app.Client
	if c.Redirects = terms.Redirects; m.Base != "" {
		c.Redirects = append(loopbacks(terms.Redirects), app.Callback)
	}
	all.Redirects = slices.Clone(all.Redirects)
	for _, r := range c.Redirects {
		if !slices.Contains(all.Redirects, r) {
			all.Redirects = append(all.Redirects, r)
		}
		if app.Here == "" && m.Base != "" && strings.HasPrefix(r, m.Base+"/") && r != app.Callback {
			app.Here = r
		}
	}
	app.Client = &all
	return &c
}

func (m *maker) upstream(p *federation.Party) (*Player, error) {
	key := p.Name + " upstream"
	if pl := m.players[key]; pl != nil {
		return pl, nil
	}
	c := *p
	c.Kind, c.Entity.IDP, c.Entity.SP = federation.App, nil, nil
	pl := &Player{Party: c, StandIn: m.StandIn(p), Keys: m.Keys(p), Client: p.ClientSide(), Home: c.At + "/upstream/"}
	m.players[key] = pl
	if m.Base != "" {
		m.placeApp(pl, m.Base+"/"+p.Name+"/upstream")
	}
	return pl, nil
}

// homeOf is where a played app shows who signed in, when it is played at its own addresses: on its own host, under a
// path of its name that no app has, so that it can be in the way of no redirect URI, and of no other app of the host.
func homeOf(p *federation.Party) string {
	if p.Entity.SP != nil {
		e, ok := saml.EndpointFor(p.Entity.SP.ACS, saml.BindingPOST)
		if u, err := url.Parse(e.Location); ok && err == nil {
			return freePath(p, u.Scheme+"://"+u.Host)
		}
		return ""
	}
	if c := p.ClientSide(); c != nil {
		for _, r := range c.Redirects {
			if u, err := url.Parse(r); err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" {
				return freePath(p, u.Scheme+"://"+u.Host)
			}
		}
		return "https://" + p.Name + ".stage.test/"
	}
	return ""
}

// freePath is an address for the pages of a played app under a host at which none of its own addresses lies.
func freePath(p *federation.Party, host string) string {
	var taken []string
	if c := p.ClientSide(); c != nil {
		taken = append(append(taken, c.Redirects...), c.AfterSignOut...)
		taken = append(taken, c.BackChannelLogout, c.FrontChannelLogout)
	}
	if sp := p.Entity.SP; sp != nil {
		for _, e := range append(append([]saml.Endpoint{}, sp.ACS...), sp.SLO...) {
			taken = append(taken, e.Location, e.ResponseLocation)
		}
		taken = append(taken, sp.Start, sp.SignedOut)
	}
	for dots := "."; ; dots += "." {
		at := host + "/" + dots + "stage/" + p.Name + "/"
		if !slices.ContainsFunc(taken,
			func(t string) bool { return strings.HasPrefix(t, strings.TrimSuffix(at, "/")) }) {
			return at
		}
	}
}

// place moves a player under the base, below its name. Entity IDs and audiences stay as they are; an issuer moves,
// since its discovery document must lie below it.
func (m *maker) place(p *Player) {
	if m.Base == "" {
		return
	}
	at := m.Base + "/" + p.Party.Name
	if p.Party.Kind != federation.Provider {
		m.placeApp(p, at)
		return
	}
	p.Party.At = at
	if p.OpenID != nil {
		registers := p.OpenID.RegistrationEndpoint != ""
		p.OpenID = oidc.OwnDiscovery(at, p.OpenID.IDTokenAlgorithms, nil)
		if registers {
			p.OpenID.RegistrationEndpoint = strings.TrimSuffix(at, "/") + "/register"
		}
	}
	if idp := p.Party.Entity.IDP; idp != nil {
		for i := range idp.SSO {
			idp.SSO[i].Location = at + "/sso"
		}
		idp.SLO = moved(idp.SLO, at+"/slo")
	}
}

// placeApp moves an app. A foreign one whose assertion consumer service is on this machine is left alone: it is an app
// under test, and plays itself. Redirect URIs on this machine stay good.
func (m *maker) placeApp(p *Player, at string) {
	if p.Client != nil && p.Client.Kind.Redirects() {
		c := *p.Client
		for _, r := range c.Redirects {
			if p.Here == "" && strings.HasPrefix(r, m.Base+"/") {
				p.Here = r
			}
		}
		p.Callback = at + "/callback"
		c.Redirects = append(loopbacks(c.Redirects), p.Callback)
		c.AfterSignOut = append([]string{at + "/signed-out"}, loopbacks(c.AfterSignOut)...)
		c.BackChannelLogout = movedURI(c.BackChannelLogout, at+"/back-channel-logout")
		c.FrontChannelLogout = movedURI(c.FrontChannelLogout, at+"/front-channel-logout")
		p.Client = &c
	}
	p.Home = at + "/"
	sp := p.Party.Entity.SP
	if sp == nil {
		return
	}
	if acs, ok := saml.EndpointFor(sp.ACS, saml.BindingPOST); ok && strings.HasPrefix(acs.Location, m.Base+"/") {
		return // it lies on this very stage
	} else if ok && !p.Party.Own {
		if u, err := url.Parse(acs.Location); err == nil && judge.IsLoopback(u.Hostname()) {
			p.Real, p.StandIn = true, false
			return
		}
	}
	p.Party.At = at
	sp.ACS = []saml.Endpoint{{Binding: saml.BindingPOST, Location: at + "/acs", Index: 1, Default: true}}
	sp.SLO, sp.Start = moved(sp.SLO, at+"/slo"), at+"/start"
	if sp.SignedOut != "" {
		sp.SignedOut = at + "/signed-out"
	}
}

// moved are the single logout services of a party under another address; none where it has none.
func moved(list []saml.Endpoint, at string) []saml.Endpoint {
	var out []saml.Endpoint
	for _, e := range list {
		if e.Binding == saml.BindingRedirect || e.Binding == saml.BindingPOST {
			out = append(out, saml.Endpoint{Binding: e.Binding, Location: at})
		}
	}
	return out
}

// movedURI is a URI of a client under another address; one on this machine stays, and none stays none.
func movedURI(uri, at string) string {
	if uri == "" || len(loopbacks([]string{uri})) > 0 {
		return uri
	}
	return at
}

// loopbacks are the URIs that lead to this machine or to an app on it.
func loopbacks(list []string) []string {
	out := []string{}
	for _, r := range list {
		if u, err := url.Parse(r); err == nil && (judge.IsLoopback(u.Hostname()) || u.Host == "") {
			out = append(out, r)
		}
	}
	return out
}

// apiAt is where an API is played: below its name on a stage of its own address, at its audience elsewhere.
func (m *maker) apiAt(p *Player) string {
	if m.Base != "" {
		return m.Base + "/" + p.Name() + "/api" // the same whatever other sides the app has or gets
	}
	if u, err := url.Parse(p.Party.API.Audience); err == nil && u.Host != "" && (u.Scheme == "https" ||
		u.Scheme == "http") {
		return strings.TrimSuffix(p.Party.API.Audience, "/")
	}
	return "https://" + p.Name() + ".stage.test"
}

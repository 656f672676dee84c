package stage

import (
	"net/url"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

// StartOf is the link that starts sign-in at the app of a deal.
func StartOf(d *Deal) string {
	if d.Trust.OIDCTerms() != nil {
		return ClientStart(d)
	}
	return d.App.start()
}

// LaunchOf is the link that starts sign-in at the provider of a deal.
func LaunchOf(d *Deal) string { return d.Provider.launchFor(d.App) }

// launch is where a provider starts sign-ins: its own link, or beside its sign-in endpoint where it is foreign.
func (p *Player) launch() string {
	if p.Party.Own {
		l, _, _ := strings.Cut(p.Party.LaunchLink(&federation.Party{}), "?")
		return l
	}
	return strings.TrimSuffix(p.signIn(), "/sign-in") + "/launch"
}

func (p *Player) launchFor(app *Player) string {
	return p.launch() + "?app=" + url.QueryEscape(app.Party.Entity.ID)
}

// Rebase moves all players under one address, each below its name: base/NAME/… Entity IDs and audiences stay as they are;
// an issuer moves, since its discovery document must lie below it. A foreign app whose assertion consumer service is on
// this machine is left alone: it is an app under test, and plays itself. Redirect URIs on this machine stay good.
func (s *Stage) Rebase(base string) {
	base = strings.TrimSuffix(base, "/")
	done := map[*Player]bool{}
	for _, d := range s.Deals {
		for _, p := range []*Player{d.Provider, d.App} {
			if !done[p] {
				done[p] = true
				p.rebase(base + "/" + p.Party.Name)
			}
		}
	}
	for _, a := range s.APIs {
		a.At = base + "/" + a.Name
		if d := s.Deals; len(d) > 0 {
			for _, x := range d {
				if x.App.Party.Name == a.Name { // an app that is a client as well has its pages there
					a.At = base + "/" + a.Name + "/api"
				}
			}
		}
	}
}

func (p *Player) rebase(at string) {
	if p.Party.Kind == federation.Provider {
		p.Party.At = at
		if p.OpenID != nil && p.JOSE != nil {
			p.OpenID = oidc.OwnDiscovery(at, p.JOSE.Alg, nil)
		}
		if p.Party.Entity.IDP != nil {
			rebaseAll(p.Party.Entity.IDP.SSO, at+"/sso")
			p.Party.Entity.IDP.SLO = nil
		}
		return
	}
	if p.Upstream {
		at += "/upstream"
	}
	if p.Client != nil && p.Client.Kind.Redirects() {
		c := *p.Client
		p.Callback = at + "/callback"
		c.Redirects = append(loopbacks(c.Redirects), p.Callback)
		c.AfterSignOut = append([]string{at + "/signed-out"}, loopbacks(c.AfterSignOut)...)
		p.Client = &c
	}
	p.Home = at + "/"
	if p.Party.Entity.SP == nil {
		return
	}
	if acs, ok := saml.EndpointFor(p.Party.Entity.SP.ACS, saml.BindingPOST); ok && !p.Party.Own {
		if u, err := url.Parse(acs.Location); err == nil && judge.IsLoopback(u.Hostname()) {
			p.Real, p.StandIn = true, false
			p.Party.Entity = p.Origin
			return
		}
	}
	p.Party.At = at
	p.Party.Entity.SP.ACS = []saml.Endpoint{{Binding: saml.BindingPOST, Location: at + "/acs", Index: 1, Default: true}}
	p.Party.Entity.SP.SLO = nil
	p.Party.Entity.SP.Start = at + "/start"
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

func rebaseAll(list []saml.Endpoint, to string) {
	for i := range list {
		list[i].Location = to
	}
}

// Place is where a player is found on a running stage.
type Place struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	EntityID string `json:"entityID,omitempty"`
	Played   string `json:"played"` // own key, stand-in, or itself
	Start    string `json:"start,omitempty"`
	SSO      string `json:"singleSignOn,omitempty"`
	ACS      string `json:"assertionConsumer,omitempty"`
	Page     string `json:"page,omitempty"`
	Metadata string `json:"metadata,omitempty"`

	Issuer    string `json:"issuer,omitempty"`
	Discovery string `json:"discovery,omitempty"`
	Redirect  string `json:"redirectURI,omitempty"`
	ClientIDs string `json:"clientID,omitempty"`
	Audience  string `json:"audience,omitempty"`
	Address   string `json:"address,omitempty"`
}

// Places lists where the players are, providers first.
func (s *Stage) Places() []Place {
	var out []Place
	done := map[*Player]bool{}
	for _, kind := range []federation.Kind{federation.Provider, federation.App} {
		for _, d := range s.Deals {
			for _, p := range []*Player{d.Provider, d.App} {
				if done[p] || p.Party.Kind != kind {
					continue
				}
				done[p] = true
				x := Place{Name: p.Party.Name, Kind: string(kind), EntityID: p.Party.Entity.ID, Played: "with its own key"}
				if p.StandIn {
					x.Played = "by a stand-in"
				}
				s.place(p, d, &x)
				out = append(out, x)
			}
		}
	}
	for _, a := range s.APIs {
		out = append(out, Place{Name: a.Name, Kind: "api", Played: "by a stand-in", Audience: a.Audience, Address: a.At})
	}
	return out
}

func (s *Stage) place(p *Player, d *Deal, x *Place) {
	if p.Party.Kind == federation.Provider {
		x.Start = p.launch()
		if p.Party.Entity.IDP != nil {
			e, _ := saml.EndpointFor(p.Party.Entity.IDP.SSO, saml.BindingRedirect, saml.BindingPOST)
			x.SSO, x.Metadata = e.Location, p.metadataURL()
		}
		if p.OpenID != nil && p.JOSE != nil {
			x.Issuer, x.Discovery = p.OpenID.Issuer, oidc.WellKnown(p.OpenID.Issuer)[0]
		}
		return
	}
	if p.Party.Entity.SP != nil {
		e, _ := saml.EndpointFor(p.Party.Entity.SP.ACS, saml.BindingPOST)
		x.ACS, x.Start, x.Page, x.Metadata = e.Location, p.Party.Entity.SP.Start, p.Home, p.metadataURL()
	}
	if p.Client != nil {
		x.ClientIDs = d.Trust.OIDCTerms().ClientID
		if p.Client.Kind.Redirects() {
			x.Start, x.Page, x.Redirect = p.clientHome()+"start", p.clientHome(), p.redirectOf()
		}
	}
	if p.Real {
		x.Played, x.Metadata = "by itself, at its own address", ""
	}
}

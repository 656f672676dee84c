package stage

import (
	"net/url"
	"strings"

	"admin.tressik.example/internal/core/federation"
	"admin.tressik.example/internal/core/saml"
)

// StartOf is the link that starts sign-in at the app of a deal.
func StartOf(d *Deal) string {
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

// Rebase moves all players under one address, each below its name: base/NAME/… Entity IDs stay as they are. A foreign app
// whose assertion consumer service is on this machine is left alone: it is an app under test, and plays itself.
func (s *Stage) Rebase(base string) {
	done := map[*Player]bool{}
	for _, d := range s.Deals {
		for _, p := range []*Player{d.Provider, d.App} {
			if done[p] {
				continue
			}
			done[p] = true
			at := strings.TrimSuffix(base, "/") + "/" + p.Party.Name
			if p.Party.Kind == federation.Provider {
				p.Party.At = at
				rebaseAll(p.Party.Entity.IDP.SSO, at+"/sso")
				p.Party.Entity.IDP.SLO = nil
				continue
			}
			if acs, ok := saml.EndpointFor(p.Party.Entity.SP.ACS, saml.BindingPOST); ok && !p.Party.Own {
				if u, err := url.Parse(acs.Location); err == nil && saml.IsLoopback(u.Hostname()) {
					p.Real, p.StandIn = true, false
					p.Party.Entity = p.Origin
					continue
				}
			}
			p.Party.At = at
			p.Party.Entity.SP.ACS = []saml.Endpoint{{Binding: saml.BindingPOST, Location: at + "/acs", Index: 1, Default: true}}
			p.Party.Entity.SP.SLO = nil
			p.Party.Entity.SP.Start = at + "/start"
			p.Home = at + "/"
		}
	}
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
	EntityID string `json:"entityID"`
	Played   string `json:"played"` // own key, stand-in, or itself
	Start    string `json:"start,omitempty"`
	SSO      string `json:"singleSignOn,omitempty"`
	ACS      string `json:"assertionConsumer,omitempty"`
	Page     string `json:"page,omitempty"`
	Metadata string `json:"metadata,omitempty"`
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
				if kind == federation.Provider {
					e, _ := saml.EndpointFor(p.Party.Entity.IDP.SSO, saml.BindingRedirect, saml.BindingPOST)
					x.SSO, x.Start = e.Location, p.launch()
				} else {
					e, _ := saml.EndpointFor(p.Party.Entity.SP.ACS, saml.BindingPOST)
					x.ACS, x.Start, x.Page = e.Location, p.Party.Entity.SP.Start, p.Home
				}
				if p.Real {
					x.Played = "by itself, at its own address"
				} else {
					x.Metadata = p.metadataURL()
				}
				out = append(out, x)
			}
		}
	}
	return out
}

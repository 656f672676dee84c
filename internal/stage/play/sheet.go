package play

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/cast"
)

// ErrNotPlayed means that the party that a sheet is about is not played on the stage.
var ErrNotPlayed = errors.New("is not played on this stage")

// Played is what one side of a trust has to know to try it with the other as it is played on a stage.
type Played struct {
	Base          string           `json:"base"` // of the stage
	App, Provider federation.Party // as they are there
	Metadata      []byte           `json:"metadata,omitempty"` // of the side that is played, over SAML
	APIs          []PlayedAPI      `json:"apis,omitempty"`     // those that the client asks for
	Secret        string           `json:"secret,omitempty"`   // of the client, on this stage alone
	Remarks       []string         `json:"remarks"`
}

// PlayedAPI is where an API is found on a stage.
type PlayedAPI struct {
	Name string `json:"name"`
	At   string `json:"at"`
}

// Played says what one side of a trust must be given to try it with the other as it is played on this stage; side is
// app or provider. A confidential client is given the secret that holds on this stage alone. Errors:
// *model.UnknownError, model.ErrEnded, ErrNotPlayed.
func (k *Keeper) Played(trust, side string) (*Played, error) {
	t, _, _, err := k.d.Trust(trust)
	if err != nil {
		return nil, err
	}
	if t.Standing == federation.Ended {
		return nil, fmt.Errorf("%s %w", trust, model.ErrEnded)
	}
	c := k.s.Cast()
	deal, _, _ := c.Playing(trust)
	if deal == nil {
		return nil, fmt.Errorf("%s %w", trust, ErrNotPlayed)
	}
	about := deal.Provider
	if side == "provider" {
		about = deal.App
	}
	if about.Real {
		return nil, fmt.Errorf("%s %w: it is spoken to where it really is", about.Name(), ErrNotPlayed)
	}
	app, err := deal.App.AsPlayed()
	if err != nil {
		return nil, err
	}
	if c := app.Client; c != nil && side == "app" && !deal.App.Real {
		mine := *c // of the app that is to run here, not of its stand-in
		mine.Redirects = others(c.Redirects, deal.App.Callback)
		mine.AfterSignOut = others(c.AfterSignOut, strings.TrimSuffix(deal.App.Callback, "/callback")+"/signed-out")
		app.Client = &mine
	}
	provider, err := deal.Provider.AsPlayed()
	if err != nil {
		return nil, err
	}
	out := &Played{Base: k.in.Base, App: *app, Provider: *provider, Remarks: k.remarks(deal, about, side)}
	client := c.Find(trust)
	if client == nil {
		out.Metadata, err = k.metadata(about)
		return out, err
	}
	if side != "app" {
		return out, nil
	}
	for _, name := range client.AskedAPIs() {
		for _, p := range c.Players {
			if p.Name() == name && p.APIAt != "" {
				out.APIs = append(out.APIs, PlayedAPI{name, p.APIAt})
			}
		}
	}
	if len(client.Keys) == 0 && client.Own != nil {
		out.Secret = client.Own.Secret
	}
	return out, nil
}

// metadata writes a player's metadata as the stage publishes it.
func (k *Keeper) metadata(p *cast.Player) ([]byte, error) {
	e, err := p.Entity()
	if err != nil {
		return nil, err
	}
	signer, err := p.Keys.SAML()
	if err != nil {
		return nil, err
	}
	id, err := federation.RandomID(k.d.Rand)
	if err != nil {
		return nil, err
	}
	return saml.WriteMetadata(e, saml.WriteOptions{ID: id, Signer: signer})
}

// remarks say what somebody has to know who enters the addresses of a stage.
func (k *Keeper) remarks(deal *cast.Deal, about *cast.Player, side string) []string {
	out := []string{"It holds while the stage runs; its addresses change with its port."}
	if about.StandIn {
		out = append(out, "The keys are the stage's own: what is signed with them passes at no real party.")
	} else {
		out = append(out, "The keys are "+about.Name()+
			"'s real ones: what is signed with them passes at each party that "+
			"trusts it.")
	}
	if side == "app" && !deal.App.Real && !loopbackClient(deal.App) {
		out = append(out, deal.App.Name()+
			" has no address on this machine in the ledger, so the stage answers a stand-in "+
			"of it. Enter the app as it runs here as an app of its own, to try that.")
	}
	return out
}

// others are the addresses of a list but for one, or that one where there are none.
func others(list []string, one string) []string {
	out := slices.DeleteFunc(slices.Clone(list), func(s string) bool { return s == one })
	if len(out) == 0 {
		return list
	}
	return out
}

// loopbackClient reports whether a client has a redirect URI on this machine beside that of its stand-in.
func loopbackClient(p *cast.Player) bool {
	return p.Client != nil && (!p.Client.Kind.Redirects() ||
		slices.ContainsFunc(p.Client.Redirects, func(s string) bool {
			return s != p.Callback
		}))
}

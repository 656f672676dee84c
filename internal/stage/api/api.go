// Package api plays protected resources: each checks the access token that it is sent and answers with some records.
package api

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/server"
)

// Part plays all APIs of a stage.
type Part struct {
	*server.Server
	Providers *op.Part
	// Presented is told when a permission was presented to an API; it returns at once.
	Presented func(trust string, ask federation.Ask)
}

// Record is made up: what a stand-in API answers with.
type Record struct {
	ID   string `json:"id"`
	Note string `json:"note"`
}

// Answer is what a call of an API brings.
type Answer struct {
	API        string   `json:"api"`
	Permission string   `json:"permission"`
	Client     string   `json:"client"`
	As         string   `json:"as"`
	OnBehalfOf string   `json:"onBehalfOf,omitempty"`
	Records    []Record `json:"records"`
}

// LayOut lays out the addresses of an app's api side.
func (p *Part) LayOut(l *server.Layout, c *cast.Cast, pl *cast.Player) {
	if pl.APIAt == "" || pl.Party.API == nil {
		return
	}
	l.Document(pl.Name()+" metadata", oidc.ResourceMetadataAt(pl.APIAt), p.metadata(c, pl))
	l.Below(pl.APIAt, func(rest string, w http.ResponseWriter, r *http.Request) { p.serve(c, pl, rest, w, r) })
}

// metadata is the protected resource metadata of an API (RFC 9728, section 2). On a stage with an address of its own
// the resource is still the API's audience.
func (p *Part) metadata(c *cast.Cast, pl *cast.Player) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		issuers := []string{}
		for _, d := range c.OIDC {
			asks := slices.ContainsFunc(d.Terms.Asks, func(a federation.Ask) bool { return a.API == pl.Name() })
			if iss := d.Deal.Provider.OpenID.Issuer; asks && !slices.Contains(issuers, iss) {
				issuers = append(issuers, iss)
			}
		}
		w.Header().Set("Access-Control-Allow-Origin", "*")
		op.WriteJSON(w, http.StatusOK,
			map[string]any{"resource": pl.APIAt, "authorization_servers": issuers,
				"scopes_supported": pl.Party.API.Names(), "bearer_methods_supported": []string{"header", "body"},
				"resource_name": pl.Title()})
	}
}

// challenge is a challenge that names where the API's metadata is (RFC 9728, section 5.1).
func challenge(w http.ResponseWriter, pl *cast.Player, e *oidc.Error, scope string) {
	op.Challenge(w, pl.Name(), e, scope, `resource_metadata="`+oidc.ResourceMetadataAt(pl.APIAt)+`"`)
}

// serve answers a call: the last part of the path names the permission that it needs.
func (p *Part) serve(c *cast.Cast, pl *cast.Player, permission string, w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Access-Control-Allow-Origin", "*") // a token is sent by the page itself, no cookie counts here
	w.Header().Set("Access-Control-Expose-Headers", "WWW-Authenticate")
	if r.Method == http.MethodOptions {
		w.Header().Set("Access-Control-Allow-Headers", "Authorization, Content-Type")
		w.Header().Set("Access-Control-Allow-Methods", "GET, HEAD, POST, PUT, DELETE")
		w.WriteHeader(http.StatusNoContent)
		return
	}
	side := pl.Party.API
	if side.Find(permission) == nil {
		op.WriteJSON(w, http.StatusNotFound, map[string]any{"error": "not_found",
			"error_description": "call /PERMISSION of this stand-in API",
			"permissions":       append([]string{}, side.Names()...)})
		return
	}
	token, e := op.Bearer(r)
	if e != nil || token == "" {
		challenge(w, pl, e, permission)
		return
	}
	_, claims, err := oidc.Peek(token)
	if err != nil {
		challenge(w, pl, oidc.Fail(oidc.InvalidToken, err.Error()), permission)
		return
	}
	issuer := issuerOf(c, oidc.Text(claims, "iss"))
	if issuer == nil {
		challenge(w, pl, oidc.Fail(oidc.InvalidToken, "issuer: "+oidc.Text(claims,
			"iss")+", which no provider on this stage has"), permission)
		return
	}
	s, err := p.Providers.Serves(issuer, nil)
	if err != nil {
		http.Error(w, "the keys of "+issuer.Name()+" cannot be opened: "+err.Error(), http.StatusInternalServerError)
		return
	}
	need := permission
	if have, _ := oidc.Scope(oidc.Text(claims, "scope")); !slices.Contains(have, permission) {
		for _, x := range have {
			if side.Included(x, permission) {
				need = x
			}
		}
	}
	j := s.JudgeAccess(token, side.Audience, need)
	d := op.ClientOf(c, issuer, j.ClientID)
	if d != nil {
		p.Tell(server.Event{Trust: d.Of().Name, By: pl.Name(), What: "access token", Findings: j.Findings})
	}
	if j.Verdict != judge.Accepted {
		challenge(w, pl, oauth.TokenError(j), permission)
		return
	}
	a := Answer{API: pl.Name(), Permission: permission, Client: j.ClientID, As: federation.AsSelf,
		Records: records(permission)}
	if j.Subject != j.ClientID {
		a.As, a.OnBehalfOf = federation.AsUser, j.Subject
	}
	if d != nil && p.Presented != nil {
		p.Presented(d.Of().Name, federation.Ask{API: pl.Name(), Name: permission, As: a.As})
	}
	op.WriteJSON(w, http.StatusOK, a)
}

func issuerOf(c *cast.Cast, iss string) *cast.Player {
	for _, pl := range c.Players {
		if pl.OpenID != nil && pl.OpenID.Issuer == iss {
			return pl
		}
	}
	return nil
}

// records makes three records for a permission, the same each time.
func records(permission string) []Record {
	kind, deed, _ := strings.Cut(permission, ".")
	var out []Record
	for i, n := range []string{"Northern field", "Zenith strip", "Twilight flats"} {
		note := n + ", as the stand-in has it"
		if deed != "" && deed != "read" {
			note = n + ": " + deed + " accepted by the stand-in, nothing happened"
		}
		out = append(out, Record{fmt.Sprintf("%s-%03d", kind, i+1), note})
	}
	return out
}

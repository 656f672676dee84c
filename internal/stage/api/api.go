// Package api plays protected resources: each checks the access token that it is sent and answers with some records.
package api

import (
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
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
				"dpop_signing_alg_values_supported":          oidc.Algorithms(),
				"tls_client_certificate_bound_access_tokens": true,
				"resource_name": pl.Title()})
	}
}

// challenge is a challenge that names where the API's metadata is (RFC 9728, section 5.1).
func challenge(w http.ResponseWriter, s oauth.Shown, pl *cast.Player, e *oidc.Error, scope string, more ...string) {
	op.Challenge(w, s, pl.Name(), e, scope,
		append(more, `resource_metadata="`+oidc.ResourceMetadataAt(pl.APIAt)+`"`)...)
}

// judgeNarrowed judges a call by what its token is narrowed to: an amount that the call names must not be over it.
// Which records it brings is narrowed in the answer.
func judgeNarrowed(j *oidc.TokenJudgement, p *federation.Permission, n *federation.Narrowed, q url.Values) {
	if asked := q.Get(p.Amount); p.Amount != "" && asked != "" {
		v, err := strconv.ParseFloat(asked, 64)
		if err != nil || n.Most > 0 && v > n.Most || v <= 0 {
			j.Findings.Add(finding.Finding{ID: finding.TokenScope, Level: finding.Error, Check: "permission",
				Saw: asked + " " + p.Amount, Expected: n.Words(p), Side: finding.App,
				Fix: finding.Do("ask for more in detail, and have it consented to"), Ref: "RFC 9396 2"})
			j.Settle()
			return
		}
	}
	j.Findings.Pass(finding.TokenScope, "permission", p.Name+": "+n.Words(p))
}

// serve answers a call: the last part of the path names the permission that it needs.
func (p *Part) serve(c *cast.Cast, pl *cast.Player, permission string, w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Access-Control-Allow-Origin", "*") // a token is sent by the page itself, no cookie counts here
	w.Header().Set("Access-Control-Expose-Headers", "WWW-Authenticate, DPoP-Nonce")
	if r.Method == http.MethodOptions {
		w.Header().Set("Access-Control-Allow-Headers", "Authorization, Content-Type, DPoP")
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
	shown, e := op.Shown(r, strings.TrimSuffix(pl.APIAt, "/")+"/"+url.PathEscape(permission))
	if e != nil || shown.Token == "" {
		challenge(w, shown, pl, e, permission)
		return
	}
	token := shown.Token
	_, claims, err := oidc.Peek(token)
	if err != nil {
		challenge(w, shown, pl, oidc.Fail(oidc.InvalidToken, err.Error()), permission)
		return
	}
	issuer := issuerOf(c, oidc.Text(claims, "iss"))
	if issuer == nil {
		challenge(w, shown, pl, oidc.Fail(oidc.InvalidToken, "issuer: "+oidc.Text(claims,
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
	scopes := []string{need}
	known := side.Find(permission)
	narrowed, detailed := oauth.Detailed(claims, known, side.Audience)
	if have, _ := oidc.Scope(oidc.Text(claims, "scope")); slices.Contains(have, need) {
		narrowed, detailed = nil, false // it has the whole permission
	} else if detailed {
		scopes = nil
	}
	j := s.JudgeCall(token, side.Audience, *known, scopes...)
	if detailed && j.Body != nil {
		judgeNarrowed(j, known, narrowed, r.URL.Query())
	}
	proof := p.Providers.Possessed(w, j, shown)
	d := op.ClientOf(c, issuer, j.ClientID)
	if d != nil {
		p.Tell(server.Event{Trust: d.Of().Name, By: pl.Name(), What: "access token", Findings: told(j, proof, *known)})
	}
	if proof != nil {
		challenge(w, shown, pl, proof, permission)
		return
	}
	if j.Verdict != judge.Accepted {
		challenge(w, shown, pl, oauth.TokenError(j), permission, oauth.StepUp(j, *known)...)
		return
	}
	a := Answer{API: pl.Name(), Permission: permission, Client: j.ClientID, As: federation.AsSelf,
		Records: records(permission)}
	if detailed && len(narrowed.Records) > 0 {
		a.Records = slices.DeleteFunc(a.Records,
			func(x Record) bool { return !slices.Contains(narrowed.Records, x.ID) })
	}
	if j.Subject != j.ClientID {
		a.As, a.OnBehalfOf = federation.AsUser, j.Subject
	}
	if d != nil && p.Presented != nil {
		p.Presented(d.Of().Name, federation.Ask{API: pl.Name(), Name: permission, As: a.As})
	}
	op.WriteJSON(w, http.StatusOK, a)
}

// told are the findings of a judgement as they are told: where the API asks for a nonce or for a stronger sign-in,
// that is how it is meant to go on, and what comes of it is told by whoever called.
func told(j *oidc.TokenJudgement, nonce *oidc.Error, p federation.Permission) finding.List {
	if nonce == nil && oauth.StepUp(j, p) == nil {
		return j.Findings
	}
	out := slices.Clone(j.Findings)
	for i := range out {
		if out[i].Level == finding.Error {
			out[i].Level = finding.Note
		}
	}
	return out
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

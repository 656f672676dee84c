package stage

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
)

// APIPlayer is a stand-in for an API: it checks the access token that it is sent and answers with some records.
type APIPlayer struct {
	Name, Audience string
	At             string // its address on this stage
}

// AtOf is where an API is played when parties are at their own addresses: at its audience, where that is a URL.
func AtOf(p *federation.Party) string {
	if u, err := url.Parse(p.API.Audience); err == nil && u.Host != "" && (u.Scheme == "https" || u.Scheme == "http") {
		return strings.TrimSuffix(p.API.Audience, "/")
	}
	return "https://" + p.Name + ".stage.test"
}

// apiRoute finds the API under whose address a request is.
func (s *Stage) apiRoute(key string) (*APIPlayer, string) {
	for _, a := range s.APIs {
		base := strings.TrimSuffix(routeKey(a.At), "/")
		if rest, ok := strings.CutPrefix(key, base); ok && (rest == "" || rest[0] == '/') {
			return a, strings.Trim(rest, "/")
		}
	}
	return nil, ""
}

// record is made up: what a stand-in API answers with.
type record struct {
	ID   string `json:"id"`
	Note string `json:"note"`
}

// serveAPI answers a call of an API: the last part of the path names the permission that it needs.
func (s *Stage) serveAPI(a *APIPlayer, permission string, w http.ResponseWriter, r *http.Request) {
	s.reload()
	w.Header().Set("Access-Control-Allow-Origin", "*") // a token is sent by the page itself, no cookie counts here
	if r.Method == http.MethodOptions {
		w.Header().Set("Access-Control-Allow-Headers", "Authorization, Content-Type")
		w.Header().Set("Access-Control-Allow-Methods", "GET, POST, PUT, DELETE")
		w.WriteHeader(http.StatusNoContent)
		return
	}
	p := s.apiParties()[a.Name]
	if p == nil || p.API.Find(permission) == nil {
		names := []string{}
		if p != nil {
			names = p.API.Names()
		}
		writeJSON(w, http.StatusNotFound, map[string]any{"error": "not_found", "error_description": "call /PERMISSION of this stand-in API", "permissions": names})
		return
	}
	token, e := bearer(r)
	if e != nil || token == "" {
		challenge(w, a.Name, e, permission)
		return
	}
	_, claims, err := oidc.Peek(token)
	if err != nil {
		challenge(w, a.Name, oidc.Fail(oidc.InvalidToken, err.Error()), permission)
		return
	}
	var issuer *Player
	for _, d := range s.Deals {
		if d.Provider.op != nil && d.Provider.op.doc.Issuer == oidc.Text(claims, "iss") {
			issuer = d.Provider
		}
	}
	if issuer == nil {
		challenge(w, a.Name, oidc.Fail(oidc.InvalidToken, "issuer: "+oidc.Text(claims, "iss")+", which no provider on this stage has"), permission)
		return
	}
	j := s.judgeAccess(issuer, token, a.Audience, permission)
	d := s.clientDeal(issuer, j.ClientID)
	if d != nil {
		s.event(Event{Trust: d.Trust.Name, By: a.Name, What: "access token", Findings: j.Findings})
	}
	if j.Verdict != judge.Accepted {
		challenge(w, a.Name, tokenError(j), permission)
		return
	}
	as := federation.AsUser
	if j.Subject == j.ClientID {
		as = federation.AsSelf
	}
	if d != nil {
		s.saw(Sighting{Trust: d.Trust.Name, Asks: []federation.Ask{{API: a.Name, Name: permission, As: as}}, Presented: true})
	}
	answer := map[string]any{"api": a.Name, "permission": permission, "client": j.ClientID, "as": as, "records": records(permission)}
	if as == federation.AsUser {
		answer["onBehalfOf"] = j.Subject
	}
	writeJSON(w, http.StatusOK, answer)
}

// records makes three records for a permission, the same each time.
func records(permission string) []record {
	kind, deed, _ := strings.Cut(permission, ".")
	var out []record
	for i, n := range []string{"Northern field", "Zenith strip", "Twilight flats"} {
		note := n + ", as the stand-in has it"
		if deed != "" && deed != "read" {
			note = n + ": " + deed + " accepted by the stand-in, nothing happened"
		}
		out = append(out, record{fmt.Sprintf("%s-%03d", kind, i+1), note})
	}
	return out
}

// CallAPI calls a played API with an access token and says what came back. label is API:PERMISSION, or "" for the first
// that the token has a permission for.
func (s *Stage) CallAPI(d *Deal, token, label string) (finding.List, []federation.Record) {
	var found finding.List
	if label == "" {
		_, claims, _ := oidc.Peek(token)
		have, _ := oidc.Scope(oidc.Text(claims, "scope"))
		for _, a := range d.live().Trust.OIDCTerms().Asks {
			if p := s.apiParties()[a.API]; p != nil && label == "" && slices.Contains(have, a.Name) && slices.Contains(oidc.Texts(claims, "aud"), p.API.Audience) {
				label = a.Label()
			}
		}
	}
	name, permission, _ := strings.Cut(label, ":")
	var api *APIPlayer
	for _, a := range s.APIs {
		if a.Name == name {
			api = a
		}
	}
	if api == nil {
		found.Add(finding.Finding{ID: "call.api", Level: finding.Error, Check: "call", Saw: label, Expected: "API:PERMISSION of an API in the ledger", Side: finding.Ledger,
			Fix: finding.Run("permission", "list")})
		return found, nil
	}
	if permission == "" {
		for _, a := range d.live().Trust.OIDCTerms().Asks {
			if a.API == name && permission == "" {
				permission = a.Name
			}
		}
	}
	status, raw, head := s.get(api.At+"/"+url.PathEscape(permission), token)
	if status != http.StatusOK {
		why := head.Get("WWW-Authenticate")
		e := &oidc.Error{}
		if json.Unmarshal(raw, e) == nil && e.Code != "" {
			why = e.Error()
		}
		side, fix := finding.App, s.missing(d, name+":"+permission)
		if len(fix.Run) > 1 && fix.Run[0] == "consent" && fix.Run[1] == "give" {
			side = finding.Ledger
		}
		found.Add(finding.Finding{ID: "call.refused", Level: finding.Error, Check: "call of " + name + ":" + permission, Saw: fmt.Sprintf("status %d, %s", status, why), Expected: "records",
			Side: side, Fix: fix, Ref: "RFC 6750 3.1"})
		return found, nil
	}
	var got struct {
		Records []record
		As      string
	}
	if err := json.Unmarshal(raw, &got); err != nil {
		found.Add(finding.Finding{ID: "call.answer", Level: finding.Error, Check: "call of " + name + ":" + permission, Saw: err.Error(), Expected: "records", Side: finding.App, Fix: finding.Do("mend the API")})
		return found, nil
	}
	found.Pass("call.records", "call of "+name+":"+permission, fmt.Sprintf("%d records, as %s", len(got.Records), map[string]string{federation.AsSelf: "itself", federation.AsUser: "the user"}[got.As]))
	var records []federation.Record
	for _, r := range got.Records {
		records = append(records, federation.Record{Call: name + ":" + permission, ID: r.ID, Note: r.Note})
	}
	return found, records
}

// missing says what a client lacks for a permission; label "" is any that it asks for.
func (s *Stage) missing(d *Deal, label string) finding.Remedy {
	reg, asked := d.live(), label == ""
	for _, a := range reg.Trust.OIDCTerms().Asks {
		if label != "" && a.Label() != label {
			continue
		}
		asked = true
		if federation.NeedsAdmin(a, s.apiParties()) && !federation.Granted(a, s.apiParties(), reg.Consents, "") {
			return finding.Run("consent", "give", reg.Trust.Name, a.Label(), "--for", "everyone")
		}
	}
	if !asked {
		return finding.Run("permission", "ask", reg.Trust.Name, label)
	}
	return finding.Run("consent", "show", reg.Trust.Name)
}

// Discover reads a provider's discovery document and keys as a client does before its first request, and judges them.
func (s *Stage) Discover(d *Deal) finding.List {
	issuer := d.Provider.op.doc.Issuer
	bad := func(saw, fix string) finding.List {
		return finding.List{{ID: "discovery.read", Level: finding.Error, Check: "discovery", Saw: saw, Expected: "a discovery document and keys", Side: finding.Provider, Fix: finding.Do(fix),
			Ref: "OpenID Connect Discovery 4"}}
	}
	status, raw, _ := s.get(oidc.WellKnown(issuer)[0], "")
	doc, err := oidc.ReadDiscovery(raw)
	if status != http.StatusOK || err != nil {
		return bad(fmt.Sprintf("status %d, %v", status, err), "publish it at "+oidc.WellKnown(issuer)[0])
	}
	found := oidc.JudgeDiscovery(doc, issuer)
	status, raw, _ = s.get(doc.JWKSURI, "")
	_, keys, err := oidc.ReadKeys(raw, finding.Provider)
	if status != http.StatusOK || err != nil {
		return append(found, bad(fmt.Sprintf("keys: status %d, %v", status, err), "publish the keys at "+doc.JWKSURI)...)
	}
	return append(found, keys...)
}

// ServiceCalls are the calls of a service when none are named: for each API of whose permissions it has some, the first; if
// it has none, those that it asks for, so that the refusal is seen.
func (s *Stage) ServiceCalls(d *Deal) []string {
	var have, asked []string
	first := func(list []string, a federation.Ask) []string {
		if slices.ContainsFunc(list, func(l string) bool { return strings.HasPrefix(l, a.API+":") }) {
			return list
		}
		return append(list, a.Label())
	}
	reg := d.live()
	for _, a := range reg.Trust.OIDCTerms().Asks {
		if a.As != federation.AsSelf || a.API == "" {
			continue
		}
		asked = first(asked, a)
		if federation.Granted(a, s.apiParties(), reg.Consents, "") {
			have = first(have, a)
		}
	}
	if have == nil {
		return asked
	}
	return have
}

// ServiceToken has a service get a token as itself, for the API of a call where it asks for permissions of several.
func (s *Stage) ServiceToken(d *Deal, scope, call string) (access string, found finding.List) {
	form := url.Values{"grant_type": {"client_credentials"}}
	if scope != "" {
		form.Set("scope", scope)
	}
	name, _, _ := strings.Cut(call, ":")
	if p := s.apiParties()[name]; p != nil && len(s.audiences(d, nil, federation.AsSelf)) > 1 {
		form.Set("resource", p.API.Audience)
	}
	t, e := s.callToken(d, form)
	if e != nil {
		found.Add(finding.Finding{ID: "oauth." + e.Code, Level: finding.Error, Check: "token as itself", Saw: e.Error(), Expected: "an access token", Side: finding.Ledger, Fix: s.remedy(e, d), Ref: "RFC 6749 4.4"})
		return "", found
	}
	found.Pass("oauth.tokens", "token as itself", t.words())
	return t.AccessToken, found
}

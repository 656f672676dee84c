// Package stage is the local HTTP server on which stand-ins play providers and apps, and the walk that signs in there as
// a browser would. The messages are real and are judged by internal/core/saml; only the people at the keyboard are not.
package stage

import (
	"crypto/rsa"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// GCPercent suits a process that serves a stage: its heap is a few MB, and collecting it less often gives sign-ins a
// twentieth more speed (debug.SetGCPercent).
const GCPercent = 400

// Player is a party as it is played: its entity holds the addresses and certificates that hold on this stage.
type Player struct {
	Party    federation.Party
	Signer   *xmlsec.Signer
	Decrypt  *rsa.PrivateKey
	StandIn  bool               // played with a key of its own, not with the party's
	Home     string             // app: the page that shows who signed in
	OpenID   *oidc.Discovery    // provider: its OpenID side, as it holds on this stage
	JOSE     *oidc.Signer       // provider: signs its tokens
	Client   *federation.Client // app: its client side, as it holds on this stage
	Callback string             // app: the redirect URI it sends; "" is its first
	Upstream bool               // app: an own provider before an upstream one
	Origin   saml.Entity        // the entity as it is in the ledger
	Real     bool               // app: not played, it runs at its own address on this machine

	op *openID
}

// Suppose holds values of the app or provider that are to differ from the ledger, to see what would happen.
type Suppose struct {
	ACS      string         // the app believes its assertion consumer service is here
	EntityID string         // the app believes this is its entity ID
	Clock    time.Duration  // the app's clock is ahead by so much
	Signer   *xmlsec.Signer // the provider signs with this key

	// Over OpenID Connect.
	Redirect string       // the app believes this is its redirect URI
	ClientID string       // the app believes this is its client ID
	Secret   string       // the app authenticates with this
	Scope    string       // the app asks for these scopes
	From     netip.Addr   // the app and the browser call from here
	JOSE     *oidc.Signer // the provider signs with this key
}

// Deal is a trust on the stage.
type Deal struct {
	Trust    federation.Trust
	App      *Player
	Provider *Player
	Releaser *federation.Releaser
	Suppose  Suppose

	// First is the permission that the played client is to call first: its first token is for that API.
	First string

	// StageSecret is a client secret that holds on this stage alone, for the stand-in of a client.
	StageSecret string

	registered registration
	fetched    time.Time   // when the client's keys were last fetched anew
	expect     saml.Expect // all but the time, worked out once
}

// Event is something that happened on the stage: a judgement by a player.
type Event struct {
	Trust    string
	By       string // name of the player
	What     string // request or response
	Findings finding.List
	Judged   *saml.ResponseJudgement // responses only
	Token    *oidc.TokenJudgement    // ID tokens only
	Records  []federation.Record
	Kept     [][2]string // rehearsals: tokens as they came, each with its kind
}

// Stage serves a cast of players.
type Stage struct {
	Deals   []*Deal
	People  []people.Person
	Now     func() time.Time
	Rand    io.Reader
	Watch   func(Event)                 // may be nil
	CarryOn bool                        // rehearsals: a refused request is answered all the same, to see what else is wrong
	Remedy  func(finding.Remedy) string // writes a remedy on a page; nil: its words alone
	Notice  string                      // shown on every page, such as a set clock
	APIs    []*APIPlayer
	Book    Book
	Record  bool // rehearsals: remember the calls from server to server, for the steps of a walk

	apis   atomic.Pointer[map[string]*federation.Party]
	oauth  oauthState
	opened map[string]string // where a played native client takes what its private scheme opens
	shared map[string]bool   // redirect URIs and the like, which several clients may have
	inner  []Step

	mu       sync.Mutex
	routes   map[string]http.HandlerFunc
	sessions map[string]*session // provider sessions by cookie
	pending  map[string]*pending // sign-ins under way at providers, by form token
	asked    map[string]*asked   // requests of apps, by request ID
	guests   map[string]*guest   // app sessions by cookie
	seen     map[string]time.Time
	swept    time.Time
}

type session struct {
	provider string
	person   *people.Person
	context  string
	since    time.Time
	index    string
}

type pending struct {
	deal    *Deal
	request *saml.AuthnRequest // nil: started at the provider
	relay   string
	acs     string
	browser string
	person  *people.Person // after the first factor
	made    time.Time
	oauth   *authz   // the request, if it came over OpenID Connect
	session *session // who waits at the consent page
}

type asked struct {
	deal    *Deal
	browser string
	made    time.Time
}

type guest struct {
	app    string
	judged *saml.ResponseJudgement
	trust  string
}

// ErrClash means that two players would be served at the same address.
var ErrClash = errors.New("two parties share an address")

// Open lays out the addresses of all players. Errors: ErrClash.
func (s *Stage) Open() error {
	s.routes = map[string]http.HandlerFunc{}
	s.sessions, s.pending = map[string]*session{}, map[string]*pending{}
	s.asked, s.guests = map[string]*asked{}, map[string]*guest{}
	s.seen = map[string]time.Time{}
	s.oauth, s.opened, s.shared = newOAuthState(), map[string]string{}, map[string]bool{}
	done := map[*Player]bool{}
	for _, d := range s.Deals {
		if d.Trust.OIDCTerms() != nil && d.live() == nil {
			d.Register(&Registered{Trust: d.Trust})
		}
		for _, p := range []*Player{d.Provider, d.App} {
			if !done[p] && !p.Real {
				done[p] = true
				if err := s.layOut(p); err != nil {
					return err
				}
			}
		}
		if _, ok := d.Trust.SAML(); ok {
			d.expect = federation.Expectation(&d.Trust, &d.App.Party, &d.Provider.Party, time.Time{})
		}
		if d.Suppose.ACS != "" {
			s.routes[routeKey(d.Suppose.ACS)] = s.acs(d.App)
		}
	}
	return nil
}

// routeKey is host and path of a URL, as a request shows them.
func routeKey(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return raw
	}
	host := strings.ToLower(u.Host)
	if u.Scheme == "https" {
		host = strings.TrimSuffix(host, ":443")
	} else {
		host = strings.TrimSuffix(host, ":80")
	}
	path := u.EscapedPath()
	if path == "" {
		path = "/"
	}
	return host + path
}

func (s *Stage) layOut(p *Player) error {
	own := map[string]bool{}
	put := func(raw string, h http.HandlerFunc) error {
		k := routeKey(raw)
		if own[k] {
			return nil
		}
		if _, ok := s.routes[k]; ok {
			return fmt.Errorf("%w: %s is an address of %s and of another party", ErrClash, raw, p.Party.Name)
		}
		own[k] = true
		s.routes[k] = h
		return nil
	}
	var err error
	add := func(raw string, h http.HandlerFunc) {
		if raw != "" && err == nil {
			err = put(raw, h)
		}
	}
	if p.Party.Kind == federation.Provider {
		if e := s.openOpenID(p, add); e != nil {
			return e
		}
		if p.Party.Entity.IDP == nil {
			return err
		}
		for _, e := range p.Party.Entity.IDP.SSO {
			if e.Binding == saml.BindingRedirect || e.Binding == saml.BindingPOST {
				add(e.Location, s.sso(p))
			}
		}
		add(p.signIn(), s.signIn(p))
		add(p.launch(), s.launch(p))
	} else {
		s.layOutClient(p, add)
		if p.Party.Entity.SP == nil {
			return err
		}
		for _, e := range p.Party.Entity.SP.ACS {
			if e.Binding == saml.BindingPOST {
				add(e.Location, s.acs(p))
			}
		}
		add(p.start(), s.start(p))
		add(p.Home, s.home(p))
	}
	add(p.metadataURL(), s.metadata(p))
	return err
}

// signIn is where the sign-in form of a provider posts to: below its first sign-in endpoint.
func (p *Player) signIn() string {
	if p.Party.Entity.IDP == nil {
		u, _, _ := strings.Cut(p.OpenID.AuthorizationEndpoint, "?")
		return strings.TrimSuffix(u, "/") + "/sign-in"
	}
	e, _ := saml.EndpointFor(p.Party.Entity.IDP.SSO, saml.BindingRedirect, saml.BindingPOST)
	u, _, _ := strings.Cut(e.Location, "?")
	return strings.TrimSuffix(u, "/") + "/sign-in"
}

func (p *Player) start() string {
	if p.Party.Entity.SP.Start != "" {
		return p.Party.Entity.SP.Start
	}
	return p.Home + "start"
}

func (p *Player) metadataURL() string {
	switch {
	case p.Party.At != "":
		return strings.TrimSuffix(p.Party.At, "/") + "/metadata"
	case p.Home != "":
		return p.Home + "metadata"
	}
	return strings.TrimSuffix(p.signIn(), "/sign-in") + "/metadata"
}

// HomeOf is where a player app shows who signed in, when it is played at its own addresses.
func HomeOf(p *federation.Party) string {
	if p.Entity.SP == nil {
		if c := p.ClientSide(); c != nil {
			return HomeOfClient(c, p.Name)
		}
		return ""
	}
	e, ok := saml.EndpointFor(p.Entity.SP.ACS, saml.BindingPOST)
	if !ok {
		return ""
	}
	u, err := url.Parse(e.Location)
	if err != nil {
		return ""
	}
	return u.Scheme + "://" + u.Host + "/"
}

// Hosts lists the host names of all addresses on the stage.
func (s *Stage) Hosts() map[string]bool {
	out := map[string]bool{}
	keys := slices.Collect(maps.Keys(s.routes))
	for _, a := range s.APIs {
		keys = append(keys, routeKey(a.At))
	}
	for _, k := range keys {
		h, _, _ := strings.Cut(k, "/")
		if name, _, err := net.SplitHostPort(h); err == nil {
			h = name
		}
		out[h] = true
	}
	return out
}

// ServeHTTP answers for the player whose address was asked for; an unknown host gets nothing (no DNS rebinding).
func (s *Stage) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host := strings.TrimSuffix(strings.ToLower(r.Host), ":443")
	path := r.URL.EscapedPath()
	if h, ok := s.routes[host+path]; ok {
		r.Body = http.MaxBytesReader(w, r.Body, 4<<20)
		h(w, r)
		return
	}
	if a, permission := s.apiRoute(host + path); a != nil {
		r.Body = http.MaxBytesReader(w, r.Body, 4<<20)
		s.serveAPI(a, permission, w, r)
		return
	}
	if !s.Hosts()[strings.Split(host, ":")[0]] {
		http.Error(w, "no party on this stage has this address", http.StatusMisdirectedRequest)
		return
	}
	s.page(w, http.StatusNotFound, "Nothing here", "", pageData{Lead: "No party of this stage has an endpoint at " + r.URL.Path + "."})
}

func (s *Stage) event(e Event) {
	if s.Watch != nil {
		s.Watch(e)
	}
}

func (s *Stage) id() string {
	v, err := federation.RandomID(s.Rand)
	if err != nil {
		panic(http.ErrAbortHandler) // no randomness: this request cannot be answered
	}
	return v
}

// cookie returns the value of a cookie, making and setting one if there is none.
func (s *Stage) cookie(w http.ResponseWriter, r *http.Request, name string) string {
	if c, err := r.Cookie(name); err == nil && len(c.Value) == 41 {
		return c.Value
	}
	v := s.id()
	http.SetCookie(w, &http.Cookie{Name: name, Value: v, Path: "/", HttpOnly: true, SameSite: http.SameSiteLaxMode})
	return v
}

// sweep forgets what is over, so that a stage left running does not grow. The lock is held.
func (s *Stage) sweep(now time.Time) {
	if now.Sub(s.swept) < time.Minute && now.Sub(s.swept) >= 0 {
		return
	}
	s.swept = now
	old := now.Add(-15 * time.Minute)
	for k, v := range s.pending {
		if v.made.Before(old) {
			delete(s.pending, k)
		}
	}
	for k, v := range s.asked {
		if v.made.Before(old) {
			delete(s.asked, k)
		}
	}
	for k, v := range s.seen {
		if v.Before(old) {
			delete(s.seen, k)
		}
	}
	for k, v := range s.sessions {
		if v.since.Before(now.Add(-s.longest())) {
			delete(s.sessions, k)
		}
	}
	s.sweepOAuth(now)
	for len(s.guests) > 1000 {
		for k := range s.guests {
			delete(s.guests, k)
			break
		}
	}
}

// longest is how long a session at a provider may be of use to any trust.
func (s *Stage) longest() time.Duration {
	out := 8 * time.Hour
	for _, d := range s.Deals {
		if d.Trust.OIDCTerms() != nil {
			out = max(out, federation.Span(d.live().Trust.OIDCTerms().Policy.Session))
		}
	}
	return out
}

// once reports whether an ID was seen by a player before, and remembers it.
func (s *Stage) once(by, id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := s.Now()
	s.sweep(now)
	_, again := s.seen[by+" "+id]
	s.seen[by+" "+id] = now
	return again
}

func (s *Stage) person(id string) *people.Person {
	for i := range s.People {
		p := &s.People[i]
		if strings.EqualFold(p.ID, id) {
			return p
		}
		for _, m := range p.Attributes["mail"] {
			if strings.EqualFold(m, id) {
				return p
			}
		}
	}
	return nil
}

func (s *Stage) metadata(p *Player) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		b, err := saml.WriteMetadata(&p.Party.Entity, saml.WriteOptions{ID: s.id(), Signer: p.Signer})
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "application/samlmetadata+xml")
		w.Write(b)
	}
}

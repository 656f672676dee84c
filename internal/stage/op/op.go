// Package op plays OpenID providers, which are authorization servers too. The rules are those of core/oauth; here are
// its endpoints and pages.
package op

import (
	"crypto"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// Notes is where the part keeps what it saw. Its functions return at once; nothing of it may be nil.
type Notes struct {
	Consents func([]federation.Consent)                              // people agreed, or were stopped
	Issued   func(trust string, asks []federation.Ask, at time.Time) // permissions were put into an access token
	Secret   func(id string, at time.Time)                           // a secret was used
	Keys     func(t *federation.OIDCTerms) ([]oidc.Key, error)       // fetches what a client publishes; it may wait
}

// NoNotes keeps nothing.
func NoNotes() Notes {
	return Notes{Consents: func([]federation.Consent) {}, Issued: func(string, []federation.Ask, time.Time) {},
		Secret: func(string, time.Time) {},
		Keys:   func(*federation.OIDCTerms) ([]oidc.Key, error) { return nil, nil }}
}

// Part plays all OpenID providers of a stage.
type Part struct {
	*server.Server
	Cast  func() *cast.Cast // the cast as it is now
	State oauth.State
	Key   []byte // of the refresh tokens
	Notes Notes
	// SignedOut is told which trusts and sessions a sign-out ended, for played clients; it may be nil.
	SignedOut func(ended func(trust, session string) bool)

	// Elsewhere has parts of other protocols end a session, then goes on with done; it reports whether there are any.
	// It may be nil.
	Elsewhere func(w http.ResponseWriter, r *http.Request, provider, session string,
		done func(w http.ResponseWriter, r *http.Request, failed []string)) bool

	pushed   *server.Kept[pushed] // authorization requests that were pushed, by request URI
	devices  *oauth.Devices
	visitors *server.Kept[[]visitor] // the clients that were told of a session, by its index
	mu       sync.Mutex
	fetched  map[string]fetched // keys of clients that publish them, by address
}

type fetched struct {
	at   time.Time
	keys []oidc.Key
}

// New makes the part.
func New(s *server.Server, now func() *cast.Cast, state oauth.State, key []byte, notes Notes) *Part {
	return &Part{Server: s, Cast: now, State: state, Key: key, Notes: notes, fetched: map[string]fetched{},
		visitors: server.NewKept[[]visitor](s.Now, 30*24*time.Hour, 20_000),
		pushed:   server.NewKept[pushed](s.Now, pushedLife, 5_000),
		devices:  oauth.NewDevices(func() time.Time { return s.Now() })}
}

// Serves is the authorization server of a player; d names the trust whose supposed key it signs with, and may be nil.
func (p *Part) Serves(pl *cast.Player, d *cast.OIDC) (*oauth.Server, error) {
	signers, err := pl.Keys.JOSE()
	if err != nil {
		return nil, err
	}
	doc := *pl.OpenID
	doc.IDTokenAlgorithms = signers.Algorithms()
	if d != nil && d.Suppose.JOSE != nil {
		signers = oidc.Signers{d.Suppose.JOSE}
	}
	published, err := pl.Published()
	if err != nil {
		return nil, err
	}
	return &oauth.Server{Doc: &doc, Signers: signers, Published: published, State: p.State, Key: p.Key,
		Person: p.Cast().People.Find,
		Random: p.Random, Now: p.Now, Devices: p.devices,
		Issued: func(trust string, asks []federation.Ask) { p.Notes.Issued(trust, asks, p.Now()) }}, nil
}

// played are the endpoints of one provider, in one scene.
type played struct {
	*Part
	c  *cast.Cast
	pl *cast.Player
}

// LayOut lays out the endpoints of a provider.
func (p *Part) LayOut(l *server.Layout, c *cast.Cast, pl *cast.Player) {
	doc := pl.OpenID
	if doc == nil || pl.Real {
		return
	}
	x := &played{p, c, pl}
	add := func(at string, h http.HandlerFunc) { l.Add(pl.Name(), at, h) }
	document := func(at string, h http.HandlerFunc) { l.Document(pl.Name(), at, h) }
	for _, at := range oidc.WellKnown(doc.Issuer) {
		document(at, x.document("application/json",
			func(s *oauth.Server) ([]byte, error) { return json.Marshal(x.discovery(s.Doc)) }))
	}
	document(doc.JWKSURI, x.document("application/jwk-set+json", func(s *oauth.Server) ([]byte, error) {
		var list []crypto.PublicKey
		for _, k := range s.Published {
			list = append(list, k.Public)
		}
		return oidc.WriteKeys(list...)
	}))
	add(doc.AuthorizationEndpoint, x.authorize)
	add(pl.SignInAt(), p.SignInForm(pl.Name(), pl.Title()))
	add(x.consentAt(), x.consent)
	add(doc.TokenEndpoint, x.token)
	document(doc.UserinfoEndpoint, x.userinfo)
	add(doc.IntrospectionEndpoint, x.introspect)
	add(doc.RevocationEndpoint, x.revoke)
	add(doc.EndSessionEndpoint, x.endSession)
	add(doc.PushedEndpoint, x.push)
	if doc.DeviceEndpoint != "" {
		add(doc.DeviceEndpoint, x.deviceAuthorization)
		add(x.deviceAt(), x.device)
	}
}

func (x *played) consentAt() string {
	return strings.TrimSuffix(x.pl.SignInAt(), "/sign-in") + "/consent"
}

// ClientOf finds the trust of a client ID at a provider; nil if there is none.
func ClientOf(c *cast.Cast, pl *cast.Player, clientID string) *cast.OIDC {
	for _, d := range c.OIDC {
		if d.Deal.Provider.Name() == pl.Name() && d.Terms.ClientID == clientID && clientID != "" {
			return d
		}
	}
	return nil
}

// only returns the one trust over OpenID Connect of a provider, as in a rehearsal.
func (x *played) only() *cast.OIDC {
	var one *cast.OIDC
	for _, d := range x.c.OIDC {
		if d.Deal.Provider == x.pl {
			if one != nil {
				return nil
			}
			one = d
		}
	}
	return one
}

// meant is the trust that a client of an unknown ID is likely to mean: the only one of the provider, or the one that is
// watched.
func (x *played) meant() *cast.OIDC {
	if d := x.only(); d != nil {
		return d
	}
	var one *cast.OIDC
	for _, d := range x.c.OIDC {
		if d.Deal.Provider == x.pl && x.Followed(d.Of().Name) {
			if one != nil {
				return nil
			}
			one = d
		}
	}
	return one
}

func (x *played) tell(d *cast.OIDC, what string, found ...finding.Finding) {
	x.Tell(server.Event{Trust: d.Of().Name, By: x.pl.Name(), What: what, Findings: found})
}

func (x *played) page(w http.ResponseWriter, status int, title, lead string) {
	x.Page(w, status, server.Page{Title: title, By: x.pl.Title(), Lead: lead})
}

// serves is the authorization server; where its key cannot be opened, a page says so.
func (x *played) serves(w http.ResponseWriter, d *cast.OIDC) *oauth.Server {
	s, err := x.Serves(x.pl, d)
	if err != nil {
		http.Error(w, "the keys of "+x.pl.Name()+" cannot be opened: "+err.Error(), http.StatusInternalServerError)
		return nil
	}
	return s
}

// discovery is the document with the scopes that trusts of the provider ask for.
func (x *played) discovery(own *oidc.Discovery) *oidc.Discovery {
	doc := *own
	doc.ScopesSupported = slices.Clone(doc.ScopesSupported)
	for _, d := range x.c.OIDC {
		if d.Deal.Provider != x.pl {
			continue
		}
		for _, a := range d.Terms.Asks {
			if !slices.Contains(doc.ScopesSupported, a.Name) {
				doc.ScopesSupported = append(doc.ScopesSupported, a.Name)
			}
			if p := d.APIs[a.API]; p != nil && !slices.Contains(doc.DetailTypes, a.Name) {
				if known := p.API.Find(a.Name); known != nil && (known.Records != "" || known.Amount != "") {
					doc.DetailTypes = append(doc.DetailTypes, a.Name)
				}
			}
		}
	}
	return &doc
}

// document serves public JSON that any page may read.
func (x *played) document(kind string, write func(*oauth.Server) ([]byte, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Access-Control-Allow-Origin", "*")
		h.Set("X-Content-Type-Options", "nosniff")
		switch r.Method {
		case http.MethodOptions:
			h.Set("Access-Control-Allow-Methods", "GET")
			w.WriteHeader(http.StatusNoContent)
			return
		case http.MethodGet, http.MethodHead:
		default:
			h.Set("Allow", "GET, HEAD, OPTIONS")
			http.Error(w, "read this with GET", http.StatusMethodNotAllowed)
			return
		}
		s := x.serves(w, nil)
		if s == nil {
			return
		}
		b, err := write(s)
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		h.Set("Content-Type", kind)
		h.Set("Cache-Control", "public, max-age=60")
		w.Write(b)
	}
}

// registered is a client with its keys: one that publishes them is asked again, at most once a minute, where an
// assertion is signed by none of them, whatever its kid.
func (x *played) registered(d *cast.OIDC, assertion string) *oauth.Registered {
	at := d.Terms.JWKSURI
	if at == "" || assertion == "" {
		return d.Registered
	}
	r := *d.Registered
	x.mu.Lock()
	f := x.fetched[at]
	if f.keys != nil {
		r.Keys = f.keys
	}
	_, _, err := oidc.Peek(assertion)
	known := err == nil && slices.ContainsFunc(oidc.Verify(assertion, r.Keys), func(f finding.Finding) bool {
		return f.ID == finding.TokenSignature && f.Level == finding.Pass
	})
	again := x.Now().Sub(f.at) >= time.Minute || f.at.IsZero()
	if err == nil && !known && again {
		f.at = x.Now()
		x.fetched[at] = f
	}
	x.mu.Unlock()
	if err != nil || known || !again {
		return &r
	}
	list, err := x.Notes.Keys(d.Terms)
	if err != nil || len(list) == 0 {
		return &r
	}
	x.mu.Lock()
	x.fetched[at] = fetched{f.at, list}
	x.mu.Unlock()
	r.Keys = list
	return &r
}

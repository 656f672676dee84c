// Package stage puts the parts together: the local HTTP server on which stand-ins play providers, apps and APIs, and
// the walk that signs in there as a browser would. The messages are real and are judged by the core; only the people at
// the keyboard are not.
package stage

import (
	"crypto/tls"
	"io"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/stage/api"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/idp"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/rp"
	"tressik.example/internal/stage/server"
	"tressik.example/internal/stage/sp"
)

// GCPercent suits a process that serves a stage: its heap is a few MB, and collecting it less often gives sign-ins a
// twentieth more speed (debug.SetGCPercent).
const GCPercent = 400

// Collecting is the percentage for a process that serves a stage and holds so many bytes: what is thrown away with each
// change of a large ledger does not grow to several times what is held.
func Collecting(held uint64) int {
	const most = 128 << 20 // bytes of garbage
	return int(min(GCPercent, max(50, most*100/max(held, 1))))
}

// Options say how a stage is run.
type Options struct {
	Now       func() time.Time
	Rand      io.Reader
	State     oauth.State // of the authorization servers; nil makes one that is forgotten
	Key       []byte      // of the refresh tokens; nil makes one
	Notes     op.Notes    // what was seen; the zero value keeps nothing
	Presented func(trust string, ask federation.Ask)
	Watch     func(server.Event)
	Follows   func(trust string) bool // see server.Server
	Outside   func(p *federation.Party, with *tls.Certificate) (http.RoundTripper, error)
	Remedy    func(finding.Remedy) string
	Notice    []string
	Passwords server.Passwords // nil: nobody has one
	// Arrive keeps somebody who came in from an upstream provider, and returns them as kept; nil: nobody comes in
	Arrive  func(p *people.Person, trust, subject, how string) (*people.Person, error)
	CarryOn bool // rehearsals: a refused SAML request is answered all the same, to see what else is wrong
	Record  bool // rehearsals: calls from server to server are steps
}

// Stage serves a cast, which can be swapped while it runs.
type Stage struct {
	*server.Server
	Clients   *rp.Part
	Providers *op.Part
	idp       *idp.Part
	sp        *sp.Part
	api       *api.Part
	cast      atomic.Pointer[cast.Cast]
	mu        sync.Mutex // held while the cast is swapped
	arrive    func(p *people.Person, trust, subject, how string) (*people.Person, error)
}

// New makes a stage that plays nothing yet. Errors: those of reading randomness.
func New(o Options) (*Stage, error) {
	if o.Key == nil {
		o.Key = make([]byte, 32)
		if _, err := io.ReadFull(o.Rand, o.Key); err != nil {
			return nil, err
		}
	}
	s := &Stage{Server: server.New(o.Now, o.Rand)}
	s.cast.Store(cast.Empty())
	if o.State == nil {
		o.State = oauth.NewMemory(func() time.Time { return s.Now() }, nil)
	}
	s.Watch, s.Remedy, s.Notice, s.Record, s.Passwords = o.Watch, o.Remedy, o.Notice, o.Record, o.Passwords
	s.Follows, s.Outside = o.Follows, o.Outside
	if o.Notes.Consents == nil {
		o.Notes = op.NoNotes()
	}
	keep := o.Notes.Consents
	o.Notes.Consents = func(list []federation.Consent) {
		if len(list) > 0 {
			s.consent(list)
			keep(list)
		}
	}
	s.idp = idp.New(s.Server, s.Cast)
	s.sp = sp.New(s.Server, s.idp)
	s.idp.CarryOn = o.CarryOn
	s.Providers = op.New(s.Server, s.Cast, o.State, o.Key, o.Notes)
	s.Clients = rp.New(s.Server, s.Cast)
	s.Providers.SignedOut = s.Clients.Forget
	s.Providers.Elsewhere, s.idp.Ended = s.idp.Leave, s.Providers.EndedElsewhere
	s.Upstream, s.Routed = s.upstream, s.routed
	s.arrive = o.Arrive
	s.api = &api.Part{Server: s.Server, Providers: s.Providers, Presented: o.Presented}
	return s, nil
}

// Cast is what is played now.
func (s *Stage) Cast() *cast.Cast { return s.cast.Load() }

// Play swaps what is played, whole: requests that began before go on with what they began with. Errors:
// *server.ErrClash.
func (s *Stage) Play(c *cast.Cast) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.play(c)
}

func (s *Stage) play(c *cast.Cast) error {
	l := server.NewLayout()
	for _, pl := range c.Players {
		if !pl.Real {
			s.sp.LayOut(l, c, pl)
		}
		s.idp.LayOut(l, c, pl)
		s.Providers.LayOut(l, c, pl)
		s.Clients.LayOut(l, c, pl)
		s.api.LayOut(l, c, pl)
	}
	if c.Base != "" {
		l.Share(c.Base+"/", s.front(c))
		l.Share(c.Base+"/.well-known/webfinger", s.webfinger(c))
		l.ReadOnly(c.Base + "/.well-known/webfinger")
	}
	scene, err := l.Scene()
	if err != nil {
		return err
	}
	s.cast.Store(c)
	s.Set(scene)
	return nil
}

// shown is how many of each kind a page lists at most; a name finds the others.
const shown = 50

// front lists who is played, with the links that start sign-in: the first page of a stage. Of many it lists some, and
// finds those whose name or address has what is looked for.
func (s *Stage) front(c *cast.Cast) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		page := server.Page{Title: "The stage", Lead: "Start a sign-in at an app, or look at who is played here."}
		apps, providers, apis := server.List{Title: "Apps"}, server.List{Title: "Providers"}, server.List{Title: "APIs"}
		find := strings.ToLower(strings.TrimSpace(r.URL.Query().Get("find")))
		for _, x := range s.Places() {
			if !strings.Contains(strings.ToLower(x.Name+" "+x.EntityID+" "+x.Start+" "+x.Issuer+" "+x.Address), find) {
				continue
			}
			switch {
			case x.Kind == "api":
				apis.Add(shown, x.Name, x.Address, "")
			case x.Kind == string(federation.Provider) && x.Discovery != "":
				providers.Add(shown, x.Name, "discovery document", x.Discovery)
			case x.Kind == string(federation.Provider):
				providers.Add(shown, x.Name, "metadata", x.Metadata)
			case x.Start != "":
				apps.Add(shown, x.Name, "start sign-in", x.Start)
			default:
				apps.Add(shown, x.Name, "acts as itself: nobody signs in", "")
			}
		}
		many := find != ""
		for _, l := range []server.List{apps, providers, apis} {
			if many = many || l.Left > 0; len(l.Rows) > 0 {
				page.Lists = append(page.Lists, l)
			}
		}
		if many {
			page.Find = &server.Find{At: c.Base + "/", Ask: "Part of a name or an address",
				Value: r.URL.Query().Get("find")}
		}
		if len(page.Lists) == 0 {
			page.Lead = "Nobody who is played here has that in a name or an address."
		}
		s.Page(w, http.StatusOK, page)
	}
}

// consent has consents count at once, before the ledger has them.
func (s *Stage) consent(list []federation.Consent) {
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = s.play(s.Cast().WithConsents(list)) // at the same addresses as before
}

// Places lists where the players are, providers first.
func (s *Stage) Places() []Place {
	var out []Place
	c := s.Cast()
	for _, kind := range []federation.Kind{federation.Provider, federation.App} {
		for _, pl := range c.Players {
			if pl.Party.Kind == kind && (kind == federation.Provider || len(c.SAMLOf(pl))+len(c.OIDCOf(pl)) > 0) {
				out = append(out, place(c, pl))
			}
		}
	}
	for _, pl := range c.Players {
		if pl.APIAt != "" {
			out = append(out, Place{Name: pl.Name(), Kind: "api", Played: "by a stand-in",
				Audience: pl.Party.API.Audience, Address: pl.APIAt})
		}
	}
	return out
}

// Place is where a player is found on a running stage.
type Place struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	EntityID string `json:"entityID,omitempty"`
	Played   string `json:"played"` // with which keys, in words
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

func place(c *cast.Cast, pl *cast.Player) Place {
	x := Place{Name: pl.Name(), Kind: string(pl.Party.Kind), EntityID: pl.Party.Entity.ID, Played: "with its own key"}
	switch {
	case pl.StandIn && pl.Party.Own:
		x.Played = "with keys of the stage"
	case pl.StandIn:
		x.Played = "by a stand-in, with keys of the stage"
	}
	if pl.Party.Kind == federation.Provider {
		x.Start = pl.LaunchAt()
		if idp := pl.Party.Entity.IDP; idp != nil {
			e, _ := saml.EndpointFor(idp.SSO, saml.BindingRedirect, saml.BindingPOST)
			x.SSO, x.Metadata = e.Location, pl.MetadataAt()
		}
		if pl.OpenID != nil {
			x.Issuer, x.Discovery = pl.OpenID.Issuer, oidc.WellKnown(pl.OpenID.Issuer)[0]
		}
		return x
	}
	if len(c.SAMLOf(pl)) > 0 {
		e, _ := saml.EndpointFor(pl.Party.Entity.SP.ACS, saml.BindingPOST)
		x.ACS, x.Start, x.Page, x.Metadata = e.Location, pl.Party.Entity.SP.Start, pl.Home, pl.MetadataAt()
	}
	var ids []string
	for _, d := range c.OIDCOf(pl) {
		ids = append(ids, d.Terms.ClientID)
		if d.Client.Kind.Redirects() {
			x.Start, x.Page, x.Redirect = pl.ClientHome()+"start", pl.ClientHome(), d.Redirect()
		}
	}
	x.ClientIDs = strings.Join(ids, ", ")
	if pl.Real {
		x.Played, x.Metadata = "by itself, at its own address", ""
	}
	return x
}

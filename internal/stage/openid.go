package stage

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
)

// Registered is what the ledger has of a trust over OpenID Connect, as it is now.
type Registered struct {
	Trust    federation.Trust
	Secrets  []federation.Secret
	Consents []federation.Consent
	Keys     []oidc.Key // the client's, for private_key_jwt
}

// Sighting is what the stage saw of a permission or a secret.
type Sighting struct {
	Trust     string
	Asks      []federation.Ask
	Presented bool   // to the API; else put into a token
	Secret    string // ID of a secret that was used
	At        time.Time
}

// Book connects a stage with the ledger. Each function may be nil.
type Book struct {
	Reload  func() (map[string]*Registered, map[string]*federation.Party, bool) // by trust; the APIs by name; false: nothing changed
	Consent func([]federation.Consent) error
	Saw     func(Sighting)
	Keys    func(uri string) ([]oidc.Key, error) // fetches what a client publishes
}

// openID is the OpenID side of a provider on this stage.
type openID struct {
	doc  *oidc.Discovery
	keys []oidc.Key
	jwks []byte
}

// code is an authorization code (RFC 6749, section 4.1.2).
type code struct {
	deal      *Deal
	redirect  string
	challenge string
	nonce     string
	grant     grant
	used      bool
	family    string
	made      time.Time
}

// grant is what a sign-in led to: who, for which permissions, in which session.
type grant struct {
	person   string
	asks     []federation.Ask
	resource []string // audiences named in the request
	session  string   // index of the provider's session
	context  string
	authTime time.Time
}

// family is a chain of tokens from one sign-in. Of its refresh tokens the last alone is good; an older one ends it all.
type family struct {
	deal   *Deal
	grant  grant
	seed   string // 256 random bits, of which its refresh tokens are made
	serial uint32 // of the refresh token that is good; 0: there is none
	since  time.Time
	used   time.Time
	until  time.Time // the last of its tokens is over
	ended  string    // why it is ended; "" it is not
}

// refreshToken is the refresh token of a serial number: the chain's ID, the number, and a code of both that nobody can
// make without the seed. So an older one of the chain is told from one that somebody made up.
func (f *family) refreshToken(id string, serial uint32) string {
	var n [4]byte
	binary.BigEndian.PutUint32(n[:], serial)
	m := hmac.New(sha256.New, []byte(f.seed))
	m.Write([]byte(id))
	m.Write(n[:])
	return id + "." + base64.RawURLEncoding.EncodeToString(m.Sum(n[:]))
}

// serialOf reads the serial number of a refresh token of the chain; ok is false for what is none.
func (f *family) serialOf(token string) (serial uint32, ok bool) {
	id, rest, _ := strings.Cut(token, ".")
	b, err := base64.RawURLEncoding.Strict().DecodeString(rest)
	if err != nil || len(b) != 4+sha256.Size || f.seed == "" {
		return 0, false
	}
	serial = binary.BigEndian.Uint32(b)
	return serial, hmac.Equal([]byte(token), []byte(f.refreshToken(id, serial)))
}

// CodeLife is how long an authorization code is good.
const CodeLife = time.Minute

// oauthState is what the stage remembers of OAuth.
type oauthState struct {
	codes      map[string]*code
	families   map[string]*family
	revoked    map[string]time.Time // jti of access tokens, until they expire
	assertions map[string]time.Time // jti of client assertions, until they expire
	asked      map[string]*clientAsked
	guests     map[string]*clientGuest
}

func newOAuthState() oauthState {
	return oauthState{map[string]*code{}, map[string]*family{}, map[string]time.Time{}, map[string]time.Time{}, map[string]*clientAsked{},
		map[string]*clientGuest{}}
}

// sweepOAuth forgets what is over. The lock is held.
func (s *Stage) sweepOAuth(now time.Time) {
	for k, c := range s.oauth.codes {
		if now.Sub(c.made) > 10*time.Minute {
			delete(s.oauth.codes, k)
		}
	}
	for k, f := range s.oauth.families {
		if now.After(f.until) {
			delete(s.oauth.families, k)
		}
	}
	for _, m := range []map[string]time.Time{s.oauth.revoked, s.oauth.assertions} {
		for k, t := range m {
			if now.After(t) {
				delete(m, k)
			}
		}
	}
	for k, a := range s.oauth.asked {
		if now.Sub(a.made) > 15*time.Minute {
			delete(s.oauth.asked, k)
		}
	}
	for k := range s.oauth.guests {
		if len(s.oauth.guests) <= 1000 {
			break
		}
		delete(s.oauth.guests, k)
	}
}

// live is the registration of a deal as the ledger has it now.
func (d *Deal) live() *Registered { return d.registered.Load() }

// Register sets the registration of a deal.
func (d *Deal) Register(r *Registered) { d.registered.Store(r) }

type registration = atomic.Pointer[Registered]

// reload takes over what changed in the ledger since the last request.
func (s *Stage) reload() {
	if s.Book.Reload == nil {
		return
	}
	regs, apis, changed := s.Book.Reload()
	if !changed {
		return
	}
	s.mu.Lock() // whoever changes a registration holds it, so that nothing older is put over this
	defer s.mu.Unlock()
	for _, d := range s.Deals {
		if d.Trust.OIDCTerms() == nil {
			continue
		}
		if r := regs[d.Trust.Name]; r != nil {
			d.Register(r)
			continue
		}
		gone := *d.live() // it was removed: that is as good as ended
		gone.Trust.Standing = federation.Ended
		d.Register(&gone)
	}
	s.apis.Store(&apis)
}

// apiParties are the apps with an api side, by name.
func (s *Stage) apiParties() map[string]*federation.Party {
	if m := s.apis.Load(); m != nil {
		return *m
	}
	return nil
}

// SetAPIs tells the stage which APIs there are.
func (s *Stage) SetAPIs(m map[string]*federation.Party) { s.apis.Store(&m) }

func (s *Stage) saw(x Sighting) {
	if s.Book.Saw != nil {
		x.At = s.Now()
		s.Book.Saw(x)
	}
}

// clientDeal finds the trust of a client ID at a provider; one that has ended is none.
func (s *Stage) clientDeal(p *Player, clientID string) *Deal {
	for _, d := range s.Deals {
		if d.Provider == p && d.Trust.OIDCTerms() != nil && d.Trust.OIDCTerms().ClientID == clientID && clientID != "" && d.live().Trust.Standing != federation.Ended {
			return d
		}
	}
	return nil
}

// openOpenID prepares the OpenID side of a provider and lays out its endpoints.
func (s *Stage) openOpenID(p *Player, add func(string, http.HandlerFunc)) error {
	doc := p.OpenID
	if doc == nil || p.JOSE == nil {
		return nil
	}
	jwks, err := oidc.WriteKeys(p.JOSE.Key.Public())
	if err != nil {
		return err
	}
	p.op = &openID{doc: doc, jwks: jwks, keys: []oidc.Key{{ID: p.JOSE.ID, Alg: p.JOSE.Alg, Public: p.JOSE.Key.Public()}}}
	for _, at := range oidc.WellKnown(doc.Issuer) {
		add(at, s.document(p, "application/json", func() ([]byte, error) { return json.Marshal(s.discovery(p)) }))
	}
	add(doc.JWKSURI, s.document(p, "application/jwk-set+json", func() ([]byte, error) { return jwks, nil }))
	add(doc.AuthorizationEndpoint, s.authorize(p))
	add(p.signIn(), s.signIn(p))
	add(p.consentURL(), s.consent(p))
	add(doc.TokenEndpoint, s.token(p))
	add(doc.UserinfoEndpoint, s.userinfo(p))
	add(doc.IntrospectionEndpoint, s.introspect(p))
	add(doc.RevocationEndpoint, s.revoke(p))
	add(doc.EndSessionEndpoint, s.endSession(p))
	return nil
}

func (p *Player) consentURL() string { return strings.TrimSuffix(p.signIn(), "/sign-in") + "/consent" }

// discovery is the document with the scopes that trusts of the provider ask for.
func (s *Stage) discovery(p *Player) *oidc.Discovery {
	doc := *p.op.doc
	doc.ScopesSupported = slices.Clone(doc.ScopesSupported)
	for _, d := range s.Deals {
		if d.Provider != p || d.Trust.OIDCTerms() == nil {
			continue
		}
		for _, a := range d.live().Trust.OIDCTerms().Asks {
			if !slices.Contains(doc.ScopesSupported, a.Name) {
				doc.ScopesSupported = append(doc.ScopesSupported, a.Name)
			}
		}
	}
	return &doc
}

// document serves public JSON that any page may read.
func (s *Stage) document(p *Player, kind string, make func() ([]byte, error)) http.HandlerFunc {
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
		s.reload()
		b, err := make()
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		h.Set("Content-Type", kind)
		h.Set("Cache-Control", "public, max-age=60")
		w.Write(b)
	}
}

// random makes a value of 256 random bits.
func (s *Stage) random() string {
	b := make([]byte, 32)
	if _, err := io.ReadFull(s.Rand, b); err != nil {
		panic(http.ErrAbortHandler) // no randomness: this request cannot be answered
	}
	return base64.RawURLEncoding.EncodeToString(b)
}

// address is where a request comes from, or where it is supposed to come from.
func (s *Stage) address(d *Deal, r *http.Request) netip.Addr {
	if d.Suppose.From.IsValid() {
		return d.Suppose.From
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	a, err := netip.ParseAddr(host)
	if err != nil { // a call within the stage
		return netip.AddrFrom4([4]byte{127, 0, 0, 1})
	}
	return a
}

// oauthFinding is what a refusal looks like among the findings of a rehearsal.
func oauthFinding(check string, e *oidc.Error, fix finding.Remedy) finding.Finding {
	return finding.Finding{ID: "oauth." + e.Code, Level: finding.Error, Check: check, Saw: e.Description, Expected: "a request that the trust allows",
		Side: finding.App, Fix: fix, Ref: "RFC 6749"}
}

// words of a person's permissions for a page.
func (s *Stage) askWords(a federation.Ask) string {
	if std, ok := oidc.Standard(a.Name); ok && a.API == "" {
		return std.Says
	}
	if p := s.apiParties()[a.API]; p != nil {
		if x := p.API.Find(a.Name); x != nil {
			return x.Says
		}
	}
	return a.Label()
}

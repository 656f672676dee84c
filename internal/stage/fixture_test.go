package stage

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"testing"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/server"
)

// testKeys are the keys of every party of these tests.
type testKeys struct{}

var jose = sync.OnceValue(func() *oidc.Signer {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	s, err := oidc.NewSigner(key)
	if err != nil {
		panic(err)
	}
	return s
})

func (testKeys) SAML() (*xmlsec.Signer, error) { return signer(), nil }
func (testKeys) JOSE() (oidc.Signers, error)   { return oidc.Signers{jose()}, nil }
func (testKeys) Decrypt() ([]*rsa.PrivateKey, *x509.Certificate, error) {
	return []*rsa.PrivateKey{signer().Key.(*rsa.PrivateKey)}, signer().Certificate, nil
}

// running is a stage with the ledger that it was made from, which a test can change.
type running struct {
	t    *testing.T
	s    *Stage
	led  *cast.Ledger
	base string

	holders func(string) *cast.Holder

	mu     sync.Mutex
	clock  time.Time
	events []server.Event
	kept   []federation.Consent
	issued []string // trusts for which access tokens were issued
}

func (x *running) now() time.Time {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.clock
}

func (x *running) set(at time.Time) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.clock = at
}

func (x *running) pass(d time.Duration) { x.set(x.now().Add(d)) }

func start(t *testing.T, led *cast.Ledger) *running {
	t.Helper()
	return startOn(t, led, func(h http.Handler) *httptest.Server { return httptest.NewServer(h) })
}

func startOn(t *testing.T, led *cast.Ledger, serve func(http.Handler) *httptest.Server) *running {
	t.Helper()
	x := &running{t: t, led: led, clock: now}
	x.holders = cast.Holders(rand.Reader, x.now)
	notes := op.NoNotes()
	notes.Consents = func(list []federation.Consent) { x.kept = append(x.kept, list...) }
	notes.Issued = func(trust string, _ []federation.Ask, _ time.Time) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.issued = append(x.issued, trust)
	}
	var err error
	x.s, err = New(Options{Now: x.now, Rand: rand.Reader, Notes: notes, Watch: func(e server.Event) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.events = append(x.events, e)
	}})
	if err != nil {
		t.Fatal(err)
	}
	srv := serve(x.s)
	t.Cleanup(srv.Close)
	x.base = srv.URL
	x.play()
	return x
}

var engine = sync.OnceValue(func() *claims.Engine {
	e, err := claims.NewEngine()
	if err != nil {
		panic(err)
	}
	return e
})

// make is the cast of the ledger as it is now.
func (x *running) make() (*cast.Cast, error) {
	return cast.New(x.led, cast.Options{Base: x.base, Engine: engine(), Now: x.now(),
		Keys:    func(*federation.Party) cast.Keys { return testKeys{} },
		Random:  func(b []byte) error { _, err := rand.Read(b); return err },
		Holder:  x.holders,
		StandIn: func(p *federation.Party) bool { return !p.Own }, Secret: func(trust string) string {
			return "secret of " +
				trust
		}})
}

// play swaps the cast, as the program does when the ledger has changed.
func (x *running) play() {
	x.t.Helper()
	c, err := x.make()
	if err == nil {
		err = x.s.Play(c)
	}
	if err != nil {
		x.t.Fatal(err)
	}
}

// change changes a trust as the ledger would.
func (x *running) change(name string, f func(*federation.Trust)) {
	x.t.Helper()
	i := slices.IndexFunc(x.led.Trusts, func(t federation.Trust) bool { return t.Name == name })
	c := x.led.Trusts[i].Clone()
	f(c)
	x.led.Trusts = slices.Clone(x.led.Trusts)
	x.led.Trusts[i] = *c
	x.play()
}

// consents replaces the consents of a trust.
func (x *running) consents(name string, list []federation.Consent) {
	x.led.Consents[name] = list
	x.play()
}

func (x *running) oidc(app string) *cast.OIDC { return x.s.Cast().Find(app + "@ridge") }

// personsOf are the people of these tests.
func personsOf() []people.Person {
	return []people.Person{
		{ID: "mira", Attributes: map[string][]string{"uid": {"mira"}, "mail": {"mira@kestrelridge.example"}},
			Groups: []string{"observers"}},
		{ID: "petra", Attributes: map[string][]string{"uid": {"petra"}}, Groups: []string{"visitors"}}}
}

// ridge is the own provider of these tests.
func ridge() federation.Party {
	p := federation.Party{Name: "ridge", Kind: federation.Provider, Own: true, At: "https://login.kestrelridge.example",
		Admins: "group:directors"}
	p.Entity = federation.OwnEntity(federation.Provider, p.At, "Ridge <b>", nil)
	return p
}

// openLedger has an OpenID provider with a client of each kind and an API.
func openLedger() *cast.Ledger {
	provider := ridge()
	led := &cast.Ledger{Parties: map[string]*federation.Party{"ridge": &provider},
		Subjects: map[string]federation.SubjectKey{},
		Secrets:  map[string][]federation.Secret{}, Consents: map[string][]federation.Consent{},
		People: cast.NewPeople(personsOf())}
	add := func(name string, kind oidc.Kind, redirects ...string) {
		c := federation.NewClient(kind)
		c.Redirects = redirects
		if kind.Redirects() {
			c.AfterSignOut = []string{"http://127.0.0.1:9/bye"}
		}
		asks := []federation.Ask{{Name: "openid", As: "user"}, {Name: "email", As: "user"}, {Name: "offline_access",
			As: "user"},
			{API: "telescope-api", Name: "schedule.read", As: "user"}}
		if kind == oidc.Machine {
			asks = []federation.Ask{{API: "telescope-api", Name: "frames.read", As: "self"}}
		}
		app := &federation.Party{Name: name, Kind: federation.App, Client: c}
		t := federation.NewTrust(app, &provider, "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent",
			&federation.OIDCTerms{ClientID: name + ".1", Asks: asks, Policy: federation.DefaultPolicy()}, now)
		led.Parties[name], led.Trusts, led.Subjects[t.Name] = app, append(led.Trusts, *t),
			federation.SubjectKey{Salt: []byte("salt")}
		led.Secrets[t.Name] = []federation.Secret{{ID: "s-1", Trust: t.Name, Hash: "none",
			Expires: now.Add(1000 * time.Hour)}}
		for _, a := range asks {
			led.Consents[t.Name] = append(led.Consents[t.Name],
				federation.Consent{Trust: t.Name, API: a.API, Name: a.Name, As: a.As,
					Standing: federation.Consented, By: "aiyana", Admin: true})
		}
	}
	add("dome", oidc.Web, "http://127.0.0.1:9/callback")
	add("sky", oidc.UserAgent, "http://127.0.0.1:9/sky")
	add("orbit", oidc.Native, "http://127.0.0.1/cb", "example.kestrelridge.orbit:/cb")
	add("courier", oidc.Machine)
	led.Parties["telescope-api"] = &federation.Party{Name: "telescope-api", Kind: federation.App,
		API: &federation.API{Audience: audience,
			Permissions: []federation.Permission{{Name: "schedule.read", As: []string{"user"},
				Says: "see who observes when"},
				{Name: "frames.read", As: []string{"user", "self"}, Says: "read frames"}}}}
	return led
}

func lastErrors(x *running) []string {
	x.mu.Lock()
	defer x.mu.Unlock()
	if len(x.events) == 0 {
		return nil
	}
	return x.events[len(x.events)-1].Findings.IDs("error")
}

// Package server is what all parts of the stage are built on: routes that are swapped whole, sign-in sessions, forms,
// pages, and the stream of what happened. It knows no protocol.
package server

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
	"tressik.example/internal/outside/reach"
)

// Event is something that happened on the stage: a judgement by a party, or an exchange of the walk.
type Event struct {
	Trust    string
	By       string // name of the party that judged
	What     string // what was judged, such as "request"
	Findings finding.List
	Outcome  *judge.Judgement // where the app learned who signed in: its judgement
	Key      string           // of an event that came from another process: what SignedBy is
	SignedIn bool             // the app took the sign-in, or the machine its answer
	Records  []federation.Record
	Kept     [][2]string    // rehearsals: messages as they came, each with its kind
	Step     *Step          // an exchange, in place of a judgement
	Lives    map[string]int // of what was issued, in seconds: access-token, id-token
	Person   string         // ID of who signs in, where a played provider knows it
	Sent     bool           // a message left, and nothing was judged
}

// SignedBy is the ID of the key with which the app's outcome was signed; "" where no signature is good.
func (e *Event) SignedBy() string {
	if e.Key != "" || e.Outcome == nil {
		return e.Key
	}
	return federation.KeyID(e.Outcome.Signed)
}

// Step is one exchange of HTTP.
type Step struct {
	N        int    `json:"n"`
	Method   string `json:"method"`
	URL      string `json:"url"`             // without its query
	Carries  string `json:"carries"`         // what is brought, in words
	Status   int    `json:"status"`          // HTTP status of the answer
	Answer   string `json:"answer"`          // what came back, in words
	Duration string `json:"duration"`        // for people, not for measuring
	Inner    []Step `json:"inner,omitempty"` // calls from server to server that this one led to
}

// Scene is what is served at one time: it never changes, and is swapped whole.
type Scene struct {
	routes   map[string]http.HandlerFunc
	reads    map[string]bool // of routes, those at which nothing changes
	prefixes map[string]PrefixHandler
	hosts    map[string]bool
	places   map[string]bool // hosts with their ports
	opened   map[string]string
}

// PrefixHandler answers for all addresses below one; rest is what is behind it, without slashes around.
type PrefixHandler func(rest string, w http.ResponseWriter, r *http.Request)

// Layout makes a Scene.
type Layout struct {
	scene *Scene
	owner map[string]string
	err   error
}

// ErrClash means that two parties would be served at the same address.
type ErrClash struct{ At, Owner, Other string }

func (e *ErrClash) Error() string {
	return fmt.Sprintf("two parties share an address: %s is an address of %s and of %s", e.At, e.Other, e.Owner)
}

// NewLayout makes an empty layout.
func NewLayout() *Layout {
	return &Layout{scene: &Scene{routes: map[string]http.HandlerFunc{}, reads: map[string]bool{},
		prefixes: map[string]PrefixHandler{},
		hosts:    map[string]bool{}, places: map[string]bool{},
		opened: map[string]string{}}, owner: map[string]string{}}
}

// Key is host and path of a URL, as a request shows them.
func Key(raw string) string {
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

func (l *Layout) host(key string) {
	h, _, _ := strings.Cut(key, "/")
	l.scene.places[h] = true
	if name, _, err := net.SplitHostPort(h); err == nil {
		h = name
	}
	l.scene.hosts[h] = true
}

// Add lays out an address of a party. The first handler that a party has for an address stays; two parties at one
// address are an error of Scene.
func (l *Layout) Add(owner, at string, h http.HandlerFunc) {
	if at == "" {
		return
	}
	k := Key(at)
	switch o, there := l.owner[k]; {
	case there && o != owner && l.err == nil:
		l.err = &ErrClash{at, owner, o}
	case !there:
		l.owner[k], l.scene.routes[k] = owner, h
		l.host(k)
	}
}

// Document lays out an address at which there is something to read and nothing to do: HEAD is answered there.
func (l *Layout) Document(owner, at string, h http.HandlerFunc) {
	l.Add(owner, at, h)
	l.ReadOnly(at)
}

// ReadOnly says of an address that is laid out that nothing changes by asking it.
func (l *Layout) ReadOnly(at string) { l.scene.reads[Key(at)] = true }

// Share lays out an address that several parties may have, such as a redirect URI of apps under development on one
// machine.
func (l *Layout) Share(at string, h http.HandlerFunc) {
	k := Key(at)
	if _, there := l.owner[k]; !there {
		l.owner[k], l.scene.routes[k] = "", h
		l.host(k)
	}
}

// Below lays out all addresses below one.
func (l *Layout) Below(at string, h PrefixHandler) {
	k := strings.TrimSuffix(Key(at), "/")
	l.scene.prefixes[k] = h
	l.host(k)
}

// Opens notes where the app takes what the system opens for a private scheme.
func (l *Layout) Opens(scheme, at string) { l.scene.opened[scheme] = at }

// Scene returns what was laid out. Errors: *ErrClash.
func (l *Layout) Scene() (*Scene, error) { return l.scene, l.err }

// Server serves the scene that is set.
type Server struct {
	Now    func() time.Time
	Rand   io.Reader
	Watch  func(Event)                 // may be nil; it may be called from several requests at once
	Remedy func(finding.Remedy) string // writes a remedy on a page; nil: its words alone
	Notice []string                    // shown on every page, such as a set clock
	// Passwords are those of people who have one; nil: nobody has
	Passwords Passwords
	// Routed returns the trust through which people of an address sign in at a provider; any reports whether there are
	// routes at all, and the address is asked for first.
	Routed func(provider, address string) (trust string, any bool)
	// Upstream sends a browser to the upstream provider of a trust; done is told who came in, and how strongly they
	// were authenticated.
	Upstream func(w http.ResponseWriter, r *http.Request, trust, address string,
		done func(w http.ResponseWriter, r *http.Request, who *people.Person, context string))
	Record bool // rehearsals: remember the calls from server to server, for the steps of a walk
	// Follows reports whether somebody watches a trust: its messages are then told as they pass. nil: nobody does
	Follows func(trust string) bool
	// Outside is the way to a real party, which is not played here; with is the certificate with which it is gone, nil:
	// none. nil: there is no way
	Outside func(p *federation.Party, with *tls.Certificate) (http.RoundTripper, error)

	Tried   *Attempts // passwords and codes
	scene   atomic.Pointer[Scene]
	trouble atomic.Pointer[string]
	mu      sync.Mutex
	inner   []Step
	doors   *doors
	once    sync.Once
	key     []byte // proves that a cookie is of this server
}

// New makes a server without a scene.
func New(now func() time.Time, rand io.Reader) *Server {
	s := &Server{Now: now, Rand: rand}
	s.Tried = NewAttempts(func() time.Time { return s.Now() })
	s.scene.Store(NewLayout().scene)
	s.doors = newDoors(s)
	return s
}

// Set swaps the scene: requests that began before go on with theirs.
func (s *Server) Set(x *Scene) { s.scene.Store(x) }

// Trouble says something on every page until it is taken back with "".
func (s *Server) Trouble(words string) { s.trouble.Store(&words) }

// Hosts reports whether a host name is one of the stage.
func (s *Server) Host(name string) bool { return s.scene.Load().hosts[strings.ToLower(name)] }

// Plays reports whether an address is one of this stage: a party is played at its host and port.
func (s *Server) Plays(u *url.URL) bool {
	h, _, _ := strings.Cut(Key(u.String()), "/")
	return s.scene.Load().places[h]
}

// Followed reports whether somebody watches a trust.
func (s *Server) Followed(trust string) bool { return s.Follows != nil && s.Follows(trust) }

// TellFollowed reports an event of a trust that somebody watches; nobody else hears of it.
func (s *Server) TellFollowed(e Event) {
	if s.Followed(e.Trust) {
		s.Tell(e)
	}
}

// Reaches looks, where somebody watches a trust, whether a real party answers at the address to which a browser is
// sent, and tells of it where it does not: otherwise what never came could not be told from what was refused.
func (s *Server) Reaches(trust, by string, of *federation.Party, at string) {
	if !s.Followed(trust) || s.Outside == nil {
		return
	}
	go func() {
		way, err := s.Outside(of, nil)
		if err == nil {
			client := http.Client{Transport: way, Timeout: 10 * time.Second,
				CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
			// Its first page: a request without parameters at its endpoint would stand in its log as a failed sign-in.
			var resp *http.Response
			if resp, err = client.Get(origin(at)); err == nil {
				resp.Body.Close()
				s.clock(trust, by, of, resp)
				if resp.StatusCode < http.StatusBadGateway || resp.StatusCode > http.StatusGatewayTimeout {
					return
				}
				err = fmt.Errorf("%s in its place", resp.Status) // of what stands before it
			}
		}
		f := finding.Finding{ID: finding.WatchDown, Level: finding.Error, Check: of.Name + " at " + at,
			Saw: "no answer: " + reach.Unreached(err).Error(), Expected: "an answer", Side: of.Kind.Side(),
			Fix: finding.Do("see that its server runs, and is at this address").Then(finding.Run("probe", trust))}
		var unknown *tls.CertificateVerificationError
		if errors.As(err, &unknown) { // the browser may know an authority that is not known here
			f.Level, f.Fix = finding.Warning, finding.Do("give the authority of its server").
				Then(finding.Run("probe", trust, "--ca", "FILE"))
		}
		s.TellFollowed(Event{Trust: trust, By: by, What: "way to " + of.Name, Findings: finding.List{f}})
	}()
}

// clock tells of a real party whose clock is apart from the stage's: its answer will look too old, or not good yet.
func (s *Server) clock(trust, by string, of *federation.Party, resp *http.Response) {
	at, err := http.ParseTime(resp.Header.Get("Date"))
	if err != nil {
		return
	}
	if f := judge.Clock(of.Name, at, s.Now()); f.Level != finding.Pass {
		f.Level = finding.Warning // whether a message is too old is judged by itself
		s.TellFollowed(Event{Trust: trust, By: by, What: "clock of " + of.Name, Findings: finding.List{f}})
	}
}

// origin is the first page of an address's server.
func origin(at string) string {
	u, err := url.Parse(at)
	if err != nil {
		return at
	}
	return u.Scheme + "://" + u.Host + "/"
}

// Admitted tells whoever watches a trust who signs in there and is let in.
func (s *Server) Admitted(trust, provider, person string) {
	if !s.Followed(trust) {
		return
	}
	var l finding.List
	l.Pass(finding.PolicyAdmitted, "policies of the trust", person+" may sign in")
	s.Tell(Event{Trust: trust, By: provider, What: "sign-in", Person: person, Findings: l})
}

// Opened is where the app takes what the system opens for a private scheme; "" if no app has it.
func (s *Server) Opened(scheme string) string { return s.scene.Load().opened[scheme] }

// Routes lists host and path of all that is laid out, for tests.
func (s *Server) Routes() []string { return slices.Sorted(maps.Keys(s.scene.Load().routes)) }

const largestBody = 4 << 20

// ServeHTTP answers for the party whose address was asked for; an unknown host gets nothing (no DNS rebinding).
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	x := s.scene.Load()
	host := strings.TrimSuffix(strings.ToLower(r.Host), ":443")
	key := host + r.URL.EscapedPath()
	if h, ok := x.routes[key]; ok {
		if r.Method == http.MethodHead && !x.reads[key] { // asking what would come changes nothing
			w.Header().Set("Allow", "GET, POST")
			http.Error(w, "use GET or POST", http.StatusMethodNotAllowed)
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, largestBody)
		h(w, r)
		return
	}
	if h, rest := x.below(key); h != nil {
		r.Body = http.MaxBytesReader(w, r.Body, largestBody)
		h(rest, w, r)
		return
	}
	if !x.hosts[strings.Split(host, ":")[0]] {
		http.Error(w, "no party on this stage has this address", http.StatusMisdirectedRequest)
		return
	}
	s.Page(w, http.StatusNotFound, Page{Title: "Nothing here", Lead: "No party of this stage has an endpoint at " +
		r.URL.Path + "."})
}

// below finds the longest address that a key lies under.
func (x *Scene) below(key string) (PrefixHandler, string) {
	for at := key; ; {
		if h := x.prefixes[at]; h != nil {
			return h, strings.Trim(strings.TrimPrefix(key, at), "/")
		}
		i := strings.LastIndexByte(at, '/')
		if i < 0 {
			return nil, ""
		}
		at = at[:i]
	}
}

// Tell reports an event.
func (s *Server) Tell(e Event) {
	if s.Watch != nil {
		s.Watch(e)
	}
}

// ID makes an ID of 160 random bits that is an xs:ID.
func (s *Server) ID() string {
	v, err := federation.RandomID(s.Rand)
	if err != nil {
		panic(http.ErrAbortHandler) // no randomness: this request cannot be answered
	}
	return v
}

// Random makes a value of 256 random bits.
func (s *Server) Random() string {
	b := make([]byte, 32)
	if _, err := io.ReadFull(s.Rand, b); err != nil {
		panic(http.ErrAbortHandler) // no randomness: this request cannot be answered
	}
	return base64.RawURLEncoding.EncodeToString(b)
}

// Cookie sets a cookie for the stage's pages alone, not readable by scripts, and sent over HTTPS alone where it is set
// there.
func Cookie(w http.ResponseWriter, r *http.Request, name, value string) {
	http.SetCookie(w, &http.Cookie{Name: name, Value: value, Path: "/", HttpOnly: true, Secure: r.TLS != nil,
		SameSite: http.SameSiteLaxMode})
}

// browserCookie begins the name of the cookie that tells browsers apart. What follows is the server's own: cookies
// are of a host, and several stages run on one.
const browserCookie = "stage_browser_"

// Browser returns the value that tells this browser from others, and sets it if there is none. One that this server did
// not issue is none: nobody has a browser take a value that they know.
func (s *Server) Browser(w http.ResponseWriter, r *http.Request) string {
	name := browserCookie + s.sealOf("name")[:8]
	if c, err := r.Cookie(name); err == nil && s.issued(c.Value) {
		return c.Value
	}
	id := s.ID()
	v := id + "." + s.sealOf(id)
	Cookie(w, r, name, v)
	return v
}

// sealOf proves that this server made an ID.
func (s *Server) sealOf(id string) string {
	s.once.Do(func() {
		s.key = make([]byte, sha256.Size)
		if _, err := io.ReadFull(s.Rand, s.key); err != nil {
			panic(http.ErrAbortHandler) // no randomness: nothing can be answered
		}
	})
	m := hmac.New(sha256.New, s.key)
	m.Write([]byte("browser " + id))
	return base64.RawURLEncoding.EncodeToString(m.Sum(nil))
}

// issued reports whether a value that tells browsers apart is of this server.
func (s *Server) issued(value string) bool {
	id, seal, ok := strings.Cut(value, ".")
	return ok && hmac.Equal([]byte(seal), []byte(s.sealOf(id)))
}

// SameBrowser reports whether a request comes from the browser with the value.
func SameBrowser(r *http.Request, value string) bool {
	return value != "" && slices.ContainsFunc(r.Cookies(), func(c *http.Cookie) bool {
		return strings.HasPrefix(c.Name, browserCookie) &&
			subtle.ConstantTimeCompare([]byte(c.Value), []byte(value)) == 1
	})
}

// answered is an answer of a call inside the stage.
type answered struct {
	head   http.Header
	Status int
	Body   bytes.Buffer
}

func (a *answered) Header() http.Header { return a.head }

func (a *answered) Write(b []byte) (int, error) { return a.Body.Write(b) }

func (a *answered) WriteHeader(status int) { a.Status = status }

// Inside is a way to this stage's addresses without a socket, as one server calls another. words says of a request and
// its answer what they carry, for the steps of a walk; it may be nil.
func (s *Server) Inside(words func(*http.Request, int, []byte) (carries, answer string)) http.RoundTripper {
	return roundTripper(func(req *http.Request) (*http.Response, error) {
		r := req.Clone(req.Context())
		if r.Body == nil {
			r.Body = http.NoBody
		}
		r.RemoteAddr = "127.0.0.1:0"
		began := time.Now()
		a := &answered{head: http.Header{}, Status: http.StatusOK}
		s.ServeHTTP(a, r)
		if s.Record && words != nil {
			carries, answer := words(r, a.Status, a.Body.Bytes())
			s.mu.Lock()
			s.inner = append(s.inner, Step{Method: r.Method, URL: Bare(r.URL), Carries: carries, Status: a.Status,
				Answer:   answer,
				Duration: time.Since(began).Round(100 * time.Microsecond).String()})
			s.mu.Unlock()
		}
		return &http.Response{StatusCode: a.Status, Status: fmt.Sprintf("%d %s", a.Status, http.StatusText(a.Status)),
			Proto:      "HTTP/1.1",
			ProtoMajor: 1, ProtoMinor: 1, Header: a.head, Body: io.NopCloser(&a.Body),
			ContentLength: int64(a.Body.Len()),
			Request:       req}, nil
	})
}

type roundTripper func(*http.Request) (*http.Response, error)

func (f roundTripper) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

// Inner returns the calls from server to server since it was last asked.
func (s *Server) Inner() []Step {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := s.inner
	s.inner = nil
	return out
}

// Bare is a URL without its query.
func Bare(u *url.URL) string {
	c := *u
	c.RawQuery = ""
	return c.String()
}

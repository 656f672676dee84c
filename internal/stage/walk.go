package stage

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/saml"
	"tressik.example/internal/outside/webpage"
	"tressik.example/internal/stage/server"
)

// Walker signs in on a stage as a browser would: redirects, cookies, forms.
type Walker struct {
	stage  *Stage
	client *http.Client
	server *http.Server
	Person string
	Second bool   // confirm a second factor when asked
	Note   string // what the first step brings, in words; "" is nothing
	// OnEvent gets all that happens, in order: each exchange, and behind it what was judged while it lasted. It may be
	// nil.
	OnEvent func(server.Event)
	// OnMessage gets each SAML message as the browser carries it, a logout's too: kind is what messageKind says, text a
	// whole URL or a form body. It may be nil.
	OnMessage func(kind, text string)

	// Asked reports whether the last walk met a sign-in form, Consented whether it met a consent page.
	Asked, Consented bool
	Refuse           bool // refuse consent
	n                int

	restore func() // gives the stage back whoever listened before
	mu      sync.Mutex
	events  []server.Event
}

// ErrOffStage means that the walk was sent to a host that no party of the ledger has.
var ErrOffStage = errors.New("the walk was led off the stage")

// within is a way into a stage that lies in this process alone: who dials is given one end of a pipe, and the stage is
// given the other.
type within struct {
	ends   chan net.Conn
	closed chan struct{}
	once   sync.Once
}

func newWithin() *within { return &within{ends: make(chan net.Conn), closed: make(chan struct{})} }

// Accept is what a server takes its connections by.
func (l *within) Accept() (net.Conn, error) {
	select {
	case c := <-l.ends:
		return c, nil
	case <-l.closed:
		return nil, net.ErrClosed
	}
}

// Close ends it; who waits gets net.ErrClosed.
func (l *within) Close() error {
	l.once.Do(func() { close(l.closed) })
	return nil
}

// Addr is the loopback address, as of any other browser on this machine.
func (l *within) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)} }

func (l *within) dial(ctx context.Context) (net.Conn, error) {
	near, far := net.Pipe()
	select {
	case l.ends <- local{far, l.Addr()}:
		return near, nil
	case <-l.closed:
		return nil, net.ErrClosed
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// local is a pipe whose other end is on this machine.
type local struct {
	net.Conn
	at net.Addr
}

func (c local) RemoteAddr() net.Addr { return c.at }
func (c local) LocalAddr() net.Addr  { return c.at }

// NewWalker opens the stage within this process, for the walk alone. Close it afterwards.
func NewWalker(s *Stage) (*Walker, error) {
	ln := newWithin()
	w := &Walker{stage: s, server: &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}}
	watch := s.Watch
	s.Watch = func(e server.Event) {
		if watch != nil {
			watch(e)
		}
		if w.OnEvent != nil {
			w.mu.Lock()
			w.events = append(w.events, e)
			w.mu.Unlock()
		}
	}
	w.restore = func() { s.Watch = watch }
	go w.server.Serve(ln)
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, err
	}
	// Every host of the ledger is reached at the stage, https: ones too: the connection never leaves this process, so
	// there is nothing to encrypt, and URLs, destinations and recipients stay as they are.
	dial := func(ctx context.Context, network, addr string) (net.Conn, error) {
		host, _, err := net.SplitHostPort(addr)
		if err != nil || !s.Host(host) {
			return nil, fmt.Errorf("%w: no party has the host %s", ErrOffStage, host)
		}
		return ln.dial(ctx)
	}
	w.client = &http.Client{
		Jar:           jar,
		Timeout:       30 * time.Second,
		Transport:     &http.Transport{DialContext: dial, DialTLSContext: dial, MaxIdleConnsPerHost: 4},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	return w, nil
}

// Close ends the stage.
func (w *Walker) Close() error {
	w.client.CloseIdleConnections()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	err := w.server.Shutdown(ctx)
	w.restore()
	return err
}

// Walk goes from a start link until a page that leads no further, at most 20 exchanges.
func (w *Walker) Walk(start string) error {
	w.Asked, w.Consented = false, false
	req, err := http.NewRequest(http.MethodGet, start, nil)
	if err != nil {
		return fmt.Errorf("the start link: %w", err)
	}
	carries := "nothing yet"
	if w.Note != "" {
		carries = w.Note
	}
	for range 20 {
		began := time.Now()
		resp, err := w.client.Do(req)
		if err != nil {
			var ue *url.Error
			if errors.As(err, &ue) {
				err = ue.Err
			}
			return fmt.Errorf("%s %s: %w", req.Method, server.Bare(req.URL), err)
		}
		body, err := io.ReadAll(io.LimitReader(resp.Body, 8<<20))
		resp.Body.Close()
		if err != nil {
			return fmt.Errorf("%s %s: %w", req.Method, server.Bare(req.URL), err)
		}
		w.n++
		step := server.Step{N: w.n, Method: req.Method, URL: server.Bare(req.URL), Carries: carries,
			Status: resp.StatusCode, Duration: time.Since(began).Round(100 * time.Microsecond).String()}
		next, brings, answer, err := w.follow(req, resp, body)
		step.Answer, step.Inner = answer, w.stage.Inner()
		w.happened(&step)
		if err != nil || next == nil {
			return err
		}
		req, carries = next, brings
	}
	return errors.New("the walk goes round in circles: more than 20 exchanges")
}

// happened hands on an exchange and what was judged while it lasted.
func (w *Walker) happened(step *server.Step) {
	w.mu.Lock()
	events := w.events
	w.events = nil
	w.mu.Unlock()
	if w.OnEvent == nil {
		return
	}
	if step != nil {
		w.OnEvent(server.Event{Step: step})
	}
	for _, e := range events {
		w.OnEvent(e)
	}
}

// Do runs something that is no browser's doing: the calls from server to server that it makes are steps of their own.
// What it found is told behind them.
func (w *Walker) Do(f func() server.Event) server.Event {
	e := f()
	for _, st := range w.stage.Inner() {
		w.n++
		st.N = w.n
		if w.OnEvent != nil {
			w.OnEvent(server.Event{Step: &st})
		}
	}
	w.happened(nil)
	if w.OnEvent != nil {
		w.OnEvent(e)
	}
	return e
}

// Cookies returns what the browser holds for a URL.
func (w *Walker) Cookies(at string) map[string]string {
	out := map[string]string{}
	if u, err := url.Parse(at); err == nil {
		for _, c := range w.client.Jar.Cookies(u) {
			out[c.Name] = c.Value
		}
	}
	return out
}

// follow does what a browser does with an answer: it returns the next request, or nil at the end.
func (w *Walker) follow(req *http.Request, resp *http.Response, body []byte) (next *http.Request, carries,
	answer string, err error) {
	if loc := resp.Header.Get("Location"); resp.StatusCode >= 300 && resp.StatusCode < 400 && loc != "" {
		u, err := req.URL.Parse(loc)
		if err != nil {
			return nil, "", "a redirect to no URL", fmt.Errorf("redirect to %q: %w", loc, err)
		}
		answer = "redirect to " + server.Bare(u)
		if at := w.stage.Opened(u.Scheme); at != "" { // the system opens the app of a private scheme
			answer += ", which opens the app"
			if u, err = url.Parse(at + "?" + u.RawQuery); err != nil {
				return nil, "", "a redirect to no URL", err
			}
		}
		if c, err := saml.DecodeRedirect(u.RawQuery); err == nil {
			w.message(messageKind(c), u.String())
		}
		next, err = http.NewRequest(http.MethodGet, u.String(), nil)
		return next, queryWords(u), answer, err
	}
	if _, to, ok := strings.Cut(resp.Header.Get("Refresh"), "url="); ok {
		if next, err = http.NewRequest(http.MethodGet, to, nil); err != nil {
			return nil, "", "a page that leads to no URL", err
		}
		return next, "nothing new", "page that opens the sign-out addresses of other apps, and leads on", nil
	}
	p, err := webpage.Read(bytes.NewReader(body))
	if err != nil {
		return nil, "", "no page", fmt.Errorf("reading the page: %w", err)
	}
	title := p.Title
	if title == "" {
		title = http.StatusText(resp.StatusCode)
	}
	if p.Action == "" {
		return nil, "", "page: " + title, nil
	}
	action, err := req.URL.Parse(p.Action)
	if err != nil {
		return nil, "", "page: " + title, fmt.Errorf("form to %q: %w", p.Action, err)
	}
	switch {
	case p.Fields.Has("SAMLResponse"), p.Fields.Has("SAMLRequest"):
		c, err := saml.DecodePOST(p.Fields)
		if err != nil {
			return nil, "", "page: " + title, fmt.Errorf("the form carries no SAML message: %w", err)
		}
		kind := messageKind(c)
		w.message(kind, p.Fields.Encode())
		carries, answer = c.Root(), "form with a "+strings.ReplaceAll(kind, "-", " ")+" for "+server.Bare(action)
	case p.Fields.Has("person"):
		if w.Asked {
			return nil, "", "page: " + title,
				fmt.Errorf("the provider asks again who signs in: is %q in the ledger?", w.Person)
		}
		w.Asked = true
		p.Fields.Set("person", w.Person)
		if !w.Second {
			p.Fields.Set("second", "no")
		}
		carries, answer = "sign-in as "+w.Person, "sign-in page"
	case p.Fields.Has("second"):
		w.Asked = true
		carries, answer = "second factor", "second factor page"
	case p.Fields.Has("form_token") && len(p.Decisions) > 0:
		w.Consented = true
		p.Fields.Set("decision", "agree")
		if w.Refuse {
			p.Fields.Set("decision", "refuse")
		}
		carries, answer = "agreement of "+w.Person, "consent page"
		if without := slices.Contains(p.Decisions, "without"); without || slices.Contains(p.Decisions, "back") {
			carries, answer = "going on without it", "page that says whom to ask"
			p.Fields.Set("decision", "without")
			if !without {
				carries = "going back"
				p.Fields.Set("decision", "back")
			}
		}
	case p.Fields.Has("code") || p.Fields.Has("error") && p.Fields.Has("iss"):
		carries, answer = oauthWords(p.Fields), "form for "+server.Bare(action)
	default:
		return nil, "", "page: " + title, nil
	}
	next, err = http.NewRequest(http.MethodPost, action.String(), strings.NewReader(p.Fields.Encode()))
	if next != nil {
		next.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		next.Header.Set("Origin", req.URL.Scheme+"://"+req.URL.Host)
	}
	return next, carries, answer, err
}

// Look asks for a page as the browser of the walk, without going on from it, and returns its title; "" where it leads
// elsewhere. It is no step of the walk.
func (w *Walker) Look(at string) (title string, err error) {
	resp, err := w.client.Get(at)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	p, err := webpage.Read(io.LimitReader(resp.Body, 1<<20))
	if err != nil || resp.StatusCode >= 300 {
		return "", err
	}
	return p.Title, nil
}

// messageKind names a SAML message: request, response, logout-request or logout-response.
func messageKind(c *saml.Carried) string {
	kind := strings.ToLower(strings.TrimPrefix(c.Parameter, "SAML"))
	if strings.HasPrefix(c.Root(), "Logout") {
		kind = "logout-" + kind
	}
	return kind
}

func (w *Walker) message(kind, text string) {
	if w.OnMessage != nil {
		w.OnMessage(kind, text)
	}
}

func queryWords(u *url.URL) string {
	q := u.Query()
	if c, err := saml.DecodeRedirect(u.RawQuery); err == nil {
		if c.Signature != nil {
			return "signed " + c.Root()
		}
		return c.Root()
	}
	switch {
	case q.Has("code_challenge"), q.Has("code"), q.Has("error") && q.Has("iss"):
		return oauthWords(q)
	case q.Has("id_token_hint"):
		return "sign-out request with the ID token"
	}
	return "cookies"
}

// oauthWords says what the browser carries between a client and its provider.
func oauthWords(q url.Values) string {
	switch {
	case q.Has("code_challenge"):
		return "authorization request: scope " + q.Get("scope")
	case q.Has("error"):
		return "error " + q.Get("error")
	}
	return "authorization code, state, iss"
}

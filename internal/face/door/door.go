// Package door is the ledger's door for others: what publish writes, at the places that the standards name, and client
// registration for programs (RFC 7591, RFC 7592). Requests in, use cases done, answers out; it decides nothing.
package door

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/plain"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/work/publish"
)

// Door serves a ledger.
type Door struct {
	Ledger ledger.Ledger
	// Listen is the host and port at which it is asked directly: there each own party has a folder of its name. Below
	// the hosts of their own addresses, as a proxy hands them on, parties lie at their own places.
	Listen  string
	TLS     bool // it is asked over HTTPS
	Life    time.Duration
	Log     *slog.Logger
	Metrics func(context.Context, *Door) ([]byte, error)          // OpenMetrics
	Fetch   func(ctx context.Context, uri string) ([]byte, error) // keys of clients

	// Behind are the proxies in front of it: what they say of whom they ask for is believed, and of nobody else
	Behind []netip.Prefix

	mu    sync.Mutex
	seq   int64 // of the journal, for which the sites are
	at    time.Time
	sites map[string]*site  // by host
	named map[string]string // host of a party by its name
	known fetchers
	rates rates
	count [6]atomic.Int64 // answers by the first digit of their status
	made  atomic.Int64
}

// site is what is published at one host.
type site struct {
	files   map[string]*publish.File // by path
	parties []federation.Party
}

// signers are the IDs of the signing keys of a party of the site.
func (s *site) signers(name string) []string {
	for i := range s.parties {
		if s.parties[i].Name == name {
			return s.parties[i].SignerIDs()
		}
	}
	return nil
}

// fresh is for how long the sites are not looked at again.
const fresh = 500 * time.Millisecond

// view returns the sites as they stand now.
func (d *Door) view(ctx context.Context) (map[string]*site, map[string]string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.sites != nil && time.Since(d.at) < fresh {
		return d.sites, d.named, nil
	}
	err := d.Ledger.View(ctx, func(v model.View) error {
		seq, err := v.LastSeq()
		if err != nil || d.sites != nil && seq == d.seq {
			return err
		}
		sites, named, err := d.build(ctx, v)
		if err != nil {
			return err
		}
		d.sites, d.named, d.seq = sites, named, seq
		return nil
	})
	d.at = time.Now()
	return d.sites, d.named, err
}

// build makes the sites anew: one for each host at which own parties lie.
func (d *Door) build(ctx context.Context, v model.View) (map[string]*site, map[string]string, error) {
	sites, named := map[string]*site{}, map[string]string{}
	parties, err := v.Parties("")
	if err != nil {
		return nil, nil, err
	}
	d.known.learn(parties)
	for _, p := range parties {
		u, err := url.Parse(p.At)
		if !p.Own || err != nil || u.Host == "" {
			continue
		}
		s := sites[u.Host]
		if s == nil {
			s = &site{files: map[string]*publish.File{}}
			sites[u.Host] = s
		}
		s.parties, named[p.Name] = append(s.parties, p), u.Host
	}
	for host, s := range sites {
		pub := &publish.Publisher{Book: model.Open(v, d.Ledger.Env()), Life: d.Life, Host: host}
		for _, p := range s.parties {
			if p.Kind == federation.Provider && pub.As == "" {
				pub.As = p.Name
			}
		}
		made, err := pub.Site(ctx)
		if errors.Is(err, publish.ErrNothing) {
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		for i := range made.Files {
			at := strings.TrimPrefix(made.Files[i].Path, strings.ReplaceAll(host, ":", "_")+"/") // its folder
			s.files["/"+at] = &made.Files[i]
		}
	}
	return sites, named, nil
}

// answer counts what is written.
type answer struct {
	http.ResponseWriter
	status int
	bytes  int
	who    string
}

func (a *answer) WriteHeader(status int) {
	if a.status == 0 {
		a.status = status
	}
	a.ResponseWriter.WriteHeader(status)
}

func (a *answer) Write(b []byte) (int, error) {
	if a.status == 0 {
		a.status = http.StatusOK
	}
	n, err := a.ResponseWriter.Write(b)
	a.bytes += n
	return n, err
}

// ServeHTTP answers, counts and logs. Neither tokens nor queries are logged.
func (d *Door) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	begin := time.Now()
	a := &answer{ResponseWriter: w}
	a.Header().Set("X-Content-Type-Options", "nosniff")
	a.Header().Set("X-Frame-Options", "DENY")
	a.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'")
	d.serve(a, r)
	if a.status == 0 {
		a.status = http.StatusOK
	}
	d.count[min(a.status/100, 5)].Add(1)
	d.Log.LogAttrs(r.Context(), slog.LevelInfo, "request", slog.String("remote", d.remote(r).String()),
		slog.String("method", r.Method),
		slog.String("host", r.Host), slog.String("path", r.URL.Path), slog.Int("status", a.status),
		slog.Int("bytes", a.bytes), slog.Duration("took", time.Since(begin)), slog.String("registrar", a.who))
}

func (d *Door) serve(w *answer, r *http.Request) {
	sites, named, err := d.view(r.Context())
	if r.URL.Path == "/health" && r.Host == d.Listen {
		health(w, r, err)
		return
	}
	if err != nil {
		problem(w, http.StatusServiceUnavailable, "the ledger cannot be read now")
		return
	}
	if r.URL.Path == "/metrics" && r.Host == d.Listen {
		d.metrics(w, r)
		return
	}
	if r.URL.Path == "/head" && r.Host == d.Listen {
		d.head(w, r)
		return
	}
	host, path := r.Host, r.URL.Path
	var party *federation.Party
	if s := sites[host]; s == nil {
		if host != d.Listen {
			problem(w, http.StatusMisdirectedRequest, "nothing is served here for that host")
			return
		}
		name, rest, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
		if host = named[name]; host == "" {
			problem(w, http.StatusNotFound, "there is nothing here")
			return
		}
		path = "/" + rest
		for i := range sites[host].parties {
			if p := &sites[host].parties[i]; p.Name == name {
				party = p
			}
		}
		if u, err := url.Parse(party.At); err == nil {
			path = strings.TrimSuffix(u.Path, "/") + path
		}
	}
	s := sites[host]
	for i := range s.parties {
		p := &s.parties[i]
		if party != nil && p.Name != party.Name || p.Kind != federation.Provider || !p.Registers {
			continue
		}
		u, err := url.Parse(p.RegisterAt())
		if err == nil && (path == u.Path || strings.HasPrefix(path, u.Path+"/")) {
			d.register(w, r, p, strings.TrimPrefix(strings.TrimPrefix(path, u.Path), "/"),
				d.endpoint(r, p, party != nil))
			return
		}
	}
	f := s.files[path]
	d.file(w, r, f)
	if r.Method == http.MethodGet && (w.status == http.StatusOK || w.status == http.StatusNotModified) {
		d.fetched(r, f, s.signers(f.Party))
	}
}

// endpoint is the registration endpoint as it was asked: at the party's own address, or in its folder of this door.
func (d *Door) endpoint(r *http.Request, p *federation.Party, direct bool) string {
	if !direct {
		return p.RegisterAt()
	}
	scheme := "http://"
	if d.TLS {
		scheme = "https://"
	}
	return scheme + d.Listen + "/" + p.Name + "/register"
}

// file serves a published document, with its state and for how long it may be kept.
func (d *Door) file(w http.ResponseWriter, r *http.Request, f *publish.File) {
	if f == nil {
		problem(w, http.StatusNotFound, "there is nothing here")
		return
	}
	if r.Method != http.MethodGet && r.Method != http.MethodHead {
		w.Header().Set("Allow", "GET, HEAD")
		problem(w, http.StatusMethodNotAllowed, "what is published is read alone")
		return
	}
	w.Header().Set("Content-Type", f.Type)
	w.Header().Set("ETag", `"`+f.SHA256[:32]+`"`)
	w.Header().Set("Cache-Control", "public, max-age="+itoa(f.MaxAge))
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(f.Bytes))
}

func health(w http.ResponseWriter, _ *http.Request, err error) {
	status, word := http.StatusOK, "ok"
	if err != nil {
		status, word = http.StatusServiceUnavailable, "the ledger cannot be read"
	}
	write(w, status, map[string]string{"ledger": word})
}

// head answers with the head of the journal, for whoever keeps it elsewhere: journal verify --head holds the ledger
// against it.
func (d *Door) head(w http.ResponseWriter, r *http.Request) {
	var entries int64
	var hash string
	err := d.Ledger.View(r.Context(), func(v model.View) error {
		text, err := v.Value(model.SettingHead)
		if err == nil {
			_, err = fmt.Sscan(text, &entries, &hash)
		}
		return err
	})
	if err != nil {
		problem(w, http.StatusServiceUnavailable, "the ledger cannot be read now")
		return
	}
	write(w, http.StatusOK, map[string]any{"entries": entries, "hash": hash})
}

func (d *Door) metrics(w http.ResponseWriter, r *http.Request) {
	b, err := d.Metrics(r.Context(), d)
	if err != nil {
		problem(w, http.StatusServiceUnavailable, "the ledger cannot be judged now")
		return
	}
	w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
	_, _ = w.Write(b) // the other side went away
}

// Answers counts answers by the first digit of their status.
func (d *Door) Answers() map[string]int64 {
	out := map[string]int64{}
	for i := range d.count {
		if i > 0 {
			out[itoa(i)+"xx"] = d.count[i].Load()
		}
	}
	return out
}

// Registered counts the clients that were registered since the server was started.
func (d *Door) Registered() int64 { return d.made.Load() }

// problem answers with words, as registration does: what happened, and no more.
func problem(w http.ResponseWriter, status int, words string) {
	write(w, status, map[string]string{"error_description": words})
}

func write(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(v)                       // what is told here is always JSON
	_, _ = w.Write(plain.JSON(b.Bytes())) // the other side went away
}

// body reads a request's body, up to what client metadata may be and a byte more. Errors: *oidc.RegistrationError.
func body(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, oidc.MaxRegistration+1))
	var large *http.MaxBytesError
	if errors.As(err, &large) || len(b) > oidc.MaxRegistration {
		return nil, &oidc.RegistrationError{Code: oidc.InvalidClientMetadata, Description: "it is too large"}
	}
	return b, err
}

package command

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"net"
	"net/http"
	"runtime"
	"runtime/debug"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/face/format"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/server"
	"tressik.example/internal/stage/watch"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/sources"
)

// stageFlags say how a stage is opened.
type stageFlags struct {
	port          int
	real          bool
	cert, key, ca string
	others        []string
}

func (s *stageFlags) add(c *cobra.Command) {
	f := c.Flags()
	f.BoolVar(&s.real, "with-real-keys", false, "own parties sign with their own keys; every page says so")
	f.IntVar(&s.port, "port", 0, "port on 127.0.0.1; 0 takes a free one")
	f.StringVar(&s.cert, "tls-cert", "", "serve over HTTPS: file with the certificate and its chain, PEM")
	f.StringVar(&s.key, "tls-key", "", "file with the certificate's private key, PEM")
	f.StringArrayVar(&s.others, "real", nil, "a foreign party that is not played: the real one is spoken to")
	f.StringVar(&s.ca, "ca", "", "file with authorities of the real other side's servers, PEM, beside those in the "+
		"ledger")
}

func (s *stageFlags) check() error {
	if s.port < 0 || s.port > 65535 {
		return usageError{fmt.Errorf("--port %d is no port: write 1 to 65535, or 0 for a free one", s.port)}
	}
	if (s.cert == "") != (s.key == "") {
		return usageError{errors.New("--tls-cert and --tls-key go together: a certificate is served with its key")}
	}
	return nil
}

// openStage is a stage that is served.
type openStage struct {
	base   string
	stage  *stage.Stage
	keeper *play.Keeper
	ended  chan error
	asked  *asked
	close  func()
}

// asked is a handler that knows when it was last asked.
type asked struct {
	http.Handler
	under atomic.Int32
	last  atomic.Int64 // Unix nanoseconds
}

func (h *asked) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h.under.Add(1)
	defer func() {
		h.last.Store(time.Now().UnixNano())
		h.under.Add(-1)
	}()
	h.Handler.ServeHTTP(w, r)
}

// nextPage is how soon a browser that was sent on asks for the next page, for certain.
const nextPage = 300 * time.Millisecond

// settle waits until browsers have come to the page to which they were sent, but no longer than lastLook.
func (h *asked) settle() {
	for end := time.Now().Add(lastLook); time.Now().Before(end); time.Sleep(nextPage / 10) {
		last := h.last.Load()
		if h.under.Load() == 0 && (last == 0 || time.Since(time.Unix(0, last)) > nextPage) {
			return
		}
	}
}

// openStage opens a stage and serves it until its close is called.
func (a *App) openStage(ctx context.Context, d *desk.Desk, in *stageFlags,
	hear func(server.Event)) (*openStage, error) {
	debug.SetGCPercent(stage.GCPercent)
	ca, err := a.readFile("--ca", in.ca)
	if err != nil {
		return nil, err
	}
	again, err := in.placed(a, d)
	if err != nil {
		return nil, err
	}
	cfg, host, pin, err := in.tls(d.Now())
	if err != nil {
		return nil, err
	}
	ln, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", in.port))
	if err != nil && again { // the port of before: another will do
		ln, err = net.Listen("tcp", "127.0.0.1:0")
	}
	if err != nil {
		return nil, fmt.Errorf("the stage cannot be opened: %w; choose another --port", err)
	}
	base := "http://" + ln.Addr().String()
	if cfg != nil {
		port := ln.Addr().(*net.TCPAddr).Port
		base = "https://" + net.JoinHostPort(host, strconv.Itoa(port))
		ln = tls.NewListener(ln, cfg)
	}
	a.freshen(ctx, d)
	player := a.livePlayer()
	o := stage.Options{Remedy: format.Remedy, Notice: a.notices(in.real),
		Passwords: sources.Passwords{Keeper: &sources.Reader{Book: player.Book, Env: a.Env}},
		Watch:     hear}
	s, keeper, err := player.Stage(play.StageInput{Context: context.WithoutCancel(ctx), Ledger: a.opened, Base: base,
		RealKeys: in.real, CA: ca, Real: in.others, Options: o,
		Secret: func(trust string) string {
			secret, err := a.secretOf(desk.New(player.Book), trust, "", false)
			if err != nil {
				a.note("%s", words(err))
			}
			return secret
		}})
	if err != nil {
		ln.Close()
		return nil, err
	}
	runtime.GC() // what reading took is no part of what is held
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	debug.SetGCPercent(stage.Collecting(m.HeapAlloc))
	if cfg != nil {
		cfg.GetConfigForClient = asksCertificates(cfg, s)
	}
	heard := &asked{Handler: a.dated(d, a.registering(s, base))}
	var handler http.Handler = heard
	shut := func() {}
	if door, err := watch.OpenDoor(keeper, a.doorPlace(), base, pin); err == nil {
		handler, shut = door.Around(handler), door.Close
	} else {
		a.note("this stage cannot be watched by `tressik watch`: %s", words(err))
	}
	out := &openStage{base: base, stage: s, keeper: keeper, asked: heard, ended: make(chan error, 1)}
	srv := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: 30 * time.Second, MaxHeaderBytes: 1 << 20, ErrorLog: log.New(nowhere{}, "", 0)}
	go func() { out.ended <- srv.Serve(ln) }()
	out.close = func() {
		shut()
		end, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if srv.Shutdown(end) != nil {
			srv.Close()
		}
		if err := keeper.Close(); err != nil {
			a.note("%s", words(err))
		}
	}
	return out, nil
}

// registering has a stage answer at the registration endpoints of own providers, for apps under test.
func (a *App) registering(s http.Handler, base string) http.Handler {
	scheme, at, _ := strings.Cut(base, "://")
	x := a.door(at, scheme == "https", slog.New(slog.DiscardHandler))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if parts := strings.SplitN(r.URL.Path, "/", 4); len(parts) >= 3 && parts[2] == "register" && r.Host == at {
			x.ServeHTTP(w, r)
			return
		}
		s.ServeHTTP(w, r)
	})
}

// asksCertificates has the stage ask who connects for a certificate while a client of it has one: browsers ask people
// which of theirs to show, so nobody is asked without need.
func asksCertificates(cfg *tls.Config, s *stage.Stage) func(*tls.ClientHelloInfo) (*tls.Config, error) {
	asks := cfg.Clone()
	asks.ClientAuth = tls.RequestClientCert
	return func(*tls.ClientHelloInfo) (*tls.Config, error) {
		for _, d := range s.Cast().OIDC {
			if d.Terms.ByCertificate() != "" || d.Terms.Policy.BindsToCertificate() {
				return asks, nil
			}
		}
		return nil, nil
	}
}

// dated has answers carry the stage's own time where its clock is set, as they carry the machine's elsewhere.
func (a *App) dated(d *desk.Desk, h http.Handler) http.Handler {
	if a.Env("TRESSIK_NOW") == "" {
		return h
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Date", d.Now().UTC().Format(http.TimeFormat))
		h.ServeHTTP(w, r)
	})
}

// nowhere takes what a server says of connections that browsers dropped.
type nowhere struct{}

func (nowhere) Write(b []byte) (int, error) { return len(b), nil }

// tls reads what the stage shows of itself over HTTPS; nil without. host is the name or the address that the
// certificate is for, on which the stage is then found.
func (s *stageFlags) tls(now time.Time) (cfg *tls.Config, host, pin string, err error) {
	if s.cert == "" {
		return nil, "", "", nil
	}
	pair, err := tls.LoadX509KeyPair(s.cert, s.key)
	if err != nil {
		return nil, "", "", fmt.Errorf("--tls-cert %s with --tls-key %s: %w; both are PEM, and belong together", s.cert,
			s.key, err)
	}
	leaf, err := x509.ParseCertificate(pair.Certificate[0])
	if err != nil {
		return nil, "", "", fmt.Errorf("--tls-cert %s: %w", s.cert, err)
	}
	if now.After(leaf.NotAfter) || now.Before(leaf.NotBefore) {
		return nil, "", "", fmt.Errorf("--tls-cert %s is good from %s to %s, and now it is %s: no browser "+
			"would take it",
			s.cert,
			leaf.NotBefore.UTC().Format("2006-01-02"), leaf.NotAfter.UTC().Format("2006-01-02"),
			now.UTC().Format("2006-01-02"))
	}
	switch {
	case leaf.VerifyHostname("127.0.0.1") == nil:
		host = "127.0.0.1"
	case leaf.VerifyHostname("localhost") == nil:
		host = "localhost"
	case len(leaf.DNSNames) > 0 && leaf.VerifyHostname(leaf.DNSNames[0]) == nil:
		host = leaf.DNSNames[0]
	default:
		return nil, "", "", fmt.Errorf("--tls-cert %s is for no host: the stage is served on 127.0.0.1 "+
			"alone; have the "+
			"certificate made for it", s.cert)
	}
	sum := sha256.Sum256(leaf.Raw)
	return &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}, host,
		hex.EncodeToString(sum[:]), nil
}

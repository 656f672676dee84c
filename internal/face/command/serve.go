package command

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/door"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/due"
)

func (a *App) serveCmd() *cobra.Command {
	var in stageFlags
	var listen string
	var behind []string
	c := &cobra.Command{Use: "serve", Short: "Serve what own parties publish, and client registration for programs",
		Args: args(),
		Long: `Serve to others, until Ctrl-C or SIGTERM, what publish writes, with its media types and
lifetimes, at the places that the standards name; and for own providers with a registrar the registration endpoint of
RFC 7591, below it the configuration endpoint of each client (RFC 7592). A proxy hands requests on with the Host of the
party's address, such as login.kestrelridge.example; asked directly, each own party has a folder of its name. Any other
Host is refused. /health, /head (where the journal ends) and /metrics (OpenMetrics) are there for whoever asks directly.

Where addresses are entered for a party (app change NAME --fetches-from 192.0.2.17), it is kept when it fetched which
keys, and key plan says so. Behind a proxy, --behind names the proxy's addresses: what it says of whom it asks for
(Forwarded, X-Forwarded-For) is believed.

Without --tls-cert it listens on this machine's loopback address alone, for a proxy in front of it. What is asked is
logged on standard error as JSON; tokens, secrets and queries never are.`,
		Example: `  tressik serve --port 8330
  tressik serve --port 8443 --tls-cert loopback.pem --tls-key loopback.key`,
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			if err := in.check(); err != nil {
				return err
			}
			ip := net.ParseIP(listen)
			if ip == nil || !ip.IsLoopback() && in.cert == "" {
				return usageError{fmt.Errorf("--listen %q: write an IP address; one that is not loopback "+
					"needs --tls-cert "+
					"and --tls-key", listen)}
			}
			nets, err := proxies(behind)
			if err != nil {
				return err
			}
			return a.serve(d, &in, listen, nets)
		})}
	f := c.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1", "IP address to listen on")
	f.StringSliceVar(&behind, "behind", nil, "addresses of the proxies in front of it, ADDRESS or NETWORK/BITS")
	f.IntVar(&in.port, "port", 0, "port; 0 takes a free one")
	f.StringVar(&in.cert, "tls-cert", "", "serve over HTTPS: file with the certificate and its chain, PEM")
	f.StringVar(&in.key, "tls-key", "", "file with the certificate's private key, PEM")
	return c
}

// proxies reads the addresses of proxies.
func proxies(list []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, s := range list {
		n, err := federation.Network(s)
		if err != nil {
			return nil, usageError{fmt.Errorf("--behind %q: write an IP address, or a network such as 192.0.2.0/28", s)}
		}
		out = append(out, n)
	}
	return out, nil
}

func (a *App) serve(d *desk.Desk, in *stageFlags, listen string,
	behind []netip.Prefix) error {
	cfg, host, _, err := in.tls(d.Now())
	if err != nil {
		return err
	}
	ln, err := net.Listen("tcp", net.JoinHostPort(listen, strconv.Itoa(in.port)))
	if err != nil {
		return fmt.Errorf("the server cannot be started: %w; choose another --port", err)
	}
	at := ln.Addr().String()
	base := "http://" + at
	if cfg != nil {
		at = net.JoinHostPort(host, strconv.Itoa(ln.Addr().(*net.TCPAddr).Port))
		base = "https://" + at
		ln = tls.NewListener(ln, cfg)
	}
	if _, err := a.live(); err != nil { // what is read is what stands then
		return err
	}
	gauges := &gauges{app: a}
	x := a.door(at, cfg != nil, slog.New(slog.NewJSONHandler(a.Err, nil)))
	x.Behind = behind
	x.Metrics = func(ctx context.Context, x *door.Door) ([]byte, error) {
		list, ends, err := gauges.read(ctx)
		return append(ends, x.OpenMetrics(list)...), err
	}
	srv := &http.Server{Handler: x, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: 30 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: log.New(nowhere{}, "", 0)}
	if err := a.print(format.Page{Data: openDoor{base}, Blocks: []format.Block{{Lines: []string{
		"Serving at " + base + "; Ctrl-C ends it."}}}}); err != nil {
		return errors.Join(err, ln.Close())
	}
	ended := make(chan error, 1)
	go func() { ended <- srv.Serve(ln) }()
	select {
	case err := <-ended:
		return err
	case <-a.stopped.Done():
	}
	end, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	if err := srv.Shutdown(end); err != nil {
		return errors.Join(err, srv.Close())
	}
	return nil
}

// openDoor is what is told of a door that was opened.
type openDoor struct {
	At string `json:"at"`
}

// door is the ledger's door, asked at a host and port.
func (a *App) door(at string, secure bool, log *slog.Logger) *door.Door {
	return &door.Door{Ledger: a.opened, Listen: at, TLS: secure, Life: 14 * 24 * time.Hour, Log: log,
		Fetch: func(ctx context.Context, uri string) ([]byte, error) {
			o := reach.Options{Max: oidc.MaxKeys, Timeout: 5 * time.Second}
			host, _, err := net.SplitHostPort(at)
			o.Strangers = err != nil || !judge.IsLoopback(host) // whoever can ask here may register
			return reach.Read(ctx, uri, o)
		}}
}

// gauges are the numbers of check and due, which are not worked out anew for each who asks.
type gauges struct {
	app  *App
	mu   sync.Mutex
	at   time.Time
	list []door.Gauge
	due  []byte // what runs out, as due --metrics says it
}

// often is how often they are worked out at the most.
const often = 15 * time.Second

func (g *gauges) read(ctx context.Context) ([]door.Gauge, []byte, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.list != nil && time.Since(g.at) < often {
		return g.list, slices.Clone(g.due), nil
	}
	var list []door.Gauge
	err := g.app.opened.View(ctx, func(v model.View) error {
		d := desk.New(model.Open(v, g.app.opened.Env()))
		r, err := g.app.checker(d, 30*24*time.Hour, 90*24*time.Hour).Run(ctx, nil)
		if err != nil {
			return err
		}
		levels := map[string]int64{"error": 0, "warning": 0, "note": 0}
		for _, x := range r.Open() {
			levels[string(x.Level)]++
		}
		items, err := (&due.Finder{Book: d.Book, Keeper: keyKeeper(d)}).Within(30 * 24 * time.Hour)
		if err != nil {
			return err
		}
		g.due = bytes.TrimSuffix(layout.DueMetrics(items, d.Now()), []byte("# EOF\n"))
		standings := map[string]int64{}
		for t, err := range v.EachTrust() {
			if err != nil {
				return err
			}
			standings[string(t.Standing)]++
		}
		list = []door.Gauge{{Name: "tressik_findings", Help: "Open findings of a check, by level.", Label: "level",
			Values: levels}, {Name: "tressik_trusts", Help: "Trusts, by standing.", Label: "standing",
			Values: standings}}
		return nil
	})
	if err == nil {
		g.list, g.at = list, time.Now()
	}
	return list, slices.Clone(g.due), err
}

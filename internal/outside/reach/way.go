package reach

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"tressik.example/internal/core/judge"
)

// way is the way of one fetch, from host to host. Once it was at a public one it leads to no private one: a stranger's
// redirect, or the address in a stranger's document, must not have this machine ask what only this machine can reach.
type way struct {
	of    string    // the address of the document that names where it goes; "" where a person does
	began sync.Once // that address was looked at

	mu      sync.Mutex
	public  bool // a public host was asked
	proxied bool // a proxy was: the hosts' own addresses are not seen
}

func (w *way) transport(cfg *tls.Config) *http.Transport {
	d := &net.Dialer{Timeout: 10 * time.Second, Control: w.connects}
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		w.began.Do(func() { w.from(ctx, net.DefaultResolver.LookupNetIP) })
		return d.DialContext(ctx, network, address)
	}
	return &http.Transport{TLSClientConfig: cfg, DialContext: dial, MaxResponseHeaderBytes: 64 << 10,
		Proxy: func(r *http.Request) (*url.URL, error) {
			u, err := http.ProxyFromEnvironment(r)
			w.mu.Lock()
			defer w.mu.Unlock()
			w.proxied = u != nil
			w.public = w.public || u != nil && !private(r.URL.Hostname())
			return u, err
		}}
}

// from looks where the document lies that names where the way goes: at a public host it may name public ones alone, by
// name, by redirect or by what their names resolve to. One whose host is not found now was not read from there now, and
// says nothing.
func (w *way) from(ctx context.Context, lookup func(ctx context.Context, network, host string) ([]netip.Addr, error)) {
	u, err := url.Parse(w.of)
	if err != nil || u.Hostname() == "" || private(u.Hostname()) {
		return
	}
	found, err := lookup(ctx, "ip", u.Hostname())
	if err != nil || len(found) == 0 || slices.ContainsFunc(found, inward) {
		return
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.public = true
}

// connects looks at the address itself, after the name was resolved, and before anything is sent there.
func (w *way) connects(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case w.proxied: // this is the proxy's
		return nil
	case !inward(at.Addr()):
		w.public = true
	case w.public:
		return fmt.Errorf("%w: %s", ErrInward, at.Addr())
	}
	return nil
}

func (w *way) redirect(r *http.Request, via []*http.Request) error {
	r.Header.Del("Referer") // it would hold the query of the address before
	if len(via) > 5 {
		return errors.New("more than 5 redirects")
	}
	if err := checkURL(r.URL.String()); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.public && private(r.URL.Hostname()) {
		return fmt.Errorf("%w: %s", ErrInward, r.URL.Hostname())
	}
	return nil
}

// private tells of a host, by what it is called alone, that it is no public one.
func private(host string) bool {
	if a, err := netip.ParseAddr(strings.TrimSuffix(host, ".")); err == nil {
		return inward(a)
	}
	return judge.IsLoopback(host)
}

// inward tells whether an address is one that strangers cannot reach (RFC 1918, RFC 4193, RFC 6598, RFC 6890).
func inward(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() || a.IsUnspecified() || a.IsMulticast() ||
		netip.MustParsePrefix("100.64.0.0/10").Contains(a) || netip.MustParsePrefix("0.0.0.0/8").Contains(a)
}

// Shown is a source as it is kept and shown: a URL without its user, its password and its query, which may be a secret.
func Shown(source string) string {
	if !strings.Contains(source, "://") {
		return source
	}
	u, err := url.Parse(source)
	if err != nil {
		scheme, _, _ := strings.Cut(source, "://")
		return scheme + "://…"
	}
	if u.User == nil && u.RawQuery == "" && !u.ForceQuery && u.Fragment == "" {
		return source
	}
	u.User, u.RawQuery, u.ForceQuery, u.Fragment, u.RawFragment = nil, "", false, "", ""
	return u.String()
}

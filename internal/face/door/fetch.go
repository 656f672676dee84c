package door

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/publish"
)

// remote is who asks: the address that the connection comes from, or the one for which proxies in front of the door say
// that they ask (RFC 7239, or X-Forwarded-For). Of a chain of proxies the last that is not known is taken: whatever
// stands before it, anybody may have written.
func (d *Door) remote(r *http.Request) netip.Addr {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	addr, _ := netip.ParseAddr(host) // the server has it from the connection
	proxy := func(a netip.Addr) bool {
		return slices.ContainsFunc(d.Behind, func(n netip.Prefix) bool { return n.Contains(a.Unmap()) })
	}
	if !proxy(addr) {
		return addr.Unmap()
	}
	for _, a := range slices.Backward(forwarded(r.Header)) {
		if addr = a; !addr.IsValid() || !proxy(addr) {
			break
		}
	}
	return addr.Unmap()
}

// forwarded are the addresses for which proxies asked, in the order in which they were added; one that cannot be read
// is invalid.
func forwarded(h http.Header) []netip.Addr {
	var out []netip.Addr
	for _, e := range strings.Split(strings.Join(h.Values("Forwarded"), ","), ",") {
		for _, pair := range strings.Split(e, ";") {
			if k, v, ok := strings.Cut(strings.TrimSpace(pair), "="); ok && strings.EqualFold(k, "for") {
				out = append(out, node(strings.Trim(v, `"`)))
			}
		}
	}
	if len(out) > 0 {
		return out
	}
	for _, v := range strings.Split(strings.Join(h.Values("X-Forwarded-For"), ","), ",") {
		if v = strings.TrimSpace(v); v != "" {
			out = append(out, node(v))
		}
	}
	return out
}

// node reads an address with or without a port (RFC 7239, section 6).
func node(s string) netip.Addr {
	if p, err := netip.ParseAddrPort(s); err == nil {
		return p.Addr()
	}
	a, _ := netip.ParseAddr(strings.Trim(s, "[]")) // what is none is invalid
	return a
}

// fetchers are the parties of which it is known from where they fetch, and what was seen of them.
type fetchers struct {
	mu      sync.Mutex
	parties []federation.Party
	seen    map[string]time.Time // by who fetched what
}

// learn takes the parties as they stand now.
func (k *fetchers) learn(parties []federation.Party) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.parties = slices.DeleteFunc(slices.Clone(parties), func(p federation.Party) bool { return len(p.From) == 0 })
}

// often is how often it is kept that somebody fetched a document with the same keys in it.
const often = time.Hour

// who says whose address this is, where it is that of one party alone, and whether that one was not seen lately with
// this document.
func (k *fetchers) who(addr netip.Addr, document string, now time.Time) (name string, fresh bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for i := range k.parties {
		if !k.parties[i].FetchesFrom(addr) {
			continue
		}
		if name != "" {
			return "", false // it says of neither that it was the one
		}
		name = k.parties[i].Name
	}
	if name == "" {
		return "", false
	}
	if k.seen == nil {
		k.seen = map[string]time.Time{}
	}
	id := name + " " + document
	if at, seen := k.seen[id]; seen && now.Sub(at) < often {
		return name, false
	}
	k.seen[id] = now
	return name, true
}

// forget has somebody fetch a document for the first time again.
func (k *fetchers) forget(name, document string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.seen, name+" "+document)
}

// fetched keeps that a party fetched what an own one publishes. Who asks is not kept waiting for long: of one and the
// same document it is done once in an hour.
func (d *Door) fetched(r *http.Request, f *publish.File, keys []string) {
	if f.Party == "" || f.What != "metadata" && f.What != "keys" {
		return
	}
	addr := d.remote(r)
	env := d.Ledger.Env()
	document := f.Party + " " + f.What + " " + strings.Join(keys, " ")
	by, fresh := d.known.who(addr, document, env.Now())
	if !fresh || by == f.Party {
		return
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), 10*time.Second) // who has it may be gone
	defer cancel()
	err := ledger.Updater(d.Ledger.Update).Do(ctx, env, func(b *model.Book) error {
		return desk.New(b).Fetched(f.Party, by, federation.Fetch{At: env.Now().UTC().Truncate(time.Second),
			From: addr.String(), What: f.What, Keys: keys})
	})
	if err != nil {
		d.known.forget(by, document) // the next time it is tried again
		d.Log.Error("fetch", "party", by, "problem", err.Error())
	}
}

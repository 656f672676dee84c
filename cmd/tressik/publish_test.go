package main

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// website is a static web server: the folder of a host, or of the whole site, as files, with validators as such servers
// have them. It counts the answers by their status.
type website struct {
	*httptest.Server
	folder atomic.Value
	mu     sync.Mutex
	status map[int]int
}

func newWebsite(t *testing.T, tls bool) *website {
	t.Helper()
	w := &website{status: map[int]int{}}
	w.folder.Store("")
	h := http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		c := &noted{out, http.StatusOK}
		at := filepath.Join(w.folder.Load().(string), filepath.FromSlash(r.URL.Path))
		if b, err := os.ReadFile(at); err == nil {
			sum := sha256.Sum256(b)
			out.Header().Set("ETag", `"`+hex.EncodeToString(sum[:8])+`"`)
		}
		http.FileServer(http.Dir(w.folder.Load().(string))).ServeHTTP(c, r)
		w.mu.Lock()
		w.status[c.code]++
		w.mu.Unlock()
	})
	if tls {
		w.Server = httptest.NewTLSServer(h)
	} else {
		w.Server = httptest.NewServer(h)
	}
	t.Cleanup(w.Close)
	return w
}

// pin is the SHA-256 of the certificate of a server with TLS.
func (w *website) pin() string {
	sum := sha256.Sum256(w.Certificate().Raw)
	return hex.EncodeToString(sum[:])
}

// count says how many answers with a status there were since it was asked last.
func (w *website) count(code int) int {
	w.mu.Lock()
	defer w.mu.Unlock()
	n := w.status[code]
	clear(w.status)
	return n
}

type noted struct {
	http.ResponseWriter
	code int
}

func (n *noted) WriteHeader(code int) {
	n.code = code
	n.ResponseWriter.WriteHeader(code)
}

// TestPublish publishes a ledger as files; a second ledger federates from a static web server that has them, over both
// protocols, and follows a rollover.
func TestPublish(t *testing.T) {
	t.Parallel()
	w := newWebsite(t, false)
	ridge := newDesk(t)
	ridge.ok("init", "--org", "Kestrel Ridge & Observatory")
	ridge.ok("provider", "add", "ridge", "--own", "--at", w.URL, "--title", "Kestrel <Ridge>")
	ridge.ok("app", "add", "nightlog", "--own", "--at", "https://nightlog.kestrelridge.example", "--encrypted")
	var files []struct {
		Path, Type, What, SHA256 string
		MaxAge                   string
	}
	site := func() (age string) {
		t.Helper()
		ridge.json(&files, "publish", "site")
		for _, f := range files {
			sum := sha256.Sum256([]byte(ridge.read("site/" + f.Path)))
			if f.SHA256 != "" && f.SHA256 != hex.EncodeToString(sum[:]) || f.Type == "" {
				t.Errorf("%+v is not what lies there", f)
			}
			if f.What == "keys" {
				age = f.MaxAge
			}
		}
		return age
	}
	host := strings.ReplaceAll(strings.TrimPrefix(w.URL, "http://"), ":", "_")
	if age := site(); age != "P1D" || len(files) != 10 {
		t.Errorf("kept for %s, in %d files", age, len(files))
	}
	w.folder.Store(ridge.path("site/" + host))
	ridge.ok("key", "export", "ridge", ridge.ring("ridge", "signing")["active"], "--out", "ridge.pem")
	for _, f := range []string{"site/federation.xml", "site/" + host + "/metadata",
		"site/nightlog.kestrelridge.example/metadata"} {
		cert := "ridge.pem"
		if strings.Contains(f, "nightlog") {
			ridge.ok("key", "export", "nightlog", ridge.ring("nightlog", "signing")["active"], "--out", "nightlog.pem")
			cert = "nightlog.pem"
		}
		ridge.ok("metadata", "verify", f, "--signed-by", cert)
		root := "EntityDescriptor"
		if strings.Contains(f, "federation") {
			root = "EntitiesDescriptor"
		}
		if err := ridge.xmlsecVerifies(f, cert, root); err != nil {
			t.Errorf("%s: %v", f, err)
		}
	}
	page := ridge.read("site/index.html")
	for _, want := range []string{"Kestrel Ridge &amp; Observatory", "Kestrel &lt;Ridge&gt;", w.URL + "/metadata",
		"federation.xml", "every day"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %s", want)
		}
	}

	d := newDesk(t)
	d.ok("init", "--org", "Southmere University")
	d.write("ridge.pem", ridge.read("ridge.pem"))
	d.write("people.csv", "id,uid,mail,displayName\nmira,mira,mira.solano@kestrelridge.example,Mira Solano\n")
	d.ok("people", "load", "people.csv")
	d.ok("provider", "add", "ridge", "--metadata", w.URL+"/metadata", "--signed-by", "ridge.pem", "--issuer", w.URL)
	d.ok("app", "add", "nightlog", "--own", "--at", "https://nightlog.southmere.example")
	d.ok("app", "add", "dome-scheduler", "--client", "web", "--redirect", "https://dome.southmere.example/callback")
	d.ok("federate", "nightlog", "--with", "ridge")
	d.ok("federate", "dome-scheduler", "--with", "ridge", "--over", "oidc", "--client-id", "dome")
	d.ok("rehearse", "nightlog@ridge", "--as", "mira")
	d.ok("rehearse", "dome-scheduler@ridge", "--as", "mira")
	refresh := func(code int, want string, args ...string) {
		t.Helper()
		var list []struct{ Outcome, Why string }
		r := d.json(&list, append([]string{"provider", "refresh"}, args...)...)
		if r.code != code || len(list) != 1 || list[0].Outcome != want {
			t.Errorf("refresh ends with %d, %+v, want %s\n%s", r.code, list, want, r.err)
		}
	}
	refresh(0, "unchanged")
	w.count(0)
	refresh(0, "unchanged") // the server says that nothing has changed, and is asked for no more
	if n := w.count(http.StatusNotModified); n != 3 {
		t.Errorf("%d answers were 304, of metadata, discovery and keys", n)
	}

	// A rollover, published step by step: others read sooner while it goes on, and the known signer carries it.
	ridge.ok("key", "announce", "ridge")
	if age := site(); age != "PT6H" {
		t.Errorf("with an announced key kept for %s", age)
	}
	if !strings.Contains(ridge.read("site/"+host+"/metadata"), `cacheDuration="PT6H"`) ||
		!strings.Contains(ridge.read("site/index.html"), "to come: trust it from now on") {
		t.Error("the rollover is not published")
	}
	refresh(3, "waits") // the JWKS is not signed
	refresh(0, "taken", "--accept")
	ridge.ok("key", "activate", "ridge")
	site()
	refresh(0, "taken") // the key that signs now was announced before; their order is another one
	d.at("2031-03-04T14:59:00Z")
	d.fails(0, []string{"No provider is due"}, "provider", "refresh", "--due")
	d.at("2031-03-04T15:01:00Z")
	refresh(0, "unchanged", "--due")
}

// TestPublishIsWhole: a folder is exchanged whole, and none that holds anything else is touched.
func TestPublishIsWhole(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.fails(1, []string{"no own party", "provider add"}, "publish", "site")
	d.ok("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example", "--key", "ecdsa-p256")
	d.ok("provider", "add", "south", "--own", "--at", "https://login.southridge.example", "--key", "ecdsa-p256")
	d.fails(2, []string{"--signer PARTY"}, "publish", "site")
	d.fails(1, []string{"--as", "nobody"}, "publish", "site", "--as", "nobody")
	d.ok("publish", "site", "--as", "south")
	first := d.read("site/published.json")
	d.at("2031-03-05T09:00:00Z")
	d.ok("publish", "site", "--as", "south")
	if d.read("site/published.json") == first {
		t.Error("nothing was written")
	}
	d.write("site/mine.txt", "mine")
	d.fails(1, []string{"not published there", "mine.txt"}, "publish", "site", "--as", "south")
	d.fails(1, []string{"not published there"}, "publish", ".", "--as", "south")
	if d.read("site/mine.txt") != "mine" {
		t.Error("a foreign file is gone")
	}
	d.write("file", "x")
	d.fails(1, []string{"no folder"}, "publish", "file", "--as", "south")
	left, err := filepath.Glob(d.path(".*new*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	d.ok("provider", "add", "third", "--own", "--at", "https://login.southridge.example", "--key", "ecdsa-p256",
		"--entity-id", "https://third.example")
	d.fails(1, []string{"two parties", "third", "south"}, "publish", "new", "--as", "south")
}

// TestQueryAndHostNames gets metadata by the Metadata Query Protocol, and by the name of a host alone.
func TestQueryAndHostNames(t *testing.T) {
	t.Parallel()
	w := newWebsite(t, true)
	base := strings.TrimPrefix(w.URL, "https://")
	host := strings.ReplaceAll(base, ":", "_")
	ridge := newDesk(t)
	ridge.ok("init", "--org", "Kestrel Ridge Observatory")
	ridge.ok("provider", "add", "ridge", "--own", "--at", w.URL, "--key", "ecdsa-p256")
	ridge.ok("publish", "site")
	w.folder.Store(ridge.path("site"))
	d := newDesk(t)
	d.ok("init", "--org", "Southmere University")
	pin := []string{"--tls-pin", w.pin()}
	add := func(code int, words []string, args ...string) {
		t.Helper()
		d.fails(code, words, append(append([]string{"provider", "add"}, args...), pin...)...)
	}
	add(0, []string{w.URL + "/metadata"}, "by-query", "--mdq", w.URL, "--entity", w.URL+"/metadata")
	d.fails(0, []string{w.URL + "/entities/"}, "provider", "show", "by-query")
	d.fails(0, []string{"1 unchanged"}, "provider", "refresh", "by-query")
	add(1, []string{"the metadata of https://nobody.example", "404"}, "x", "--mdq", w.URL, "--entity",
		"https://nobody.example")
	add(2, []string{"--entity"}, "x", "--mdq", w.URL)
	add(1, []string{"no address"}, "x", "--mdq", "nowhere", "--entity", "https://nobody.example")

	add(1, []string{base, "neither metadata", "SAML Metadata"}, "x", "--host", base)
	w.folder.Store(ridge.path("site/" + host)) // as its host serves it
	add(0, []string{w.URL}, "by-name", "--host", base)
	d.fails(0, []string{"issuer", w.URL + "/.well-known/openid-configuration"}, "provider", "show", "by-name")
	d.fails(0, []string{"1 unchanged"}, "provider", "refresh", "by-name")
	plain := ridge.path("plain")
	if err := os.Mkdir(plain, 0o700); err != nil {
		t.Fatal(err)
	}
	ridge.write("plain/index.html", ridge.ok("metadata", "write", "ridge"))
	w.folder.Store(plain) // metadata at the place of an entity ID that is the host's address
	d.ok("provider", "remove", "by-query", "--yes")
	add(0, []string{w.URL}, "by-place", "--host", base)
	d.fails(0, []string{"source", w.URL + "/"}, "provider", "show", "by-place")
	add(2, []string{"no name of a host"}, "x", "--host", "https://idp.southmere.example/x")
	add(2, []string{"no other source"}, "x", "--host", base, "--issuer", w.URL)
}

// TestRefreshIsBounded: servers that are slow, that answer without an end, and that lead elsewhere.
func TestRefreshIsBounded(t *testing.T) {
	t.Parallel()
	there := newDesk(t)
	there.ok("init", "--org", "Southmere University")
	there.ok("provider", "add", "southmere", "--own", "--at", "https://idp.southmere.example", "--key", "ecdsa-p256")
	good := there.ok("metadata", "write", "southmere")
	var how atomic.Value
	how.Store("good")
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch how.Load().(string) {
		case "good":
			io.WriteString(w, good)
		case "silent":
			<-r.Context().Done()
		case "slow": // it says something now and then, and never ends
			io.WriteString(w, good[:20])
			w.(http.Flusher).Flush()
			<-r.Context().Done()
		case "5 GB":
			w.Header().Set("Content-Length", fmt.Sprint(int64(5)<<30))
			io.WriteString(w, good)
		case "endless":
			for block := strings.Repeat(" ", 1<<20); ; {
				if _, err := io.WriteString(w, block); err != nil {
					return
				}
			}
		case "http":
			http.Redirect(w, r, "http://idp.southmere.example/metadata", http.StatusFound)
		case "inward": // a loopback address may lead to another one, so this goes around in circles
			http.Redirect(w, r, r.URL.Path, http.StatusFound)
		}
	}))
	t.Cleanup(srv.Close)
	sum := sha256.Sum256(srv.Certificate().Raw)
	d := newDesk(t)
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	d.ok("provider", "add", "southmere", "--metadata", srv.URL+"/md", "--tls-pin", hex.EncodeToString(sum[:]))
	before := d.ok("provider", "show", "southmere", "--format", "json")
	for lie, why := range map[string]string{"silent": "no whole answer within", "slow": "no whole answer within",
		"5 GB":    "5120 MB",
		"endless": "too large", "http": "http: is for loopback only", "inward": "redirects"} {
		how.Store(lie)
		args := []string{"--timeout", "20s"}
		if strings.HasPrefix(why, "no whole") {
			args[1] = "300ms"
		}
		if r, _ := d.refresh(3, args...); r.Outcome != "failed" || !strings.Contains(r.Why, why) {
			t.Errorf("%s: %+v", lie, r)
		}
		if d.ok("provider", "show", "southmere", "--format", "json") != before {
			t.Errorf("%s changed the ledger", lie)
		}
	}
	how.Store("good")
	if r, _ := d.refresh(0); r.Outcome != "unchanged" {
		t.Errorf("afterwards: %+v", r)
	}
	// The certificate that is pinned ends one day, and nothing but this says so.
	d.at(srv.Certificate().NotAfter.Add(-48 * time.Hour).UTC().Format(time.RFC3339))
	d.fails(3, []string{"southmere", "the pinned certificate of its server ends", "--tls-pin"}, "due", "--within", "3d")
}

// TestRefreshOfMany reads many parties in the time of the slowest few: each server waits until as many others have been
// asked as may be at one time.
func TestRefreshOfMany(t *testing.T) {
	t.Parallel()
	const parties, together = 64, 32
	there := newDesk(t)
	there.ok("init", "--org", "Southmere University")
	there.ok("provider", "add", "southmere", "--own", "--at", "https://idp.southmere.example", "--key", "ecdsa-p256")
	good := there.ok("metadata", "write", "southmere")
	var gather atomic.Bool
	var mu sync.Mutex
	waiting, open := 0, make(chan struct{})
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if gather.Load() {
			mu.Lock()
			gate := open
			if waiting++; waiting == together {
				waiting, open = 0, make(chan struct{})
				close(gate)
			}
			mu.Unlock()
			select {
			case <-gate:
			case <-time.After(20 * time.Second):
				w.WriteHeader(http.StatusGatewayTimeout)
				return
			}
		}
		io.WriteString(w, strings.ReplaceAll(good, "idp.southmere.example",
			"idp-"+url.QueryEscape(r.URL.Query().Get("n"))+r.URL.Path[1:]+
				".southmere.example"))
	}))
	t.Cleanup(srv.Close)
	d := newDesk(t)
	d.ok("init", "--org", "Kestrel Ridge Observatory")
	for i := range parties {
		d.ok("provider", "add", fmt.Sprintf("p%d", i), "--metadata", fmt.Sprintf("%s/%d", srv.URL, i))
	}
	gather.Store(true)
	var list []refreshed
	if r := d.json(&list, "provider", "refresh"); r.code != 0 || len(list) != parties {
		t.Fatalf("%d of %d\n%s", len(list), parties, r.err)
	}
	for _, r := range list {
		if r.Outcome != "unchanged" {
			t.Fatalf("%+v", r)
		}
	}
}

// TestLifetimesGoTogether: nothing is written, signed or published that may be kept for longer than it is valid, unless
// it is said; readers say it of what others made.
func TestLifetimesGoTogether(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	const doubt = "cacheDuration: PT6H, which is longer than it is still valid"
	sign := []string{"--key", "feed.key", "--cert", "feed.pem", "--lasts", "1h", "--cache", "PT6H", "--out"}
	for name, from := range map[string]string{"many.xml": "federation.xml", "one.xml": "nightlog-metadata.xml"} {
		d.fails(0, []string{doubt}, append([]string{"metadata", "sign", from}, append(sign, name)...)...)
		d.fails(0, []string{"metadata.doubtful", "which is longer"}, "metadata", "verify", name, "--signed-by",
			"feed.pem")
	}
	d.fails(0, []string{doubt}, "metadata", "write", "ridge", "--sign", "--lasts", "1h", "--cache", "PT6H", "--out",
		"w.xml")
	d.ok("metadata", "write", "ridge", "--sign", "--lasts", "2h", "--out", "short.xml")
	if x := d.read("short.xml"); !strings.Contains(x, `cacheDuration="PT29M59S"`) && !strings.Contains(x,
		`cacheDuration="PT30M"`) {
		t.Errorf("it may be kept otherwise than for a quarter of its life: %.400s", x)
	}
	d.fails(2, []string{"--lasts", "an hour at least"}, "publish", "site", "--lasts", "10m")
	d.ok("publish", "site", "--lasts", "4h")
	if x := d.read("site/federation.xml"); strings.Contains(x, `cacheDuration="P1D"`) {
		t.Errorf("it may be kept for a day, and is valid for four hours: %.400s", x)
	}
	d.fails(1, []string{"--signer: nightlog is foreign"}, "publish", "site", "--signer", "nightlog")
	d.fails(1, []string{"there is no folder nosuch; make it first"}, "publish", "nosuch/site")
}

// TestPrivateKeysAreNotWrittenOver: a slip of --out with --force does not cost a key.
func TestPrivateKeysAreNotWrittenOver(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	key := d.read("feed.key")
	d.fails(1, []string{"feed.key holds a private key and is not written over"}, "metadata", "sign", "federation.xml",
		"--key", "feed.key", "--cert", "feed.pem", "--out", "feed.key", "--force")
	d.ok("ledger", "rekey", "--out", "next-key")
	d.fails(1, []string{"other-key holds a private key"}, "report", "--out", d.write("other-key", d.read("next-key")),
		"--force")
	if d.read("feed.key") != key {
		t.Error("the key is another")
	}
}

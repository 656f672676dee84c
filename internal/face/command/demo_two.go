package command

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/face/format"
	"tressik.example/internal/outside/webpage"
)

// twoSides is the part of the full demo in which two organisations, each with a ledger and a stage of its own over
// HTTPS, federate with each other from what the other publishes.
type twoSides struct {
	a     *App
	ctx   context.Context
	dir   string
	at    map[string]string // address of each stage
	pool  *x509.CertPool
	print func(string)
	ends  []func()
}

// demoTwo tells that part.
func (a *App) demoTwo(ctx context.Context) error {
	p := a.printer()
	x := &twoSides{a: a, ctx: ctx, dir: "two", at: map[string]string{}, pool: x509.NewCertPool()}
	x.print = func(s string) { fmt.Fprintf(a.Out, "\n%s\n", p.Dim(p.Indented("# ", s))) }
	defer func() {
		for i := len(x.ends) - 1; i >= 0; i-- {
			x.ends[i]()
		}
	}()
	if err := x.prepare(); err != nil {
		return err
	}
	return x.tell()
}

// tell is the story.
func (x *twoSides) tell() error {
	const trust = "plates@ridge"
	x.print("Two organisations with a ledger and a stage of their own each, over HTTPS, federate from what the other " +
		"publishes.")
	for _, s := range []struct {
		who  string
		args []string
	}{{"ridge", []string{"init", "--org", "Kestrel Ridge Observatory"}},
		{"ridge", []string{"people", "load", filepath.Join("observatory.ldif")}},
		{"ridge", []string{"provider", "add", "ridge", "--own", "--at", x.at["ridge"] + "/ridge"}},
		{"southmere", []string{"init", "--org", "Southmere University"}},
		{"southmere", []string{"app", "add", "plates", "--own", "--at", x.at["southmere"] + "/plates"}}} {
		if err := x.run(s.who, 0, s.args...); err != nil {
			return err
		}
	}
	x.print("Each reads the other's metadata at its address, and makes its own side of the trust.")
	ca, metadata := filepath.Join(x.dir, "ca.pem"), x.at["ridge"]+"/ridge/metadata"
	for _, s := range []struct {
		who  string
		args []string // none: its stage opens
	}{{"southmere", nil},
		{"ridge", []string{"app", "add", "plates", "--metadata", x.at["southmere"] + "/plates/metadata", "--ca", ca}},
		{"ridge", []string{"federate", "plates", "--with", "ridge", "--admits", "group:observers"}},
		{"ridge", []string{"claims", "set", trust, "mail=person.mail"}},
		{"ridge", nil},
		{"southmere", []string{"provider", "add", "ridge", "--metadata", metadata, "--ca", ca}},
		{"southmere", []string{"federate", "plates", "--with", "ridge"}}} {
		err := error(nil)
		if s.args == nil {
			err = x.stage(s.who)
		} else {
			err = x.run(s.who, 0, s.args...)
		}
		if err != nil {
			return err
		}
	}
	x.print("Before anyone signs in, the app's side asks the real provider whether it is there and knows the app.")
	if err := x.run("southmere", 0, "probe", trust, "--ca", ca, "--until-ready", "10s"); err != nil {
		return err
	}
	x.print("Then a real sign-in is watched, as Mira: here a browser of this demo's own opens the link.")
	if err := x.watched(trust, ca); err != nil {
		return err
	}
	if err := x.run("southmere", 0, "trust", "list"); err != nil {
		return err
	}
	x.print("The provider announces another key and admits directors alone. The next probe and the next watch name it.")
	if err := x.run("ridge", 0, "trust", "change", trust, "--admits", "group:directors"); err != nil {
		return err
	}
	if err := x.run("ridge", 0, "key", "announce", "ridge"); err != nil {
		return err
	}
	if err := x.published(metadata, 2); err != nil { // the stage has what was changed before the key, too
		return err
	}
	if err := x.run("southmere", 3, "probe", trust, "--ca", ca); err != nil {
		return err
	}
	return x.watched(trust, ca)
}

// published waits until metadata at an address has so many keys: a stage follows its ledger, and on a busy machine that
// may take a while.
func (x *twoSides) published(at string, keys int) error {
	c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: x.pool}}}
	defer c.CloseIdleConnections()
	ctx, cancel := context.WithTimeout(x.ctx, 20*time.Second)
	defer cancel()
	for {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
		if err != nil {
			return err
		}
		answer, err := c.Do(r)
		if err != nil {
			return fmt.Errorf("the key that was announced is not published at %s: %w", at, err)
		}
		b, err := io.ReadAll(answer.Body)
		if err = errors.Join(err, answer.Body.Close()); err != nil {
			return err
		}
		if bytes.Count(b, []byte("<md:KeyDescriptor")) >= keys {
			return nil
		}
		select {
		case <-ctx.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// prepare makes the folder with a certificate authority of the demo's own, and a certificate for each stage.
func (x *twoSides) prepare() error {
	if err := os.Mkdir(x.dir, 0o755); err != nil {
		return err
	}
	now, err := x.a.now()
	if err != nil {
		return err
	}
	from, until := time.Now().Add(-time.Hour), time.Now().AddDate(0, 0, 30)
	if now().After(until) { // a set clock: the certificates are good by both
		until = now().AddDate(0, 0, 30)
	}
	if now().Before(from) {
		from = now().Add(-time.Hour)
	}
	ca, err := newAuthority(from, until)
	if err != nil {
		return err
	}
	x.pool.AddCert(ca.cert)
	files := map[string][]byte{"ca.pem": ca.pem()}
	for _, who := range []string{"ridge", "southmere"} {
		if files[who+".pem"], files[who+".key"], err = ca.server(); err != nil {
			return err
		}
		ln, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		x.at[who] = "https://" + ln.Addr().String()
		ln.Close()
	}
	for name, b := range files {
		if err := os.WriteFile(filepath.Join(x.dir, name), b, 0o600); err != nil {
			return err
		}
	}
	return nil
}

// app is the program on the ledger of one side; its ledger key lies beside it.
func (x *twoSides) app(who string, out, errs io.Writer) *App {
	return &App{In: x.a.In, Out: out, Err: errs, Build: x.a.Build, color: x.a.printer().Color,
		Env: func(k string) string {
			switch k {
			case "TRESSIK_LEDGER":
				return filepath.Join(x.dir, who+".ledger")
			case "TRESSIK_LEDGER_KEY":
				return ""
			}
			return x.a.Env(k)
		}}
}

// run runs a command on the ledger of one side, as it would be typed.
func (x *twoSides) run(who string, exit int, args ...string) error {
	x.typed(who, args)
	return x.ended(args, x.app(who, x.a.Out, x.a.Err).Run(x.ctx, args), exit)
}

func (x *twoSides) typed(who string, args []string) {
	fmt.Fprintf(x.a.Out, "\n%s\n",
		x.a.printer().Bold("$ "+format.Command(append([]string{"--ledger", filepath.Join(x.dir,
			who+".ledger")}, args...))))
}

func (x *twoSides) ended(args []string, got, exit int) error {
	if got != exit && !(exit == exitFound && got == exitDone) {
		return fmt.Errorf("the demo stopped: `tressik %s` ended with %d where %d was expected", format.Words(args),
			got, exit)
	}
	return nil
}

// stage opens the stage of a side in this process.
func (x *twoSides) stage(who string) error {
	_, port, err := net.SplitHostPort(strings.TrimPrefix(x.at[who], "https://"))
	if err != nil {
		return err
	}
	args := []string{"stage", "--port", port, "--tls-cert", filepath.Join(x.dir, who+".pem"), "--tls-key",
		filepath.Join(x.dir, who+".key"), "--with-real-keys"}
	x.typed(who, args)
	ctx, cancel := context.WithCancel(x.ctx)
	done := make(chan int, 1)
	out := &waitFor{words: "is open at", seen: make(chan struct{})}
	go func() { done <- x.app(who, out, io.Discard).Run(ctx, args) }()
	x.ends = append(x.ends, func() { cancel(); <-done })
	select {
	case <-out.seen:
		fmt.Fprintf(x.a.Out, "The stage is open at %s.\n", x.at[who])
		return nil
	case code := <-done:
		done <- code
		return fmt.Errorf("the stage of %s ended with %d: %s", who, code, out.text())
	case <-time.After(20 * time.Second):
		return fmt.Errorf("the stage of %s does not open", who)
	}
}

// waitFor gathers what is written until words are in it.
type waitFor struct {
	words string
	seen  chan struct{}
	mu    sync.Mutex
	b     bytes.Buffer
	once  sync.Once
}

func (w *waitFor) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.b.Write(b)
	if strings.Contains(w.b.String(), w.words) {
		w.once.Do(func() { close(w.seen) })
	}
	return len(b), nil
}

func (w *waitFor) text() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.b.String()
}

// watched watches a trust at Southmere while the demo's own browser signs Mira in.
func (x *twoSides) watched(trust, ca string) error {
	args := []string{"watch", trust, "--ca", ca, "--timeout", "30s"}
	x.typed("southmere", args)
	errs := &waitFor{words: "on its own page", seen: make(chan struct{})}
	done := make(chan int, 1)
	go func() { done <- x.app("southmere", x.a.Out, io.MultiWriter(errs, x.a.Err)).Run(x.ctx, args) }()
	select {
	case <-errs.seen:
	case code := <-done:
		return fmt.Errorf("the watch ended with %d: %s", code, errs.text())
	}
	link := ""
	for _, l := range strings.Fields(errs.text()) {
		if strings.HasPrefix(l, "https://") {
			link = l
			break
		}
	}
	if err := x.signIn(link); err != nil {
		return err
	}
	code := <-done
	return x.ended(args, code, map[bool]int{true: exitDone, false: exitFound}[code == exitDone])
}

// signIn goes through a sign-in as a browser does: redirects, forms that send themselves, and Mira's name where a page
// asks for it.
func (x *twoSides) signIn(link string) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	c := &http.Client{Jar: jar, Timeout: 20 * time.Second,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: x.pool,
			MinVersion: tls.VersionTLS12}}}
	resp, err := c.Get(link)
	for range 6 {
		if err != nil {
			return err
		}
		page, rerr := webpage.Read(io.LimitReader(resp.Body, 1<<20))
		resp.Body.Close()
		if rerr != nil {
			return rerr
		}
		f := page.Fields
		if page.Action == "" || !f.Has("SAMLResponse") && !f.Has("person") && !f.Has("SAMLRequest") {
			return nil
		}
		if f.Has("person") {
			f.Set("person", "mira")
		}
		to, rerr := resp.Request.URL.Parse(page.Action)
		if rerr != nil {
			return rerr
		}
		resp, err = c.PostForm(to.String(), f)
	}
	return errors.New("the sign-in of the demo goes on and on")
}

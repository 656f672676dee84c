package command

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/sequence"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/server"
	"tressik.example/internal/stage/watch"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/inspect"
	"tressik.example/internal/work/probe"
)

// watchFlags say what is watched, and how.
type watchFlags struct {
	stageFlags
	as, account, secret, from string
	clientKey, clientCert     string
	draw                      string
	timeout                   time.Duration
	pagePort                  int
	dry, signOut, refused     bool
}

func (a *App) watchCmd() *cobra.Command {
	var in watchFlags
	c := &cobra.Command{Use: "watch TRUST", Short: "Follow one real sign-in live, from the link to the verdict",
		Args: args("TRUST"),
		Long: `Print the link that starts a sign-in, and follow it live as it passes, here and on a page of its own:
waiting, under way, signed in or refused; each message, each check, what the app learned, which account that is, and
where it stopped. Whether a real app that cannot be seen let them in is asked, here and on the page. What is real
depends on what is foreign:

  a foreign provider   the real one, with our app played here: its redirect URI or assertion consumer service has to
                       lie on this machine
  a foreign app        the real one where it runs on this machine, with our provider played here
  none                 both are played; that proves no more than a rehearsal

A stage that is running is used where there is one (tressik stage); else one is opened at the addresses that the
ledger has on this machine. What passes between two foreign parties is read from what the browser recorded, with
--recorded. A sign-in that succeeds is kept as proof: witnessed.`,
		Example: `  tressik watch dome-scheduler@ridge --timeout 2s
  tressik watch nightlog@southmere --recorded session.har`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			if err := in.check(); err != nil {
				return err
			}
			if in.timeout <= 0 || in.timeout > 24*time.Hour {
				return usageError{fmt.Errorf("--timeout %s is no time to wait: write 1s to 24h", in.timeout)}
			}
			if err := a.mayDraw(in.draw); err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			if in.from != "" {
				if err := alone(cmd, "recorded", "draw", "dry-run"); err != nil {
					return err
				}
				return a.watchFrom(d, got[0], &in)
			}
			return a.watch(d, got[0], &in)
		}}
	drawFlag(c, &in.draw)
	in.add(c)
	f := c.Flags()
	f.StringVar(&in.as, "as", "",
		"the person who is going to sign in, or their mail address at a foreign provider; somebody else is refused")
	f.StringVar(&in.account, "expect-account", "", "the account that the app has to take them for, of those loaded")
	f.StringVar(&in.secret, "secret-file", "", "OpenID: file with the client's secret at the real provider, or -")
	f.StringVar(&in.clientKey, "key", "",
		"OpenID: file with the client's private key (PEM) at the real provider, for private_key_jwt and signed "+
			"requests")
	f.StringVar(&in.clientCert, "cert", "",
		"OpenID: file with the certificate of --key (PEM), with which the client connects (mutual TLS)")
	spanVar(f, &in.timeout, "timeout", 10*time.Minute, "how long to wait for the sign-in to end")
	f.IntVar(&in.pagePort, "page-port", 0, "port on 127.0.0.1 of the page; 0 takes a free one")
	f.StringVar(&in.from, "recorded", "",
		"read the sign-in from what a browser recorded (HTTP Archive), in place of waiting")
	f.BoolVar(&in.signOut, "sign-out", false, "go on until somebody signed out again, and say who was not told")
	f.BoolVar(&in.refused, "refused", false,
		"whoever signs in is to be refused by the terms of the trust; being let in is wrong")
	f.BoolVar(&in.dry, "dry-run", false, "keep nothing with the trust")
	must(c.RegisterFlagCompletionFunc("as", a.names("person", 0)))
	return c
}

// watched is a watch under way.
type watched struct {
	a    *App
	d    *desk.Desk
	in   *watchFlags
	mu   sync.Mutex
	held []server.Event // that came before the track was made
	t    *watch.Track
}

func (x *watched) hear(e server.Event) {
	x.mu.Lock()
	t := x.t
	if t == nil {
		x.held = append(x.held, e)
	}
	x.mu.Unlock()
	if t != nil {
		t.Event(e)
	}
}

func (a *App) watch(d *desk.Desk, name string, in *watchFlags) error {
	t, app, provider, err := d.Trust(name)
	if err != nil {
		return err
	}
	f := play.Follow{Trust: name, Real: in.others}
	if f.Secret, err = a.secretOf(d, name, in.secret, !in.dry); err != nil {
		return err
	}
	if f.Holder, err = a.holderFrom(in.clientKey, in.clientCert); err != nil {
		return err
	}
	if f.CA, err = a.readFile("--ca", in.ca); err != nil {
		return err
	}
	if !in.dry {
		if err := a.authorities(d, []string{name}, f.CA); err != nil {
			return err
		}
	}
	var mails []string
	if in.as != "" {
		p, err := d.Person(in.as)
		switch {
		case err == nil:
			in.as, mails = p.ID, p.Attributes["mail"]
		case !provider.Own && strings.Contains(in.as, "@"): // one of the other side, whom the ledger need not know
			mails = []string{in.as}
		default:
			return err
		}
	}
	ctx, over := context.WithCancel(a.stopped)
	defer over()
	x := &watched{a: a, d: d, in: in}
	how, gone, err := watch.Attach(ctx, a.doorPlace(), f, x.hear)
	if errors.Is(err, watch.ErrNoStage) {
		var end func()
		if how, gone, end, err = a.ownStage(ctx, d, in, f, x.hear, app, provider); end != nil {
			defer end()
		}
	}
	if errors.Is(err, play.ErrBothForeign) {
		return finding.Advise(err, finding.Run("watch", name, "--recorded", "FILE.har"))
	}
	if err != nil {
		return err
	}
	persons, err := d.Persons()
	if err != nil {
		return err
	}
	track := watch.NewTrack(*how, d.Now, d.Now().Add(in.timeout), play.MaskOf(persons...))
	track.Expected, track.Mails = in.as, mails
	track.SignOut = func() finding.List { return t.Terms.SignOut(app, provider) }
	if in.signOut {
		track.UntilSignedOut()
	}
	track.Arrived = func(got federation.Learned, person string) (string, finding.List) {
		return x.arrived(name, got, person)
	}
	x.mu.Lock()
	held := x.held
	x.t = track
	x.mu.Unlock()
	for _, e := range held {
		track.Event(e)
	}
	at, end, err := a.watchPage(track, in, d.Env.Actor)
	if err != nil {
		return err
	}
	defer end()
	x.begin(how, at)
	v := x.until(ctx, gone)
	if track.Lost() { // what a probe sees is why; now that nothing came back it can be in nobody's way
		p := &probe.Prober{Player: a.player(d), In: probe.Input{Trusts: []string{name}, CA: f.CA, Dry: true}}
		list, err := p.Trusts(context.WithoutCancel(ctx))
		if err != nil {
			return err
		}
		if found := list[0].Findings.Without(finding.Pass); len(found) > 0 {
			track.Found("probe of "+provider.Name, found)
			now, _ := track.View()
			v = &now
		}
	}
	return x.end(t, v)
}

// ownStage opens a stage at the addresses that the ledger has on this machine, and watches the trust there.
func (a *App) ownStage(ctx context.Context, d *desk.Desk, in *watchFlags, f play.Follow, hear func(server.Event),
	app, provider *federation.Party) (*play.Following, <-chan struct{}, func(), error) {
	flags := in.stageFlags
	if at := addressHere(app, provider); at != nil && flags.port == 0 {
		flags.port, _ = strconv.Atoi(at.Port())
		if at.Scheme == "https" && flags.cert == "" {
			return nil, nil, nil, usageError{fmt.Errorf("%s is an https: address on this machine: give what is "+
				"served there "+
				"with --tls-cert and --tls-key, or start `tressik stage` with them", at)}
		}
	}
	open, err := a.openStage(ctx, d, &flags, nil)
	if err != nil {
		return nil, nil, nil, err
	}
	how, end, err := open.keeper.Follow(f, hear)
	if err != nil {
		open.close()
		return nil, nil, nil, err
	}
	gone := make(chan struct{})
	go func() {
		<-open.ended
		close(gone)
	}()
	return how, gone, func() { open.asked.settle(); end(); open.close() }, nil
}

// addressHere is the address on this machine at which an own or a played party of a trust has to be found; nil if the
// ledger has none.
func addressHere(app, provider *federation.Party) *url.URL {
	var list []string
	if provider.Own {
		list = append(list, provider.At)
	} else {
		list = append(list, app.At)
		if c := app.ClientSide(); c != nil {
			list = append(list, c.Redirects...)
		}
		if sp := app.Entity.SP; sp != nil {
			for _, e := range sp.ACS {
				list = append(list, e.Location)
			}
		}
	}
	for _, s := range list {
		if u, err := url.Parse(s); err == nil && judge.IsLoopback(u.Hostname()) && u.Port() != "" {
			return &url.URL{Scheme: u.Scheme, Host: u.Host}
		}
	}
	return nil
}

// lastLook is how long the page of a watch stays once it is over and somebody looks at it.
const lastLook = 1500 * time.Millisecond

// watchPage serves the page of a watch on this machine.
func (a *App) watchPage(t *watch.Track, in *watchFlags, by string) (at string, end func(), err error) {
	ln, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", in.pagePort))
	if err != nil {
		return "", nil, fmt.Errorf("the page of the watch cannot be served: %w; choose another --page-port", err)
	}
	token, secret := make([]byte, 16), make([]byte, 16)
	for _, b := range [][]byte{token, secret} {
		if _, err := rand.Read(b); err != nil {
			return "", nil, err
		}
	}
	p := &watch.Page{Track: t, Token: hex.EncodeToString(token), By: by, Notice: a.notices(in.real),
		Remedy: format.RemedyHTML, Side: format.SideWords, Tally: format.Tally}
	// The address is a secret of whoever watches: what somebody says on the page is kept as their word, and no other
	// process of this machine may say it in their place.
	at = "/" + hex.EncodeToString(secret) + "/"
	srv := &http.Server{Handler: onlyHost(ln.Addr().String(),
		http.StripPrefix(strings.TrimSuffix(at, "/"), below(at, p))), ReadHeaderTimeout: 10 * time.Second,
		MaxHeaderBytes: 1 << 20, ErrorLog: log.New(nowhere{}, "", 0)}
	go srv.Serve(ln)
	end = func() {
		if p.Looked() { // the last state has to reach who looks at it
			time.Sleep(lastLook)
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		if srv.Shutdown(ctx) != nil {
			srv.Close()
		}
	}
	return "http://" + ln.Addr().String() + at, end, nil
}

// below answers below a path alone; elsewhere there is nothing, whatever the method.
func below(path string, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/") { // the path itself without its last slash
			http.Redirect(w, r, path, http.StatusSeeOther)
			return
		}
		h.ServeHTTP(w, r)
	})
}

// onlyHost answers for one host alone: what another name led here gets nothing (no DNS rebinding).
func onlyHost(host string, h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Host != host {
			http.Error(w, "this page has another address", http.StatusMisdirectedRequest)
			return
		}
		h.ServeHTTP(w, r)
	})
}

func (x *watched) arrived(trust string, got federation.Learned, person string) (string, finding.List) {
	var who *people.Person
	if person != "" {
		who, _ = x.d.Person(person) // somebody who was taken away meanwhile is nobody
	}
	account, l, err := x.a.player(x.d).Arrived(trust, got, who, x.in.account)
	if err != nil {
		l.Add(finding.Finding{ID: finding.WatchLedger, Level: finding.Warning, Check: "claims and account",
			Saw: err.Error(), Expected: "a ledger that says what was promised", Side: finding.Ledger,
			Fix: finding.Do("mend what it says")})
	}
	return account, l
}

// begin says where to begin.
func (x *watched) begin(how *play.Following, page string) {
	a := x.a
	p := a.printerTo(a.Err)
	v, _ := x.t.View()
	fmt.Fprintln(a.Err, p.Bold("Watching "+how.Trust)+": "+watch.Words(&v))
	if how.Link != "" {
		fmt.Fprintf(a.Err, "  open in a private browser window   %s\n", format.Safe(how.Link))
	} else {
		fmt.Fprintln(a.Err, "  start the sign-in at the app; the ledger has no start link of it")
	}
	fmt.Fprintf(a.Err, "  see it move on its own page        %s\n", page)
	for _, at := range how.AtReal {
		fmt.Fprintln(a.Err, p.Loud("!! the real "+strings.Join(how.Real, " and ")+" has to know "+format.Safe(at)+
			", which the ledger does not have"))
	}
}

// until shows each step as it comes, until the watch is over.
func (x *watched) until(ctx context.Context, gone <-chan struct{}) *watch.View {
	a := x.a
	p := a.printerTo(a.Err)
	late := time.NewTimer(x.in.timeout)
	defer late.Stop()
	shown, asked := 0, false
	for {
		v, moved := x.t.View()
		for ; shown < len(v.Steps); shown++ {
			fmt.Fprint(a.Err, layout.WatchStep(p, &v.Steps[shown]))
		}
		if v.Over() {
			return &v
		}
		if v.Asks && !asked {
			asked = true
			fmt.Fprintln(a.Err, p.Bold("  did the app let you in? Type yes or no here, or say so on the page "+
				"of the watch."))
			go x.listens()
		}
		select {
		case <-moved:
		case <-late.C:
			x.t.Late()
		case <-gone:
			a.say("the stage was closed; the watch ends with it")
			x.t.Late()
			gone = nil
		case <-ctx.Done():
			x.t.Late()
			ctx = context.Background()
		}
	}
}

// listens takes the answer of whoever signed in from the terminal.
func (x *watched) listens() {
	for s := bufio.NewScanner(x.a.In); s.Scan(); {
		switch strings.ToLower(strings.TrimSpace(s.Text())) {
		case "y", "yes":
			x.t.Say(true, x.d.Env.Actor)
			return
		case "n", "no":
			x.t.Say(false, x.d.Env.Actor)
			return
		}
		fmt.Fprintln(x.a.Err, "  write yes or no")
	}
}

// end keeps what was seen, and shows it.
func (x *watched) end(t *federation.Trust, v *watch.View) error {
	app, provider := t.App, t.Provider
	if x.in.dry {
		return x.show(v, 0)
	}
	a, err := x.d.AnyParty(app)
	if err != nil {
		return err
	}
	p, err := x.d.AnyParty(provider)
	if err != nil {
		return err
	}
	r := x.t.Run(federation.FactsOf(t, a, p))
	if v.State != watch.NobodyWas {
		if err := x.a.player(x.d).KeepRun(r, "trust.watch"); err != nil {
			return err
		}
	}
	for _, name := range x.t.Through() { // it passed through them, and showed as much of each
		t, app, provider, err := x.d.Trust(name)
		if err != nil {
			return err
		}
		err = x.a.player(x.d).KeepRun(x.t.RunThrough(name, federation.FactsOf(t, app, provider)), "trust.watch")
		if err != nil {
			return err
		}
	}
	return x.show(v, r.Number)
}

func (x *watched) show(v *watch.View, run int64) error {
	if err := x.a.print(layout.Watch(v, run, x.in.refused)); err != nil {
		return err
	}
	if err := x.a.draw(x.in.draw, v.Drawing()); err != nil {
		return err
	}
	in := v.State == watch.SignedIn || v.State == watch.SignedOut
	meant := (&federation.Rehearsal{Findings: v.Findings()}).Meant()
	if x.in.refused && !meant || !x.in.refused && !in {
		return ErrFound
	}
	return nil
}

// watchFrom reads a sign-in from what a browser recorded, and keeps it as one that was watched.
func (a *App) watchFrom(d *desk.Desk, trust string, in *watchFlags) error {
	path := in.from
	if _, _, _, err := d.Trust(trust); err != nil {
		return err
	}
	list, cut, err := readArchive(path)
	if err != nil {
		return err
	}
	persons, err := d.Persons()
	if err != nil {
		return err
	}
	r, began, err := inspect.New(d.Book).Witness(inspect.Input{Trust: trust}, list, play.MaskOf(persons...))
	if err != nil {
		return err
	}
	if !began {
		return finding.Advise(fmt.Errorf("%s: no message in it belongs to %s", path, trust),
			finding.Run("inspect", path))
	}
	if cut != nil {
		a.note("%s: %v", path, cut)
	}
	if !in.dry {
		if err := a.player(d).KeepRun(r, "trust.watch"); err != nil {
			return err
		}
	}
	if err := a.print(layout.Run(r, d.Now())); err != nil {
		return err
	}
	drawing := sequence.New(trust+", as a browser recorded it", trust)
	inspect.New(d.Book).Session(inspect.Input{Trust: trust}, list,
		func(_ inspect.Recorded, v *inspect.Inspection, err error) {
			if err == nil && v.Trust == trust {
				drawing.Add(drawnOf(v))
			}
		})
	if err := a.draw(in.draw, drawing); err != nil {
		return err
	}
	if r.Verdict != judge.Accepted {
		return ErrFound
	}
	return nil
}

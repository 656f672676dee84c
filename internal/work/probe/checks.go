package probe

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/outside/webpage"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/inspect"
)

func address(s string) bool {
	return strings.HasPrefix(s, "https://") || strings.HasPrefix(s, "http://")
}

// says compares what a party publishes now with what the ledger holds of it.
func (j *job) says(ctx context.Context, p *federation.Party) {
	if p.Own {
		j.published(ctx, p)
		return
	}
	now, asked, good := *p, false, true
	o := play.ReachOf(p, j.p.In.CA)
	o.Timeout = j.p.In.Timeout
	if address(p.Source) && p.Role() != nil {
		asked = true
		o.Max = int64(xmlsec.MetadataLimits().Bytes)
		a, err := reach.Fetch(ctx, p.Source, o)
		if err == nil {
			j.answered[p.Name] = true
			var e *saml.Entity
			signers, rerr := desk.SignersOf(p)
			if rerr == nil {
				e, _, rerr = desk.ReadSigned(a.Bytes, p.Entity.ID, signers)
			}
			if rerr != nil {
				j.publishes(p, "metadata", p.Source, rerr)
				good = false
			} else {
				now.Entity = *e
			}
		} else {
			j.publishes(p, "metadata", p.Source, err)
			good = false
		}
	}
	if p.OpenID != nil && address(p.OpenID.Source) {
		asked = true
		got, err := reach.OpenID(ctx, p.OpenID.Discovery.Issuer, o)
		if err != nil {
			j.publishes(p, "discovery document", p.OpenID.Source, err)
			good = false
		} else if doc, err := oidc.ReadDiscovery(got.Discovery); err != nil {
			j.publishes(p, "discovery document", p.OpenID.Source, err)
			good = false
		} else {
			j.answered[p.Name] = true
			now.OpenID = &federation.OpenID{Discovery: *doc, JWKS: string(got.JWKS), Source: p.OpenID.Source,
				TLS: p.OpenID.TLS}
		}
	}
	if !asked {
		j.skip(p.Name, "it was not read from an address")
		return
	}
	list := federation.Differences(p, &now)
	j.otherwise(p, &now)
	for _, d := range list {
		f := finding.Finding{ID: finding.ProbeDiffers, Level: finding.Warning, Check: "what " + p.Name + " publishes",
			Saw:      d.Words(),
			Expected: "what the ledger has of it", Side: p.Kind.Side(),
			Fix: finding.Run(string(p.Kind), "refresh", p.Name)}
		if d.Trust {
			f.Level = finding.Error
			f.Fix = federation.AcceptDifferences(p.Kind, p.Name)
			good = false
		}
		j.add(f)
	}
	if j.same[p.Name] = good; good && len(list) == 0 {
		j.pass(finding.ProbeSame, "what "+p.Name+" publishes", "as the ledger has it")
	}
}

// otherwise notes the facts that a party publishes otherwise than the ledger has them.
func (j *job) otherwise(was, now *federation.Party) {
	app, provider := j.t.Sides(now, j.app)
	if was.Name == j.app.Name {
		app, provider = now, j.provider
	}
	is := map[finding.FactID]string{}
	for _, f := range federation.FactsOf(j.t, app, provider) {
		is[f.Name] = f.Value
	}
	for _, f := range federation.FactsOf(j.t, j.app, j.provider) {
		if is[f.Name] != f.Value {
			j.out.contradicted = append(j.out.contradicted, f.Name)
		}
	}
}

// publishes says that what a party publishes could not be read.
func (j *job) publishes(p *federation.Party, what, at string, err error) {
	if errors.Is(err, reach.ErrStatus) || !isWay(err) {
		j.add(finding.Finding{ID: finding.ProbeUnreadable, Level: finding.Error, Check: what + " of " + p.Name,
			Saw: err.Error(), Expected: "a " + what + " at " + reach.Shown(at), Side: p.Kind.Side(),
			Fix: finding.Do("have its owner publish it again at " + reach.Shown(at))})
		return
	}
	j.trouble(finding.ProbeDown, what+" of "+p.Name, at, p, err)
}

// isWay reports whether an error is of the way to a server, not of what it said.
func isWay(err error) bool {
	var ue *url.Error
	var oe *net.OpError
	return errors.As(err, &ue) || errors.As(err, &oe) || errors.Is(err, reach.ErrTLS) || errors.Is(err, reach.ErrPin) ||
		errors.Is(err, reach.ErrSlow)
}

// published compares what an own party publishes at its address with the ledger, which is where it comes from.
func (j *job) published(ctx context.Context, p *federation.Party) {
	at, what := j.over.published(p)
	if p.At == "" || at == "" {
		return
	}
	o := play.ReachOf(p, j.p.In.CA)
	o.Timeout, o.Max = j.p.In.Timeout, int64(xmlsec.MetadataLimits().Bytes)
	a, err := reach.Fetch(ctx, at, o)
	if err != nil {
		j.add(finding.Finding{ID: finding.ProbeUnpublished, Level: finding.Warning, Check: what + " of " + p.Name,
			Saw: err.Error(), Expected: "what the ledger writes, at " + at, Side: finding.Ledger,
			Fix: finding.Run("publish", "DIR")})
		return
	}
	j.answered[p.Name] = true
	wrong := ""
	if what == "metadata" {
		if e, err := desk.ReadEntity(a.Bytes, p.Entity.ID, nil); err != nil {
			wrong = err.Error()
		} else {
			now := *p
			now.Entity = *e
			for _, d := range federation.Differences(p, &now) {
				if d.Trust {
					wrong = d.Words()
				}
			}
		}
	} else if doc, err := oidc.ReadDiscovery(a.Bytes); err != nil {
		wrong = err.Error()
	} else if l := oidc.JudgeDiscovery(doc, strings.TrimSuffix(p.At, "/")); l.Failed() {
		for _, f := range l {
			if f.Level == finding.Error {
				wrong = f.Check + ": " + f.Saw
			}
		}
	}
	if wrong != "" {
		j.add(finding.Finding{ID: finding.ProbeStale, Level: finding.Warning, Check: what + " of " + p.Name, Saw: wrong,
			Expected: "what the ledger has", Side: finding.Ledger, Fix: finding.Run("publish", "DIR")})
		return
	}
	j.same[p.Name] = true
	j.pass(finding.ProbePublished, what+" of "+p.Name, "published as the ledger has it")
}

// reach asks each endpoint of the foreign sides whether it is there.
func (j *job) reach(ctx context.Context) {
	for _, e := range j.over.endpoints(j) {
		if e.of.Own || e.at == "" {
			continue
		}
		check := e.what + " of " + e.of.Name
		a, err := j.there(ctx, e)
		if err == nil && a.status/100 == 3 && moved(a.status) && a.to() != nil {
			j.add(finding.Finding{ID: finding.ProbeMoved, Level: finding.Warning, Check: check, Of: e.what,
				Saw: "moved for good to " + reach.Shown(a.to().String()), Expected: "what the ledger has: " + e.at,
				Side: finding.Ledger, Fix: finding.Do("ask the owner of " + e.of.Name + " whether that is right").
					Then(finding.Run(string(e.of.Kind), "refresh", e.of.Name))})
			var last *answer
			if last, _, _, err = j.follow(ctx, e.of, ask{at: e.at}, nobody); err == nil {
				next := e
				next.at = last.at.String()
				a, err = j.there(ctx, next)
			}
		}
		switch {
		case err != nil:
			j.trouble(finding.ProbeDown, check, e.at, e.of, err)
		case a.status == http.StatusNotFound || a.status == http.StatusGone:
			j.add(finding.Finding{ID: finding.ProbeGone, Level: finding.Error, Check: check, Saw: a.words(),
				Expected: "an endpoint at " + e.at, Side: e.of.Kind.Side(),
				Fix: finding.Do("ask the owner of " + e.of.Name + " where it is now, and read its metadata again")})
		case a.status >= 500:
			j.add(finding.Finding{ID: finding.ProbeDown, Level: finding.Error, Check: check, Saw: a.words(),
				Expected: "an endpoint that works, at " + e.at, Side: e.of.Kind.Side(),
				Fix: finding.Do("ask the owner of " + e.of.Name + " what is wrong with it")})
		default:
			j.answered[e.of.Name] = true
			if j.out.addresses[e.of.Name] == "" {
				j.out.addresses[e.of.Name] = e.at
			}
			j.pass(finding.ProbeThere, check, "answers at "+e.at)
		}
	}
}

// there asks whether an endpoint is there, by its own method where another one is not known to it. An empty form asks
// for nothing, and everybody refuses it.
func (j *job) there(ctx context.Context, e endpoint) (*answer, error) {
	c, err := j.client(e.of, nil)
	if err != nil {
		return nil, err
	}
	a, err := j.get(ctx, c, e.at)
	if err == nil && e.posted && (a.status == http.StatusNotFound || a.status == http.StatusMethodNotAllowed) {
		return j.post(ctx, c, e.at, url.Values{})
	}
	return a, err
}

// moved reports whether a status says that something has another address from now on (RFC 9110, section 15.4).
func moved(status int) bool {
	return status == http.StatusMovedPermanently || status == http.StatusPermanentRedirect
}

// nobody is where nothing is looked for on the way.
func nobody(*url.URL, url.Values) bool { return false }

// begins follows the app's own start link to its first request, and judges that as the provider would.
func (j *job) begins(ctx context.Context) {
	at := j.over.start(j)
	if j.app.Own || at == "" {
		if !j.app.Own {
			j.skip("start link of "+j.app.Name, "the ledger has none")
		}
		return
	}
	check := "start link of " + j.app.Name
	last, to, form, err := j.follow(ctx, j.app, ask{at: at}, j.over.isRequest)
	if err != nil {
		j.trouble(finding.ProbeStart, check, at, j.app, err)
		return
	}
	j.answered[j.app.Name] = true
	if to == nil {
		j.strayed(check, at, last)
		return
	}
	text := to.String()
	if form != nil {
		text = form.Encode()
	}
	j.keep("request", text)
	v, err := j.p.inspect(inspect.Input{Raw: []byte(text), Trust: j.t.Name})
	if err != nil {
		j.add(finding.Finding{ID: finding.ProbeStart, Level: finding.Error, Check: check, Saw: err.Error(),
			Expected: "a request for a sign-in at " + j.provider.Name, Side: finding.App,
			Fix: finding.Do("see which provider the app is set up for")})
		return
	}
	bare := *to
	bare.RawQuery = ""
	if ends := j.over.endpoints(j); !slices.ContainsFunc(ends, func(e endpoint) bool {
		return e.of == j.provider && strings.TrimSuffix(e.at, "/") == strings.TrimSuffix(bare.String(), "/")
	}) {
		v.Findings.Add(finding.Finding{ID: finding.ProbeElsewhere, Level: finding.Error,
			Check: "where the request goes",
			Saw:   bare.String(), Expected: "the sign-in endpoint of " + j.provider.Name, Side: finding.App,
			Fix: finding.Do("set the app's sign-in address to what the handoff says").
				Then(finding.Run("handoff", j.t.Name, "--for", "app"))})
	}
	j.out.Findings = append(j.out.Findings, v.Findings...)
	if !v.Findings.Failed() {
		j.request = ask{to.String(), form}
		j.pass(finding.ProbeStart, check, "leads to a request that "+j.provider.Name+" would take")
	}
}

// strayed says where a start link led that came to no request.
func (j *job) strayed(check, at string, last *answer) {
	f := finding.Finding{ID: finding.ProbeStart, Level: finding.Warning, Check: check, Saw: last.words(),
		Expected: "a request for a sign-in at " + j.provider.Name, Side: finding.App,
		Fix: finding.Do("open " + at +
			" in a browser: where it leads to a page of its own first, give the link behind that page")}
	switch {
	case last.robots():
		f.ID, f.Saw = finding.ProbeRobot, last.words()+": it asks whether a person is there"
		f.Fix = finding.Do("nothing can be told without a person: use tressik watch, or have this machine let through")
	case last.status >= 400:
		f.Level = finding.Error
		f.Fix = finding.Do("ask the owner of " + j.app.Name + " for the link that starts sign-in")
	case last.doc != nil && last.doc.Asks:
		f.Saw += ", which asks for a sign-in of its own"
		f.Fix = finding.Do("the app does not send people to " + j.provider.Name +
			" yet; before cutover that is right, afterwards it " +
			"has to be switched on there")
	}
	j.add(f)
}

// inspect judges a message; one at a time, for an inspector keeps what it read.
func (p *Prober) inspect(in inspect.Input) (*inspect.Inspection, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.inspector.Inspect(in)
}

// reply is how a provider answered a request for a sign-in.
type reply int

const (
	unclear reply = iota
	signIn        // a page that asks for a sign-in
	back          // back to the app, with whatever
	denied        // a page of an error
	broken        // the provider is in trouble, or asks for a person
)

// replyOf reads the answer to a request: toApp says whether an address, or the form of a page, leads to the app.
func replyOf(a *answer, led bool) reply {
	switch {
	case led:
		return back
	case a == nil || a.status >= 500 || a.robots():
		return broken
	case a.status >= 400:
		return denied
	case a.doc != nil && a.doc.Asks:
		return signIn
	case a.doc != nil && errorWords(a.doc.Title+" "+cut(a.doc.Text, 300)):
		return denied
	}
	return unclear
}

func errorWords(s string) bool {
	s = strings.ToLower(s)
	for _, w := range []string{"error", "not registered", "unknown", "invalid", "denied", "refused", "not found",
		"bad request"} {
		if strings.Contains(s, w) {
			return true
		}
	}
	return false
}

// heard is how a provider answered somebody, in words; id is what that one is called in the request.
type heard struct {
	reply reply
	words string
	text  string // of the page
	id    string
	as    finding.FactID // which fact that name is
	title string         // of the page
}

// own is what of a page's text another one does not say, who each is about left out; "" where both say the same.
func (h heard) own(o heard) string {
	a, b := strings.Fields(strings.ReplaceAll(h.text, h.id, "")), strings.Fields(strings.ReplaceAll(o.text, o.id, ""))
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	return strings.Join(a, " ")
}

// tells is what the text of a page says of an error.
func (h heard) tells(text string) string {
	return (&webpage.Page{Title: h.title, Text: text}).Telling(240)
}

// recognised says whether the provider knows the app, from its answer to the app's request and to that of an app that
// nobody knows: known, not known, or cannot tell, and never more.
func (j *job) recognised(own, other heard) {
	real, stranger, words := own.reply, other.reply, own.words
	check, provider := "whether "+j.provider.Name+" knows "+j.app.Name, j.provider.Name
	unsure := func(why string) {
		j.out.Known = cannotTell
		j.add(finding.Finding{ID: finding.ProbeUnsure, Level: finding.Note, Check: check, Saw: "cannot tell: " + why,
			Expected: "an answer that an unknown app would not get", Side: finding.Provider,
			Fix: finding.Do("watch a sign-in to know").Then(finding.Run("watch", j.t.Name))})
	}
	switch {
	case real == back && stranger != back, real == signIn && (stranger == denied):
		j.out.Known = known
		j.pass(finding.ProbeKnown, check, "known: "+words+"; an app that it does not know gets another answer")
	case real == denied:
		j.out.Known = notKnown
		f := finding.Finding{ID: finding.ProbeUnknown, Level: finding.Error, Check: check, Saw: "not known: " + words,
			Expected: "a sign-in page, or an answer to the app", Side: finding.Provider,
			Fix: finding.Do("have the owner of " + provider + " enter the app as the handoff says").
				Then(finding.Run("handoff", j.t.Name, "--for", "provider"))}
		more := own.own(other)
		switch of := finding.Blamed(more); { // no answer that an unknown app gets
		case other.reply == denied && more == "":
			f.Saw += "; an app that nobody knows gets the same answer"
			f.Of = string(own.as)
		case of != "":
			f.Of, f.Saw = string(of), "refused: "+words+", "+own.tells(more)+
				"; an app that nobody knows gets another answer"
		default:
			f.Saw = "refused: " + words + ", " + own.tells(more) + "; an app that nobody knows gets another answer"
		}
		j.add(f)
	case real == broken:
		unsure(words)
	case real == stranger:
		unsure("an app that nobody knows gets the same answer (" + words + ")")
	default:
		unsure(words)
	}
}

// fetchRecords calls an API with a token and shows some of what it answers.
func (j *job) fetchRecords(ctx context.Context, token string) {
	at := j.p.In.Call
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err == nil && req.URL.Scheme != "https" && !judge.IsLoopback(req.URL.Hostname()) {
		err = reach.ErrPlainHTTP
	}
	check := "call of " + reach.Shown(at)
	if err != nil {
		j.trouble(finding.ProbeCall, check, at, j.app, err)
		return
	}
	req.Header.Set("Authorization", "Bearer "+token)
	req.Header.Set("Accept", "application/json")
	c, err := j.client(j.provider, nil)
	var a *answer
	if err == nil {
		a, err = j.do(c, req)
	}
	switch {
	case err != nil:
		j.trouble(finding.ProbeCall, check, at, j.app, err)
	case a.status != http.StatusOK:
		why := a.words()
		if h := a.head.Get("WWW-Authenticate"); h != "" {
			why += ", " + h
		}
		j.add(finding.Finding{ID: finding.ProbeCall, Level: finding.Error, Check: check, Saw: why, Expected: "records",
			Side: finding.Provider, Ref: "RFC 6750 3.1",
			Fix: finding.Do("see which permission the API asks for, and that it is consented to").
				Then(finding.Run("permission", "list", "--trust", j.t.Name))})
	default:
		list := records(a.body)
		n := len(list)
		for _, r := range list[:min(n, max(j.p.In.Records, 0))] {
			j.out.Records = append(j.out.Records, federation.Record{Call: reach.Shown(at), ID: r[0], Note: r[1]})
		}
		j.pass(finding.ProbeCall, check, fmt.Sprintf("%d records", n))
	}
}

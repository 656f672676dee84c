package probe

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/outside/webpage"
	"tressik.example/internal/stage/play"
)

// host is what was seen of a server by all trusts: each is judged once.
type host struct {
	room   chan struct{} // so many requests at one time
	judged sync.Once
	found  finding.List
}

func (p *Prober) host(name string) *host {
	p.mu.Lock()
	defer p.mu.Unlock()
	h := p.hosts[name]
	if h == nil {
		h = &host{room: make(chan struct{}, perHost)}
		p.hosts[name] = h
	}
	return h
}

// answer is what a server said.
type answer struct {
	at     *url.URL
	status int
	head   http.Header
	body   []byte
	doc    *webpage.Page // nil where it is no page
}

const largest = 2 << 20

var errPublicInward = errors.New("a public server leads to an address of this machine or of a private network; " +
	"nothing is asked there")

// client makes requests to the servers of a party; redirects are not followed by themselves.
func (j *job) client(of *federation.Party, jar http.CookieJar) (*http.Client, error) {
	c, err := reach.Client(play.ReachOf(of, j.p.In.CA))
	if err != nil {
		return nil, err
	}
	c.Timeout, c.Jar = j.p.In.Timeout, jar
	c.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return c, nil
}

// get asks an address of a party once.
func (j *job) get(ctx context.Context, c *http.Client, at string) (*answer, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "text/html, application/json;q=0.9, */*;q=0.5")
	return j.do(c, req)
}

// post posts a form to an address of a party once.
func (j *job) post(ctx context.Context, c *http.Client, at string, form url.Values) (*answer, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, at, strings.NewReader(form.Encode()))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "text/html, */*;q=0.5")
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	return j.do(c, req)
}

func (j *job) do(c *http.Client, req *http.Request) (*answer, error) {
	if req.URL.Scheme != "https" && !judge.IsLoopback(req.URL.Hostname()) {
		return nil, fmt.Errorf("%s: %w", req.URL.Host, reach.ErrPlainHTTP)
	}
	req.Header.Set("User-Agent", "tressik-probe")
	h := j.p.host(req.URL.Host)
	select {
	case h.room <- struct{}{}:
	case <-req.Context().Done():
		return nil, req.Context().Err()
	}
	defer func() { <-h.room }()
	resp, err := c.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, largest))
	if err != nil {
		return nil, err
	}
	h.judged.Do(func() { h.found = j.server(req.URL.Host, resp) })
	if !j.servers[req.URL.Host] {
		j.servers[req.URL.Host] = true
		j.out.Findings = append(j.out.Findings, h.found...)
	}
	a := &answer{at: req.URL, status: resp.StatusCode, head: resp.Header, body: b}
	if strings.Contains(resp.Header.Get("Content-Type"), "html") {
		a.doc, _ = webpage.Read(bytes.NewReader(b)) // bytes can be read
	}
	return a, nil
}

// server judges the clock and the certificate of a server.
func (j *job) server(name string, resp *http.Response) (out finding.List) {
	now := j.p.Now()
	if at, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
		out = append(out, judge.Clock(name, at, now))
	}
	if resp.TLS == nil || len(resp.TLS.PeerCertificates) == 0 {
		return out
	}
	end := resp.TLS.PeerCertificates[0].NotAfter
	if left := end.Sub(now); left < 21*24*time.Hour {
		out.Add(finding.Finding{ID: finding.ProbeCertificate, Level: finding.Warning, Check: "certificate of " + name,
			Saw: "ends " + end.UTC().Format("2006-01-02 15:04 UTC"), Expected: "three weeks left, or " +
				"more", Side: finding.Both,
			Fix: finding.Do("have the owner of " + name + " renew it; a pinned one has to be pinned anew")})
		return out
	}
	out.Pass(finding.ProbeCertificate, "certificate of "+name, "good until "+end.UTC().Format("2006-01-02"))
	return out
}

// words says what an answer is.
func (a *answer) words() string {
	s := fmt.Sprintf("status %d", a.status)
	switch {
	case a.to() != nil:
		to := *a.to()
		to.RawQuery, to.Fragment = "", ""
		return s + ", on to " + to.String()
	case a.doc != nil && a.doc.Title != "":
		return fmt.Sprintf("%s, the page %q", s, cut(a.doc.Title, 80))
	case a.doc != nil:
		return fmt.Sprintf("%s, a page that says %q", s, cut(a.doc.Text, 80))
	}
	return s
}

// title is that of a page; "" where there is none.
func (a *answer) title() string {
	if a == nil || a.doc == nil {
		return ""
	}
	return a.doc.Title
}

// text is what a page says, its title first; "" where there is none.
func (a *answer) text() string {
	if a == nil || a.doc == nil {
		return ""
	}
	return a.doc.Title + "\n" + a.doc.Text
}

func cut(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n]) + "…"
	}
	return s
}

// to is where an answer leads by itself; nil where it does not.
func (a *answer) to() *url.URL {
	at := ""
	if a.status >= 300 && a.status < 400 {
		at = a.head.Get("Location")
	} else if a.doc != nil {
		at = a.doc.Onward
	}
	if at == "" {
		return nil
	}
	u, err := a.at.Parse(at)
	if err != nil {
		return nil
	}
	return u
}

// robots reports whether an answer asks whether a person is there, or asks for patience.
func (a *answer) robots() bool {
	if a.status == http.StatusTooManyRequests {
		return true
	}
	if a.doc == nil {
		return false
	}
	s := strings.ToLower(a.doc.Title + " " + a.doc.Text)
	for _, w := range []string{"captcha", "are you a robot", "not a robot", "are you human", "verify you are human",
		"robot check",
		"unusual traffic"} {
		if strings.Contains(s, w) {
			return true
		}
	}
	return false
}

// ask is what a browser is made to ask first: an address, with a form that is posted there or none.
type ask struct {
	at   string
	form url.Values
}

// follow goes from where something is asked until stop says that it is there, an answer leads no further, or ten
// redirects are done.
// Errors: those of the way, errPublicInward, errCircle.
func (j *job) follow(ctx context.Context, of *federation.Party, from ask, stop func(u *url.URL,
	form url.Values) bool) (
	last *answer, found *url.URL, form url.Values, err error) {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return nil, nil, nil, err
	}
	c, err := j.client(of, jar)
	if err != nil {
		return nil, nil, nil, err
	}
	u, err := url.Parse(from.at)
	if err != nil {
		return nil, nil, nil, err
	}
	seen, public := map[string]int{}, false
	for range 10 {
		if stop(u, nil) {
			return last, u, nil, nil
		}
		if public && judge.IsLoopback(u.Hostname()) {
			return last, nil, nil, fmt.Errorf("%s: %w", u.Host, errPublicInward)
		}
		public = public || !judge.IsLoopback(u.Hostname())
		if seen[u.String()]++; seen[u.String()] > 2 {
			return last, nil, nil, fmt.Errorf("%w at %s", errCircle, reach.Shown(u.String()))
		}
		if from.form != nil {
			last, err = j.post(ctx, c, u.String(), from.form)
			from.form = nil // only once: what it leads to is fetched
		} else {
			last, err = j.get(ctx, c, u.String())
		}
		if err != nil {
			return nil, nil, nil, err
		}
		next := last.to()
		if next == nil {
			if d := last.doc; d != nil && d.Action != "" {
				if to, err := last.at.Parse(d.Action); err == nil && stop(to, d.Fields) {
					return last, to, d.Fields, nil
				}
			}
			return last, nil, nil, nil
		}
		u = next
	}
	return last, nil, nil, fmt.Errorf("%w: more than ten redirects from %s", errCircle, reach.Shown(from.at))
}

var errCircle = errors.New("the redirects go in a circle")

// trouble is a finding about a server that could not be asked.
func (j *job) trouble(id finding.ID, check, at string, of *federation.Party, err error) {
	f := finding.Finding{ID: id, Level: finding.Error, Check: check, Expected: "an answer from " + reach.Shown(at),
		Side: of.Kind.Side()}
	var cert *tls.CertificateVerificationError
	var ue *url.Error
	switch {
	case errors.As(err, &cert):
		f.Saw, f.ID = "its certificate is not trusted: "+reach.Distrusted(cert), finding.ProbeTLS
		f.Fix = finding.Do("if the server was given another certificate, check that with its owner; where " +
			"it is from a private authority, give that authority's certificate: `tressik probe " + j.t.Name +
			" --ca FILE`")
	case errors.Is(err, reach.ErrPin):
		f.Saw, f.ID = reach.ErrPin.Error(), finding.ProbeTLS
		f.Fix = of.Repin()
	case errors.Is(err, errCircle), errors.Is(err, errPublicInward), errors.Is(err, reach.ErrPlainHTTP):
		f.Saw, f.ID = err.Error(), finding.ProbeRedirect
		f.Fix = finding.Do("have the owner of " + of.Name + " correct where it redirects to")
	case errors.Is(err, context.DeadlineExceeded) || errors.Is(err, reach.ErrSlow) ||
		errors.As(err, &ue) && ue.Timeout():
		f.Saw, f.ID = "no whole answer within "+j.p.In.Timeout.String(), finding.ProbeSlow
		f.Fix = finding.Do("try again, or give it longer: `tressik probe " + j.t.Name +
			" --timeout 30s`; if it stays so, ask the owner of " + of.Name)
	default:
		if errors.As(err, &ue) {
			err = ue.Err
		}
		f.Saw = reach.Unreached(err).Error()
		f.Fix = finding.Do("ask the owner of " + of.Name + " whether it is up, and whether this machine may reach it")
	}
	j.add(f)
}

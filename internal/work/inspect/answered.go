package inspect

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/outside/webpage"
)

// reply is how a recorded message was answered.
type reply struct {
	status int    // of HTTP; 0 where the browser got no answer
	words  string // of a page or a document of an error
}

// telling is how much of a page of an error is told, in octets.
const telling = 240

// reply is how an entry's request was answered; nil where the archive does not say.
func (e *entry) reply() *reply {
	if e.Response.Status == nil {
		return nil
	}
	r := &reply{status: *e.Response.Status}
	if r.status < 400 {
		return r
	}
	var body string
	c := &e.Response.Content
	if len(c.Text) > 1<<20 || json.Unmarshal(c.Text, &body) != nil {
		return r
	}
	if c.Encoding == "base64" {
		if b, err := base64.StdEncoding.DecodeString(body); err == nil {
			body = string(b)
		}
	}
	if e := (&oidc.Error{}); json.Unmarshal([]byte(body), e) == nil && e.Code != "" {
		r.words = e.Error()
		return r
	}
	if strings.Contains(c.Kind, "html") || strings.HasPrefix(strings.TrimSpace(body), "<") {
		if p, err := webpage.Read(strings.NewReader(body)); err == nil {
			r.words = p.Telling(telling)
		}
	}
	return r
}

// answered adds to what was found of a recorded message how it was answered, where that was with an error: what the
// receiver did outweighs what it should have done. later tells that the sign-in went on: a provider may ask for
// credentials with a status of its own.
func (d *Inspector) answered(m Recorded, v *Inspection, later bool) {
	r := m.reply
	if r == nil || r.status != 0 && r.status < 400 || later {
		return
	}
	host, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimPrefix(m.To, "https://"), "http://"), "/")
	f := finding.Finding{ID: finding.InspectAnswer, Level: finding.Error, Check: "answer of " + host, Side: finding.App,
		Saw:      fmt.Sprintf("%d %s", r.status, http.StatusText(r.status)),
		Expected: "that it takes the " + v.Kind + ", and goes on"}
	of := ""
	if t, app, provider, err := d.Trust(v.Trust); err == nil {
		of = app.Name
		if !response(v) {
			f.Side, of = finding.Provider, provider.Name
		}
		f.Check = "answer of " + of
		d.remedy(&f, r, t, app, provider)
	} else {
		f.Fix = finding.Do("see in its log why it refused")
	}
	switch {
	case r.status == 0:
		f.Saw = "none: the browser got no answer from " + host
	case r.words != "":
		f.Saw += ": " + r.words
	}
	v.Findings = append(finding.List{f}, v.Findings...)
	v.Verdict = judge.Refused
}

// response reports whether a message goes to the app.
func response(v *Inspection) bool { return strings.Contains(strings.ToLower(v.Kind), "response") }

// remedy says what to do about an answer that was an error.
func (d *Inspector) remedy(f *finding.Finding, r *reply, t *federation.Trust, app, provider *federation.Party) {
	to, side := provider, "provider"
	if f.Side == finding.App {
		to, side = app, "app"
	}
	blamed := finding.Blamed(r.words)
	switch {
	case r.status == 0:
		f.Fix = finding.Do("see that its server runs, and is at this address").Then(finding.Run("probe", t.Name))
	case r.status == http.StatusNotFound || r.status == http.StatusGone:
		f.Fix = finding.Do("ask the owner of " + to.Name + " where it is now, and read what it publishes again")
		if !to.Own && to.Source != "" {
			f.Fix = f.Fix.Then(finding.Run(string(to.Kind), "refresh", to.Name))
		}
	case blamed != "" && f.Side == finding.Provider:
		f.ID, f.Of = finding.InspectRefused, string(blamed)
		f.Fix = finding.Do("have the owner of " + to.Name + " enter it as the handoff says").
			Then(finding.Run("handoff", t.Name, "--for", side))
	case blamed == finding.FactClientID:
		f.ID, f.Of = finding.InspectRefused, string(blamed)
		f.Fix = finding.Do("the app got no tokens: give it a valid secret, and try that").
			Then(finding.Run("probe", t.Name, "--secret-file", "FILE"))
	case r.status >= 500:
		f.Fix = finding.Do("see in the log of " + to.Name + " what went wrong at that time")
	default:
		f.Fix = finding.Do("see in the log of " + to.Name + " why it refused at that time")
	}
}

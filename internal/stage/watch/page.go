package watch

import (
	"cmp"
	"crypto/subtle"
	_ "embed"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/sequence"
	"tressik.example/internal/stage/server"
)

//go:embed page.html
var pageText string

//go:embed watch.css
var ownStyle string

//go:embed watch.js
var script string

var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(pageText))
})

// Page serves the page of a watch: it moves by itself, by server-sent events (HTML Standard, section 9.2).
type Page struct {
	Track  *Track
	Token  string                             // on the form of the page
	By     string                             // who watches, and so who says whether the app let them in
	Notice []string                           // such as a set clock
	Remedy func(finding.Remedy) template.HTML // writes a remedy
	Side   func(finding.Side) string
	Tally  func(finding.List) string
	looked atomic.Bool
	Mask   func(string) string // what others who see the page may not; nil masks nothing
}

func (p *Page) data(v *View) map[string]any {
	class := map[State]string{Waiting: "waiting", UnderWay: "moving", SignedIn: "good", SignedOut: "good"}[v.State]
	if class == "" {
		class = "bad"
	}
	mask := p.Mask
	if mask == nil {
		mask = func(s string) string { return s }
	}
	return map[string]any{"Trust": v.Trust, "V": v, "Class": class, "Words": Words(v), "Drawing": drawn(v, mask),
		"Stopped": v.Stopped(), "Token": p.Token, "Notice": strings.Join(p.Notice,
			"; "), "Remedy": p.Remedy, "Side": p.Side,
		"Tally": p.Tally, "Mask": mask, "Foot": Foot(v), "Link": template.URL(safeLink(v.Cast.Link))}
}

// drawn is the drawing as it stands in the page; "" where nothing passed yet. What stands in it is escaped.
func drawn(v *View, mask func(string) string) template.HTML {
	d := v.Drawing()
	if d.Empty() {
		return ""
	}
	return template.HTML(d.SVG(false, mask))
}

// safeLink is a link of http or https, "" for any other.
func safeLink(s string) string {
	if strings.HasPrefix(s, "https://") || strings.HasPrefix(s, "http://") {
		return s
	}
	return ""
}

// Drawing is what passed, as a drawing: a lane for each party, those upstream among them.
func (v *View) Drawing() *sequence.Drawing {
	d := sequence.New("What passed in "+v.Trust, v.Trust)
	for i := range v.Steps {
		s := &v.Steps[i]
		d.Add(sequence.Judged{Trust: cmp.Or(s.Through, v.Trust), By: s.By, What: s.What, Sent: s.Sent,
			Findings: s.Findings})
	}
	return d
}

// Words says in a sentence where a sign-in is, and who is real.
func Words(v *View) string {
	real := "both sides are played here, and neither is the real one"
	if all := v.Cast.All(); len(all) > 0 {
		real = "the real " + strings.Join(all, " and ")
		if len(v.Cast.Played) > 0 {
			real += ", with " + strings.Join(v.Cast.Played, " and ") + " played here"
		}
	}
	switch v.State {
	case Waiting:
		return "Nobody has begun yet: " + real + ". The watch waits until " + v.Until.Format("15:04:05 UTC") + "."
	case UnderWay:
		return "A sign-in is under way: " + real + ". It has until " + v.Until.Format("15:04:05 UTC") + "."
	case SignedIn:
		s := "The sign-in succeeded: " + real + "."
		if v.Out {
			s += " Now sign out at the app; the watch waits for that until " + v.Until.Format("15:04:05 UTC") + "."
		}
		switch app, _, _ := cut(v.Trust); {
		case v.Said:
			s += " That the app took it is what whoever signed in says."
		case !contains(v.Cast.Played, app):
			s += " The app redeemed its code for tokens; what it made of them is not seen here."
		}
		return s
	case SignedOut:
		return "Somebody signed in and out again: " + real + "."
	case Refused:
		return "The sign-in was refused: " + real + "."
	case Abandoned:
		return "The sign-in began and did not end: " + real + "."
	}
	return "Nobody signed in before " + v.Until.Format("15:04:05 UTC") + ": " + real + "."
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// Foot says what else there is to know.
func Foot(v *View) string {
	s := "Secrets, signatures and what names a person are left out of the messages."
	if v.Again > 0 {
		s += fmt.Sprintf(" A sign-in was begun %d more times afterwards; the verdict is of the first.", v.Again)
	}
	if v.Over() {
		s += " The watch has ended."
	}
	return s
}

// ServeHTTP serves the page, its style, its script and its events.
func (p *Page) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'; "+
		"form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
	h.Set("X-Frame-Options", "DENY")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
	switch r.URL.Path {
	case "/":
		p.show(w)
	case "/watch.css":
		h.Set("Content-Type", "text/css; charset=utf-8")
		fmt.Fprint(w, server.Style()+ownStyle)
	case "/watch.js":
		h.Set("Content-Type", "text/javascript; charset=utf-8")
		fmt.Fprint(w, script)
	case "/events":
		p.events(w, r)
	case "/said":
		p.said(w, r)
	default:
		http.Error(w, "nothing here", http.StatusNotFound)
	}
}

// show writes the page as it is now.
func (p *Page) show(w http.ResponseWriter) {
	p.looked.Store(true)
	v, _ := p.Track.View()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = pageTemplate().Execute(w, p.data(&v)) // the browser went away
}

// Looked reports whether somebody has the page open, or had.
func (p *Page) Looked() bool { return p.looked.Load() }

func (p *Page) said(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if r.Method != http.MethodPost || r.ParseForm() != nil ||
		subtle.ConstantTimeCompare([]byte(r.PostForm.Get("token")), []byte(p.Token)) != 1 {
		http.Error(w, "this form is not of this page", http.StatusForbidden)
		return
	}
	p.Track.Say(r.PostForm.Get("in") == "yes", p.By)
	p.show(w) // no redirect: the watch may be over before the browser follows it
}

// events sends the track anew each time that it changed.
func (p *Page) events(w http.ResponseWriter, r *http.Request) {
	flush, ok := w.(http.Flusher)
	if !ok {
		http.Error(w, "this server cannot send events", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/event-stream")
	for {
		v, moved := p.Track.View()
		var b strings.Builder
		if err := pageTemplate().ExecuteTemplate(&b, "track", p.data(&v)); err != nil {
			return
		}
		for _, l := range strings.Split(b.String(), "\n") {
			fmt.Fprintf(w, "data: %s\n", strings.TrimSuffix(l, "\r"))
		}
		fmt.Fprint(w, "\n")
		if v.Over() {
			fmt.Fprint(w, "event: end\ndata: over\n\n")
			flush.Flush()
			return
		}
		flush.Flush()
		select {
		case <-moved:
		case <-r.Context().Done():
			return
		}
	}
}

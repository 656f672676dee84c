package server

import (
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"tressik.example/internal/core/finding"
)

// pageStyle is the one style sheet of all pages.
//
//go:embed page.css
var pageStyle string

//go:embed page.html
var pageText string

// pageTemplate parses the page once, when the first page is asked for.
var pageTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("page").Parse(pageText))
})

// postText is the page of response_mode form_post (OAuth 2.0 Form Post Response Mode, section 2).
//
//go:embed post.html
var postText string

var postTemplate = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("post").Parse(strings.Replace(postText, "{{.Script}}", PostScript, 1)))
})

// PostScript is the one script of a page that posts itself; its hash goes into the content security policy.
const PostScript = `document.forms[0].submit()`

// policy is the content security policy but for where forms may go, worked out once.
var policy = sync.OnceValue(func() string {
	return "default-src 'none'; style-src " + cspHash(pageStyle) + "; script-src " + cspHash(PostScript) +
		"; base-uri 'none'; frame-ancestors 'none'; form-action "
})

func cspHash(s string) string {
	sum := sha256.Sum256([]byte(s))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}

// Origins are addresses as sources of a content security policy, each once, for a page whose form leads from one of
// them to the next.
func Origins(addresses ...string) string {
	var out []string
	for _, at := range addresses {
		if o := formTarget(at); o != "" && !slices.Contains(out, o) {
			out = append(out, o)
		}
	}
	return strings.Join(out, " ")
}

// Secure sets the headers of every page. formAction names where its forms may go.
func Secure(w http.ResponseWriter, formAction string) {
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", policy()+formAction)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY") // frame-ancestors for browsers that do not know it
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
}

// Post sends the browser on with a form that submits itself: its fields to an address.
func (s *Server) Post(w http.ResponseWriter, at string, fields url.Values) error {
	u, err := url.Parse(at)
	if err != nil || u.Host == "" {
		return fmt.Errorf("%q is no URL that a form can be posted to", at)
	}
	Secure(w, u.Scheme+"://"+u.Host)
	_ = postTemplate().Execute(w, map[string]any{"Action": at, "Fields": fields}) // the browser went away
	return nil
}

// Page is a page of the stage.
type Page struct {
	Title, By string // By is the party that shows it
	Lead      string
	Fields    [][2]string
	Claims    []Claim
	Findings  finding.List
	Alert     bool // the findings come first
	Plain     bool // claims have one name, their own
	Form      *Form
	Consent   *Consent
	Leads     string // where the redirects behind the page's form may lead besides this site
	Links     [][2]string
	Find      *Find
	Lists     []List
	Frames    []string // addresses that the browser opens unseen
	Onward    string   // where the browser goes by itself once the frames had time to open
}

// List is a titled list of a page: what it is, and a link with its words, or words alone.
type List struct {
	Title string
	Rows  [][3]string // label, words, link or ""
	Left  int         // how many more there are, which are not listed
}

// Add lists one more, unless there are so many already: then it is counted.
func (l *List) Add(most int, label, words, link string) {
	if len(l.Rows) == most {
		l.Left++
		return
	}
	l.Rows = append(l.Rows, [3]string{label, words, link})
}

// Find is a field in which one looks for something on a page with long lists.
type Find struct{ At, Ask, Value string }

// Claim is what arrived under a name, with another for people where there is one.
type Claim struct {
	Name, Friendly string
	Values         []string
}

// formTarget is a URL as a source of a content security policy: browsers hold form-action for redirects as well.
func formTarget(at string) string {
	u, err := url.Parse(at)
	switch {
	case at == "" || err != nil || strings.ContainsAny(at, "; ,'"):
		return ""
	case u.Scheme == "https" || u.Scheme == "http":
		return u.Scheme + "://" + u.Host
	}
	return u.Scheme + ":"
}

// Form is a form with one button.
type Form struct {
	Action, Token, Ask string
	Value              string // of the user name, as it was hinted
	People             []string
	Few                [][2]string // a few of them to choose from: ID and name
	Button             string
	Password           bool // it asks for one
	Hidden             url.Values
}

// Consent is the page on which a person agrees, or is told whom to ask.
type Consent struct {
	Action, Token, Who, App string
	Contact, Home           string
	Groups                  []ConsentGroup
	Admin                   bool // with a button that leads to agreeing for everyone
	// of the page for everyone: whom it concerns, and since when each of it is asked for
	Whom    string
	Since   string
	Stopped bool   // an administrator must agree first
	Others  bool   // and there is something that needs none
	Ask     string // whom to ask
}

// ConsentGroup is what is asked for in one way: on the person's behalf or about them.
type ConsentGroup struct {
	How  string
	Rows [][2]string // what it lets the app do, the permission's name
}

// Page writes a page.
func (s *Server) Page(w http.ResponseWriter, status int, p Page) {
	Secure(w, strings.TrimSpace("'self' "+formTarget(p.Leads)))
	if len(p.Frames) > 0 {
		src := "; frame-src"
		for _, f := range p.Frames {
			src += " " + formTarget(f)
		}
		w.Header().Set("Content-Security-Policy", w.Header().Get("Content-Security-Policy")+src)
	}
	if p.Onward != "" {
		w.Header().Set("Refresh", "2; url="+p.Onward)
	}
	w.WriteHeader(status)
	notice := s.Notice
	if t := s.trouble.Load(); t != nil && *t != "" {
		notice = append([]string{*t}, notice...)
	}
	_ = pageTemplate().Execute(w, map[string]any{"Title": p.Title, "By": p.By, "D": p, "Style": template.CSS(pageStyle),
		"Notice": strings.Join(notice, "; "), "Remedy": s.remedy}) // the browser went away
}

// remedy writes a remedy on a page.
func (s *Server) remedy(r finding.Remedy) string {
	if s.Remedy == nil {
		return r.Do
	}
	return s.Remedy(r)
}

// Nobody is the page of an app at which nobody is signed in. Before cutover it offers the app's own sign-in beside that
// of the provider; afterwards, where own is false, it sends people to the provider straight away.
func (s *Server) Nobody(w http.ResponseWriter, r *http.Request, title, start, home string, own bool) {
	if !own {
		http.Redirect(w, r, start, http.StatusSeeOther)
		return
	}
	s.Page(w, http.StatusOK, Page{Title: title, By: title, Lead: "Nobody is signed in here.",
		Links: [][2]string{{"Sign in", start}, {"The app's own sign-in", home + "own-sign-in"}}})
}

// OwnSignIn is an app's own sign-in: it is there before cutover, and stays for emergencies.
func (s *Server) OwnSignIn(title, start string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		s.Page(w, http.StatusOK, Page{Title: "The app's own sign-in", By: title,
			Lead: "Here people sign in with a password of " +
				title + " itself, before cutover and in an emergency. This stand-in has no passwords of its own.",
			Links: [][2]string{{"Sign in with the provider", start}}})
	}
}

// Style is the style sheet of all pages.
func Style() string { return pageStyle }

package server

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"tressik.example/internal/core/finding"
)

const pageStyle = `
:root{color-scheme:light dark;--ink:#22303a;--soft:#5c6c76;--line:#cfd8dc;--paper:#fbfaf6;--card:#fff;--mark:#7a4b1e;--bad:#a3243b;--good:#2b6b4f}
@media(prefers-color-scheme:dark){:root{--ink:#e4e8ea;--soft:#9fb0b9;--line:#3a474f;--paper:#161c20;--card:#1e262b;--mark:#e0a96d;--bad:#f08a9b;--good:#86cfae}}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--ink);font:16px/1.5 "DejaVu Sans",Verdana,sans-serif}
header{border-bottom:3px double var(--line);padding:.8rem 1.5rem;color:var(--soft);font-size:.85rem;display:flex;justify-content:space-between;gap:1rem;flex-wrap:wrap}
header b{color:var(--mark)}
main{max-width:62rem;margin:2rem auto;padding:0 1.5rem}
h1{font-size:1.7rem;font-weight:600;margin:0 0 .3rem}
p{margin:.3rem 0 1rem}
table{border-collapse:collapse;width:100%;background:var(--card);margin:0 0 1.5rem}
caption{text-align:left;font-weight:600;padding:.4rem 0}
th,td{text-align:left;vertical-align:top;padding:.45rem .8rem;border:1px solid var(--line)}
td.long{overflow-wrap:anywhere}
th{font-weight:500;color:var(--soft);white-space:nowrap}
td.error{color:var(--bad);font-weight:600}td.pass{color:var(--good)}
label{display:block;margin:0 0 .3rem;font-weight:600}
input[type=text]{font:inherit;width:22rem;max-width:100%;padding:.5rem .7rem;border:1px solid var(--soft);background:var(--card);color:inherit}
button{font:inherit;padding:.5rem 1.4rem;border:1px solid var(--mark);background:var(--mark);color:var(--paper);cursor:pointer}
button.plain{background:transparent;color:var(--mark)}.deeds{display:flex;gap:.8rem}
h2{font-size:1rem;font-weight:500;color:var(--soft);margin:0 0 .2rem}
ul.asks{list-style:none;padding:0;margin:0 0 1rem;background:var(--card);border:1px solid var(--line);border-left:5px solid var(--mark)}
ul.asks li{padding:.4rem 1rem;border-bottom:1px solid var(--line);display:flex;justify-content:space-between;align-items:baseline;gap:1rem;flex-wrap:wrap}ul.asks li:last-child{border-bottom:0}ul.asks code{color:var(--soft)}
a{color:var(--mark)}code{font:.92em "DejaVu Sans Mono",monospace}
`

const pageText = `<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1">
<title>{{.Title}}</title><style>{{.Style}}</style></head>
<body><header><span>{{if .By}}<b>{{.By}}</b>, played on the stage{{else}}the stage{{end}}</span><span>Tressik rehearsal: nothing here is the real service{{if .Notice}}; {{.Notice}}{{end}}</span></header>
<main><h1>{{.Title}}</h1>{{with .D}}{{if .Lead}}<p>{{.Lead}}</p>{{end}}
{{if .Alert}}{{template "checks" $}}{{end}}{{with .Form}}<form method="post" action="{{.Action}}"><input type="hidden" name="form_token" value="{{.Token}}">
{{range $k,$v := .Hidden}}<input type="hidden" name="{{$k}}" value="{{index $v 0}}">{{end}}{{if eq .Ask "out"}}{{else if eq .Ask "person"}}<label for="person">User name or mail address</label>
<p><input type="text" id="person" name="person" list="people" value="{{.Value}}" autocomplete="off" autofocus required></p>
<datalist id="people">{{range .People}}<option value="{{.}}">{{end}}</datalist>{{else}}<input type="hidden" name="second" value="yes">{{end}}
<p><button>{{.Button}}</button></p></form>{{end}}
{{with .Consent}}<form method="post" action="{{.Action}}"><input type="hidden" name="form_token" value="{{.Token}}">
{{range .Groups}}<h2>{{.How}}</h2><ul class="asks">{{range .Rows}}<li><b>{{index . 0}}</b><code>{{index . 1}}</code></li>{{end}}</ul>{{end}}
{{if .Stopped}}<p>{{if .Ask}}Whom to ask: <b>{{.Ask}}</b>.{{else}}Nobody is named as administrator of this provider: ask whoever keeps its ledger.{{end}}</p>
<p class="deeds"><button name="decision" value="back">Back to {{.App}}</button>{{if .Others}} <button class="plain" name="decision" value="without">Go on without it</button>{{end}}</p>
{{else}}<p class="who">You are signed in as <b>{{.Who}}</b>.{{if .Contact}} Questions about {{.App}} go to {{.Contact}}.{{end}}{{if .Home}} Its home page is {{.Home}}.{{end}}</p>
{{if .Admin}}<p>You are an administrator here. Agree for yourself alone, or for everyone at the organisation: then nobody else is asked.</p>{{end}}
<p class="deeds"><button name="decision" value="agree">{{if .Admin}}Agree for myself{{else}}Agree{{end}}</button> {{if .Admin}}<button name="decision" value="everyone">Agree for everyone</button> {{end}}<button class="plain" name="decision" value="refuse">Refuse</button></p>{{end}}</form>{{end}}
{{if .Fields}}<table>{{range .Fields}}<tr><th>{{index . 0}}</th><td class="long">{{index . 1}}</td></tr>{{end}}</table>{{end}}
{{if .Claims}}<table><caption>Claims as they arrived</caption><tr>{{if $.D.Plain}}<th>Claim</th>{{else}}<th>Attribute</th><th>Name in the message</th>{{end}}<th>Values</th></tr>
{{range .Claims}}<tr><td>{{if .Friendly}}{{.Friendly}}{{else}}{{.Name}}{{end}}</td>{{if not $.D.Plain}}<td><code>{{.Name}}</code></td>{{end}}<td class="long">{{range $i,$v := .Values}}{{if $i}}<br>{{end}}{{$v}}{{end}}</td></tr>{{end}}</table>{{end}}
{{if not .Alert}}{{template "checks" $}}{{end}}
{{if .Links}}<ul>{{range .Links}}<li><a href="{{index . 1}}">{{index . 0}}</a></li>{{end}}</ul>{{end}}{{end}}
</main></body></html>
{{define "checks"}}{{if .D.Findings}}<table><caption>Checks</caption><tr><th>Outcome</th><th>Check</th><th>Saw</th><th>What to do</th></tr>
{{range .D.Findings}}<tr><td class="{{.Level}}">{{.Level}}</td><td>{{.Check}}<br><code>{{.ID}}</code></td><td class="long">{{.Saw}}{{if ne .Level "pass"}}<br>expected: {{.Expected}}{{end}}</td><td class="long">{{call $.Remedy .Fix}}</td></tr>{{end}}</table>{{end}}{{end}}
`

// pageTemplate parses the page once, when the first page is asked for.
var pageTemplate = sync.OnceValue(func() *template.Template { return template.Must(template.New("page").Parse(pageText)) })

// postText is the page of response_mode form_post (OAuth 2.0 Form Post Response Mode, section 2).
const postText = `<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Passing on</title></head>
<body><form method="post" action="{{.Action}}">{{range $k,$v := .Fields}}<input type="hidden" name="{{$k}}" value="{{index $v 0}}">{{end}}
<noscript><p>Scripts are off.</p></noscript><button>Continue</button></form>
<script>{{.Script}}</script></body></html>
`

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

// Secure sets the headers of every page. formAction names where its forms may go.
func Secure(w http.ResponseWriter, formAction string) {
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", policy()+formAction)
	h.Set("X-Content-Type-Options", "nosniff")
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
}

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
	Button             string
	Hidden             url.Values
}

// Consent is the page on which a person agrees, or is told whom to ask.
type Consent struct {
	Action, Token, Who, App string
	Contact, Home           string
	Groups                  []ConsentGroup
	Admin                   bool   // with a button that agrees for everyone
	Stopped                 bool   // an administrator must agree first
	Others                  bool   // and there is something that needs none
	Ask                     string // whom to ask
}

// ConsentGroup is what is asked for in one way: on the person's behalf or about them.
type ConsentGroup struct {
	How  string
	Rows [][2]string // what it lets the app do, the permission's name
}

// Page writes a page.
func (s *Server) Page(w http.ResponseWriter, status int, p Page) {
	Secure(w, strings.TrimSpace("'self' "+formTarget(p.Leads)))
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

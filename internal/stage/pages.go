package stage

import (
	"crypto/sha256"
	"encoding/base64"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/saml"
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
.box label{font-weight:400}.box input{margin-right:.5rem}
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
{{if .Admin}}<p class="box"><label><input type="checkbox" name="everyone" value="yes"> Agree for everyone in the organisation, as an administrator: nobody else is asked then</label></p>{{end}}
<p class="deeds"><button name="decision" value="agree">Agree</button> <button class="plain" name="decision" value="refuse">Refuse</button></p>{{end}}</form>{{end}}
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
	return template.Must(template.New("post").Parse(strings.Replace(postText, "{{.Script}}", saml.PostScript, 1)))
})

func cspHash(s string) string {
	sum := sha256.Sum256([]byte(s))
	return "'sha256-" + base64.StdEncoding.EncodeToString(sum[:]) + "'"
}

// secure sets the headers of every page. formAction names where its forms may go.
func secure(w http.ResponseWriter, formAction string) {
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src "+cspHash(pageStyle)+"; script-src "+cspHash(saml.PostScript)+
		"; form-action "+formAction+"; base-uri 'none'; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "no-store")
}

func (s *Stage) post(w http.ResponseWriter, location, parameter string, xml []byte, relay string) {
	u, err := url.Parse(location)
	if err != nil {
		http.Error(w, "the location to post to is no URL", http.StatusInternalServerError)
		return
	}
	secure(w, u.Scheme+"://"+u.Host)
	_ = saml.WritePOST(w, location, parameter, xml, relay) // the browser went away
}

type pageData struct {
	Lead     string
	Fields   [][2]string
	Claims   []saml.Attribute
	Findings finding.List
	Alert    bool // the findings come first
	Plain    bool // claims have one name, their own
	Form     *form
	Consent  *consentForm
	Leads    string // where the redirects behind the page's form may lead besides this site
	Links    [][2]string
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

type form struct {
	Action, Token, Ask string
	Value              string // of the user name, as it was hinted
	People             []string
	Button             string
	Hidden             url.Values
}

// consentForm is the page on which a person agrees, or is told whom to ask.
type consentForm struct {
	Action, Token, Who, App string
	Contact, Home           string
	Groups                  []consentGroup
	Admin                   bool   // with the box that agrees for everyone
	Stopped                 bool   // an administrator must agree first
	Others                  bool   // and there is something that needs none
	Ask                     string // whom to ask
}

// consentGroup is what is asked for in one way: on the person's behalf or about them.
type consentGroup struct {
	How  string
	Rows [][2]string // what it lets the app do, the permission's name
}

func (s *Stage) page(w http.ResponseWriter, status int, title, by string, d pageData) {
	secure(w, strings.TrimSpace("'self' "+formTarget(d.Leads)))
	w.WriteHeader(status)
	_ = pageTemplate().Execute(w, map[string]any{"Title": title, "By": by, "D": d, "Style": template.CSS(pageStyle), "Notice": s.Notice, "Remedy": s.remedyWords})
}

// remedyWords writes a remedy on a page.
func (s *Stage) remedyWords(r finding.Remedy) string {
	if s.Remedy == nil {
		return r.Do
	}
	return s.Remedy(r)
}

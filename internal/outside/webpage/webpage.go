// Package webpage reads what counts of an HTML page for whoever goes through a sign-in without a browser: its title,
// its first words, its first form, and where it leads by itself.
package webpage

import (
	"io"
	"net/url"
	"regexp"
	"strings"
	"sync"

	"golang.org/x/net/html"
)

// Page is what was read of a page.
type Page struct {
	Title     string
	Text      string // its first words
	Action    string // of its first form; "" if it has none
	Fields    url.Values
	Asks      bool     // it asks for a password, an address or a name
	Decisions []string // values of its buttons named decision
	Onward    string   // where it leads by itself (meta refresh)
}

// much is how much of a page's text is kept.
const much = 1200

// Read reads a page. Errors: those of reading.
func Read(r io.Reader) (*Page, error) {
	doc, err := html.Parse(r)
	if err != nil {
		return nil, err
	}
	p := &Page{Fields: url.Values{}}
	var text strings.Builder
	for n := range doc.Descendants() {
		switch {
		case n.Type == html.TextNode && text.Len() < much && shown(n):
			text.WriteString(n.Data + " ")
		case n.Type == html.ElementNode:
			p.element(n)
		}
	}
	p.Text = strings.Join(strings.Fields(text.String()), " ")
	return p, nil
}

// shown reports whether a text is one that people read on the page.
func shown(n *html.Node) bool {
	return n.Parent != nil && n.Parent.Data != "script" && n.Parent.Data != "style" && n.Parent.Data != "title"
}

func (p *Page) element(n *html.Node) {
	switch n.Data {
	case "title":
		if n.FirstChild != nil {
			p.Title = strings.Join(strings.Fields(n.FirstChild.Data), " ")
		}
	case "form":
		if p.Action == "" {
			p.Action = attr(n, "action")
		}
	case "input":
		kind, name := strings.ToLower(attr(n, "type")), attr(n, "name")
		p.Asks = p.Asks || kind == "password" || kind == "email" || (kind == "text" || kind == "") && name != ""
		if name != "" {
			p.Fields.Set(name, attr(n, "value"))
		}
	case "button":
		if attr(n, "name") == "decision" {
			p.Decisions = append(p.Decisions, attr(n, "value"))
		}
	case "meta":
		if strings.EqualFold(attr(n, "http-equiv"), "refresh") {
			if _, at, ok := strings.Cut(attr(n, "content"), "url="); ok {
				p.Onward = strings.Trim(at, `'" `)
			}
		}
	}
}

func attr(n *html.Node, key string) string {
	for _, a := range n.Attr {
		if a.Key == key {
			return a.Val
		}
	}
	return ""
}

// codes are the error codes of RFC 6749, OpenID Connect Core and their extensions, and the status codes of SAML, as
// pages of errors repeat them.
var codes = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\b(invalid|unauthorized|unsupported|access|login|interaction|consent|insufficient|` +
		`temporarily|server|expired)_[a-z_]+\b|urn:oasis:names:tc:SAML:\S+:status:\w+`)
})

// Telling is what a page of an error says of the error: its title, and its words from where a code of the standards
// stands, or else from its beginning; n octets at most of them.
func (p *Page) Telling(n int) string {
	text := p.Text
	if at := codes().FindStringIndex(text); at != nil {
		if begin := at[0] - n/4; begin > 0 {
			text = text[begin:]
			if i := strings.IndexByte(text, ' '); i >= 0 && i < n/4 {
				text = text[i+1:]
			}
			text = "… " + text
		}
	} else if i := strings.LastIndex(text, p.Title); p.Title != "" && i >= 0 && len(text) > i+len(p.Title) {
		text = text[i+len(p.Title):]
	}
	if len(text) > n {
		text = text[:n]
		if i := strings.LastIndexByte(text, ' '); i > 0 {
			text = text[:i]
		}
		text = strings.ToValidUTF8(text, "") + " …"
	}
	if text = strings.TrimSpace(text); p.Title == "" || text == "" {
		return p.Title + text
	}
	return p.Title + ": " + text
}

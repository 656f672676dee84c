package report

import (
	"bytes"
	"html"
	"io"
	"regexp"
	"sync"

	nethtml "golang.org/x/net/html"
)

// hidden is a text without what whoever reads the report may not see.
func (d *Data) hidden(s string) string {
	if d.Mask == nil {
		return s
	}
	return d.Mask(s)
}

// page writes a page with the mask over its words.
func (d *Data) page(w io.Writer, name string, with map[string]any) error {
	if d.Mask == nil {
		return pages().ExecuteTemplate(w, name, with)
	}
	var whole bytes.Buffer
	if err := pages().ExecuteTemplate(&whole, name, with); err != nil {
		return err
	}
	_, err := w.Write(hide(whole.Bytes(), d.Mask))
	return err
}

// said are the attributes that somebody reads or is told; the others place and colour, and a number of a person's is a
// number there.
var said = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\b(title|alt|aria-label|href)="[^"]*"`)
})

// hide has a mask over the text of a page and what its attributes say, as a reader sees them: no escape parts a name.
func hide(page []byte, mask func(string) string) []byte {
	over := func(s []byte) []byte {
		was := html.UnescapeString(string(s))
		if is := mask(was); is != was {
			return []byte(html.EscapeString(is))
		}
		return s
	}
	var out bytes.Buffer
	style := false
	for z := nethtml.NewTokenizer(bytes.NewReader(page)); ; {
		kind := z.Next()
		raw := bytes.Clone(z.Raw())
		switch kind {
		case nethtml.ErrorToken: // the end: it is read from memory
			out.Write(raw)
			return out.Bytes()
		case nethtml.TextToken:
			if !style {
				raw = over(raw)
			}
		case nethtml.StartTagToken, nethtml.SelfClosingTagToken, nethtml.EndTagToken:
			tag, _ := z.TagName()
			if string(tag) == "style" {
				style = kind == nethtml.StartTagToken
			}
			raw = said().ReplaceAllFunc(raw, func(a []byte) []byte {
				at := bytes.IndexByte(a, '"') + 1
				return append(append(bytes.Clone(a[:at]), over(a[at:len(a)-1])...), '"')
			})
		}
		out.Write(raw)
	}
}

package xmlsec

import (
	"bytes"
	"fmt"
	"hash"
	"slices"
	"strings"
	"sync"

	"github.com/beevik/etree"
	dsig "github.com/russellhaering/goxmldsig"
	"github.com/russellhaering/goxmldsig/etreeutils"
)

// Canonicalization algorithms by identifier.
const (
	ExcC14N         = "http://www.w3.org/2001/10/xml-exc-c14n#"
	ExcC14NComments = "http://www.w3.org/2001/10/xml-exc-c14n#WithComments"
	C14N10          = "http://www.w3.org/TR/2001/REC-xml-c14n-20010315"
	C14N10Comments  = "http://www.w3.org/TR/2001/REC-xml-c14n-20010315#WithComments"
	C14N11          = "http://www.w3.org/2006/12/xml-c14n11"
	C14N11Comments  = "http://www.w3.org/2006/12/xml-c14n11#WithComments"
)

// Canonicalize returns the canonical octets of an element in its document, leaving out the child element skip (nil for
// none). prefixes is the InclusiveNamespaces PrefixList of exclusive canonicalization. An unknown algorithm is an
// error.
func Canonicalize(el *etree.Element, algorithm, prefixes string, skip *etree.Element) ([]byte, error) {
	switch algorithm {
	case ExcC14N, ExcC14NComments:
		w := &excWriter{comments: algorithm == ExcC14NComments, inclusive: strings.Fields(prefixes), skip: skip}
		w.out.Grow(4096)
		w.element(el)
		return w.out.Bytes(), nil
	case C14N10:
		return inclusive(el, dsig.MakeC14N10RecCanonicalizer(), skip)
	case C14N10Comments:
		return inclusive(el, dsig.MakeC14N10WithCommentsCanonicalizer(), skip)
	case C14N11:
		return inclusive(el, dsig.MakeC14N11Canonicalizer(), skip)
	case C14N11Comments:
		return inclusive(el, dsig.MakeC14N11WithCommentsCanonicalizer(), skip)
	}
	return nil, fmt.Errorf("canonicalization algorithm %q is not supported", algorithm)
}

// writers are kept for reuse where only a digest of what they wrote is wanted.
var writers = sync.Pool{New: func() any { return &excWriter{} }}

// digestOver writes the canonical form of an element into a hash.
func digestOver(h hash.Hash, el *etree.Element, algorithm, prefixes string, skip *etree.Element) error {
	if algorithm != ExcC14N && algorithm != ExcC14NComments {
		b, err := Canonicalize(el, algorithm, prefixes, skip)
		h.Write(b)
		return err
	}
	w := writers.Get().(*excWriter)
	defer writers.Put(w)
	w.out.Reset()
	w.comments, w.inclusive, w.skip, w.rendered = algorithm == ExcC14NComments, nil, skip, w.rendered[:0]
	if prefixes != "" {
		w.inclusive = strings.Fields(prefixes)
	}
	w.element(el)
	h.Write(w.out.Bytes())
	w.skip = nil
	return nil
}

// inclusive canonicalizes with all namespaces in scope.
func inclusive(el *etree.Element, c dsig.Canonicalizer, skip *etree.Element) ([]byte, error) {
	ctx, err := etreeutils.NSBuildParentContext(el)
	if err != nil {
		return nil, fmt.Errorf("namespaces of <%s>: %w", el.FullTag(), err)
	}
	at := -1
	if skip != nil {
		at = skip.Index()
	}
	detached, err := etreeutils.NSDetatch(ctx, el)
	if err != nil {
		return nil, fmt.Errorf("namespaces of <%s>: %w", el.FullTag(), err)
	}
	if at >= 0 {
		detached.RemoveChildAt(at)
	}
	return c.Canonicalize(detached)
}

// Serialize writes an element as a document of its own, in exclusive canonical form: what is signed is what is sent.
func Serialize(el *etree.Element) []byte {
	w := &excWriter{comments: true}
	w.out.Grow(4096)
	w.element(el)
	return w.out.Bytes()
}

// excWriter writes Exclusive XML Canonicalization 1.0, section 3.
type excWriter struct {
	out       bytes.Buffer
	comments  bool
	inclusive []string
	skip      *etree.Element
	rendered  []binding // declarations written by output ancestors, innermost last
}

func (w *excWriter) renderedAs(prefix string) (string, bool) {
	for i := len(w.rendered) - 1; i >= 0; i-- {
		if w.rendered[i].prefix == prefix {
			return w.rendered[i].uri, true
		}
	}
	return "", false
}

func (w *excWriter) element(el *etree.Element) {
	mark := len(w.rendered)
	var used [8]string
	prefixes := append(used[:0], el.Space)
	for i := range el.Attr {
		a := &el.Attr[i]
		if a.Space != "" && a.Space != "xmlns" && a.Space != "xml" && !slices.Contains(prefixes, a.Space) {
			prefixes = append(prefixes, a.Space)
		}
	}
	for _, p := range w.inclusive {
		if p == "#default" {
			p = ""
		}
		if !slices.Contains(prefixes, p) && (p == "" || lookupNS(el, p) != "") {
			prefixes = append(prefixes, p)
		}
	}
	for _, p := range prefixes {
		if p == "xml" {
			continue
		}
		uri := lookupNS(el, p)
		old, ok := w.renderedAs(p)
		if ok && old == uri || !ok && p == "" && uri == "" {
			continue
		}
		w.rendered = append(w.rendered, binding{p, uri})
	}
	decls := w.rendered[mark:]
	slices.SortFunc(decls, func(a, b binding) int { return strings.Compare(a.prefix, b.prefix) })

	w.out.WriteByte('<')
	w.qname(el.Space, el.Tag)
	for _, d := range decls {
		w.out.WriteString(" xmlns")
		if d.prefix != "" {
			w.out.WriteByte(':')
			w.out.WriteString(d.prefix)
		}
		w.out.WriteString(`="`)
		w.escapeAttr(d.uri)
		w.out.WriteByte('"')
	}
	w.attributes(el)
	w.out.WriteByte('>')
	for _, t := range el.Child {
		switch c := t.(type) {
		case *etree.Element:
			if c != w.skip {
				w.element(c)
			}
		case *etree.CharData:
			w.escapeText(c.Data)
		case *etree.Comment:
			if w.comments {
				w.out.WriteString("<!--")
				w.out.WriteString(c.Data)
				w.out.WriteString("-->")
			}
		}
	}
	w.out.WriteString("</")
	w.qname(el.Space, el.Tag)
	w.out.WriteByte('>')
	w.rendered = w.rendered[:mark]
}

type sortedAttr struct {
	ns   string
	attr *etree.Attr
}

func (w *excWriter) attributes(el *etree.Element) {
	var room [8]sortedAttr
	attrs := room[:0]
	for i := range el.Attr {
		a := &el.Attr[i]
		if _, decl := declares(*a); decl {
			continue
		}
		ns := ""
		if a.Space != "" {
			ns = lookupNS(el, a.Space)
		}
		attrs = append(attrs, sortedAttr{ns, a})
	}
	if len(attrs) > 1 {
		slices.SortFunc(attrs, func(a, b sortedAttr) int {
			if c := strings.Compare(a.ns, b.ns); c != 0 {
				return c
			}
			return strings.Compare(a.attr.Key, b.attr.Key)
		})
	}
	for _, s := range attrs {
		w.out.WriteByte(' ')
		w.qname(s.attr.Space, s.attr.Key)
		w.out.WriteString(`="`)
		w.escapeAttr(s.attr.Value)
		w.out.WriteByte('"')
	}
}

func (w *excWriter) qname(prefix, local string) {
	if prefix != "" {
		w.out.WriteString(prefix)
		w.out.WriteByte(':')
	}
	w.out.WriteString(local)
}

// escapeText writes character data (Canonical XML 1.0, section 2.3).
func (w *excWriter) escapeText(s string) {
	w.escape(s, "&<>\r", func(c byte) string {
		switch c {
		case '&':
			return "&amp;"
		case '<':
			return "&lt;"
		case '>':
			return "&gt;"
		case '\r':
			return "&#xD;"
		}
		return ""
	})
}

// escapeAttr writes an attribute value.
func (w *excWriter) escapeAttr(s string) {
	w.escape(s, "&<\"\t\n\r", func(c byte) string {
		switch c {
		case '&':
			return "&amp;"
		case '<':
			return "&lt;"
		case '"':
			return "&quot;"
		case '\t':
			return "&#x9;"
		case '\n':
			return "&#xA;"
		case '\r':
			return "&#xD;"
		}
		return ""
	})
}

// escape writes text with the special characters replaced; most text has none.
func (w *excWriter) escape(s, special string, with func(byte) string) {
	if !strings.ContainsAny(s, special) {
		w.out.WriteString(s)
		return
	}
	from := 0
	for i := 0; i < len(s); i++ {
		esc := with(s[i])
		if esc == "" {
			continue
		}
		w.out.WriteString(s[from:i])
		w.out.WriteString(esc)
		from = i + 1
	}
	w.out.WriteString(s[from:])
}

package xmlsec

import (
	"fmt"
	"io"
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
		return w.element(make([]byte, 0, 4096), el), nil
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
func digestOver(h io.Writer, el *etree.Element, algorithm, prefixes string, skip *etree.Element) error {
	if algorithm != ExcC14N && algorithm != ExcC14NComments {
		b, err := Canonicalize(el, algorithm, prefixes, skip)
		h.Write(b)
		return err
	}
	w := writers.Get().(*excWriter)
	defer writers.Put(w)
	w.comments, w.inclusive, w.skip, w.rendered = algorithm == ExcC14NComments, nil, skip, w.rendered[:0]
	if prefixes != "" {
		w.inclusive = strings.Fields(prefixes)
	}
	w.kept = w.element(w.kept[:0], el)
	h.Write(w.kept)
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
	return w.element(make([]byte, 0, 6144), el)
}

// excWriter writes Exclusive XML Canonicalization 1.0, section 3.
type excWriter struct {
	kept      []byte // room for what is written, where it is used again
	comments  bool
	every     bool // each declaration where it stands, as inclusive canonicalization of a whole document has it
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

// declare adds the declaration of a prefix that an element uses, unless it is in force in what was written.
func (w *excWriter) declare(el *etree.Element, prefix string) {
	if prefix == "xml" {
		return
	}
	uri := lookupNS(el, prefix)
	old, ok := w.renderedAs(prefix)
	if ok && old == uri || !ok && prefix == "" && uri == "" {
		return
	}
	w.rendered = append(w.rendered, binding{prefix, uri})
}

func (w *excWriter) element(b []byte, el *etree.Element) []byte {
	mark := len(w.rendered)
	b = w.start(b, el)
	for _, t := range el.Child {
		switch c := t.(type) {
		case *etree.Element:
			if c != w.skip {
				b = w.element(b, c)
			}
		case *etree.CharData:
			b = escapeText(b, c.Data)
		case *etree.Comment:
			if w.comments {
				b = append(b, "<!--"...)
				b = append(b, c.Data...)
				b = append(b, "-->"...)
			}
		}
	}
	return w.end(b, el, mark)
}

// end writes an end tag, and what was declared since the start tag is forgotten.
func (w *excWriter) end(b []byte, el *etree.Element, mark int) []byte {
	b = append(b, "</"...)
	b = qname(b, el.Space, el.Tag)
	b = append(b, '>')
	w.rendered = w.rendered[:mark]
	return b
}

// start writes a start tag.
func (w *excWriter) start(b []byte, el *etree.Element) []byte {
	mark := len(w.rendered)
	if w.every {
		for i := range el.Attr {
			if p, ok := declares(el.Attr[i]); ok {
				w.declare(el, p)
			}
		}
	}
	w.declare(el, el.Space)
	for i := range el.Attr {
		if p := el.Attr[i].Space; p != "" && p != "xmlns" {
			w.declare(el, p)
		}
	}
	for _, p := range w.inclusive {
		if p == "#default" {
			p = ""
		}
		if p == "" || lookupNS(el, p) != "" {
			w.declare(el, p)
		}
	}
	decls := w.rendered[mark:]
	if len(decls) > 1 {
		slices.SortFunc(decls, func(a, b binding) int { return strings.Compare(a.prefix, b.prefix) })
	}

	b = append(b, '<')
	b = qname(b, el.Space, el.Tag)
	for _, d := range decls {
		b = append(b, " xmlns"...)
		if d.prefix != "" {
			b = append(b, ':')
			b = append(b, d.prefix...)
		}
		b = append(b, `="`...)
		b = escapeAttr(b, d.uri)
		b = append(b, '"')
	}
	b = attributes(b, el)
	return append(b, '>')
}

type sortedAttr struct {
	ns   string
	attr *etree.Attr
}

func attributes(b []byte, el *etree.Element) []byte {
	if inOrder(el) {
		for i := range el.Attr {
			if a := &el.Attr[i]; !declaration(a) {
				b = attribute(b, a)
			}
		}
		return b
	}
	var room [8]sortedAttr
	attrs := room[:0]
	for i := range el.Attr {
		a := &el.Attr[i]
		if declaration(a) {
			continue
		}
		ns := ""
		if a.Space != "" {
			ns = lookupNS(el, a.Space)
		}
		attrs = append(attrs, sortedAttr{ns, a})
	}
	slices.SortFunc(attrs, func(a, b sortedAttr) int {
		if c := strings.Compare(a.ns, b.ns); c != 0 {
			return c
		}
		return strings.Compare(a.attr.Key, b.attr.Key)
	})
	for _, s := range attrs {
		b = attribute(b, s.attr)
	}
	return b
}

// inOrder reports whether the attributes of an element stand in canonical order as they are.
func inOrder(el *etree.Element) bool {
	last := ""
	for i := range el.Attr {
		a := &el.Attr[i]
		if declaration(a) {
			continue
		}
		if a.Space != "" || a.Key < last {
			return false
		}
		last = a.Key
	}
	return true
}

func attribute(b []byte, a *etree.Attr) []byte {
	b = append(b, ' ')
	b = qname(b, a.Space, a.Key)
	b = append(b, `="`...)
	b = escapeAttr(b, a.Value)
	return append(b, '"')
}

func qname(b []byte, prefix, local string) []byte {
	if prefix != "" {
		b = append(b, prefix...)
		b = append(b, ':')
	}
	return append(b, local...)
}

// without reports whether none of some characters stands in text, as it is with most text.
func without(s, special string) bool {
	for i := range len(special) {
		if strings.IndexByte(s, special[i]) >= 0 {
			return false
		}
	}
	return true
}

// escapeText writes character data (Canonical XML 1.0, section 2.3).
func escapeText(b []byte, s string) []byte {
	return escape(b, s, "&<>\r", func(c byte) string {
		switch c {
		case '&':
			return "&amp;"
		case '<':
			return "&lt;"
		case '>':
			return "&gt;"
		}
		return "&#xD;"
	})
}

// escapeAttr writes an attribute value.
func escapeAttr(b []byte, s string) []byte {
	return escape(b, s, "&<\"\t\n\r", func(c byte) string {
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
		}
		return "&#xD;"
	})
}

// escape writes text with other words for the special characters.
func escape(b []byte, s, special string, with func(byte) string) []byte {
	if without(s, special) {
		return append(b, s...)
	}
	from := 0
	for i := range len(s) {
		if strings.IndexByte(special, s[i]) >= 0 {
			b = append(append(b, s[from:i]...), with(s[i])...)
			from = i + 1
		}
	}
	return append(b, s[from:]...)
}

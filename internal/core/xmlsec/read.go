// Package xmlsec reads XML strictly and signs, verifies, encrypts and decrypts it
// (XML Signature 1.1, Exclusive XML Canonicalization 1.0, XML Encryption 1.1).
//
// The reader is deliberately narrower than XML: no document type, no entity beyond the predefined five, no processing
// instruction inside the document element, bounded size and depth, unique IDs, every prefix bound. What it accepts has
// one reading only, so that what was signed and what is read cannot differ.
package xmlsec

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/beevik/etree"
)

// Limits bounds what the reader takes.
type Limits struct {
	Bytes int // size of the document
	Depth int // nesting of elements
}

// MessageLimits bounds a protocol message.
func MessageLimits() Limits { return Limits{Bytes: 1 << 20, Depth: 64} }

// MetadataLimits bounds a metadata document or aggregate.
func MetadataLimits() Limits { return Limits{Bytes: 128 << 20, Depth: 64} }

// Errors that callers test for. A *ReadError wraps one of them.
var (
	ErrEmpty       = errors.New("empty document")
	ErrTooLarge    = errors.New("document too large")
	ErrTooDeep     = errors.New("elements nested too deeply")
	ErrDTD         = errors.New("document type declaration")
	ErrEntity      = errors.New("undefined entity")
	ErrHTML        = errors.New("HTML instead of XML")
	ErrMalformed   = errors.New("malformed XML")
	ErrDuplicateID = errors.New("duplicate ID")
	ErrTruncated   = errors.New("truncated XML")
)

// ReadError says what is wrong with a document and where. Line and Column count from 1, columns in bytes.
type ReadError struct {
	Err          error
	Detail       string
	Line, Column int
}

func (e *ReadError) Error() string {
	s := e.Err.Error()
	if e.Line > 0 {
		s += fmt.Sprintf(" at line %d, column %d", e.Line, e.Column)
	}
	if e.Detail != "" {
		s += ": " + e.Detail
	}
	return s
}

func (e *ReadError) Unwrap() error { return e.Err }

const xmlNS = "http://www.w3.org/XML/1998/namespace"

// binding is one namespace declaration in scope.
type binding struct{ prefix, uri string }

type reader struct {
	b     []byte
	i     int
	lim   Limits
	scope []binding
	ids   map[string]bool
	names map[string]string // those that were read, so that each is made once
	slab  []etree.Element   // elements that are made together
}

// same returns a name as text, made once for each.
func (r *reader) same(name []byte) string {
	if s, ok := r.names[string(name)]; ok { // the conversion copies nothing
		return s
	}
	s := string(name)
	if len(r.names) < 512 {
		r.names[s] = s
	}
	return s
}

// element makes an element.
func (r *reader) element(space, tag string) *etree.Element {
	if len(r.slab) == 0 {
		r.slab = make([]etree.Element, 32)
	}
	el := &r.slab[0]
	r.slab = r.slab[1:]
	el.Space, el.Tag = space, tag
	return el
}

// Parse reads a whole document. Every failure is a *ReadError.
func Parse(b []byte, lim Limits) (*etree.Document, error) {
	return parse(b, lim, nil)
}

// ParseFragment reads one element in the scope of namespace declarations outside it (XML Encryption 1.1, section 4.4).
// The element returned stands inside a holder element that carries the declarations.
func ParseFragment(b []byte, lim Limits, scope map[string]string) (*etree.Element, error) {
	var bs []binding
	for p, u := range scope {
		bs = append(bs, binding{p, u})
	}
	doc, err := parse(b, lim, bs)
	if err != nil {
		return nil, err
	}
	el := doc.Root()
	holder := etree.NewElement("holder")
	for p, u := range scope {
		if p == "" {
			holder.CreateAttr("xmlns", u)
		} else {
			holder.CreateAttr("xmlns:"+p, u)
		}
	}
	doc.RemoveChild(el)
	holder.AddChild(el)
	return el, nil
}

func parse(b []byte, lim Limits, outer []binding) (*etree.Document, error) {
	if len(b) > lim.Bytes {
		return nil, &ReadError{Err: ErrTooLarge, Detail: fmt.Sprintf("%d bytes, at most %d are read", len(b), lim.Bytes)}
	}
	b, err := toUTF8(b)
	if err != nil {
		return nil, err
	}
	if len(bytes.TrimSpace(b)) == 0 {
		return nil, &ReadError{Err: ErrEmpty}
	}
	if bytes.IndexByte(b, '\r') >= 0 {
		b = bytes.ReplaceAll(b, []byte("\r\n"), []byte("\n"))
		b = bytes.ReplaceAll(b, []byte("\r"), []byte("\n"))
	}
	r := &reader{b: b, lim: lim, ids: map[string]bool{}, names: make(map[string]string, 64), scope: append([]binding{{"xml", xmlNS}}, outer...)}
	if !utf8.Valid(b) {
		for r.i < len(b) {
			c, n := utf8.DecodeRune(b[r.i:])
			if c == utf8.RuneError && n == 1 {
				break
			}
			r.i += n
		}
		return nil, r.fail(ErrMalformed, "not valid UTF-8")
	}
	doc := etree.NewDocument()
	if err := r.document(doc); err != nil {
		return nil, err
	}
	return doc, nil
}

// toUTF8 turns UTF-16 with a byte order mark and ISO-8859-1 as declared into UTF-8.
func toUTF8(b []byte) ([]byte, error) {
	switch {
	case bytes.HasPrefix(b, []byte{0xEF, 0xBB, 0xBF}):
		return b[3:], nil
	case bytes.HasPrefix(b, []byte{0xFE, 0xFF}), bytes.HasPrefix(b, []byte{0xFF, 0xFE}):
		if len(b)%2 != 0 {
			return nil, &ReadError{Err: ErrTruncated, Detail: "UTF-16 with an odd number of bytes"}
		}
		u := make([]uint16, 0, len(b)/2-1)
		hi, lo := 0, 1
		if b[0] == 0xFF {
			hi, lo = 1, 0
		}
		for i := 2; i+1 < len(b); i += 2 {
			u = append(u, uint16(b[i+hi])<<8|uint16(b[i+lo]))
		}
		return []byte(string(utf16.Decode(u))), nil
	}
	if bytes.HasPrefix(b, []byte("<?xml")) {
		if end := bytes.Index(b, []byte("?>")); end > 0 {
			decl := strings.ToLower(string(b[:end]))
			if strings.Contains(decl, "iso-8859-1") {
				out := make([]rune, len(b))
				for i, c := range b {
					out[i] = rune(c)
				}
				return []byte(string(out)), nil
			}
		}
	}
	return b, nil
}

func (r *reader) fail(err error, format string, args ...any) error {
	upto := r.b[:min(r.i, len(r.b))]
	line := bytes.Count(upto, []byte("\n")) + 1
	col := len(upto) - (bytes.LastIndexByte(upto, '\n') + 1) + 1
	return &ReadError{Err: err, Detail: fmt.Sprintf(format, args...), Line: line, Column: col}
}

func (r *reader) has(s string) bool {
	return len(r.b)-r.i >= len(s) && string(r.b[r.i:r.i+len(s)]) == s
}

func (r *reader) space() {
	for r.i < len(r.b) && isSpace(r.b[r.i]) {
		r.i++
	}
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

func (r *reader) document(doc *etree.Document) error {
	seenRoot := false
	if r.has("<?xml") && len(r.b) > r.i+5 && isSpace(r.b[r.i+5]) {
		end := bytes.Index(r.b[r.i:], []byte("?>"))
		if end < 0 {
			return r.fail(ErrTruncated, "the XML declaration is not closed")
		}
		r.i += end + 2
	}
	for {
		r.space()
		if r.i >= len(r.b) {
			if !seenRoot {
				return r.fail(ErrTruncated, "no element")
			}
			return nil
		}
		switch {
		case r.has("<!--"):
			if _, err := r.comment(); err != nil {
				return err
			}
		case r.has("<?"):
			end := bytes.Index(r.b[r.i:], []byte("?>"))
			if end < 0 {
				return r.fail(ErrTruncated, "a processing instruction is not closed")
			}
			r.i += end + 2
		case r.has("<!"):
			if len(r.b) >= r.i+14 && strings.EqualFold(string(r.b[r.i:r.i+14]), "<!doctype html") {
				return r.fail(ErrHTML, "this is a web page, not a SAML document")
			}
			return r.fail(ErrDTD, "a document type is never read; take it out")
		case r.has("<"):
			if seenRoot {
				return r.fail(ErrMalformed, "a second document element")
			}
			if len(r.b) >= r.i+5 && strings.EqualFold(string(r.b[r.i:r.i+5]), "<html") {
				return r.fail(ErrHTML, "this is a web page, not a SAML document")
			}
			if err := r.elements(doc); err != nil {
				return err
			}
			seenRoot = true
		default:
			if seenRoot {
				return r.fail(ErrMalformed, "text after the document element")
			}
			return r.fail(ErrMalformed, "text before the document element; XML starts with <")
		}
	}
}

func (r *reader) comment() (string, error) {
	rest := r.b[r.i+4:]
	end := bytes.Index(rest, []byte("--"))
	if end < 0 {
		return "", r.fail(ErrTruncated, "a comment is not closed")
	}
	if end+2 >= len(rest) || rest[end+2] != '>' {
		return "", r.fail(ErrMalformed, "-- inside a comment")
	}
	r.i += 4 + end + 3
	return string(rest[:end]), nil
}

// open is an element whose end tag has not come yet.
type open struct {
	el    *etree.Element
	name  string
	scope int
}

func (r *reader) elements(doc *etree.Document) error {
	var stack []open
	parent := &doc.Element
	for {
		if r.i >= len(r.b) {
			return r.fail(ErrTruncated, "the document ends inside <%s>", stack[len(stack)-1].name)
		}
		if r.b[r.i] != '<' {
			text, err := r.text()
			if err != nil {
				return err
			}
			parent.AddChild(etree.NewText(text))
			continue
		}
		switch {
		case r.has("</"):
			if len(stack) == 0 {
				return r.fail(ErrMalformed, "an end tag where the document element belongs")
			}
			r.i += 2
			name := r.name()
			r.space()
			top := stack[len(stack)-1]
			if name != top.name {
				return r.fail(ErrMalformed, "</%s> where </%s> belongs", name, top.name)
			}
			if !r.has(">") {
				return r.fail(ErrTruncated, "end tag of <%s> is not closed", name)
			}
			r.i++
			r.scope = r.scope[:top.scope]
			stack = stack[:len(stack)-1]
			if len(stack) == 0 {
				return nil
			}
			parent = stack[len(stack)-1].el
		case r.has("<!--"):
			c, err := r.comment()
			if err != nil {
				return err
			}
			parent.AddChild(etree.NewComment(c))
		case r.has("<![CDATA["):
			end := bytes.Index(r.b[r.i:], []byte("]]>"))
			if end < 0 {
				return r.fail(ErrTruncated, "a CDATA section is not closed")
			}
			data := r.b[r.i+9 : r.i+end]
			if err := r.chars(data); err != nil {
				return err
			}
			parent.AddChild(etree.NewText(string(data)))
			r.i += end + 3
		case r.has("<!"):
			return r.fail(ErrDTD, "a markup declaration inside an element")
		case r.has("<?"):
			return r.fail(ErrMalformed, "a processing instruction inside the document element is never read; take it out")
		default:
			if len(stack) >= r.lim.Depth {
				return r.fail(ErrTooDeep, "more than %d levels", r.lim.Depth)
			}
			mark := len(r.scope)
			el, name, closed, err := r.start()
			if err != nil {
				return err
			}
			parent.AddChild(el)
			if closed {
				r.scope = r.scope[:mark]
				if len(stack) == 0 {
					return nil
				}
				continue
			}
			stack = append(stack, open{el, name, mark})
			parent = el
		}
	}
}

// name reads a qualified name; it is empty where none stands.
func (r *reader) name() string {
	s := r.i
	for r.i < len(r.b) {
		c := r.b[r.i]
		switch {
		case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_' || c == ':':
		case c >= '0' && c <= '9' || c == '-' || c == '.':
			if r.i == s {
				return ""
			}
		case c >= 0x80:
			ru, n := utf8.DecodeRune(r.b[r.i:])
			if !unicode.IsLetter(ru) && (r.i == s || !unicode.IsDigit(ru) && !unicode.IsMark(ru)) {
				return r.same(r.b[s:r.i])
			}
			r.i += n - 1
		default:
			return r.same(r.b[s:r.i])
		}
		r.i++
	}
	return r.same(r.b[s:r.i])
}

func splitName(q string) (prefix, local string, ok bool) {
	prefix, local, has := strings.Cut(q, ":")
	if !has {
		return "", q, q != ""
	}
	ok = prefix != "" && local != "" && !strings.Contains(local, ":") && local[0] != '-' && local[0] != '.' &&
		(local[0] < '0' || local[0] > '9')
	return prefix, local, ok
}

func (r *reader) start() (el *etree.Element, name string, closed bool, err error) {
	at := r.i
	r.i++
	name = r.name()
	prefix, local, ok := splitName(name)
	if !ok || prefix == "xmlns" {
		return nil, "", false, r.fail(ErrMalformed, "%q is no element name", name)
	}
	el = r.element(prefix, local)
	for {
		before := r.i
		r.space()
		if r.i >= len(r.b) {
			return nil, "", false, r.fail(ErrTruncated, "the document ends inside the tag <%s>", name)
		}
		if r.has("/>") {
			r.i += 2
			closed = true
			break
		}
		if r.b[r.i] == '>' {
			r.i++
			break
		}
		if before == r.i {
			return nil, "", false, r.fail(ErrMalformed, "%q inside the tag <%s>", r.b[r.i], name)
		}
		if err := r.attribute(el, name); err != nil {
			return nil, "", false, err
		}
	}
	end := r.i
	r.i = at // point at the tag for what follows
	if _, ok := r.lookup(prefix); !ok && prefix != "" {
		return nil, "", false, r.fail(ErrMalformed, "prefix %q of <%s> is not declared", prefix, name)
	}
	if err := r.checkAttrs(el, name); err != nil {
		return nil, "", false, err
	}
	r.i = end
	return el, name, closed, nil
}

func (r *reader) attribute(el *etree.Element, tag string) error {
	name := r.name()
	prefix, local, ok := splitName(name)
	if !ok {
		return r.fail(ErrMalformed, "no attribute name where one belongs in <%s>", tag)
	}
	r.space()
	if !r.has("=") {
		return r.fail(ErrMalformed, "attribute %s of <%s> has no value", name, tag)
	}
	r.i++
	r.space()
	if r.i >= len(r.b) || r.b[r.i] != '"' && r.b[r.i] != '\'' {
		return r.fail(ErrMalformed, "value of attribute %s is not quoted", name)
	}
	quote := r.b[r.i]
	r.i++
	end := bytes.IndexByte(r.b[r.i:], quote)
	if end < 0 {
		return r.fail(ErrTruncated, "value of attribute %s is not closed", name)
	}
	raw := r.b[r.i : r.i+end]
	value, err := r.value(raw)
	if err != nil {
		return err
	}
	r.i += end + 1
	switch {
	case prefix == "" && local == "xmlns":
		if value == xmlNS || value == "http://www.w3.org/2000/xmlns/" {
			return r.fail(ErrMalformed, "a reserved namespace is declared")
		}
		r.scope = append(r.scope, binding{"", value})
	case prefix == "xmlns":
		if local == "xmlns" || value == "" || local == "xml" && value != xmlNS || local != "xml" && value == xmlNS ||
			value == "http://www.w3.org/2000/xmlns/" {
			return r.fail(ErrMalformed, "the declaration of prefix %q is not allowed", local)
		}
		r.scope = append(r.scope, binding{local, value})
	}
	if len(el.Attr) >= 512 {
		return r.fail(ErrTooLarge, "more than 512 attributes on <%s>", tag)
	}
	if el.Attr == nil { // how many there are can be seen: none is longer than the tag
		n := 1
		if tail := bytes.IndexByte(r.b[r.i:], '>'); tail > 0 {
			n += bytes.Count(r.b[r.i:r.i+tail], []byte("=\""))
		}
		el.Attr = make([]etree.Attr, 0, min(n, 16))
	}
	el.Attr = append(el.Attr, etree.Attr{Space: prefix, Key: local, Value: value})
	return nil
}

func (r *reader) lookup(prefix string) (string, bool) {
	for i := len(r.scope) - 1; i >= 0; i-- {
		if r.scope[i].prefix == prefix {
			return r.scope[i].uri, true
		}
	}
	return "", false
}

// checkAttrs refuses unbound prefixes, attributes that are there twice, and IDs that are there twice in the document.
func (r *reader) checkAttrs(el *etree.Element, tag string) error {
	for i, a := range el.Attr {
		uri := ""
		if a.Space != "" && a.Space != "xmlns" {
			u, ok := r.lookup(a.Space)
			if !ok {
				return r.fail(ErrMalformed, "prefix %q of attribute %s is not declared", a.Space, a.Key)
			}
			uri = u
		}
		for _, b := range el.Attr[:i] {
			if a.Key != b.Key {
				continue
			}
			same := a.Space == b.Space
			if !same && uri != "" && b.Space != "" && b.Space != "xmlns" {
				u, _ := r.lookup(b.Space)
				same = u == uri
			}
			if same {
				return r.fail(ErrMalformed, "attribute %s is on <%s> twice", a.Key, tag)
			}
		}
		if isID(a) {
			if r.ids[a.Value] {
				return r.fail(ErrDuplicateID, "%q is the ID of two elements", a.Value)
			}
			r.ids[a.Value] = true
		}
	}
	return nil
}

func isID(a etree.Attr) bool {
	return a.Space == "" && (a.Key == "ID" || a.Key == "Id") || a.Space == "xml" && a.Key == "id"
}

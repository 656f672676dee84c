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
	ErrEmpty       = errors.New("an empty document: nothing is in it; read it again from where it came")
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

// reader reads one document. What it hands out are parts of b, so that names and values are copied only where they do
// not stand in the document as they are.
type reader struct {
	b     string
	i     int
	lim   Limits
	odd   bool // a character that may not be allowed stands somewhere: each value is looked at
	scope []binding
	ids   map[string]bool
	fresh []string // IDs that a Stream reads and may have to take back; nil where the whole document is at hand

	more   bool // b is a window, and the document goes on behind it
	lines  int  // line breaks in front of b
	column int  // bytes of b's first line in front of b

	attrs   []etree.Attr  // those of many elements; the last ones are of the start tag that is being read
	first   int           // where these begin
	pending []etree.Token // children of the open elements

	elementRoom room[etree.Element]
	textRoom    room[etree.CharData]
	childRoom   room[etree.Token]
}

// room is where parts of the tree are made many at a time.
type room[T any] struct {
	all  []T
	used int
}

// take returns the next n, without anything behind them.
func (r *room[T]) take(n, atOnce int) []T {
	if len(r.all)-r.used < n {
		r.all, r.used = make([]T, max(n, atOnce)), 0
	}
	r.used += n
	return r.all[r.used-n : r.used : r.used]
}

// apart lets what is read next share no room with what was read before, so that either can be forgotten alone.
func (r *reader) apart() {
	r.elementRoom, r.textRoom, r.childRoom = room[etree.Element]{}, room[etree.CharData]{}, room[etree.Token]{}
	r.attrs, r.first = nil, 0
}

// make makes an element with the attributes that were read last.
func (r *reader) make(space, tag string) *etree.Element {
	el := &r.elementRoom.take(1, 16)[0]
	el.Space, el.Tag = space, tag
	if n := len(r.attrs); n > r.first {
		el.Attr = r.attrs[r.first:n:n]
		r.first = n
	}
	return el
}

// keep puts an attribute among those of the start tag that is being read.
func (r *reader) keep(a etree.Attr) {
	if len(r.attrs) == cap(r.attrs) {
		r.attrs = append(make([]etree.Attr, 0, max(24, 2*(len(r.attrs)-r.first))), r.attrs[r.first:]...)
		r.first = 0
	}
	r.attrs = append(r.attrs, a)
}

// add puts text among the children of the innermost open element.
func (r *reader) add(text string) {
	c := &r.textRoom.take(1, 16)[0]
	c.Data = text
	r.pending = append(r.pending, c)
}

// close gives an element the children that were read since from.
func (r *reader) close(el *etree.Element, from int) {
	el.Child = r.childRoom.take(len(r.pending)-from, 32)[:0]
	for _, t := range r.pending[from:] {
		el.AddChild(t)
	}
	r.pending = r.pending[:from]
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
		return nil, &ReadError{Err: ErrTooLarge,
			Detail: fmt.Sprintf("%d bytes, at most %d are read", len(b), lim.Bytes)}
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
	r := &reader{b: string(b), lim: lim, odd: odd(b), scope: make([]binding, 0, 8+len(outer)),
		pending: make([]etree.Token, 0, 24)}
	r.scope = append(append(r.scope, binding{"xml", xmlNS}), outer...)
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
	line := r.lines + strings.Count(upto, "\n") + 1
	last := strings.LastIndexByte(upto, '\n')
	col := len(upto) - last
	if last < 0 {
		col += r.column
	}
	return &ReadError{Err: err, Detail: fmt.Sprintf(format, args...), Line: line, Column: col}
}

func (r *reader) has(s string) bool {
	return strings.HasPrefix(r.b[r.i:], s)
}

func (r *reader) space() {
	for r.i < len(r.b) && isSpace(r.b[r.i]) {
		r.i++
	}
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

func (r *reader) document(doc *etree.Document) error {
	if err := r.declaration(); err != nil {
		return err
	}
	for seenRoot := false; ; seenRoot = true {
		at, err := r.outside(seenRoot)
		if err != nil || !at {
			return err
		}
		el, err := r.element(0)
		if err != nil {
			return err
		}
		doc.AddChild(el)
	}
}

// declaration reads over the XML declaration, if there is one.
func (r *reader) declaration() error {
	if r.has("<?xml") && len(r.b) > r.i+5 && isSpace(r.b[r.i+5]) {
		end := strings.Index(r.b[r.i:], "?>")
		if end < 0 {
			return r.fail(ErrTruncated, "the XML declaration is not closed")
		}
		r.i += end + 2
	}
	return nil
}

// outside reads over what may stand outside of the document element, and reports whether that begins here; where it
// does not, the document is at its end.
func (r *reader) outside(seenRoot bool) (begins bool, err error) {
	for {
		r.space()
		if r.i >= len(r.b) {
			if !seenRoot {
				return false, r.fail(ErrTruncated, "no element")
			}
			return false, nil
		}
		switch {
		case r.has("<!--"):
			if _, err := r.comment(); err != nil {
				return false, err
			}
		case r.has("<?"):
			end := strings.Index(r.b[r.i:], "?>")
			if end < 0 {
				return false, r.fail(ErrTruncated, "a processing instruction is not closed")
			}
			r.i += end + 2
		case r.has("<!"):
			if len(r.b) >= r.i+14 && strings.EqualFold(r.b[r.i:r.i+14], "<!doctype html") {
				return false, r.fail(ErrHTML, "this is a web page, not a SAML document")
			}
			return false, r.fail(ErrDTD, "a document type is never read; take it out")
		case r.has("<"):
			if seenRoot {
				return false, r.fail(ErrMalformed, "a second document element")
			}
			if len(r.b) >= r.i+5 && strings.EqualFold(r.b[r.i:r.i+5], "<html") {
				return false, r.fail(ErrHTML, "this is a web page, not a SAML document")
			}
			return true, nil
		default:
			if seenRoot {
				return false, r.fail(ErrMalformed, "text after the document element")
			}
			return false, r.fail(ErrMalformed, "text before the document element; XML starts with <")
		}
	}
}

func (r *reader) comment() (string, error) {
	rest := r.b[r.i+4:]
	end := strings.Index(rest, "--")
	if end < 0 {
		return "", r.fail(ErrTruncated, "a comment is not closed")
	}
	if end+2 >= len(rest) || rest[end+2] != '>' {
		return "", r.fail(ErrMalformed, "-- inside a comment")
	}
	r.i += 4 + end + 3
	return rest[:end], nil
}

// open is an element whose end tag has not come yet.
type open struct {
	el    *etree.Element
	name  string
	scope int // declarations that were in scope before it
	from  int // where its children begin among the pending ones
}

// element reads a whole element that stands below others, depth of them.
func (r *reader) element(depth int) (*etree.Element, error) {
	var levels [16]open
	stack := levels[:0]
	for {
		if r.i >= len(r.b) {
			return nil, r.fail(ErrTruncated, "the document ends inside <%s>", stack[len(stack)-1].name)
		}
		if r.b[r.i] != '<' {
			text, err := r.text()
			if err != nil {
				return nil, err
			}
			r.add(text)
			continue
		}
		next := byte(0)
		if r.i+1 < len(r.b) {
			next = r.b[r.i+1]
		}
		switch {
		case next == '/':
			if len(stack) == 0 {
				return nil, r.fail(ErrMalformed, "an end tag where the document element belongs")
			}
			top := stack[len(stack)-1]
			if err := r.end(top.name); err != nil {
				return nil, err
			}
			r.close(top.el, top.from)
			r.scope = r.scope[:top.scope]
			if stack = stack[:len(stack)-1]; len(stack) == 0 {
				return top.el, nil
			}
			r.pending = append(r.pending, top.el)
		case next == '!':
			if err := r.markup(); err != nil {
				return nil, err
			}
		case next == '?':
			return nil, r.fail(ErrMalformed,
				"a processing instruction inside the document element is never read; take it "+
					"out")
		default:
			if depth+len(stack) >= r.lim.Depth {
				return nil, r.fail(ErrTooDeep, "more than %d levels", r.lim.Depth)
			}
			mark := len(r.scope)
			el, name, closed, err := r.start()
			if err != nil {
				return nil, err
			}
			switch {
			case !closed:
				stack = append(stack, open{el, name, mark, len(r.pending)})
				continue
			case len(stack) == 0:
				return el, nil
			}
			r.scope = r.scope[:mark]
			r.pending = append(r.pending, el)
		}
	}
}

// end reads the end tag of an element.
func (r *reader) end(of string) error {
	r.i += 2
	if rest := r.b[r.i:]; len(rest) > len(of) && rest[len(of)] == '>' && rest[:len(of)] == of {
		r.i += len(of) + 1
		return nil
	}
	name, _ := r.name()
	r.space()
	if name != of {
		return r.fail(ErrMalformed, "</%s> where </%s> belongs", name, of)
	}
	if !r.has(">") {
		return r.fail(ErrTruncated, "end tag of <%s> is not closed", name)
	}
	r.i++
	return nil
}

// markup reads a comment or a CDATA section; nothing else that begins with <! stands inside an element.
func (r *reader) markup() error {
	switch {
	case r.has("<!--"):
		c, err := r.comment()
		if err != nil {
			return err
		}
		r.pending = append(r.pending, etree.NewComment(c))
	case r.has("<![CDATA["):
		end := strings.Index(r.b[r.i:], "]]>")
		if end < 0 {
			return r.fail(ErrTruncated, "a CDATA section is not closed")
		}
		data := r.b[r.i+9 : r.i+end]
		if err := r.chars(data); err != nil {
			return err
		}
		r.add(data)
		r.i += end + 3
	default:
		return r.fail(ErrDTD, "a markup declaration inside an element")
	}
	return nil
}

// nameBytes has a bit for each ASCII character of which a name is made, in two halves.
const (
	nameLow  = 1<<'-' | 1<<'.' | 0x3ff<<'0' | 1<<':'
	nameHigh = 0x3ffffff<<('A'-64) | 0x3ffffff<<('a'-64) | 1<<('_'-64)
)

// name reads a qualified name, and says where its colon stands: -1 where there is none, 0 where there are several. It
// is empty where none stands.
func (r *reader) name() (name string, colon int) {
	s, colon := r.i, -1
	for r.i < len(r.b) {
		c := r.b[r.i]
		switch {
		case c < 64 && uint64(nameLow)>>c&1 == 1:
			if c == ':' {
				if colon >= 0 {
					colon = 0
				} else {
					colon = r.i - s
				}
			} else if r.i == s {
				return "", -1
			}
		case c >= 64 && c < 128 && uint64(nameHigh)>>(c-64)&1 == 1:
		case c >= 128:
			ru, n := utf8.DecodeRuneInString(r.b[r.i:])
			if !unicode.IsLetter(ru) && (r.i == s || !unicode.IsDigit(ru) && !unicode.IsMark(ru)) {
				return r.b[s:r.i], colon
			}
			r.i += n - 1
		default:
			return r.b[s:r.i], colon
		}
		r.i++
	}
	return r.b[s:r.i], colon
}

// qualified reads a qualified name and takes it apart.
func (r *reader) qualified() (name, prefix, local string, ok bool) {
	name, colon := r.name()
	if colon < 0 {
		return name, "", name, name != ""
	}
	prefix, local = name[:colon], name[colon+1:]
	ok = prefix != "" && local != "" && local[0] != '-' && local[0] != '.' &&
		(local[0] < '0' || local[0] > '9')
	return name, prefix, local, ok
}

func (r *reader) start() (el *etree.Element, name string, closed bool, err error) {
	at := r.i
	r.i++
	name, prefix, local, ok := r.qualified()
	if !ok || prefix == "xmlns" {
		return nil, "", false, r.fail(ErrMalformed, "%q is no element name", name)
	}
	for {
		before := r.i
		r.space()
		if r.i >= len(r.b) {
			return nil, "", false, r.fail(ErrTruncated, "the document ends inside the tag <%s>", name)
		}
		if r.b[r.i] == '>' {
			r.i++
			break
		}
		if r.has("/>") {
			r.i += 2
			closed = true
			break
		}
		if before == r.i {
			return nil, "", false, r.fail(ErrMalformed, "%q inside the tag <%s>", r.b[r.i], name)
		}
		if err := r.attribute(name); err != nil {
			return nil, "", false, err
		}
	}
	end := r.i
	r.i = at // point at the tag for what follows
	if _, ok := r.lookup(prefix); !ok && prefix != "" {
		return nil, "", false, r.fail(ErrMalformed, "prefix %q of <%s> is not declared", prefix, name)
	}
	if err := r.checkAttrs(name); err != nil {
		return nil, "", false, err
	}
	r.i = end
	return r.make(prefix, local), name, closed, nil
}

func (r *reader) attribute(tag string) error {
	name, prefix, local, ok := r.qualified()
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
	end := strings.IndexByte(r.b[r.i:], quote)
	if end < 0 {
		return r.fail(ErrTruncated, "value of attribute %s is not closed", name)
	}
	value, err := r.value(r.b[r.i : r.i+end])
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
	if len(r.attrs)-r.first >= 512 {
		return r.fail(ErrTooLarge, "more than 512 attributes on <%s>", tag)
	}
	r.keep(etree.Attr{Space: prefix, Key: local, Value: value})
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
func (r *reader) checkAttrs(tag string) error {
	attrs := r.attrs[r.first:]
	for i := range attrs {
		a := &attrs[i]
		uri := ""
		if a.Space != "" && a.Space != "xmlns" {
			u, ok := r.lookup(a.Space)
			if !ok {
				return r.fail(ErrMalformed, "prefix %q of attribute %s is not declared", a.Space, a.Key)
			}
			uri = u
		}
		for j := range attrs[:i] {
			b := &attrs[j]
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
			if r.ids == nil {
				r.ids = map[string]bool{}
			}
			id := a.Value
			if r.fresh != nil {
				id = strings.Clone(id) // the window that it is a part of does not stay
				r.fresh = append(r.fresh, id)
			}
			r.ids[id] = true
		}
	}
	return nil
}

func isID(a *etree.Attr) bool {
	return a.Space == "" && (a.Key == "ID" || a.Key == "Id") || a.Space == "xml" && a.Key == "id"
}

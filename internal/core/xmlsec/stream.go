package xmlsec

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"github.com/beevik/etree"
)

// StreamLimits bounds what a Stream takes.
type StreamLimits struct {
	Bytes int64 // size of the document; 0 for no bound
	Part  int   // size of a part: one child of a group, or a document element that is none
	Depth int   // nesting of elements
}

// AggregateLimits bounds an aggregate that is read one entity at a time: no bound on its size.
func AggregateLimits() StreamLimits { return StreamLimits{Part: 16 << 20, Depth: 64} }

// PartKind says what a part is.
type PartKind int

// The kinds of parts.
const (
	GroupStart PartKind = iota // the start tag of a group
	GroupEnd                   // its end tag
	Whole                      // an element with all that is in it
	Chars                      // text between elements
	Remark                     // a comment
)

// Part is a piece of a document, in the order in which they stand.
type Part struct {
	Kind PartKind
	// Element is that of a GroupStart or GroupEnd, without children, or of a Whole. It stands inside copies of the
	// groups around it, which have no other children.
	Element *etree.Element
	Text    string // of Chars, its references resolved; of a Remark, what stands in it
	Raw     string // the part as it stands in the document, line ends as XML has them
	Depth   int    // groups that are open around it
	Offset  int64  // bytes of the document, as Raw has them, in front of it
	Line    int    // counts from 1
}

// Stream reads a document from front to back through a window, as strictly as Parse does: what one refuses the other
// refuses, and the parts of the one are the tree of the other. Elements of one name, the groups, are handed out as a
// start, what is in them, and an end; each other element in one piece. So memory stays as small as the largest piece.
type Stream struct {
	src       *lineEnds
	lim       StreamLimits
	ns, local string // the groups
	rd        reader
	buf       []byte
	window    int   // how much is read at a time
	base      int64 // bytes in front of the window
	line      int   // line breaks in front of the next part
	groups    []group
	begun     bool
	done      bool
	err       error
}

// group is a group whose end has not come yet.
type group struct {
	el     *etree.Element
	name   string
	scope  int  // declarations that were in scope before it
	closed bool // its start tag was its end tag too
}

// NewStream reads from r; the groups are the elements with a namespace and a local name.
func NewStream(r io.Reader, ns, local string, lim StreamLimits) *Stream {
	s := &Stream{src: &lineEnds{r: r}, lim: lim, ns: ns, local: local, window: 1 << 20}
	s.rd = reader{lim: Limits{Depth: lim.Depth}, ids: map[string]bool{}, fresh: []string{}, more: true,
		scope: []binding{{"xml", xmlNS}}}
	return s
}

// AsItStands reports whether the offsets of the parts are those of the bytes that were read: there was no byte order
// mark and no other encoding, and no line end that XML reads as another.
func (s *Stream) AsItStands() bool { return !s.src.changed }

// Next returns the next part; io.EOF once the document has ended as it must. Every other failure is a *ReadError or
// that of the reader beneath, and final.
func (s *Stream) Next() (Part, error) {
	if s.err != nil {
		return Part{}, s.err
	}
	p, err := s.next()
	if err != nil {
		s.err = err
	}
	return p, err
}

func (s *Stream) next() (Part, error) {
	if !s.begun {
		if err := s.begin(); err != nil {
			return Part{}, err
		}
		s.begun = true
	}
	if s.done {
		_, err := s.attempt(func() (Part, error) {
			_, err := s.rd.outside(true)
			return Part{}, err
		}, true)
		if err == nil {
			err = io.EOF
		}
		return Part{}, err
	}
	return s.attempt(s.part, false)
}

// begin reads up to the document element.
func (s *Stream) begin() error {
	if err := s.src.begin(); err != nil {
		return err
	}
	if err := s.grow(); err != nil {
		return err
	}
	_, err := s.attempt(func() (Part, error) {
		if err := s.rd.declaration(); err != nil {
			return Part{}, err
		}
		_, err := s.rd.outside(false)
		if err == nil && s.rd.more && len(s.rd.b)-s.rd.i < 64 {
			err = s.rd.fail(ErrTruncated, "what begins here is cut")
		}
		return Part{}, err
	}, false)
	var re *ReadError
	if errors.As(err, &re) && re.Err == ErrTruncated && strings.TrimSpace(s.rd.b) == "" && s.base == 0 {
		return &ReadError{Err: ErrEmpty}
	}
	return err
}

// attempt reads a part. Where it cannot be read and the document goes on behind the window, it is read again from a
// wider one; nothing that was read before is kept. toEnd says that it has to reach the end of the document.
func (s *Stream) attempt(read func() (Part, error), toEnd bool) (Part, error) {
	r := &s.rd
	if err := s.slide(); err != nil {
		return Part{}, err
	}
	for {
		scope, groups, at := len(r.scope), len(s.groups), s.rd.i
		r.fresh, r.pending = r.fresh[:0], r.pending[:0]
		p, err := read()
		if raw := r.b[at:max(at, r.i)]; err == nil && (!toEnd || !r.more) {
			if !utf8.ValidString(raw) {
				r.i = at
				return Part{}, r.fail(ErrMalformed, "not valid UTF-8")
			}
			p.Raw, p.Offset, p.Line = raw, s.base+int64(at), s.line+1
			s.line += strings.Count(raw, "\n")
			return p, nil
		}
		if !r.more {
			return Part{}, err
		}
		for _, id := range r.fresh {
			delete(r.ids, id)
		}
		r.scope, s.groups, r.first, s.done = r.scope[:scope], s.groups[:groups], len(r.attrs), toEnd
		r.i = at
		if len(r.b)-at > s.lim.Part {
			if err == nil {
				err = r.fail(ErrTooLarge, "more than %d bytes behind the document element", s.lim.Part)
			} else if errors.Is(err, ErrTruncated) {
				err = r.fail(ErrTooLarge, "an element or text of more than %d bytes", s.lim.Part)
			}
			return Part{}, err
		}
		if err := s.grow(); err != nil {
			return Part{}, err
		}
	}
}

// part reads the next part inside the document element, or that element itself.
func (s *Stream) part() (Part, error) {
	r := &s.rd
	p := Part{Depth: len(s.groups)}
	at := func(n int) byte {
		if r.i+n < len(r.b) {
			return r.b[r.i+n]
		}
		return 0
	}
	switch {
	case len(s.groups) == 0:
		return s.elementOrGroup(p)
	case s.groups[len(s.groups)-1].closed:
		return s.groupEnd(p), nil
	case r.i >= len(r.b):
		return p, r.fail(ErrTruncated, "the document ends inside <%s>", s.groups[len(s.groups)-1].name)
	case at(0) != '<':
		if r.more && strings.IndexByte(r.b[r.i:], '<') < 0 {
			return p, r.fail(ErrTruncated, "text is cut")
		}
		text, err := r.text()
		p.Kind, p.Text = Chars, text
		return p, err
	case at(1) == '/':
		if err := r.end(s.groups[len(s.groups)-1].name); err != nil {
			return p, err
		}
		return s.groupEnd(p), nil
	case at(1) == '!':
		if err := r.markup(); err != nil {
			return p, err
		}
		switch t := r.pending[0].(type) {
		case *etree.CharData:
			p.Kind, p.Text = Chars, t.Data
		case *etree.Comment:
			p.Kind, p.Text = Remark, t.Data
		}
		return p, nil
	case at(1) == '?':
		return p, r.fail(ErrMalformed,
			"a processing instruction inside the document element is never read; take it out")
	}
	return s.elementOrGroup(p)
}

func (s *Stream) groupEnd(p Part) Part {
	g := s.groups[len(s.groups)-1]
	s.rd.scope, s.groups = s.rd.scope[:g.scope], s.groups[:len(s.groups)-1]
	s.done = len(s.groups) == 0
	p.Kind, p.Element, p.Depth = GroupEnd, g.el, len(s.groups)
	return p
}

func (s *Stream) elementOrGroup(p Part) (Part, error) {
	r := &s.rd
	if len(s.groups) >= s.lim.Depth {
		return p, r.fail(ErrTooDeep, "more than %d levels", s.lim.Depth)
	}
	r.apart()
	begin, mark := r.i, len(r.scope)
	r.i++
	_, _, local, _ := r.qualified()
	r.i = begin
	if local == s.local {
		el, name, closed, err := r.start()
		if err != nil {
			return p, err
		}
		if ns, _ := r.lookup(el.Space); ns == s.ns {
			s.inside(el)
			p.Kind, p.Element = GroupStart, el
			s.groups = append(s.groups, group{el, name, mark, closed})
			return p, nil
		}
		for _, id := range r.fresh { // no group: it is read once more, as a whole
			delete(r.ids, id)
		}
		r.i, r.scope, r.fresh = begin, r.scope[:mark], r.fresh[:0]
	}
	el, err := r.element(len(s.groups))
	if err != nil {
		return p, err
	}
	r.scope = r.scope[:mark]
	s.inside(el)
	p.Kind, p.Element = Whole, el
	s.done = len(s.groups) == 0
	return p, nil
}

// inside puts an element into a copy of the innermost open group.
func (s *Stream) inside(el *etree.Element) {
	if len(s.groups) == 0 {
		return
	}
	around := *s.groups[len(s.groups)-1].el
	around.Child = nil
	around.AddChild(el)
}

// slide forgets what has been read, once the window is nearly used up.
func (s *Stream) slide() error {
	if r := &s.rd; r.more && len(r.b)-r.i < s.window/8 {
		return s.grow()
	}
	return nil
}

// grow forgets what has been read, and reads on: as much as there is in the window, and a window's size at least.
func (s *Stream) grow() error {
	r := &s.rd
	gone, rest := r.b[:r.i], r.b[r.i:]
	r.lines += strings.Count(gone, "\n")
	if i := strings.LastIndexByte(gone, '\n'); i >= 0 {
		r.column = len(gone) - i - 1
	} else {
		r.column += len(gone)
	}
	s.base += int64(len(gone))
	want := len(rest) + max(s.window, len(rest))
	if cap(s.buf) < want {
		s.buf = make([]byte, want)
	}
	b := s.buf[:want]
	n := copy(b, rest)
	for n < want {
		m, err := s.src.Read(b[n:])
		n += m
		if err == io.EOF {
			r.more = false
			break
		}
		if err != nil {
			return err
		}
	}
	if s.lim.Bytes > 0 && s.base+int64(n) > s.lim.Bytes {
		return &ReadError{Err: ErrTooLarge,
			Detail: fmt.Sprintf("more than %d bytes, the most that is read", s.lim.Bytes)}
	}
	r.b, r.i, r.odd = string(b[:n]), 0, odd(b[:n])
	return nil
}

// lineEnds gives out a document in UTF-8 without a byte order mark, and with line feeds as its only line ends (XML 1.0,
// section 2.11).
type lineEnds struct {
	r       io.Reader
	cr      bool // the byte before was a carriage return
	changed bool
}

// begin looks at the encoding. A document in another one than UTF-8 is read to its end, with the bound that Parse has.
func (l *lineEnds) begin() error {
	var head [256]byte
	n, err := io.ReadFull(l.r, head[:])
	if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
		return err
	}
	b := head[:n]
	l.r = io.MultiReader(bytes.NewReader(b), l.r)
	decl, _, _ := bytes.Cut(b, []byte("?>"))
	utf8Mark := bytes.HasPrefix(b, []byte{0xEF, 0xBB, 0xBF})
	utf16Mark := bytes.HasPrefix(b, []byte{0xFE, 0xFF}) || bytes.HasPrefix(b, []byte{0xFF, 0xFE})
	switch {
	case utf8Mark:
		l.changed = true
		_, err := io.CopyN(io.Discard, l.r, 3)
		return err
	case utf16Mark, bytes.HasPrefix(b, []byte("<?xml")) && bytes.Contains(bytes.ToLower(decl), []byte("iso-8859-1")):
		most := MetadataLimits().Bytes
		all, err := io.ReadAll(io.LimitReader(l.r, int64(most)+1))
		if err != nil {
			return err
		}
		if len(all) > most {
			return &ReadError{Err: ErrTooLarge, Detail: fmt.Sprintf("more than %d bytes in another encoding than UTF-8",
				most)}
		}
		if all, err = toUTF8(all); err != nil {
			return err
		}
		l.changed, l.r = true, bytes.NewReader(all)
	}
	return nil
}

func (l *lineEnds) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	b := p[:n]
	if !l.cr && bytes.IndexByte(b, '\r') < 0 {
		return n, err
	}
	l.changed = true
	out := b[:0]
	for _, c := range b {
		switch {
		case c == '\r':
			out = append(out, '\n')
		case c == '\n' && l.cr:
		default:
			out = append(out, c)
		}
		l.cr = c == '\r'
	}
	return len(out), err
}

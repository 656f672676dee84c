package xmlsec

import (
	"bufio"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/beevik/etree"
)

// ErrNoGroup means that a document element is not of the kind whose parts a stream hands out.
var ErrNoGroup = errors.New("the document element is no group")

// Rewrite says how the document that a stream reads is written again.
type Rewrite struct {
	// Root changes the attributes of the document element, which keeps its name and its namespace declarations.
	Root func(*etree.Element)
	// Keep says which groups and whole elements inside the document element stay; nil for all. A group that goes takes
	// along what is in it, and each takes along the white space behind it.
	Keep func(Part) bool
	// Signer signs the document element, which must carry an ID then; nil leaves it unsigned.
	Signer *Signer
}

// Write writes the document to w, each part inside the document element byte for byte as it stands, and the document
// element's own Signature, if it had one, is not kept. What is signed has to be digested first, so open is asked for
// the document twice and has to give out the same. Errors: ErrNoGroup, those of reading, of signing, and of w.
func (r *Rewrite) Write(ctx context.Context, open func() (*Stream, error), w io.Writer) error {
	var sig *etree.Element
	if r.Signer != nil {
		d, id := &passDigest{h: sha256.New()}, ""
		err := r.each(ctx, open, func(p Part) error {
			if p.Kind == GroupStart && p.Depth == 0 {
				id = Attr(p.Element, "ID")
			}
			d.write(p)
			return nil
		})
		if err != nil {
			return err
		}
		if id == "" {
			return errors.New("the document element has no ID and cannot be signed")
		}
		if sig, err = r.Signer.signature(id, d.h.Sum(nil)); err != nil {
			return err
		}
	}
	out := bufio.NewWriterSize(w, 64<<10)
	out.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n")
	err := r.each(ctx, open, func(p Part) error {
		var err error
		switch {
		case p.Kind == GroupStart && p.Depth == 0:
			_, err = out.Write(startTag(p.Element))
			if sig != nil {
				_, err = out.Write(Serialize(sig))
			}
		case p.Kind == GroupEnd && p.Depth == 0:
			_, err = fmt.Fprintf(out, "</%s>\n", p.Element.FullTag())
		default:
			_, err = out.WriteString(p.Raw)
		}
		return err
	})
	return errors.Join(err, out.Flush())
}

// each gives out the parts that are kept.
func (r *Rewrite) each(ctx context.Context, open func() (*Stream, error), f func(Part) error) error {
	s, err := open()
	if err != nil {
		return err
	}
	first, gone := true, false // something went, and white space that follows goes with it
	without := 0               // the depth of the group that is left out, and all in it
	return EachPart(ctx, s, func(p Part) error {
		if first {
			if p.Kind != GroupStart {
				return ErrNoGroup
			}
			root := *p.Element
			root.Attr = slices.Clone(root.Attr)
			if r.Root != nil {
				r.Root(&root)
			}
			p.Element, first = &root, false
			return f(p)
		}
		switch {
		case without > 0:
			if p.Kind == GroupEnd && p.Depth == without {
				without = 0
			}
			return nil
		case p.Depth > 0 && (p.Kind == Whole || p.Kind == GroupStart):
			if p.Depth == 1 && p.Kind == Whole && Is(p.Element, NS, "Signature") {
				return nil
			}
			if gone = r.Keep != nil && !r.Keep(p); gone {
				if p.Kind == GroupStart {
					without = p.Depth
				}
				return nil
			}
		case gone && p.Kind == Chars && strings.TrimSpace(p.Text) == "":
			return nil
		default:
			gone = false
		}
		return f(p)
	})
}

// startTag writes a start tag with the attributes in their order.
func startTag(el *etree.Element) []byte {
	b := qname([]byte{'<'}, el.Space, el.Tag)
	for i := range el.Attr {
		b = attribute(b, &el.Attr[i])
	}
	return append(b, '>')
}

// StartingWith returns an element as it stands in a document, but with the attributes of el, which has its name.
func StartingWith(raw string, el *etree.Element) []byte {
	end, quote := 0, byte(0)
	for ; end < len(raw); end++ {
		switch c := raw[end]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '>':
			if rest := raw[end+1:]; end == 0 || raw[end-1] != '/' {
				return append(startTag(el), rest...)
			}
			return fmt.Appendf(startTag(el), "</%s>", el.FullTag())
		}
	}
	return startTag(el)
}

package xmlsec

import (
	"context"
	"errors"
	"hash"
	"io"
	"strings"

	"github.com/beevik/etree"
	"golang.org/x/sync/errgroup"
)

// batch is about how many bytes of parts go from one hand to the next at a time.
const batch = 64 << 10

// VerifyStream reads a document from front to back, hands each part to each, and verifies the signature that the
// document element carries, as Verify does: one pass, in which what is read and what is digested are the same parts.
// Nothing that each was given may be used before VerifyStream has returned without an error.
//
// The Signature of a group has to be its first child element, where the standard puts it (SAML Metadata, section
// 2.3.1). A document whose signature does not hold is still read to its end. Errors: a *SignatureError, a *ReadError,
// that of the context, and what each returned.
func VerifyStream(ctx context.Context, s *Stream, p Policy, each func(Part) error) (Verified, error) {
	d := &passDigest{policy: p}
	if err := pass(ctx, s, each, d.part); err != nil {
		return d.x.found, err
	}
	return d.outcome()
}

// EachPart reads a document from front to back without looking at signatures.
func EachPart(ctx context.Context, s *Stream, each func(Part) error) error {
	return pass(ctx, s, each)
}

// pass gives the parts of a document to several readers, each in a hand of its own. All see the parts in order.
func pass(ctx context.Context, s *Stream, readers ...func(Part) error) error {
	g, ctx := errgroup.WithContext(ctx)
	lines := make([]chan []Part, len(readers))
	for i, read := range readers {
		lines[i] = make(chan []Part, 2)
		g.Go(func() error {
			for parts := range lines[i] {
				for _, p := range parts {
					if err := read(p); err != nil {
						return err
					}
				}
			}
			return nil
		})
	}
	g.Go(func() error {
		defer func() {
			for _, l := range lines {
				close(l)
			}
		}()
		for {
			parts, err := some(s)
			for _, l := range lines {
				select {
				case l <- parts:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return err
			}
		}
	})
	return g.Wait()
}

// some reads the next parts, and the error that ended them.
func some(s *Stream) (parts []Part, err error) {
	for n := 0; n < batch; {
		p, err := s.Next()
		if err != nil {
			return parts, err
		}
		parts = append(parts, p)
		n += len(p.Raw)
	}
	return parts, nil
}

// passDigest canonicalizes and digests the document element as its parts come by.
type passDigest struct {
	policy Policy
	w      excWriter
	marks  []int
	b      []byte
	h      hash.Hash // nil until the Signature has said which
	early  []Part    // what stands before the Signature

	root *etree.Element
	sig  *etree.Element
	x    examined
	err  error // why the signature cannot hold
	sum  *Verified
}

func (d *passDigest) part(p Part) error {
	switch {
	case d.root == nil:
		d.root = p.Element
		if p.Kind == Whole { // no group: there is a tree to verify
			v, err := Verify(p.Element, d.policy)
			d.sum, d.x.found, d.err = &v, v, err
		} else {
			d.early = append(d.early, p)
		}
	case p.Kind == Whole && p.Depth == 1 && Is(p.Element, NS, "Signature"):
		d.signature(p.Element)
	case d.err != nil || d.sum != nil:
	case d.h == nil && (p.Kind == Chars || p.Kind == Remark):
		d.early = append(d.early, p)
	case d.h == nil:
		d.err = sigErr(NoSignature, "<%s> carries no signature in front of what is in it", d.root.Tag)
	default:
		d.write(p)
	}
	return nil
}

// signature takes the Signature of the document element.
func (d *passDigest) signature(sig *etree.Element) {
	if d.sig != nil {
		d.err = sigErr(BadShape, "several signatures stand in <%s>; one is allowed", d.root.Tag)
		return
	}
	d.sig = sig
	var no *SignatureError
	if errors.As(d.err, &no) && no.Reason == NoSignature {
		d.err = sigErr(BadShape, "the signature of <%s> stands behind other elements; it belongs in front of them "+
			"(SAML Metadata, section 2.3.1)", d.root.Tag)
	}
	if d.err != nil {
		return
	}
	if d.x, d.err = examine(d.root, sig, d.policy); d.err != nil {
		return
	}
	d.h = d.x.hash.New()
	switch d.x.algorithm {
	case ExcC14N:
		d.w.inclusive = strings.Fields(d.x.prefixes)
	default: // of a whole document, both versions of inclusive canonicalization write the same
		d.w.every = true
	}
	for _, p := range d.early {
		d.write(p)
	}
	d.early = nil
}

// write digests the canonical form of a part.
func (d *passDigest) write(p Part) {
	b := d.b[:0]
	switch p.Kind {
	case GroupStart:
		d.marks = append(d.marks, len(d.w.rendered))
		b = d.w.start(b, p.Element)
	case GroupEnd:
		last := len(d.marks) - 1
		b = d.w.end(b, p.Element, d.marks[last])
		d.marks = d.marks[:last]
	case Whole:
		b = d.w.element(b, p.Element)
	case Chars:
		b = escapeText(b, p.Text)
	}
	d.h.Write(b)
	d.b = b
}

// outcome is known once the document has ended.
func (d *passDigest) outcome() (Verified, error) {
	switch {
	case d.err != nil:
		return d.x.found, d.err
	case d.sum != nil:
		return *d.sum, nil
	case d.h == nil:
		return d.x.found, sigErr(NoSignature, "<%s> carries no signature", d.root.Tag)
	}
	return d.x.check(d.root, d.h.Sum(nil), d.policy)
}

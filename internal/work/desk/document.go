package desk

import (
	"bufio"
	"bytes"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"slices"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// Document is published metadata that was read once, front to back: as it stands, or of an aggregate of over a
// megabyte, whatever its size, what stands there of some entities. What is kept of an entity out of one is that. A
// small one is kept whole, so that its signature can be verified again.
type Document struct {
	raw []byte // of a document that is small, or no aggregate
	cut *saml.Cut
	by  *x509.Certificate // who signed the aggregate
}

// Received is an entity as it was received.
type Received struct {
	Raw []byte
	// Outer is what the signature over the aggregate was out of which Raw was cut; nil: Raw is the whole document
	Outer *Outer
}

// Outer is the signature over an aggregate, held against the signers who were known when it was read.
type Outer struct {
	By      *x509.Certificate // whose key signed it; nil: nobody's of those
	Refused error             // why not
}

// ReadDocument reads a document out of which the entities of some IDs are wanted; none wants the only one that is
// there. signers are those who may have signed it; none: nobody looks. Errors: ErrPrivateInside, those of reading.
func ReadDocument(ctx context.Context, r io.Reader, want []string, signers []*x509.Certificate) (*Document, error) {
	in := bufio.NewReaderSize(r, large)
	head, err := in.Peek(large)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	if err != nil || !InGroup(head) { // small, one entity, or no metadata: whoever reads it says what is wrong with it
		max := int64(xmlsec.MetadataLimits().Bytes)
		raw, err := io.ReadAll(io.LimitReader(in, max+1))
		if err == nil && int64(len(raw)) > max {
			err = fmt.Errorf("%w: at most %d MB of one entity are read", xmlsec.ErrTooLarge, max>>20)
		}
		return &Document{raw: raw}, err
	}
	first := true
	o := saml.Cutting{Want: func(id string) bool {
		was := first
		first = false
		return len(want) == 0 && was || slices.Contains(want, id)
	}}
	for _, s := range signers {
		o.Keys = append(o.Keys, s.PublicKey)
	}
	cut, err := o.Read(ctx, in)
	d := &Document{cut: cut}
	switch {
	case err != nil:
		return nil, Hint(err)
	case d.cut.Private:
		return nil, ErrPrivateInside
	case d.cut.Key >= 0:
		d.by = signers[d.cut.Key]
	}
	return d, nil
}

// Of is an entity of the document; "" is the only one. Errors: saml.ErrNoSuchEntity, saml.ErrManyEntities,
// saml.ErrDuplicate.
func (d *Document) Of(entity string) (Received, error) {
	if d.cut == nil {
		return Received{Raw: d.raw}, nil
	}
	c := d.cut
	if entity == "" {
		if len(c.IDs) > 1 {
			return Received{}, entityHint(c.IDs, "", finding.Errorf("%w: the document holds %d; say which with %s",
				saml.ErrManyEntities, len(c.IDs), finding.FieldEntity))
		}
		for id := range c.Parts {
			entity = id
		}
	}
	switch n := c.Times[entity]; {
	case n == 0:
		return Received{}, entityHint(c.IDs, entity, fmt.Errorf("%w: %q is not in the document", saml.ErrNoSuchEntity,
			entity))
	case n > 1:
		return Received{}, fmt.Errorf("%w: %s stands in the document more than once", saml.ErrDuplicate, entity)
	}
	return Received{Raw: c.Parts[entity], Outer: &Outer{By: d.by, Refused: c.Refused}}, nil
}

// Is reports whether what was received is what is kept already, and nothing speaks against it: an aggregate that none
// of the signers signed says nothing.
func (r *Received) Is(kept []byte, signers []*x509.Certificate) bool {
	return bytes.Equal(kept, r.Raw) && (r.Outer == nil || len(signers) == 0 || r.Outer.signed(signers))
}

// signed reports whether one of the signers signed the aggregate.
func (o *Outer) signed(signers []*x509.Certificate) bool {
	return o.By != nil && slices.ContainsFunc(signers, o.By.Equal)
}

// read reads one entity out of what was received; by is the one of the signers who has to have signed it. Without
// signers no signature is looked at.
func (r *Received) read(entity string, signers []*x509.Certificate) (e *saml.Entity, by *x509.Certificate, err error) {
	if r.Outer == nil || len(signers) == 0 {
		return ReadSigned(r.Raw, entity, signers)
	}
	if !r.Outer.signed(signers) {
		err := r.Outer.Refused
		if err == nil {
			err = errors.New("another key signed it")
		}
		return nil, nil, fmt.Errorf("the metadata is not signed with the key of %s: %w", keys.Fingerprint(signers[0]),
			err)
	}
	e, err = ReadEntity(r.Raw, entity, nil)
	return e, r.Outer.By, err
}

// Cut is the entity of a document in memory, or all of it where that is small, or no aggregate in which the entity is.
func Cut(raw []byte, entity string, signedBy *x509.Certificate) Received {
	if len(raw) > large {
		d, err := ReadDocument(context.Background(), bytes.NewReader(raw), []string{entity}, Signers(signedBy))
		if err == nil {
			if r, err := d.Of(entity); err == nil {
				return r
			}
		}
	}
	return Received{Raw: raw}
}

// Signers are the signers of whom there is one, or none.
func Signers(one *x509.Certificate) []*x509.Certificate {
	if one == nil {
		return nil
	}
	return []*x509.Certificate{one}
}

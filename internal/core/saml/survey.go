package saml

import (
	"context"
	"crypto"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/xmlsec"
)

// Survey is what a metadata document of any size holds, as one reading from front to back found it.
type Survey struct {
	ID            string         `json:"id,omitempty"`
	Name          string         `json:"name,omitempty"`
	Aggregate     bool           `json:"aggregate"`
	Signed        bool           `json:"signed"` // the document element carries a signature, whether or not it holds
	ValidUntil    *time.Time     `json:"validUntil,omitempty"`
	CacheDuration string         `json:"cacheDuration,omitempty"`
	Entities      int            `json:"entities"`
	Groups        int            `json:"groups"` // inside the document element
	Roles         map[string]int `json:"roles"`  // entities with such a role descriptor
	Bytes         int64          `json:"bytes"`
	AsItStands    bool           `json:"-"` // the offsets of the entities are those of the bytes that were read

	// Method is the signature method of the signature that held; empty where none was verified.
	Method string `json:"signatureMethod,omitempty"`
}

// Surveying says how a document is surveyed.
type Surveying struct {
	Key  crypto.PublicKey // the signature over the document must hold with it; nil: signatures are not looked at
	Most int64            // bytes; 0 for no bound
	Now  time.Time        // when entities are judged; zero: nothing has run out, and nothing is in doubt
	// Each is given every entity in order; its element may be read until Each returns. Nothing of it may be used before
	// Read has returned without an error, where a key is given.
	Each func(Listed, *etree.Element) error
}

// Read surveys a metadata document. Errors: ErrNotMetadata, a *xmlsec.ReadError, a *xmlsec.SignatureError once the
// whole document has been read, those of the context, of r and of Each. The survey is returned with every error, as
// far as it came.
func (o Surveying) Read(ctx context.Context, r io.Reader) (*Survey, error) {
	s := &surveyor{Surveying: o, Survey: &Survey{Roles: map[string]int{}}, seed: maphash.MakeSeed(),
		ids: map[uint64]struct{}{}}
	lim := xmlsec.AggregateLimits()
	lim.Bytes = o.Most
	in := xmlsec.NewStream(r, NSMetadata, "EntitiesDescriptor", lim)
	var err error
	if o.Key == nil {
		err = xmlsec.EachPart(ctx, in, s.part)
	} else {
		var v xmlsec.Verified
		v, err = xmlsec.VerifyStream(ctx, in, xmlsec.Policy{Keys: []crypto.PublicKey{o.Key}}, s.part)
		if err == nil {
			s.Method = v.Method
		}
	}
	s.AsItStands = in.AsItStands()
	return s.Survey, err
}

type surveyor struct {
	Surveying
	*Survey
	seed maphash.Seed
	ids  map[uint64]struct{} // of the entity IDs: an aggregate holds each once
}

func (s *surveyor) part(p xmlsec.Part) error {
	s.Bytes = p.Offset + int64(len(p.Raw))
	entity := p.Element != nil && xmlsec.Is(p.Element, NSMetadata, "EntityDescriptor")
	if p.Depth == 0 && p.Kind != xmlsec.GroupEnd {
		if p.Kind == xmlsec.Whole && !entity {
			return fmt.Errorf("%w: the root is <%s>%s, where EntityDescriptor or EntitiesDescriptor belongs",
				ErrNotMetadata, p.Element.FullTag(), inNS(xmlsec.Namespace(p.Element)))
		}
		return s.root(p, entity)
	}
	switch {
	case p.Kind == xmlsec.GroupStart:
		s.Groups++
	case p.Kind == xmlsec.Whole && entity:
		return s.entity(p)
	case p.Kind == xmlsec.Whole && p.Depth == 1 && xmlsec.Is(p.Element, xmlsec.NS, "Signature"):
		s.Signed = true
	}
	return nil
}

func (s *surveyor) root(p xmlsec.Part, entity bool) error {
	s.ID, s.Name = xmlsec.Attr(p.Element, "ID"), xmlsec.Attr(p.Element, "Name")
	s.CacheDuration, s.Aggregate = xmlsec.Attr(p.Element, "cacheDuration"), !entity
	t, err := readTime(p.Element, "validUntil")
	if err != nil && !entity { // of an entity it is named with its other problems
		return err
	}
	s.ValidUntil = t
	if entity {
		s.Signed = xmlsec.Child(p.Element, xmlsec.NS, "Signature") != nil
		return s.entity(p)
	}
	return nil
}

func (s *surveyor) entity(p xmlsec.Part) error {
	l := ListEntity(p.Element)
	l.Line, l.Offset, l.Length, l.Raw = p.Line, p.Offset, len(p.Raw), p.Raw
	if l.EntityID != "" {
		h := maphash.String(s.seed, l.EntityID)
		if _, twice := s.ids[h]; twice {
			l.Problems = append(l.Problems, "its entity ID stands in the document more than once")
		}
		s.ids[h] = struct{}{}
	}
	if !s.Now.IsZero() {
		l.Lapse(s.Now)
		if e, err := EntityOf(p.Element); err == nil { // else that is among its problems
			l.Doubts = Unfit(e, s.Now)
		}
	}
	s.Entities++
	for _, r := range l.Roles {
		s.Roles[r]++
	}
	if s.Each == nil {
		return nil
	}
	return s.Each(l, p.Element)
}

// EntityOf reads an EntityDescriptor that stands inside its groups, whose ends count as its own. Errors:
// ErrNoEntityID, ErrBadTimeFormat.
func EntityOf(el *etree.Element) (*Entity, error) {
	ent, err := readEntity(el)
	if err != nil {
		return nil, err
	}
	for up := el.Parent(); up != nil; up = up.Parent() {
		if !xmlsec.Is(up, NSMetadata, "EntitiesDescriptor") {
			continue
		}
		t, err := readTime(up, "validUntil")
		if err != nil {
			return nil, err
		}
		ent.ValidUntil = earlier(ent.ValidUntil, t)
	}
	return ent, nil
}

// Refused reports whether an error says that a signature does not hold.
func Refused(err error) bool {
	var se *xmlsec.SignatureError
	return errors.As(err, &se)
}

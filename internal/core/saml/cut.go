package saml

import (
	"context"
	"crypto"
	"io"
	"strings"

	"tressik.example/internal/core/xmlsec"
)

// Cutting reads a metadata document once, from front to back, and cuts out of an aggregate what stands of some
// entities. Its memory is that of the largest entity and of what is cut out.
type Cutting struct {
	Keys []crypto.PublicKey // with one of which the document is to be signed; none: signatures are not looked at
	Want func(entityID string) bool
}

// Cut is what was cut out of a document.
type Cut struct {
	IDs []string // of all entities, in order
	// Parts are the entities that were wanted, byte for byte, each in the start tags of the groups around it, so that
	// namespaces and what a group says of validity hold there as they did. Of an ID that stands there twice it is the
	// first.
	Parts   map[string][]byte
	Times   map[string]int // how often each of them stands there
	Private bool           // a private key stands somewhere
	// Key is the index of the key with which the signature over the whole document holds; Refused says why none does,
	// where keys were given.
	Key     int
	Refused error
}

// Read reads a document. Errors: a *xmlsec.ReadError, those of the context and of r.
func (o Cutting) Read(ctx context.Context, r io.Reader) (*Cut, error) {
	c := &cutter{Cutting: o, Cut: &Cut{Parts: map[string][]byte{}, Times: map[string]int{}, Key: -1}}
	in := xmlsec.NewStream(r, NSMetadata, "EntitiesDescriptor", xmlsec.AggregateLimits())
	if len(o.Keys) == 0 {
		return c.Cut, xmlsec.EachPart(ctx, in, c.part)
	}
	v, err := xmlsec.VerifyStream(ctx, in, xmlsec.Policy{Keys: o.Keys}, c.part)
	switch {
	case Refused(err):
		c.Refused, err = err, nil
	case err == nil:
		c.Key = v.Key
	}
	return c.Cut, err
}

type cutter struct {
	Cutting
	*Cut
	open []string // start tags of the groups around
	ends []string
}

func (c *cutter) part(p xmlsec.Part) error {
	c.Private = c.Private || strings.Contains(p.Raw, "PRIVATE KEY")
	switch {
	case p.Kind == xmlsec.GroupStart:
		c.open, c.ends = append(c.open, p.Raw), append(c.ends, "</"+p.Element.FullTag()+">")
	case p.Kind == xmlsec.GroupEnd:
		c.open, c.ends = c.open[:len(c.open)-1], c.ends[:len(c.ends)-1]
	case p.Kind == xmlsec.Whole && xmlsec.Is(p.Element, NSMetadata, "EntityDescriptor"):
		id := xmlsec.Attr(p.Element, "entityID")
		c.IDs = append(c.IDs, strings.Clone(id))
		if c.Want == nil || !c.Want(id) {
			break
		}
		if c.Times[id]++; c.Times[id] == 1 {
			c.Parts[strings.Clone(id)] = c.cut(p.Raw)
		}
	}
	return nil
}

func (c *cutter) cut(raw string) []byte {
	var b strings.Builder
	for _, s := range c.open {
		b.WriteString(s)
	}
	b.WriteString(raw)
	for i := range c.ends {
		b.WriteString(c.ends[len(c.ends)-1-i])
	}
	return []byte(b.String())
}

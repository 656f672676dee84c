package aggregate

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/outside/whole"
)

// Errors that callers test for.
var (
	ErrNothing  = errors.New("no entity of the document is one of those")
	ErrNotEmpty = errors.New("the folder is there already and is not empty")
	ErrOneAlone = errors.New("the document holds one entity and no group")
	ErrOver     = errors.New("what it says is no longer valid (validUntil)")
)

// Writing says how a document is written again.
type Writing struct {
	Reading
	What   saml.Sought
	Signer *xmlsec.Signer // nil: what is written is not signed
	Until  *time.Time     // validUntil of the document; nil keeps what it has
	Cache  string         // cacheDuration; "" keeps what it has
	ID     string         // of the document element; "" makes one where it is signed
	// told of each entity that is written with problems or doubts; may be nil
	Broken func(saml.Listed)
}

// Write writes the document to w with the entities that are sought, each byte for byte as it stands, and signs it. A
// group in which none is left goes. The old signature over the document is not kept; those of entities are. Errors:
// ErrNothing, ErrOver where it would be signed with an end that is past, and those of Survey.
func (s *Source) Write(ctx context.Context, how Writing, w io.Writer) (*saml.Survey, error) {
	keep := map[int64]bool{} // offsets of the entities
	sought := !how.What.Any()
	survey, err := s.Survey(ctx, how.Reading, func(l saml.Listed, _ *etree.Element) error {
		fits := !sought || how.What.Fits(&l)
		if sought && fits {
			keep[l.Offset] = true
		}
		if fits && how.Broken != nil {
			if l.Raw = ""; len(l.Problems)+len(l.Doubts) > 0 {
				how.Broken(l)
			}
		}
		return nil
	})
	if err != nil {
		return survey, err
	}
	if sought && len(keep) == 0 {
		return survey, ErrNothing
	}
	if t := survey.ValidUntil; t != nil && how.Until == nil && how.Signer != nil && !how.Now.IsZero() &&
		!t.After(how.Now) {
		return survey, fmt.Errorf("%w: since %s", ErrOver, saml.FormatTime(*t))
	}
	r := xmlsec.Rewrite{Signer: how.Signer}
	groups := "EntitiesDescriptor"
	switch {
	case !survey.Aggregate: // what is in the entity is what is kept byte for byte then
		if sought {
			return survey, ErrOneAlone
		}
		groups = "EntityDescriptor"
	case sought:
		held, err := s.groupsHolding(ctx, keep)
		if err != nil {
			return survey, err
		}
		r.Keep = func(p xmlsec.Part) bool {
			if p.Kind == xmlsec.GroupStart {
				return held[p.Offset]
			}
			return keep[p.Offset] || !xmlsec.Is(p.Element, saml.NSMetadata, "EntityDescriptor")
		}
		survey.Entities = len(keep)
	}
	if how.ID == "" && how.Signer != nil {
		if how.ID, err = newID(); err != nil {
			return survey, err
		}
	}
	r.Root = how.root
	var opened []io.Closer
	defer func() {
		for _, f := range opened {
			f.Close()
		}
	}()
	return survey, r.Write(ctx, func() (*xmlsec.Stream, error) {
		f, err := s.open()
		if err != nil {
			return nil, err
		}
		opened = append(opened, f)
		return xmlsec.NewStream(f, saml.NSMetadata, groups, xmlsec.AggregateLimits()), nil
	}, w)
}

// root sets what is new on the document element.
func (how Writing) root(el *etree.Element) {
	if how.ID != "" {
		el.CreateAttr("ID", how.ID)
	}
	if how.Until != nil {
		el.CreateAttr("validUntil", saml.FormatTime(*how.Until))
	}
	if how.Cache != "" {
		el.CreateAttr("cacheDuration", how.Cache)
	}
}

func newID() (string, error) {
	var b [16]byte
	if _, err := rand.Read(b[:]); err != nil {
		return "", err
	}
	return "_" + hex.EncodeToString(b[:]), nil
}

// groupsHolding returns the offsets of the groups in which one of the entities stands.
func (s *Source) groupsHolding(ctx context.Context, keep map[int64]bool) (map[int64]bool, error) {
	f, err := s.open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	held := map[int64]bool{}
	var open []int64
	in := xmlsec.NewStream(f, saml.NSMetadata, "EntitiesDescriptor", xmlsec.AggregateLimits())
	err = xmlsec.EachPart(ctx, in, func(p xmlsec.Part) error {
		switch {
		case p.Kind == xmlsec.GroupStart:
			open = append(open, p.Offset)
		case p.Kind == xmlsec.GroupEnd:
			open = open[:len(open)-1]
		case keep[p.Offset]:
			for _, g := range open {
				held[g] = true
			}
		}
		return nil
	})
	return held, err
}

// Written is a file that Split wrote.
type Written struct {
	EntityID string `json:"entityID"`
	File     string `json:"file"`
	// why it cannot be used as it is
	Problems []string `json:"problems,omitempty"`
	// why it should not be published as it is
	Doubts []string `json:"doubts,omitempty"`
}

// Split writes each entity that is sought into a file of its own in a new folder, which appears whole or not at all. An
// entity without a signature of its own gets the end of the groups around it where that is earlier than its own; one
// with a signature stays byte for byte. Errors: ErrNothing, ErrNotEmpty, and those of Survey.
func (s *Source) Split(ctx context.Context, how Reading, what saml.Sought, dir string) ([]Written, error) {
	dir = filepath.Clean(dir)
	if left, err := os.ReadDir(dir); err == nil && len(left) > 0 {
		return nil, fmt.Errorf("%s: %w", dir, ErrNotEmpty)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", dir, err)
	}
	tmp, err := whole.Folder(dir)
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(tmp)
	var out []Written
	_, err = s.Survey(ctx, how, func(l saml.Listed, el *etree.Element) error {
		if !what.Fits(&l) || l.EntityID == "" {
			return nil
		}
		w := Written{l.EntityID, FileName(l.EntityID), l.Problems, l.Doubts}
		out = append(out, w)
		return os.WriteFile(filepath.Join(tmp, w.File), Alone(el, &l), 0o644)
	})
	switch {
	case err != nil:
		return nil, err
	case len(out) == 0:
		return nil, ErrNothing
	}
	if err := os.Chmod(tmp, 0o755); err != nil {
		return nil, err
	}
	if err := os.Remove(dir); err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	return out, os.Rename(tmp, dir)
}

// FileName is a name for the file of an entity: what people recognise, and a part of the SHA-256 of the entity ID, by
// which no two are the same.
func FileName(entityID string) string {
	_, rest, ok := strings.Cut(entityID, "://")
	if !ok {
		rest = strings.TrimPrefix(entityID, "urn:")
	}
	name := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '.', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, rest), "-.")
	sum := sha256.Sum256([]byte(entityID))
	return name[:min(len(name), 80)] + "-" + hex.EncodeToString(sum[:4]) + ".xml"
}

// Alone writes an entity as a document of its own, with the namespace declarations that are in force where it stands,
// used or not: what is in it may use them in its text (xsi:type).
func Alone(el *etree.Element, l *saml.Listed) []byte {
	c := *el
	c.Attr = slices.Clone(el.Attr)
	scope := xmlsec.Scope(el)
	for _, p := range slices.Sorted(maps.Keys(scope)) {
		name := "xmlns:" + p
		if p == "" {
			name = "xmlns"
		}
		if c.SelectAttr(name) == nil {
			c.CreateAttr(name, scope[p])
		}
	}
	if !l.Signed && l.ValidUntil != nil {
		c.CreateAttr("validUntil", saml.FormatTime(*l.ValidUntil))
	}
	out := append([]byte(`<?xml version="1.0" encoding="UTF-8"?>`+"\n"), xmlsec.StartingWith(l.Raw, &c)...)
	return append(out, '\n')
}

package aggregate

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/beevik/etree"

	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
)

// indexVersion changes when an index that was written before can no longer be read as one.
const indexVersion = 5

// indexHead is the first line of an index: JSON Lines, one entity (saml.Listed) a line after this one, and the survey
// of the document as the last.
type indexHead struct {
	Index    int       `json:"tressikMetadataIndex"`
	File     string    `json:"file"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	SignedBy string    `json:"signedBy,omitempty"` // fingerprint of the certificate with whose key the signature held
}

// Found is what a search came to.
type Found struct {
	Entities []saml.Listed
	Survey   *saml.Survey
	Lone     *saml.Entity // where it is the document, and could be read
	Indexed  bool         // the answer comes from an index that was there already
}

// Find returns the entities of a document that are sought, in the order of the document. In dir, if it is not "", an
// index of the document is kept, and while the file has not changed it answers the next search without reading it
// again. Errors: those of Survey; a signature that does not hold finds nothing.
func (s *Source) Find(ctx context.Context, how Reading, what saml.Sought, dir string) (*Found, error) {
	at := ""
	if dir != "" && s.path != "" {
		abs, err := filepath.Abs(s.path)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256([]byte(abs))
		at = filepath.Join(dir, hex.EncodeToString(sum[:16])+".index")
	}
	head := indexHead{Index: indexVersion, File: s.path, Size: s.Size, Modified: s.modified.UTC()}
	if how.SignedBy != nil {
		head.SignedBy = keys.Fingerprint(how.SignedBy)
	}
	if at != "" {
		if f, err := search(at, head, what, how.Now); err == nil {
			return f, nil
		} else if !errors.Is(err, errStale) {
			return nil, err
		}
	}
	return s.index(ctx, how, what, at, head)
}

// errStale means that there is no index of the file as it is now.
var errStale = errors.New("no index of this file")

// indexLine is an entity in an index.
type indexLine struct {
	Key string `json:"key"` // all by which it is found, in lower case
	saml.Listed
}

// key puts together what an entity is found by.
func key(l *saml.Listed) string {
	list := slices.Concat([]string{l.EntityID, l.Authority}, l.Names, l.Domains, l.Scopes, l.Categories, l.Supports,
		l.Assurance, l.Identifier, l.Attributes, l.Roles)
	for _, c := range l.Contacts {
		list = append(append(list, c.Name), c.Email...)
	}
	return strings.ToLower(strings.Join(list, " "))
}

// search looks through an index. Most lines of it are never taken apart: those that are hold what is rarest of what is
// sought.
func search(at string, head indexHead, what saml.Sought, now time.Time) (*Found, error) {
	b, err := os.ReadFile(at)
	if errors.Is(err, os.ErrNotExist) {
		return nil, errStale
	}
	if err != nil {
		return nil, fmt.Errorf("reading the index: %w", err)
	}
	first, b, _ := bytes.Cut(b, []byte("\n"))
	var h indexHead
	if json.Unmarshal(first, &h) != nil || h.Index != head.Index || h.Size != head.Size ||
		!h.Modified.Equal(head.Modified) || head.SignedBy != "" && h.SignedBy != head.SignedBy {
		return nil, errStale
	}
	end := bytes.LastIndex(b, []byte(`{"survey":`))
	if end < 0 {
		return nil, errStale
	}
	var last struct{ Survey *saml.Survey }
	if json.Unmarshal(b[end:], &last) != nil || last.Survey == nil {
		return nil, errStale
	}
	found := &Found{Indexed: true, Survey: last.Survey}
	for line := range lines(b[:end], needles(what)) {
		var l indexLine
		if json.Unmarshal(line, &l) != nil {
			return nil, errStale
		}
		if !now.IsZero() {
			l.Lapse(now)
		}
		if what.Fits(&l.Listed) {
			found.Entities = append(found.Entities, l.Listed)
		}
	}
	return found, nil
}

// needles returns texts of which one stands in the line of each entity that is sought.
func needles(what saml.Sought) [][]byte {
	longest := ""
	for _, s := range append([]string{what.EntityID, what.Name, what.Category, what.Supports, what.Assurance,
		what.Identifier, what.Contact, what.Authority, saml.RoleByWord(what.Role), what.Domain, what.Scope},
		what.Words...) {
		s = strings.ToLower(s)
		plain := !strings.ContainsFunc(s, func(r rune) bool { // others JSON writes in another way
			return r < 0x20 || r == '"' || r == '\\' || r == 0x2028 || r == 0x2029 || r == utf8.RuneError
		})
		if plain && len(s) > len(longest) {
			longest = s
		}
	}
	switch {
	case longest != "" && strings.EqualFold(longest, what.Scope):
		return [][]byte{[]byte(longest), []byte(`"patterns":`)}
	case longest != "":
		return [][]byte{[]byte(longest)}
	case what.Broken:
		return [][]byte{[]byte(`"problems":`), []byte(`"doubts":`), []byte(`"ends":`)}
	}
	return nil
}

// lines yields the lines in which one of some texts stands, or all.
func lines(b []byte, needles [][]byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		next := make([]int, len(needles)) // where each stands next, at or behind at
		for i := range next {
			next[i] = -1
		}
		for at := 0; at < len(b); {
			hit := at
			if len(needles) > 0 {
				hit = len(b)
				for i, n := range needles {
					if next[i] < at {
						next[i] = len(b)
						if j := bytes.Index(b[at:], n); j >= 0 {
							next[i] = at + j
						}
					}
					hit = min(hit, next[i])
				}
				if hit == len(b) {
					return
				}
			}
			from, to := bytes.LastIndexByte(b[:hit], '\n')+1, len(b)
			if j := bytes.IndexByte(b[hit:], '\n'); j >= 0 {
				to = hit + j
			}
			if !yield(b[from:to]) {
				return
			}
			at = to + 1
		}
	}
}

// index reads the document, keeps an index at a path if there is one, and returns what is sought.
func (s *Source) index(ctx context.Context, how Reading, what saml.Sought, at string, head indexHead) (*Found, error) {
	found := &Found{}
	w, done, err := s.indexFile(at)
	if err != nil {
		return nil, err
	}
	line := json.NewEncoder(w)
	line.SetEscapeHTML(false)
	err = line.Encode(head)
	if err == nil {
		found.Survey, err = s.Survey(ctx, how, func(l saml.Listed, el *etree.Element) error {
			found.Lone = loneOf(el)
			l.Raw = ""
			if what.Fits(&l) {
				found.Entities = append(found.Entities, l)
			}
			if at == "" {
				return nil
			}
			return line.Encode(indexLine{key(&l), l})
		})
	}
	if err == nil {
		err = line.Encode(map[string]any{"survey": found.Survey})
	}
	if err := errors.Join(err, done(err == nil)); err != nil {
		return nil, err
	}
	return found, nil
}

// indexFile opens a new index. done puts it in its place, or takes it away.
func (s *Source) indexFile(at string) (w io.Writer, done func(keep bool) error, err error) {
	if at == "" {
		return io.Discard, func(bool) error { return nil }, nil
	}
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return nil, nil, fmt.Errorf("making the folder of the index: %w", err)
	}
	f, err := os.CreateTemp(filepath.Dir(at), "new-*")
	if err != nil {
		return nil, nil, fmt.Errorf("writing the index: %w", err)
	}
	b := bufio.NewWriterSize(f, 256<<10)
	return b, func(keep bool) error {
		err := errors.Join(b.Flush(), f.Close())
		if err == nil && keep {
			err = os.Rename(f.Name(), at)
		}
		if err != nil || !keep {
			os.Remove(f.Name())
		}
		return err
	}, nil
}

package model

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"iter"
	"slices"
)

// Whole goes through all that stands in a ledger but its journal: each record with the bytes that lie beside it, behind
// those that it refers to. What it gives, put into an empty ledger in this order, makes a ledger that says the same.
func Whole(v View) iter.Seq2[Change, error] {
	return func(yield func(Change, error) bool) {
		for _, k := range Kinds() {
			for r, err := range v.Find(Query{Kind: k}) {
				if err != nil {
					yield(Change{}, err)
					return
				}
				c := Change{Key: r.Key(), After: r}
				if k.documented() {
					b, err := v.Document(c.Key)
					if err != nil && !errors.Is(err, ErrNotFound) {
						yield(Change{}, err)
						return
					}
					if b != nil {
						c.Document = &Document{b}
					}
				}
				if !yield(c, nil) {
					return
				}
			}
		}
	}
}

// documented reports whether bytes can lie beside records of the kind.
func (k Kind) documented() bool { return k == Parties || k == Versions }

// copyLine is a line of a copy. A copy is a ledger on its way from one place to another: lines of JSON (RFC 8259), one
// for its head, one for each record and each entry of the journal, and one that ends it with a hash over those.
type copyLine struct {
	Head   *CopyHead       `json:"head,omitempty"`
	Kind   Kind            `json:"kind,omitempty"`
	Record json.RawMessage `json:"record,omitempty"`
	Beside []byte          `json:"beside,omitempty"` // bytes that lie beside the record
	Entry  *copiedEntry    `json:"entry,omitempty"`
	End    *CopyEnd        `json:"end,omitempty"`
}

// CopyHead begins a copy: of which ledger it is, and where its journal stood.
type CopyHead struct {
	Format  string `json:"format"` // CopyFormat
	Version int    `json:"version"`
	Org     string `json:"organisation"`
	Made    string `json:"made"`    // when the copy was made, RFC 3339
	Journal string `json:"journal"` // number and hash of the newest entry, as SettingHead has it
}

// CopyEnd ends a copy.
type CopyEnd struct {
	Records int    `json:"records"`
	Entries int    `json:"entries"`
	SHA256  string `json:"sha256"` // of the lines of records and entries, hex
}

// CopyFormat is by what a copy is known.
const CopyFormat = "tressik ledger copy"

// copiedEntry is an entry of the journal as it stands in the ledger.
type copiedEntry struct {
	Seq     int64  `json:"seq"`
	At      string `json:"at"`
	Actor   string `json:"actor"`
	Action  string `json:"action"`
	Party   string `json:"party,omitempty"`
	Trust   string `json:"trust,omitempty"`
	Before  string `json:"before,omitempty"`
	After   string `json:"after,omitempty"`
	Prev    string `json:"prev"`
	Hash    string `json:"hash"`
	Records string `json:"records,omitempty"`
}

// ErrCopy means that a copy is damaged, cut off, or none.
var ErrCopy = errors.New("this is no whole copy of a ledger")

// digest hashes the lines of a copy as they go by.
type digest struct {
	hash.Hash
	to  io.Writer
	end CopyEnd
}

func (d *digest) line(l copyLine) error {
	b, err := json.Marshal(l)
	if err != nil {
		return err
	}
	b = append(b, '\n')
	if l.Head == nil && l.End == nil {
		d.Write(b)
	}
	_, err = d.to.Write(b)
	return err
}

// sum ends the count.
func (d *digest) sum() CopyEnd {
	d.end.SHA256 = hex.EncodeToString(d.Sum(nil))
	return d.end
}

// body writes the records and the entries of a ledger.
func (d *digest) body(v View) error {
	for c, err := range Whole(v) {
		if err != nil {
			return err
		}
		doc, err := Encode(c.After)
		if err != nil {
			return err
		}
		l := copyLine{Kind: c.Key.Kind, Record: doc}
		if c.Document != nil {
			l.Beside = c.Document.Bytes
		}
		if err := d.line(l); err != nil {
			return err
		}
		d.end.Records++
	}
	for e, err := range v.Entries(Filter{Whole: true}) {
		if err != nil {
			return err
		}
		if err := d.line(copyLine{Entry: &copiedEntry{e.Seq, e.Written, e.Actor, e.Action, e.Party, e.Trust,
			string(e.Before), string(e.After), e.Prev, e.Hash, string(e.Records)}}); err != nil {
			return err
		}
		d.end.Entries++
	}
	return nil
}

// WriteCopy writes all of a ledger. made is when, in RFC 3339.
func WriteCopy(w io.Writer, v View, made string) (CopyEnd, error) {
	head, err := v.Value(SettingHead)
	if err != nil {
		return CopyEnd{}, err
	}
	d := &digest{Hash: sha256.New(), to: w}
	if err := d.line(copyLine{Head: &CopyHead{CopyFormat, 1, v.Org(), made, head}}); err != nil {
		return CopyEnd{}, err
	}
	if err := d.body(v); err != nil {
		return CopyEnd{}, err
	}
	end := d.sum()
	return end, d.line(copyLine{End: &end})
}

// Digest is what two ledgers have in common that say the same, in each record, in what lies beside it and in the
// journal, whatever keeps them.
func Digest(v View) (CopyEnd, error) {
	d := &digest{Hash: sha256.New(), to: io.Discard}
	if err := d.body(v); err != nil {
		return CopyEnd{}, err
	}
	return d.sum(), nil
}

// Copied is a copy that is read: first its records, then the entries of its journal. Whoever reads both to the end
// without an error has all of it.
type Copied struct {
	Head CopyHead
	End  CopyEnd // once all is read

	in   *json.Decoder
	hash hash.Hash
	got  CopyEnd
	next *copyLine
}

// ReadCopy begins to read a copy. Errors: ErrCopy.
func ReadCopy(r io.Reader) (*Copied, error) {
	c := &Copied{in: json.NewDecoder(r), hash: sha256.New()}
	if err := c.read(); err != nil {
		return nil, err
	}
	if c.next.Head == nil || c.next.Head.Format != CopyFormat {
		return nil, ErrCopy
	}
	if c.Head = *c.next.Head; c.Head.Version != 1 {
		return nil, fmt.Errorf("%w: it is of a newer version of Tressik", ErrCopy)
	}
	return c, c.read()
}

// read reads the next line.
func (c *Copied) read() error {
	var raw json.RawMessage
	if err := c.in.Decode(&raw); err != nil {
		return fmt.Errorf("%w: %w", ErrCopy, err)
	}
	c.next = &copyLine{}
	if err := json.Unmarshal(raw, c.next); err != nil {
		return fmt.Errorf("%w: %w", ErrCopy, err)
	}
	if c.next.Head == nil && c.next.End == nil {
		c.hash.Write(append(slices.Clone(raw), '\n'))
	}
	return nil
}

// Records goes through the records.
func (c *Copied) Records() iter.Seq2[Change, error] {
	return func(yield func(Change, error) bool) {
		for c.next.Kind != "" {
			l := c.next
			r, err := Decode(l.Kind, l.Record)
			if err != nil {
				yield(Change{}, fmt.Errorf("%w: %w", ErrCopy, err))
				return
			}
			x := Change{Key: r.Key(), After: r}
			if l.Beside != nil {
				x.Document = &Document{l.Beside}
			}
			c.got.Records++
			if !yield(x, nil) {
				return
			}
			if err := c.read(); err != nil {
				yield(Change{}, err)
				return
			}
		}
	}
}

// Entries goes through the journal, once the records are read.
func (c *Copied) Entries() iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		for c.next.Entry != nil {
			x := c.next.Entry
			e := Entry{Seq: x.Seq, Written: x.At, Actor: x.Actor, Action: x.Action, Party: x.Party, Trust: x.Trust,
				Before: raw(x.Before), After: raw(x.After), Prev: x.Prev, Hash: x.Hash, Records: raw(x.Records)}
			c.got.Entries++
			if !yield(e, nil) {
				return
			}
			if err := c.read(); err != nil {
				yield(Entry{}, err)
				return
			}
		}
		if err := c.end(); err != nil {
			yield(Entry{}, err)
		}
	}
}

func raw(s string) json.RawMessage {
	if s == "" {
		return nil
	}
	return json.RawMessage(s)
}

// end holds what was read against what ends the copy.
func (c *Copied) end() error {
	if c.next.End == nil {
		return fmt.Errorf("%w: it has a line that is no record, no entry and no end", ErrCopy)
	}
	c.got.SHA256 = hex.EncodeToString(c.hash.Sum(nil))
	if c.End = *c.next.End; c.got != c.End {
		return fmt.Errorf("%w: what was read is not what was written (%d of %d records, %d of %d entries)", ErrCopy,
			c.got.Records, c.End.Records, c.got.Entries, c.End.Entries)
	}
	if err := c.in.Decode(&json.RawMessage{}); err != io.EOF {
		return fmt.Errorf("%w: something stands behind its end", ErrCopy)
	}
	return nil
}

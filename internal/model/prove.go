package model

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"tressik.example/internal/core/people"
)

// Differs is a record that is not what was written.
type Differs struct {
	Kind   Kind     `json:"kind"`
	ID     string   `json:"id"`
	What   Tampered `json:"what"`
	Fields []string `json:"fields"` // those that differ, where they are known
	Entry  int64    `json:"entry,omitempty"`
}

// Tampered is what became of a record.
type Tampered string

// What can become of a record behind the ledger's back.
const (
	Altered Tampered = "changed"
	Added   Tampered = "added"
	Gone    Tampered = "taken away"
	Damaged Tampered = "damaged" // its sum does not fit it
)

// Proof is what a look at the whole ledger brought.
type Proof struct {
	Entries  int       `json:"entries"`
	Breaks   []Break   `json:"breaks"`
	Records  int       `json:"records"`  // held against the journal, or the list of those that it does not have
	Unproven int       `json:"unproven"` // that were written before the journal kept records, and not changed since
	Differs  []Differs `json:"differs"`
	Head     string    `json:"head"` // the newest entry: its number and hash
	// Missing is the hash of an entry that was kept elsewhere and that the journal does not have: its end was taken
	// off, all of it was computed anew, or the hash is of another ledger.
	Missing string `json:"missing,omitempty"`
}

// Whole reports whether nothing was found.
func (p *Proof) Whole() bool { return len(p.Breaks) == 0 && len(p.Differs) == 0 && p.Missing == "" }

// Inspected is a Reader of an engine that keeps sums of its rows and a list of the records that the journal does not
// have.
type Inspected interface {
	Reader
	// Lenient is a Reader of the same moment that reads on where a row is not what was written, and tells of it.
	Lenient(tell func(kind Kind, row string)) Reader
	// Listed are the keys of the records that are to be there, of kinds that the journal does not have, with the
	// parts of each ID joined by U+001F.
	Listed() (map[Key]bool, error)
}

// replayed is what the journal says of a record: the hash of what it is, and the entry that says so.
type replayed struct {
	is   [sha256.Size]byte
	gone bool
	sum  string
	seq  int64
}

// Prove walks the journal, and holds each record against what the journal says that it must be. A record that the
// journal does not have is held against the list of those. What the journal knows of people by hashes alone is proven
// by those; which field differs is not known then.
// head is the hash of an entry that was kept elsewhere, which must be in the journal; "" is none.
func (v View) Prove(head string) (*Proof, error) {
	p := &prover{Proof: &Proof{Breaks: []Break{}, Differs: []Differs{}}, all: map[Key]*replayed{}, want: head,
		damaged: map[Key]bool{}}
	if in, ok := v.Reader.(Inspected); ok {
		v = View{in.Lenient(func(kind Kind, row string) { p.damaged[Key{kind, row}] = true })}
		p.listed = in.Listed
	}
	p.View = v
	var err error
	if p.key, err = v.Value(SettingPeople); err != nil {
		return nil, err
	}
	if p.Head, err = v.Value(SettingHead); err != nil {
		return nil, err
	}
	if err := p.replay(); err != nil {
		return nil, err
	}
	for _, k := range Kinds() {
		if err := p.kind(k); err != nil {
			return nil, err
		}
	}
	if err := p.rest(); err != nil {
		return nil, err
	}
	if err := p.census(); err != nil {
		return nil, err
	}
	p.sums()
	slices.SortStableFunc(p.Differs, func(a, b Differs) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.ID, b.ID))
	})
	return p.Proof, nil
}

type prover struct {
	*Proof
	View
	key     string
	all     map[Key]*replayed
	old     bool         // there are entries that kept no records
	want    string       // the hash of an entry that must be there
	has     bool         // it is
	damaged map[Key]bool // rows whose sum does not fit them, by their first columns
	listed  func() (map[Key]bool, error)
}

func (p *prover) found(d Differs) {
	if d.Fields == nil {
		d.Fields = []string{}
	}
	p.Differs = append(p.Differs, d)
}

// replay walks the journal, and gathers what it says of each record.
func (p *prover) replay() error {
	var err error
	p.Entries, p.Breaks, err = verify(func(yield func(Entry, error) bool) {
		for e, err := range p.View.Entries(Filter{Whole: true}) {
			if err == nil {
				err = p.entry(&e)
			}
			if !yield(e, err) {
				return
			}
		}
	}, p.Head)
	if p.Breaks == nil {
		p.Breaks = []Break{}
	}
	if p.Head == "" && p.Entries > 0 {
		p.Breaks = append(p.Breaks, Break{int64(p.Entries), "where it ends is not in the ledger any more"})
	}
	if p.want != "" && !p.has {
		p.Missing = p.want
	}
	return err
}

func (p *prover) entry(e *Entry) error {
	p.has = p.has || e.Hash == p.want
	if len(e.Records) == 0 {
		p.old = true
		return nil
	}
	var list []Recorded
	if json.Unmarshal(e.Records, &list) != nil {
		return nil // its hash does not fit, and is told
	}
	for _, r := range list {
		x := p.all[Key{r.Kind, r.ID}]
		if x == nil {
			x = &replayed{}
			p.all[Key{r.Kind, r.ID}] = x
		}
		*x = replayed{is: sha256.Sum256(r.After), gone: r.After == nil, sum: r.Sum, seq: e.Seq}
	}
	return nil
}

// kind holds the records of a kind against what is said of them.
func (p *prover) kind(k Kind) error {
	var listed map[Key]bool
	if !k.Journaled() {
		if p.listed == nil {
			return nil
		}
		var err error
		if listed, err = p.listed(); err != nil {
			return err
		}
	}
	for r, err := range p.Find(Query{Kind: k}) {
		if err != nil {
			return err
		}
		if k.documented() {
			if _, err := p.Document(r.Key()); err != nil && !errors.Is(err, ErrNotFound) {
				return err
			}
		}
		if k.Journaled() {
			if err := p.record(r); err != nil {
				return err
			}
			continue
		}
		p.Records++
		name := Key{k, strings.Join(r.Key().Parts(), "\x1f")}
		if !listed[name] {
			p.found(Differs{Kind: k, ID: shown(r.Key()), What: Added})
		}
		delete(listed, name)
	}
	for name := range listed {
		if name.Kind == k {
			p.found(Differs{Kind: k, ID: strings.ReplaceAll(name.ID, "\x1f", " "), What: Gone})
		}
	}
	return nil
}

func shown(k Key) string { return strings.Join(k.Parts(), " ") }

// provenSetting reports whether the journal has a setting. The others are readings.
func provenSetting(name string) bool {
	return slices.Contains([]string{SettingOrg, SettingSeal, SettingMade, SettingPeople, SettingRestored}, name)
}

// record holds a record against the journal.
func (p *prover) record(r Record) error {
	k := r.Key()
	if s, ok := r.(*Setting); ok && !provenSetting(s.Name) {
		return nil
	}
	x, err := recordedOf(Change{Key: k, After: r}, p.key)
	if err != nil {
		return err
	}
	name := Key{k.Kind, x.ID}
	was := p.all[name]
	delete(p.all, name)
	switch {
	case was == nil && p.old:
		p.Unproven++
		return nil
	case was == nil || was.gone:
		p.found(Differs{Kind: k.Kind, ID: shown(k), What: Added})
		return nil
	}
	p.Records++
	if was.is == sha256.Sum256(x.After) {
		if was.sum != "" && was.sum != x.Sum {
			p.found(Differs{Kind: k.Kind, ID: shown(k), What: Altered, Entry: was.seq})
		}
		return nil
	}
	if k.Kind.Personal() {
		p.found(Differs{Kind: k.Kind, ID: shown(k), What: Altered, Entry: was.seq})
		return nil
	}
	fields, err := p.differing(name, was.seq, x.After)
	if err == nil && len(fields) > 0 {
		p.found(Differs{Kind: k.Kind, ID: shown(k), What: Altered, Fields: fields, Entry: was.seq})
	}
	return err
}

// differing names the fields in which a record differs from what an entry says of it. A record that an older version
// wrote with other words is the same when it is written anew.
func (p *prover) differing(k Key, seq int64, is json.RawMessage) ([]string, error) {
	var said json.RawMessage
	for e, err := range p.View.Entries(Filter{After: seq - 1, Whole: true}) {
		if err != nil {
			return nil, err
		}
		var list []Recorded
		if err := json.Unmarshal(e.Records, &list); err != nil {
			return nil, err
		}
		for _, r := range list {
			if r.Kind == k.Kind && r.ID == k.ID {
				said = r.After
			}
		}
		break
	}
	r, err := Decode(k.Kind, said)
	if err == nil {
		if anew, err := Encode(recorded(r)); err == nil {
			said = anew
		}
	}
	if bytes.Equal(said, is) {
		return nil, nil
	}
	var a, b map[string]json.RawMessage
	if json.Unmarshal(said, &a) != nil || json.Unmarshal(is, &b) != nil {
		return []string{"all of it"}, nil
	}
	return fieldsOf("", a, b), nil
}

// fieldsOf names the members in which two objects differ; those of the record itself without its own name.
func fieldsOf(in string, a, b map[string]json.RawMessage) (out []string) {
	names := map[string]bool{}
	for n := range a {
		names[n] = true
	}
	for n := range b {
		names[n] = true
	}
	for _, n := range slices.Sorted(maps.Keys(names)) {
		if bytes.Equal(a[n], b[n]) {
			continue
		}
		var x, y map[string]json.RawMessage
		if json.Unmarshal(a[n], &x) == nil && json.Unmarshal(b[n], &y) == nil && x != nil && y != nil &&
			strings.Count(in,
				".") < 2 {
			out = append(out, fieldsOf(in+n+".", x, y)...)
			continue
		}
		out = append(out, in+n)
	}
	return out
}

// census holds what was counted of the people against them.
func (p *prover) census() error {
	said, err := p.View.Census()
	if err != nil {
		return err
	}
	is := people.CensusOf(nil)
	for x, err := range p.View.EachPerson() {
		if err != nil {
			return err
		}
		is.Count(&x, 1)
	}
	if said.People != is.People || !maps.Equal(said.Groups, is.Groups) || !maps.Equal(said.Attributes, is.Attributes) {
		p.found(Differs{Kind: "tallies", ID: "how many people are in each group, and have each attribute",
			What: Altered})
	}
	return nil
}

// sums tells of the rows whose sum does not fit them, where nothing else was said of their record.
func (p *prover) sums() {
	for k := range p.damaged {
		first, _, _ := strings.Cut(k.ID, " ")
		if slices.ContainsFunc(p.Differs, func(d Differs) bool {
			return d.Kind == k.Kind && (d.ID == k.ID || strings.HasPrefix(d.ID, first+" ") || d.ID == first)
		}) || slices.ContainsFunc(p.Breaks, func(b Break) bool {
			return k.Kind == "journal" && strconv.FormatInt(b.Seq, 10) == first
		}) {
			continue
		}
		p.found(Differs{Kind: k.Kind, ID: k.ID, What: Damaged})
	}
}

// rest tells of the records that the journal has and that are not there, and of what is listed and is no record.
func (p *prover) rest() error {
	if p.listed != nil {
		listed, err := p.listed()
		if err != nil {
			return err
		}
		for k := range listed {
			if blank(k.Kind) == nil || k.Kind.Journaled() {
				p.found(Differs{Kind: k.Kind, ID: strings.ReplaceAll(k.ID, "\x1f", " "), What: Gone})
			}
		}
	}
	for k, was := range p.all {
		if was.gone {
			continue
		}
		id := shown(k)
		if k.Kind.Personal() {
			id = fmt.Sprintf("somebody whom the journal knows as %s", k.ID)
		}
		p.found(Differs{Kind: k.Kind, ID: id, What: Gone, Entry: was.seq})
	}
	return nil
}

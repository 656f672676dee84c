package model

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"

	"tressik.example/internal/core/federation"
)

// Recorded is one record of a change as the journal keeps it. A record about a person stands there by keyed hashes: its
// ID and what it was and became.
type Recorded struct {
	Kind   Kind            `json:"kind"`
	ID     string          `json:"id"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
	// Sum is a keyed hash of the whole record, where After leaves something out: a secret's hash, a sealed key.
	Sum string `json:"sum,omitempty"`
}

// Recording writes changes as the journal keeps them. A record in which only something that was seen is different,
// such as when a secret was used, is not among them.
func Recording(list []Change, peopleKey string) (json.RawMessage, error) {
	out := []Recorded{}
	for _, c := range list {
		r, err := recordedOf(c, peopleKey)
		if err != nil {
			return nil, err
		}
		before, err := wholeSum(c.Before, peopleKey)
		if err != nil {
			return nil, err
		}
		if r.Before == nil || !bytes.Equal(r.Before, r.After) || before != r.Sum {
			out = append(out, r)
		}
	}
	return json.Marshal(out)
}

func recordedOf(c Change, peopleKey string) (r Recorded, err error) {
	r = Recorded{Kind: c.Key.Kind, ID: c.Key.ID}
	if r.Kind.Personal() {
		r.ID = keyed(peopleKey, []byte(c.Key.ID))
	}
	if r.Before, err = recordedDoc(c.Before, peopleKey); err != nil {
		return r, err
	}
	if r.After, err = recordedDoc(c.After, peopleKey); err != nil {
		return r, err
	}
	r.Sum, err = wholeSum(c.After, peopleKey)
	return r, err
}

// wholeSum is a keyed hash of a record of which the journal does not keep all; "" for others. When a secret was used is
// not in it: that is a reading.
func wholeSum(r Record, peopleKey string) (string, error) {
	switch x := r.(type) {
	case *Secret:
		c := *x
		c.Secret.Used = nil
		r = &c
	case *OwnKey:
	case *Trust:
		if x == nil || !salted(&x.Trust) {
			return "", nil
		}
		b, err := json.Marshal([]any{x.Trust.Subject, x.Trust.Rules})
		return keyed(peopleKey, b), err
	default:
		return "", nil
	}
	b, err := Encode(r)
	return keyed(peopleKey, b), err
}

func recordedDoc(r Record, peopleKey string) (json.RawMessage, error) {
	if r == nil {
		return nil, nil
	}
	if !r.Key().Kind.Personal() {
		return Encode(recorded(r))
	}
	b, err := Encode(r)
	if err != nil {
		return nil, err
	}
	return json.Marshal(keyed(peopleKey, b))
}

// keyed is a hash by which something is known again, by whoever has the key.
func keyed(key string, b []byte) string {
	m := hmac.New(sha256.New, []byte(key))
	m.Write(b)
	return hex.EncodeToString(m.Sum(nil)[:16])
}

// ErrBeforeRecords means that the journal does not keep what changed so long ago: its entries are of an older version.
var ErrBeforeRecords = errors.New("the journal does not say what changed before the ledger was migrated")

// step is what entries made of one record: what it was before the first of them and after the last.
type step struct {
	before, after json.RawMessage
	mine          []Recorded // the changes among them that somebody picked
}

// steps gathers what the entries behind a number made of each record.
func steps(v View, after int64, picked func(*Entry) bool) (map[Key]*step, error) {
	out := map[Key]*step{}
	for e, err := range v.Entries(Filter{After: after, Whole: true}) {
		if err != nil {
			return nil, err
		}
		if len(e.Records) == 0 {
			return nil, fmt.Errorf("entry %d: %w", e.Seq, ErrBeforeRecords)
		}
		var list []Recorded
		if err := json.Unmarshal(e.Records, &list); err != nil {
			return nil, fmt.Errorf("entry %d of the journal is damaged: %w", e.Seq, err)
		}
		mine := picked != nil && picked(&e)
		for _, r := range list {
			k := Key{r.Kind, r.ID}
			s := out[k]
			if s == nil {
				s = &step{before: r.Before}
				out[k] = s
			}
			if s.after = r.After; mine {
				s.mine = append(s.mine, r)
			}
		}
	}
	return out, nil
}

// Past returns the View of an earlier moment: after the entry of a number. What was known of a person then is
// ErrForgotten, unless it is what is known now. Readings are those of now. Errors: ErrBeforeRecords.
func Past(v View, seq int64) (View, error) {
	all, err := steps(v, seq, nil)
	if err != nil {
		return View{}, err
	}
	key, err := v.Value(SettingPeople)
	if err != nil {
		return View{}, err
	}
	o := newOverlay(v.Reader)
	p := &past{overlay: o, key: key, seq: seq, was: map[Key]json.RawMessage{}}
	for k, s := range all {
		if k.Kind.Personal() {
			p.was[k] = s.before
			continue
		}
		c := Change{Key: k}
		if c.Before, err = v.Get(k); errors.Is(err, ErrNotFound) {
			c.Before = nil
		} else if err != nil {
			return View{}, err
		}
		if s.before != nil {
			if c.After, err = Decode(k.Kind, s.before); err != nil {
				return View{}, err
			}
			whole(c) // a rule whose salt is not known any more cannot be worked out, and is no rule with another salt
		}
		o.lay(c)
	}
	return View{p}, nil
}

// past is a Reader of an earlier moment: an overlay of now with what the journal says that was, and of people what can
// be known by their hashes.
type past struct {
	*overlay
	key string
	seq int64
	was map[Key]json.RawMessage // of kinds that are about people, by hashed ID: the hash of what was, nil for nothing
}

// then is what a record about a person was then, as it is now; nil where there was none. Errors: ErrForgotten.
func (p *past) then(k Key, now Record) (Record, error) {
	hash, changed := p.was[Key{k.Kind, keyed(p.key, []byte(k.ID))}]
	if !changed {
		return now, nil
	}
	if hash == nil {
		return nil, nil
	}
	if now != nil {
		is, err := recordedDoc(now, p.key)
		if err != nil {
			return nil, err
		}
		if bytes.Equal(is, hash) {
			return now, nil
		}
	}
	return nil, ErrForgotten
}

func (p *past) Get(k Key) (Record, error) {
	if !k.Kind.Personal() {
		return p.overlay.Get(k)
	}
	now, err := p.base.Get(k)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	if err != nil {
		now = nil
	}
	r, err := p.then(k, now)
	if err == nil && r == nil {
		err = ErrNotFound
	}
	return r, err
}

func (p *past) Find(q Query) iter.Seq2[Record, error] {
	if !q.Kind.Personal() {
		return p.overlay.Find(q)
	}
	return func(yield func(Record, error) bool) {
		left := map[Key]bool{}
		for k, hash := range p.was {
			if k.Kind == q.Kind && hash != nil {
				left[k] = true
			}
		}
		for now, err := range p.base.Find(Query{Kind: q.Kind, Newest: q.Newest}) {
			var r Record
			if err == nil {
				delete(left, Key{q.Kind, keyed(p.key, []byte(now.Key().ID))})
				r, err = p.then(now.Key(), now)
			}
			if err != nil {
				yield(nil, err)
				return
			}
			if q.shows(r) && !yield(r, nil) {
				return
			}
		}
		if len(left) > 0 { // somebody who is not in the ledger any more
			yield(nil, ErrForgotten)
		}
	}
}

func (p *past) Names(q Query) iter.Seq2[string, error] {
	if !q.Kind.Personal() {
		return p.overlay.Names(q)
	}
	return namesOf(p.Find(q))
}

func (p *past) Entries(f Filter) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		bare := f
		bare.Last = 0
		var all []Entry
		for e, err := range p.base.Entries(bare) {
			if err != nil {
				yield(e, err)
				return
			}
			if e.Seq <= p.seq {
				all = append(all, e)
			}
		}
		f.give(all, yield)
	}
}

// Stays is a record that Back leaves as it is, and why.
type Stays struct {
	Key Key    `json:"record"`
	Why string `json:"why"`
}

// Back returns the Changes that take back what picked entries behind a number did, and nothing that others did since.
// Where somebody else changed the same record later, the fields that only the picked entries changed go back, and
// theirs stay. What is about people, and keys and secrets that were taken away, cannot be brought back; they are
// told. Errors: ErrBeforeRecords.
func Back(v View, after int64, picked func(*Entry) bool) (Changes, []Stays, error) {
	all, err := steps(v, after, picked)
	if err != nil {
		return Changes{}, nil, err
	}
	keys := slices.SortedFunc(maps.Keys(all), func(a, b Key) int {
		return bytes.Compare([]byte(joined(string(a.Kind), a.ID)), []byte(joined(string(b.Kind), b.ID)))
	})
	var out Changes
	var stay []Stays
	for _, k := range keys {
		s := all[k]
		if len(s.mine) == 0 {
			continue
		}
		if k.Kind.Personal() {
			if !bytes.Equal(s.before, s.after) {
				stay = append(stay, Stays{k, "the journal does not keep what it was about a person"})
			}
			continue
		}
		c, why, err := back(v, k, s)
		switch {
		case err != nil:
			return Changes{}, nil, err
		case why != "":
			stay = append(stay, Stays{k, why})
		case !same(c.Before, c.After):
			out.Records = append(out.Records, c)
		}
	}
	return out, stay, nil
}

// back is the change that takes back what was done to one record; why says that it stays.
func back(v View, k Key, s *step) (c Change, why string, err error) {
	c = Change{Key: k}
	if c.Before, err = v.Get(k); errors.Is(err, ErrNotFound) {
		c.Before = nil
	} else if err != nil {
		return c, "", err
	}
	first, last := s.mine[0].Before, s.mine[len(s.mine)-1].After
	sensitive := slices.Contains([]Kind{Secrets, Registrars, Registered, OwnKeys, Expectations}, k.Kind)
	switch {
	case first == nil && bytes.Equal(last, s.after): // it was made, and nobody changed it since
		return c, "", nil
	case first == nil:
		return c, "somebody else changed it since it was made", nil
	case sensitive:
		return c, "what it was is not kept in the journal whole", nil
	case c.Before == nil && last != nil:
		return c, "somebody else took it away since", nil
	case c.Before == nil: // it was taken away
		if c.After, err = Decode(k.Kind, first); err == nil && !whole(c) {
			return c, lostSalt, nil
		}
		return c, "", err
	case last == nil:
		return c, "somebody else made it anew since it was taken away", nil
	}
	is := c.Before
	if t, ok := is.(*Trust); ok { // compared as the journal has it
		x := *t
		x.Trust = *withoutSalts(&t.Trust)
		is = &x
	}
	doc, err := Encode(is)
	if err != nil {
		return c, "", err
	}
	for _, r := range slices.Backward(s.mine) {
		if doc, err = unmade(doc, r.Before, r.After); err != nil {
			return c, "", err
		}
	}
	if c.After, err = Decode(k.Kind, doc); err == nil && !whole(c) {
		return c, lostSalt, nil
	}
	return c, "", err
}

const lostSalt = "the journal does not keep the salt that a rule had"

// whole puts what the journal leaves out of a record that it tells of back into it, out of the record as it is. It
// reports whether all of it is there.
func whole(c Change) bool {
	t, ok := c.After.(*Trust)
	if !ok {
		return true
	}
	var is *federation.Trust
	if now, there := c.Before.(*Trust); there {
		is = &now.Trust
	}
	return resalt(&t.Trust, is)
}

// unmade returns a document in which what changed from one to another is as it was in the first. Objects are taken
// apart; what differs from both was changed by somebody else, and stays. The count of versions goes on.
func unmade(now, was, became json.RawMessage) (json.RawMessage, error) {
	if bytes.Equal(was, became) {
		return now, nil
	}
	var n, w, b map[string]json.RawMessage
	if json.Unmarshal(now, &n) != nil || json.Unmarshal(was, &w) != nil || json.Unmarshal(became, &b) != nil ||
		n == nil || w == nil || b == nil {
		if bytes.Equal(now, became) {
			return was, nil
		}
		return now, nil
	}
	names := map[string]bool{}
	for name := range w {
		names[name] = true
	}
	for name := range b {
		names[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if name == "version" {
			continue
		}
		old, had := w[name]
		then, has := b[name]
		switch is, there := n[name]; {
		case had && has && there:
			m, err := unmade(is, old, then)
			if err != nil {
				return nil, err
			}
			n[name] = m
		case had && !has && !there:
			n[name] = old
		case !had && has && there && bytes.Equal(is, then):
			delete(n, name)
		}
	}
	return json.Marshal(n)
}

package model

import (
	"errors"
	"iter"
	"slices"
	"strings"
	"sync"
)

// overlay is a Reader of another one with changes on top.
type overlay struct {
	base    Reader
	kinds   map[Kind]*layer
	entries []Entry               // of the changes, numbered on from the base's
	after   func() (int64, error) // number of the last entry of the base
}

// layer is what changes made of the records of one kind.
type layer struct {
	over  map[string]*laid
	under map[Index]map[string]map[string]bool // by index and value, the IDs of what was put
	made  int
	last  int64
}

// laid is what the changes made of one record; a nil record is one that was taken away.
type laid struct {
	rec       Record
	was       Record // in the base; nil where it had none
	doc       []byte
	ownsDoc   bool // doc counts, and not that of the base
	made      int  // its place among those that the base does not have; 0 for one that it has
	forgotten bool // it is not known what it was
}

// Overlay returns a View of what stands in another one once changes are made.
func Overlay(v View, c Changes) View {
	o := newOverlay(v.Reader)
	for _, x := range c.Records {
		o.lay(x)
	}
	for _, w := range c.Entries {
		o.entries = append(o.entries, w.entry())
	}
	return View{o}
}

func newOverlay(base Reader) *overlay {
	return &overlay{base: base, kinds: map[Kind]*layer{},
		after: sync.OnceValues(func() (int64, error) { return lastSeq(base) })}
}

// at returns what the changes made of a record; nil for one that they leave alone.
func (o *overlay) at(k Key) *laid {
	if l := o.kinds[k.Kind]; l != nil {
		return l.over[k.ID]
	}
	return nil
}

// lay puts a change on top of those that are there.
func (o *overlay) lay(c Change) {
	l := o.kinds[c.Key.Kind]
	if l == nil {
		l = &layer{over: map[string]*laid{}, under: map[Index]map[string]map[string]bool{}}
		o.kinds[c.Key.Kind] = l
	}
	x := l.over[c.Key.ID]
	if x == nil {
		x = &laid{was: c.Before}
		l.over[c.Key.ID] = x
		if c.Before == nil {
			l.made++
			x.made = l.made
		}
	}
	l.index(c.Key.ID, x.rec, false)
	x.rec, x.forgotten = c.After, c.Forgotten
	l.index(c.Key.ID, x.rec, true)
	if c.Document != nil {
		x.doc, x.ownsDoc = c.Document.Bytes, true
	} else if c.Before == nil {
		x.doc, x.ownsDoc = nil, true
	}
	l.last = max(l.last, numberOf(c.After))
}

// index notes under which values a record is found, or that it no longer is.
func (l *layer) index(id string, r Record, put bool) {
	if r == nil {
		return
	}
	for _, by := range Indexes() {
		for _, v := range r.Under(by) {
			values := l.under[by]
			if values == nil {
				values = map[string]map[string]bool{}
				l.under[by] = values
			}
			if values[v] == nil {
				values[v] = map[string]bool{}
			}
			if put {
				values[v][id] = true
			} else {
				delete(values[v], id)
			}
		}
	}
}

// found returns what was put and a query finds, in no order.
func (l *layer) found(q Query) []*laid {
	var out []*laid
	if q.By == Every {
		for _, x := range l.over {
			if x.forgotten || q.shows(x.rec) {
				out = append(out, x)
			}
		}
		return out
	}
	for id := range l.under[q.By][q.Value] {
		out = append(out, l.over[id])
	}
	return out
}

// numberOf is the number of a record of a kind whose records are counted.
func numberOf(r Record) int64 {
	switch x := r.(type) {
	case *Version:
		return x.Number
	case *OwnKey:
		return x.Number
	case *Expectation:
		return x.ID
	case *Run:
		return x.Number
	}
	return 0
}

func (o *overlay) Get(k Key) (Record, error) {
	x := o.at(k)
	switch {
	case x == nil:
		return o.base.Get(k)
	case x.forgotten:
		return nil, ErrForgotten
	case x.rec == nil:
		return nil, ErrNotFound
	}
	return clone(x.rec)
}

func (o *overlay) Document(k Key) ([]byte, error) {
	x := o.at(k)
	switch {
	case x == nil:
		return o.base.Document(k)
	case x.rec == nil:
		return nil, ErrNotFound
	case x.ownsDoc:
		return slices.Clone(x.doc), nil
	}
	return o.base.Document(k)
}

func (o *overlay) Last(k Kind) (int64, error) {
	n, err := o.base.Last(k)
	if l := o.kinds[k]; l != nil {
		n = max(n, l.last)
	}
	return n, err
}

// shows reports whether a query finds a record that the changes put.
func (q Query) shows(r Record) bool {
	return r != nil && strings.HasPrefix(r.Key().ID, q.Begins) && (q.By == Every || slices.Contains(r.Under(q.By),
		q.Value))
}

func (o *overlay) Find(q Query) iter.Seq2[Record, error] {
	l := o.kinds[q.Kind]
	if l == nil {
		return o.base.Find(q)
	}
	return func(yield func(Record, error) bool) {
		if q.Kind.numbered() {
			o.asMade(l, q, yield)
			return
		}
		o.byName(l, q, yield)
	}
}

// stands returns what stands now in the place of a record of the base; nil where it is gone, or is found no more.
func (l *layer) stands(q Query, r Record) (Record, error) {
	x := l.over[r.Key().ID]
	switch {
	case x == nil:
		return r, nil
	case x.forgotten:
		return nil, ErrForgotten
	case !q.shows(x.rec):
		return nil, nil
	}
	return clone(x.rec)
}

// asMade goes through records in the order in which they were made: those of the base, then new ones. Records of such
// kinds never come to be found by another value than before.
func (o *overlay) asMade(l *layer, q Query, yield func(Record, error) bool) {
	fresh := func() bool {
		list := slices.DeleteFunc(l.found(q), func(x *laid) bool { return x.made == 0 })
		slices.SortFunc(list, func(a, b *laid) int {
			if q.Newest {
				return b.made - a.made
			}
			return a.made - b.made
		})
		for _, x := range list {
			if r, err := clone(x.rec); !yield(r, err) || err != nil {
				return false
			}
		}
		return true
	}
	if q.Newest && !fresh() {
		return
	}
	for r, err := range o.base.Find(q) {
		if err == nil {
			r, err = l.stands(q, r)
		}
		if err != nil {
			yield(nil, err)
			return
		}
		if r != nil && !yield(r, nil) {
			return
		}
	}
	if !q.Newest {
		fresh()
	}
}

// byName goes through records in the order of their names. A record of the base that is found now and was not before is
// among those that are merged in.
func (o *overlay) byName(l *layer, q Query, yield func(Record, error) bool) {
	var mine []Record
	for _, x := range l.found(q) {
		if x.forgotten {
			yield(nil, ErrForgotten)
			return
		}
		mine = append(mine, x.rec)
	}
	order := func(a, b string) int {
		if q.Newest {
			return strings.Compare(b, a)
		}
		return strings.Compare(a, b)
	}
	slices.SortFunc(mine, func(a, b Record) int { return order(a.Key().ID, b.Key().ID) })
	before := func(id string, all bool) bool {
		for len(mine) > 0 && (all || order(mine[0].Key().ID, id) < 0) {
			r, err := clone(mine[0])
			mine = mine[1:]
			if !yield(r, err) || err != nil {
				return false
			}
		}
		return true
	}
	for r, err := range o.base.Find(q) {
		if err != nil {
			yield(nil, err)
			return
		}
		if l.over[r.Key().ID] != nil {
			continue // it is among mine, or gone
		}
		if !before(r.Key().ID, false) || !yield(r, nil) {
			return
		}
	}
	before("", true)
}

func (o *overlay) Names(q Query) iter.Seq2[string, error] {
	if o.kinds[q.Kind] == nil {
		return o.base.Names(q)
	}
	return namesOf(o.Find(q))
}

// namesOf are the IDs of records.
func namesOf(records iter.Seq2[Record, error]) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for r, err := range records {
			if err != nil {
				yield("", err)
				return
			}
			if !yield(r.Key().ID, nil) {
				return
			}
		}
	}
}

func (o *overlay) Entries(f Filter) iter.Seq2[Entry, error] {
	if len(o.entries) == 0 {
		return o.base.Entries(f)
	}
	return func(yield func(Entry, error) bool) {
		bare := f
		bare.Last = 0
		var all []Entry
		for e, err := range o.base.Entries(bare) {
			if err != nil {
				yield(e, err)
				return
			}
			all = append(all, e)
		}
		seq, err := o.after()
		if err != nil {
			yield(Entry{}, err)
			return
		}
		for i, e := range o.entries {
			e.Seq = seq + int64(i) + 1
			if f.Picks(&e) {
				all = append(all, e)
			}
		}
		f.give(all, yield)
	}
}

// has reports whether a record stands.
func has(r Reader, k Key) (bool, error) {
	_, err := r.Get(k)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Empty returns the View of a ledger in which nothing stands.
func Empty() View { return View{empty{}} }

type empty struct{}

func (empty) Get(Key) (Record, error)      { return nil, ErrNotFound }
func (empty) Document(Key) ([]byte, error) { return nil, ErrNotFound }
func (empty) Last(Kind) (int64, error)     { return 0, nil }
func (empty) Find(Query) iter.Seq2[Record, error] {
	return func(func(Record, error) bool) {}
}
func (empty) Names(Query) iter.Seq2[string, error] {
	return func(func(string, error) bool) {}
}
func (empty) Entries(Filter) iter.Seq2[Entry, error] {
	return func(func(Entry, error) bool) {}
}

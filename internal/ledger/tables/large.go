package tables

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
)

// A change of very many records, such as a load of a hundred thousand people, is worked out while nobody waits for it:
// its rows are laid down in tables of the connection's own, which nobody else sees, and what the journal keeps of it is
// written out. Others wait for what is left, which the database does by itself: rows are copied from table to table.
// Until then somebody may have changed the ledger. Where that concerns nothing that the change rests on, it is made as
// it was worked out; otherwise it is worked out anew while others wait, as any change is that was overtaken.

// Transact runs a function in a transaction, and keeps what it wrote where it says so. With locked nobody else can have
// written since the moment that the function sees.
type Transact func(locked bool, f func(*Reader) (keep bool, err error)) error

// Writer makes the changes of use cases on one connection of an engine.
type Writer struct {
	Transact Transact
	// Aside runs a function on a Reader whose writing concerns tables of the connection's own alone.
	Aside func(f func(*Reader) error) error
	// Overtaken reports whether an error of Transact says that somebody else wrote first.
	Overtaken func(error) bool
}

// Update makes the changes that a function wants.
func (w Writer) Update(f func(model.View) (model.Changes, error)) error {
	var x *large
	try := func(r *Reader, lay bool) (bool, error) {
		c, err := f(model.View{Reader: r})
		if err != nil || c.Empty() {
			return false, err
		}
		if lay && c.Large() {
			x, err = r.enlarge(c)
			return false, err
		}
		return true, r.Write(c)
	}
	plain := func(r *Reader) (bool, error) { return try(r, false) }
	err := w.Transact(false, func(r *Reader) (bool, error) { return try(r, true) })
	if err == nil && x != nil {
		return w.large(x, plain)
	}
	if w.Overtaken(err) {
		err = w.Transact(true, plain)
	}
	return err
}

// large makes a change out of what was laid down for it; in the ordinary way where nothing can be laid down.
func (w Writer) large(x *large, plain func(r *Reader) (bool, error)) error {
	err := w.Aside(x.lay)
	switch {
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return err
	case err != nil:
		return w.Transact(true, plain)
	}
	err = w.Transact(true, func(r *Reader) (bool, error) {
		same, err := x.holds(r)
		if err != nil {
			return false, err
		}
		if !same {
			return plain(r)
		}
		return true, x.put(r)
	})
	_ = w.Aside(x.clear) // it is the connection's own, and goes with it at the latest
	return err
}

// large is a change of many records that was worked out.
type large struct {
	changes model.Changes
	seq     int64         // the newest entry of the moment that it was worked out on
	entries []model.Entry // as they follow on that one
	tally   people.Census
	laid    map[*rows]*laid
	rest    []model.Change // what is not laid down: it is written one by one
}

// laid are the rows of one table that are to be put and taken away.
type laid struct {
	put  [][]any
	gone []any
	less bool // some are taken away
	over bool // some may be put over others that are there
}

// enlarge works out what a change puts where.
func (r *Reader) enlarge(c model.Changes) (*large, error) {
	x := &large{changes: c, tally: people.CensusOf(nil), laid: map[*rows]*laid{}}
	var err error
	if x.seq, err = (model.View{Reader: r}).LastSeq(); err != nil {
		return nil, err
	}
	key, err := r.peopleKey(c)
	if err == nil {
		err = x.changes.Record(key)
	}
	if err == nil {
		x.entries, err = r.follow(x.changes)
	}
	if err != nil {
		return nil, err
	}
	last := map[model.Key]int{} // a row is put or taken away once
	for i := range c.Records {
		last[c.Records[i].Key] = i
	}
	tables := map[model.Kind]*rows{}
	for i, ch := range c.Records {
		counts(&x.tally, ch)
		if !ch.Key.Kind.Crowded() {
			x.rest = append(x.rest, ch)
			continue
		}
		t := tables[ch.Key.Kind]
		if t == nil {
			of, err := tableOf(ch.Key.Kind)
			if err != nil {
				return nil, err
			}
			t = of.(*rows)
			tables[ch.Key.Kind] = t
		}
		l := x.laid[t]
		if l == nil {
			l = &laid{}
			x.laid[t] = l
		}
		if l.over = l.over || ch.Before != nil; last[ch.Key] != i {
			continue
		}
		if ch.After == nil {
			l.gone, l.less = append(l.gone, t.parts(ch.Key)[0]), true
			continue
		}
		values, err := t.values(ch.After)
		if err != nil {
			return nil, err
		}
		l.put = append(l.put, append(values, sumOf(t.table, values)))
	}
	return x, nil
}

// tables are those in which something is laid down, in a fixed order.
func (x *large) tables() []*rows {
	var out []*rows
	for t := range x.laid {
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b *rows) int { return strings.Compare(a.table, b.table) })
	return out
}

// lay lays the rows down.
func (x *large) lay(r *Reader) error {
	n := 0
	for _, t := range x.tables() {
		columns := t.columns + ", sum"
		for _, q := range []string{
			"DROP TABLE IF EXISTS coming_" + t.table, "DROP TABLE IF EXISTS going_" + t.table,
			"CREATE TEMPORARY TABLE coming_" + t.table + " AS SELECT " + columns + " FROM " + t.table + " WHERE false",
			"CREATE TEMPORARY TABLE going_" + t.table + " (k TEXT)"} {
			if err := r.c.Exec(q); err != nil {
				return err
			}
		}
		if err := r.c.Flush(); err != nil { // they must be there before anything is prepared that uses them
			return err
		}
		insert := "INSERT INTO coming_" + t.table + " (" + columns + ") VALUES (?" +
			strings.Repeat(", ?", strings.Count(columns, ",")) + ")"
		for _, values := range byKey(x.laid[t].put) {
			if err := r.c.Exec(insert, values...); err != nil {
				return err
			}
			if n++; n%256 == 0 && x.changes.Told != nil {
				x.changes.Told(n)
			}
		}
		for _, k := range x.laid[t].gone {
			if err := r.c.Exec("INSERT INTO going_"+t.table+" (k) VALUES (?)", k); err != nil {
				return err
			}
		}
		x.laid[t].put, x.laid[t].gone = nil, nil
	}
	for _, q := range []string{"DROP TABLE IF EXISTS coming_journal",
		"CREATE TEMPORARY TABLE coming_journal (n INTEGER PRIMARY KEY, records TEXT)"} {
		if err := r.c.Exec(q); err != nil {
			return err
		}
	}
	if err := r.c.Flush(); err != nil {
		return err
	}
	for i := range x.entries {
		if err := r.c.Exec("INSERT INTO coming_journal (n, records) VALUES (?, ?)", int64(i),
			string(x.entries[i].Records)); err != nil {
			return err
		}
	}
	return r.c.Flush()
}

// byKey is rows in the order of their first column, letter case not counting: what comes in order is put at the end
// of an index, and not into all of its pages, while others wait.
func byKey(list [][]any) iter.Seq2[int, []any] {
	keys, order := make([]string, len(list)), make([]int, len(list))
	for i, values := range list {
		keys[i], order[i] = model.Folded(textOf(values[0])), i
	}
	slices.SortFunc(order, func(a, b int) int { return strings.Compare(keys[a], keys[b]) })
	return func(yield func(int, []any) bool) {
		for i, at := range order {
			if !yield(i, list[at]) {
				return
			}
		}
	}
}

// holds reports whether the changes are still what they would be if they were worked out now.
func (x *large) holds(r *Reader) (bool, error) {
	t, err := model.View{Reader: r}.Touched(x.seq)
	switch {
	case errors.Is(err, model.ErrBeforeRecords):
		return false, nil
	case err != nil || t.Seq == x.seq:
		return err == nil, err
	}
	kinds, known := x.changes.Rests()
	return known && t.Seq > x.seq && !t.Any(kinds...), nil
}

// put makes the changes out of what is laid down.
func (x *large) put(r *Reader) error {
	seq, err := model.View{Reader: r}.LastSeq()
	if err == nil && seq != x.seq { // others wrote meanwhile, nothing that matters here
		x.entries, err = r.follow(x.changes)
	}
	if err != nil {
		return err
	}
	for _, t := range x.tables() {
		if x.laid[t].less {
			one := strings.NewReplacer("p.", "", " = ?", "").Replace(t.key)
			if err := r.c.Exec("DELETE FROM " + t.table + " WHERE " + one + " IN (SELECT k FROM going_" + t.table +
				")"); err != nil {
				return err
			}
		}
		columns := t.columns + ", sum"
		given := "SELECT " + columns + " FROM coming_" + t.table + " WHERE true"
		query := "INSERT INTO " + t.table + " (" + columns + ") " + given
		if x.laid[t].over {
			query = upserting(t.table, t.onto(), columns, given)
		}
		if err := r.c.Exec(query); err != nil {
			return fmt.Errorf("keeping what is laid down for %s: %w", t.table, r.constrained(err))
		}
	}
	for _, c := range x.rest {
		if err := r.record(c, &people.Census{}); err != nil {
			return err
		}
	}
	return r.close(&x.tally, x.changes, func() error {
		return r.append(x.entries, func(i int, e model.Entry) error {
			values := entryValues(e)
			return r.c.Exec("INSERT INTO journal ("+entryColumns+", sum, records) SELECT ?, ?, ?, ?, ?, ?, ?, ?, "+
				"?, ?, ?, "+
				"records FROM coming_journal WHERE n = ?", append(values, sumOf("journal", values), int64(i))...)
		})
	})
}

// clear takes away what was laid down.
func (x *large) clear(r *Reader) error {
	for _, t := range x.tables() {
		for _, of := range []string{"coming_", "going_"} {
			if err := r.c.Exec("DROP TABLE IF EXISTS " + of + t.table); err != nil {
				return err
			}
		}
	}
	if err := r.c.Exec("DROP TABLE IF EXISTS coming_journal"); err != nil {
		return err
	}
	return r.c.Flush()
}

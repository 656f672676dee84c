package tables

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
)

// A change is worked out on a moment of the ledger while nobody waits for it, and what it asked about is noted. Where
// somebody else writes first, and that touches nothing of what it asked about or writes, it is made as it was worked
// out; otherwise it is worked out anew.
//
// A change of very many records, such as a load of a hundred thousand people or a new key of a party of ten thousand
// trusts, has others wait for as little as can be: its rows are laid down in tables of the connection's own, which
// nobody else sees, and what the journal keeps of it is written out. What is left the database does by itself: rows are
// copied from table to table, beside the changes of others where the engine can do that, so that they wait for the
// journal alone. It is worked out while others wait only where it was overtaken again and again.

// Transact runs a function in a transaction, and keeps what it wrote where it says so. With locked nobody else can have
// written since the moment that the function sees.
type Transact func(locked bool, f func(*Reader) (keep bool, err error)) error

// Writer makes the changes of use cases on one connection of an engine.
type Writer struct {
	Transact Transact
	// Aside runs a function on a Reader whose writing concerns tables of the connection's own alone.
	Aside func(f func(*Reader) error) error
	// Ahead runs two functions in one transaction: the first beside whoever else writes, where nobody sees what it
	// writes, and f with all others locked out. clear is false where others stood in the way: nothing was kept. It is
	// nil for an engine on which one writes at a time.
	Ahead func(first func(*Reader) error, f func(*Reader) (keep bool, err error)) (clear bool, err error)
	// Overtaken reports whether an error of Transact says that somebody else wrote first.
	Overtaken func(error) bool
}

// patience is how often a large change is worked out before others have to wait for that.
const patience = 3

// Update makes the changes that a function wants.
func (w Writer) Update(f func(model.View) (model.Changes, error)) error {
	plain := func(r *Reader) (bool, error) {
		c, err := f(model.View{Reader: r})
		if err != nil || c.Empty() {
			return false, err
		}
		return true, r.Write(c)
	}
	for range patience {
		var x *made
		err := w.Transact(false, func(r *Reader) (bool, error) {
			var err error
			if x, err = workOut(r, f); err != nil || x.changes.Empty() {
				return false, err
			}
			if x.changes.Large() && x.tells() {
				return false, x.enlarge(r)
			}
			return true, r.Write(x.changes)
		})
		switch {
		case err == nil && x.laid != nil:
			if done, err := w.large(x); done || err != nil {
				return err
			}
			continue
		case !w.Overtaken(err):
			return err
		}
		return w.Transact(true, func(r *Reader) (bool, error) {
			if same, err := x.holds(r); err != nil || !same {
				return plain(r)
			}
			return true, r.Write(x.changes)
		})
	}
	return w.Transact(true, plain)
}

// large makes a change out of what was laid down for it. done is false where it has to be worked out anew.
func (w Writer) large(x *made) (done bool, err error) {
	if err := w.Aside(x.lay); err != nil {
		if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
			return false, err
		}
		// nothing can be laid down here: it is written in the ordinary way
		err := w.Transact(true, func(r *Reader) (bool, error) {
			same, err := x.holds(r)
			if done = same; err != nil || !same {
				return false, err
			}
			return true, r.Write(x.changes)
		})
		return done, err
	}
	finish := func(with func(*Reader) error) func(*Reader) (bool, error) {
		return func(r *Reader) (bool, error) {
			same, err := x.holds(r)
			if done = same; err != nil || !same {
				return false, err
			}
			return true, with(r)
		}
	}
	clear := false
	if w.Ahead != nil {
		clear, err = w.Ahead(x.copy, finish(x.finish))
	}
	if !clear {
		err = w.Transact(true, finish(func(r *Reader) error {
			if err := x.copy(r); err != nil {
				return err
			}
			return x.finish(r)
		}))
	}
	_ = w.Aside(x.clear) // it is the connection's own, and goes with it at the latest
	return done, err
}

// made is a change that was worked out.
type made struct {
	changes model.Changes
	seq     int64               // the newest entry of the moment that it was worked out on
	asked   map[model.Kind]bool // kinds of record that it was asked about
	past    bool                // the journal was asked about

	// of a large one
	entries []model.Entry // as they follow on that one
	tally   people.Census
	laid    map[*rows]*laid
	rest    []model.Change // what is not laid down: it is written one by one
}

// workOut has a function say which changes it wants, and notes what it asks about.
func workOut(r *Reader, f func(model.View) (model.Changes, error)) (x *made, err error) {
	x = &made{asked: map[model.Kind]bool{}}
	if x.seq, err = r.NewestSeq(); err != nil {
		return nil, err
	}
	r.asks, r.looks = func(k model.Kind) { x.asked[k] = true }, func() { x.past = true }
	defer func() { r.asks, r.looks = nil, nil }()
	if x.changes, err = f(model.View{Reader: r}); err != nil {
		return nil, err
	}
	for i := range x.changes.Records {
		x.asked[x.changes.Records[i].Key.Kind] = true
	}
	return x, nil
}

// laid are the rows of one table that are to be put and taken away.
type laid struct {
	put  [][]any
	gone []any
	less bool // some are taken away
	over bool // some may be put over others that are there
}

// enlarge works out what a large change puts where.
func (x *made) enlarge(r *Reader) error {
	x.tally, x.laid = people.CensusOf(nil), map[*rows]*laid{}
	key, err := r.peopleKey(x.changes)
	if err == nil {
		err = x.changes.Record(key)
	}
	if err == nil {
		x.entries, err = r.follow(x.changes)
	}
	if err != nil {
		return err
	}
	last, single := map[model.Key]int{}, map[model.Key]bool{} // a row is put or taken away once
	stood := map[model.Key]bool{}                             // whether something may be there already
	for i := range x.changes.Records {
		ch := &x.changes.Records[i]
		last[ch.Key] = i
		single[ch.Key] = single[ch.Key] || !ch.Aside()
	}
	tables := map[model.Kind]*rows{}
	for i, ch := range x.changes.Records {
		counts(&x.tally, ch)
		if single[ch.Key] {
			x.rest = append(x.rest, ch)
			continue
		}
		t := tables[ch.Key.Kind]
		if t == nil {
			of, err := tableOf(ch.Key.Kind)
			if err != nil {
				return err
			}
			t = of.(*rows)
			tables[ch.Key.Kind] = t
		}
		l := x.laid[t]
		if l == nil {
			l = &laid{}
			x.laid[t] = l
		}
		stood[ch.Key] = stood[ch.Key] || ch.Before != nil
		if last[ch.Key] != i {
			continue
		}
		if ch.After == nil {
			l.gone, l.less = append(l.gone, t.parts(ch.Key)[0]), true
			continue
		}
		l.over = l.over || stood[ch.Key]
		values, err := t.values(ch.After)
		if err != nil {
			return err
		}
		l.put = append(l.put, append(values, sumOf(t.table, values)))
	}
	return nil
}

// tables are those in which something is laid down, in a fixed order.
func (x *made) tables() []*rows {
	var out []*rows
	for t := range x.laid {
		out = append(out, t)
	}
	slices.SortFunc(out, func(a, b *rows) int { return strings.Compare(a.table, b.table) })
	return out
}

// lay lays the rows down.
func (x *made) lay(r *Reader) error {
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
	for _, q := range []string{"DROP TABLE IF EXISTS coming_journal", "DROP TABLE IF EXISTS chained_journal",
		"CREATE TEMPORARY TABLE coming_journal (n INTEGER PRIMARY KEY, seq BIGINT, at TEXT, actor TEXT, action TEXT, " +
			"party TEXT, trust TEXT, before TEXT, after TEXT, prev TEXT, hash TEXT, sum BIGINT, records TEXT)",
		"CREATE TEMPORARY TABLE chained_journal (n INTEGER PRIMARY KEY, seq BIGINT, prev TEXT, hash TEXT, " +
			"sum BIGINT)"} {
		if err := r.c.Exec(q); err != nil {
			return err
		}
	}
	if err := r.c.Flush(); err != nil {
		return err
	}
	for i, e := range x.entries {
		values := entryValues(e)
		values = append(append([]any{int64(i)}, values...), sumOf("journal", values), string(e.Records))
		if err := r.c.Exec("INSERT INTO coming_journal (n, "+entryColumns+", sum, records) VALUES (?"+
			strings.Repeat(", ?", len(values)-1)+")", values...); err != nil {
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

// tells reports whether the journal says what becomes of all that was asked about.
func (x *made) tells() bool {
	for k := range x.asked {
		if !k.Journaled() {
			return false
		}
	}
	return true
}

// holds reports whether the change is still what it would be if it were worked out now.
func (x *made) holds(r *Reader) (bool, error) {
	if x == nil || !x.tells() {
		return false, nil
	}
	seq, err := r.NewestSeq()
	if err != nil || seq <= x.seq || x.past {
		return seq == x.seq, err
	}
	// to read what a load of many people touched takes longer than to work out nearly any change
	var much int64
	if err := r.c.Row("SELECT coalesce(sum(octet_length(records)), 0) FROM journal WHERE seq > ?",
		x.seq).Scan(&much); err != nil || much > 1<<20 {
		return false, err
	}
	t, err := model.View{Reader: r}.Touched(x.seq)
	if errors.Is(err, model.ErrBeforeRecords) {
		return false, nil
	}
	return err == nil && !t.Any(slices.Collect(maps.Keys(x.asked))...), err
}

// copy takes what is laid down into the tables.
func (x *made) copy(r *Reader) error {
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
	return nil
}

// finish makes the other changes, and has them all in the journal.
func (x *made) finish(r *Reader) error {
	seq, err := r.NewestSeq()
	if err == nil && seq != x.seq { // others wrote meanwhile, nothing that matters here
		x.entries, err = r.follow(x.changes)
	}
	if err != nil {
		return err
	}
	for _, c := range x.rest {
		if err := r.record(c, &people.Census{}); err != nil {
			return err
		}
	}
	return r.close(&x.tally, x.changes, func() error {
		if seq != x.seq {
			if err := x.chain(r); err != nil {
				return err
			}
		}
		if err := r.c.Exec("INSERT INTO journal (" + entryColumns + ", sum, records) SELECT " + entryColumns +
			", sum, records FROM coming_journal ORDER BY n"); err != nil {
			return err
		}
		return r.head(x.entries)
	})
}

// chain has the entries that are laid down follow on what others wrote: their places, and what hangs on those.
func (x *made) chain(r *Reader) error {
	for part := range slices.Chunk(x.entries, 100) {
		values := make([]any, 0, 5*len(part))
		for _, e := range part {
			values = append(values, e.Seq-x.entries[0].Seq, e.Seq, e.Prev, e.Hash, sumOf("journal", entryValues(e)))
		}
		if err := r.c.Exec("INSERT INTO chained_journal (n, seq, prev, hash, sum) VALUES "+
			strings.Repeat("(?, ?, ?, ?, ?), ", len(part)-1)+"(?, ?, ?, ?, ?)", values...); err != nil {
			return err
		}
	}
	return r.c.Exec("UPDATE coming_journal SET seq = c.seq, prev = c.prev, hash = c.hash, sum = c.sum " +
		"FROM chained_journal c WHERE c.n = coming_journal.n")
}

// clear takes away what was laid down.
func (x *made) clear(r *Reader) error {
	for _, t := range x.tables() {
		for _, of := range []string{"coming_", "going_"} {
			if err := r.c.Exec("DROP TABLE IF EXISTS " + of + t.table); err != nil {
				return err
			}
		}
	}
	for _, table := range []string{"coming_journal", "chained_journal"} {
		if err := r.c.Exec("DROP TABLE IF EXISTS " + table); err != nil {
			return err
		}
	}
	return r.c.Flush()
}

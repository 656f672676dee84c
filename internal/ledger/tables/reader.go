package tables

import (
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
)

// Conn is a connection, or a transaction on one, as an engine makes it. Its queries are written with a ? for each
// value, and nocase(c) for a column of which letter case does not count (ASCII alone, as model.Folded has it).
type Conn interface {
	// Rows asks a query. Others may be asked before its rows are closed.
	Rows(query string, args ...any) (Rows, error)
	// Row asks for one row. Scanning it returns sql.ErrNoRows where there is none.
	Row(query string, args ...any) Scanner
	// Exec writes. Its error may come with a later call, with Flush at the latest.
	Exec(query string, args ...any) error
	// Flush returns when all is written.
	Flush() error
	// Said turns an error of the driver into one of package ledger, where there is something to say.
	Said(error) error
	// Constrained reports whether an error says that a rule of the tables would be broken.
	Constrained(error) bool
}

// Rows are what a query found.
type Rows interface {
	Scanner
	Next() bool
	Err() error
	Close() error
}

// Scanner reads the columns of a row.
type Scanner interface{ Scan(...any) error }

// Reader answers what stands in the tables as a connection sees them. It is a model.Reader.
type Reader struct {
	c        Conn
	damaged  func(kind model.Kind, row string) // told of what is not what was written; nil makes an error of it
	unsealed bool                              // rows have no sums yet
	reads    func(table string, columns []any) // told of each row; nil where nobody wants to know
	asks     func(model.Kind)                  // told of each question about records of a kind; may be nil
	looks    func()                            // told of each question about the journal; may be nil
}

// asked tells of a question about records of a kind.
func (r *Reader) asked(k model.Kind) {
	if r.asks != nil {
		r.asks(k)
	}
}

// looked tells of a question about the journal.
func (r *Reader) looked() {
	if r.looks != nil {
		r.looks()
	}
}

// On is a Reader on a connection.
func On(c Conn) *Reader { return &Reader{c: c} }

func (r *Reader) notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return model.ErrNotFound
	}
	return r.c.Said(err)
}

// constrained says of a broken rule that something is there already: use cases look before they write, and this is
// behind them.
func (r *Reader) constrained(err error) error {
	if r.c.Constrained(err) {
		return fmt.Errorf("%w: %v", model.ErrExists, err)
	}
	return err
}

// Get returns a record. Errors: model.ErrNotFound.
func (r *Reader) Get(k model.Key) (model.Record, error) {
	r.asked(k.Kind)
	t, err := tableOf(k.Kind)
	if err != nil {
		return nil, err
	}
	return t.get(r, k)
}

// Find goes through the records that a query finds.
func (r *Reader) Find(q model.Query) iter.Seq2[model.Record, error] {
	return func(yield func(model.Record, error) bool) {
		r.asked(q.Kind)
		t, err := tableOf(q.Kind)
		if err != nil {
			yield(nil, err)
			return
		}
		t.find(r, q, yield)
	}
}

// Names goes through the names of the records that a query finds.
func (r *Reader) Names(q model.Query) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		r.asked(q.Kind)
		t, err := tableOf(q.Kind)
		if err != nil {
			yield("", err)
			return
		}
		if named, ok := t.(*rows); ok && named.name != "" {
			named.names(r, q, yield)
			return
		}
		t.find(r, q, func(x model.Record, err error) bool {
			if err != nil {
				return yield("", err)
			}
			return yield(x.Key().ID, nil)
		})
	}
}

// Count is how many records a query finds.
func (r *Reader) Count(q model.Query) (n int, err error) {
	r.asked(q.Kind)
	t, err := tableOf(q.Kind)
	if err != nil {
		return 0, err
	}
	if of, ok := t.(*rows); ok {
		where, args, _, err := of.where(q)
		if err != nil {
			return 0, err
		}
		from := of.table + " p"
		if where != "" {
			from += " WHERE " + where
		}
		err = r.c.Row("SELECT count(*) FROM "+from, args...).Scan(&n)
		return n, r.c.Said(err)
	}
	for _, err := range r.Names(q) {
		if err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}

// Document returns the bytes that lie beside a record. Errors: model.ErrNotFound.
func (r *Reader) Document(k model.Key) (doc []byte, err error) {
	r.asked(k.Kind)
	beside := ""
	switch k.Kind {
	case model.Parties:
		err = r.c.Row("SELECT raw, beside FROM parties WHERE name = ?", k.ID).Scan(&doc, &beside)
	case model.Versions:
		err = r.c.Row("SELECT raw, beside FROM versions WHERE id = ?", idOf(k)).Scan(&doc, &beside)
	}
	if err != nil {
		return nil, r.notFound(err)
	}
	if !r.unsealed && besideOf(k, doc) != beside {
		err = r.damage(&damagedError{string(k.Kind), "the metadata as it was received, of " + k.ID})
	}
	return doc, err
}

// Last is the highest number of a kind of records that are numbered.
func (r *Reader) Last(k model.Kind) (n int64, err error) {
	r.asked(k)
	table := map[model.Kind]string{model.OwnKeys: "keys", model.Versions: "versions",
		model.Expectations: "expectations", model.Runs: "runs"}[k]
	if table == "" {
		return 0, nil
	}
	err = r.c.Row("SELECT coalesce(max(id), 0) FROM " + table).Scan(&n)
	return n, r.c.Said(err)
}

// Entries goes through the entries of the journal that a filter picks, oldest first.
func (r *Reader) Entries(f model.Filter) iter.Seq2[model.Entry, error] {
	return func(yield func(model.Entry, error) bool) {
		r.looked()
		if f.Last > 0 {
			r.newest(f, yield)
			return
		}
		r.entries(f, "seq", yield)
	}
}

// NewestSeq is the number of the newest entry of the journal, 0 where there is none.
func (r *Reader) NewestSeq() (n int64, err error) {
	r.looked()
	err = r.c.Row("SELECT coalesce(max(seq), 0) FROM journal").Scan(&n)
	return n, err
}

// newest gives the last entries that a filter picks, oldest first.
func (r *Reader) newest(f model.Filter, yield func(model.Entry, error) bool) {
	var list []model.Entry
	var failed error
	r.entries(f, "seq DESC", func(e model.Entry, err error) bool {
		if err != nil {
			failed = err
			return false
		}
		list = append(list, e)
		return len(list) < f.Last
	})
	if failed != nil {
		yield(model.Entry{}, failed)
		return
	}
	for _, e := range slices.Backward(list) {
		if !yield(e, nil) {
			return
		}
	}
}

func (r *Reader) entries(f model.Filter, order string, yield func(model.Entry, error) bool) {
	records := "''"
	if f.Whole {
		records = "records"
	}
	q := "SELECT " + entryColumns + ", sum, " + records + " FROM journal WHERE seq > ?"
	args := []any{f.After}
	for _, c := range []struct{ col, v string }{{"party", f.Party}, {"trust", f.Trust}, {"actor", f.Actor}} {
		if c.v != "" {
			q += " AND " + c.col + " = ?"
			args = append(args, c.v)
		}
	}
	err := r.each("journal", q+" ORDER BY "+order, args, func(s Scanner) (bool, error) {
		var e model.Entry
		var before, after, records string
		var sum int64
		if err := s.Scan(&e.Seq, &e.Written, &e.Actor, &e.Action, &e.Party, &e.Trust, &before, &after, &e.Prev, &e.Hash,
			&sum, &records); err != nil {
			return false, err
		}
		e.Before, e.After, e.Records = text(before), text(after), text(records)
		if err := r.holds("journal", sum, entryValues(e)...); err != nil {
			return false, err
		}
		if f.Whole && r.damaged == nil && !r.unsealed && e.Hash != e.Digest() {
			return false, &damagedError{"journal", fmt.Sprintf("what entry %d keeps", e.Seq)}
		}
		e.At, _ = time.Parse(time.RFC3339Nano, e.Written)
		within := (f.Since.IsZero() || !e.At.Before(f.Since)) && (f.Until.IsZero() || e.At.Before(f.Until))
		return !within || yield(e, nil), nil
	})
	if err != nil {
		yield(model.Entry{}, err)
	}
}

// each asks a query of a table, and hands its rows to a function until that has enough. A row that cannot be read is an
// error; whoever looks for such rows is told of it, and it goes on.
func (r *Reader) each(table, query string, args []any, row func(Scanner) (more bool, err error)) error {
	list, err := r.c.Rows(query, args...)
	if err != nil {
		return r.c.Said(err)
	}
	defer list.Close()
	for list.Next() {
		switch more, err := row(list); {
		case err != nil && r.passes(table, err):
		case errors.Is(err, ledger.ErrDamaged):
			return err
		case err != nil:
			return &unreadableError{table, err}
		case !more:
			return nil
		}
	}
	return r.c.Said(list.Err())
}

// text is JSON out of a column; an empty one is nil.
func text(s string) []byte {
	if s == "" {
		return nil
	}
	return []byte(s)
}

// Write makes changes with their entries in the journal. The transaction is the caller's.
func (r *Reader) Write(c model.Changes) error {
	entries, err := r.follow(c) // before anything is written, from when on others wait
	if err != nil {
		return err
	}
	tally := people.CensusOf(nil)
	for i, x := range c.Records {
		if c.Told != nil && i%256 == 0 {
			c.Told(i)
		}
		if err := r.record(x, &tally); err != nil {
			return err
		}
	}
	return r.close(&tally, c, func() error {
		for _, e := range entries {
			if err := r.entry(e); err != nil {
				return err
			}
		}
		return r.head(entries)
	})
}

// close writes what stands at the end of changes.
func (r *Reader) close(tally *people.Census, c model.Changes, entries func() error) error {
	if err := r.tally(tally); err != nil {
		return err
	}
	if err := r.forget(c.Over); err != nil {
		return err
	}
	if err := entries(); err != nil {
		return err
	}
	return r.constrained(r.c.Flush())
}

// record makes the change of one record, and counts what it makes of people.
func (r *Reader) record(x model.Change, tally *people.Census) error {
	counts(tally, x)
	t, err := tableOf(x.Key.Kind)
	if err != nil {
		return err
	}
	if err := r.change(t, x); err != nil {
		return fmt.Errorf("keeping the %s %s: %w", x.Key.Kind, strings.Join(x.Key.Parts(), " "), r.constrained(err))
	}
	return nil
}

// change puts a record, or takes it away. What the journal does not have is listed: which records there are.
func (r *Reader) change(t table, x model.Change) error {
	if x.After == nil {
		if err := t.take(r, x.Key); err != nil || x.Key.Kind.Journaled() {
			return err
		}
		return r.c.Exec("DELETE FROM kept WHERE kind = ? AND id = ?", string(x.Key.Kind), listed(x.Key))
	}
	if err := t.put(r, x); err != nil || x.Key.Kind.Journaled() {
		return err
	}
	return r.list(x.Key)
}

// list notes that a record is there which the journal does not have.
func (r *Reader) list(k model.Key) error {
	return r.c.Exec("INSERT INTO kept (kind, id) VALUES (?, ?) ON CONFLICT DO NOTHING", string(k.Kind), listed(k))
}

// listed is the ID of a record as the list of those has it that the journal does not have.
func listed(k model.Key) string { return strings.Join(k.Parts(), "\x1f") }

// forget takes away what stages kept and what is over at a time.
func (r *Reader) forget(over time.Time) error {
	if over.IsZero() {
		return nil
	}
	var gone []model.Key
	var failed error
	stageKept{}.find(r, model.Query{Kind: model.StageKept}, func(x model.Record, err error) bool {
		if failed = err; err == nil && x.(*model.Kept).Until.Before(over) {
			gone = append(gone, x.Key())
		}
		return err == nil
	})
	for _, k := range gone {
		if err := r.change(stageKept{}, model.Change{Key: k}); err != nil {
			return err
		}
	}
	return failed
}

// Fill puts all of another ledger into tables that are empty, its journal as it stands there. The transaction is the
// caller's. Errors: ledger.ErrBroken.
func (r *Reader) Fill(s ledger.Source) error {
	tally := people.CensusOf(nil)
	for x, err := range s.Records() {
		if err != nil {
			return err
		}
		if err := r.record(x, &tally); err != nil {
			return err
		}
	}
	if err := r.tally(&tally); err != nil {
		return err
	}
	for e, err := range s.Entries() {
		if err != nil {
			return err
		}
		if err := r.entry(e); err != nil {
			return r.constrained(err)
		}
	}
	if err := r.c.Flush(); err != nil {
		return r.constrained(err)
	}
	_, breaks, err := model.View{Reader: r}.VerifyJournal()
	if err == nil && len(breaks) > 0 {
		err = fmt.Errorf("%w: entry %d: %s", ledger.ErrBroken, breaks[0].Seq, breaks[0].Reason)
	}
	return err
}

// follow are the entries of changes as they follow on the journal's last.
func (r *Reader) follow(c model.Changes) ([]model.Entry, error) {
	if len(c.Entries) == 0 {
		return nil, nil
	}
	var seq int64
	var prev string
	err := r.c.Row("SELECT seq, hash FROM journal ORDER BY seq DESC LIMIT 1").Scan(&seq, &prev)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	key, err := r.peopleKey(c)
	if err != nil {
		return nil, err
	}
	return c.Append(seq, prev, key)
}

// peopleKey is the ledger's model.SettingPeople, or what changes make it.
func (r *Reader) peopleKey(c model.Changes) (key string, err error) {
	err = r.c.Row("SELECT value FROM ledger WHERE key = ?", model.SettingPeople).Scan(&key)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return "", err
	}
	for _, x := range c.Records { // where the ledger is made
		if s, is := x.After.(*model.Setting); is && s.Name == model.SettingPeople {
			key = s.Value
		}
	}
	return key, nil
}

// head notes the last of the entries that were added to the journal as its head.
func (r *Reader) head(added []model.Entry) error {
	if len(added) == 0 {
		return nil
	}
	last := added[len(added)-1]
	return settings().put(r, model.Change{After: &model.Setting{Name: model.SettingHead,
		Value: model.Head(last.Seq, last.Hash)}})
}

// entry adds one entry to the journal, as it is.
func (r *Reader) entry(e model.Entry) error {
	values := entryValues(e)
	return r.c.Exec("INSERT INTO journal ("+entryColumns+", sum, records) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		append(values, sumOf("journal", values), string(e.Records))...)
}

// entryValues are the values of entryColumns.
func entryValues(e model.Entry) []any {
	return []any{e.Seq, e.Written, e.Actor, e.Action, e.Party, e.Trust, string(e.Before), string(e.After), e.Prev,
		e.Hash}
}

// entryColumns are those of the journal that its sum is over; the hash is over the records as well.
const entryColumns = "seq, at, actor, action, party, trust, before, after, prev, hash"

// stamp is a time as a column has it; a zero one is empty.
func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// moment reads what stamp wrote.
func moment(s string) time.Time {
	t, _ := time.Parse(time.RFC3339, s) // "" is the zero time
	return t
}

// pointed is moment for what may be missing.
func pointed(s string) *time.Time {
	if s == "" {
		return nil
	}
	t := moment(s)
	return &t
}

func stamped(t *time.Time) string {
	if t == nil {
		return ""
	}
	return stamp(*t)
}

func idOf(k model.Key) int64 {
	n, _ := strconv.ParseInt(k.ID, 10, 64) // 0 is no record's
	return n
}

package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/model"
)

// querier is a connection or a transaction.
type querier interface {
	QueryContext(context.Context, string, ...any) (*sql.Rows, error)
	QueryRowContext(context.Context, string, ...any) *sql.Row
	ExecContext(context.Context, string, ...any) (sql.Result, error)
}

// reader is what stands in the ledger as a transaction sees it.
type reader struct {
	ctx  context.Context // of the transaction: a View has one, and it ends with it
	q    querier
	made *statements // of a connection of its own; nil prepares each query by itself
}

// statements keeps the statements of a connection that were prepared, for queries that come again and again. It is for
// one transaction, and may be asked by several goroutines.
type statements struct {
	conn *sql.Conn
	mu   sync.Mutex
	all  map[string]*sql.Stmt
}

// on is a reader on a connection. Its end closes what was prepared.
func on(ctx context.Context, conn *sql.Conn) *reader {
	return &reader{ctx, conn, &statements{conn: conn, all: map[string]*sql.Stmt{}}}
}

func (r *reader) end() error {
	var errs []error
	for _, s := range r.made.all {
		errs = append(errs, s.Close())
	}
	return errors.Join(errs...)
}

// with does something with the prepared statement of a query. A statement is for one at a time: whoever asks at the
// same time waits.
func (r *reader) with(query string, f func(*sql.Stmt) error) error {
	r.made.mu.Lock()
	defer r.made.mu.Unlock()
	s := r.made.all[query]
	if s == nil {
		var err error
		if s, err = r.made.conn.PrepareContext(r.ctx, query); err != nil {
			return err
		}
		r.made.all[query] = s
	}
	return f(s)
}

// row reads one row.
func (r *reader) row(query string, args ...any) scanner {
	if r.made == nil {
		return r.q.QueryRowContext(r.ctx, query, args...)
	}
	return one(func(to ...any) error {
		return r.with(query, func(s *sql.Stmt) error { return s.QueryRowContext(r.ctx, args...).Scan(to...) })
	})
}

// exec writes.
func (r *reader) exec(query string, args ...any) error {
	if r.made == nil {
		_, err := r.q.ExecContext(r.ctx, query, args...)
		return err
	}
	return r.with(query, func(s *sql.Stmt) error {
		_, err := s.ExecContext(r.ctx, args...)
		return err
	})
}

// one is a row that is asked for when it is scanned.
type one func(to ...any) error

func (f one) Scan(to ...any) error { return f(to...) }

type scanner interface{ Scan(...any) error }

func notFound(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return model.ErrNotFound
	}
	return translated(err)
}

func (r *reader) Get(k model.Key) (model.Record, error) {
	t, err := tableOf(k.Kind)
	if err != nil {
		return nil, err
	}
	return t.get(r, k)
}

func (r *reader) Find(q model.Query) iter.Seq2[model.Record, error] {
	return func(yield func(model.Record, error) bool) {
		t, err := tableOf(q.Kind)
		if err != nil {
			yield(nil, err)
			return
		}
		t.find(r, q, yield)
	}
}

func (r *reader) Names(q model.Query) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
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

func (r *reader) Document(k model.Key) (doc []byte, err error) {
	switch k.Kind {
	case model.Parties:
		err = r.q.QueryRowContext(r.ctx, "SELECT raw FROM parties WHERE name = ?", k.ID).Scan(&doc)
	case model.Versions:
		err = r.q.QueryRowContext(r.ctx, "SELECT raw FROM versions WHERE id = ?", k.ID).Scan(&doc)
	}
	return doc, notFound(err)
}

func (r *reader) Last(k model.Kind) (n int64, err error) {
	table := map[model.Kind]string{model.OwnKeys: "keys", model.Versions: "versions",
		model.Expectations: "expectations", model.Runs: "runs"}[k]
	if table == "" {
		return 0, nil
	}
	err = r.q.QueryRowContext(r.ctx, "SELECT coalesce(max(id), 0) FROM "+table).Scan(&n)
	return n, translated(err)
}

func (r *reader) Entries(f model.Filter) iter.Seq2[model.Entry, error] {
	return func(yield func(model.Entry, error) bool) {
		if f.Last > 0 {
			r.newest(f, yield)
			return
		}
		r.entries(f, "seq", yield)
	}
}

// newest gives the last entries that a filter picks, oldest first.
func (r *reader) newest(f model.Filter, yield func(model.Entry, error) bool) {
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

func (r *reader) entries(f model.Filter, order string, yield func(model.Entry, error) bool) {
	records := "''"
	if f.Whole {
		records = "records"
	}
	q := "SELECT seq, at, actor, action, party, trust, before, after, prev, hash, " + records +
		" FROM journal WHERE seq > ?"
	args := []any{f.After}
	for _, c := range []struct{ col, v string }{{"party", f.Party}, {"trust", f.Trust}, {"actor", f.Actor}} {
		if c.v != "" {
			q += " AND " + c.col + " = ?"
			args = append(args, c.v)
		}
	}
	rows, err := r.q.QueryContext(r.ctx, q+" ORDER BY "+order, args...)
	if err != nil {
		yield(model.Entry{}, translated(err))
		return
	}
	defer rows.Close()
	for rows.Next() {
		var e model.Entry
		var before, after, records string
		if err := rows.Scan(&e.Seq, &e.Written, &e.Actor, &e.Action, &e.Party, &e.Trust, &before, &after, &e.Prev,
			&e.Hash, &records); err != nil {
			yield(e, translated(err))
			return
		}
		e.At, _ = time.Parse(time.RFC3339Nano, e.Written)
		e.Before, e.After, e.Records = text(before), text(after), text(records)
		if f.Since.IsZero() && f.Until.IsZero() || (f.Since.IsZero() || !e.At.Before(f.Since)) &&
			(f.Until.IsZero() || e.At.Before(f.Until)) {
			if !yield(e, nil) {
				return
			}
		}
	}
	if err := rows.Err(); err != nil {
		yield(model.Entry{}, translated(err))
	}
}

// text is JSON out of a column; an empty one is nil.
func text(s string) []byte {
	if s == "" {
		return nil
	}
	return []byte(s)
}

// write makes changes with their entries in the journal.
func (r *reader) write(c model.Changes) error {
	entries, err := r.follow(c) // before anything is written, from when on others wait
	if err != nil {
		return err
	}
	for i, x := range c.Records {
		if c.Told != nil && i%256 == 0 {
			c.Told(i)
		}
		t, err := tableOf(x.Key.Kind)
		if err != nil {
			return err
		}
		if x.After == nil {
			err = t.take(r, x.Key)
		} else {
			err = t.put(r, x)
		}
		if err != nil {
			return fmt.Errorf("keeping the %s %s: %w", x.Key.Kind, strings.Join(x.Key.Parts(), " "), constrained(err))
		}
	}
	if !c.Over.IsZero() {
		for _, table := range []string{"stage_families", "stage_codes", "stage_revoked"} {
			if _, err := r.q.ExecContext(r.ctx, "DELETE FROM "+table+" WHERE until < ?", stamp(c.Over)); err != nil {
				return err
			}
		}
	}
	return r.append(entries)
}

// follow are the entries of changes as they follow on the journal's last.
func (r *reader) follow(c model.Changes) ([]model.Entry, error) {
	if len(c.Entries) == 0 {
		return nil, nil
	}
	var seq int64
	var prev, key string
	err := r.q.QueryRowContext(r.ctx, "SELECT seq, hash FROM journal ORDER BY seq DESC LIMIT 1").Scan(&seq, &prev)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	err = r.q.QueryRowContext(r.ctx, "SELECT value FROM ledger WHERE key = ?", model.SettingPeople).Scan(&key)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	for _, x := range c.Records { // where the ledger is made
		if s, is := x.After.(*model.Setting); is && s.Name == model.SettingPeople {
			key = s.Value
		}
	}
	return c.Append(seq, prev, key)
}

// append adds entries to the journal.
func (r *reader) append(list []model.Entry) error {
	if len(list) == 0 {
		return nil
	}
	var seq int64
	var prev string
	for _, e := range list {
		if _, err := r.q.ExecContext(r.ctx,
			`INSERT INTO journal (seq, at, actor, action, party, trust, before, after, prev,
			hash, records) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			e.Seq, e.Written, e.Actor, e.Action, e.Party, e.Trust,
			string(e.Before), string(e.After), e.Prev, e.Hash, string(e.Records)); err != nil {
			return err
		}
		seq, prev = e.Seq, e.Hash
	}
	_, err := r.q.ExecContext(r.ctx,
		"INSERT INTO ledger VALUES (?, ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
		model.SettingHead, model.Head(seq, prev))
	return err
}

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

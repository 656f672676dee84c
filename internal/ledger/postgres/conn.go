package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"

	"tressik.example/internal/ledger/tables"
)

// native is a query of the tables as PostgreSQL has it: values are numbered, letter case is folded by a function, and
// what is indexed of a document is a column.
func native(query string) string {
	query = strings.NewReplacer("json_extract(doc, '$.api.audience')", "audience",
		"json_extract(doc, '$.openid.discovery.issuer')", "issuer").Replace(query)
	var b strings.Builder
	n := 0
	for i := 0; i < len(query); i++ {
		switch {
		case query[i] == '?':
			n++
			b.WriteString("$" + strconv.Itoa(n))
		case strings.HasPrefix(query[i:], "nocase("):
			b.WriteString("lower(")
			i += len("nocase(") - 1
		default:
			b.WriteByte(query[i])
		}
	}
	return b.String()
}

// queries keeps what native made of queries, which are a few dozen.
type queries struct{ made sync.Map }

func (q *queries) native(query string) string {
	if s, ok := q.made.Load(query); ok {
		return s.(string)
	}
	s := native(query)
	q.made.Store(query, s)
	return s
}

// none turns pgx's word for no row into that of the standard library.
func none(err error) error {
	if errors.Is(err, pgx.ErrNoRows) {
		return sql.ErrNoRows
	}
	return err
}

// list is rows that have been read, to be scanned one after the other.
type list struct {
	types  *pgtype.Map
	fields []pgconn.FieldDescription
	rows   [][][]byte
	at     int
	more   bool         // whether others follow
	next   func() error // reads those into the list
	err    error
}

// read takes what a query returned off the connection.
func (l *list) read(rows pgx.Rows) error {
	defer rows.Close()
	for rows.Next() {
		l.rows = append(l.rows, copied(rows.RawValues()))
	}
	rows.Close()
	l.fields = append(l.fields, rows.FieldDescriptions()...) // they lie in a buffer of the connection
	return rows.Err()
}

func copied(values [][]byte) [][]byte {
	row := make([][]byte, len(values))
	for i, v := range values {
		if v != nil {
			row[i] = append([]byte{}, v...)
		}
	}
	return row
}

func (l *list) Next() bool {
	if l.at == len(l.rows) && l.more && l.err == nil {
		l.err = l.next()
	}
	if l.err != nil || l.at == len(l.rows) {
		return false
	}
	l.at++
	return true
}

func (l *list) Scan(to ...any) error {
	for i, v := range l.rows[l.at-1] {
		f := l.fields[i]
		if err := l.types.Scan(f.DataTypeOID, f.Format, v, to[i]); err != nil {
			return err
		}
	}
	return nil
}

func (l *list) Err() error { return l.err }
func (*list) Close() error { return nil }

// single is a row that is asked for when it is scanned.
type single func(to ...any) error

func (f single) Scan(to ...any) error { return f(to...) }

// plainly answers each question of the tables by itself, each at its own moment. What a question finds is read whole
// before it is handed on: others may be asked meanwhile, and none waits for a connection that it holds itself.
type plainly struct {
	ctx     context.Context
	pool    *pgxpool.Pool
	queries *queries
}

func (p *plainly) Rows(query string, args ...any) (tables.Rows, error) {
	c, err := p.pool.Acquire(p.ctx)
	if err != nil {
		return nil, err
	}
	defer c.Release()
	rows, err := c.Query(p.ctx, p.queries.native(query), args...)
	if err != nil {
		return nil, err
	}
	l := &list{types: pgtype.NewMap()}
	if err := l.read(rows); err != nil {
		return nil, err
	}
	return l, nil
}

func (p *plainly) Row(query string, args ...any) tables.Scanner {
	return single(func(to ...any) error {
		return none(p.pool.QueryRow(p.ctx, p.queries.native(query), args...).Scan(to...))
	})
}

func (p *plainly) Exec(query string, args ...any) error {
	_, err := p.pool.Exec(p.ctx, p.queries.native(query), args...)
	return err
}

func (*plainly) Flush() error               { return nil }
func (*plainly) Said(err error) error       { return translated(err) }
func (*plainly) Constrained(err error) bool { return isConstraint(err) }

// conn is one transaction. A connection does one thing at a time: what a query finds comes through a cursor, some rows
// at a time, so that others may be asked between them; what is written waits in a queue and is sent many at a time.
type conn struct {
	ctx     context.Context // of the transaction: a View has one, and it ends with it
	conn    *pgxpool.Conn
	queries *queries
	mu      sync.Mutex
	cursors int
	over    []string // cursors that gave all
	queue   *pgx.Batch
	xid     uint64 // of the transaction, once something is written
	wrote   int    // how many rows
	own     bool   // it writes in tables of the connection's own alone
}

// some is how many rows a cursor gives at a time, and how many writes are sent at a time.
const some = 256

func on(ctx context.Context, c *pgxpool.Conn, q *queries) *conn {
	return &conn{ctx: ctx, conn: c, queries: q, queue: &pgx.Batch{}}
}

func (c *conn) Rows(query string, args ...any) (tables.Rows, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := c.flush(); err != nil {
		return nil, err
	}
	c.cursors++
	name := "c" + strconv.Itoa(c.cursors)
	fetch := "FETCH FORWARD " + strconv.Itoa(some) + " FROM " + name
	values, types := make([][]byte, len(args)), make([]uint32, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case string:
			values[i], types[i] = []byte(v), pgtype.TextOID
		case int64:
			values[i], types[i] = strconv.AppendInt(nil, v, 10), pgtype.Int8OID
		default:
			return nil, fmt.Errorf("%T is no value to ask for", a)
		}
	}
	b := &pgconn.Batch{}
	for _, s := range c.over {
		b.ExecParams("CLOSE "+s, nil, nil, nil, nil)
	}
	c.over = nil
	b.ExecParams("DECLARE "+name+" NO SCROLL CURSOR FOR "+c.queries.native(query), values, types, nil, nil)
	b.ExecParams(fetch, nil, nil, nil, nil)
	l := &list{types: c.conn.Conn().TypeMap()}
	err := c.fetch(l, name, c.conn.Conn().PgConn().ExecBatch(c.ctx, b))
	if err != nil {
		return nil, err
	}
	next := func() error {
		c.mu.Lock()
		defer c.mu.Unlock()
		if err := c.flush(); err != nil {
			return err
		}
		b := &pgconn.Batch{}
		b.ExecParams(fetch, nil, nil, nil, nil)
		return c.fetch(l, name, c.conn.Conn().PgConn().ExecBatch(c.ctx, b))
	}
	if l.more {
		l.next = next
	}
	return l, nil
}

// fetch takes what a cursor gives; whether there is more of it stands in the list.
func (c *conn) fetch(l *list, name string, results *pgconn.MultiResultReader) error {
	l.rows, l.at = l.rows[:0], 0
	for results.NextResult() {
		r := results.ResultReader()
		for r.NextRow() {
			l.rows = append(l.rows, copied(r.Values()))
		}
		if f := r.FieldDescriptions(); len(f) > 0 && l.fields == nil {
			l.fields = append(l.fields, f...) // they lie in a buffer of the connection
		}
		if _, err := r.Close(); err != nil {
			return errors.Join(err, results.Close())
		}
	}
	if l.more = len(l.rows) == some; !l.more {
		c.over = append(c.over, name)
	}
	return results.Close()
}

func (c *conn) Row(query string, args ...any) tables.Scanner {
	return single(func(to ...any) error {
		c.mu.Lock()
		defer c.mu.Unlock()
		if err := c.flush(); err != nil {
			return err
		}
		return none(c.conn.QueryRow(c.ctx, c.queries.native(query), args...).Scan(to...))
	})
}

func (c *conn) Exec(query string, args ...any) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.xid == 0 && !c.own { // before anything else is written: it waits for whoever writes, and fails if somebody did
		const count = "UPDATE revision SET n = n + 1 RETURNING pg_current_xact_id()::text::bigint"
		if err := c.conn.QueryRow(c.ctx, count).Scan(&c.xid); err != nil {
			return fmt.Errorf("starting to write: %w", err)
		}
	}
	c.wrote++
	c.queue.Queue(c.queries.native(query), args...)
	if c.queue.Len() < some {
		return nil
	}
	return c.flush()
}

func (c *conn) Flush() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.flush()
}

// flush sends what is queued.
func (c *conn) flush() error {
	if c.queue.Len() == 0 {
		return nil
	}
	b := c.queue
	c.queue = &pgx.Batch{}
	return c.conn.SendBatch(c.ctx, b).Close()
}

func (*conn) Said(err error) error       { return translated(err) }
func (*conn) Constrained(err error) bool { return isConstraint(err) }

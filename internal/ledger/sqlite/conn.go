package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"sync"

	"tressik.example/internal/ledger/tables"
)

// plainly answers each question of the tables by itself, each at its own moment.
type plainly struct {
	ctx context.Context
	db  querier
}

// querier is a database, or a transaction on one.
type querier interface {
	QueryContext(context.Context, string, ...any) (*sql.Rows, error)
	QueryRowContext(context.Context, string, ...any) *sql.Row
	ExecContext(context.Context, string, ...any) (sql.Result, error)
}

// native is a query of the tables as SQLite has it: letter case is in the columns' collation there.
func native(query string) string {
	for {
		i := strings.Index(query, "nocase(")
		if i < 0 {
			return query
		}
		n := strings.IndexByte(query[i:], ')')
		query = query[:i] + query[i+len("nocase("):i+n] + query[i+n+1:]
	}
}

func (p *plainly) Rows(query string, args ...any) (tables.Rows, error) {
	return p.db.QueryContext(p.ctx, native(query), args...)
}

func (p *plainly) Row(query string, args ...any) tables.Scanner {
	return p.db.QueryRowContext(p.ctx, native(query), args...)
}

func (p *plainly) Exec(query string, args ...any) error {
	_, err := p.db.ExecContext(p.ctx, native(query), args...)
	return err
}

func (*plainly) Flush() error               { return nil }
func (*plainly) Said(err error) error       { return translated(err) }
func (*plainly) Constrained(err error) bool { return isConstraint(err) }

// conn is one transaction on a connection of its own. Statements that come again and again are prepared once; it may be
// asked by several goroutines.
type conn struct {
	ctx  context.Context // of the transaction: a View has one, and it ends with it
	conn *sql.Conn
	mu   sync.Mutex
	made map[string]*sql.Stmt
}

func on(ctx context.Context, c *sql.Conn) *conn {
	return &conn{ctx: ctx, conn: c, made: map[string]*sql.Stmt{}}
}

// end closes what was prepared.
func (c *conn) end() error {
	var errs []error
	for _, s := range c.made {
		errs = append(errs, s.Close())
	}
	return errors.Join(errs...)
}

// with does something with the prepared statement of a query. A statement is for one at a time: whoever asks at the
// same time waits.
func (c *conn) with(query string, f func(*sql.Stmt) error) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	s := c.made[query]
	if s == nil {
		var err error
		if s, err = c.conn.PrepareContext(c.ctx, native(query)); err != nil {
			return err
		}
		c.made[query] = s
	}
	return f(s)
}

func (c *conn) Rows(query string, args ...any) (tables.Rows, error) {
	return c.conn.QueryContext(c.ctx, native(query), args...)
}

func (c *conn) Row(query string, args ...any) tables.Scanner {
	return one(func(to ...any) error {
		return c.with(query, func(s *sql.Stmt) error { return s.QueryRowContext(c.ctx, args...).Scan(to...) })
	})
}

func (c *conn) Exec(query string, args ...any) error {
	return c.with(query, func(s *sql.Stmt) error {
		_, err := s.ExecContext(c.ctx, args...)
		return err
	})
}

func (*conn) Flush() error               { return nil }
func (*conn) Said(err error) error       { return translated(err) }
func (*conn) Constrained(err error) bool { return isConstraint(err) }

// one is a row that is asked for when it is scanned.
type one func(to ...any) error

func (f one) Scan(to ...any) error { return f(to...) }

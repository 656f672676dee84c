// Package postgres keeps a ledger in a database of a PostgreSQL server, for a team.
//
// A View is a transaction that sees one moment (REPEATABLE READ). A change is worked out on such a View, holding nobody
// up, and then counts up the one row of the table revision: that waits for whoever writes at the time, and fails where
// somebody wrote since the View was opened. The change is then worked out again with the table locked, so that it
// cannot be overtaken a second time. So changes follow each other as they do in a file, and no two of them see the same
// ledger. Each tells its number to those who listen (LISTEN, NOTIFY).
//
// What a role may do is the database's to say, not this package's: see Grant.
package postgres

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/seal"
	"tressik.example/internal/ledger/tables"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
)

//go:embed migrations/*.sql
var migrations embed.FS

// patience is how long a change waits for others who write.
const patience = 15 * time.Second

// Ledger is an open ledger in a database.
type Ledger struct {
	pool    *pgxpool.Pool
	place   string // the address, without a password
	queries *queries
	options ledger.Options
	env     model.Env
	role    ledger.Role // of this process; what it may is "" for an owner
}

// Is reports whether the place of a ledger is the address of a database.
func Is(place string) bool {
	return strings.HasPrefix(place, "postgres://") || strings.HasPrefix(place, "postgresql://")
}

// config reads the address of a database (a connection URI, as libpq has it). The password comes from the file that
// TRESSIK_LEDGER_PASSWORD_FILE names, from PGPASSWORD, or from the usual password file (PGPASSFILE, ~/.pgpass). Over a
// network TLS is always checked.
func config(place string, env func(string) string) (*pgxpool.Config, error) {
	u, err := url.Parse(place)
	if err != nil { // its text has the address, and so the password
		return nil, finding.Errorf("%s is no address of a database, such as postgres://db.example/tressik",
			finding.FieldLedger)
	}
	if _, has := u.User.Password(); has || u.Query().Has("password") {
		return nil, finding.Errorf("%s: a password in an address is seen by whoever lists the processes, and kept "+
			"in the "+
			"shell's history; put it into a file that TRESSIK_LEDGER_PASSWORD_FILE names, into ~/.pgpass, or into "+
			"PGPASSWORD",
			finding.FieldLedger)
	}
	c, err := pgxpool.ParseConfig(place)
	if err != nil {
		return nil, fmt.Errorf("%s is no address of a database: %w", place, bare(err))
	}
	if file := env("TRESSIK_LEDGER_PASSWORD_FILE"); file != "" {
		b, err := seal.ReadSecret(file)
		if err != nil {
			return nil, fmt.Errorf("TRESSIK_LEDGER_PASSWORD_FILE: %w", err)
		}
		c.ConnConfig.Password = strings.TrimRight(string(b), "\r\n")
	}
	if err := checked(c.ConnConfig); err != nil {
		return nil, err
	}
	p := c.ConnConfig.RuntimeParams
	host, _ := os.Hostname()
	p["application_name"] = fmt.Sprintf("tressik %d@%s", os.Getpid(), host)
	p["lock_timeout"] = fmt.Sprint(patience.Milliseconds())
	if c.ConnConfig.ConnectTimeout == 0 {
		c.ConnConfig.ConnectTimeout = 10 * time.Second
	}
	c.MaxConns = max(c.MaxConns, 8)
	return c, nil
}

// bare is the reason of an error of pgx, without the address in it.
func bare(err error) error {
	for inner := errors.Unwrap(err); inner != nil; inner = errors.Unwrap(err) {
		err = inner
	}
	return err
}

// checked refuses a connection over a network whose TLS would not be checked, whatever asks for that: the address, the
// environment or a service file.
func checked(c *pgx.ConnConfig) error {
	for _, h := range append([]*pgconn.FallbackConfig{{Host: c.Host, TLSConfig: c.TLSConfig}}, c.Fallbacks...) {
		if strings.HasPrefix(h.Host, "/") || h.Host == "localhost" || net.ParseIP(h.Host).IsLoopback() {
			continue
		}
		if h.TLSConfig == nil || h.TLSConfig.InsecureSkipVerify {
			return finding.Errorf("%s: the server %s is reached over a network, where its certificate must be "+
				"checked: add sslmode=verify-full to the address (and sslrootcert=FILE for an authority of your own)",
				finding.FieldLedger, h.Host)
		}
	}
	return nil
}

// connect opens a database.
func connect(ctx context.Context, place string) (*pgxpool.Pool, error) {
	c, err := config(place, os.Getenv)
	if err != nil {
		return nil, err
	}
	pool, err := pgxpool.NewWithConfig(ctx, c)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place, translated(err))
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("%s: %w", place, translated(err))
	}
	return pool, nil
}

func made(pool *pgxpool.Pool, place string, o ledger.Options) *Ledger {
	l := &Ledger{pool: pool, place: place, options: o, env: o.Env, queries: &queries{}}
	l.env.Vault = &seal.Vault{Path: SealKeyFile(place, o.SealKey), Ask: o.Passphrase, Recipient: func() (text string,
		err error) {
		err = pool.QueryRow(context.Background(), "SELECT value FROM ledger WHERE key = $1",
			model.SettingSeal).Scan(&text)
		return text, translated(err)
	}}
	return l
}

// SealKeyFile is where the ledger key of a ledger lies: where it is said, else in the present folder, under the name of
// the database.
func SealKeyFile(place, said string) string {
	if said != "" {
		return said
	}
	name := "tressik"
	if u, err := url.Parse(place); err == nil && strings.Trim(u.Path, "/") != "" {
		name = strings.ReplaceAll(strings.Trim(u.Path, "/"), "/", "-")
	}
	return name + ".ledger-key"
}

// thereError is that a database has a ledger; it is ledger.ErrThere.
type thereError struct{ place string }

func (e *thereError) Error() string {
	return "there is a ledger already at " + e.place + "; choose another database"
}

func (*thereError) Is(target error) bool { return target == ledger.ErrThere }

// Create makes a ledger in a database that has none, and its ledger key. Errors: ledger.ErrThere, ledger.ErrAway.
func Create(ctx context.Context, place, org string, o ledger.Options) (_ *Ledger, err error) {
	l, err := empty(ctx, place, o)
	if err != nil {
		return nil, err
	}
	keyPath := SealKeyFile(place, o.SealKey)
	recipient, newKey, err := seal.Ensure(keyPath)
	if err == nil {
		err = l.Update(ctx, func(v model.View) (model.Changes, error) {
			if v.Org() != "" { // another command made it meanwhile
				return model.Changes{}, &thereError{place}
			}
			b, e := model.Begin(v, l.env)
			err := b.Change(func(e *model.Edit) error { return e.Found(org, recipient) })
			return e.Changes(), err
		})
	}
	if err != nil {
		if newKey {
			os.Remove(keyPath)
		}
		l.pool.Close()
		return nil, err
	}
	return l, nil
}

// Fill makes a ledger, in a database that has none, of all that another one has. The ledger key is that of the other.
// Errors: ledger.ErrThere, ledger.ErrAway.
func Fill(ctx context.Context, place string, o ledger.Options, s ledger.Source) (*Ledger, error) {
	l, err := empty(ctx, place, o)
	if err != nil {
		return nil, err
	}
	_, err = l.transact(ctx, patience, true, func(r *tables.Reader) (bool, error) {
		if (model.View{Reader: r}).Org() != "" {
			return false, &thereError{place}
		}
		return true, r.Fill(s)
	})
	if err != nil {
		l.pool.Close()
		return nil, translated(err)
	}
	return l, nil
}

// empty makes the tables of a ledger in a database that has none. Those that a killed command left are taken.
func empty(ctx context.Context, place string, o ledger.Options) (_ *Ledger, err error) {
	pool, err := connect(ctx, place)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			pool.Close()
		}
	}()
	if v, err := schemaOf(ctx, pool); err == nil && v > 0 {
		if has, err := founded(ctx, pool); err != nil || has {
			return nil, errors.Join(&thereError{place}, err)
		}
	} else if err != nil && !errors.Is(err, ledger.ErrNoLedger) {
		return nil, err
	}
	if err := migrate(ctx, pool); err != nil {
		return nil, err
	}
	return made(pool, place, o), nil
}

// Free refuses an address at which a ledger is. Errors: ledger.ErrThere.
func Free(ctx context.Context, place string) error {
	if There(ctx, place) {
		return &thereError{place}
	}
	return nil
}

// There reports whether there is a ledger at an address. Where nobody answers there is none to be seen.
func There(ctx context.Context, place string) bool {
	pool, err := connect(ctx, place)
	if err != nil {
		return false
	}
	defer pool.Close()
	if v, err := schemaOf(ctx, pool); err != nil || v == 0 {
		return false
	}
	has, err := founded(ctx, pool)
	return err == nil && has
}

// founded reports whether the tables hold a ledger, and are not those that a killed command left.
func founded(ctx context.Context, pool *pgxpool.Pool) (bool, error) {
	var n int
	err := pool.QueryRow(ctx, "SELECT count(*) FROM ledger WHERE key = $1", model.SettingOrg).Scan(&n)
	return n > 0, translated(err)
}

func migrate(ctx context.Context, pool *pgxpool.Pool) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	one, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	db := stdlib.OpenDBFromPool(pool)
	defer db.Close()
	p, err := goose.NewProvider(goose.DialectPostgres, db, sub, goose.WithSessionLocker(one),
		goose.WithAllowOutofOrder(true))
	if err != nil {
		return fmt.Errorf("reading the migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("migrating the ledger: %w", translated(err))
	}
	return nil
}

// schema is the newest migration.
const schema = 16

// renew migrates a ledger of an older version, as whoever owns its tables alone can. Errors: ledger.ErrReadOnly.
func renew(ctx context.Context, pool *pgxpool.Pool, place string) error {
	var owns bool
	err := pool.QueryRow(ctx, "SELECT pg_has_role(relowner, 'USAGE') FROM pg_class WHERE oid = "+
		"'goose_db_version'::regclass").Scan(&owns)
	switch {
	case err != nil:
		return translated(err)
	case !owns:
		return fmt.Errorf("%w: %s is from an older version and has to be migrated first; any command of whoever owns "+
			"it does so", ledger.ErrReadOnly, place)
	}
	return migrate(ctx, pool)
}

// schemaOf is the newest migration that a database has. Errors: ledger.ErrNoLedger.
func schemaOf(ctx context.Context, pool *pgxpool.Pool) (version int, err error) {
	err = pool.QueryRow(ctx, "SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE "+
		"is_applied").Scan(&version)
	if said(err) == "42P01" { // undefined_table
		return 0, ledger.ErrNoLedger
	}
	return version, translated(err)
}

// Open opens a ledger and migrates it if it is from an older version. Errors: ledger.ErrNoLedger, ledger.ErrNewer,
// ledger.ErrAway.
func Open(ctx context.Context, place string, o ledger.Options) (*Ledger, error) {
	pool, err := connect(ctx, place)
	if err != nil {
		return nil, err
	}
	version, err := schemaOf(ctx, pool)
	if err == nil {
		var has bool
		if has, err = founded(ctx, pool); err == nil && !has {
			err = ledger.ErrNoLedger
		}
	}
	switch {
	case err != nil:
		err = fmt.Errorf("%w at %s", err, place)
	case version > schema:
		err = fmt.Errorf("%w: %s has schema %d, this program knows up to %d", ledger.ErrNewer, place, version,
			schema)
	case version < schema:
		err = renew(ctx, pool, place)
	}
	if err != nil {
		pool.Close()
		return nil, err
	}
	l := made(pool, place, o)
	if err := l.known(ctx); err != nil {
		pool.Close()
		return nil, err
	}
	return l, nil
}

// Place is the address of the database; no password is in it.
func (l *Ledger) Place() string { return l.place }

// Env is what use cases on this ledger are handed.
func (l *Ledger) Env() model.Env { return l.env }

// Files is the ledger key: all else lies in the database.
func (l *Ledger) Files() []string { return Files(l.place, l.options.SealKey) }

// Files are the files that belong to a ledger at an address.
func Files(place, sealKey string) []string { return []string{SealKeyFile(place, sealKey)} }

// SealKey is where the ledger key is looked for.
func (l *Ledger) SealKey() string { return SealKeyFile(l.place, l.options.SealKey) }

// Close closes the ledger.
func (l *Ledger) Close() error {
	l.pool.Close()
	return nil
}

// snapshot is a transaction on a connection of its own that sees one moment.
func (l *Ledger) snapshot(ctx context.Context) (*pgxpool.Conn, error) {
	c, err := l.pool.Acquire(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the ledger: %w", translated(err))
	}
	if _, err := c.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY"); err != nil {
		c.Release()
		return nil, fmt.Errorf("reading the ledger: %w", translated(err))
	}
	return c, nil
}

// release ends a transaction without keeping what was written, and gives its connection back. It does so even where the
// context is over.
func release(ctx context.Context, c *pgxpool.Conn) error {
	defer c.Release()
	if c.Conn().IsClosed() {
		return nil // the server ended it already
	}
	_, err := c.Exec(context.WithoutCancel(ctx), "ROLLBACK")
	return translated(err)
}

// View has a function read one moment of the ledger.
func (l *Ledger) View(ctx context.Context, f func(model.View) error) error {
	c, err := l.snapshot(ctx)
	if err != nil {
		return err
	}
	return errors.Join(f(model.View{Reader: tables.On(on(ctx, c, l.queries))}), release(ctx, c))
}

// Snapshot opens a View that stays what it is until end is called.
func (l *Ledger) Snapshot(ctx context.Context) (model.View, func() error, error) {
	c, err := l.snapshot(ctx)
	if err != nil {
		return model.View{}, nil, err
	}
	return model.View{Reader: tables.On(on(ctx, c, l.queries))}, func() error { return release(ctx, c) }, nil
}

// Now is a View in which each question is answered at its own moment.
func (l *Ledger) Now(ctx context.Context) model.View {
	return model.View{Reader: tables.On(&plainly{ctx: ctx, pool: l.pool, queries: l.queries})}
}

// Update makes the changes that a function wants.
func (l *Ledger) Update(ctx context.Context, f func(model.View) (model.Changes, error)) error {
	_, err := l.update(ctx, patience, f)
	return err
}

// update runs a change on a View, and again with the table locked where somebody else was faster. It returns how many
// changes it made: one, or none.
func (l *Ledger) update(ctx context.Context, wait time.Duration, f func(model.View) (model.Changes, error)) (int,
	error) {
	c, err := l.writing(ctx)
	if err != nil {
		return 0, err
	}
	defer c.Release()
	n, aside := 0, 0
	w := tables.Writer{
		Transact: func(locked bool, f func(*tables.Reader) (bool, error)) (err error) {
			n, err = l.on(ctx, c, way{wait: wait, locked: locked}, f)
			return err
		},
		Ahead: func(first func(*tables.Reader) error, f func(*tables.Reader) (bool, error)) (clear bool, err error) {
			n, err = l.on(ctx, c, way{wait: wait, first: first}, f)
			if said(err) == "55P03" || overtaken(err) || isConstraint(err) || errors.Is(err, model.ErrExists) {
				return false, nil
			}
			return true, err
		},
		Aside: func(f func(*tables.Reader) error) error {
			return pgx.BeginFunc(ctx, c, func(pgx.Tx) error {
				t := on(ctx, c, l.queries)
				t.own = true
				defer func() { aside += t.wrote }()
				return errors.Join(f(tables.On(t)), t.Flush())
			})
		},
		Overtaken: overtaken}
	if err := w.Update(f); err != nil {
		return 0, translated(err)
	}
	if aside > many {
		l.analyze(ctx, c)
	}
	return n, nil
}

// analyze has the server look at the tables: it picks its indexes by what it last knew. Who may not tell it to waits
// till it looks by itself.
func (l *Ledger) analyze(ctx context.Context, c *pgxpool.Conn) {
	_, _ = c.Exec(context.WithoutCancel(ctx), "ANALYZE")
}

// writing is a connection to write on.
func (l *Ledger) writing(ctx context.Context) (*pgxpool.Conn, error) {
	if l.role.May == "read" {
		return nil, fmt.Errorf("%w: the role %s may read it alone", ledger.ErrReadOnly, l.role.Name)
	}
	c, err := l.pool.Acquire(ctx)
	if err != nil {
		return nil, fmt.Errorf("starting a change: %w", translated(err))
	}
	return c, nil
}

// transact runs a function in a transaction on a connection of its own.
func (l *Ledger) transact(ctx context.Context, wait time.Duration, locked bool, f func(*tables.Reader) (bool, error),
	also ...func(querier) error) (int, error) {
	c, err := l.writing(ctx)
	if err != nil {
		return 0, err
	}
	defer c.Release()
	return l.on(ctx, c, way{wait: wait, locked: locked}, f, also...)
}

// way is how a transaction goes.
type way struct {
	wait   time.Duration              // how long it waits for others
	locked bool                       // others are locked out from the beginning
	first  func(*tables.Reader) error // runs before others are locked out; may be nil
}

// lockOut locks out whoever else writes.
const lockOut = "LOCK TABLE revision IN EXCLUSIVE MODE"

// begin are the statements with which a transaction begins.
func (w way) begin() []string {
	level := "REPEATABLE READ"
	if w.first != nil { // what follows on the lock sees what was written until then
		level = "READ COMMITTED"
	}
	out := []string{"BEGIN ISOLATION LEVEL " + level}
	if w.wait != patience {
		out = append(out, fmt.Sprintf("SET LOCAL lock_timeout = %d", w.wait.Milliseconds()))
	}
	if w.locked { // a lock is taken before the moment is, and nobody can write after it
		out = append(out, lockOut)
	}
	return out
}

// ahead runs what comes first of a transaction, and locks others out then. Somebody who writes may be waiting for a row
// of it by then, with the lock in hand: they are to go first.
func (w way) ahead(ctx context.Context, t *conn) error {
	t.own = true
	if err := w.first(tables.On(t)); err != nil {
		return err
	}
	if err := t.Flush(); err != nil {
		return err
	}
	t.own = false
	for _, s := range []string{"SET LOCAL lock_timeout = 100", lockOut} {
		if _, err := t.conn.Exec(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// on runs a function in a transaction, and keeps what it wrote where it says so. The first thing that is written counts
// up the revision.
func (l *Ledger) on(ctx context.Context, c *pgxpool.Conn, w way, f func(*tables.Reader) (bool, error),
	also ...func(querier) error) (n int, err error) {
	kept := false
	defer func() {
		if !kept && !c.Conn().IsClosed() {
			_, rollback := c.Exec(context.WithoutCancel(ctx), "ROLLBACK")
			if err == nil {
				err = rollback
			}
		}
	}()
	for _, s := range w.begin() {
		if _, err := c.Exec(ctx, s); err != nil {
			return 0, fmt.Errorf("starting a change: %w", err)
		}
	}
	t := on(ctx, c, l.queries)
	if w.first != nil {
		if err := w.ahead(ctx, t); err != nil {
			return 0, err
		}
	}
	if keep, err := f(tables.On(t)); err != nil || !keep {
		return 0, err
	}
	if err := t.Flush(); err != nil {
		return 0, err
	}
	for _, f := range also {
		if err := f(c); err != nil {
			return 0, err
		}
	}
	xid := t.xid
	if err := t.Exec("SELECT pg_notify('tressik', current_schema())"); err != nil {
		return 0, err
	}
	if err := t.Flush(); err != nil {
		return 0, err
	}
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	kept = true
	// from here it is kept or not, and whoever asked hears which
	_, err = c.Exec(context.WithoutCancel(ctx), "COMMIT")
	if err != nil && said(err) == "" {
		err = l.settled(context.WithoutCancel(ctx), xid, err)
	}
	if err != nil {
		return 0, fmt.Errorf("keeping the change: %w", err)
	}
	if t.wrote > many {
		l.analyze(ctx, c)
	}
	return 1, nil
}

// many is how many rows make the tables others than the server knows them.
const many = 5000

// settled asks what became of a transaction whose connection was lost while it was to be kept.
func (l *Ledger) settled(ctx context.Context, xid uint64, lost error) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for {
		var status *string
		err := l.pool.QueryRow(ctx, "SELECT pg_xact_status($1::text::xid8)", fmt.Sprint(xid)).Scan(&status)
		switch {
		case err == nil && status != nil && *status == "committed":
			return nil
		case err == nil && status != nil && *status == "aborted":
			return fmt.Errorf("%w (%v); nothing was changed", ledger.ErrAway, lost)
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%w while it was to keep a change, and whether it did is not known: look with "+
				"tressik journal "+
				"list before you run the command again", ledger.ErrAway)
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// said is the SQLSTATE of an error; "" where the server did not say it.
func said(err error) string {
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		return pe.Code
	}
	return ""
}

// overtaken reports whether a change could not be written because somebody else wrote since its View was opened
// (serialization_failure), or waits for us as we do for them (deadlock_detected).
func overtaken(err error) bool { return said(err) == "40001" || said(err) == "40P01" }

func isConstraint(err error) bool { return strings.HasPrefix(said(err), "23") }

// translated turns the driver's errors into ours where there is something to say.
func translated(err error) error {
	if err == nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) && said(err) == "" &&
		!errors.As(err, new(*pgconn.ConnectError)) {
		return err
	}
	code := said(err)
	var pe *pgconn.PgError
	errors.As(err, &pe)
	switch {
	case code == "55P03", code == "40001", code == "40P01":
		return fmt.Errorf("%w and did not let go in time; try again", ledger.ErrBusy)
	case code == "25006":
		return fmt.Errorf("%w: the database takes no changes (%s)", ledger.ErrReadOnly, pe.Message)
	case code == "42501":
		return fmt.Errorf("%w: %s; whoever owns the ledger can give it with tressik ledger grant", ledger.ErrMay,
			pe.Message)
	case code == "53100":
		return fmt.Errorf("%w; nothing was changed; make room and run the command again", ledger.ErrFull)
	case code == "58030", code == "XX001", code == "XX002":
		return fmt.Errorf("%w (%s); nothing was changed; look after the disk of the database server", ledger.ErrDisk,
			pe.Message)
	case code == "3D000":
		return fmt.Errorf("%w: %s; make it with createdb", ledger.ErrNoLedger, pe.Message)
	case strings.HasPrefix(code, "28"):
		return fmt.Errorf("%w: %s; the role is named by user= in the address, its password by "+
			"TRESSIK_LEDGER_PASSWORD_FILE, PGPASSWORD or ~/.pgpass", ledger.ErrMay, pe.Message)
	case strings.HasPrefix(code, "57P"), strings.HasPrefix(code, "08"), code == "53300":
		return fmt.Errorf("%w (%s)", ledger.ErrAway, pe.Message)
	case code == "" && isNet(err):
		var op *net.OpError
		if words := reach.Unreached(err); words != err {
			return fmt.Errorf("%w: %w", ledger.ErrAway, words)
		} else if errors.As(err, &op) && op.Addr != nil {
			return fmt.Errorf("%w (%s: %v)", ledger.ErrAway, op.Addr, bare(op.Err))
		}
		return fmt.Errorf("%w (%v)", ledger.ErrAway, bare(err))
	}
	return err
}

// isNet reports whether an error is one of the connection.
func isNet(err error) bool {
	var ce *pgconn.ConnectError
	var ne net.Error
	return errors.As(err, &ce) || errors.As(err, &ne) || pgconn.SafeToRetry(err) || errors.Is(err, net.ErrClosed) ||
		errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

// watch tells when somebody else changed the ledger.
type watch struct {
	l       *Ledger
	mu      sync.Mutex
	own     int64 // changes that it made itself
	changed chan struct{}
	end     context.CancelFunc
	ended   chan struct{}
}

// shortly is how long a watch waits for others who write.
const shortly = 300 * time.Millisecond

// Watch follows what others change.
func (l *Ledger) Watch(ctx context.Context) (ledger.Watch, error) {
	w := &watch{l: l, changed: make(chan struct{}, 1), ended: make(chan struct{})}
	ctx, w.end = context.WithCancel(ctx)
	go w.listen(ctx)
	return w, nil
}

// listen waits for notices on a connection of its own, and makes a new one where it is lost.
func (w *watch) listen(ctx context.Context) {
	defer close(w.ended)
	for ctx.Err() == nil {
		_ = w.hear(ctx) // it is tried again, and who asks for the version is told what is wrong
		w.wake()        // something may have gone by
		select {
		case <-ctx.Done():
		case <-time.After(500 * time.Millisecond):
		}
	}
}

func (w *watch) hear(ctx context.Context) error {
	c, err := pgx.ConnectConfig(ctx, w.l.pool.Config().ConnConfig)
	if err != nil {
		return err
	}
	defer c.Close(context.WithoutCancel(ctx))
	if _, err := c.Exec(ctx, "LISTEN tressik"); err != nil {
		return err
	}
	w.wake()
	for {
		if _, err := c.WaitForNotification(ctx); err != nil {
			return err
		}
		w.wake()
	}
}

func (w *watch) wake() {
	select {
	case w.changed <- struct{}{}:
	default:
	}
}

// Changed is sent to when somebody may have changed the ledger.
func (w *watch) Changed() <-chan struct{} { return w.changed }

// Version changes whenever somebody else has changed the ledger. Errors: ledger.ErrAway.
func (w *watch) Version(ctx context.Context) (n int64, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.l.pool.QueryRow(ctx, "SELECT n FROM revision").Scan(&n); err != nil {
		return 0, translated(err)
	}
	return n - w.own, nil
}

// Update makes the changes that a function wants. Errors: ledger.ErrBusy after a moment.
func (w *watch) Update(ctx context.Context, f func(model.View) (model.Changes, error)) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	n, err := w.l.update(ctx, shortly, f)
	w.own += int64(n)
	return err
}

// Close ends the watch.
func (w *watch) Close() error {
	w.end()
	<-w.ended
	return nil
}

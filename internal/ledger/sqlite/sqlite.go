// Package sqlite keeps a ledger in one SQLite file.
//
// Readers see one moment each: a View is a read transaction (WAL), and others write meanwhile. A change is worked out
// on such a View and written in the same transaction. Where somebody else was faster SQLite refuses the first write,
// since the View is out of date by then; the change is then worked out again with the lock in hand, so that it cannot
// be overtaken a second time. Whoever waits for the lock waits for seconds, and is told so when it is over.
package sqlite

import (
	"bytes"
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // the driver and its error type

	"tressik.example/internal/core/finding"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/seal"
	"tressik.example/internal/ledger/tables"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/whole"
)

//go:embed migrations/*.sql
var migrations embed.FS

//go:embed sums.sql
var sums string

// schema is the newest migration; applicationID marks the file as a ledger (SQLite header, bytes 68 to 71).
const (
	schema        = 15
	applicationID = 0x5472736b
)

// Ledger is an open ledger in a file.
type Ledger struct {
	db       *sql.DB
	path     string
	readOnly error       // why it takes no changes: ledger.ErrReadOnly or ledger.ErrFull
	opened   os.FileInfo // the file as it was when it was opened on a full disk
	options  ledger.Options
	env      model.Env
	swept    sync.Once
}

// Place is the path of the file.
func (l *Ledger) Place() string { return l.path }

// Close closes the ledger.
func (l *Ledger) Close() error { return l.db.Close() }

// patience is how long a change waits for others who write.
const patience = 15 * time.Second

func dsn(path string) string {
	return "file:" + (&url.URL{Path: path}).EscapedPath() +
		fmt.Sprintf("?_pragma=busy_timeout(%d)&_pragma=synchronous(FULL)&_pragma=foreign_keys(ON)",
			patience.Milliseconds())
}

// made is a Ledger on an open database.
func made(db *sql.DB, path string, o ledger.Options, readOnly error) *Ledger {
	l := &Ledger{db: db, path: path, options: o, readOnly: readOnly, env: o.Env}
	l.env.Vault = &seal.Vault{Path: SealKeyFile(path, o.SealKey), Ask: o.Passphrase, Recipient: func() (text string,
		err error) {
		// the driver waits for nobody to read
		err = db.QueryRowContext(context.Background(), "SELECT value FROM ledger WHERE key = ?",
			model.SettingSeal).Scan(&text)
		return text, translated(err)
	}}
	return l
}

// Env is what use cases on this ledger are handed.
func (l *Ledger) Env() model.Env { return l.env }

// Create makes a ledger and its ledger key. Nothing is left behind if it fails. Errors: ErrThere.
func Create(ctx context.Context, path, org string, o ledger.Options) (*Ledger, error) {
	keyPath := SealKeyFile(path, o.SealKey)
	if err := Free(path); err != nil {
		return nil, err
	}
	recipient, made, err := seal.Ensure(keyPath)
	if err != nil {
		return nil, err
	}
	l, err := put(ctx, path, o, func(ctx context.Context, l *Ledger) error {
		return ledger.Updater(l.Update).Do(ctx, l.env, func(b *model.Book) error {
			return b.Change(func(e *model.Edit) error { return e.Found(org, recipient) })
		})
	})
	if err != nil && made {
		os.Remove(keyPath)
	}
	return l, err
}

// Fill makes a ledger of all that another one has. The ledger key is that of the other. Nothing is left behind if it
// fails. Errors: ErrThere.
func Fill(ctx context.Context, path string, o ledger.Options, s ledger.Source) (*Ledger, error) {
	if err := Free(path); err != nil {
		return nil, err
	}
	return put(ctx, path, o, func(ctx context.Context, l *Ledger) error {
		conn, err := l.db.Conn(ctx)
		if err != nil {
			return err
		}
		return errors.Join(translated(transact(ctx, conn, "BEGIN IMMEDIATE", func(r *tables.Reader) (bool, error) {
			return true, r.Fill(s)
		})), conn.Close())
	})
}

// Free refuses a path at which no ledger can be made: where something is, or something was left of a ledger that is
// there no more. A log beside a new file would be taken for its own. Errors: ledger.ErrThere.
func Free(path string) error {
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("%w at %s; move it away, or choose another place", ledger.ErrThere, path)
	}
	if dir := filepath.Dir(path); dir != "" {
		if fi, err := os.Stat(dir); err != nil || !fi.IsDir() {
			return fmt.Errorf("the folder %s is not there; make it first", dir)
		}
	}
	for _, suffix := range []string{"-wal", "-shm", "-journal"} {
		if fi, err := os.Lstat(path + suffix); err == nil && fi.Size() > 0 {
			return fmt.Errorf("%w: %s was left of a ledger that is there no more, and may hold its last changes; "+
				"move it "+
				"away first", ledger.ErrThere, path+suffix)
		}
	}
	return nil
}

// put makes a whole ledger by a function on an empty one, beside its place, and puts it there.
func put(ctx context.Context, path string, o ledger.Options, fill func(context.Context, *Ledger) error) (*Ledger,
	error) {
	tmp := whole.Name(path)
	cleanup := func() {
		for _, s := range []string{"", "-wal", "-shm", "-journal"} {
			os.Remove(tmp + s)
		}
	}
	if err := build(ctx, tmp, o, fill); err != nil {
		cleanup()
		return nil, err
	}
	switch err := whole.Put(tmp, path); {
	case errors.Is(err, fs.ErrExist):
		cleanup()
		return nil, fmt.Errorf("%w at %s; move it away, or choose another place", ledger.ErrThere, path)
	case err != nil:
		cleanup()
		return nil, fmt.Errorf("putting the ledger in its place: %w", err)
	}
	return Open(context.WithoutCancel(ctx), path, o) // it is there now
}

// build makes a whole ledger at a temporary path.
func build(ctx context.Context, tmp string, o ledger.Options, fill func(context.Context, *Ledger) error) error {
	f, err := os.OpenFile(tmp, os.O_CREATE|os.O_EXCL|os.O_RDWR, 0o600)
	if err != nil {
		return fmt.Errorf("making the ledger: %w", err)
	}
	f.Close()
	db, err := sql.Open("sqlite", dsn(tmp))
	if err != nil {
		return err
	}
	defer db.Close()
	for _, q := range []string{"PRAGMA journal_mode = WAL", fmt.Sprintf("PRAGMA application_id = %d", applicationID)} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return fmt.Errorf("making the ledger: %w", translated(err))
		}
	}
	if err := migrate(ctx, db); err != nil {
		return err
	}
	return fill(ctx, made(db, tmp, o, nil))
}

func migrate(ctx context.Context, db *sql.DB) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub, goose.WithGoMigrations(
		goose.NewGoMigration(15, &goose.GoFunc{RunTx: summed}, nil)))
	if err != nil {
		return fmt.Errorf("reading the migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("migrating the ledger: %w", translated(err))
	}
	return nil
}

// summed gives each row of a ledger its sum.
func summed(ctx context.Context, tx *sql.Tx) error {
	if _, err := tx.ExecContext(ctx, sums); err != nil {
		return err
	}
	return tables.On(&plainly{ctx: ctx, db: tx}).Sum()
}

// Sum gives each row of the ledger at a path its sum anew, for whoever changed one on purpose by another program,
// such as a test. The journal speaks against them all the same.
func Sum(ctx context.Context, path string) error {
	db, err := sql.Open("sqlite", dsn(path))
	if err != nil {
		return err
	}
	defer db.Close()
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() // nothing, once it is committed
	if err := tables.On(&plainly{ctx: ctx, db: tx}).Sum(); err != nil {
		return err
	}
	return tx.Commit()
}

// Open opens a ledger and migrates it if it is from an older version. Errors: ledger.ErrNoLedger,
// ledger.ErrNotLedger, ErrNewer.
func Open(ctx context.Context, path string, o ledger.Options) (*Ledger, error) {
	fi, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%w at %s", ledger.ErrNoLedger, path)
	case err != nil:
		return nil, fmt.Errorf("opening the ledger: %w", err)
	case fi.IsDir():
		return nil, fmt.Errorf("%w: %s is a folder", ledger.ErrNotLedger, path)
	}
	if err := sniff(path); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", dsn(path))
	if err != nil {
		return nil, fmt.Errorf("opening the ledger: %w", err)
	}
	version, err := schemaOf(ctx, db)
	var readOnly error
	if e := translated(err); (errors.Is(e, ledger.ErrReadOnly) || errors.Is(e, ledger.ErrFull)) && quiet(path) {
		// A folder that cannot be written, or a disk without room: reading goes on without the files that writers
		// share.
		readOnly = ledger.ErrReadOnly
		if errors.Is(e, ledger.ErrFull) {
			readOnly = ledger.ErrFull
		}
		db.Close()
		if db, err = sql.Open("sqlite", dsn(path)+"&mode=ro&immutable=1"); err != nil {
			return nil, fmt.Errorf("opening the ledger: %w", err)
		}
		version, err = schemaOf(ctx, db)
	}
	switch {
	case err != nil:
		db.Close()
		e := translated(err)
		for _, known := range []error{ledger.ErrReadOnly, ledger.ErrBusy, ledger.ErrFull, ledger.ErrDisk,
			ledger.ErrNotLedger} {
			if errors.Is(e, known) {
				return nil, fmt.Errorf("%s: %w", path, e)
			}
		}
		return nil, fmt.Errorf("%w: %s (%v)", ledger.ErrNotLedger, path, err)
	case version > schema:
		db.Close()
		return nil, fmt.Errorf("%w: %s has schema %d, this program knows up to %d", ledger.ErrNewer, path,
			version, schema)
	case version < schema && readOnly != nil:
		db.Close()
		return nil, fmt.Errorf("%w: %s is from an older version and has to be migrated first", readOnly, path)
	case version < schema:
		if err := renew(ctx, db, path, o); err != nil {
			db.Close()
			return nil, err
		}
	}
	l := made(db, path, o, readOnly)
	if errors.Is(readOnly, ledger.ErrFull) {
		l.opened = fi
	}
	return l, nil
}

// still refuses to read on where a ledger was opened on a full disk, and somebody has changed it since there is room:
// it is read without the locks that tell of that.
func (l *Ledger) still() error {
	if l.opened == nil {
		return nil
	}
	fi, err := os.Stat(l.path)
	if err == nil && quiet(l.path) && fi.ModTime().Equal(l.opened.ModTime()) && fi.Size() == l.opened.Size() {
		return nil
	}
	return fmt.Errorf("%w when the ledger was opened, and it was changed since; run the command again", ledger.ErrFull)
}

// renew migrates a ledger of an older version. One process does so, and others wait for it. A copy of what it was is
// kept beside it.
func renew(ctx context.Context, db *sql.DB, path string, o ledger.Options) error {
	done, err := alone(ctx, filepath.Dir(path))
	if err != nil {
		return err
	}
	defer done()
	was, err := schemaOf(ctx, db)
	if err != nil || was >= schema { // somebody else was here
		return translated(err)
	}
	beside := fmt.Sprintf("%s.schema-%d", path, was)
	if err := keepCopy(ctx, db, beside); err != nil {
		return fmt.Errorf("keeping a copy of the ledger as it was, before it is migrated: %w", err)
	}
	if err := errors.Join(migrate(ctx, db), takeOldSealKey(path, o.SealKey)); err != nil {
		return err
	}
	if o.Say != nil {
		o.Say(fmt.Sprintf("the ledger was migrated from schema %d to %d; as it was it lies in %s", was, schema, beside))
	}
	return nil
}

// keepCopy writes a copy of a ledger, whole or not at all, unless there is one.
func keepCopy(ctx context.Context, db *sql.DB, to string) error {
	if _, err := os.Lstat(to); err == nil {
		return nil
	}
	tmp := whole.Name(to)
	f, err := os.OpenFile(tmp, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer os.Remove(tmp)
	f.Close()
	if _, err := db.ExecContext(ctx, "VACUUM INTO ?", tmp); err != nil {
		return translated(err)
	}
	return os.Rename(tmp, to)
}

// alone waits until no other process migrates a ledger in a folder.
func alone(ctx context.Context, dir string) (done func(), err error) {
	f, err := os.Open(dir)
	if err != nil {
		return nil, err
	}
	for wait := time.Now().Add(4 * patience); ; { // a large ledger takes a while
		switch err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); {
		case err == nil:
			return func() { f.Close() }, nil
		case !errors.Is(err, syscall.EWOULDBLOCK) || time.Now().After(wait):
			return nil, errors.Join(fmt.Errorf("%w: it is being migrated (%v)", ledger.ErrBusy, err), f.Close())
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(ctx.Err(), f.Close())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func schemaOf(ctx context.Context, db *sql.DB) (version int, err error) {
	err = db.QueryRowContext(ctx, "SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&version)
	return version, err
}

// full says that there is no room for a change.
func full() error {
	return fmt.Errorf("%w; nothing was changed; make room and run the command again", ledger.ErrFull)
}

// quiet reports whether no writer left changes beside the ledger.
func quiet(path string) bool {
	fi, err := os.Stat(path + "-wal")
	return err != nil || fi.Size() == 0
}

// sniff looks at the header of a SQLite file before the driver does, so that a wrong file gets a clear word.
func sniff(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("opening the ledger: %w", err)
	}
	defer f.Close()
	head := make([]byte, 72)
	n, _ := f.Read(head)
	if n < 72 || !bytes.HasPrefix(head, []byte("SQLite format 3\x00")) {
		return fmt.Errorf("%w: %s", ledger.ErrNotLedger, path)
	}
	if id := uint32(head[68])<<24 | uint32(head[69])<<16 | uint32(head[70])<<8 | uint32(head[71]); id != applicationID {
		return fmt.Errorf("%w: %s is another SQLite database", ledger.ErrNotLedger, path)
	}
	return seal.Exposed(f, path)
}

// translated turns the driver's errors into ours where there is something to say.
func translated(err error) error {
	var se *sqlite.Error
	if !errors.As(err, &se) {
		return err
	}
	switch se.Code() & 0xff {
	case 5, 6:
		return fmt.Errorf("%w and did not let go in 15 seconds; try again", ledger.ErrBusy)
	case 8, 14:
		return finding.Errorf("%w: its file or folder is read-only; change the permissions or choose another "+
			"place with %s",
			ledger.ErrReadOnly, finding.FieldLedger)
	case 13:
		return full()
	case 11, 26:
		return fmt.Errorf("%w, or it is damaged: %v", ledger.ErrNotLedger, err)
	case 10:
		if se.Code() == 4874 { // SQLITE_IOERR_SHMSIZE: no room for the file that processes share
			return full()
		}
		return fmt.Errorf("%w (%v); nothing was changed; look after the disk", ledger.ErrDisk, err)
	}
	return err
}

// snapshot is a View on a connection of its own, and what ends it.
func (l *Ledger) snapshot(ctx context.Context) (*sql.Conn, error) {
	if err := l.still(); err != nil {
		return nil, err
	}
	conn, err := l.db.Conn(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the ledger: %w", translated(err))
	}
	if _, err := conn.ExecContext(ctx, "BEGIN"); err != nil {
		return nil, errors.Join(fmt.Errorf("reading the ledger: %w", translated(err)), conn.Close())
	}
	return conn, nil
}

// release ends the transaction of a connection without keeping what was written, and gives the connection back. It does
// so even where the context is over.
func release(ctx context.Context, conn *sql.Conn) error {
	_, err := conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
	return errors.Join(translated(err), conn.Close())
}

// View has a function read one moment of the ledger.
func (l *Ledger) View(ctx context.Context, f func(model.View) error) error {
	conn, err := l.snapshot(ctx)
	if err != nil {
		return err
	}
	r := on(ctx, conn)
	return errors.Join(f(model.View{Reader: tables.On(r)}), r.end(), release(ctx, conn))
}

// Snapshot opens a View that stays what it is until end is called.
func (l *Ledger) Snapshot(ctx context.Context) (model.View, func() error, error) {
	conn, err := l.snapshot(ctx)
	if err != nil {
		return model.View{}, nil, err
	}
	r := on(ctx, conn)
	return model.View{Reader: tables.On(r)}, func() error { return errors.Join(r.end(), release(ctx, conn)) }, nil
}

// Now is a View in which each question is answered at its own moment.
func (l *Ledger) Now(ctx context.Context) model.View {
	return model.View{Reader: tables.On(&plainly{ctx: ctx, db: l.db})}
}

// Files are the file, those that SQLite keeps beside it, and the ledger key.
func (l *Ledger) Files() []string { return Files(l.path, l.options.SealKey) }

// Files are the files that belong to a ledger at a path.
func Files(path, sealKey string) []string {
	return []string{path, path + "-wal", path + "-shm", SealKeyFile(path, sealKey)}
}

// SealKey is where the ledger key is looked for.
func (l *Ledger) SealKey() string { return SealKeyFile(l.path, l.options.SealKey) }

// Update makes the changes that a function wants.
func (l *Ledger) Update(ctx context.Context, f func(model.View) (model.Changes, error)) error {
	if errors.Is(l.readOnly, ledger.ErrFull) {
		return full()
	}
	if l.readOnly != nil {
		return finding.Errorf("%w: its file or folder is read-only; change the permissions or choose another "+
			"place with %s",
			ledger.ErrReadOnly, finding.FieldLedger)
	}
	l.swept.Do(func() { whole.Sweep(filepath.Dir(l.path)) })
	conn, err := l.db.Conn(ctx)
	if err != nil {
		return fmt.Errorf("starting a change: %w", translated(err))
	}
	return errors.Join(update(ctx, conn, f), conn.Close())
}

// update runs a change on a View, and again with the lock in hand where somebody else was faster.
func update(ctx context.Context, conn *sql.Conn, f func(model.View) (model.Changes, error)) error {
	w := tables.Writer{
		Transact: func(locked bool, f func(*tables.Reader) (bool, error)) error {
			if locked {
				return transact(ctx, conn, "BEGIN IMMEDIATE", f)
			}
			return transact(ctx, conn, "BEGIN", f)
		},
		Aside: func(f func(*tables.Reader) error) error {
			// in memory: what is about people lies in no file but the ledger's
			if _, err := conn.ExecContext(ctx, "PRAGMA temp_store = MEMORY"); err != nil {
				return err
			}
			return transact(ctx, conn, "BEGIN", func(r *tables.Reader) (bool, error) { return true, f(r) })
		},
		Overtaken: overtaken}
	return translated(w.Update(f))
}

// transact runs a function in a transaction, and keeps what it wrote where it says so.
func transact(ctx context.Context, conn *sql.Conn, begin string, f func(*tables.Reader) (bool, error)) (err error) {
	if _, err := conn.ExecContext(ctx, begin); err != nil {
		return fmt.Errorf("starting a change: %w", err)
	}
	kept := false
	defer func() {
		if !kept {
			_, rollback := conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")
			if err == nil {
				err = rollback
			}
		}
	}()
	r := on(ctx, conn)
	defer r.end() // what a statement has to say was said when it was run
	if keep, err := f(tables.On(r)); err != nil || !keep {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	// from here it is kept or not, and whoever asked hears which
	if _, err := conn.ExecContext(context.WithoutCancel(ctx), "COMMIT"); err != nil {
		return fmt.Errorf("keeping the change: %w", err)
	}
	kept = true
	return nil
}

// overtaken reports whether a change could not be written because somebody else wrote since its View was opened
// (SQLITE_BUSY_SNAPSHOT), or writes now: whoever reads already cannot wait for a writer (SQLITE_BUSY).
func overtaken(err error) bool {
	var se *sqlite.Error
	return errors.As(err, &se) && se.Code()&0xff == 5
}

func isConstraint(err error) bool {
	var se *sqlite.Error
	return errors.As(err, &se) && se.Code()&0xff == 19
}

// SealKeyFile is where the ledger key of a ledger lies: where it is said, else beside the ledger.
func SealKeyFile(path, said string) string {
	if said != "" {
		return said
	}
	return beside(path, ".ledger-key")
}

func beside(path, suffix string) string { return strings.TrimSuffix(path, filepath.Ext(path)) + suffix }

// takeOldSealKey renames the key that lies beside a ledger under a name that it had in older versions.
func takeOldSealKey(path, said string) error {
	now := SealKeyFile(path, said)
	if said != "" {
		return nil
	}
	for _, suffix := range []string{".seal-key", ".vault-key"} {
		if _, err := os.Lstat(now); !errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		old := beside(path, suffix)
		if err := os.Rename(old, now); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("renaming the ledger key %s to %s: %w", old, now, err)
		}
	}
	return nil
}

// watch is a connection of its own to the ledger: it tells when another one changed something, and writes without
// waiting long for others.
type watch struct {
	l    *Ledger
	conn *sql.Conn
	file os.FileInfo
}

// shortly is how long a watch waits for others who write.
const shortly = 300 * time.Millisecond

// Watch follows what others change.
func (l *Ledger) Watch(ctx context.Context) (ledger.Watch, error) {
	w := &watch{l: l}
	var err error
	if w.file, err = os.Stat(l.path); err != nil {
		return nil, err
	}
	if errors.Is(l.readOnly, ledger.ErrFull) { // what others write once there is room would be read by half
		return nil, full()
	}
	if l.readOnly != nil {
		return w, nil
	}
	if w.conn, err = l.db.Conn(ctx); err != nil {
		return nil, fmt.Errorf("watching the ledger: %w", translated(err))
	}
	if _, err := w.conn.ExecContext(ctx, fmt.Sprintf("PRAGMA busy_timeout = %d", shortly.Milliseconds())); err != nil {
		return nil, errors.Join(translated(err), w.conn.Close())
	}
	return w, nil
}

// Version changes whenever another connection has changed the ledger. Errors: ledger.ErrMoved.
func (w *watch) Version(ctx context.Context) (v int64, err error) {
	now, err := os.Stat(w.l.path)
	if err != nil || !os.SameFile(w.file, now) {
		return 0, fmt.Errorf("%w, at %s", ledger.ErrMoved, w.l.path)
	}
	if w.conn == nil {
		return 0, nil
	}
	err = w.conn.QueryRowContext(ctx, "PRAGMA data_version").Scan(&v)
	return v, translated(err)
}

// Update makes the changes that a function wants, on this connection. Errors: ledger.ErrBusy after a moment.
func (w *watch) Update(ctx context.Context, f func(model.View) (model.Changes, error)) error {
	if w.conn == nil {
		return ledger.ErrReadOnly
	}
	return update(ctx, w.conn, f)
}

// Changed tells nothing: a file does not say when it is written.
func (*watch) Changed() <-chan struct{} { return nil }

// Close ends the watch.
func (w *watch) Close() error {
	if w.conn == nil {
		return nil
	}
	return w.conn.Close()
}

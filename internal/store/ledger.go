// Package store keeps the ledger: one SQLite file with everything in it, a hash-chained journal of every change, and a
// seal for private keys.
package store

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
	"time"

	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // the driver and its error type
)

//go:embed migrations/*.sql
var migrations embed.FS

// schema is the newest migration; applicationID marks the file as a ledger (SQLite header, bytes 68 to 71).
const (
	schema        = 10
	applicationID = 0x5472736b
)

// Errors that callers test for.
var (
	ErrNoLedger  = errors.New("there is no ledger")
	ErrNotLedger = errors.New("this is not a ledger")
	ErrNewer     = errors.New("the ledger is from a newer version of Tressik")
	ErrThere     = errors.New("there is a file already")
	ErrNotFound  = errors.New("not in the ledger")
	ErrExists    = errors.New("already in the ledger")
	ErrChanged   = errors.New("the record changed under this command")
	ErrInUse     = errors.New("still in use")
	ErrReadOnly  = errors.New("the ledger cannot be written")
	ErrFull      = errors.New("the disk is full")
	ErrBusy      = errors.New("another process holds the ledger")
	ErrDisk      = errors.New("the disk cannot be read or written")
)

// Options are what the ledger needs from outside.
type Options struct {
	Actor   string
	Now     func() time.Time
	SealKey string // path of the seal key; "" means beside the ledger
}

// Ledger is an open ledger.
type Ledger struct {
	db       *sql.DB
	path     string
	readOnly bool
	Options
}

// Path returns where the ledger lies.
func (l *Ledger) Path() string { return l.path }

// Close closes the ledger.
func (l *Ledger) Close() error { return l.db.Close() }

func dsn(path string) string {
	return "file:" + (&url.URL{Path: path}).EscapedPath() +
		"?_pragma=busy_timeout(15000)&_pragma=synchronous(FULL)&_pragma=foreign_keys(ON)&_txlock=immediate"
}

// Create makes a ledger and its seal key. Nothing is left behind if it fails. Errors: ErrThere.
func Create(path, org string, o Options) (*Ledger, error) {
	if _, err := os.Lstat(path); err == nil {
		return nil, fmt.Errorf("%w at %s", ErrThere, path)
	}
	if dir := filepath.Dir(path); dir != "" {
		if fi, err := os.Stat(dir); err != nil || !fi.IsDir() {
			return nil, fmt.Errorf("the folder %s is not there; make it first", dir)
		}
	}
	keyPath := o.SealKeyFile(path)
	recipient, made, err := ensureSealKey(keyPath)
	if err != nil {
		return nil, err
	}
	Sweep(path)
	tmp := fmt.Sprintf("%s.new-%d", path, os.Getpid())
	cleanup := func() {
		for _, s := range []string{"", "-wal", "-shm", "-journal"} {
			os.Remove(tmp + s)
		}
		if made {
			os.Remove(keyPath)
		}
	}
	if err := build(tmp, org, recipient, o); err != nil {
		cleanup()
		return nil, err
	}
	switch err := putNew(tmp, path); {
	case errors.Is(err, fs.ErrExist):
		cleanup()
		return nil, fmt.Errorf("%w at %s", ErrThere, path)
	case err != nil:
		cleanup()
		return nil, fmt.Errorf("putting the ledger in its place: %w", err)
	}
	os.Remove(tmp)
	return Open(path, o)
}

// build makes a whole ledger at a temporary path.
func build(tmp, org, recipient string, o Options) error {
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
		if _, err := db.Exec(q); err != nil {
			return fmt.Errorf("making the ledger: %w", translated(err))
		}
	}
	if err := migrate(db); err != nil {
		return err
	}
	l := &Ledger{db: db, path: tmp, Options: o}
	return l.Change(func(tx *Tx) error {
		for k, v := range map[string]string{"org": org, "seal": recipient, "made": o.Now().UTC().Format(time.RFC3339)} {
			if _, err := tx.tx.Exec("INSERT INTO ledger VALUES (?, ?)", k, v); err != nil {
				return err
			}
		}
		return tx.note("ledger.init", "", "", nil, map[string]string{"org": org})
	})
}

func migrate(db *sql.DB) error {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub)
	if err != nil {
		return fmt.Errorf("reading the migrations: %w", err)
	}
	if _, err := p.Up(context.Background()); err != nil {
		return fmt.Errorf("migrating the ledger: %w", translated(err))
	}
	return nil
}

// Open opens a ledger and migrates it if it is from an older version. Errors: ErrNoLedger, ErrNotLedger, ErrNewer.
func Open(path string, o Options) (*Ledger, error) {
	fi, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fmt.Errorf("%w at %s", ErrNoLedger, path)
	case err != nil:
		return nil, fmt.Errorf("opening the ledger: %w", err)
	case fi.IsDir():
		return nil, fmt.Errorf("%w: %s is a folder", ErrNotLedger, path)
	}
	if err := sniff(path); err != nil {
		return nil, err
	}
	db, err := sql.Open("sqlite", dsn(path))
	if err != nil {
		return nil, fmt.Errorf("opening the ledger: %w", err)
	}
	version, err := schemaOf(db)
	readOnly := false
	if errors.Is(translated(err), ErrReadOnly) && quiet(path) {
		// A folder that cannot be written: reading goes on without the files that writers share.
		db.Close()
		if db, err = sql.Open("sqlite", dsn(path)+"&mode=ro&immutable=1"); err != nil {
			return nil, fmt.Errorf("opening the ledger: %w", err)
		}
		version, err = schemaOf(db)
		readOnly = true
	}
	switch {
	case err != nil:
		db.Close()
		e := translated(err)
		for _, known := range []error{ErrReadOnly, ErrBusy, ErrFull, ErrDisk, ErrNotLedger} {
			if errors.Is(e, known) {
				return nil, fmt.Errorf("%s: %w", path, e)
			}
		}
		return nil, fmt.Errorf("%w: %s (%v)", ErrNotLedger, path, err)
	case version > schema:
		db.Close()
		return nil, fmt.Errorf("%w: %s has schema %d, this program knows up to %d", ErrNewer, path, version, schema)
	case version < schema && readOnly:
		db.Close()
		return nil, fmt.Errorf("%w: %s is from an older version and has to be migrated first", ErrReadOnly, path)
	case version < schema:
		if err := errors.Join(migrate(db), o.takeOldSealKey(path)); err != nil {
			db.Close()
			return nil, err
		}
	}
	return &Ledger{db: db, path: path, Options: o, readOnly: readOnly}, nil
}

func schemaOf(db *sql.DB) (version int, err error) {
	err = db.QueryRow("SELECT max(version_id) FROM goose_db_version WHERE is_applied").Scan(&version)
	return version, err
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
	if err := exposed(f, path); err != nil {
		return err
	}
	head := make([]byte, 72)
	n, _ := f.Read(head)
	if n < 72 || !bytes.HasPrefix(head, []byte("SQLite format 3\x00")) {
		return fmt.Errorf("%w: %s", ErrNotLedger, path)
	}
	if id := uint32(head[68])<<24 | uint32(head[69])<<16 | uint32(head[70])<<8 | uint32(head[71]); id != applicationID {
		return fmt.Errorf("%w: %s is another SQLite database", ErrNotLedger, path)
	}
	return nil
}

// translated turns the driver's errors into ours where there is something to say.
func translated(err error) error {
	var se *sqlite.Error
	if !errors.As(err, &se) {
		return err
	}
	switch se.Code() & 0xff {
	case 5, 6:
		return fmt.Errorf("%w and did not let go in 15 seconds; try again", ErrBusy)
	case 8, 14:
		return fmt.Errorf("%w: its file or folder is read-only; change the permissions or choose another place with --ledger",
			ErrReadOnly)
	case 13:
		return fmt.Errorf("%w; nothing was changed; make room and run the command again", ErrFull)
	case 11, 26:
		return fmt.Errorf("%w, or it is damaged: %v", ErrNotLedger, err)
	case 10:
		if se.Code() == 4874 { // SQLITE_IOERR_SHMSIZE: no room for the file that processes share
			return fmt.Errorf("%w; nothing was changed; make room and run the command again", ErrFull)
		}
		return fmt.Errorf("%w (%v); nothing was changed; look after the disk", ErrDisk, err)
	}
	return err
}

// Org returns the name of the organisation.
func (l *Ledger) Org() string {
	v, _ := l.value("org")
	return v
}

func (l *Ledger) value(key string) (string, error) {
	var v string
	err := l.db.QueryRow("SELECT value FROM ledger WHERE key = ?", key).Scan(&v)
	return v, translated(err)
}

// Tx is one change in the making.
type Tx struct {
	tx *sql.Tx
	l  *Ledger
}

// Change runs a change as one transaction: all of it is kept, with its journal entries, or nothing.
func (l *Ledger) Change(f func(*Tx) error) error {
	if l.readOnly {
		return fmt.Errorf("%w: its file or folder is read-only; change the permissions or choose another place with --ledger",
			ErrReadOnly)
	}
	tx, err := l.db.Begin()
	if err != nil {
		return fmt.Errorf("starting a change: %w", translated(err))
	}
	defer tx.Rollback()
	if err := f(&Tx{tx, l}); err != nil {
		return translated(err)
	}
	if err := tx.Commit(); err != nil {
		return fmt.Errorf("keeping the change: %w", translated(err))
	}
	return nil
}

func isConstraint(err error) bool {
	var se *sqlite.Error
	return errors.As(err, &se) && se.Code()&0xff == 19
}

// SealKeyFile is where the seal key of a ledger lies.
func (o Options) SealKeyFile(ledger string) string {
	if o.SealKey != "" {
		return o.SealKey
	}
	return strings.TrimSuffix(ledger, filepath.Ext(ledger)) + ".seal-key"
}

// takeOldSealKey renames the key that lies beside a ledger under the name it had in older versions.
func (o Options) takeOldSealKey(ledger string) error {
	path := o.SealKeyFile(ledger)
	old := strings.TrimSuffix(path, ".seal-key") + ".vault-key"
	if o.SealKey != "" {
		return nil
	}
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	err := os.Rename(old, path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("renaming the seal key %s to %s: %w", old, path, err)
	}
	return nil
}

// SealKeyPath returns where the seal key is looked for.
func (l *Ledger) SealKeyPath() string { return l.SealKeyFile(l.path) }

// Copy writes the ledger as it is now to another place and opens it there, with the same seal key.
func (l *Ledger) Copy(path string) (*Ledger, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600) // for its owner's eyes alone, as the ledger is
	if err == nil {
		err = f.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("copying the ledger: %w", err)
	}
	if _, err := l.db.Exec("VACUUM INTO ?", path); err != nil {
		return nil, fmt.Errorf("copying the ledger: %w", translated(err))
	}
	o := l.Options
	o.SealKey = l.SealKeyPath()
	return Open(path, o)
}

// ctx is the context of a query that nobody waits to cancel.
func ctx() context.Context { return context.Background() }

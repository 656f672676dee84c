package store

import (
	"crypto"
	"crypto/x509"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oauth"
)

// StageKey is a key with which a party is played on a stage.
type StageKey struct {
	Party, Kind string
	Key         crypto.Signer
	Certificate *x509.Certificate
}

// StageKey opens the key of a kind with which a party is played. Errors: ErrNotFound, ErrSealKey.
func (l *Ledger) StageKey(party, kind string) (crypto.Signer, *x509.Certificate, error) {
	return l.sealedKey("SELECT certificate, sealed FROM stage_keys WHERE party = ? AND kind = ?", party, kind)
}

// AddStageKey keeps a key of a stage, sealed; one that is there already stays.
func (tx *Tx) AddStageKey(k StageKey) error {
	pem, err := keys.MarshalPrivate(k.Key)
	if err != nil {
		return err
	}
	sealed, err := tx.seal(pem)
	if err != nil {
		return err
	}
	_, err = tx.tx.Exec("INSERT INTO stage_keys VALUES (?, ?, ?, ?) ON CONFLICT DO NOTHING", k.Party, k.Kind,
		k.Certificate.Raw, sealed)
	return err
}

const refreshKind = "refresh tokens"

// RefreshKey opens the key with which the refresh tokens of stages are made, and makes one where there is none. Errors:
// ErrSealKey.
func (l *Ledger) RefreshKey(random func([]byte) error) ([]byte, error) {
	var sealed []byte
	err := l.db.QueryRow("SELECT sealed FROM stage_keys WHERE party = '' AND kind = ?", refreshKind).Scan(&sealed)
	if err == nil {
		return l.unseal(sealed)
	}
	if !errors.Is(err, sql.ErrNoRows) {
		return nil, translated(err)
	}
	key := make([]byte, 32)
	if err := random(key); err != nil {
		return nil, err
	}
	return key, l.Change(func(tx *Tx) error {
		sealed, err := tx.seal(key)
		if err != nil {
			return err
		}
		_, err = tx.tx.Exec("INSERT INTO stage_keys VALUES ('', ?, NULL, ?)", refreshKind, sealed)
		return err
	})
}

// StageState returns what stages told to keep and what is not over yet.
func (l *Ledger) StageState() ([]oauth.Kept, error) {
	now := text(l.Now())
	var out []oauth.Kept
	for _, q := range []string{"SELECT '', '', doc, until FROM stage_families WHERE until >= ?",
		"SELECT hash, family, '', until FROM stage_codes WHERE until >= ?",
		"SELECT jti, '', '', until FROM stage_revoked WHERE until >= ?"} {
		rows, err := l.db.Query(q, now)
		if err != nil {
			return nil, translated(err)
		}
		for rows.Next() {
			var id, family, doc, until string
			if err := rows.Scan(&id, &family, &doc, &until); err != nil {
				rows.Close()
				return nil, translated(err)
			}
			k := oauth.Kept{Until: moment(until)}
			switch {
			case doc != "":
				k.Family = &oauth.Family{}
				if err := json.Unmarshal([]byte(doc), k.Family); err != nil {
					rows.Close()
					return nil, fmt.Errorf("what a stage kept is damaged: %w", err)
				}
			case family != "":
				k.UsedCode, k.Of = id, family
			default:
				k.Revoked = id
			}
			out = append(out, k)
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, translated(err)
		}
	}
	return out, nil
}

// KeepState keeps what a stage must not forget. Like sightings it is no change that somebody made.
func (tx *Tx) KeepState(list []oauth.Kept) error {
	for _, k := range list {
		var err error
		switch {
		case k.Family != nil:
			var doc []byte
			if doc, err = json.Marshal(k.Family); err != nil {
				return err
			}
			_, err = tx.tx.Exec(`INSERT INTO stage_families SELECT ?, ?, ?, ? WHERE EXISTS (SELECT 1 FROM trusts WHERE name = ?)
				ON CONFLICT (id) DO UPDATE SET doc = excluded.doc, until = excluded.until`,
				k.Family.ID, k.Family.Trust, string(doc), text(k.Family.Until), k.Family.Trust)
		case k.UsedCode != "":
			_, err = tx.tx.Exec("INSERT INTO stage_codes VALUES (?, ?, ?) ON CONFLICT DO NOTHING", k.UsedCode, k.Of,
				text(k.Until))
		default:
			_, err = tx.tx.Exec("INSERT INTO stage_revoked VALUES (?, ?) ON CONFLICT DO NOTHING", k.Revoked, text(k.Until))
		}
		if err != nil {
			return err
		}
	}
	now := text(tx.l.Now())
	for _, table := range []string{"stage_families", "stage_codes", "stage_revoked"} {
		if _, err := tx.tx.Exec("DELETE FROM "+table+" WHERE until < ?", now); err != nil {
			return err
		}
	}
	return nil
}

// Watcher is a connection of its own to the ledger: it tells when another one changed something, and writes without
// waiting long for others.
type Watcher struct {
	l    *Ledger
	conn *sql.Conn
	file os.FileInfo
}

// patience is how long a Watcher waits for others who write.
const patience = 300 * time.Millisecond

// Watch opens a Watcher. Close it afterwards.
func (l *Ledger) Watch() (*Watcher, error) {
	w := &Watcher{l: l}
	var err error
	if w.file, err = os.Stat(l.path); err != nil {
		return nil, err
	}
	if l.readOnly {
		return w, nil
	}
	if w.conn, err = l.db.Conn(ctx()); err != nil {
		return nil, fmt.Errorf("watching the ledger: %w", translated(err))
	}
	if _, err := w.conn.ExecContext(ctx(), fmt.Sprintf("PRAGMA busy_timeout = %d", patience.Milliseconds())); err != nil {
		return nil, errors.Join(translated(err), w.conn.Close())
	}
	return w, nil
}

// ErrMoved means that the ledger is not where it was opened.
var ErrMoved = errors.New("the ledger is not where it was")

// Version changes whenever another connection has changed the ledger. Errors: ErrMoved.
func (w *Watcher) Version() (v int64, err error) {
	now, err := os.Stat(w.l.path)
	if err != nil || !os.SameFile(w.file, now) {
		return 0, fmt.Errorf("%w, at %s", ErrMoved, w.l.path)
	}
	if w.conn == nil {
		return 0, nil
	}
	err = w.conn.QueryRowContext(ctx(), "PRAGMA data_version").Scan(&v)
	return v, translated(err)
}

// Change runs a change as Ledger.Change does, on this connection. Errors: ErrBusy after a moment.
func (w *Watcher) Change(f func(*Tx) error) error {
	if w.conn == nil {
		return ErrReadOnly
	}
	tx, err := w.conn.BeginTx(ctx(), nil)
	if err != nil {
		return translated(err)
	}
	defer tx.Rollback()
	if err := f(&Tx{tx, w.l}); err != nil {
		return translated(err)
	}
	return translated(tx.Commit())
}

// Close ends the watch.
func (w *Watcher) Close() error {
	if w.conn == nil {
		return nil
	}
	return w.conn.Close()
}

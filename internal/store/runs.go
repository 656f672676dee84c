package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"tressik.example/internal/core/federation"
)

// AddRun keeps a rehearsal, a probe or a watch with all its findings, and gives it its number.
func (tx *Tx) AddRun(r *federation.Run) error {
	doc, err := json.Marshal(r)
	if err != nil {
		return err
	}
	res, err := tx.tx.Exec("INSERT INTO runs (trust, at, kind, doc) VALUES (?, ?, ?, ?)", r.Trust,
		r.At.UTC().Format(time.RFC3339), string(r.Kind), string(doc))
	if err == nil {
		r.Number, err = res.LastInsertId()
	}
	return err
}

// Runs lists what was kept of the runs of a trust, the newest first, at most n; 0 is all.
func Runs(l *Ledger, trust string, n int) ([]federation.Run, error) {
	if n == 0 {
		n = -1
	}
	rows, err := l.db.Query("SELECT id, kind, doc FROM runs WHERE trust = ? ORDER BY id DESC LIMIT ?", trust, n)
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := []federation.Run{}
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, *r)
	}
	return out, translated(rows.Err())
}

// RunOf returns one run of a trust. Errors: ErrNotFound.
func RunOf(l *Ledger, trust string, number int64) (*federation.Run, error) {
	return scanRun(l.db.QueryRow("SELECT id, kind, doc FROM runs WHERE trust = ? AND id = ?", trust, number))
}

func scanRun(row scanner) (*federation.Run, error) {
	r := &federation.Run{}
	var doc, kind string
	var number int64
	if err := row.Scan(&number, &kind, &doc); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return nil, ErrNotFound
		}
		return nil, translated(err)
	}
	if err := json.Unmarshal([]byte(doc), r); err != nil {
		return nil, fmt.Errorf("run %d of the ledger is damaged: %w", number, err)
	}
	r.Number, r.Kind = number, federation.ProofKind(kind)
	return r, nil
}

// Value returns what is kept under a key of the ledger itself; "" where nothing is.
func Value(l *Ledger, key string) (string, error) {
	v, err := l.value(key)
	if errors.Is(err, ErrNotFound) || errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return v, err
}

// SetValue keeps something under a key of the ledger itself.
func SetValue(tx *Tx, key, value string) error {
	_, err := tx.tx.Exec("INSERT OR REPLACE INTO ledger VALUES (?, ?)", key, value)
	return err
}

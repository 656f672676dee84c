package store

import (
	"encoding/json"
	"fmt"
)

// Accept keeps that a finding about a trust or a party is let be.
func Accept(tx *Tx, finding, about string, record any) error {
	doc, err := json.Marshal(record)
	if err != nil {
		return err
	}
	if _, err := tx.tx.Exec("INSERT OR REPLACE INTO accepted (finding, about, doc) VALUES (?, ?, ?)", finding, about,
		string(doc)); err != nil {
		return err
	}
	return tx.note("check.accept", "", about, nil, record)
}

// Reopen takes back that a finding is let be. Errors: ErrNotFound.
func Reopen(tx *Tx, finding, about string) error {
	res, err := tx.tx.Exec("DELETE FROM accepted WHERE finding = ? AND about = ?", finding, about)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return fmt.Errorf("%s of %s: %w", finding, about, ErrNotFound)
	}
	return tx.note("check.reopen", "", about, map[string]string{"finding": finding}, nil)
}

// Acceptances lists what is let be.
func Acceptances[T any](l *Ledger) ([]T, error) {
	return loadAll(l, func(*T, int64) {}, "SELECT doc, 0 FROM accepted ORDER BY about, finding")
}

package store

import (
	"encoding/json"
	"fmt"

	"tressik.example/internal/core/federation"
)

// AddExpected keeps an expectation, and gives it its ID.
func AddExpected(tx *Tx, e *federation.Expected) error {
	e.Added = tx.l.Now().UTC()
	doc, err := json.Marshal(e)
	if err != nil {
		return err
	}
	res, err := tx.tx.Exec("INSERT INTO expectations (trust, doc) VALUES (?, ?)", e.Trust, string(doc))
	if err != nil {
		return err
	}
	if e.ID, err = res.LastInsertId(); err != nil {
		return err
	}
	return tx.note("expect.add", "", e.Trust, nil, recordedExpected(e))
}

// recordedExpected is an expectation as the journal keeps it: which claims, not the person's values.
func recordedExpected(e *federation.Expected) *federation.Expected {
	c := *e
	c.Claims, c.Subject, c.Account = nil, "", ""
	for name := range e.Claims {
		if c.Claims == nil {
			c.Claims = map[string][]string{}
		}
		c.Claims[name] = nil
	}
	return &c
}

// RemoveExpected takes an expectation away. Errors: ErrNotFound.
func RemoveExpected(tx *Tx, e *federation.Expected) error {
	res, err := tx.tx.Exec("DELETE FROM expectations WHERE id = ?", e.ID)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return ErrNotFound
	}
	return tx.note("expect.remove", "", e.Trust, recordedExpected(e), nil)
}

// Held notes when expectations held, and at which entry of the journal; it is seen, not changed, and has no entry
// itself.
func Held(tx *Tx, list []federation.Expected) error {
	for i := range list {
		doc, err := json.Marshal(&list[i])
		if err != nil {
			return err
		}
		if _, err := tx.tx.Exec("UPDATE expectations SET doc = ? WHERE id = ?", string(doc), list[i].ID); err != nil {
			return err
		}
	}
	return nil
}

// Expectations lists those of a trust in the order in which they were added; "" lists those of all trusts.
func Expectations(l *Ledger, trust string) ([]federation.Expected, error) {
	rows, err := ofTrust(l, "SELECT id, doc FROM expectations", trust, "trust, id")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := []federation.Expected{}
	for rows.Next() {
		var id int64
		var doc string
		if err := rows.Scan(&id, &doc); err != nil {
			return nil, err
		}
		var e federation.Expected
		if err := json.Unmarshal([]byte(doc), &e); err != nil {
			return nil, fmt.Errorf("expectation %d of the ledger is damaged: %w", id, err)
		}
		e.ID = id
		out = append(out, e)
	}
	return out, translated(rows.Err())
}

// LastSeq is the number of the newest entry of the journal.
func LastSeq(l *Ledger) (n int64, err error) {
	err = l.db.QueryRow("SELECT coalesce(max(seq), 0) FROM journal").Scan(&n)
	return n, translated(err)
}

// JournalAfter lists the entries behind one that concern a trust or one of its parties, oldest first; those that only
// keep what was seen are left out.
func JournalAfter(l *Ledger, seq int64, t *federation.Trust) ([]Entry, error) {
	return entries(l, everyEntry+" WHERE seq > ? AND (trust = ? OR party IN (?, ?) OR action LIKE 'people.%') AND "+
		"action NOT IN ('trust.rehearse', 'trust.probe', 'trust.watch', 'expect.add', 'expect.remove') ORDER BY "+
		"seq", seq, t.Name, t.App, t.Provider)
}

// EntriesAfter lists the entries of the journal behind one, oldest first.
func EntriesAfter(l *Ledger, seq int64) ([]Entry, error) {
	return entries(l, everyEntry+" WHERE seq > ? ORDER BY seq", seq)
}

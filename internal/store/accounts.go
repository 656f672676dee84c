package store

import (
	"encoding/json"
	"fmt"

	"tressik.example/internal/core/accounts"
)

// PutAccounts replaces what is known of the accounts inside an app.
func (tx *Tx) PutAccounts(app, source string, list []accounts.Account) error {
	if _, err := tx.tx.Exec("DELETE FROM accounts WHERE app = ?", app); err != nil {
		return err
	}
	put, err := tx.tx.Prepare("INSERT INTO accounts (app, line, doc) VALUES (?, ?, ?)")
	if err != nil {
		return err
	}
	defer put.Close()
	for i := range list {
		doc, err := json.Marshal(list[i].Fields)
		if err != nil {
			return fmt.Errorf("account in line %d: %w", list[i].Line, err)
		}
		if _, err := put.Exec(app, list[i].Line, string(doc)); err != nil {
			return err
		}
	}
	_, err = tx.tx.Exec("INSERT OR REPLACE INTO exports (app, source, at, number) VALUES (?, ?, ?, ?)", app, source,
		text(tx.l.Now()), len(list))
	if err != nil {
		return err
	}
	return tx.note("accounts.load", app, "", nil, map[string]any{"source": source, "accounts": len(list)})
}

// Accounts lists the accounts of an app in the order of its export.
func (l *Ledger) Accounts(app string) ([]accounts.Account, error) {
	rows, err := l.db.Query("SELECT line, doc FROM accounts WHERE app = ? ORDER BY rowid", app)
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	var out []accounts.Account
	for rows.Next() {
		var a accounts.Account
		var doc string
		if err := rows.Scan(&a.Line, &doc); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(doc), &a.Fields); err != nil {
			return nil, fmt.Errorf("an account of %s: %w", app, err)
		}
		out = append(out, a)
	}
	return out, translated(rows.Err())
}

package store

import (
	"database/sql"
	"encoding/json"
	"errors"

	"tressik.example/internal/core/federation"
)

// maxVersionRaw is how much metadata is kept as received with each version, in bytes. An aggregate that is larger would
// be kept anew with each change of any of its entities.
const maxVersionRaw = 1 << 20

// Versions lists what a foreign party published over time, oldest first; the party of each is as it was then.
func (l *Ledger) Versions(party string) ([]federation.Version, error) {
	rows, err := l.db.Query("SELECT at, doc FROM versions WHERE party = ? ORDER BY id", party)
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	var out []federation.Version
	for rows.Next() {
		var at, doc string
		if err := rows.Scan(&at, &doc); err != nil {
			return nil, err
		}
		v := federation.Version{Number: len(out) + 1, At: moment(at)}
		if err := json.Unmarshal([]byte(doc), &v.Party); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, translated(rows.Err())
}

// VersionRaw returns the metadata of a version as it was received; nil where it had none, or was too large to keep.
// Errors: ErrNotFound.
func (l *Ledger) VersionRaw(party string, number int) ([]byte, error) {
	var raw []byte
	err := l.db.QueryRow("SELECT raw FROM versions WHERE party = ? ORDER BY id LIMIT 1 OFFSET ?", party,
		number-1).Scan(&raw)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	return raw, translated(err)
}

// keepVersion keeps what a foreign party publishes now, as it stands in the ledger.
func (tx *Tx) keepVersion(party string) error {
	_, err := tx.tx.Exec(`INSERT INTO versions (party, at, doc, raw) SELECT name, ?, doc,
		CASE WHEN length(raw) <= ? THEN raw END FROM parties WHERE name = ? AND NOT json_extract(doc, '$.own')`,
		text(tx.l.Now()), maxVersionRaw, party)
	return err
}

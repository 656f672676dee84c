package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"tressik.example/internal/core/people"
)

// PutSource keeps a source of people, in place of the one of the same name.
func (tx *Tx) PutSource(s *people.Source) error {
	doc, err := json.Marshal(s)
	if err != nil {
		return err
	}
	_, err = tx.tx.Exec("INSERT INTO sources (name, doc) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET doc = "+
		"excluded.doc", s.Name,
		string(doc))
	if err != nil {
		return err
	}
	return tx.note("people.source", "", "", nil, s)
}

// RemoveSource takes a source of people away, and the people who came from it.
func (tx *Tx) RemoveSource(name string) error {
	if _, err := tx.tx.Exec("DELETE FROM persons WHERE json_extract(doc, '$.source') = ?", name); err != nil {
		return err
	}
	if _, err := tx.tx.Exec("DELETE FROM sources WHERE name = ?", name); err != nil {
		return err
	}
	return tx.note("people.source-remove", "", "", map[string]string{"source": name}, nil)
}

// SourceRead notes that a source was read, with how many people it has.
func (tx *Tx) SourceRead(name string, number int) error {
	_, err := tx.tx.Exec("UPDATE sources SET at = ?, number = ? WHERE name = ?", text(tx.l.Now()), number, name)
	return err
}

// Sources lists the sources of people by name.
func (l *Ledger) Sources() ([]people.Source, error) {
	rows, err := l.db.Query("SELECT doc, at, number FROM sources ORDER BY name")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := []people.Source{}
	for rows.Next() {
		var s people.Source
		var doc, at string
		var n int
		if err := rows.Scan(&doc, &at, &n); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(doc), &s); err != nil {
			return nil, fmt.Errorf("a source of people: %w", err)
		}
		if s.People = n; at != "" {
			s.Read = moment(at)
		}
		out = append(out, s)
	}
	return out, translated(rows.Err())
}

// noneElsewhere refuses people who are there already and came from elsewhere than of. Errors: ErrExists.
func (tx *Tx) noneElsewhere(list []people.Person, of string) error {
	find, err := tx.tx.Prepare("SELECT coalesce(json_extract(doc, '$.source'), '') FROM persons WHERE id = ? COLLATE " +
		"NOCASE")
	if err != nil {
		return err
	}
	defer find.Close()
	for i := range list {
		var from string
		switch err := find.QueryRow(list[i].ID).Scan(&from); {
		case errors.Is(err, sql.ErrNoRows) || err == nil && from == of:
		case err != nil:
			return err
		case from == "":
			return fmt.Errorf("%s was loaded by hand, and %w; people of one name come from one source: take them out of the "+
				"file and load it with --replace", list[i].ID, ErrExists)
		default:
			return fmt.Errorf("%s came from the source %s, and %w; people of one name come from one source", list[i].ID, from,
				ErrExists)
		}
	}
	return nil
}

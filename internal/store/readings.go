package store

import "tressik.example/internal/core/federation"

// Readings lists how reading foreign parties again ended last, by the name of the party. One whose entry was changed
// since has none.
func (l *Ledger) Readings() (map[string]federation.Reading, error) {
	rows, err := l.db.Query("SELECT party, outcome, why, since, at, again, pinned FROM readings")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := map[string]federation.Reading{}
	for rows.Next() {
		var r federation.Reading
		var name, since, at, again, pinned string
		if err := rows.Scan(&name, &r.Outcome, &r.Why, &since, &at, &again, &pinned); err != nil {
			return nil, err
		}
		r.Since = moment(since)
		if at != "" {
			r.At, r.Again = moment(at), moment(again)
		}
		if pinned != "" {
			r.Pinned = moment(pinned)
		}
		out[name] = r
	}
	if err := rows.Err(); err != nil {
		return nil, translated(err)
	}
	sources, err := l.db.Query("SELECT party, source, etag, modified FROM fetched")
	if err != nil {
		return nil, translated(err)
	}
	defer sources.Close()
	for sources.Next() {
		var f federation.Fetched
		var name string
		if err := sources.Scan(&name, &f.Source, &f.ETag, &f.Modified); err != nil {
			return nil, err
		}
		r := out[name]
		r.Sources = append(r.Sources, f)
		out[name] = r
	}
	return out, translated(sources.Err())
}

// KeepReadings keeps how reading parties again ended now. The time since when one ends so stays while its outcome does,
// and what is known of its documents stays where it could not be read.
func (l *Ledger) KeepReadings(list map[string]federation.Reading) error {
	return l.Change(func(tx *Tx) error {
		for party, r := range list {
			pinned := ""
			if !r.Pinned.IsZero() {
				pinned = text(r.Pinned)
			}
			_, err := tx.tx.Exec(`INSERT INTO readings (party, outcome, why, since, at, again, pinned) VALUES (?, ?, ?, ?, ?,`+
				` ?, ?)
				ON CONFLICT (party) DO UPDATE SET since = CASE WHEN outcome = excluded.outcome THEN since ELSE excluded.since END,
					outcome = excluded.outcome, why = excluded.why, at = excluded.at, again = excluded.again,
					pinned = CASE WHEN excluded.pinned = '' THEN pinned ELSE excluded.pinned END`,
				party, r.Outcome, r.Why, text(l.Now()), text(r.At), text(r.Again), pinned)
			if err == nil && r.Sources != nil {
				_, err = tx.tx.Exec("DELETE FROM fetched WHERE party = ?", party)
			}
			if err != nil {
				return err
			}
			for _, f := range r.Sources {
				if _, err := tx.tx.Exec("INSERT OR REPLACE INTO fetched (party, source, etag, modified) VALUES (?, ?, ?, ?)",
					party, f.Source, f.ETag, f.Modified); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Told lists what `due --since-last` has said already.
func (l *Ledger) Told() (map[string]bool, error) {
	rows, err := l.db.Query("SELECT item FROM told")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := map[string]bool{}
	for rows.Next() {
		var item string
		if err := rows.Scan(&item); err != nil {
			return nil, err
		}
		out[item] = true
	}
	return out, translated(rows.Err())
}

// Tell replaces what `due --since-last` has said.
func (l *Ledger) Tell(items []string) error {
	return l.Change(func(tx *Tx) error {
		if _, err := tx.tx.Exec("DELETE FROM told"); err != nil {
			return err
		}
		for _, x := range items {
			if _, err := tx.tx.Exec("INSERT OR IGNORE INTO told (item) VALUES (?)", x); err != nil {
				return err
			}
		}
		return nil
	})
}

// Unread forgets how reading a party again ended, since its entry is another now.
func (tx *Tx) Unread(party string) error {
	_, err := tx.tx.Exec("DELETE FROM readings WHERE party = ?", party)
	if err == nil {
		_, err = tx.tx.Exec("DELETE FROM fetched WHERE party = ?", party)
	}
	return translated(err)
}

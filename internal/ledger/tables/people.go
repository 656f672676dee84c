package tables

import (
	"errors"
	"strings"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/model"
)

func people() *rows {
	return &rows{selects: "SELECT p.doc, coalesce(s.key, '') FROM persons p LEFT JOIN subjects s " +
		"ON nocase(s.person) = nocase(p.id)",
		key: "nocase(p.id) = ?", order: []string{"nocase(p.id)"},
		by: map[model.Index]string{model.BySource: "coalesce(json_extract(p.doc, '$.source'), '') = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, doc := &model.Person{}, ""
			if err := s.Scan(&doc, &x.Pseudo); err != nil {
				return nil, err
			}
			return x, readInto(&x.Person, doc, "person")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Person)
			doc, err := written(&x.Person)
			if err != nil {
				return err
			}
			return put(r, "INSERT INTO persons (id, doc) VALUES (?, ?) ON CONFLICT (nocase(id)) DO UPDATE SET doc = "+
				"excluded.doc",
				x.Person.ID, doc)
		},
		delete: "DELETE FROM persons AS p"}
}

func subjects() *rows {
	return &rows{selects: "SELECT person, key, uuid FROM subjects", key: "nocase(person) = ?",
		order: []string{"nocase(person)"},
		by:    map[model.Index]string{model.BySubject: "key = ?", model.ByUUID: "uuid = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x := &model.Subject{}
			return x, s.Scan(&x.Person, &x.Pseudo, &x.UUID)
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Subject)
			return put(r, `INSERT INTO subjects (person, key, uuid) VALUES (?, ?, ?)
				ON CONFLICT (nocase(person)) DO UPDATE SET person = excluded.person, key = excluded.key,
					uuid = excluded.uuid`,
				x.Person,
				x.Pseudo, x.UUID)
		},
		delete: "DELETE FROM subjects"}
}

func sources() *rows {
	return &rows{selects: "SELECT doc, at, number FROM sources", key: "name = ?", order: []string{"name"},
		scan: func(s Scanner) (model.Record, error) {
			x, doc, at := &model.Source{}, "", ""
			if err := s.Scan(&doc, &at, &x.People); err != nil {
				return nil, err
			}
			x.Read = moment(at)
			return x, readInto(&x.Source, doc, "source of people")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Source)
			doc, err := written(&x.Source)
			if err != nil {
				return err
			}
			return put(r, upsert("sources", "name", "doc, at, number"),
				x.Source.Name, doc, stamp(x.Read), x.People)
		},
		delete: "DELETE FROM sources"}
}

// exports keeps an export in one row and each of its accounts in another.
type exports struct{}

func (exports) get(r *Reader, k model.Key) (model.Record, error) {
	x, at := &model.Export{}, ""
	err := r.c.Row("SELECT app, source, at FROM exports WHERE app = ?", k.ID).Scan(&x.App,
		&x.Source, &at)
	if err != nil {
		return nil, r.notFound(err)
	}
	x.At = moment(at)
	list, err := r.c.Rows("SELECT line, doc FROM accounts WHERE app = ? ORDER BY rowid", k.ID)
	if err != nil {
		return nil, r.c.Said(err)
	}
	defer list.Close()
	for list.Next() {
		var a accounts.Account
		var doc string
		if err := list.Scan(&a.Line, &doc); err != nil {
			return nil, r.c.Said(err)
		}
		if err := readInto(&a.Fields, doc, "account of "+k.ID); err != nil {
			return nil, err
		}
		x.Accounts = append(x.Accounts, a)
	}
	return x, r.c.Said(list.Err())
}

func (t exports) find(r *Reader, q model.Query, yield func(model.Record, error) bool) {
	eachID(r, "SELECT app FROM exports ORDER BY app", q, t, yield)
}

func (t exports) put(r *Reader, c model.Change) error {
	x := c.After.(*model.Export)
	if err := t.take(r, c.Key); err != nil {
		return err
	}
	for _, a := range x.Accounts {
		doc, err := written(a.Fields)
		if err != nil {
			return err
		}
		if err := put(r, "INSERT INTO accounts (app, line, doc) VALUES (?, ?, ?)", x.App, a.Line, doc); err != nil {
			return err
		}
	}
	return put(r, "INSERT INTO exports (app, source, at, number) VALUES (?, ?, ?, ?)", x.App, x.Source, stamp(x.At),
		len(x.Accounts))
}

func (exports) take(r *Reader, k model.Key) error {
	return errors.Join(put(r, "DELETE FROM accounts WHERE app = ?", k.ID), put(r,
		"DELETE FROM exports WHERE app = ?", k.ID))
}

// eachID gets the record of each ID that a query selects.
func eachID(r *Reader, query string, q model.Query, t table, yield func(model.Record, error) bool) {
	ids, err := column(r, query)
	for i := 0; i < len(ids) && err == nil; i++ {
		var x model.Record
		if x, err = t.get(r, model.Key{Kind: q.Kind, ID: ids[i]}); err == nil && !yield(x, nil) {
			return
		}
	}
	if err != nil {
		yield(nil, err)
	}
}

func column(r *Reader, query string, args ...any) ([]string, error) {
	list, err := r.c.Rows(query, args...)
	if err != nil {
		return nil, r.c.Said(err)
	}
	defer list.Close()
	var out []string
	for list.Next() {
		var s string
		if err := list.Scan(&s); err != nil {
			return nil, r.c.Said(err)
		}
		out = append(out, s)
	}
	return out, r.c.Said(list.Err())
}

// readings keeps a reading in one row and each document that was read in another.
type readings struct{}

const selectReading = "SELECT party, outcome, why, since, at, again, pinned FROM readings"

func scanReading(s Scanner) (*model.Reading, error) {
	x := &model.Reading{}
	r := &x.Reading
	var since, at, again, pinned string
	err := s.Scan(&x.Party, &r.Outcome, &r.Why, &since, &at, &again, &pinned)
	r.Since, r.At, r.Again, r.Pinned = moment(since), moment(at), moment(again), moment(pinned)
	return x, err
}

// fetched are the documents that were read of parties: of one, or of all.
func fetched(r *Reader, where string, args ...any) (map[string][]federation.Fetched, error) {
	list, err := r.c.Rows("SELECT party, source, etag, modified FROM fetched "+where+" ORDER BY party, source",
		args...)
	if err != nil {
		return nil, r.c.Said(err)
	}
	defer list.Close()
	out := map[string][]federation.Fetched{}
	for list.Next() {
		var party string
		var f federation.Fetched
		if err := list.Scan(&party, &f.Source, &f.ETag, &f.Modified); err != nil {
			return nil, r.c.Said(err)
		}
		out[party] = append(out[party], f)
	}
	return out, r.c.Said(list.Err())
}

func (readings) get(r *Reader, k model.Key) (model.Record, error) {
	x, err := scanReading(r.c.Row(selectReading+" WHERE party = ?", k.ID))
	if err != nil {
		return nil, r.notFound(err)
	}
	of, err := fetched(r, "WHERE party = ?", k.ID)
	x.Reading.Sources = of[k.ID]
	return x, err
}

func (readings) find(r *Reader, _ model.Query, yield func(model.Record, error) bool) {
	of, err := fetched(r, "")
	if err != nil {
		yield(nil, err)
		return
	}
	list, err := r.c.Rows(selectReading + " ORDER BY party")
	if err != nil {
		yield(nil, r.c.Said(err))
		return
	}
	defer list.Close()
	for list.Next() {
		x, err := scanReading(list)
		if err != nil {
			yield(nil, r.c.Said(err))
			return
		}
		x.Reading.Sources = of[x.Party]
		if !yield(x, nil) {
			return
		}
	}
	if err := list.Err(); err != nil {
		yield(nil, r.c.Said(err))
	}
}

func (t readings) put(r *Reader, c model.Change) error {
	x := c.After.(*model.Reading)
	if err := t.take(r, c.Key); err != nil {
		return err
	}
	y := &x.Reading
	if err := put(r, "INSERT INTO readings (party, outcome, why, since, at, again, pinned) VALUES (?, ?, "+
		"?, ?, ?, ?, ?)",
		x.Party, y.Outcome, y.Why, stamp(y.Since), stamp(y.At), stamp(y.Again), stamp(y.Pinned)); err != nil {
		return err
	}
	for _, f := range y.Sources {
		if err := put(r, upsert("fetched", "party, source", "etag, modified"), x.Party,
			f.Source, f.ETag, f.Modified); err != nil {
			return err
		}
	}
	return nil
}

func (readings) take(r *Reader, k model.Key) error {
	return errors.Join(put(r, "DELETE FROM readings WHERE party = ?", k.ID),
		put(r, "DELETE FROM fetched WHERE party = ?", k.ID))
}

// stageKept keeps what a stage must not forget in a table for each sort of it.
type stageKept struct{}

func sortOf(k model.Key) (sort, id string) {
	sort, id, _ = strings.Cut(k.ID, "\x00")
	return sort, id
}

func scanKept(s Scanner) (*model.Kept, error) {
	x := &model.Kept{}
	var id, family, doc, until string
	if err := s.Scan(&id, &family, &doc, &until); err != nil {
		return nil, err
	}
	x.Until = moment(until)
	switch {
	case doc != "":
		x.Family = &oauth.Family{}
		return x, readInto(x.Family, doc, "what a stage kept")
	case family != "":
		x.UsedCode, x.Of = id, family
	default:
		x.Revoked = id
	}
	return x, nil
}

const (
	selectFamilies = "SELECT id, '', doc, until FROM stage_families"
	selectCodes    = "SELECT hash, family, '', until FROM stage_codes"
	selectRevoked  = "SELECT jti, '', '', until FROM stage_revoked"
)

func (stageKept) get(r *Reader, k model.Key) (model.Record, error) {
	sort, id := sortOf(k)
	query := map[string]string{model.KeptFamily: selectFamilies + " WHERE id = ?", model.KeptCode: selectCodes +
		" WHERE hash = ?", model.KeptRevoked: selectRevoked + " WHERE jti = ?"}[sort]
	x, err := scanKept(r.c.Row(query, id))
	if err != nil {
		return nil, r.notFound(err)
	}
	return x, nil
}

func (stageKept) find(r *Reader, q model.Query, yield func(model.Record, error) bool) {
	queries, args := []string{selectCodes + " ORDER BY hash", selectFamilies + " ORDER BY id",
		selectRevoked + " ORDER BY jti"},
		[]any{}
	if q.By == model.ByTrust {
		queries, args = []string{selectFamilies + " WHERE trust = ? ORDER BY id"}, []any{q.Value}
	}
	for _, query := range queries {
		list, err := r.c.Rows(query, args...)
		if err != nil {
			yield(nil, r.c.Said(err))
			return
		}
		for list.Next() {
			x, err := scanKept(list)
			if err != nil {
				list.Close()
				yield(nil, r.c.Said(err))
				return
			}
			if !yield(x, nil) {
				list.Close()
				return
			}
		}
		if err := errors.Join(list.Err(), list.Close()); err != nil {
			yield(nil, r.c.Said(err))
			return
		}
	}
}

func (stageKept) put(r *Reader, c model.Change) error {
	x := c.After.(*model.Kept)
	switch {
	case x.Family != nil:
		doc, err := written(x.Family)
		if err != nil {
			return err
		}
		return put(r, `INSERT INTO stage_families (id, trust, doc, until) VALUES (?, ?, ?, ?)
			ON CONFLICT (id) DO UPDATE SET doc = excluded.doc, until = excluded.until`,
			x.Family.ID, x.Family.Trust, doc,
			stamp(x.Until))
	case x.UsedCode != "":
		return put(r, "INSERT INTO stage_codes (hash, family, until) VALUES (?, ?, ?) ON CONFLICT DO NOTHING",
			x.UsedCode, x.Of, stamp(x.Until))
	}
	return put(r, "INSERT INTO stage_revoked (jti, until) VALUES (?, ?) ON CONFLICT DO NOTHING", x.Revoked,
		stamp(x.Until))
}

func (stageKept) take(r *Reader, k model.Key) error {
	sort, id := sortOf(k)
	return put(r, map[string]string{model.KeptFamily: "DELETE FROM stage_families WHERE id = ?",
		model.KeptCode:    "DELETE FROM stage_codes WHERE hash = ?",
		model.KeptRevoked: "DELETE FROM stage_revoked WHERE jti = ?"}[sort],
		id)
}

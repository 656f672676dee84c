package tables

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/model"
)

func persons() *rows {
	return &rows{table: "persons", columns: "id, doc", keys: "nocase(id)", key: "nocase(p.id) = ?",
		from:  "persons p LEFT JOIN subjects s ON nocase(s.person) = nocase(p.id)",
		order: []string{"nocase(p.id)"},
		by:    map[model.Index]string{model.BySource: "coalesce(json_extract(p.doc, '$.source'), '') = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Person{}
			var id, doc, person, uuid string
			var sum, of int64
			if err := s.Scan(&id, &doc, &sum, &person, &x.Pseudo, &uuid, &of); err != nil {
				return nil, err
			}
			if err := r.holds("persons", sum, id, doc); err != nil {
				return nil, err
			}
			if person != "" { // what their pseudonyms are made from lies in a row of its own
				if err := r.holds("subjects", of, person, x.Pseudo, uuid); err != nil {
					return nil, err
				}
			}
			return x, readInto(&x.Person, doc, "person")
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Person)
			doc, err := written(&x.Person)
			return []any{x.Person.ID, doc}, err
		}}
}

func subjects() *rows {
	return &rows{table: "subjects", columns: "person, key, uuid", keys: "nocase(person)", key: "nocase(person) = ?",
		order: []string{"nocase(person)"},
		by:    map[model.Index]string{model.BySubject: "key = ?", model.ByUUID: "uuid = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Subject{}
			return x, r.scan("subjects", s, &x.Person, &x.Pseudo, &x.UUID)
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Subject)
			return []any{x.Person, x.Pseudo, x.UUID}, nil
		}}
}

func sources() *rows {
	return &rows{table: "sources", columns: "name, doc, at, number", key: "name = ?", order: []string{"name"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Source{}
			var name, doc, at string
			if err := r.scan("sources", s, &name, &doc, &at, &x.People); err != nil {
				return nil, err
			}
			x.Read = moment(at)
			return x, readInto(&x.Source, doc, "source of people")
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Source)
			doc, err := written(&x.Source)
			return []any{x.Source.Name, doc, stamp(x.Read), x.People}, err
		}}
}

// exports keeps an export in one row and each of its accounts in another.
type exports struct{}

func (exports) get(r *Reader, k model.Key) (model.Record, error) {
	x, at, number := &model.Export{}, "", 0
	err := r.scan("exports", r.c.Row("SELECT app, source, at, number, sum FROM exports WHERE app = ?", k.ID), &x.App,
		&x.Source, &at, &number)
	if err != nil {
		return nil, r.notFound(err)
	}
	x.At = moment(at)
	const query = "SELECT app, line, doc, sum FROM accounts WHERE app = ? ORDER BY rowid"
	if err := r.each("accounts", query, []any{k.ID}, func(s Scanner) (bool, error) {
		var a accounts.Account
		var app, doc string
		if err := r.scan("accounts", s, &app, &a.Line, &doc); err != nil {
			return false, err
		}
		x.Accounts = append(x.Accounts, a)
		return true, readInto(&x.Accounts[len(x.Accounts)-1].Fields, doc, "account of "+k.ID)
	}); err != nil {
		return nil, err
	}
	if len(x.Accounts) != number {
		return x, r.damage(&damagedError{"accounts", fmt.Sprintf("%d of the %d accounts of %s are there",
			len(x.Accounts),
			number, k.ID)})
	}
	return x, nil
}

func (t exports) find(r *Reader, q model.Query, yield func(model.Record, error) bool) {
	if r.damaged != nil { // whoever looks for it is told of accounts that are of no export
		of, err := column(r, "SELECT DISTINCT app FROM accounts WHERE app NOT IN (SELECT app FROM exports)")
		if err != nil {
			yield(nil, err)
			return
		}
		for _, app := range of {
			r.damaged(model.Exports, app)
		}
	}
	apps, err := column(r, "SELECT app FROM exports ORDER BY app")
	for i := 0; i < len(apps) && err == nil; i++ {
		var x model.Record
		if x, err = t.get(r, model.Key{Kind: q.Kind, ID: apps[i]}); err != nil && r.passes("exports", err) {
			err = nil
			continue
		}
		if err == nil && !yield(x, nil) {
			return
		}
	}
	if err != nil {
		yield(nil, err)
	}
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
		if err := r.insert("accounts", "app, line, doc", x.App, a.Line, doc); err != nil {
			return err
		}
	}
	return r.insert("exports", "app, source, at, number", x.App, x.Source, stamp(x.At), len(x.Accounts))
}

func (exports) take(r *Reader, k model.Key) error {
	return errors.Join(r.c.Exec("DELETE FROM accounts WHERE app = ?", k.ID),
		r.c.Exec("DELETE FROM exports WHERE app = ?", k.ID))
}

// insert adds a row with its sum.
func (r *Reader) insert(table, columns string, values ...any) error {
	return r.c.Exec("INSERT INTO "+table+" ("+columns+", sum) VALUES (?"+strings.Repeat(", ?", len(values))+")",
		append(values, sumOf(table, values))...)
}

func column(r *Reader, query string, args ...any) (out []string, err error) {
	err = r.each("exports", query, args, func(s Scanner) (bool, error) {
		out = append(out, "")
		return true, s.Scan(&out[len(out)-1])
	})
	return out, err
}

// readings keeps a reading in one row and each document that was read in another.
type readings struct{}

const readingColumns = "party, outcome, why, since, at, again, pinned"

// readingOf reads a row; the sum is over the documents too.
func readingOf(r *Reader, s Scanner, documents func(party string) []federation.Fetched) (*model.Reading, error) {
	x := &model.Reading{}
	y := &x.Reading
	var since, at, again, pinned string
	var sum int64
	if err := s.Scan(&x.Party, &y.Outcome, &y.Why, &since, &at, &again, &pinned, &sum); err != nil {
		return nil, err
	}
	y.Since, y.At, y.Again, y.Pinned = moment(since), moment(at), moment(again), moment(pinned)
	y.Sources = documents(x.Party)
	values := readingValues(x)
	copy(values[3:], []any{since, at, again, pinned}) // as they stand there
	return x, r.holds("readings", sum, values...)
}

// readingValues are the columns of a reading, and those of its documents behind them.
func readingValues(x *model.Reading) []any {
	y := &x.Reading
	out := []any{x.Party, y.Outcome, y.Why, stamp(y.Since), stamp(y.At), stamp(y.Again), stamp(y.Pinned)}
	list := slices.Clone(y.Sources)
	slices.SortFunc(list, func(a, b federation.Fetched) int { return strings.Compare(a.Source, b.Source) })
	for _, f := range list {
		out = append(out, f.Source, f.ETag, f.Modified)
	}
	return out
}

// fetched are the documents that were read of parties: of one, or of all.
func fetched(r *Reader, where string, args ...any) (map[string][]federation.Fetched, error) {
	out := map[string][]federation.Fetched{}
	err := r.each("fetched", "SELECT party, source, etag, modified FROM fetched "+where+" ORDER BY party, source", args,
		func(s Scanner) (bool, error) {
			var party string
			var f federation.Fetched
			err := s.Scan(&party, &f.Source, &f.ETag, &f.Modified)
			out[party] = append(out[party], f)
			return true, err
		})
	return out, err
}

func (readings) get(r *Reader, k model.Key) (model.Record, error) {
	of, err := fetched(r, "WHERE party = ?", k.ID)
	if err != nil {
		return nil, err
	}
	x, err := readingOf(r, r.c.Row("SELECT "+readingColumns+", sum FROM readings WHERE party = ?", k.ID),
		func(string) []federation.Fetched { return of[k.ID] })
	if err != nil {
		return nil, r.notFound(err)
	}
	return x, nil
}

func (readings) find(r *Reader, _ model.Query, yield func(model.Record, error) bool) {
	of, err := fetched(r, "")
	if err != nil {
		yield(nil, err)
		return
	}
	stopped := false
	err = r.each("readings", "SELECT "+readingColumns+", sum FROM readings ORDER BY party", nil,
		func(s Scanner) (bool, error) {
			x, err := readingOf(r, s, func(party string) []federation.Fetched {
				out := of[party]
				delete(of, party)
				return out
			})
			stopped = err == nil && !yield(x, nil)
			return !stopped, err
		})
	if err != nil {
		yield(nil, err)
	}
	if err != nil || stopped {
		return
	}
	for party := range of { // of no reading
		if err := r.damage(&damagedError{"readings", party}); err != nil {
			yield(nil, err)
			return
		}
	}
}

func (t readings) put(r *Reader, c model.Change) error {
	x := c.After.(*model.Reading)
	if err := t.take(r, c.Key); err != nil {
		return err
	}
	values := readingValues(x)
	sum := sumOf("readings", values)
	if err := r.c.Exec("INSERT INTO readings ("+readingColumns+", sum) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		append(values[:7:7], sum)...); err != nil {
		return err
	}
	for _, f := range x.Reading.Sources {
		if err := r.c.Exec(upsert("fetched", "party, source", "party, source, etag, modified"), x.Party, f.Source,
			f.ETag, f.Modified); err != nil {
			return err
		}
	}
	return nil
}

func (readings) take(r *Reader, k model.Key) error {
	return errors.Join(r.c.Exec("DELETE FROM readings WHERE party = ?", k.ID),
		r.c.Exec("DELETE FROM fetched WHERE party = ?", k.ID))
}

// stageKept keeps what a stage must not forget in a table for each sort of it.
type stageKept struct{}

func sortOf(k model.Key) (sort, id string) {
	sort, id, _ = strings.Cut(k.ID, "\x00")
	return sort, id
}

// sortTables are where each sort of what a stage keeps lies, in the order in which they are read.
func sortTables() [3]struct{ sort, table, columns string } {
	return [3]struct{ sort, table, columns string }{
		{model.KeptCode, "stage_codes", "hash, family, until"},
		{model.KeptFamily, "stage_families", "id, trust, doc, until"},
		{model.KeptRevoked, "stage_revoked", "jti, until"},
	}
}

func scanKept(r *Reader, sort string, s Scanner) (*model.Kept, error) {
	x := &model.Kept{}
	var id, trust, doc, until string
	var err error
	switch sort {
	case model.KeptCode:
		err = r.scan("stage_codes", s, &x.UsedCode, &x.Of, &until)
	case model.KeptRevoked:
		err = r.scan("stage_revoked", s, &x.Revoked, &until)
	default:
		if err = r.scan("stage_families", s, &id, &trust, &doc, &until); err == nil {
			x.Family = &oauth.Family{}
			err = readInto(x.Family, doc, "what a stage kept")
		}
	}
	x.Until = moment(until)
	return x, err
}

func (stageKept) get(r *Reader, k model.Key) (model.Record, error) {
	sort, id := sortOf(k)
	for _, t := range sortTables() {
		if t.sort != sort {
			continue
		}
		column, _, _ := strings.Cut(t.columns, ",")
		x, err := scanKept(r, sort, r.c.Row("SELECT "+t.columns+", sum FROM "+t.table+" WHERE "+column+" = ?", id))
		if err != nil {
			return nil, r.notFound(err)
		}
		return x, nil
	}
	return nil, model.ErrNotFound
}

func (stageKept) find(r *Reader, q model.Query, yield func(model.Record, error) bool) {
	for _, t := range sortTables() {
		var args []any
		query := "SELECT " + t.columns + ", sum FROM " + t.table
		if q.By == model.ByTrust {
			if t.sort != model.KeptFamily {
				continue
			}
			query, args = query+" WHERE trust = ?", []any{q.Value}
		}
		column, _, _ := strings.Cut(t.columns, ",")
		stopped := false
		err := r.each(t.table, query+" ORDER BY "+column, args, func(s Scanner) (bool, error) {
			x, err := scanKept(r, t.sort, s)
			stopped = err == nil && !yield(x, nil)
			return !stopped, err
		})
		if err != nil {
			yield(nil, err)
		}
		if err != nil || stopped {
			return
		}
	}
}

func (stageKept) put(r *Reader, c model.Change) error {
	x := c.After.(*model.Kept)
	var values []any
	at := 0
	switch {
	case x.Family != nil:
		doc, err := written(x.Family)
		if err != nil {
			return err
		}
		at, values = 1, []any{x.Family.ID, x.Family.Trust, doc, stamp(x.Until)}
	case x.UsedCode != "":
		values = []any{x.UsedCode, x.Of, stamp(x.Until)}
	default:
		at, values = 2, []any{x.Revoked, stamp(x.Until)}
	}
	t := sortTables()[at]
	column, _, _ := strings.Cut(t.columns, ",")
	query := upsert(t.table, column, t.columns+", sum")
	if at != 1 { // what is over stays over, as it was told first
		query, _, _ = strings.Cut(query, " DO UPDATE")
		query += " DO NOTHING"
	}
	return r.c.Exec(query, append(values, sumOf(t.table, values))...)
}

func (stageKept) take(r *Reader, k model.Key) error {
	sort, id := sortOf(k)
	for _, t := range sortTables() {
		if t.sort == sort {
			column, _, _ := strings.Cut(t.columns, ",")
			return r.c.Exec("DELETE FROM "+t.table+" WHERE "+column+" = ?", id)
		}
	}
	return nil
}

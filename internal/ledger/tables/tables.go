// Package tables keeps the records of a ledger in the tables of a SQL database. What all such databases have in common
// stands here once: which table and which columns a kind of record has, by which index it is found, how the journal is
// written. What differs lies behind Conn, and in the migrations of each engine: SQLite's file and PostgreSQL's server
// say the same, and the suite of package ledgertest holds them to it.
package tables

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/model"
)

// Schema is the number of the migration that makes the tables what this version knows, in each engine.
const Schema = 14

// table keeps the records of one kind.
type table interface {
	get(r *Reader, k model.Key) (model.Record, error)
	find(r *Reader, q model.Query, yield func(model.Record, error) bool)
	put(r *Reader, c model.Change) error
	take(r *Reader, k model.Key) error
}

// rows keeps each record in a row of its own.
type rows struct {
	selects string                                        // SELECT … FROM …
	key     string                                        // condition for one record, with a ? for each part of its key
	args    func(k model.Key) []any                       // those parts; nil takes the key apart
	by      map[model.Index]string                        // condition for an index, with a ? for each part of the value
	order   []string                                      // columns
	scan    func(Scanner) (model.Record, error)           // reads a row
	write   func(r *Reader, c model.Change) error         // puts a record
	delete  string                                        // DELETE FROM …, without its condition
	name    string                                        // SELECT of the names alone; "" reads whole records for them
	every   string                                        // condition that holds for all of the kind
	empty   map[model.Index]func(v string) (string, bool) // condition of its own for a value
}

func (t *rows) parts(k model.Key) []any {
	if t.args != nil {
		return t.args(k)
	}
	var out []any
	for _, p := range k.Parts() {
		out = append(out, p)
	}
	return out
}

func (t *rows) get(r *Reader, k model.Key) (model.Record, error) {
	x, err := t.scan(r.c.Row(t.selects+" WHERE "+t.key, t.parts(k)...))
	if err != nil {
		return nil, r.notFound(err)
	}
	return x, nil
}

// where is the condition of a query, with its arguments; few says that it picks few of many, by an index.
func (t *rows) where(q model.Query) (c string, args []any, few bool, err error) {
	if q.By == model.Every {
		return t.every, nil, false, nil
	}
	if f := t.empty[q.By]; f != nil {
		if c, few = f(q.Value); few {
			return c, nil, few, nil
		}
	}
	c, ok := t.by[q.By]
	if !ok {
		return "", nil, false, fmt.Errorf("records of the kind %s have no index %s", q.Kind, q.By)
	}
	for _, p := range strings.SplitN(q.Value, "\x00", strings.Count(c, "?")) {
		args = append(args, p)
	}
	if len(args) != strings.Count(c, "?") {
		return "", nil, false, fmt.Errorf("%q is no value of the index %s of %s", q.Value, q.By, q.Kind)
	}
	return c, args, false, nil
}

// selected asks for what a query finds, by a SELECT.
func (t *rows) selected(r *Reader, selects string, q model.Query) (Rows, error) {
	where, args, few, err := t.where(q)
	if err != nil {
		return nil, err
	}
	order := t.order
	if few { // sorted afterwards: in the order of the key all of them would be looked at
		order = slices.Clone(order)
		for i := range order {
			order[i] += " || ''"
		}
	}
	if where != "" {
		selects += " WHERE " + where
	}
	direction := ""
	if q.Newest {
		direction = " DESC"
	}
	list, err := r.c.Rows(selects+" ORDER BY "+strings.Join(order, direction+", ")+direction, args...)
	return list, r.c.Said(err)
}

func (t *rows) find(r *Reader, q model.Query, yield func(model.Record, error) bool) {
	list, err := t.selected(r, t.selects, q)
	if err != nil {
		yield(nil, err)
		return
	}
	defer list.Close()
	for list.Next() {
		x, err := t.scan(list)
		if err != nil {
			yield(nil, r.c.Said(err))
			return
		}
		if !yield(x, nil) {
			return
		}
	}
	if err := list.Err(); err != nil {
		yield(nil, r.c.Said(err))
	}
}

// names gives the names alone of what a query finds.
func (t *rows) names(r *Reader, q model.Query, yield func(string, error) bool) {
	list, err := t.selected(r, t.name, q)
	if err != nil {
		yield("", err)
		return
	}
	defer list.Close()
	for list.Next() {
		var name string
		if err := list.Scan(&name); err != nil {
			yield("", r.c.Said(err))
			return
		}
		if !yield(name, nil) {
			return
		}
	}
	if err := list.Err(); err != nil {
		yield("", r.c.Said(err))
	}
}

func (t *rows) put(r *Reader, c model.Change) error { return t.write(r, c) }

func (t *rows) take(r *Reader, k model.Key) error {
	return r.c.Exec(t.delete+" WHERE "+t.key, t.parts(k)...)
}

// upsert is a query that puts a row, over the one of the same key where there is one. Its values are the key's, then
// the others'.
func upsert(table, key, others string) string {
	columns := strings.Split(others, ", ")
	sets := make([]string, len(columns))
	for i, c := range columns {
		sets[i] = c + " = excluded." + c
	}
	n := len(columns) + strings.Count(key, ", ") + 1
	return "INSERT INTO " + table + " (" + key + ", " + others + ") VALUES (?" + strings.Repeat(", ?", n-1) +
		") ON CONFLICT (" + key + ") DO UPDATE SET " + strings.Join(sets, ", ")
}

// put writes a row.
func put(r *Reader, query string, args ...any) error {
	return r.c.Exec(query, args...)
}

// written is a document as it is kept in a column.
func written(v any) (string, error) {
	b, err := json.Marshal(v)
	return string(b), err
}

// readInto reads a document out of a column.
func readInto(v any, doc, what string) error {
	if err := json.Unmarshal([]byte(doc), v); err != nil {
		return fmt.Errorf("a record of the ledger is damaged (%s): %w", what, err)
	}
	return nil
}

// tableOf is where records of a kind are kept.
func tableOf(k model.Kind) (table, error) {
	switch k {
	case model.Settings:
		return settings(), nil
	case model.Parties:
		return parties(), nil
	case model.Versions:
		return versions(), nil
	case model.Trusts:
		return trusts(), nil
	case model.OwnKeys:
		return ownKeys(), nil
	case model.People:
		return people(), nil
	case model.Subjects:
		return subjects(), nil
	case model.Secrets:
		return secrets(), nil
	case model.Consents:
		return consents(), nil
	case model.Sources:
		return sources(), nil
	case model.Routes:
		return routes(), nil
	case model.Arrived:
		return arrived(), nil
	case model.Exports:
		return exports{}, nil
	case model.Expectations:
		return expectations(), nil
	case model.Accepted:
		return accepted(), nil
	case model.Registrars:
		return registrars(), nil
	case model.Registered:
		return registrations(), nil
	case model.Carried:
		return carried(), nil
	case model.Uses:
		return uses(), nil
	case model.Runs:
		return runs(), nil
	case model.Readings:
		return readings{}, nil
	case model.Told:
		return told(), nil
	case model.StageKeys:
		return stageKeys(), nil
	case model.StageKept:
		return stageKept{}, nil
	}
	return nil, fmt.Errorf("%q is no kind of record that this version keeps", k)
}

func settings() *rows {
	return &rows{selects: "SELECT key, value FROM ledger", key: "key = ?", order: []string{"key"},
		scan: func(s Scanner) (model.Record, error) {
			x := &model.Setting{}
			return x, s.Scan(&x.Name, &x.Value)
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Setting)
			return put(r, upsert("ledger", "key", "value"), x.Name, x.Value)
		},
		delete: "DELETE FROM ledger"}
}

// identity is what the table keeps unique for a party: its entity ID, or a stand-in of its name where it has none.
func identity(p *federation.Party) string {
	if p.Entity.ID != "" {
		return p.Entity.ID
	}
	return "name:" + p.Name
}

func parties() *rows {
	return &rows{selects: "SELECT doc, version FROM parties", key: "name = ?", order: []string{"name"},
		by: map[model.Index]string{model.ByKind: "kind = ?", model.ByEntity: "kind = ? AND entity = ?",
			model.ByAudience: "kind || '' = ? AND json_extract(doc, '$.api.audience') = ?",
			model.ByIssuer:   "kind || '' = ? AND json_extract(doc, '$.openid.discovery.issuer') = ?"},
		empty: map[model.Index]func(string) (string, bool){model.ByAudience: func(v string) (string, bool) {
			// by its index: there are few among many apps
			return "json_extract(doc, '$.api.audience') IS NOT NULL", v == ""
		}},
		scan: func(s Scanner) (model.Record, error) {
			x, doc := &model.Party{}, ""
			if err := s.Scan(&doc, &x.Version); err != nil {
				return nil, err
			}
			return x, readInto(&x.Party, doc, "party")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Party)
			doc, err := written(&x.Party)
			if err != nil {
				return err
			}
			var raw []byte
			if c.Document != nil {
				raw = c.Document.Bytes
			}
			return put(r, `INSERT INTO parties (name, kind, entity, doc, raw, version) VALUES (?, ?, ?, ?, ?, ?)
				ON CONFLICT (name) DO UPDATE SET entity = excluded.entity, doc = excluded.doc,
				version = excluded.version, raw = CASE WHEN ? THEN excluded.raw ELSE parties.raw END`,
				x.Party.Name, string(x.Party.Kind), identity(&x.Party), doc,
				raw, x.Version, c.Document != nil)
		},
		delete: "DELETE FROM parties", name: "SELECT name FROM parties"}
}

func versions() *rows {
	return &rows{selects: "SELECT id, party, at, doc FROM versions", key: "id = ?", order: []string{"id"},
		by: map[model.Index]string{model.ByParty: "party = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, at, doc := &model.Version{}, "", ""
			if err := s.Scan(&x.Number, &x.Of, &at, &doc); err != nil {
				return nil, err
			}
			x.At = moment(at)
			return x, readInto(&x.Party, doc, "version")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Version)
			doc, err := written(&x.Party)
			if err != nil {
				return err
			}
			var raw []byte
			if c.Document != nil {
				raw = c.Document.Bytes
			}
			return put(r, upsert("versions", "id", "party, at, doc, raw"),
				x.Number, x.Of, stamp(x.At), doc, raw)
		},
		delete: "DELETE FROM versions"}
}

func trusts() *rows {
	return &rows{selects: "SELECT doc, salt, anchor, version FROM trusts", key: "name = ?", order: []string{"name"},
		by: map[model.Index]string{model.ByApp: "app = ?", model.ByProvider: "provider = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, doc := &model.Trust{}, ""
			if err := s.Scan(&doc, &x.Subject.Salt, &x.Subject.Anchor, &x.Version); err != nil {
				return nil, err
			}
			return x, readInto(&x.Trust, doc, "trust")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Trust)
			doc, err := written(&x.Trust)
			if err != nil {
				return err
			}
			return put(r, `INSERT INTO trusts (name, app, provider, doc, salt, anchor, version)
				VALUES (?, ?, ?, ?, ?, ?, ?)
				ON CONFLICT (name) DO UPDATE SET doc = excluded.doc, version = excluded.version`,
				x.Trust.Name, x.Trust.App,
				x.Trust.Provider, doc, x.Subject.Salt, x.Subject.Anchor, x.Version)
		},
		delete: "DELETE FROM trusts", name: "SELECT name FROM trusts"}
}

func ownKeys() *rows {
	return &rows{selects: "SELECT id, party, use, place, certificate, sealed, since, announced, chain FROM keys",
		key: "id = ?", order: []string{"id"}, by: map[model.Index]string{model.ByParty: "party = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, since, announced := &model.OwnKey{}, "", ""
			err := s.Scan(&x.Number, &x.Party, &x.Use, &x.Place, &x.Certificate, &x.Sealed, &since, &announced,
				&x.Chain)
			x.Since, x.Announced = moment(since), moment(announced)
			if len(x.Chain) == 0 {
				x.Chain = nil
			}
			return x, err
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.OwnKey)
			return put(r, upsert("keys", "id", "party, use, place, certificate, sealed, since, announced, chain"),
				x.Number, x.Party, x.Use, x.Place, x.Certificate, x.Sealed,
				stamp(x.Since), stamp(x.Announced), append([]byte{}, x.Chain...))
		},
		delete: "DELETE FROM keys"}
}

func secrets() *rows {
	const columns = "id, trust, hash, hint, note, added, expires, retired, used, renews, delivered, iskey"
	return &rows{selects: "SELECT " + columns + " FROM secrets",
		key: "id = ?", order: []string{"rowid"}, by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(s Scanner) (model.Record, error) {
			r := &model.Secret{}
			x := &r.Secret
			var added, expires, retired, used, delivered string
			err := s.Scan(&x.ID, &x.Trust, &r.Hash, &x.EndsIn, &x.Note, &added, &expires, &retired, &used, &x.Renews,
				&delivered, &x.Key)
			x.Delivered = pointed(delivered)
			x.Added, x.Expires, x.Retired, x.Used = moment(added), moment(expires), pointed(retired), pointed(used)
			return r, err
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Secret)
			s := &x.Secret
			return put(r, `INSERT INTO secrets (`+columns+`)
				VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET
				hash = excluded.hash, note = excluded.note, expires = excluded.expires, retired = excluded.retired,
				used = excluded.used, delivered = excluded.delivered`,
				s.ID, s.Trust, x.Hash, s.EndsIn, s.Note, stamp(s.Added), stamp(s.Expires), stamped(s.Retired),
				stamped(s.Used), s.Renews, stamped(s.Delivered), s.Key)
		},
		delete: "DELETE FROM secrets"}
}

func consents() *rows {
	return &rows{selects: "SELECT trust, api, name, how, person, standing, by, admin, at, narrowed FROM consents",
		key:   "trust = ? AND api = ? AND name = ? AND how = ? AND nocase(person) = ?",
		order: []string{"trust", "api", "name", "how", "nocase(person)"},
		by:    map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, at, narrowed := &model.Consent{}, "", ""
			err := s.Scan(&x.Trust, &x.API, &x.Name, &x.As, &x.For, &x.Standing, &x.By, &x.Admin, &at, &narrowed)
			x.At = moment(at)
			if err == nil && narrowed != "" {
				err = json.Unmarshal([]byte(narrowed), &x.Narrowed)
			}
			return x, err
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Consent)
			narrowed := ""
			if x.Narrowed != nil {
				b, err := json.Marshal(x.Narrowed)
				if err != nil {
					return err
				}
				narrowed = string(b)
			}
			return put(r, `INSERT INTO consents (trust, api, name, how, person, standing, by, admin, at, narrowed)
				VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (trust, api, name, how, nocase(person)) DO UPDATE
				SET person = excluded.person, standing = excluded.standing, by = excluded.by, admin = excluded.admin,
				at = excluded.at, narrowed = excluded.narrowed`, x.Trust, x.API, x.Name, x.As, x.For, x.Standing, x.By,
				x.Admin, stamp(x.At), narrowed)
		},
		delete: "DELETE FROM consents"}
}

func registrars() *rows {
	return &rows{selects: "SELECT doc FROM registrars", key: "name = ?", order: []string{"name"},
		scan: func(s Scanner) (model.Record, error) {
			x, doc := &model.Registrar{}, ""
			if err := s.Scan(&doc); err != nil {
				return nil, err
			}
			return x, readInto(x, doc, "registrar")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Registrar)
			doc, err := written(x)
			if err != nil {
				return err
			}
			return put(r, upsert("registrars", "name", "doc"), x.Registrar.Name, doc)
		},
		delete: "DELETE FROM registrars", name: "SELECT name FROM registrars"}
}

func registrations() *rows {
	return &rows{selects: "SELECT doc FROM registrations", key: "trust = ?", order: []string{"trust"},
		by: map[model.Index]string{model.ByTrust: "trust = ?", model.ByMaker: "registrar = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, doc := &model.Registration{}, ""
			if err := s.Scan(&doc); err != nil {
				return nil, err
			}
			return x, readInto(x, doc, "registration")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Registration)
			doc, err := written(x)
			if err != nil {
				return err
			}
			return put(r, upsert("registrations", "trust", "registrar, doc"),
				x.Registration.Trust, x.Registration.Registrar, doc)
		},
		delete: "DELETE FROM registrations", name: "SELECT trust FROM registrations"}
}

func carried() *rows {
	return &rows{selects: "SELECT doc FROM carried", key: "trust = ?", order: []string{"trust"},
		by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, doc := &model.Carrying{}, ""
			if err := s.Scan(&doc); err != nil {
				return nil, err
			}
			return x, readInto(x, doc, "carried subjects")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Carrying)
			doc, err := written(x)
			if err != nil {
				return err
			}
			return put(r, upsert("carried", "trust", "doc"), x.Trust, doc)
		},
		delete: "DELETE FROM carried", name: "SELECT trust FROM carried"}
}

func routes() *rows {
	return &rows{selects: "SELECT domain, trust FROM routes", key: "domain = ?", order: []string{"domain"},
		by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x := &model.Route{}
			return x, s.Scan(&x.Domain, &x.Trust)
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Route)
			return put(r, upsert("routes", "domain", "trust"), x.Domain, x.Trust)
		},
		delete: "DELETE FROM routes"}
}

func arrived() *rows {
	return &rows{selects: "SELECT trust, subject, person, at FROM arrived", key: "trust = ? AND subject = ?",
		order: []string{"trust", "subject"}, by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, at := &model.Arrival{}, ""
			err := s.Scan(&x.Trust, &x.Subject, &x.Person, &at)
			x.At = moment(at)
			return x, err
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Arrival)
			return put(r, upsert("arrived", "trust, subject", "person, at"), x.Trust,
				x.Subject, x.Person, stamp(x.At))
		},
		delete: "DELETE FROM arrived"}
}

func expectations() *rows {
	return &rows{selects: "SELECT id, trust, doc FROM expectations", key: "id = ?", order: []string{"id"},
		by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x := &model.Expectation{}
			var id int64
			var trust, doc string
			if err := s.Scan(&id, &trust, &doc); err != nil {
				return nil, err
			}
			if err := readInto(&x.Expected, doc, "expectation"); err != nil {
				return nil, err
			}
			x.ID, x.Trust = id, trust
			return x, nil
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Expectation)
			doc, err := written(&x.Expected)
			if err != nil {
				return err
			}
			return put(r, upsert("expectations", "id", "trust, doc"), x.ID, x.Trust, doc)
		},
		delete: "DELETE FROM expectations"}
}

// steps begins the name under which a step is kept that was settled by hand, among the findings that were accepted.
const steps = "step:"

func accepted() *rows {
	return &rows{selects: "SELECT finding, about, doc FROM accepted", key: "about = ? AND finding = ?",
		order: []string{"about", "finding"}, by: map[model.Index]string{model.ByAbout: "about = ?"},
		scan: func(s Scanner) (model.Record, error) {
			var finding, doc string
			x := &model.Acceptance{}
			if err := s.Scan(&finding, &x.About, &doc); err != nil {
				return nil, err
			}
			if strings.HasPrefix(finding, steps) {
				x.Settled = &model.Settled{}
				return x, readInto(x.Settled, doc, "step")
			}
			x.Let = &model.Let{}
			return x, readInto(x.Let, doc, "acceptance")
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Acceptance)
			var v any = x.Let
			if x.Settled != nil {
				v = x.Settled
			}
			doc, err := written(v)
			if err != nil {
				return err
			}
			return put(r, upsert("accepted", "finding, about", "doc"), c.Key.Parts()[1],
				x.About, doc)
		},
		delete: "DELETE FROM accepted"}
}

func runs() *rows {
	return &rows{selects: "SELECT id, kind, doc FROM runs", key: "id = ?", order: []string{"id"},
		by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x := &model.Run{}
			var id int64
			var kind, doc string
			if err := s.Scan(&id, &kind, &doc); err != nil {
				return nil, err
			}
			if err := readInto(&x.Run, doc, "run"); err != nil {
				return nil, err
			}
			x.Number, x.Kind = id, federation.ProofKind(kind)
			return x, nil
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Run)
			doc, err := written(&x.Run)
			if err != nil {
				return err
			}
			return put(r, upsert("runs", "id", "trust, at, kind, doc"), x.Number,
				x.Trust, stamp(x.At), string(x.Kind), doc)
		},
		delete: "DELETE FROM runs"}
}

func uses() *rows {
	return &rows{selects: "SELECT trust, api, name, how, issued, presented FROM uses",
		key:   "trust = ? AND api = ? AND name = ? AND how = ?",
		order: []string{"trust", "api", "name", "how"}, by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(s Scanner) (model.Record, error) {
			x, issued, presented := &model.Use{}, "", ""
			err := s.Scan(&x.Trust, &x.API, &x.Name, &x.As, &issued, &presented)
			x.Issued, x.Presented = moment(issued), moment(presented)
			return x, err
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.Use)
			return put(r, upsert("uses", "trust, api, name, how", "issued, presented"),
				x.Trust, x.API, x.Name, x.As, stamp(x.Issued), stamp(x.Presented))
		},
		delete: "DELETE FROM uses"}
}

func told() *rows {
	return &rows{selects: "SELECT item FROM told", key: "item = ?", order: []string{"item"},
		scan: func(s Scanner) (model.Record, error) {
			x := &model.Item{}
			return x, s.Scan(&x.Item)
		},
		write: func(r *Reader, c model.Change) error {
			return put(r, "INSERT INTO told (item) VALUES (?) ON CONFLICT DO NOTHING", c.After.(*model.Item).Item)
		},
		delete: "DELETE FROM told"}
}

func stageKeys() *rows {
	return &rows{selects: "SELECT party, kind, certificate, sealed FROM stage_keys", key: "party = ? AND kind = ?",
		order: []string{"party", "kind"},
		scan: func(s Scanner) (model.Record, error) {
			x := &model.StageKey{}
			return x, s.Scan(&x.Party, &x.Kind, &x.Certificate, &x.Sealed)
		},
		write: func(r *Reader, c model.Change) error {
			x := c.After.(*model.StageKey)
			return put(r, upsert("stage_keys", "party, kind", "certificate, sealed"),
				x.Party, x.Kind, x.Certificate, x.Sealed)
		},
		delete: "DELETE FROM stage_keys"}
}

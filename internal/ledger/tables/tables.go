// Package tables keeps the records of a ledger in the tables of a SQL database. What all such databases have in common
// stands here once: which table and which columns a kind of record has, by which index it is found, how the journal is
// written. What differs lies behind Conn, and in the migrations of each engine: SQLite's file and PostgreSQL's server
// say the same, and the suite of package ledgertest holds them to it.
package tables

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/model"
)

// table keeps the records of one kind.
type table interface {
	get(r *Reader, k model.Key) (model.Record, error)
	find(r *Reader, q model.Query, yield func(model.Record, error) bool)
	put(r *Reader, c model.Change) error
	take(r *Reader, k model.Key) error
}

// rows keeps each record in a row of its own. Behind its columns each row has a sum over them, so that what another
// program changed, or a disk, is not taken for what was written.
type rows struct {
	table   string
	columns string                                        // as they are written and read, those of the key first
	keys    string                                        // by which a row is put over another; "" is the first column
	from    string                                        // what is read in place of the table alone, which is p there
	key     string                                        // condition for one record, with a ? for each part of its key
	args    func(k model.Key) []any                       // those parts; nil takes the key apart
	by      map[model.Index]string                        // condition for an index, with a ? for each part of the value
	order   []string                                      // columns
	scan    func(*Reader, Scanner) (model.Record, error)  // reads a row
	values  func(r model.Record) ([]any, error)           // of the columns
	beside  bool                                          // bytes lie beside the records, and a hash of them
	name    string                                        // column of the names alone; "" reads whole records for them
	empty   map[model.Index]func(v string) (string, bool) // condition of its own for a value
}

// selects is what reads whole rows: their columns and their sum.
func (t *rows) selects() string {
	from := t.table
	if t.from != "" {
		from = t.from
	}
	return "SELECT " + t.columns + ", " + t.summed() + " FROM " + from
}

// summed is the column of the sum, with what the sum is over beside the columns.
func (t *rows) summed() string {
	switch {
	case t.from != "":
		return "p.sum, coalesce(s.person, ''), coalesce(s.key, ''), coalesce(s.uuid, ''), coalesce(s.sum, 0)"
	case t.beside:
		return "beside, sum"
	}
	return "sum"
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
	x, err := t.scan(r, r.c.Row(t.selects()+" WHERE "+t.key, t.parts(k)...))
	if err != nil {
		return nil, r.notFound(err)
	}
	return x, nil
}

// where is the condition of a query, with its arguments; few says that it picks few of many, by an index.
func (t *rows) where(q model.Query) (c string, args []any, few bool, err error) {
	if q.Begins != "" {
		beginning := q.Begins
		q.Begins = ""
		if c, args, few, err = t.where(q); err != nil {
			return "", nil, false, err
		}
		if c != "" {
			c += " AND "
		}
		name := t.order[0]
		// U+10FFFF is behind every other character
		return c + name + " >= ? AND " + name + " < ?", append(args, beginning, beginning+"\U0010ffff"), few, nil
	}
	if q.By == model.Every && q.Mentions != "" && q.Kind == model.People {
		for text := range strings.SplitSeq(model.Folded(q.Mentions), "\x00") { // % and _ in one only find more
			c += " AND nocase(p.doc) LIKE ?"
			args = append(args, "%"+strings.ReplaceAll(text, "*", "%")+"%")
		}
		return strings.TrimPrefix(c, " AND "), args, false, nil
	}
	if q.By == model.Every {
		return "", nil, false, nil
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

// selecting is a SELECT with the conditions and the order of a query.
func (t *rows) selecting(selects string, q model.Query) (query string, args []any, err error) {
	where, args, few, err := t.where(q)
	if err != nil {
		return "", nil, err
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
	return selects + " ORDER BY " + strings.Join(order, direction+", ") + direction, args, nil
}

func (t *rows) find(r *Reader, q model.Query, yield func(model.Record, error) bool) {
	query, args, err := t.selecting(t.selects(), q)
	if err == nil {
		err = r.each(t.table, query, args, func(s Scanner) (bool, error) {
			x, err := t.scan(r, s)
			return err == nil && yield(x, nil), err
		})
	}
	if err != nil {
		yield(nil, err)
	}
}

// names gives the names alone of what a query finds.
func (t *rows) names(r *Reader, q model.Query, yield func(string, error) bool) {
	query, args, err := t.selecting("SELECT "+t.name+" FROM "+t.table, q)
	if err == nil {
		err = r.each(t.table, query, args, func(s Scanner) (bool, error) {
			var name string
			err := s.Scan(&name)
			return err == nil && yield(name, nil), err
		})
	}
	if err != nil {
		yield("", err)
	}
}

// put writes a record with its sum.
func (t *rows) put(r *Reader, c model.Change) error {
	values, err := t.values(c.After)
	if err != nil {
		return err
	}
	columns := t.columns
	if t.beside {
		beside, err := t.besides(r, c)
		if err != nil {
			return err
		}
		columns += ", beside"
		values = append(values, beside)
	}
	sum := sumOf(t.table, values)
	if c.Document != nil {
		columns += ", raw"
		values = append(values, c.Document.Bytes)
	}
	return r.c.Exec(upsert(t.table, t.onto(), columns+", sum"), append(values, sum)...)
}

// onto are the columns by which a row is put over another.
func (t *rows) onto() string {
	if t.keys != "" {
		return t.keys
	}
	first, _, _ := strings.Cut(t.columns, ", ")
	return first
}

// besides is the hash of what lies beside a record once it is put.
func (t *rows) besides(r *Reader, c model.Change) (hash string, err error) {
	if c.Document != nil {
		return besideOf(c.Key, c.Document.Bytes), nil
	}
	if c.Before == nil {
		return "", nil
	}
	err = r.c.Row("SELECT beside FROM "+t.table+" WHERE "+t.key, t.parts(c.Key)...).Scan(&hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return hash, err
}

// besideOf is by what bytes that lie beside a record are known again; "" is none.
func besideOf(k model.Key, b []byte) string {
	if b == nil {
		return ""
	}
	return strconv.FormatInt(sumOf(string(k.Kind), []any{k.ID, b}), 16)
}

func (t *rows) take(r *Reader, k model.Key) error {
	of := t.table
	if t.from != "" {
		of += " AS p"
	}
	return r.c.Exec("DELETE FROM "+of+" WHERE "+t.key, t.parts(k)...)
}

// upsert is a query that puts a row, over the one of the same key where there is one.
func upsert(table, keys, columns string) string {
	return upserting(table, keys, columns, "VALUES (?"+strings.Repeat(", ?", strings.Count(columns, ","))+")")
}

// upserting is a query that puts the rows that another gives.
func upserting(table, keys, columns, given string) string {
	list := strings.Split(columns, ", ")
	sets := make([]string, len(list))
	for i, c := range list {
		sets[i] = c + " = excluded." + c
	}
	return "INSERT INTO " + table + " (" + columns + ") " + given + " ON CONFLICT (" + keys + ") DO UPDATE SET " +
		strings.Join(sets, ", ")
}

// written is a document as it is kept in a column.
func written(v any) (string, error) {
	b, err := json.Marshal(v)
	return string(b), err
}

// readInto reads a document out of a column.
func readInto(v any, doc, what string) error {
	if err := json.Unmarshal([]byte(doc), v); err != nil {
		return &unreadableError{what, err}
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
		return persons(), nil
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

// documents keeps records of a kind whole in a column behind those of their key.
func documents[R model.Record](table, keys, key, what string, blank func() R, parts func(R) []any) *rows {
	return &rows{table: table, columns: keys + ", doc", keys: keys, key: key, order: strings.Split(keys, ", "),
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			doc := ""
			list := make([]string, strings.Count(keys, ",")+1)
			var to []any
			for i := range list {
				to = append(to, &list[i])
			}
			if err := r.scan(table, s, append(to, &doc)...); err != nil {
				return nil, err
			}
			x := blank()
			return x, readInto(x, doc, what)
		},
		values: func(x model.Record) ([]any, error) {
			doc, err := written(x)
			return append(parts(x.(R)), doc), err
		}}
}

func settings() *rows {
	return &rows{table: "ledger", columns: "key, value", key: "key = ?", order: []string{"key"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Setting{}
			return x, r.scan("ledger", s, &x.Name, &x.Value)
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Setting)
			return []any{x.Name, x.Value}, nil
		}}
}

// identity is what the table keeps unique for a party: its entity ID, or a stand-in of its name where it has none.
func identity(p *federation.Party) string {
	if p.Entity.ID != "" {
		return p.Entity.ID
	}
	return "name:" + p.Name
}

func parties() *rows {
	return &rows{table: "parties", columns: "name, kind, entity, doc, version", beside: true, key: "name = ?",
		order: []string{"name"}, name: "name",
		by: map[model.Index]string{model.ByKind: "kind = ?", model.ByEntity: "kind = ? AND entity = ?",
			model.ByAudience: "kind || '' = ? AND json_extract(doc, '$.api.audience') = ?",
			model.ByIssuer:   "kind || '' = ? AND json_extract(doc, '$.openid.discovery.issuer') = ?"},
		empty: map[model.Index]func(string) (string, bool){model.ByAudience: func(v string) (string, bool) {
			// by its index: there are few among many apps
			return "json_extract(doc, '$.api.audience') IS NOT NULL", v == ""
		}},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Party{}
			var name, kind, entity, doc, beside string
			if err := r.scan("parties", s, &name, &kind, &entity, &doc, &x.Version, &beside); err != nil {
				return nil, err
			}
			return x, readInto(&x.Party, doc, "party")
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Party)
			doc, err := written(&x.Party)
			return []any{x.Party.Name, string(x.Party.Kind), identity(&x.Party), doc, x.Version}, err
		}}
}

func versions() *rows {
	return &rows{table: "versions", columns: "id, party, at, doc", beside: true, key: "id = ?", args: numbered,
		order: []string{"id"}, by: map[model.Index]string{model.ByParty: "party = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x, at, doc, beside := &model.Version{}, "", "", ""
			if err := r.scan("versions", s, &x.Number, &x.Of, &at, &doc, &beside); err != nil {
				return nil, err
			}
			x.At = moment(at)
			return x, readInto(&x.Party, doc, "version")
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Version)
			doc, err := written(&x.Party)
			return []any{x.Number, x.Of, stamp(x.At), doc}, err
		}}
}

// numbered is the key of a record that is known by its number.
func numbered(k model.Key) []any { return []any{idOf(k)} }

func trusts() *rows {
	return &rows{table: "trusts", columns: "name, app, provider, doc, salt, anchor, version", key: "name = ?",
		order: []string{"name"}, name: "name",
		by: map[model.Index]string{model.ByApp: "app = ?", model.ByProvider: "provider = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Trust{}
			var name, app, provider, doc string
			if err := r.scan("trusts", s, &name, &app, &provider, &doc, &x.Subject.Salt, &x.Subject.Anchor,
				&x.Version); err != nil {
				return nil, err
			}
			return x, readInto(&x.Trust, doc, "trust")
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Trust)
			doc, err := written(&x.Trust)
			return []any{x.Trust.Name, x.Trust.App, x.Trust.Provider, doc, x.Subject.Salt, x.Subject.Anchor,
				x.Version}, err
		}}
}

func ownKeys() *rows {
	return &rows{table: "keys", columns: "id, party, use, place, certificate, sealed, since, announced, chain",
		key: "id = ?", args: numbered, order: []string{"id"}, by: map[model.Index]string{model.ByParty: "party = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x, since, announced := &model.OwnKey{}, "", ""
			err := r.scan("keys", s, &x.Number, &x.Party, &x.Use, &x.Place, &x.Certificate, &x.Sealed, &since,
				&announced, &x.Chain)
			x.Since, x.Announced = moment(since), moment(announced)
			if len(x.Chain) == 0 {
				x.Chain = nil
			}
			return x, err
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.OwnKey)
			return []any{x.Number, x.Party, x.Use, x.Place, x.Certificate, x.Sealed, stamp(x.Since),
				stamp(x.Announced), append([]byte{}, x.Chain...)}, nil
		}}
}

func secrets() *rows {
	return &rows{table: "secrets",
		columns: "id, trust, hash, hint, note, added, expires, retired, used, renews, delivered, iskey",
		key:     "id = ?", order: []string{"rowid"}, by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			out := &model.Secret{}
			x := &out.Secret
			var added, expires, retired, used, delivered string
			err := r.scan("secrets", s, &x.ID, &x.Trust, &out.Hash, &x.EndsIn, &x.Note, &added, &expires, &retired,
				&used, &x.Renews, &delivered, &x.Key)
			x.Delivered = pointed(delivered)
			x.Added, x.Expires, x.Retired, x.Used = moment(added), moment(expires), pointed(retired), pointed(used)
			return out, err
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Secret)
			s := &x.Secret
			return []any{s.ID, s.Trust, x.Hash, s.EndsIn, s.Note, stamp(s.Added), stamp(s.Expires),
				stamped(s.Retired), stamped(s.Used), s.Renews, stamped(s.Delivered), s.Key}, nil
		}}
}

func consents() *rows {
	return &rows{table: "consents", columns: "trust, api, name, how, person, standing, by, admin, at, narrowed",
		keys:  "trust, api, name, how, nocase(person)",
		key:   "trust = ? AND api = ? AND name = ? AND how = ? AND nocase(person) = ?",
		order: []string{"trust", "api", "name", "how", "nocase(person)"},
		by:    map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x, at, narrowed := &model.Consent{}, "", ""
			err := r.scan("consents", s, &x.Trust, &x.API, &x.Name, &x.As, &x.For, &x.Standing, &x.By, &x.Admin, &at,
				&narrowed)
			x.At = moment(at)
			if err == nil && narrowed != "" {
				err = readInto(&x.Narrowed, narrowed, "consent")
			}
			return x, err
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Consent)
			narrowed, err := "", error(nil)
			if x.Narrowed != nil {
				narrowed, err = written(x.Narrowed)
			}
			return []any{x.Trust, x.API, x.Name, x.As, x.For, x.Standing, x.By, x.Admin, stamp(x.At), narrowed}, err
		}}
}

func registrars() *rows {
	t := documents("registrars", "name", "name = ?", "registrar", func() *model.Registrar { return &model.Registrar{} },
		func(x *model.Registrar) []any { return []any{x.Registrar.Name} })
	t.name = "name"
	return t
}

func registrations() *rows {
	t := documents("registrations", "trust", "trust = ?", "registration",
		func() *model.Registration { return &model.Registration{} }, nil)
	t.columns, t.name = "trust, registrar, doc", "trust"
	t.by = map[model.Index]string{model.ByTrust: "trust = ?", model.ByMaker: "registrar = ?"}
	t.scan = func(r *Reader, s Scanner) (model.Record, error) {
		var trust, registrar, doc string
		if err := r.scan("registrations", s, &trust, &registrar, &doc); err != nil {
			return nil, err
		}
		x := &model.Registration{}
		return x, readInto(x, doc, "registration")
	}
	t.values = func(r model.Record) ([]any, error) {
		x := r.(*model.Registration)
		doc, err := written(x)
		return []any{x.Registration.Trust, x.Registration.Registrar, doc}, err
	}
	return t
}

func carried() *rows {
	t := documents("carried", "trust", "trust = ?", "carried subjects",
		func() *model.Carrying { return &model.Carrying{} }, func(x *model.Carrying) []any { return []any{x.Trust} })
	t.name, t.by = "trust", map[model.Index]string{model.ByTrust: "trust = ?"}
	return t
}

func routes() *rows {
	return &rows{table: "routes", columns: "domain, trust", key: "domain = ?", order: []string{"domain"},
		by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Route{}
			return x, r.scan("routes", s, &x.Domain, &x.Trust)
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Route)
			return []any{x.Domain, x.Trust}, nil
		}}
}

func arrived() *rows {
	return &rows{table: "arrived", columns: "trust, subject, person, at", keys: "trust, subject",
		key: "trust = ? AND subject = ?", order: []string{"trust", "subject"},
		by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x, at := &model.Arrival{}, ""
			err := r.scan("arrived", s, &x.Trust, &x.Subject, &x.Person, &at)
			x.At = moment(at)
			return x, err
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Arrival)
			return []any{x.Trust, x.Subject, x.Person, stamp(x.At)}, nil
		}}
}

func expectations() *rows {
	return &rows{table: "expectations", columns: "id, trust, doc", key: "id = ?", args: numbered,
		order: []string{"id"}, by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Expectation{}
			var id int64
			var trust, doc string
			if err := r.scan("expectations", s, &id, &trust, &doc); err != nil {
				return nil, err
			}
			if err := readInto(&x.Expected, doc, "expectation"); err != nil {
				return nil, err
			}
			x.ID, x.Trust = id, trust
			return x, nil
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Expectation)
			doc, err := written(&x.Expected)
			return []any{x.ID, x.Trust, doc}, err
		}}
}

// steps begins the name under which a step is kept that was settled by hand, among the findings that were accepted.
const steps = "step:"

func accepted() *rows {
	return &rows{table: "accepted", columns: "finding, about, doc", keys: "finding, about",
		key: "about = ? AND finding = ?", order: []string{"about", "finding"},
		by: map[model.Index]string{model.ByAbout: "about = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			var finding, doc string
			x := &model.Acceptance{}
			if err := r.scan("accepted", s, &finding, &x.About, &doc); err != nil {
				return nil, err
			}
			if strings.HasPrefix(finding, steps) {
				x.Settled = &model.Settled{}
				return x, readInto(x.Settled, doc, "step")
			}
			x.Let = &model.Let{}
			return x, readInto(x.Let, doc, "acceptance")
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Acceptance)
			var v any = x.Let
			if x.Settled != nil {
				v = x.Settled
			}
			doc, err := written(v)
			return []any{x.Key().Parts()[1], x.About, doc}, err
		}}
}

func runs() *rows {
	return &rows{table: "runs", columns: "id, trust, at, kind, doc", key: "id = ?", args: numbered,
		order: []string{"id"}, by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Run{}
			var id int64
			var trust, at, kind, doc string
			if err := r.scan("runs", s, &id, &trust, &at, &kind, &doc); err != nil {
				return nil, err
			}
			if err := readInto(&x.Run, doc, "run"); err != nil {
				return nil, err
			}
			x.Number, x.Kind = id, federation.ProofKind(kind)
			return x, nil
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Run)
			doc, err := written(&x.Run)
			return []any{x.Number, x.Trust, stamp(x.At), string(x.Kind), doc}, err
		}}
}

func uses() *rows {
	return &rows{table: "uses", columns: "trust, api, name, how, issued, presented", keys: "trust, api, name, how",
		key:   "trust = ? AND api = ? AND name = ? AND how = ?",
		order: []string{"trust", "api", "name", "how"}, by: map[model.Index]string{model.ByTrust: "trust = ?"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x, issued, presented := &model.Use{}, "", ""
			err := r.scan("uses", s, &x.Trust, &x.API, &x.Name, &x.As, &issued, &presented)
			x.Issued, x.Presented = moment(issued), moment(presented)
			return x, err
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.Use)
			return []any{x.Trust, x.API, x.Name, x.As, stamp(x.Issued), stamp(x.Presented)}, nil
		}}
}

func told() *rows {
	return &rows{table: "told", columns: "item", key: "item = ?", order: []string{"item"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.Item{}
			return x, r.scan("told", s, &x.Item)
		},
		values: func(r model.Record) ([]any, error) { return []any{r.(*model.Item).Item}, nil }}
}

func stageKeys() *rows {
	return &rows{table: "stage_keys", columns: "party, kind, certificate, sealed", keys: "party, kind",
		key: "party = ? AND kind = ?", order: []string{"party", "kind"},
		scan: func(r *Reader, s Scanner) (model.Record, error) {
			x := &model.StageKey{}
			return x, r.scan("stage_keys", s, &x.Party, &x.Kind, &x.Certificate, &x.Sealed)
		},
		values: func(r model.Record) ([]any, error) {
			x := r.(*model.StageKey)
			return []any{x.Party, x.Kind, x.Certificate, x.Sealed}, nil
		}}
}

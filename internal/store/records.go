package store

import (
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/people"
)

type scanner interface{ Scan(...any) error }

// load reads one record kept as JSON.
func load[T any](row scanner, version *int64) (*T, error) {
	var doc string
	if err := row.Scan(&doc, version); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return nil, ErrNotFound
		}
		return nil, translated(err)
	}
	v := new(T)
	if err := json.Unmarshal([]byte(doc), v); err != nil {
		return nil, fmt.Errorf("a record of the ledger is damaged: %w", err)
	}
	return v, nil
}

func loadAll[T any](l *Ledger, set func(*T, int64), query string, args ...any) ([]T, error) {
	rows, err := l.db.Query(query, args...)
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := []T{}
	for rows.Next() {
		var version int64
		v, err := load[T](rows, &version)
		if err != nil {
			return nil, err
		}
		set(v, version)
		out = append(out, *v)
	}
	return out, translated(rows.Err())
}

// ofTrust asks for the rows of a trust by the index of their table; "" asks for those of all trusts.
func ofTrust(l *Ledger, query, trust, order string) (*sql.Rows, error) {
	if trust == "" {
		return l.db.Query(query + " ORDER BY " + order)
	}
	return l.db.Query(query+" WHERE trust = ? ORDER BY "+order, trust)
}

// Party returns a party by name. Errors: ErrNotFound.
func (l *Ledger) Party(name string) (*federation.Party, error) {
	var version int64
	p, err := load[federation.Party](l.db.QueryRow("SELECT doc, version FROM parties WHERE name = ?", name), &version)
	if err == nil {
		p.Version = version
	}
	return p, err
}

// Parties lists the parties of a kind by name; "" lists both kinds.
func (l *Ledger) Parties(kind federation.Kind) ([]federation.Party, error) {
	return loadAll(l, func(p *federation.Party, v int64) { p.Version = v },
		"SELECT doc, version FROM parties WHERE ? IN ('', kind) ORDER BY name", string(kind))
}

// Raw returns the metadata of a party as it was received; nil if there is none.
func (l *Ledger) Raw(name string) ([]byte, error) {
	var raw []byte
	err := l.db.QueryRow("SELECT raw FROM parties WHERE name = ?", name).Scan(&raw)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	return raw, translated(err)
}

// AddParty adds a party with its metadata as received. Errors: ErrExists.
func (tx *Tx) AddParty(p *federation.Party, raw []byte) error {
	p.Added, p.Changed, p.Version = tx.l.Now().UTC(), tx.l.Now().UTC(), 1
	doc, err := json.Marshal(p)
	if err != nil {
		return err
	}
	_, err = tx.tx.Exec("INSERT INTO parties VALUES (?, ?, ?, ?, ?, 1)", p.Name, string(p.Kind), identity(p), string(doc),
		raw)
	if isConstraint(err) {
		var other string
		if tx.tx.QueryRow("SELECT name FROM parties WHERE name = ?", p.Name).Scan(&other) == nil {
			return fmt.Errorf("%s is %w; choose another name, or use `%s change`", p.Name, ErrExists, p.Kind)
		}
		return tx.uniqueness(p, err)
	}
	if err != nil {
		return err
	}
	if err := tx.keepVersion(p.Name); err != nil {
		return err
	}
	return tx.note(string(p.Kind)+".add", p.Name, "", nil, p)
}

// PutParty changes a party; keepRaw leaves the metadata as received as it is. Errors: ErrChanged, ErrExists.
func (tx *Tx) PutParty(old, p *federation.Party, raw []byte, keepRaw bool) error {
	p.Changed = tx.l.Now().UTC()
	doc, err := json.Marshal(p)
	if err != nil {
		return err
	}
	res, err := tx.tx.Exec(`UPDATE parties SET entity = ?, doc = ?,
		raw = CASE WHEN ? THEN raw ELSE ? END, version = version + 1
		WHERE name = ? AND version = ?`, identity(p), string(doc), keepRaw, raw, p.Name, p.Version)
	if isConstraint(err) {
		return tx.uniqueness(p, err)
	}
	if err := onlyOne(res, err, p.Name); err != nil {
		return err
	}
	if len(federation.Differences(old, p)) > 0 {
		if err := tx.keepVersion(p.Name); err != nil {
			return err
		}
	}
	return tx.note(string(p.Kind)+".change", p.Name, "", old, p)
}

func onlyOne(res sql.Result, err error, name string) error {
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n != 1 {
		return fmt.Errorf("%s: %w; nothing was done, run it again", name, ErrChanged)
	}
	return nil
}

// RemoveParty takes a party away. Errors: ErrInUse with the trusts that use it.
func (tx *Tx) RemoveParty(p *federation.Party) error {
	rows, err := tx.tx.Query("SELECT name FROM trusts WHERE app = ? OR provider = ? ORDER BY name", p.Name, p.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	var used []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return err
		}
		used = append(used, n)
	}
	rows.Close()
	if len(used) > 0 {
		return fmt.Errorf("%s is %w by %s; remove that first with `tressik trust remove`", p.Name, ErrInUse,
			strings.Join(used, ", "))
	}
	res, err := tx.tx.Exec("DELETE FROM parties WHERE name = ? AND version = ?", p.Name, p.Version)
	if err := onlyOne(res, err, p.Name); err != nil {
		return err
	}
	return tx.note(string(p.Kind)+".remove", p.Name, "", p, nil)
}

// Key opens the active key of an own party for a use. Errors: ErrNotFound, ErrSealKey.
func (l *Ledger) Key(party, use string) (crypto.Signer, *x509.Certificate, error) {
	return l.sealedKey("SELECT certificate, sealed FROM keys WHERE party = ? AND use = ? AND place = 'active'", party, use)
}

// sealedKey opens the key in the one row of a query for a certificate and a sealed key. Errors: ErrNotFound,
// ErrSealKey.
func (l *Ledger) sealedKey(query string, args ...any) (crypto.Signer, *x509.Certificate, error) {
	var der, sealed []byte
	err := l.db.QueryRow(query, args...).Scan(&der, &sealed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil, ErrNotFound
	}
	if err != nil {
		return nil, nil, translated(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, nil, err
	}
	pem, err := l.unseal(sealed)
	if err != nil {
		return nil, nil, err
	}
	key, err := keys.ParsePrivate(pem)
	return key, cert, err
}

// Trust returns a trust by name. Errors: ErrNotFound.
func (l *Ledger) Trust(name string) (*federation.Trust, error) {
	var version int64
	t, err := load[federation.Trust](l.db.QueryRow("SELECT doc, version FROM trusts WHERE name = ?", name), &version)
	if err == nil {
		t.Version = version
	}
	return t, err
}

// Trusts lists all trusts by name.
func (l *Ledger) Trusts() ([]federation.Trust, error) {
	return loadAll(l, func(t *federation.Trust, v int64) { t.Version = v },
		"SELECT doc, version FROM trusts ORDER BY name")
}

// SubjectKey returns what a trust's pseudonyms are made from.
func (l *Ledger) SubjectKey(trust string) (k federation.SubjectKey, err error) {
	err = l.db.QueryRow("SELECT salt, anchor FROM trusts WHERE name = ?", trust).Scan(&k.Salt, &k.Anchor)
	return k, translated(err)
}

// SubjectKeys returns what the pseudonyms of all trusts are made from, by trust.
func (l *Ledger) SubjectKeys() (map[string]federation.SubjectKey, error) {
	rows, err := l.db.Query("SELECT name, salt, anchor FROM trusts")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := map[string]federation.SubjectKey{}
	for rows.Next() {
		var name string
		var k federation.SubjectKey
		if err := rows.Scan(&name, &k.Salt, &k.Anchor); err != nil {
			return nil, translated(err)
		}
		out[name] = k
	}
	return out, translated(rows.Err())
}

// AddTrust adds a trust. Errors: ErrExists.
func (tx *Tx) AddTrust(t *federation.Trust, key federation.SubjectKey) error {
	t.Added, t.Changed, t.Reshaped, t.Version = tx.l.Now().UTC(), tx.l.Now().UTC(), tx.l.Now().UTC(), 1
	doc, err := json.Marshal(t)
	if err != nil {
		return err
	}
	_, err = tx.tx.Exec("INSERT INTO trusts (name, app, provider, doc, salt, anchor, version) VALUES (?, ?, ?, ?, ?, "+
		"?, 1)",
		t.Name, t.App, t.Provider, string(doc), key.Salt, key.Anchor)
	if isConstraint(err) {
		return fmt.Errorf("%s is %w; see `tressik trust show %s`", t.Name, ErrExists, t.Name)
	}
	if err != nil {
		return err
	}
	return tx.note("trust.add", "", t.Name, nil, t)
}

// PutTrust changes a trust under an action of the journal. Errors: ErrChanged.
func (tx *Tx) PutTrust(old, t *federation.Trust, action string) error {
	t.Changed = tx.l.Now().UTC()
	doc, err := json.Marshal(t)
	if err != nil {
		return err
	}
	res, err := tx.tx.Exec("UPDATE trusts SET doc = ?, version = version + 1 WHERE name = ? AND version = ?",
		string(doc), t.Name, t.Version)
	if err := onlyOne(res, err, t.Name); err != nil {
		return err
	}
	return tx.note(action, "", t.Name, recorded(old), recorded(t))
}

// recorded is a trust as the journal keeps it: of a rehearsal its outcome, not the person's attributes.
func recorded(t *federation.Trust) *federation.Trust {
	if t == nil || t.Last == nil {
		return t
	}
	c, r := *t, *t.Last
	r.Claims, r.Subject, r.Findings = nil, "", r.Findings.Without(finding.Pass)
	c.Last = &r
	return &c
}

// RemoveTrust takes a trust away; its runs and journal entries stay.
func (tx *Tx) RemoveTrust(t *federation.Trust) error {
	res, err := tx.tx.Exec("DELETE FROM trusts WHERE name = ? AND version = ?", t.Name, t.Version)
	if err := onlyOne(res, err, t.Name); err != nil {
		return err
	}
	return tx.note("trust.remove", "", t.Name, recorded(t), nil)
}

// Person returns a person by ID, letter case not counting. Errors: ErrNotFound.
func (l *Ledger) Person(id string) (*people.Person, error) {
	return loadPerson(l.db.QueryRow(personQuery+" WHERE p.id = ?", id))
}

const personQuery = "SELECT p.doc, coalesce(s.key, '') FROM persons p LEFT JOIN subjects s ON s.person = p.id"

func loadPerson(row scanner) (*people.Person, error) {
	var doc, key string
	if err := row.Scan(&doc, &key); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return nil, ErrNotFound
		}
		return nil, translated(err)
	}
	p := &people.Person{}
	if err := json.Unmarshal([]byte(doc), p); err != nil {
		return nil, fmt.Errorf("a record of the ledger is damaged: %w", err)
	}
	p.Key = key
	return p, nil
}

// Persons lists all persons by ID.
func (l *Ledger) Persons() ([]people.Person, error) {
	rows, err := l.db.Query(personQuery + " ORDER BY p.id")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := []people.Person{}
	for rows.Next() {
		p, err := loadPerson(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, *p)
	}
	return out, translated(rows.Err())
}

// keepSubject sees to it that a person has a key for pseudonyms: the one they had, under this name or, known again by
// their UUID, under another; somebody new gets a random one. A person of another UUID who is given a name that is free
// again is somebody new.
func (tx *Tx) keepSubject(p *people.Person) error {
	var key, uuid string
	err := tx.tx.QueryRow("SELECT key, uuid FROM subjects WHERE person = ?", p.ID).Scan(&key, &uuid)
	switch now := p.UUID(); {
	case err == nil && (uuid == now || uuid == "" || now == ""):
		if uuid == "" && now != "" {
			_, err = tx.tx.Exec("UPDATE subjects SET uuid = ? WHERE person = ?", now, p.ID)
		}
		return err
	case err != nil && !errors.Is(err, sql.ErrNoRows):
		return err
	case now != "":
		err = tx.tx.QueryRow("SELECT key FROM subjects WHERE uuid = ?", now).Scan(&key)
		if err == nil {
			return tx.putSubject(p.ID, key, now)
		}
		if !errors.Is(err, sql.ErrNoRows) {
			return err
		}
	}
	b := make([]byte, 16)
	if _, err := io.ReadFull(rand.Reader, b); err != nil {
		return fmt.Errorf("reading randomness: %w", err)
	}
	return tx.putSubject(p.ID, hex.EncodeToString(b), p.UUID())
}

// putSubject gives a key to a name, and to that name alone.
func (tx *Tx) putSubject(person, key, uuid string) error {
	if _, err := tx.tx.Exec("DELETE FROM subjects WHERE key = ?", key); err != nil {
		return err
	}
	_, err := tx.tx.Exec("INSERT INTO subjects VALUES (?, ?, ?) ON CONFLICT (person) DO UPDATE SET key = "+
		"excluded.key, uuid = excluded.uuid",
		person, key, uuid)
	return err
}

// RenamePerson gives a person another ID; they stay the same subject everywhere, and keep the consents they gave.
// Errors: ErrNotFound, ErrExists.
func (tx *Tx) RenamePerson(old, now string) error {
	p, err := loadPerson(tx.tx.QueryRow(personQuery+" WHERE p.id = ?", old))
	if err != nil {
		return err
	}
	was := p.ID
	var other string
	if tx.tx.QueryRow("SELECT id FROM persons WHERE id = ? AND id <> ?", now, was).Scan(&other) == nil {
		return fmt.Errorf("%s is %w", other, ErrExists)
	}
	p.ID = now
	doc, err := json.Marshal(p)
	if err != nil {
		return err
	}
	if err := tx.putSubject(now, p.SubjectKey(), p.UUID()); err != nil {
		return err
	}
	for _, q := range []string{"DELETE FROM persons WHERE id = ?1", "INSERT INTO persons VALUES (?2, ?3)",
		"UPDATE consents SET person = ?2 WHERE person = ?1"} {
		if _, err := tx.tx.Exec(q, was, now, string(doc)); err != nil {
			return err
		}
	}
	return tx.note("people.rename", "", "", map[string]string{"person": was}, map[string]string{"person": now})
}

// PutPersons stores persons; with replace, those not among them are taken away. It returns how many were added, changed
// and removed.
func (tx *Tx) PutPersons(list []people.Person, replace bool, source string) (added, changed, removed int, err error) {
	return tx.putPersons(list, replace, source, "")
}

// PutPersonsOf stores the people of a source; of those who came from it, others are taken away. Errors: ErrExists for
// somebody who came from elsewhere.
func (tx *Tx) PutPersonsOf(of string, list []people.Person) (added, changed, removed int, err error) {
	for i := range list {
		list[i].Source = of
	}
	if added, changed, removed, err = tx.putPersons(list, true, of, of); err != nil {
		return
	}
	return added, changed, removed, tx.SourceRead(of, len(list))
}

// putPersons stores people who come from a source; replace takes away the others of that source alone.
func (tx *Tx) putPersons(list []people.Person, replace bool, source, of string) (added, changed, removed int,
	err error) {
	if err = tx.noneElsewhere(list, of); err != nil {
		return
	}
	const theirs = "coalesce(json_extract(doc, '$.source'), '') = ?"
	var old int
	if err = tx.tx.QueryRow("SELECT count(*) FROM persons WHERE "+theirs, of).Scan(&old); err != nil {
		return
	}
	kept := 0
	if replace {
		if _, err = tx.tx.Exec("CREATE TEMP TABLE before_load AS SELECT id, doc FROM persons WHERE "+theirs,
			of); err != nil {
			return
		}
		defer tx.tx.Exec("DROP TABLE temp.before_load")
		if _, err = tx.tx.Exec("CREATE INDEX temp.before_load_id ON before_load (id COLLATE NOCASE)"); err != nil {
			return
		}
		if _, err = tx.tx.Exec("DELETE FROM persons WHERE "+theirs, of); err != nil {
			return
		}
	}
	from := "persons"
	if replace {
		from = "temp.before_load"
	}
	for _, p := range list {
		var doc []byte
		if doc, err = json.Marshal(p); err != nil {
			return
		}
		var was string
		switch e := tx.tx.QueryRow("SELECT doc FROM "+from+" WHERE id = ? COLLATE NOCASE", p.ID).Scan(&was); {
		case errors.Is(e, sql.ErrNoRows):
			added++
		case e != nil:
			return added, changed, removed, e
		default:
			kept++
			if was != string(doc) {
				changed++
			}
		}
		if _, err = tx.tx.Exec("INSERT INTO persons VALUES (?, ?) ON CONFLICT (id) DO UPDATE SET doc = excluded.doc", p.ID,
			string(doc)); err != nil {
			return
		}
		if err = tx.keepSubject(&p); err != nil {
			return
		}
	}
	if replace {
		removed = old - kept
	}
	err = tx.note("people.load", "", "", nil, map[string]any{"source": source, "read": len(list), "added": added,
		"changed": changed, "removed": removed})
	return
}

// Names lists the names of all parties and trusts, for hints and completion.
func (l *Ledger) Names() (providers, apps, trusts []string, err error) {
	rows, err := l.db.Query("SELECT kind, name FROM parties UNION ALL SELECT 'trust', name FROM trusts ORDER BY 2")
	if err != nil {
		return nil, nil, nil, translated(err)
	}
	defer rows.Close()
	for rows.Next() {
		var k, n string
		if err := rows.Scan(&k, &n); err != nil {
			return nil, nil, nil, translated(err)
		}
		switch k {
		case "provider":
			providers = append(providers, n)
		case "app":
			apps = append(apps, n)
		default:
			trusts = append(trusts, n)
		}
	}
	return providers, apps, trusts, translated(rows.Err())
}

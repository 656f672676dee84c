package engine

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	_ "modernc.org/sqlite" // by which another program would change the file

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit"
	"tressik.example/internal/testkit/peer"
)

// lived is a ledger of a long history, with something in each table.
func lived(t *testing.T, place string) ledger.Options {
	t.Helper()
	h, err := testkit.NewHistory(31)
	if err != nil {
		t.Fatal(err)
	}
	o := ledger.Options{Env: h.Env, SealKey: filepath.Join(t.TempDir(), "key")}
	l, err := Create(t.Context(), place, "Kestrel Ridge Observatory", o)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	for range 180 {
		if err := ledger.Updater(l.Update).Do(t.Context(), l.Env(), h.Do); err != nil {
			t.Fatal(err)
		}
	}
	err = l.Update(t.Context(), func(v model.View) (model.Changes, error) { // what the history may have left out
		trusts, err := v.Trusts()
		if err != nil || len(trusts) == 0 {
			return model.Changes{}, errors.Join(err, errors.New("no trust"))
		}
		name := trusts[0].Name
		var c model.Changes
		for _, r := range []model.Record{
			&model.Source{Source: people.Source{Name: "staff", At: "/staff.csv"}, Read: testkit.Noon(), People: 3},
			&model.Carrying{Trust: name, Subjects: map[string]string{"mira": "m1"}},
			&model.Use{Use: federation.Use{Trust: name, API: "api", Name: "read", As: "user", Issued: testkit.Noon()}},
			&model.StageKey{Party: "ridge", Kind: "saml", Certificate: []byte{1}, Sealed: []byte{2}},
			&model.Kept{Kept: oauth.Kept{Family: &oauth.Family{ID: "f", Grant: oauth.Grant{Trust: name}},
				Until: testkit.Noon()}},
			&model.Kept{Kept: oauth.Kept{UsedCode: "code", Of: "f", Until: testkit.Noon()}},
			&model.Kept{Kept: oauth.Kept{Revoked: "jti", Until: testkit.Noon()}},
			&model.Item{Item: "said"},
		} {
			c.Records = append(c.Records, model.Change{Key: r.Key(), After: r})
		}
		c.Entries = []model.Words{{Action: "trust.carry", Trust: name}}
		return c, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return o
}

// broken begins what is said where verifying ended before it was through.
const broken = "it ended: "

// judged is what verifying a ledger says; "" is nothing.
func judged(t *testing.T, place string, o ledger.Options) string {
	t.Helper()
	l, err := Open(t.Context(), place, o)
	if err != nil {
		return err.Error()
	}
	defer l.Close()
	var out []string
	err = l.View(t.Context(), func(v model.View) error {
		p, err := v.Prove("")
		if err == nil && !p.Whole() {
			out = append(out, fmt.Sprintf("%v %v", p.Breaks, p.Differs))
		}
		return err
	})
	if err != nil {
		out = append(out, broken+err.Error())
	}
	list, err := l.Sound(t.Context())
	if err != nil {
		out = append(out, err.Error())
	}
	return strings.Join(append(out, list...), "\n")
}

// long leaves out what takes long under the race detector, and has nothing in it that goes on at the same time.
func long(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("takes a while")
	}
}

// counter reports whether a table holds no record: what stands in it is an engine's own.
func counter(table string) bool {
	return table == "revision" || table == "goose_db_version" || strings.HasPrefix(table, "sqlite_")
}

// tampering is what another program does to a row.
type tampering struct{ name, sql string }

// tamperings are an edit of each column of a table, a row taken away and one added. Columns have a kind of their own:
// text, number, bytes or yes-or-no.
func tamperings(table, row string, columns, kinds []string) []tampering {
	var out []tampering
	var copied []string
	for i, c := range columns {
		changed := map[string]string{"text": c + " || 'x'", "number": c + " + 1000000", "yes": "NOT " + c}[kinds[i]]
		if table == "may" && c == "what" { // what it can be is checked
			changed = "'consent'"
		}
		if table == "parties" && c == "doc" { // of which there are indexes
			changed = "replace(doc, 'example', 'elsewhere')"
		}
		if changed != "" {
			out = append(out, tampering{"edit " + table + "." + c, fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s",
				table, c, changed,
				row)})
		}
		switch {
		case table == "parties" && c == "doc":
			copied = append(copied, "'{}'")
		case i == 0 || table == "parties" && c == "entity" || table == "kept" && c == "id":
			copied = append(copied, changed)
		default:
			copied = append(copied, c)
		}
	}
	return append(out, tampering{"take away from " + table, "DELETE FROM " + table + " WHERE " + row},
		tampering{"add to " + table, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s WHERE %s", table,
			strings.Join(columns,
				", "), strings.Join(copied, ", "), table, row)})
}

// TestTamperedFile: what another program edits, adds and takes away in any table of a file is found.
func TestTamperedFile(t *testing.T) {
	t.Parallel()
	long(t)
	dir := t.TempDir()
	path := filepath.Join(dir, "tressik.ledger")
	o := lived(t, path)
	if s := judged(t, path, o); s != "" {
		t.Fatal(s)
	}
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	var all []tampering
	rows, err := db.Query("SELECT m.name, c.name, c.type FROM sqlite_master m, pragma_table_info(m.name) c " +
		"WHERE m.type = 'table' ORDER BY m.name, c.cid")
	if err != nil {
		t.Fatal(err)
	}
	columns, kinds, tables := map[string][]string{}, map[string][]string{}, []string{}
	for rows.Next() {
		var table, column, typ string
		if err := rows.Scan(&table, &column, &typ); err != nil {
			t.Fatal(err)
		}
		if counter(table) {
			continue
		}
		if columns[table] == nil {
			tables = append(tables, table)
		}
		columns[table] = append(columns[table], column)
		kinds[table] = append(kinds[table], map[string]string{"TEXT": "text", "INTEGER": "number"}[typ])
	}
	rows.Close()
	for _, table := range tables {
		row := columns[table][0] + " = (SELECT " + columns[table][0] + " FROM " + table + " LIMIT 1)"
		all = append(all, tamperings(table, row, columns[table], kinds[table])...)
	}
	db.Close()
	for i, x := range all {
		other := filepath.Join(dir, fmt.Sprintf("other%d.ledger", i))
		if err := os.WriteFile(other, whole, 0o600); err != nil {
			t.Fatal(err)
		}
		db, err := sql.Open("sqlite", other)
		if err != nil {
			t.Fatal(err)
		}
		r, err := db.Exec(x.sql)
		db.Close()
		if err != nil {
			if !strings.Contains(err.Error(), "constraint") {
				t.Errorf("%s: %v", x.sql, err)
			}
			continue // the database itself refuses it
		}
		n, _ := r.RowsAffected()
		if n == 0 {
			t.Errorf("%s: there is no row: this proves nothing", x.name)
		} else if s := judged(t, other, o); s == "" {
			t.Errorf("%s goes unnoticed: %s", x.name, x.sql)
		} else if strings.Contains(s, broken) {
			t.Errorf("%s: %s", x.name, s)
		}
		os.Remove(other)
	}
	if len(all) < 150 {
		t.Errorf("%d: this proves little", len(all))
	}
}

// TestTamperedDatabase is the same for a database, by psql.
func TestTamperedDatabase(t *testing.T) {
	t.Parallel()
	long(t)
	s := peer.Postgres(t, "")
	name := s.New(t)
	o := lived(t, s.Address(name, ""))
	l, err := Open(t.Context(), s.Address(name, ""), o)
	if err != nil {
		t.Fatal(err)
	}
	if err := l.(ledger.Roles).Grant(t.Context(), "mira", "read", ""); err != nil {
		t.Fatal(err)
	}
	l.Close()
	if x := judged(t, s.Address(name, ""), o); x != "" {
		t.Fatal(x)
	}
	columns, kinds, tables := map[string][]string{}, map[string][]string{}, []string{}
	for _, line := range strings.Split(s.Query(t, name, "SELECT table_name, column_name, data_type FROM "+
		"information_schema.columns WHERE table_schema = 'public' AND is_identity = 'NO' AND is_generated = "+
		"'NEVER' ORDER BY 1, "+
		"ordinal_position"), "\n") {
		f := strings.Split(line, "|")
		if counter(f[0]) {
			continue
		}
		if columns[f[0]] == nil {
			tables = append(tables, f[0])
		}
		columns[f[0]] = append(columns[f[0]], f[1])
		kinds[f[0]] = append(kinds[f[0]], map[string]string{"text": "text", "bigint": "number", "boolean": "yes"}[f[2]])
	}
	tried := 0
	for _, table := range tables {
		list := tamperings(table, "ctid = (SELECT min(ctid) FROM "+table+")", columns[table], kinds[table])
		edits := len(list) - 2
		for i, x := range list {
			if i < edits && i != len(table)%edits { // one column of each, another one in each
				continue
			}
			other := fmt.Sprintf("other%d", tried)
			s.Query(t, "postgres", "CREATE DATABASE "+other+" TEMPLATE "+name)
			got := s.Query(t, other, "SET session_replication_role = replica; WITH done AS ("+x.sql+" RETURNING "+
				"1) SELECT count(*) "+
				"FROM done")
			if got != "1" {
				t.Errorf("%s: %s rows", x.name, got)
			}
			if j := judged(t, s.Address(other, ""), o); j == "" || strings.Contains(j, broken) {
				t.Errorf("%s goes unnoticed, or ends it: %s: %s", x.name, x.sql, j)
			}
			s.Query(t, "postgres", "DROP DATABASE "+other)
			tried++
		}
	}
	if tried < 3*28 {
		t.Errorf("%d tried: this proves little", tried)
	}
}

// TestFlippedBits: of 300 bits that a disk turned round in a file none passes: what is read is what was written, or
// reading it is an error, or verifying tells of it.
func TestFlippedBits(t *testing.T) {
	t.Parallel()
	long(t)
	dir := t.TempDir()
	path := filepath.Join(dir, "tressik.ledger")
	o := lived(t, path)
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	dump := func(path string) (string, error) {
		l, err := Open(t.Context(), path, o)
		if err != nil {
			return "", err
		}
		defer l.Close()
		var b bytes.Buffer
		err = l.View(t.Context(), func(v model.View) error {
			d, err := model.Digest(v)
			fmt.Fprintln(&b, d)
			return errors.Join(err, testkit.Dump(&b, v, testkit.Noon()))
		})
		return b.String(), err
	}
	want, err := dump(path)
	if err != nil {
		t.Fatal(err)
	}
	rng := rand.New(rand.NewSource(1931))
	same, refused, told := 0, 0, 0
	for i := range 300 {
		bad := bytes.Clone(whole)
		at := rng.Intn(len(bad))
		bad[at] ^= 1 << rng.Intn(8)
		other := filepath.Join(dir, fmt.Sprintf("flipped%d.ledger", i))
		if err := os.WriteFile(other, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		switch got, err := dump(other); {
		case err != nil:
			refused++
		case got == want:
			same++
		case judged(t, other, o) == "":
			t.Errorf("a bit of byte %d makes another ledger, and nobody says so", at)
		default:
			told++
		}
		for _, suffix := range []string{"", "-wal", "-shm"} {
			os.Remove(other + suffix)
		}
	}
	t.Logf("%d make no difference, %d are refused, %d are told by verifying", same, refused, told)
	if refused < 30 {
		t.Error("this proves little")
	}
}

package main

import (
	"bytes"
	"database/sql"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"tressik.example/internal/testkit/peer"
)

// shared moves the ledger of a desk into a database of its own, and has the desk go on with that.
func (d *desk) shared(s *peer.Server) (database string) {
	d.t.Helper()
	database = s.New(d.t)
	d.env = append(d.env, "TRESSIK_LEDGER_KEY="+d.path("tressik.ledger-key"))
	d.ok("ledger", "copy", "tressik.ledger", s.Address(database, ""))
	d.env = append(d.env, "TRESSIK_LEDGER="+s.Address(database, ""))
	if err := os.Remove(d.path("tressik.ledger")); err != nil {
		d.t.Fatal(err)
	}
	return database
}

// as is the desk of somebody else, who connects in a role.
func (d *desk) role(s *peer.Server, database, name string) *desk {
	c := *d
	c.env = append(c.env[:len(c.env):len(c.env)], "TRESSIK_LEDGER="+s.Address(database, name), "TRESSIK_ACTOR=")
	return &c
}

// TestDemoInADatabase: the demo says the same of a ledger in a database as of one in a file, but for what is random.
func TestDemoInADatabase(t *testing.T) {
	t.Parallel()
	s := peer.Postgres(t, "")
	random := regexp.MustCompile(`[0-9a-f]{16,}|[A-Za-z0-9_~-]{20,}|\b[krs]-[0-9a-f]{10}|127\.0\.0\.1:[0-9]+|` +
		`--port [0-9]+|([0-9A-F]{2}:){10,}[0-9A-F]{2}|postgres:///\S+|\S+\.ledger(-key)?\b`)
	told := func(args ...string) string {
		d := newDesk(t)
		out := d.ok(append([]string{"demo", "--dir", "demo", "--full"}, args...)...)
		out = regexp.MustCompile(`(?m)^  export TRESSIK_LEDGER=.*\n`).ReplaceAllString(out, "") // where it lies
		return random.ReplaceAllString(strings.ReplaceAll(out, d.dir, ""), "…")
	}
	file, database := told(), told("--ledger", s.Address(s.New(t), ""))
	a, b := strings.Split(file, "\n"), strings.Split(database, "\n")
	if len(a) < 500 || len(a) != len(b) {
		t.Errorf("%d and %d lines", len(a), len(b))
	}
	bad := 0
	for i := range min(len(a), len(b)) {
		if strings.Join(strings.Fields(a[i]), " ") != strings.Join(strings.Fields(b[i]), " ") && bad < 10 {
			bad++
			t.Errorf("line %d:\n%s\nand not\n%s", i+1, b[i], a[i])
		}
	}
}

// TestStageFollowsTheDatabase is TestStageFollowsTheLedger for a ledger in a database.
func TestStageFollowsTheDatabase(t *testing.T) {
	t.Parallel()
	d := clients(t)
	d.shared(peer.Postgres(t, ""))
	follows(t, d)
}

// TestServerGoesAndComes stops the database server under a running stage, a running serve and a command: each says so,
// and goes on when it is back.
func TestServerGoesAndComes(t *testing.T) {
	t.Parallel()
	s := peer.Postgres(t, "")
	d := federated(t)
	d.shared(s)
	places, _ := openStage(t, d)
	start := places["nightlog"].Start
	at := d.serve()
	ask := func() (int, string) {
		resp, err := http.Get(at + "/ridge/metadata")
		if err != nil {
			t.Fatal(err)
		}
		return resp.StatusCode, body(resp)
	}
	if code, page := ask(); code != 200 {
		t.Fatalf("%d %s", code, page)
	}
	if resp, err := http.Get(at + "/head"); err != nil {
		t.Fatal(err)
	} else if said := body(resp); !regexp.MustCompile(`"hash":\s*"[0-9a-f]{64}"`).MatchString(said) {
		t.Errorf("the head of the journal: %s", said)
	}
	if p := visitor(t, start, "mira"); !strings.Contains(p, "Signed in") { // its keys are open from now on
		t.Fatal(p)
	}
	s.Stop(t)
	d.fails(1, []string{"the database server cannot be reached"}, "trust", "list")
	eventually(t, "serve says that its ledger is away", func() bool {
		code, _ := ask() // what it read a moment ago is still good
		return code >= 500
	})
	page := func() string {
		resp, err := http.Get(strings.TrimSuffix(start, "/nightlog/start"))
		if err != nil {
			t.Fatal(err)
		}
		return body(resp)
	}
	eventually(t, "the stage says that its ledger is away", func() bool {
		return strings.Contains(page(), "cannot be read")
	})
	if p := visitor(t, start, "mira"); !strings.Contains(p, "Signed in") {
		t.Errorf("the stage does not play on: %s", p)
	}
	s.Start(t)
	eventually(t, "serve has its ledger again", func() bool {
		code, _ := ask()
		return code == 200
	})
	d.ok("app", "add", "plates", "--entity-id", "urn:example:plates", "--acs",
		"https://plates.kestrelridge.example/acs")
	d.run("federate", "plates", "--with", "ridge")
	eventually(t, "the stage sees what changed", func() bool {
		p := page()
		return !strings.Contains(p, "cannot be read") && strings.Contains(p, "plates")
	})
}

// TestRoles: what a role may do is kept by the database, whatever program it uses, and who acts is proven.
func TestRoles(t *testing.T) {
	t.Parallel()
	s := peer.Postgres(t, "")
	d := clients(t)
	name := d.shared(s)
	for role, may := range map[string]string{"ilse": "read", "mira": "change", "aiyana": "consent"} {
		d.ok("ledger", "grant", role, "--may", may)
	}
	ilse, mira, aiyana := d.role(s, name, "ilse"), d.role(s, name, "mira"), d.role(s, name, "aiyana")
	ilse.ok("trust", "list")
	ilse.fails(1, []string{"ilse may read it alone"}, "app", "change", "dome-scheduler", "--title", "X")
	mira.ok("app", "change", "dome-scheduler", "--title", "Domes")
	mira.fails(2, []string{"the database knows who acts"}, "app", "change", "dome-scheduler", "--title", "X", "--actor",
		"aiyana")
	mira.fails(1, []string{"may change the ledger, and not consent"}, "consent", "give", "dome-scheduler@ridge",
		"--for",
		"mira")
	aiyana.ok("consent", "give", "dome-scheduler@ridge", "--for", "mira")
	mira.fails(1, []string{"the owner of the ledger does that"}, "ledger", "grant", "mira", "--may", "consent")
	var list []struct{ Actor, ActorIs, Action string }
	d.json(&list, "journal", "list", "--last", "20")
	list = slices.DeleteFunc(list, func(e struct{ Actor, ActorIs, Action string }) bool { return e.Actor == "aiyana" })
	list = slices.Compact(list)
	if n := len(list); n > 2 {
		list = list[n-2:]
	}
	if len(list) != 2 || list[0].Actor != "role:mira" || list[1].Actor != "role:aiyana" || list[0].ActorIs != "proven" {
		t.Errorf("%+v", list)
	}
	for role, sql := range map[string]string{
		"mira": "INSERT INTO journal SELECT 10000, at, 'role:aiyana', action, party, trust, before, after, prev, " +
			"hash, records, " +
			"sum FROM journal LIMIT 1",
		"aiyana": "DELETE FROM journal", "ilse": "UPDATE parties SET kind = kind"} {
		out, err := exec.Command(s.Program("psql"), "-X", "-d", s.Address(name, role), "-c", sql).CombinedOutput()
		why := "permission denied"
		if role == "mira" {
			why = "in its own name alone"
		}
		if err == nil || !strings.Contains(string(out), why) {
			t.Errorf("%s could: %s: %s", role, sql, out)
		}
	}
	// a large change lays its rows down beside; where the role may not do that it is made in the ordinary way
	crowd := func(n int) string {
		var b strings.Builder
		b.WriteString("uid,mail\n")
		for i := range n {
			fmt.Fprintf(&b, "c%d,c%d@kestrelridge.example\n", i, i)
		}
		return b.String()
	}
	mira.write("crowd.csv", crowd(3000))
	mira.ok("people", "load", "crowd.csv")
	ilse.write("crowd.csv", crowd(3000))
	ilse.fails(1, []string{"ilse may read it alone"}, "people", "load", "crowd.csv")
	s.Query(t, name, "REVOKE TEMPORARY ON DATABASE "+name+" FROM PUBLIC")
	mira.write("crowd.csv", crowd(6000))
	mira.ok("people", "load", "crowd.csv")
	if n := strings.TrimSpace(s.Query(t, name, "SELECT count(*) FROM persons WHERE id LIKE 'c%'")); n != "6000" {
		t.Errorf("%s of the crowd are there", n)
	}
	d.fails(0, []string{"each is what was written"}, "journal", "verify")
	d.ok("ledger", "revoke", "mira")
	mira.fails(1, []string{"does not let this role"}, "trust", "list")
	d.fails(2, nil, "ledger", "grant", "x", "--may", "everything")
	clients(t).fails(1, []string{"a file knows no roles"}, "ledger", "grant", "mira", "--may", "read")
}

// TestPasswordOfADatabase: a password comes from where only its owner reads, and is told to nobody.
func TestPasswordOfADatabase(t *testing.T) {
	t.Parallel()
	const password = "correct horse battery staple"
	s := peer.Postgres(t, password)
	d := federated(t)
	name := s.New(t)
	address := s.Address(name, "")
	with := func(more ...string) *desk {
		c := *d
		c.env = append(c.env[:len(c.env):len(c.env)], more...)
		return &c
	}
	d.fails(1, []string{"password"}, "trust", "list", "--ledger", address)
	file := d.write("db.password", password+"\n")
	with("PGPASSWORD="+password).ok("ledger", "copy", "tressik.ledger", address)
	for _, c := range []*desk{with("PGPASSWORD=" + password), with("TRESSIK_LEDGER_PASSWORD_FILE=" + d.path(file)),
		with("PGPASSFILE=" + d.path(d.write("pgpass", "*:*:*:*:"+password+"\n")))} {
		c.ok("trust", "list", "--ledger", address)
	}
	r := with("PGPASSWORD=wrong").run("trust", "list", "--ledger", address)
	if r.code != 1 || !strings.Contains(r.err, "password") {
		t.Errorf("%d %s", r.code, r.err)
	}
	inside := strings.Replace(address, "postgres://", "postgres://"+peer.Owner+":secret-of-mine@", 1)
	if r := d.run("trust", "list", "--ledger", inside); r.code != 1 || strings.Contains(r.out+r.err,
		"secret-of-mine") ||
		!strings.Contains(r.err, "seen by whoever lists the processes") {
		t.Errorf("%d %s", r.code, r.err)
	}
	for _, mode := range []string{"", "?sslmode=require", "?sslmode=prefer", "?sslmode=disable", "?sslmode=verify-ca"} {
		d.fails(1, []string{"sslmode=verify-full", "db.kestrelridge.example"}, "trust", "list", "--ledger",
			"postgres://db.kestrelridge.example/tressik"+mode)
	}
	with("PGSSLMODE=disable").fails(1, []string{"its certificate must be checked"}, "trust", "list", "--ledger",
		"postgres://db.kestrelridge.example/tressik")
	if err := os.Chmod(d.path(file), 0o644); err != nil {
		t.Fatal(err)
	}
	with("TRESSIK_LEDGER_PASSWORD_FILE="+d.path(file)).fails(1, []string{"others can read it", "chmod 600"}, "trust",
		"list", "--ledger", address)
	with("PGPASSWORD="+password).fails(1, []string{"there is no ledger", "tressik init"}, "trust", "list", "--ledger",
		s.Address("postgres", ""))
}

// TestBackupWhileOthersWrite: a backup that is made while 16 write is one moment, and what is made of it verifies; what
// was added before it began is in it.
func TestBackupWhileOthersWrite(t *testing.T) {
	t.Parallel()
	s := peer.Postgres(t, "")
	for _, place := range []string{"file", "database"} {
		t.Run(place, func(t *testing.T) {
			d := observatory(t)
			if place == "database" {
				d.shared(s)
			}
			var wg sync.WaitGroup
			for i := range 16 {
				wg.Go(func() {
					for j := range 3 {
						name := fmt.Sprintf("app-%d-%d", i, j)
						if r := d.run("app", "add", name, "--entity-id", "urn:example:"+name, "--acs",
							"https://"+name+".example/acs"); r.code != 0 {
							t.Errorf("%s: %s", name, r.err)
						}
					}
				})
			}
			for i := range 4 {
				d.ok("ledger", "backup", fmt.Sprintf("%d.backup", i), "--sealed")
			}
			wg.Wait()
			d.ok("ledger", "backup", "last.backup")
			d.fails(0, []string{"each is what was written"}, "journal", "verify")
			for _, b := range []string{"0", "1", "2", "3", "last"} {
				place := b + ".ledger"
				d.ok("ledger", "restore", b+".backup", "--ledger", place, "--key", "tressik.ledger-key")
				d.fails(0, []string{"each is what was written"}, "journal", "verify", "--ledger", place)
			}
			var all, restored []struct{ Name string }
			d.json(&all, "app", "list")
			d.json(&restored, "app", "list", "--ledger", "last.ledger")
			if len(all) != 49 || fmt.Sprint(all) != fmt.Sprint(restored) {
				t.Errorf("%d apps, and %d of the backup", len(all), len(restored))
			}
		})
	}
}

// TestRestore: a backup makes a ledger where none is and nothing of one was left, whole or not at all, and says what it
// brings back.
func TestRestore(t *testing.T) {
	t.Parallel()
	d := clients(t)
	d.secret("frame-courier@ridge", "30d")
	d.ok("ledger", "backup", "a.backup")
	fi, err := os.Stat(d.path("a.backup"))
	if err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", fi, err)
	}
	d.fails(1, []string{"there is a file already"}, "ledger", "restore", "a.backup")
	d.write("b.ledger-wal", "the last changes of a ledger")
	d.fails(1, []string{"b.ledger-wal was left of a ledger"}, "ledger", "restore", "a.backup", "--ledger", "b.ledger")
	if d.read("b.ledger-wal") != "the last changes of a ledger" {
		t.Error("what was left is no more")
	}
	b, err := os.ReadFile(d.path("a.backup"))
	if err != nil {
		t.Fatal(err)
	}
	for i := 1; i < 8; i++ {
		bad := bytes.Clone(b)
		bad[len(bad)*i/8] ^= 4
		d.write("bad.backup", string(bad))
		d.fails(1, []string{"bad.backup", "no whole copy"}, "ledger", "restore", "bad.backup", "--ledger", "c.ledger")
		d.write("bad.backup", string(b[:len(b)*i/8]))
		d.fails(1, []string{"bad.backup", "no whole copy"}, "ledger", "restore", "bad.backup", "--ledger", "c.ledger")
	}
	d.fails(1, []string{"no whole copy"}, "ledger", "restore", d.write("x", "no backup"), "--ledger", "c.ledger")
	if left, _ := filepath.Glob(d.path("c.*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	r := d.fails(0, []string{"1 secret valid then", "own key"}, "ledger", "restore", "a.backup", "--ledger", "d.ledger")
	said := regexp.MustCompile(`tressik [a-z]+ (list|refresh)( PARTY)?`).FindAllString(r.out, -1)
	for _, line := range said { // each of them can be run
		args := strings.Fields(strings.Replace(line, "PARTY", "ridge", 1))[1:]
		if x := d.run(append(args, "--ledger", "d.ledger")...); x.code == 1 || x.code == 2 {
			t.Errorf("%s: %d %s", line, x.code, x.err)
		}
	}
	if len(said) < 4 || strings.Count(r.out, "tressik ") != len(said) {
		t.Errorf("%q of\n%s", said, r.out)
	}
	d.fails(0, []string{"restored", "of a copy made 2031-03-04"}, "ledger", "show", "--ledger", "d.ledger")
	d.fails(0, []string{"ledger.restore"}, "journal", "list", "--last", "1", "--ledger", "d.ledger")
	d.ok("ledger", "backup", "s.backup", "--sealed")
	d.fails(1, []string{"there is no key at"}, "ledger", "restore", "s.backup", "--ledger", "e.ledger")
	d.ok("ledger", "restore", "s.backup", "--ledger", "e.ledger", "--key", "tressik.ledger-key")
}

// TestHeadKeptElsewhere: a journal of which the end was taken off, or that was computed anew, does not have an entry
// whose hash was kept elsewhere.
func TestHeadKeptElsewhere(t *testing.T) {
	t.Parallel()
	d := federated(t)
	var before, after struct{ Journal struct{ Hash string } }
	d.ok("ledger", "backup", "before.backup")
	d.json(&before, "ledger", "show")
	d.ok("app", "change", "nightlog", "--title", "Nights")
	d.json(&after, "ledger", "show")
	d.fails(0, []string{"each is what was written"}, "journal", "verify", "--head", before.Journal.Hash)
	d.fails(0, []string{"each is what was written"}, "journal", "verify", "--head", after.Journal.Hash)
	d.ok("ledger", "restore", "before.backup", "--ledger", "older.ledger")
	d.fails(0, nil, "journal", "verify", "--ledger", "older.ledger", "--head", before.Journal.Hash)
	d.fails(2, []string{"no hash of an entry", "ledger show"}, "journal", "verify", "--head", "abc")
	d.fails(3, []string{"has no entry of the hash", "or the hash is of another ledger"}, "journal", "verify",
		"--ledger", "older.ledger", "--head",
		after.Journal.Hash)
}

// TestManyWriters: 16 processes change one trust at once, on either engine. Each change is made, and nobody is told
// to run the command again.
func TestManyWriters(t *testing.T) {
	t.Parallel()
	s := peer.Postgres(t, "")
	for _, place := range []string{"file", "database"} {
		t.Run(place, func(t *testing.T) {
			d := federated(t)
			if place == "database" {
				d.shared(s)
			}
			var wg sync.WaitGroup
			for i := range 16 {
				wg.Go(func() {
					r := d.run("claims", "set", "nightlog@ridge", fmt.Sprintf("claim%d=person.mail", i))
					if r.code != 0 && r.code != 3 {
						t.Errorf("%d: %d %s", i, r.code, r.err)
					}
				})
			}
			wg.Wait()
			var list []struct{ Claim string }
			d.json(&list, "claims", "list", "nightlog@ridge")
			for i := range 16 {
				if !slices.ContainsFunc(list,
					func(c struct{ Claim string }) bool { return c.Claim == fmt.Sprintf("claim%d", i) }) {
					t.Errorf("claim%d is lost: %+v", i, list)
				}
			}
			d.fails(0, []string{"each is what was written"}, "journal", "verify")
		})
	}
}

// serve runs tressik serve and returns where it answers.
func (d *desk) serve(args ...string) string {
	d.t.Helper()
	c := d.command(append([]string{"serve", "--format", "json"}, args...)...)
	out, err := c.StdoutPipe()
	if err != nil {
		d.t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		d.t.Fatal(err)
	}
	d.t.Cleanup(func() {
		c.Process.Signal(os.Interrupt)
		c.Wait()
	})
	b := make([]byte, 4096)
	n, _ := out.Read(b)
	at := regexp.MustCompile(`http://[0-9.:]+`).FindString(string(b[:n]))
	if at == "" {
		d.t.Fatalf("serve says %q", b[:n])
	}
	return at
}

// TestLedgerKeyInTrouble: with a ledger key that is lost, empty, readable by others or of another ledger, what needs it
// says which of these it is, and changes nothing; what does not need it goes on.
func TestLedgerKeyInTrouble(t *testing.T) {
	t.Parallel()
	other := newDesk(t)
	other.ok("init", "--org", "Another")
	for _, c := range []struct{ name, says, shown string }{
		{"lost", "is not at", "there is none"}, {"empty", "is empty", "there is none"},
		{"readable", "others can read it", "others can read it"}, {"wrong", "key of another ledger",
			"key of another ledger"}, {"locked", "locked with a passphrase", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := federated(t)
			d.ok("trust", "list")
			d.fails(0, nil, "ledger", "backup", "before.backup")
			key := d.path("tressik.ledger-key")
			d.write("password", "five words of a passphrase\n")
			err := os.Chmod(d.path("password"), 0o600)
			var keys []struct{ ID string }
			d.json(&keys, "key", "list", "ridge")
			switch c.name {
			case "locked":
				d.ok("ledger", "rekey", "--out", "locked.key", "--passphrase-file", "password")
				err = os.Rename(d.path("locked.key"), key)
			case "lost":
				err = os.Remove(key)
			case "empty":
				err = os.WriteFile(key, nil, 0o600)
			case "readable":
				err = os.Chmod(key, 0o644)
			case "wrong":
				var b []byte
				if b, err = os.ReadFile(other.path("tressik.ledger-key")); err == nil {
					err = os.WriteFile(key, b, 0o600)
				}
			}
			if err != nil {
				t.Fatal(err)
			}
			var head struct{ Journal struct{ Hash string } }
			d.json(&head, "ledger", "show")
			before := head.Journal.Hash
			for _, args := range [][]string{{"publish", "site"}, {"ledger", "rekey", "--out", "new.key"},
				{"metadata", "write", "ridge", "--sign", "--out", "signed.xml"}, {"key", "request", "ridge",
					keys[0].ID},
				{"key", "export", "ridge", keys[0].ID, "--private", "--password-file", "password", "--out",
					"key.p12"}} {
				if r := d.run(args...); r.code != 1 || !strings.Contains(r.err, c.says) {
					t.Errorf("%s: %d %s", args, r.code, r.err)
				}
			}
			d.fails(0, []string{c.shown}, "ledger", "show")
			d.ok("trust", "list")
			d.json(&head, "ledger", "show")
			if head.Journal.Hash != before {
				t.Error("something was changed")
			}
			for _, name := range []string{"new.key", "signed.xml", "site"} {
				if _, err := os.Stat(d.path(name)); err == nil {
					t.Errorf("%s was left behind", name)
				}
			}
		})
	}
}

// TestLedgerKeyWithAPassphrase: a ledger key that is locked opens with its passphrase alone, out of a file or typed at
// the terminal, and is asked for by what opens a key alone.
func TestLedgerKeyWithAPassphrase(t *testing.T) {
	t.Parallel()
	d := federated(t)
	put := func(name, text string) {
		d.write(name, text)
		if err := os.Chmod(d.path(name), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	put("words", "the dome turns at dusk\n")
	put("other", "the dome turns at dawn\n")
	put("short", "dome\n")
	d.fails(1, []string{"at least 12 characters"}, "ledger", "rekey", "--out", "new.key", "--passphrase-file", "short")
	d.fails(2, []string{"--out"}, "ledger", "rekey", "--passphrase-file", "words")
	d.fails(2, []string{"at a terminal"}, "ledger", "rekey", "--out", "new.key", "--passphrase")
	d.ok("ledger", "rekey", "--out", "new.key", "--passphrase-file", "words")
	if text := d.read("new.key"); strings.Contains(text, "SECRET") || !strings.Contains(text, "# public key: age1") {
		t.Errorf("the key's file: %s", text)
	}
	if err := os.Rename(d.path("new.key"), d.path("tressik.ledger-key")); err != nil {
		t.Fatal(err)
	}
	sign := []string{"metadata", "write", "ridge", "--sign", "--out", "signed.xml", "--force"}
	d.fails(1, []string{"locked with a passphrase", "TRESSIK_LEDGER_PASSPHRASE_FILE"}, sign...)
	with := func(file string) *desk {
		c := *d
		c.env = append(slices.Clone(d.env), "TRESSIK_LEDGER_PASSPHRASE_FILE="+d.path(file))
		return &c
	}
	with("words").ok(sign...)
	with("other").fails(1, []string{"not the passphrase"}, sign...)
	if err := os.Chmod(d.path("words"), 0o644); err != nil {
		t.Fatal(err)
	}
	with("words").fails(1, []string{"others can read it"}, sign...)
	put("words", d.read("words"))
	for _, args := range [][]string{{"trust", "list"}, {"ledger", "backup", "sealed.backup",
		"--sealed"},
		{"journal", "verify"}, {"trust", "change", "nightlog@ridge", "--owner", "aiyana@kestrelridge.example"}} {
		if r := d.run(args...); r.code != 0 {
			t.Errorf("%s: %d %s", args, r.code, r.err)
		}
	}
	again := with("words")
	again.env = append(again.env, "TRESSIK_LEDGER_KEY="+d.path("tressik.ledger-key"))
	again.ok("ledger", "restore", "sealed.backup", "--ledger", "again.ledger")
	d.fails(1, []string{"there is no key"}, "ledger", "restore", "sealed.backup", "--ledger", "third.ledger")
	// from one passphrase to another, and to none
	with("words").ok("ledger", "rekey", "--out", "next.key", "--passphrase-file", "other")
	if err := os.Rename(d.path("next.key"), d.path("tressik.ledger-key")); err != nil {
		t.Fatal(err)
	}
	with("other").ok("ledger", "rekey", "--out", "plain.key")
	if text := d.read("plain.key"); !strings.Contains(text, "AGE-SECRET-KEY-") {
		t.Errorf("without a passphrase: %s", text)
	}

	// typed at the terminal: twice for a new one
	e := federated(t)
	rekey := []string{"ledger", "rekey", "--out", "new.key", "--passphrase"}
	code, said := e.typed([][2]string{{"New passphrase: ", "twelve letters and more"},
		{"The same again: ", "twelve letters and less"}}, rekey...)
	if _, err := os.Stat(e.path("new.key")); code != 1 || !strings.Contains(said, "the two differ") || err == nil {
		t.Errorf("two that differ: %d %s, %v", code, said, err)
	}
	code, said = e.typed([][2]string{{"New passphrase: ", "twelve letters and more"},
		{"The same again: ", "twelve letters and more"}}, rekey...)
	if code != 0 {
		t.Fatalf("%d %s", code, said)
	}
	if err := os.Rename(e.path("new.key"), e.path("tressik.ledger-key")); err != nil {
		t.Fatal(err)
	}
	for words, want := range map[string]int{"twelve letters and more": 0, "twelve letters and less": 1} {
		if code, said = e.typed([][2]string{{"tressik.ledger-key: ", words}}, sign...); code != want ||
			strings.Contains(said, words) {
			t.Errorf("%q: %d %s", words, code, said)
		}
	}
}

// typed runs a command at a terminal and answers each question, where nothing that is typed is shown.
func (d *desk) typed(answers [][2]string, args ...string) (code int, said string) {
	d.t.Helper()
	slave, master := aTerminal(d.t.(*testing.T), 100)
	defer master.Close()
	defer slave.Close()
	hidden := func() bool {
		s, err := unix.IoctlGetTermios(int(slave.Fd()), unix.TCGETS)
		if err != nil {
			d.t.Fatal(err)
		}
		return s.Lflag&unix.ECHO == 0
	}
	heard := &heard{}
	c := d.command(args...)
	c.Stdin, c.Stdout, c.Stderr = slave, io.Discard, heard
	if err := c.Start(); err != nil {
		d.t.Fatal(err)
	}
	for _, x := range answers {
		for until := time.Now().Add(30 * time.Second); !strings.HasSuffix(heard.String(), x[0]) ||
			!hidden(); time.Sleep(
			5 * time.Millisecond) {
			if time.Now().After(until) {
				c.Process.Kill()
				d.t.Fatalf("%s does not ask %q: %q", args, x[0], heard)
			}
		}
		io.WriteString(master, x[1]+"\n")
	}
	c.Wait()
	return c.ProcessState.ExitCode(), heard.String()
}

// TestLedgerForATester: a ledger that is made for a tester has the shape of the other one, works, and has no person,
// secret or key of it in any byte.
func TestLedgerForATester(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("expect", "add", "nightlog@ridge", "--as", "mira", "--admitted")
	d.ok("app", "change", "dome-scheduler", "--title", "The domes of Tobias Renn")
	d.ok("ledger", "copy", "tressik.ledger", "tester.ledger", "--without-people")
	made := d.read("tester.ledger")
	if b, err := os.ReadFile(d.path("tester.ledger-wal")); err == nil {
		made += string(b)
	}
	db, err := sql.Open("sqlite", d.path("tressik.ledger"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	looked := 0
	absent := func(what, text string) {
		t.Helper()
		looked++
		if strings.Contains(made, text) {
			t.Errorf("%s %.60q is in it", what, text)
		}
	}
	for _, query := range []string{"SELECT hash FROM secrets", "SELECT salt FROM trusts", "SELECT sealed FROM keys",
		"SELECT certificate FROM keys", "SELECT sealed FROM stage_keys", "SELECT key FROM subjects",
		"SELECT value FROM ledger WHERE key = 'people-key'", "SELECT hash FROM journal", "SELECT doc FROM persons"} {
		rows, err := db.Query(query)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for rows.Next() {
			var b []byte
			if err := rows.Scan(&b); err != nil {
				t.Fatal(err)
			}
			n++
			absent(query, string(b))
		}
		if err := rows.Close(); err != nil || n == 0 {
			t.Errorf("%s: %d rows, %v", query, n, err)
		}
	}
	var persons []struct {
		ID         string
		Attributes map[string][]string
	}
	d.json(&persons, "people", "list")
	folded := strings.ToLower(made)
	for _, p := range persons {
		for _, name := range []string{"cn", "sn", "givenName", "displayName", "mail", "eduPersonPrincipalName"} {
			for _, v := range p.Attributes[name] {
				looked++
				if regexp.MustCompile(`\b` + regexp.QuoteMeta(strings.ToLower(v)) + `\b`).MatchString(folded) {
					t.Errorf("the %s of %s, %q, is in it", name, p.ID, v)
				}
			}
		}
		if regexp.MustCompile(`[" :=]` + regexp.QuoteMeta(strings.ToLower(p.ID)) + `[",. ]`).MatchString(folded) {
			t.Errorf("%s is in it", p.ID)
		}
	}
	if len(persons) != 45 || looked < 300 {
		t.Errorf("%d people, %d looked for: this proves little", len(persons), looked)
	}
	for _, noun := range []string{"app", "provider", "trust", "people"} {
		var a, b []any
		d.json(&a, noun, "list")
		d.json(&b, noun, "list", "--ledger", "tester.ledger")
		if len(a) != len(b) {
			t.Errorf("%s: %d, and %d for the tester", noun, len(a), len(b))
		}
	}
	d.fails(0, []string{"each is what was written"}, "journal", "verify", "--ledger", "tester.ledger")
	r := d.run("rehearse", "plate-archive@ridge", "--as", "tester7", "--ledger", "tester.ledger")
	if r.code == 1 || r.code == 2 {
		t.Errorf("a rehearsal: %d %s", r.code, r.err)
	}
	d.ok("publish", "site", "--ledger", "tester.ledger")
	d.fails(1, []string{"there is a file already"}, "ledger", "copy", "tressik.ledger", "tester.ledger",
		"--without-people")
}

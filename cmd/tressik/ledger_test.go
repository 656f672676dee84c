package main

import (
	"database/sql"
	"fmt"
	"math/rand"
	"strings"
	"sync"
	"testing"
	"time"

	_ "modernc.org/sqlite"
)

func TestJournalNamesWhatWasTamperedWith(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, sql, want string }{
		{"a field changed", "UPDATE journal SET actor = 'somebody' WHERE seq = 3", "entry 3: its content"},
		{"an entry taken out", "DELETE FROM journal WHERE seq = 2", "entries 2 to 2 are missing"},
		{"the last taken off", "DELETE FROM journal WHERE seq = (SELECT max(seq) FROM journal)",
			"when it was last written"},
		{"a hash changed with its content", "UPDATE journal SET after = '{}', hash = 'ab' WHERE seq = 3",
			"entry 4: it does not follow"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := observatory(t)
			d.fails(0, []string{"whole"}, "journal", "verify")
			db, err := sql.Open("sqlite", d.path("tressik.ledger"))
			if err != nil {
				t.Fatal(err)
			}
			defer db.Close()
			if _, err := db.Exec(c.sql); err != nil {
				t.Fatal(err)
			}
			d.fails(3, []string{c.want, "NOT what was written"}, "journal", "verify")
		})
	}
}

func TestNewerLedgerIsLeftAlone(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	db, err := sql.Open("sqlite", d.path("tressik.ledger"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (99, 1)"); err != nil {
		t.Fatal(err)
	}
	d.fails(1, []string{"newer version of Tressik", "schema 99"}, "trust", "list")
}

// TestTwoWriters has many processes write at once: each change is there, or the process said that the record changed.
func TestTwoWriters(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	var wg sync.WaitGroup
	var mu sync.Mutex
	done := map[string]bool{}
	for i := range 12 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			title := fmt.Sprintf("Title %d", i)
			r := d.run("app", "change", "nightlog", "--title", title)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case r.code == 0:
				done[title] = true
			case r.code != 1 || !strings.Contains(r.err, "changed under this command"):
				t.Errorf("%d: %s", r.code, r.err)
			}
		}()
	}
	wg.Wait()
	if len(done) == 0 {
		t.Fatal("nobody could write")
	}
	d.fails(0, []string{"whole"}, "journal", "verify")
	var entries []struct{ Action string }
	d.json(&entries, "journal", "list", "--party", "nightlog")
	if len(entries) != 1+len(done) {
		t.Errorf("%d changes were reported done, the journal has %d", len(done), len(entries)-1)
	}
	var app struct{ Title string }
	d.json(&app, "app", "show", "nightlog")
	if !done[app.Title] {
		t.Errorf("the title is %q, which nobody reported done", app.Title)
	}
}

// TestKilledAtAnyMoment kills the program at random moments of 200 writes: each write is wholly there or wholly not.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("takes some seconds")
	}
	d := observatory(t)
	rng := rand.New(rand.NewSource(1931))
	killed, kept := 0, 0
	for i := range 200 {
		name := fmt.Sprintf("app%d", i)
		c := d.command("app", "add", name, "--entity-id", "https://"+name+".kestrelridge.example", "--acs",
			"https://"+name+".kestrelridge.example/acs")
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		time.AfterFunc(time.Duration(rng.Intn(30_000))*time.Microsecond, func() { c.Process.Kill() })
		if err := c.Wait(); err != nil {
			killed++
		}
	}
	if killed == 0 || killed == 200 {
		t.Errorf("%d of 200 were killed: this proves nothing", killed)
	}
	d.fails(0, []string{"whole"}, "journal", "verify")
	var apps []struct{ Name string }
	d.json(&apps, "app", "list")
	var entries []struct{ Party, Action string }
	d.json(&entries, "journal", "list")
	noted := map[string]int{}
	for _, e := range entries {
		if e.Action == "app.add" {
			noted[e.Party]++
		}
	}
	for _, a := range apps {
		kept++
		if noted[a.Name] != 1 {
			t.Errorf("%s is in the ledger with %d entries in the journal", a.Name, noted[a.Name])
		}
	}
	if kept != len(noted) {
		t.Errorf("%d apps, %d in the journal", kept, len(noted))
	}
	t.Logf("%d of 200 killed, %d apps kept", killed, kept-1)
}

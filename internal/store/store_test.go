package store

import (
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

var now = time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)

func open(t *testing.T) *Ledger {
	t.Helper()
	l, err := Create(filepath.Join(t.TempDir(), "with space & 100%.ledger"), "Kestrel Ridge Observatory",
		Options{Actor: "tester", Now: func() time.Time { return now }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l
}

func party(kind federation.Kind, name string) *federation.Party {
	return &federation.Party{Name: name, Kind: kind, Entity: saml.Entity{ID: "https://" + name + ".example"}}
}

func (l *Ledger) mustAdd(t *testing.T, p *federation.Party, raw string) {
	t.Helper()
	if err := l.Change(func(tx *Tx) error { return tx.AddParty(p, []byte(raw)) }); err != nil {
		t.Fatal(err)
	}
}

func TestCreateLeavesNothingHalfDone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	o := Options{Actor: "tester", Now: func() time.Time { return now }}
	if _, err := Create(filepath.Join(dir, "no", "x.ledger"), "X", o); err == nil {
		t.Error("a ledger in a folder that is not there")
	}
	path := filepath.Join(dir, "x.ledger")
	l, err := Create(path, "X", o)
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	if _, err := Create(path, "Y", o); !errors.Is(err, ErrThere) {
		t.Errorf("a second ledger at the same place: %v", err)
	}
	files, _ := os.ReadDir(dir)
	for _, f := range files {
		if n := f.Name(); n != "x.ledger" && n != "x.seal-key" && n != "x.ledger-wal" && n != "x.ledger-shm" {
			t.Errorf("%s was left behind", n)
		}
	}
	if l, err = Open(path, o); err != nil || l.Org() != "X" {
		t.Fatalf("%v", err)
	}
	l.Close()
	if err := os.WriteFile(filepath.Join(dir, "x.seal-key"), []byte("nothing"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Create(filepath.Join(dir, "x.other"), "Z", o); !errors.Is(err, ErrSealKey) {
		t.Errorf("a seal key that is none: %v", err)
	}
}

func TestPartiesAndConflicts(t *testing.T) {
	t.Parallel()
	l := open(t)
	l.mustAdd(t, party(federation.Provider, "ridge"), "<raw/>")
	l.mustAdd(t, party(federation.App, "nightlog"), "")
	for name, p := range map[string]*federation.Party{"same name": party(federation.App, "ridge"),
		"same entity ID": {Name: "other", Kind: federation.Provider, Entity: saml.Entity{ID: "https://ridge.example"}}} {
		if err := l.Change(func(tx *Tx) error { return tx.AddParty(p, nil) }); !errors.Is(err, ErrExists) {
			t.Errorf("%s: %v", name, err)
		}
	}
	a, err := l.Party("ridge")
	if err != nil {
		t.Fatal(err)
	}
	b := *a
	b.Title = "first"
	if err := l.Change(func(tx *Tx) error { return tx.PutParty(a, &b, nil, true) }); err != nil {
		t.Fatal(err)
	}
	c := *a
	c.Title = "second, from the same start"
	if err := l.Change(func(tx *Tx) error { return tx.PutParty(a, &c, nil, true) }); !errors.Is(err, ErrChanged) {
		t.Errorf("a stale change: %v", err)
	}
	if raw, err := l.Raw("ridge"); err != nil || string(raw) != "<raw/>" {
		t.Errorf("raw: %q %v", raw, err)
	}
	if err := l.Change(func(tx *Tx) error { return tx.RemoveParty(a) }); !errors.Is(err, ErrChanged) {
		t.Errorf("a stale removal: %v", err)
	}
	if _, err := l.Party("nobody"); !errors.Is(err, ErrNotFound) {
		t.Errorf("nobody: %v", err)
	}
	if list, err := l.Parties(federation.App); err != nil || len(list) != 1 || list[0].Name != "nightlog" {
		t.Errorf("%v %v", list, err)
	}
}

func TestTrustHoldsItsParties(t *testing.T) {
	t.Parallel()
	l := open(t)
	l.mustAdd(t, party(federation.Provider, "ridge"), "")
	l.mustAdd(t, party(federation.App, "nightlog"), "")
	tr := &federation.Trust{Name: "nightlog@ridge", App: "nightlog", Provider: "ridge",
		Terms: federation.Held{Terms: &federation.SAMLTerms{}}}
	if err := l.Change(func(tx *Tx) error {
		return tx.AddTrust(tr,
			federation.SubjectKey{Salt: []byte("salt")})
	}); err != nil {
		t.Fatal(err)
	}
	if err := l.Change(func(tx *Tx) error { return tx.AddTrust(tr, federation.SubjectKey{}) }); !errors.Is(err,
		ErrExists) {
		t.Errorf("twice: %v", err)
	}
	p, _ := l.Party("ridge")
	if err := l.Change(func(tx *Tx) error { return tx.RemoveParty(p) }); !errors.Is(err, ErrInUse) ||
		!strings.Contains(err.Error(), "nightlog@ridge") {
		t.Errorf("a party in use: %v", err)
	}
	old, _ := l.Trust("nightlog@ridge")
	changed := *old
	changed.Last = &federation.Rehearsal{Verdict: "accepted", Subject: "secret-subject",
		Claims: map[string][]string{"mail": {"mira@kestrelridge.example"}}}
	if err := l.Change(func(tx *Tx) error { return tx.PutTrust(old, &changed, "trust.rehearse") }); err != nil {
		t.Fatal(err)
	}
	entries, err := l.Journal(Filter{Trust: "nightlog@ridge", Last: 1})
	if err != nil || len(entries) != 1 {
		t.Fatal(entries, err)
	}
	if s := string(entries[0].After); strings.Contains(s, "mira@") || strings.Contains(s, "secret-subject") ||
		!strings.Contains(s, "accepted") {
		t.Errorf("the journal keeps %s", s)
	}
	if salt, err := l.SubjectKey("nightlog@ridge"); err != nil || string(salt.Salt) != "salt" {
		t.Errorf("%s %v", salt, err)
	}
	all, _ := l.Journal(Filter{})
	for _, e := range all {
		if strings.Contains(string(e.After), "salt") {
			t.Error("the salt is in the journal")
		}
	}
}

func TestChangeIsAllOrNothing(t *testing.T) {
	t.Parallel()
	l := open(t)
	before, _, _ := l.VerifyJournal()
	boom := errors.New("boom")
	err := l.Change(func(tx *Tx) error {
		if err := tx.AddParty(party(federation.App, "nightlog"), nil); err != nil {
			return err
		}
		return boom
	})
	if !errors.Is(err, boom) {
		t.Fatal(err)
	}
	after, breaks, err := l.VerifyJournal()
	if _, e := l.Party("nightlog"); !errors.Is(e, ErrNotFound) || after != before || len(breaks) > 0 || err != nil {
		t.Errorf("something was kept: %v, %d entries for %d, %v %v", e, after, before, breaks, err)
	}
}

func TestSealedKeys(t *testing.T) {
	t.Parallel()
	l := open(t)
	l.mustAdd(t, party(federation.Provider, "ridge"), "")
	for _, kind := range keys.Kinds() {
		if strings.HasPrefix(kind, "rsa-3") || strings.HasPrefix(kind, "rsa-4") {
			continue // slow to make, and no different here
		}
		key, err := keys.Generate(rand.Reader, kind)
		if err != nil {
			t.Fatal(err)
		}
		cert, err := keys.SelfSign(rand.Reader, key, kind, "", now, time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		if err := l.Change(func(tx *Tx) error {
			if _, err := tx.tx.Exec("DELETE FROM keys"); err != nil {
				return err
			}
			return tx.AddKey("ridge", "signing", federation.Active, key, cert)
		}); err != nil {
			t.Fatal(err)
		}
		got, c, err := l.Key("ridge", "signing")
		if err != nil || !c.Equal(cert) || fmt.Sprint(got.Public()) != fmt.Sprint(key.Public()) {
			t.Errorf("%s: %v", kind, err)
		}
	}
	if _, _, err := l.Key("ridge", "encryption"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a key that is not there: %v", err)
	}
	if err := os.Remove(l.SealKeyPath()); err != nil {
		t.Fatal(err)
	}
	if _, _, err := l.Key("ridge", "signing"); !errors.Is(err, ErrSealKey) {
		t.Errorf("without the seal key: %v", err)
	}
}

func TestJournalFilters(t *testing.T) {
	t.Parallel()
	l := open(t)
	at := now
	l.Now = func() time.Time { at = at.Add(time.Minute); return at }
	for i := range 5 {
		l.Actor = []string{"mira", "tobias"}[i%2]
		l.mustAdd(t, party(federation.App, fmt.Sprintf("app%d", i)), "")
	}
	for want, f := range map[int]Filter{6: {}, 3: {Actor: "mira"}, 1: {Party: "app3"}, 2: {Last: 2}, 0: {Trust: "x"},
		5: {Since: now.Add(time.Second)}} {
		got, err := l.Journal(f)
		if err != nil || len(got) != want {
			t.Errorf("%+v: %d entries, want %d; %v", f, len(got), want, err)
		}
	}
	if got, _ := l.Journal(Filter{Until: now.Add(time.Second)}); len(got) != 1 || got[0].Action != "ledger.init" {
		t.Errorf("until: %v", got)
	}
}

func TestPersons(t *testing.T) {
	t.Parallel()
	l := open(t)
	put := func(replace bool, ids ...string) string {
		var list []people.Person
		for _, id := range ids {
			p := people.Person{ID: strings.TrimSuffix(id, "!"), Attributes: map[string][]string{"uid": {id}}}
			list = append(list, p)
		}
		var a, c, r int
		if err := l.Change(func(tx *Tx) (err error) {
			a, c, r, err = tx.PutPersons(list, replace,
				"test")
			return
		}); err != nil {
			t.Fatal(err)
		}
		return fmt.Sprint(a, c, r)
	}
	for _, c := range []struct {
		replace bool
		ids     []string
		want    string
	}{{false, []string{"mira", "tobias"}, "2 0 0"}, {false, []string{"mira"}, "0 0 0"}, {false, []string{"mira!", "ilse"},
		"1 1 0"},
		{true, []string{"ilse", "petra"}, "1 0 2"}, {true, []string{"petra"}, "0 0 1"}} {
		if got := put(c.replace, c.ids...); got != c.want {
			t.Errorf("%v (replace %v): %s, want %s", c.ids, c.replace, got, c.want)
		}
	}
	if p, err := l.Person("PETRA"); err != nil || p.ID != "petra" {
		t.Errorf("%v %v", p, err)
	}
	if all, _ := l.Persons(); len(all) != 1 {
		t.Errorf("%d are left", len(all))
	}
}

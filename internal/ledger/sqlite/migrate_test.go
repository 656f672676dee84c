package sqlite

import (
	"compress/gzip"
	"crypto/rand"
	"database/sql"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit"
)

// oldLedger is a copy of a ledger with schema 2, as the demo of that version left it, with its key beside it.
func oldLedger(t *testing.T) string {
	t.Helper()
	return ledgerFrom(t, "testdata/schema2.ledger.gz", "testdata/schema2.vault-key", "tressik.vault-key")
}

// ledgerFrom is a copy of a ledger of an older schema with its key beside it.
func ledgerFrom(t *testing.T, packed, keyFile, keyName string) string {
	t.Helper()
	f, err := os.Open(packed)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	z, err := gzip.NewReader(f)
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(z)
	if err != nil {
		t.Fatal(err)
	}
	key, err := os.ReadFile(keyFile)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "tressik.ledger")
	for name, b := range map[string][]byte{path: b, filepath.Join(filepath.Dir(path), keyName): key} {
		if err := os.WriteFile(name, b, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return path
}

// opened is a Book on what stands in a ledger at a path, which is migrated where it is of an older schema.
func opened(t *testing.T, path string) *model.Book {
	t.Helper()
	l, err := Open(t.Context(), path, ledger.Options{Env: testkit.Env(1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return model.Open(l.Now(t.Context()), l.Env())
}

func TestOldLedgerIsMigrated(t *testing.T) {
	t.Parallel()
	path := oldLedger(t)
	l := opened(t, path)
	if _, err := os.Stat(filepath.Join(filepath.Dir(path), "tressik.ledger-key")); err != nil {
		t.Errorf("the key was not renamed: %v", err)
	}
	if _, err := l.Key("ridge", federation.ForSigning); err != nil {
		t.Errorf("the signing key of ridge: %v", err)
	}
	trusts, err := l.Trusts()
	if err != nil || len(trusts) != 7 {
		t.Fatalf("%d trusts, %v", len(trusts), err)
	}
	for i := range trusts {
		x := &trusts[i]
		want := federation.Rehearsed
		if x.Name == "nightlog@southmere" {
			want = federation.Drafted
		}
		if x.Standing != want || x.Holds != (want == federation.Rehearsed) {
			t.Errorf("%s is %s, holds %v", x.Name, x.Standing, x.Holds)
		}
	}
	for name, kind := range map[string]string{"skyview": "user-agent", "frame-courier": "machine",
		"dome-scheduler": "web", "orbit": "native"} {
		if p, err := l.View.Party(name); err != nil || string(p.Client.Kind) != kind {
			t.Errorf("%s: %v %v", name, p, err)
		}
	}
	plates, err := l.View.Trust("plate-archive@ridge")
	if err != nil {
		t.Fatal(err)
	}
	if s, ok := plates.SAML(); !ok || s.Signs != "assertion" || !s.Encrypts || s.AllowSHA1 {
		t.Errorf("%+v", plates.Terms)
	}
	dome, err := l.View.Trust("dome-scheduler@ridge")
	if err != nil {
		t.Fatal(err)
	}
	if o, ok := dome.OIDC(); !ok || len(o.Asks) != 7 || o.Policy.AccessToken != 900 || o.ClientID == "" {
		t.Errorf("%+v", dome.Terms)
	}
	if _, breaks, err := l.VerifyJournal(); err != nil || len(breaks) > 0 {
		t.Errorf("the journal: %v %v", breaks, err)
	}
}

// TestLastSchemaIsMigrated opens a ledger as the demo of the version before left it: all that stood in it stands in it.
func TestLastSchemaIsMigrated(t *testing.T) {
	t.Parallel()
	b := opened(t, ledgerFrom(t, "testdata/schema10.ledger.gz", "testdata/schema10.seal-key", "tressik.seal-key"))
	counts := map[model.Kind]int{model.Parties: 8, model.Trusts: 7, model.People: 45, model.OwnKeys: 2,
		model.Secrets: 2, model.Consents: 7, model.Exports: 1, model.Runs: 9, model.Versions: 8}
	for kind, want := range counts {
		n := 0
		for _, err := range b.Find(model.Query{Kind: kind}) {
			if err != nil {
				t.Fatal(err)
			}
			n++
		}
		if n != want {
			t.Errorf("%d of the kind %s, want %d", n, kind, want)
		}
	}
	if list, err := b.View.Accounts("nightlog"); err != nil || len(list) != 22 {
		t.Errorf("%d accounts of nightlog, %v", len(list), err)
	}
	if _, err := b.Key("ridge", federation.ForTokens); err != nil {
		t.Errorf("the key of ridge for tokens: %v", err)
	}
	if n, breaks, err := b.VerifyJournal(); err != nil || len(breaks) > 0 || n != 57 {
		t.Errorf("the journal: %d entries, %v %v", n, breaks, err)
	}
	tr, err := b.View.Trust("nightlog@ridge")
	if err != nil || tr.Standing != federation.Rehearsed || tr.Admits != "group:observers" || tr.Version == 0 {
		t.Fatalf("%+v, %v", tr, err)
	}
	r, err := b.Releaser(tr, rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	mira, err := b.View.Person("mira")
	if err != nil {
		t.Fatal(err)
	}
	if s, err := r.SubjectOf(mira); err != nil || s != "aa256ad201e7cae128be60fda1fa831b7e7719be" {
		t.Errorf("mira is known as %s, %v", s, err)
	}
}

// TestSubjectsSurviveTheMigration has the pseudonyms as the version before worked them out.
func TestSubjectsSurviveTheMigration(t *testing.T) {
	t.Parallel()
	l := opened(t, oldLedger(t))
	for trust, subjects := range map[string]map[string]string{
		"nightlog@ridge": {"mira": "c3212fb1c38ef14459407bf4e267295b7820524d",
			"tobias": "6adfb4ffad6c1e7f0144604db485d049750f0313"},
		"nightlog@southmere": {"petra": "10ac40b5d6fb3574217148742d930125c886f043",
			"mira": "797784c6801d9a3199778226a5f11e89098a66b8"},
		"dome-scheduler@ridge": {"mira": "eae49a202cd74931fb8ab6fbe3282e07309740aa",
			"petra": "4dc87164a62ee931cba3f0f6cff9d42fc40a66dc"},
		"ridge@southmere": {"petra": "5e4267370f56a04caea4ef3f6572ab05277d52c2",
			"tobias": "ba710517d8c046d5e7e0eaffa30f97767a19ada4"},
	} {
		tr, err := l.View.Trust(trust)
		if err != nil {
			t.Fatal(err)
		}
		key, err := l.SubjectKey(trust)
		if err != nil {
			t.Fatal(err)
		}
		e, err := claims.NewEngine()
		if err != nil {
			t.Fatal(err)
		}
		r, err := federation.NewReleaser(e, tr, key, rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		for who, want := range subjects {
			p, err := l.View.Person(who)
			if err != nil {
				t.Fatal(err)
			}
			if s, err := r.Subject(p); err != nil || s.Value != want {
				t.Errorf("%s at %s is %s, was %s (%v)", who, trust, s.Value, want, err)
			}
		}
	}
}

// TestMigratedByOne has four open an old ledger at once: one migrates it, the others wait, each sees all of it, and
// what it was lies beside it.
func TestMigratedByOne(t *testing.T) {
	t.Parallel()
	path := ledgerFrom(t, "testdata/schema14.ledger.gz", "testdata/schema14.ledger-key", "tressik.ledger-key")
	var all sync.WaitGroup
	var said atomic.Int32
	digests := make([]model.CopyEnd, 4)
	for i := range digests {
		all.Go(func() {
			l, err := Open(t.Context(), path, ledger.Options{Env: testkit.Env(1), Say: func(string) { said.Add(1) }})
			if err != nil {
				t.Error(err)
				return
			}
			defer l.Close()
			err = l.View(t.Context(), func(v model.View) (err error) {
				if digests[i], err = model.Digest(v); err != nil {
					return err
				}
				p, err := v.Prove("")
				if err == nil && (!p.Whole() || p.Entries != 57 || p.Records < 130) {
					t.Errorf("%+v", p)
				}
				return err
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	for _, d := range digests {
		if d != digests[0] || d.Records < 140 {
			t.Errorf("%+v and %+v", d, digests[0])
		}
	}
	if n := said.Load(); n != 1 {
		t.Errorf("%d migrated it", n)
	}
	fi, err := os.Stat(path + ".schema-14")
	if err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("the copy of what it was: %v, %v", fi, err)
	}
	db, err := sql.Open("sqlite", dsn(path+".schema-14"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if v, err := schemaOf(t.Context(), db); err != nil || v != 14 {
		t.Errorf("the copy has schema %d, %v", v, err)
	}
	left, _ := filepath.Glob(path + "*.new-*")
	if len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

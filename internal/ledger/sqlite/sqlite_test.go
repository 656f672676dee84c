package sqlite

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	persons "tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/ledgertest"
	"tressik.example/internal/ledger/seal"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/whole"
	"tressik.example/internal/testkit"
)

func TestEngine(t *testing.T) {
	t.Parallel()
	ledgertest.Suite(t, func(t *testing.T, env model.Env) (ledger.Ledger, func() ledger.Ledger) {
		path := filepath.Join(t.TempDir(), "with space & 100%.ledger")
		l, err := Create(t.Context(), path, "Kestrel Ridge Observatory", ledger.Options{Env: env})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		return l, func() ledger.Ledger {
			l, err := Open(t.Context(), path, ledger.Options{Env: env})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { l.Close() })
			return l
		}
	}, func(t *testing.T, env model.Env, s ledger.Source) (ledger.Ledger, error) {
		dir := t.TempDir()
		l, err := Fill(t.Context(), filepath.Join(dir, "filled.ledger"), ledger.Options{Env: env}, s)
		if err != nil {
			if left, _ := os.ReadDir(dir); len(left) > 0 {
				t.Errorf("something was left behind: %v", left)
			}
			return nil, err
		}
		t.Cleanup(func() { l.Close() })
		return l, nil
	})
}

// TestTellsWhatIsWritten: whoever waits for a large change hears how far it has come.
func TestTellsWhatIsWritten(t *testing.T) {
	t.Parallel()
	env := testkit.Env(1)
	l, err := Create(t.Context(), filepath.Join(t.TempDir(), "x.ledger"), "X", ledger.Options{Env: env})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	var list []persons.Person
	for i := range 600 {
		list = append(list, persons.Person{ID: "p" + strconv.Itoa(i)})
	}
	var told []int
	err = l.Update(t.Context(), func(v model.View) (model.Changes, error) {
		e := model.NewEdit(v, env)
		_, _, _, err := e.PutPersons(list, false, "a test")
		c := e.Changes()
		c.Told = func(written int) { told = append(told, written) }
		return c, err
	})
	if err != nil || len(told) < 3 || told[0] != 0 || !slices.IsSorted(told) {
		t.Errorf("told %v, %v", told, err)
	}
}

func TestCreateLeavesNothingHalfDone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	o := ledger.Options{Env: testkit.Env(1)}
	if _, err := Create(t.Context(), filepath.Join(dir, "no", "x.ledger"), "X", o); err == nil {
		t.Error("a ledger in a folder that is not there")
	}
	path := filepath.Join(dir, "x.ledger")
	l, err := Create(t.Context(), path, "X", o)
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	if _, err := Create(t.Context(), path, "Y", o); !errors.Is(err, ledger.ErrThere) {
		t.Errorf("a second ledger at the same place: %v", err)
	}
	files, _ := os.ReadDir(dir)
	for _, f := range files {
		if n := f.Name(); n != "x.ledger" && n != "x.ledger-key" && n != "x.ledger-wal" && n != "x.ledger-shm" {
			t.Errorf("%s was left behind", n)
		}
	}
	if l, err = Open(t.Context(), path, o); err != nil || l.Now(t.Context()).Org() != "X" {
		t.Fatalf("%v", err)
	}
	l.Close()
	if err := os.WriteFile(filepath.Join(dir, "x.ledger-key"), []byte("nothing"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Create(t.Context(), filepath.Join(dir, "x.other"), "Z", o); !errors.Is(err, model.ErrSealKey) {
		t.Errorf("a ledger key that is none: %v", err)
	}
}

func TestSealedKeys(t *testing.T) {
	t.Parallel()
	env := testkit.Env(1)
	l, err := Create(t.Context(), filepath.Join(t.TempDir(), "x.ledger"), "X", ledger.Options{Env: env})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	key, err := keys.Generate(env.Rand, "ecdsa-p256")
	if err != nil {
		t.Fatal(err)
	}
	cert, err := keys.SelfSign(env.Rand, key, "ridge", "", testkit.Noon(), 1e12)
	if err != nil {
		t.Fatal(err)
	}
	err = ledger.Updater(l.Update).Do(t.Context(), l.Env(), func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			return errors.Join(e.AddParty(&federation.Party{Name: "ridge", Kind: federation.Provider, Own: true}, nil),
				e.AddKey("ridge", federation.ForSigning, federation.Active, key, cert))
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	b := model.Open(l.Now(t.Context()), l.Env())
	if got, err := b.Key("ridge", federation.ForSigning); err != nil || !got.Certificate.Equal(cert) {
		t.Errorf("%v", err)
	}
	if _, err := b.Key("ridge", federation.ForEncryption); !errors.Is(err, model.ErrNotFound) {
		t.Errorf("a key that is not there: %v", err)
	}
	if err := os.Remove(l.SealKey()); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Key("ridge", federation.ForSigning); !errors.Is(err, model.ErrSealKey) {
		t.Errorf("without the ledger key: %v", err)
	}
}

// TestCreateAfterAKilledOne: whatever a killed command left beside the ledger is gone afterwards, a good ledger key is
// taken, and what a living one writes is left alone.
func TestCreateAfterAKilledOne(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "tressik.ledger")
	key := SealKeyFile(path, "")
	dead := exec.Command("true")
	if err := dead.Run(); err != nil {
		t.Skip("no process to end")
	}
	of := whole.NameOf(path, dead.Process.Pid)
	living := whole.NameOf(path, os.Getppid())
	debris := []string{of, of + "-wal", of + "-journal", whole.NameOf(key, dead.Process.Pid)}
	for _, f := range append(debris, living) {
		if err := os.WriteFile(f, []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if to, made, err := seal.Ensure(key); err != nil || !made || to == "" {
		t.Fatalf("%q %t %v", to, made, err)
	}
	was, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	l, err := Create(t.Context(), path, "Kestrel Ridge Observatory", ledger.Options{Env: testkit.Env(1)})
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	if b, err := os.ReadFile(key); err != nil || string(b) != string(was) {
		t.Errorf("the ledger key was changed: %v", err)
	}
	for _, f := range debris {
		if _, err := os.Stat(f); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s is left: %v", f, err)
		}
	}
	if _, err := os.Stat(living); err != nil {
		t.Errorf("what another command writes is gone: %v", err)
	}
	if _, err := Create(t.Context(), path, "Kestrel Ridge Observatory", ledger.Options{}); !errors.Is(err,
		ledger.ErrThere) {
		t.Errorf("over a ledger: %v", err)
	}
}

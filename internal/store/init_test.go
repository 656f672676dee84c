package store

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"
	"time"
)

// TestCreateAfterAKilledOne: whatever a killed command left beside the ledger is gone afterwards, a good seal key is
// taken, and what a living one writes is left alone.
func TestCreateAfterAKilledOne(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "tressik.ledger")
	key := Options{}.SealKeyFile(path)
	dead := exec.Command("true")
	if err := dead.Run(); err != nil {
		t.Skip("no process to end")
	}
	pid := strconv.Itoa(dead.Process.Pid)
	living := path + ".new-" + strconv.Itoa(os.Getppid())
	debris := []string{path + ".new-" + pid, path + ".new-" + pid + "-wal", path + ".new-" + pid + "-journal",
		key + ".new-" + pid}
	for _, f := range append(debris, living) {
		if err := os.WriteFile(f, []byte("half"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if to, made, err := ensureSealKey(key); err != nil || !made || to == "" {
		t.Fatalf("%q %t %v", to, made, err)
	}
	was, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	l, err := Create(path, "Kestrel Ridge Observatory", Options{Actor: "aiyana", Now: time.Now})
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	if b, err := os.ReadFile(key); err != nil || string(b) != string(was) {
		t.Errorf("the seal key was changed: %v", err)
	}
	for _, f := range debris {
		if _, err := os.Stat(f); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s is left: %v", f, err)
		}
	}
	if _, err := os.Stat(living); err != nil {
		t.Errorf("what another command writes is gone: %v", err)
	}
	if _, err := Create(path, "Kestrel Ridge Observatory", Options{}); !errors.Is(err, ErrThere) {
		t.Errorf("over a ledger: %v", err)
	}
}

// TestASealKeyIsNeverEmpty: it has its name when it is whole, and an empty file holds nothing to be kept.
func TestASealKeyIsNeverEmpty(t *testing.T) {
	t.Parallel()
	key := filepath.Join(t.TempDir(), "tressik.seal-key")
	if err := os.WriteFile(key, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, made, err := ensureSealKey(key); err != nil || !made {
		t.Fatalf("%t %v", made, err)
	}
	if _, err := readSealKey(key); err != nil {
		t.Error(err)
	}
	if err := os.WriteFile(key, []byte("notes"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := ensureSealKey(key); !errors.Is(err, ErrSealKey) {
		t.Errorf("a file with something else: %v", err)
	}
	if b, _ := os.ReadFile(key); string(b) != "notes" {
		t.Errorf("it was written over: %q", b)
	}
}

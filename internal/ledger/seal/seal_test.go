package seal

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"testing"
)

// TestASealKeyIsNeverEmpty: it has its name when it is whole, and an empty file holds nothing to be kept.
func TestASealKeyIsNeverEmpty(t *testing.T) {
	t.Parallel()
	key := filepath.Join(t.TempDir(), "tressik.ledger-key")
	if err := os.WriteFile(key, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, made, err := Ensure(key); err != nil || !made {
		t.Fatalf("%t %v", made, err)
	}
	if _, err := read(key, nil); err != nil {
		t.Error(err)
	}
	if err := os.WriteFile(key, []byte("notes"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Ensure(key); !errors.Is(err, ErrSealKey) {
		t.Errorf("a file with something else: %v", err)
	}
	if b, _ := os.ReadFile(key); string(b) != "notes" {
		t.Errorf("it was written over: %q", b)
	}
}

// TestVault holds that what was sealed opens with the key that it was sealed for, and with no other.
func TestVault(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	vault := func(name string) *Vault {
		path := filepath.Join(dir, name)
		to, _, err := Ensure(path)
		if err != nil {
			t.Fatal(err)
		}
		return &Vault{Path: path, Recipient: func() (string, error) { return to, nil }}
	}
	a, b := vault("a"), vault("b")
	sealed, err := a.Seal([]byte("sesame"))
	if err != nil || bytes.Contains(sealed, []byte("sesame")) {
		t.Fatalf("%q %v", sealed, err)
	}
	if got, err := a.Open(sealed); err != nil || string(got) != "sesame" {
		t.Errorf("%q %v", got, err)
	}
	for name, c := range map[string]struct {
		v *Vault
		b []byte
	}{"another key": {b, sealed}, "a cut": {a, sealed[:len(sealed)-3]}, "no key": {&Vault{Path: filepath.Join(dir,
		"c")}, sealed}} {
		if got, err := c.v.Open(c.b); !errors.Is(err, ErrSealKey) {
			t.Errorf("%s: %q %v", name, got, err)
		}
	}
	if err := os.Chmod(a.Path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := a.Open(sealed); !errors.Is(err, ErrExposed) {
		t.Errorf("a key that others can read: %v", err)
	}
}

// TestLockedVault: the passphrase of a locked key is asked for once, until the file is another; a wrong one opens
// nothing, and is asked for again.
func TestLockedVault(t *testing.T) {
	t.Parallel()
	path := filepath.Join(t.TempDir(), "key")
	to, made, err := EnsureLocked(path, "five words of a passphrase")
	if err != nil || !made {
		t.Fatal(err)
	}
	if again, made, err := EnsureLocked(path, "another"); err != nil || made || again != to {
		t.Errorf("one that lies there: %s, %t, %v", again, made, err)
	}
	asked, word := 0, "another passphrase"
	v := &Vault{Path: path, Recipient: func() (string, error) { return to, nil },
		Ask: func(string) (string, error) { asked++; return word, nil }}
	sealed, err := v.Seal([]byte("sesame"))
	if err != nil || asked != 0 {
		t.Fatalf("sealing asked %d times: %v", asked, err)
	}
	if _, err := v.Open(sealed); !errors.Is(err, ErrSealKey) {
		t.Errorf("another passphrase: %v", err)
	}
	word = "five words of a passphrase"
	for range 3 {
		if got, err := v.Open(sealed); err != nil || string(got) != "sesame" {
			t.Fatalf("%q, %v", got, err)
		}
	}
	if asked != 2 {
		t.Errorf("asked %d times", asked)
	}
	if _, err := (&Vault{Path: path, Recipient: v.Recipient}).Open(sealed); !errors.Is(err, ErrLocked) {
		t.Errorf("nobody to ask: %v", err)
	}
}

package command

import (
	"crypto/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

// TestWhatLiesInAFile finds a secret by its hash where it was written, alone or among other things, in a file or a
// folder, and a key by its ID.
func TestWhatLiesInAFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	secret := strings.Repeat("aB3-_", 9)
	put := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	alone, json := put("a", secret+"\n"), put("b", `{"client_secret":"`+secret+`","x":1}`)
	other, in := put("c", secret+"x"), filepath.Dir(put("d/env", "OIDC_CLIENT_SECRET='"+secret+"'\n"))
	hash := desk.HashSecret(secret)
	for at, want := range map[string]bool{alone: true, json: true, other: false, in: true,
		filepath.Join(dir, "none"): false} {
		if got := liesIn(hash, []string{at}); got != want {
			t.Errorf("%s: %v", at, got)
		}
	}
	if liesIn(hash, nil) {
		t.Error("it lies nowhere")
	}
	key, err := keys.Generate(rand.Reader, "ecdsa-p256")
	if err != nil {
		t.Fatal(err)
	}
	id, err := oidc.KeyID(key.Public())
	if err != nil {
		t.Fatal(err)
	}
	pem, err := keys.MarshalPrivate(key)
	if err != nil {
		t.Fatal(err)
	}
	at := put("k.pem", string(pem))
	if !liesIn(model.OfKey+id, []string{alone, at}) || liesIn(model.OfKey+id+"x", []string{at}) {
		t.Error("a key is known by its ID")
	}
}

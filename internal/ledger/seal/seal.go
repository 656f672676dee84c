// Package seal keeps the ledger key: an age identity in a file of its own, with which the private keys in a ledger are
// sealed.
package seal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"filippo.io/age"

	"tressik.example/internal/model"
	"tressik.example/internal/outside/whole"
)

// ErrSealKey means that the ledger key is lost, unreadable, or belongs to another ledger.
var ErrSealKey = model.ErrSealKey

// ErrRecipient means that a text is no public part of a key.
var ErrRecipient = errors.New("no public part of a key")

var errEmpty = errors.New("empty")

// Ensure makes a ledger key, or takes the one that lies there, and returns its public part.
func Ensure(path string) (recipient string, made bool, err error) {
	if id, err := read(path); err == nil {
		return id.Recipient().String(), false, nil
	} else if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, errEmpty) {
		return "", false, err
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return "", false, fmt.Errorf("making the ledger key: %w", err)
	}
	if fi, err := os.Lstat(path); err == nil && fi.Mode().IsRegular() && fi.Size() == 0 {
		os.Remove(path) // nothing was written into it
	}
	f, err := whole.New(path, 0o600) // whole, or not there: a killed command leaves no key without a key in it
	if err != nil {
		return "", false, fmt.Errorf("making the ledger key: %w", err)
	}
	defer f.Discard()
	if _, err := fmt.Fprintf(f,
		"# ledger key of a Tressik ledger; keep it apart from copies of the ledger\n# public key: %s\n%s\n",
		id.Recipient(), id); err != nil {
		return "", false, fmt.Errorf("writing the ledger key: %w", err)
	}
	switch err := f.Put(path); {
	case errors.Is(err, fs.ErrExist): // another command made it meanwhile
		id, err := read(path)
		if err != nil {
			return "", false, err
		}
		return id.Recipient().String(), false, nil
	case err != nil:
		return "", false, fmt.Errorf("putting the ledger key in its place: %w", err)
	}
	return id.Recipient().String(), true, nil
}

// ErrExposed means that a file with secrets can be read by others than its owner.
var ErrExposed = errors.New("others can read it")

// Exposed refuses a file that others can read, and says how to mend it.
func Exposed(f *os.File, path string) error {
	fi, err := f.Stat()
	if err != nil {
		return err
	}
	if mode := fi.Mode().Perm(); mode&0o077 != 0 && os.PathSeparator == '/' {
		return fmt.Errorf("%s is not used: %w (mode %04o); mend it with `chmod 600 %s`", path, ErrExposed, mode, path)
	}
	return nil
}

// ReadSecret reads a small file with a secret. One that others can read is refused. Errors: ErrExposed, fs.ErrNotExist.
func ReadSecret(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := Exposed(f, path); err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(f, 64<<10))
}

func read(path string) (*age.X25519Identity, error) {
	b, err := ReadSecret(path)
	if err != nil {
		return nil, err
	}
	for _, line := range strings.Split(string(b), "\n") {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "AGE-SECRET-KEY-") {
			id, err := age.ParseX25519Identity(line)
			if err != nil {
				return nil, fmt.Errorf("%w: %s holds a damaged age identity", ErrSealKey, path)
			}
			return id, nil
		}
	}
	if len(b) == 0 {
		return nil, fmt.Errorf("%w: %s is %w", ErrSealKey, path, errEmpty)
	}
	return nil, fmt.Errorf("%w: %s holds no age identity", ErrSealKey, path)
}

// Vault seals for a ledger key, and opens with the file that holds it. It is read when it is first needed.
type Vault struct {
	Path      string
	Recipient func() (string, error) // public part of the key, as the ledger has it
}

// Seal encrypts something for the ledger key.
func (v *Vault) Seal(secret []byte) ([]byte, error) {
	text, err := v.Recipient()
	if err != nil {
		return nil, err
	}
	sealed, err := For(strings.Fields(text), secret)
	if err != nil {
		return nil, fmt.Errorf("the ledger key's public part in the ledger: %w", err)
	}
	return sealed, nil
}

// For seals something for the holders of keys whose public parts are given.
func For(recipients []string, secret []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := To(&out, recipients)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(secret); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// Public is the public part of the key in a file. Errors: ErrSealKey.
func Public(path string) (string, error) {
	id, err := read(path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("%w: there is no key at %s", ErrSealKey, path)
	}
	if err != nil {
		return "", err
	}
	return id.Recipient().String(), nil
}

// Open opens what was sealed. Errors: ErrSealKey.
func (v *Vault) Open(sealed []byte) ([]byte, error) {
	id, err := read(v.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: the ledger key is not at %s; bring it back from its copy, or name it with "+
			"TRESSIK_LEDGER_KEY",
			ErrSealKey, v.Path)
	}
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), id)
	if err != nil {
		return nil, fmt.Errorf("%w: %s is the key of another ledger; name the right one with TRESSIK_LEDGER_KEY",
			ErrSealKey, v.Path)
	}
	secret, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("%w: a stored key is damaged: %v", ErrSealKey, err)
	}
	return secret, nil
}

// To seals what is written, such as a backup, for the holders of keys whose public parts are given (age1…). Close it:
// until then it is not whole.
func To(w io.Writer, recipients []string) (io.WriteCloser, error) {
	var to []age.Recipient
	for _, text := range recipients {
		r, err := age.ParseX25519Recipient(text)
		if err != nil {
			return nil, fmt.Errorf("%q is %w: write the age1… that stands in the key's file", text, ErrRecipient)
		}
		to = append(to, r)
	}
	return age.Encrypt(w, to...)
}

// Sealed reports whether something begins as what To wrote.
func Sealed(head []byte) bool { return bytes.HasPrefix(head, []byte("age-encryption.org/v1")) }

// From opens what To wrote, with the key in a file. Errors: ErrSealKey.
func From(r io.Reader, keyFile string) (io.Reader, error) {
	id, err := read(keyFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: there is no key at %s", ErrSealKey, keyFile)
	}
	if err != nil {
		return nil, err
	}
	out, err := age.Decrypt(r, id)
	if err != nil {
		return nil, fmt.Errorf("%w: it is sealed for another key than that in %s", ErrSealKey, keyFile)
	}
	return out, nil
}

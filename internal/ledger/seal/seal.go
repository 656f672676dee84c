// Package seal keeps the ledger key: an age identity in a file of its own, with which the private keys in a ledger are
// sealed.
package seal

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"
	"syscall"

	"filippo.io/age"
	"filippo.io/age/armor"

	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/outside/whole"
)

// ErrSealKey means that the ledger key is lost, unreadable, or belongs to another ledger.
var ErrSealKey = model.ErrSealKey

// ErrRecipient means that a text is no public part of a key.
var ErrRecipient = errors.New("no public part of a key")

var errEmpty = errors.New("empty")

// Ensure makes a ledger key, or takes the one that lies there, and returns its public part.
func Ensure(path string) (recipient string, made bool, err error) { return EnsureLocked(path, "") }

// EnsureLocked is Ensure; a key that is made can be used with a passphrase alone, where one is given: its file is
// encrypted (age, scrypt).
func EnsureLocked(path, passphrase string) (recipient string, made bool, err error) {
	if text, err := publicIn(path); err == nil {
		return text, false, nil
	} else if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, errEmpty) {
		return "", false, err
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return "", false, fmt.Errorf("making the ledger key: %w", err)
	}
	text, err := keyFile(id, passphrase)
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
	if _, err := f.Write(text); err != nil {
		return "", false, fmt.Errorf("writing the ledger key: %w", err)
	}
	switch err := f.Put(path); {
	case errors.Is(err, fs.ErrExist): // another command made it meanwhile
		text, err := publicIn(path)
		return text, false, err
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
	if fi, serr := os.Stat(path); err == nil && serr == nil && fi.IsDir() {
		f.Close()
		err = syscall.EISDIR
	}
	if err != nil {
		return nil, reach.FileError(path, err)
	}
	defer f.Close()
	if err := Exposed(f, path); err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(f, 64<<10))
}

// publicLine begins the line of a key's file that says its public part.
const publicLine = "# public key: "

// keyFile is what stands in the file of a key, under a passphrase where one is given.
func keyFile(id *age.X25519Identity, passphrase string) ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, "# ledger key of a Tressik ledger; keep it apart from copies of the ledger\n%s%s\n", publicLine,
		id.Recipient())
	if passphrase == "" {
		fmt.Fprintln(&b, id)
		return b.Bytes(), nil
	}
	to, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return nil, err
	}
	text := armor.NewWriter(&b)
	w, err := age.Encrypt(text, to)
	if err != nil {
		return nil, err
	}
	if _, err := fmt.Fprintln(w, id); err != nil {
		return nil, err
	}
	err = errors.Join(w.Close(), text.Close())
	return b.Bytes(), err
}

// locked returns what is under a passphrase in the file of a key; nil where nothing is.
func locked(file []byte) []byte {
	if i := bytes.Index(file, []byte(armor.Header)); i >= 0 {
		return file[i:]
	}
	return nil
}

// publicIn is the public part of the key in a file; of one under a passphrase as the file says it.
func publicIn(path string) (string, error) {
	b, err := ReadSecret(path)
	if err != nil {
		return "", err
	}
	if locked(b) == nil {
		id, err := identity(path, b)
		if err != nil {
			return "", err
		}
		return id.Recipient().String(), nil
	}
	for line := range strings.Lines(string(b)) {
		if text, is := strings.CutPrefix(strings.TrimSpace(line), publicLine); is {
			if _, err := age.ParseX25519Recipient(text); err == nil {
				return text, nil
			}
		}
	}
	return "", fmt.Errorf("%w: %s does not say its public part", ErrSealKey, path)
}

// Locked reports whether the key in a file can be used with a passphrase alone.
func Locked(path string) bool {
	b, err := ReadSecret(path)
	return err == nil && locked(b) != nil
}

// identity is the key in what was read from a file.
func identity(path string, file []byte) (*age.X25519Identity, error) {
	for line := range strings.Lines(string(file)) {
		if line = strings.TrimSpace(line); strings.HasPrefix(line, "AGE-SECRET-KEY-") {
			id, err := age.ParseX25519Identity(line)
			if err != nil {
				return nil, fmt.Errorf("%w: %s holds a damaged age identity", ErrSealKey, path)
			}
			return id, nil
		}
	}
	if len(file) == 0 {
		return nil, fmt.Errorf("%w: %s is %w", ErrSealKey, path, errEmpty)
	}
	return nil, fmt.Errorf("%w: %s holds no age identity", ErrSealKey, path)
}

// Asking asks for the passphrase of the key in a file.
type Asking func(path string) (string, error)

// ErrLocked means that a key can be used with a passphrase alone, and nobody could be asked for it.
var ErrLocked = errors.New("it is locked with a passphrase")

// read reads the key in a file, with its passphrase where it is under one.
func read(path string, ask Asking) (*age.X25519Identity, error) {
	b, err := ReadSecret(path)
	if err != nil {
		return nil, err
	}
	text := locked(b)
	if text == nil {
		return identity(path, b)
	}
	if ask == nil {
		return nil, fmt.Errorf("%w: %s: %w", ErrSealKey, path, ErrLocked)
	}
	word, err := ask(path)
	if err != nil {
		return nil, err
	}
	by, err := age.NewScryptIdentity(word)
	if err != nil {
		return nil, fmt.Errorf("%w: the passphrase of %s is empty", ErrSealKey, path)
	}
	r, err := age.Decrypt(armor.NewReader(bytes.NewReader(text)), by)
	if err != nil {
		return nil, fmt.Errorf("%w: that is not the passphrase of %s, or the file is damaged", ErrSealKey, path)
	}
	plain, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("%w: %s is damaged: %v", ErrSealKey, path, err)
	}
	return identity(path, plain)
}

// Vault seals for a ledger key, and opens with the file that holds it. It is read when it is first needed; the
// passphrase of one that has one is asked for once. It may be used from several goroutines.
type Vault struct {
	Path      string
	Recipient func() (string, error) // public part of the key, as the ledger has it
	Ask       Asking                 // nil: nobody can be asked

	mu    sync.Mutex
	asked *age.X25519Identity // of a file under a passphrase, and what stood in it
	file  [sha256.Size]byte
}

// key is the key in the vault's file.
func (v *Vault) key() (*age.X25519Identity, error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	b, err := ReadSecret(v.Path)
	if err != nil || locked(b) == nil {
		return read(v.Path, nil)
	}
	sum := sha256.Sum256(b)
	if v.asked != nil && v.file == sum {
		return v.asked, nil
	}
	id, err := read(v.Path, v.Ask)
	if err == nil {
		v.asked, v.file = id, sum
	}
	return id, err
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
	text, err := publicIn(path)
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("%w: there is no key at %s", ErrSealKey, path)
	}
	return text, err
}

// Open opens what was sealed. Errors: ErrSealKey.
func (v *Vault) Open(sealed []byte) ([]byte, error) {
	id, err := v.key()
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
func From(r io.Reader, keyFile string, ask Asking) (io.Reader, error) {
	id, err := read(keyFile, ask)
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

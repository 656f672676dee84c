package store

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"

	"filippo.io/age"
)

// ErrSealKey means that the seal key is lost, unreadable, or belongs to another ledger.
var ErrSealKey = errors.New("the private keys cannot be opened")

// ensureSealKey makes a seal key, or takes the one that lies there, and returns its public part.
func ensureSealKey(path string) (recipient string, made bool, err error) {
	if id, err := readSealKey(path); err == nil {
		return id.Recipient().String(), false, nil
	} else if !errors.Is(err, fs.ErrNotExist) {
		return "", false, err
	}
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return "", false, fmt.Errorf("making the seal key: %w", err)
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return "", false, fmt.Errorf("making the seal key: %w", err)
	}
	_, werr := fmt.Fprintf(f,
		"# seal key of a Tressik ledger; keep it apart from copies of the ledger\n# public key: %s\n%s\n", id.Recipient(), id)
	if err := errors.Join(werr, f.Sync(), f.Close()); err != nil {
		os.Remove(path)
		return "", false, fmt.Errorf("writing the seal key: %w", err)
	}
	return id.Recipient().String(), true, nil
}

// ErrExposed means that a file with secrets can be read by others than its owner.
var ErrExposed = errors.New("others can read it")

// exposed refuses a file that others can read, and says how to mend it.
func exposed(f *os.File, path string) error {
	fi, err := f.Stat()
	if err != nil {
		return err
	}
	if mode := fi.Mode().Perm(); mode&0o077 != 0 && os.PathSeparator == '/' {
		return fmt.Errorf("%s is not used: %w (mode %04o); mend it with `chmod 600 %s`", path, ErrExposed, mode, path)
	}
	return nil
}

func readSealKey(path string) (*age.X25519Identity, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := exposed(f, path); err != nil {
		return nil, err
	}
	b, err := io.ReadAll(io.LimitReader(f, 64<<10))
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
	return nil, fmt.Errorf("%w: %s holds no age identity", ErrSealKey, path)
}

// seal encrypts something for the seal key.
func (tx *Tx) seal(secret []byte) ([]byte, error) {
	var text string
	if err := tx.tx.QueryRow("SELECT value FROM ledger WHERE key = 'seal'").Scan(&text); err != nil {
		return nil, err
	}
	to, err := age.ParseX25519Recipient(text)
	if err != nil {
		return nil, fmt.Errorf("the seal key's public part in the ledger: %w", err)
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
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

// unseal opens what was sealed. Errors: ErrSealKey.
func (l *Ledger) unseal(sealed []byte) ([]byte, error) {
	path := l.SealKeyFile(l.path)
	id, err := readSealKey(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%w: the seal key is not at %s; bring it back from its copy, or name it with TRESSIK_SEAL_KEY",
			ErrSealKey, path)
	}
	if err != nil {
		return nil, err
	}
	r, err := age.Decrypt(bytes.NewReader(sealed), id)
	if err != nil {
		return nil, fmt.Errorf("%w: %s is the key of another ledger; name the right one with TRESSIK_SEAL_KEY", ErrSealKey,
			path)
	}
	secret, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("%w: a stored key is damaged: %v", ErrSealKey, err)
	}
	return secret, nil
}

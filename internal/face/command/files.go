package command

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/whole"
	"tressik.example/internal/work/desk"
)

// output writes bytes to a file, whole or not at all, or to standard output.
func (a *App) output(path string, b []byte) error {
	if path == "" || path == "-" {
		_, err := a.Out.Write(b)
		return err
	}
	if err := errors.Join(a.mayReplace(path), a.run.Err()); err != nil {
		return err
	}
	a.goesOn()
	if err := writeWhole(path, b); err != nil {
		return err
	}
	a.say("wrote %s", path)
	return nil
}

// What --out names, where it is no file that a document is written into.
const (
	outTo     = "out"
	outSecret = "secret" // a file for what is shown once
	outFolder = "folder"
	outPlace  = "place" // the file in which a program finds its secret
)

// writes marks what a command's --out names.
func writes(c *cobra.Command, what string) {
	if c.Annotations == nil {
		c.Annotations = map[string]string{}
	}
	c.Annotations[outTo] = what
}

// toStdout has --out - mean standard output, for every command: what is shown once is written there, alone.
func (a *App) toStdout(c *cobra.Command) error {
	f := c.Flags().Lookup("out")
	if f == nil || f.Value.String() != "-" {
		return nil
	}
	switch c.Annotations[outTo] {
	case outSecret:
		a.quiet = true
		return f.Value.Set("")
	case outFolder:
		return usageError{errors.New("--out - is standard output, and several files are written: name a folder")}
	case outPlace:
		return usageError{errors.New(hidden(c))}
	}
	return nil
}

// hidden says why what a command makes is not shown, and where it can go.
func hidden(c *cobra.Command) string {
	s := "--out - is standard output, and a new secret is shown to nobody: name a file"
	if c.Flags().Lookup("into") != nil {
		s += ", or give it to a command with --into"
	}
	return s
}

// mayReplace refuses to write over what is no regular file, over the ledger and what belongs to it, over private keys,
// and, unless --force or the answer to a question says so, over any file.
func (a *App) mayReplace(path string) error {
	fi, err := os.Lstat(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return fmt.Errorf("writing %s: %w", path, err)
	case !fi.Mode().IsRegular():
		return fmt.Errorf("%s is no regular file and is not written over; choose another name", path)
	}
	switch {
	case a.owns(fi):
		return fmt.Errorf("%s belongs to the ledger and is not written over; choose another name", path)
	case holdsKey(path):
		return fmt.Errorf("%s holds a private key and is not written over; choose another name, or move it away", path)
	case a.force:
		return nil
	}
	if !a.yes && !a.canAsk() {
		return fmt.Errorf("%s is there already; --force writes over it", path)
	}
	return a.confirm(fmt.Sprintf("%s is there already. Overwrite it?", path))
}

// owns reports whether a file is the ledger's, or belongs to it.
func (a *App) owns(fi os.FileInfo) bool {
	return slices.ContainsFunc(a.ownFiles(), func(own string) bool {
		o, err := os.Stat(own)
		return err == nil && os.SameFile(fi, o)
	})
}

// holdsKey reports whether a file has a private key in it, in PEM or as an age identity: what is lost with it is in no
// other place.
func holdsKey(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	b, err := io.ReadAll(io.LimitReader(f, 64<<10))
	return err == nil && (bytes.Contains(b, []byte("PRIVATE KEY-----")) || bytes.Contains(b, []byte("AGE-SECRET-KEY-")))
}

// ownFiles are the ledger's file, those that SQLite keeps beside it, and the ledger key.
func (a *App) ownFiles() []string {
	return engine.Files(a.ledgerPath(), a.ledgerKey())
}

// outputBy writes what a function writes to a file, whole or not at all, or to standard output.
func (a *App) outputBy(path string, f func(io.Writer) error) error {
	if path == "" || path == "-" {
		return f(a.Out)
	}
	if err := a.mayReplace(path); err != nil {
		return err
	}
	if err := writeBy(path, 0o644, f); err != nil {
		return err
	}
	a.say("wrote %s", path)
	return nil
}

// writeWhole writes a file by way of a temporary one beside it, so that a half-written file is never seen.
func writeWhole(path string, b []byte) error { return writeWith(path, b, 0o644) }

func writeWith(path string, b []byte, mode os.FileMode) error {
	return writeBy(path, mode, func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	})
}

func writeBy(path string, mode os.FileMode, write func(io.Writer) error) error {
	f, err := whole.New(path, mode)
	if err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	defer f.Discard()
	if err := write(f); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	if err := f.Replace(path); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}

// secretFile is a file for a secret, that only its owner can read. It is made before the secret is, so that no secret
// is made that cannot be written; its name it gets with the secret in it.
type secretFile struct {
	path string
	f    *whole.Temp
}

func (a *App) newSecretFile(path string) (*secretFile, error) {
	if path == "" {
		return &secretFile{}, nil
	}
	a.writesInto(path)
	if _, err := os.Lstat(path); err == nil {
		return nil, thereAlready(path)
	}
	f, err := whole.New(path, 0o600)
	if err != nil {
		return nil, finding.Errorf("%s: %w", finding.FieldOut, err)
	}
	return &secretFile{path, f}, nil
}

// writesInto notes where secrets that are made are written, so that it can be told later whether they were.
func (a *App) writesInto(path string) {
	if at, err := filepath.Abs(path); err == nil {
		a.into = append(a.into, at)
	}
}

// liesIn reports whether something whose SHA-256 is known lies in one of some files, or in a file of one of some
// folders: as a word of it, since a file may hold more than a secret.
func liesIn(hash string, into []string) bool {
	var files []string
	for _, path := range into {
		if list, err := os.ReadDir(path); err == nil {
			for _, e := range list {
				files = append(files, filepath.Join(path, e.Name()))
			}
			continue
		}
		files = append(files, path)
	}
	for _, path := range files {
		if fi, err := os.Lstat(path); err != nil || !fi.Mode().IsRegular() || fi.Size() > 1<<20 {
			continue
		}
		b, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		if kid, key := strings.CutPrefix(hash, model.OfKey); key {
			if private, err := keys.ParsePrivate(b); err == nil {
				if id, err := oidc.KeyID(private.Public()); err == nil && id == kid {
					return true
				}
			}
			continue
		}
		for word := range strings.FieldsFuncSeq(string(b), func(r rune) bool {
			return r != '-' && r != '_' && (r < '0' || r > '9') && (r|32 < 'a' || r|32 > 'z')
		}) {
			if len(word) > 40 && desk.HashSecret(word) == hash {
				return true
			}
		}
	}
	return false
}

func thereAlready(path string) error {
	return finding.Errorf("%s: %s is there already; a secret is never written over a file, choose another name",
		finding.FieldOut, path)
}

func (s *secretFile) keep(secret string) error {
	if s.f == nil {
		return nil
	}
	defer s.f.Discard()
	if _, err := s.f.WriteString(secret + "\n"); err != nil {
		return fmt.Errorf("writing %s: %w", s.path, err)
	}
	switch err := s.f.Put(s.path); {
	case errors.Is(err, fs.ErrExist):
		return thereAlready(s.path)
	case err != nil:
		return fmt.Errorf("writing %s: %w", s.path, err)
	}
	return nil
}

// discard takes the file away.
func (s *secretFile) discard() {
	if s.f != nil {
		s.f.Discard()
	}
}

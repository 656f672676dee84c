package publish

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"tressik.example/internal/outside/whole"
)

// ErrNotOurs means that a folder holds something else than what was published into it.
var ErrNotOurs = errors.New("it holds files that were not published there")

// Write puts a site in the place of a folder, whole or not at all: whoever reads meets the files of one time alone. A
// folder that is there already must be one that was published, or empty. Errors: ErrNotOurs, and those of the system.
func (s *Site) Write(dir string) error {
	dir = filepath.Clean(dir)
	there, err := replaceable(dir)
	if err != nil {
		return err
	}
	tmp, err := whole.Folder(dir)
	if err != nil {
		return err
	}
	defer os.RemoveAll(tmp)
	for _, f := range s.Files {
		at := filepath.Join(tmp, filepath.FromSlash(f.Path))
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			return err
		}
		if err := writeFile(at, f.Bytes); err != nil {
			return err
		}
	}
	if err := os.Chmod(tmp, 0o755); err != nil {
		return err
	}
	if !there {
		return os.Rename(tmp, dir)
	}
	return swap(tmp, dir) // tmp holds what was there before, and goes
}

func writeFile(at string, b []byte) error {
	f, err := os.OpenFile(at, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, werr := f.Write(b)
	return errors.Join(werr, f.Sync(), f.Close())
}

// replaceable reports whether a folder is there, and refuses one that holds anything else than what was published.
func replaceable(dir string) (there bool, err error) {
	fi, err := os.Lstat(dir)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return false, nil
	case err != nil:
		return false, err
	case !fi.IsDir():
		return false, fmt.Errorf("%s is no folder", dir)
	}
	b, err := os.ReadFile(filepath.Join(dir, listName))
	if errors.Is(err, os.ErrNotExist) {
		left, err := os.ReadDir(dir)
		if err == nil && len(left) > 0 {
			err = fmt.Errorf("%s: %w, such as %s", dir, ErrNotOurs, left[0].Name())
		}
		return true, err
	}
	if err != nil {
		return false, err
	}
	var l listed
	if err := json.Unmarshal(b, &l); err != nil {
		return false, fmt.Errorf("%s: %w: %s in it cannot be read", dir, ErrNotOurs, listName)
	}
	known := map[string]bool{listName: true}
	for _, f := range l.Files {
		known[f.Path] = true
	}
	return true, filepath.WalkDir(dir, func(at string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel, err := filepath.Rel(dir, at)
		if err == nil && !known[filepath.ToSlash(rel)] {
			err = fmt.Errorf("%s: %w, such as %s", dir, ErrNotOurs, rel)
		}
		return err
	})
}

// swapInTurns exchanges two folders where no single step does: for a moment there is none at b.
func swapInTurns(a, b string) error {
	aside := a + "-before"
	if err := os.Rename(b, aside); err != nil {
		return err
	}
	if err := os.Rename(a, b); err != nil {
		return errors.Join(err, os.Rename(aside, b))
	}
	return os.Rename(aside, a)
}

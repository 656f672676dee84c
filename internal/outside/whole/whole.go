// Package whole writes files and folders whole or not at all. Until one is whole it has no name where the system can
// make files without one; where it must have one, that tells which process makes it, and whoever makes the same one
// next takes away what a killed process left of it.
package whole

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// Temp is a file in the making. Put or Replace gives it its name; Discard takes it away, and does nothing afterwards.
type Temp struct {
	*os.File
	name string // that it has meanwhile; "" for none
}

// New makes a file that is to be put at a path; what killed processes left there is taken away. Errors: fs.ErrNotExist
// where there is no folder for it, fs.ErrPermission.
func New(path string, mode fs.FileMode) (*Temp, error) {
	Sweep(path)
	if f, err := unnamed(filepath.Dir(path), mode); !errors.Is(err, errors.ErrUnsupported) {
		if err != nil {
			return nil, err
		}
		return &Temp{File: f}, nil
	}
	name := Name(path)
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return nil, err
	}
	return &Temp{f, name}, nil
}

// Name is the name of what is made to be put at a path, for whoever must have one. What killed processes left there is
// taken away.
func Name(path string) string {
	Sweep(path)
	return fmt.Sprintf("%s.new-%d", path, os.Getpid())
}

// Sweep takes away what killed processes left half-made of a file or a folder, with what a database lays beside it.
func Sweep(path string) {
	left, _ := filepath.Glob(escaped(path) + ".new-*")
	for _, f := range left {
		process, _, _ := strings.Cut(strings.TrimPrefix(f, path+".new-"), "-")
		pid, err := strconv.Atoi(process)
		if err == nil && pid != os.Getpid() && errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
			os.RemoveAll(f)
		}
	}
}

// escaped is a path in which nothing is a pattern.
func escaped(path string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(path)
}

// Put gives a whole file its name, unless something has it already. Error: fs.ErrExist.
func (t *Temp) Put(path string) error {
	if err := t.File.Sync(); err != nil {
		return err
	}
	if t.name == "" {
		if err := link(t.File, path); err != nil {
			return err
		}
	} else if err := Put(t.name, path); err != nil {
		return err
	}
	return t.File.Close()
}

// Replace gives a whole file its name, over a file that has it already.
func (t *Temp) Replace(path string) error {
	err := t.Put(path)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if t.name == "" {
		t.name = Name(path)
		if err := link(t.File, t.name); err != nil {
			t.name = ""
			return err
		}
	}
	if err := os.Rename(t.name, path); err != nil {
		return err
	}
	return t.File.Close()
}

// Discard takes a file away that was not put anywhere.
func (t *Temp) Discard() {
	if t.File.Close() == nil && t.name != "" {
		os.Remove(t.name)
	}
}

// Put gives what was made under another name its own, unless something has it already. Error: fs.ErrExist.
func Put(made, path string) error {
	err := os.Link(made, path)
	if err == nil {
		return os.Remove(made)
	}
	if errors.Is(err, fs.ErrExist) {
		return err
	}
	return os.Rename(made, path) // file systems without links
}

// Folder makes a folder beside the one that it is to become. The caller takes it away, or renames it.
func Folder(path string) (string, error) {
	tmp := Name(filepath.Join(filepath.Dir(path), "."+filepath.Base(path)))
	os.RemoveAll(tmp) // of a process that had our number
	return tmp, os.Mkdir(tmp, 0o700)
}

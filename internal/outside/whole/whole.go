// Package whole writes files and folders whole or not at all. Until one is whole it has no name where the system can
// make files without one; where it must have one, that tells which process makes it, and whoever next writes into the
// same folder takes away what a killed process left there.
package whole

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
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
	Sweep(filepath.Dir(path))
	if f, err := unnamed(filepath.Dir(path), mode); !errors.Is(err, errors.ErrUnsupported) {
		if err != nil {
			return nil, noFolder(path, err)
		}
		return &Temp{File: f}, nil
	}
	name := Name(path)
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return nil, noFolder(path, err)
	}
	return &Temp{f, name}, nil
}

// noFolder says that there is no folder for a path, where that is what is wrong.
func noFolder(path string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return &noFolderError{filepath.Dir(path)}
	}
	return err
}

type noFolderError struct{ dir string }

func (e *noFolderError) Error() string { return "there is no folder " + e.dir + "; make it first" }
func (*noFolderError) Unwrap() error   { return fs.ErrNotExist }

// mark stands in the name of what is in the making, before the number of the process that makes it and by what that
// number is one: a folder may be shared by machines, or by containers, in which others have the same numbers.
func mark() string {
	host, _ := os.Hostname()
	numbers, _ := os.Readlink("/proc/self/ns/pid")
	sum := sha256.Sum256([]byte(host + " " + numbers))
	return ".tressik-new-" + hex.EncodeToString(sum[:4]) + "-"
}

// Name is the name of what is made to be put at a path, for whoever must have one. What killed processes left in that
// folder is taken away.
func Name(path string) string {
	Sweep(filepath.Dir(path))
	return NameOf(path, os.Getpid())
}

// NameOf is the name under which a process of this machine makes what is to be put at a path.
func NameOf(path string, pid int) string { return path + mark() + strconv.Itoa(pid) }

// Sweep takes away what killed processes left half-made in a folder, files and folders, with what a database lays
// beside them.
func Sweep(dir string) {
	list, _ := os.ReadDir(dir)
	mark := mark()
	for _, e := range list {
		_, process, is := strings.Cut(e.Name(), mark)
		if !is {
			continue
		}
		process, _, _ = strings.Cut(process, "-")
		pid, err := strconv.Atoi(process)
		if err == nil && pid != os.Getpid() && errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
			os.RemoveAll(filepath.Join(dir, e.Name()))
		}
	}
}

// Process names this process, so that another one can tell later whether it lives: by the machine and the space of
// numbers that it is in, its number there, and when it began, since numbers are given anew.
func Process() string { return nameOf(os.Getpid()) }

func nameOf(pid int) string {
	began := ""
	if b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat"); err == nil {
		// behind the command in brackets, which may hold anything: the 20th field from there (proc(5), 22)
		if f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:])); len(f) > 19 {
			began = f[19]
		}
	}
	return strings.TrimPrefix(mark(), ".tressik-new-") + strconv.Itoa(pid) + "-" + began
}

// Gone reports whether a process that Process named is known to live no more. Of one of another machine nothing is
// known.
func Gone(process string) bool {
	rest, here := strings.CutPrefix(process, strings.TrimPrefix(mark(), ".tressik-new-"))
	number, _, ok := strings.Cut(rest, "-")
	pid, err := strconv.Atoi(number)
	if !here || !ok || err != nil {
		return false
	}
	return errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) || nameOf(pid) != process
}

// Put gives a whole file its name, unless something has it already. Error: fs.ErrExist.
func (t *Temp) Put(path string) error {
	if err := t.File.Sync(); err != nil {
		return err
	}
	err := errors.ErrUnsupported
	if t.name == "" {
		if err = link(t.File, path); err != nil && !errors.Is(err, fs.ErrExist) {
			err = t.named(path) // a file system that makes such files and gives them no names
		}
	}
	if t.name != "" {
		err = Put(t.name, path)
	}
	if err != nil {
		return err
	}
	return t.File.Close()
}

// named copies a file into one that has a name.
func (t *Temp) named(path string) error {
	fi, err := t.File.Stat()
	if err != nil {
		return err
	}
	name := Name(path)
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, fi.Mode().Perm())
	if err != nil {
		return err
	}
	if _, err = t.File.Seek(0, io.SeekStart); err == nil {
		_, err = io.Copy(f, t.File)
	}
	if err := errors.Join(err, f.Sync(), t.File.Close()); err != nil {
		f.Close()
		os.Remove(name)
		return err
	}
	t.File, t.name = f, name
	return nil
}

// Replace gives a whole file its name, over a file that has it already.
func (t *Temp) Replace(path string) error {
	err := t.Put(path)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	if t.name == "" {
		name := Name(path)
		if err := link(t.File, name); err != nil {
			return err
		}
		t.name = name
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
	if err := os.Mkdir(tmp, 0o700); err != nil {
		return tmp, noFolder(path, err)
	}
	return tmp, nil
}

package whole

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func names(t *testing.T, dir string) (out []string) {
	t.Helper()
	list, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range list {
		out = append(out, e.Name())
	}
	return out
}

func made(t *testing.T, path, text string) *Temp {
	t.Helper()
	f, err := New(path, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteString(text); err != nil {
		t.Fatal(err)
	}
	return f
}

// TestTemp gives files their names once they are whole, and leaves nothing of one that is not.
func TestTemp(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a [1] file")
	is := func(text string) {
		t.Helper()
		b, err := os.ReadFile(path)
		if err != nil || string(b) != text || !slices.Equal(names(t, dir), []string{filepath.Base(path)}) {
			t.Errorf("%q, %v, in the folder %q", b, err, names(t, dir))
		}
	}
	made(t, path, "half").Discard()
	if left := names(t, dir); left != nil {
		t.Errorf("of what was discarded is left %q", left)
	}
	f := made(t, path, "one")
	if err := f.Put(path); err != nil {
		t.Fatal(err)
	}
	f.Discard() // does nothing now
	is("one")
	if fi, err := os.Stat(path); err != nil || fi.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", fi.Mode(), err)
	}
	f = made(t, path, "two")
	if err := f.Put(path); !errors.Is(err, fs.ErrExist) {
		t.Errorf("put over another: %v", err)
	}
	is("one")
	f.Discard()
	is("one")
	if err := made(t, path, "three").Replace(path); err != nil {
		t.Fatal(err)
	}
	is("three")
	f = made(t, path, "four")
	if err := f.named(path); err != nil {
		t.Fatal(err)
	}
	if err := f.Replace(path); err != nil {
		t.Fatal(err)
	}
	is("four")
	f = made(t, path, "five")
	if err := f.named(path); err != nil {
		t.Fatal(err)
	}
	f.Discard()
	is("four")
	if _, err := New(filepath.Join(dir, "none", "file"), 0o600); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("where there is no folder: %v", err)
	}
}

// TestSweep takes away what dead processes left in a folder, and nothing else.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	dead := exec.Command("true")
	if err := dead.Run(); err != nil {
		t.Fatal(err)
	}
	gone := fmt.Sprint(mark(), dead.Process.Pid)
	stays := []string{fmt.Sprint("x", mark(), os.Getpid()), fmt.Sprint("x", mark(), os.Getppid()),
		"x" + mark() + "one", "x",
		fmt.Sprint("x.new-", dead.Process.Pid), fmt.Sprint("x.tressik-new-01234567-", dead.Process.Pid)}
	for _, f := range append([]string{"x.ledger" + gone, "x.ledger" + gone + "-wal", "a [1]" + gone}, stays...) {
		if err := os.WriteFile(filepath.Join(dir, f), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.MkdirAll(filepath.Join(dir, ".site"+gone, "sub"), 0o700); err != nil {
		t.Fatal(err)
	}
	Sweep(dir)
	slices.Sort(stays)
	if left := names(t, dir); !slices.Equal(left, stays) {
		t.Errorf("left are %q", left)
	}
}

// TestProcessesThatAreGone knows a process again that lives, one that is over, and one that has the number of another.
func TestProcessesThatAreGone(t *testing.T) {
	t.Parallel()
	if me := Process(); Gone(me) {
		t.Errorf("%s, which asks, is gone", me)
	}
	c := exec.Command("sleep", "60")
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	its := nameOf(c.Process.Pid)
	if Gone(its) {
		t.Errorf("%s sleeps, and is gone", its)
	}
	if again := its[:strings.LastIndexByte(its, '-')] + "-1"; !Gone(again) {
		t.Errorf("%s has the number of another that began later, and lives", again)
	}
	c.Process.Kill()
	c.Wait()
	if !Gone(its) {
		t.Errorf("%s was killed, and lives", its)
	}
	for _, elsewhere := range []string{"0badcafe-1-5", "", "x", "-", strings.Replace(its, its[:8], "ffffffff", 1)} {
		if Gone(elsewhere) {
			t.Errorf("%q is known to be gone", elsewhere)
		}
	}
}

package sqlite

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"tressik.example/internal/ledger"
)

// Status is how the file is kept. Who has it open is known where the system says so (/proc), of processes that this
// user may look at.
func (l *Ledger) Status(ctx context.Context) (s ledger.Status, err error) {
	var version string
	if err := l.db.QueryRowContext(ctx, "SELECT sqlite_version()").Scan(&version); err != nil {
		return s, translated(err)
	}
	s.Engine = "SQLite " + version
	if s.Schema, err = schemaOf(ctx, l.db); err != nil {
		return s, translated(err)
	}
	for _, path := range []string{l.path, l.path + "-wal"} {
		if fi, err := os.Stat(path); err == nil {
			s.Bytes += fi.Size()
		}
	}
	s.Open = holders(l.path)
	return s, nil
}

// holders are the processes that have a file open; nil where that cannot be known.
func holders(path string) []ledger.Holder {
	file, err := os.Stat(path)
	all, _ := filepath.Glob("/proc/[0-9]*/fd")
	if err != nil || len(all) == 0 {
		return nil
	}
	out := []ledger.Holder{}
	for _, dir := range all {
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(dir)))
		fds, err := os.ReadDir(dir)
		if err != nil || pid == os.Getpid() {
			continue
		}
		for _, fd := range fds {
			fi, err := os.Stat(filepath.Join(dir, fd.Name()))
			if err != nil || !os.SameFile(fi, file) {
				continue
			}
			out = append(out, holder(pid))
			break
		}
	}
	return out
}

// holder is what the system says of a process.
func holder(pid int) ledger.Holder {
	h := ledger.Holder{Process: pid}
	dir := fmt.Sprintf("/proc/%d", pid)
	if fi, err := os.Stat(dir); err == nil {
		h.Since = fi.ModTime().UTC()
		if st, ok := fi.Sys().(*syscall.Stat_t); ok {
			h.Who = strconv.Itoa(int(st.Uid))
			if u, err := user.LookupId(h.Who); err == nil {
				h.Who = u.Username
			}
		}
	}
	b, _ := os.ReadFile(dir + "/cmdline")
	words := strings.Split(strings.TrimRight(string(b), "\x00"), "\x00")
	words[0] = filepath.Base(words[0])
	if len(words) > 3 { // what it does, and not with which values
		words = words[:3]
	}
	h.What = strings.Join(words, " ")
	return h
}

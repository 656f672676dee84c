package sqlite

import (
	"context"
	"errors"
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

// Sound has SQLite look through its pages and indexes.
func (l *Ledger) Sound(ctx context.Context) ([]string, error) {
	var out []string
	for _, q := range []string{"PRAGMA integrity_check(50)",
		"SELECT 'a row of ' || \"table\" || ' refers to what is not in ' || parent FROM pragma_foreign_key_check"} {
		rows, err := l.db.QueryContext(ctx, q)
		if err != nil {
			return nil, translated(err)
		}
		for rows.Next() {
			var s string
			if err := rows.Scan(&s); err != nil {
				return nil, errors.Join(translated(err), rows.Close())
			}
			if s != "ok" {
				out = append(out, s)
			}
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return nil, translated(err)
		}
	}
	return append(out, l.migrated(ctx)...), nil
}

// migrated says where the list of migrations is not what this version wrote.
func (l *Ledger) migrated(ctx context.Context) []string {
	var n, most int
	err := l.db.QueryRowContext(ctx, "SELECT count(DISTINCT version_id), max(version_id) FROM goose_db_version "+
		"WHERE is_applied AND version_id > 0").Scan(&n, &most)
	if err != nil || n != schema || most != schema {
		return []string{"the list of migrations is not what was written"}
	}
	return nil
}

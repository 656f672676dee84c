package peer

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
)

// Server is a PostgreSQL server of a test's own: in a temporary folder, on a socket in it, for as long as the test
// runs.
type Server struct {
	dir  string // of the socket
	bin  string // where its programs are
	user *syscall.Credential
	made atomic.Int64
}

// Owner is the role that owns the server of a test.
const Owner = "owner"

// Postgres starts a server. Whoever can reach its socket is taken for whom they say, unless a password is given: then
// the owner has it, and each role needs one.
func Postgres(t testing.TB, password string) *Server {
	t.Helper()
	s := &Server{}
	dirs, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb") // Debian's are in no PATH
	if len(dirs) > 0 {
		s.bin = filepath.Dir(dirs[len(dirs)-1])
	} else {
		s.bin = filepath.Dir(Need(t, "initdb"))
	}
	dir, err := os.MkdirTemp("", "pg") // a socket's path has 107 bytes at most
	if err != nil {
		t.Fatal(err)
	}
	s.dir = dir
	t.Cleanup(func() { os.RemoveAll(dir) })
	if os.Getuid() == 0 { // it refuses to run as root
		u, err := user.Lookup("postgres")
		if err != nil {
			t.Fatal(err)
		}
		uid, _ := strconv.ParseUint(u.Uid, 10, 32)
		gid, _ := strconv.ParseUint(u.Gid, 10, 32)
		s.user = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		if err := os.Chown(dir, int(uid), int(gid)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	how := []string{"-D", filepath.Join(dir, "data"), "-U", Owner, "-E", "UTF8", "--locale=C", "--no-sync"}
	if password == "" {
		how = append(how, "-A", "trust")
	} else {
		file := filepath.Join(dir, "password")
		if err := os.WriteFile(file, []byte(password+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		how = append(how, "-A", "scram-sha-256", "--pwfile", file)
	}
	s.run(t, "initdb", how...)
	s.Start(t)
	t.Cleanup(func() { s.run(t, "pg_ctl", "-D", filepath.Join(dir, "data"), "-m", "immediate", "-W", "stop") })
	return s
}

func (s *Server) run(t testing.TB, program string, args ...string) string {
	t.Helper()
	c := exec.Command(filepath.Join(s.bin, program), args...)
	c.SysProcAttr, c.Dir = &syscall.SysProcAttr{Credential: s.user}, s.dir
	c.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C", "HOME=" + s.dir}
	out, err := os.OpenFile(filepath.Join(s.dir, "out"), os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o666)
	if err != nil { // a pipe would be held by the server
		t.Fatal(err)
	}
	defer out.Close()
	c.Stdout, c.Stderr = out, out
	err = c.Run()
	b, _ := os.ReadFile(out.Name())
	if err != nil && !(program == "pg_ctl" && args[len(args)-1] == "stop") {
		t.Fatalf("%s: %v\n%s", program, err, b)
	}
	return string(b)
}

// Start starts it, where it was stopped.
func (s *Server) Start(t testing.TB) {
	t.Helper()
	s.run(t, "pg_ctl", "-D", filepath.Join(s.dir, "data"), "-l", filepath.Join(s.dir, "log"), "-o",
		"-c listen_addresses='' -c unix_socket_directories='"+s.dir+"' -c fsync=off -c max_connections=300", "-w",
		"start")
}

// Stop stops it; whoever is connected is cut off.
func (s *Server) Stop(t testing.TB) {
	t.Helper()
	s.run(t, "pg_ctl", "-D", filepath.Join(s.dir, "data"), "-m", "fast", "-w", "stop")
}

// Program is the path of one of PostgreSQL's programs.
func (s *Server) Program(name string) string { return filepath.Join(s.bin, name) }

// New makes an empty database and returns its name.
func (s *Server) New(t testing.TB) string {
	t.Helper()
	name := fmt.Sprintf("ledger%d", s.made.Add(1))
	s.Query(t, "postgres", "CREATE DATABASE "+name)
	return name
}

// Address is the address of a database for a role; "" is the owner.
func (s *Server) Address(database, role string) string {
	if role == "" {
		role = Owner
	}
	return "postgres:///" + database + "?host=" + s.dir + "&user=" + role
}

// Query runs SQL with psql, as the owner, and returns what it prints: rows alone, columns separated by |.
func (s *Server) Query(t testing.TB, database, sql string) string {
	t.Helper()
	c := exec.Command(filepath.Join(s.bin, "psql"), "-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-h", s.dir,
		"-U", Owner,
		"-d", database, "-c", sql)
	if b, err := os.ReadFile(filepath.Join(s.dir, "password")); err == nil {
		c.Env = append(os.Environ(), "PGPASSWORD="+strings.TrimSpace(string(b)))
	}
	out, err := c.CombinedOutput()
	if err != nil {
		t.Fatalf("psql: %v\n%s\n%s", err, sql, out)
	}
	return strings.TrimSpace(string(out))
}

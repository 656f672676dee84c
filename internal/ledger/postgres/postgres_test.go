package postgres

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/ledgertest"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit/peer"
)

func TestEngine(t *testing.T) {
	t.Parallel()
	server := peer.Postgres(t, "")
	ledgertest.Suite(t, func(t *testing.T, env model.Env) (ledger.Ledger, func() ledger.Ledger) {
		place := server.Address(server.New(t), "")
		o := ledger.Options{Env: env, SealKey: filepath.Join(t.TempDir(), "key")}
		l, err := Create(t.Context(), place, "Kestrel Ridge Observatory", o)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		return l, func() ledger.Ledger {
			l, err := Open(t.Context(), place, o)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { l.Close() })
			return l
		}
	}, func(t *testing.T, env model.Env, s ledger.Source) (ledger.Ledger, error) {
		o := ledger.Options{Env: env, SealKey: filepath.Join(t.TempDir(), "key")}
		place := server.Address(server.New(t), "")
		l, err := Fill(t.Context(), place, o, s)
		if err != nil {
			if There(t.Context(), place) {
				t.Error("a ledger was left behind")
			}
			return nil, err
		}
		t.Cleanup(func() { l.Close() })
		return l, nil
	})
}

// TestRolesOfAServer grants one role in two ledgers of a server at once: both have it then, whoever made it.
func TestRolesOfAServer(t *testing.T) {
	t.Parallel()
	server := peer.Postgres(t, "")
	var both [2]ledger.Roles
	for k := range both {
		l, err := Create(t.Context(), server.Address(server.New(t), ""), "Kestrel Ridge Observatory",
			ledger.Options{Env: model.Env{Actor: "owner", Now: time.Now, Rand: rand.Reader},
				SealKey: filepath.Join(t.TempDir(), "key")})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		both[k] = l
	}
	for n := range 20 {
		name := fmt.Sprint("role", n)
		var g sync.WaitGroup
		for k, l := range both {
			g.Go(func() {
				if err := l.Grant(t.Context(), name, "read", ""); err != nil {
					t.Errorf("ledger %d, %s: %v", k, name, err)
				}
			})
		}
		g.Wait()
	}
	for k, l := range both {
		if has, err := l.Roles(t.Context()); err != nil || len(has) != 20 {
			t.Errorf("ledger %d: %v %v", k, has, err)
		}
	}
}

// lossy is a way to a server that loses a connection while a change is to be kept: before the word reaches the server,
// or after the server has kept it.
type lossy struct {
	dir  string
	to   string
	lose atomic.Int32 // 0 nothing, 1 the next COMMIT, 2 what the server says to it
	lost atomic.Int32
}

func newLossy(t *testing.T, to string) *lossy {
	t.Helper()
	dir, err := os.MkdirTemp("", "lossy")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	l := &lossy{dir: dir, to: to}
	in, err := net.Listen("unix", filepath.Join(dir, ".s.PGSQL.5432"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close() })
	go func() {
		for {
			c, err := in.Accept()
			if err != nil {
				return
			}
			go l.carry(c)
		}
	}()
	return l
}

func (l *lossy) carry(client net.Conn) {
	defer client.Close()
	server, err := net.Dial("unix", filepath.Join(l.to, ".s.PGSQL.5432"))
	if err != nil {
		return
	}
	defer server.Close()
	var deaf atomic.Bool
	go func() {
		defer client.Close()
		b := make([]byte, 64<<10)
		for {
			n, err := server.Read(b)
			if err != nil || deaf.Load() { // what it says is lost, once it has said it
				return
			}
			if _, err := client.Write(b[:n]); err != nil {
				return
			}
		}
	}()
	b := make([]byte, 64<<10)
	for {
		n, err := client.Read(b)
		if err != nil {
			return
		}
		if bytes.Contains(b[:n], []byte("COMMIT\x00")) {
			switch how := l.lose.Swap(0); how {
			case 1:
				l.lost.Add(1)
				return
			case 2:
				l.lost.Add(1)
				deaf.Store(true)
			}
		}
		if _, err := server.Write(b[:n]); err != nil {
			return
		}
	}
}

// TestLostWhileItIsKept: where the connection is lost while a change is to be kept, what is said is what became of it.
func TestLostWhileItIsKept(t *testing.T) {
	t.Parallel()
	server := peer.Postgres(t, "")
	address := server.Address(server.New(t), "")
	u, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	way := newLossy(t, u.Query().Get("host"))
	q := u.Query()
	q.Set("host", way.dir)
	u.RawQuery = q.Encode()
	o := ledger.Options{Env: model.Env{Actor: "owner", Now: time.Now, Rand: rand.Reader},
		SealKey: filepath.Join(t.TempDir(), "key")}
	straight, err := Create(t.Context(), address, "Kestrel Ridge Observatory", o)
	if err != nil {
		t.Fatal(err)
	}
	defer straight.Close()
	l, err := Open(t.Context(), u.String(), o)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	change := func(about string) error {
		return ledger.Updater(l.Update).Do(t.Context(), l.Env(), func(b *model.Book) error {
			return b.Change(func(e *model.Edit) error {
				return e.Let(&model.Let{Finding: "key.end", About: about, Until: time.Now().Add(time.Hour)})
			})
		})
	}
	for n := range 10 {
		for how, kept := range map[int32]bool{0: true, 1: false, 2: true} {
			about := fmt.Sprint("change ", n, " ", how)
			way.lose.Store(how)
			err := change(about)
			list, lerr := straight.Now(t.Context()).Acceptances()
			is := slices.ContainsFunc(list, func(x model.Let) bool { return x.About == about })
			if lerr != nil || is != kept || (err == nil) != kept {
				t.Errorf("%s: kept %t, said %v; %v", about, is, err, lerr)
			}
			if err != nil && !errors.Is(err, ledger.ErrAway) {
				t.Errorf("%s: %v", about, err)
			}
		}
	}
	if way.lost.Load() != 20 {
		t.Errorf("%d were lost", way.lost.Load())
	}
	if p, err := straight.Now(t.Context()).Prove(""); err != nil || !p.Whole() {
		t.Errorf("%+v, %v", p, err)
	}
}

// owned makes a ledger in a database of its own.
func owned(t *testing.T, server *peer.Server) (*Ledger, string, ledger.Options) {
	t.Helper()
	name := server.New(t)
	o := ledger.Options{Env: model.Env{Actor: "owner", Now: time.Now, Rand: rand.Reader},
		SealKey: filepath.Join(t.TempDir(), "key")}
	l, err := Create(t.Context(), server.Address(name, ""), "Kestrel Ridge Observatory", o)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l, name, o
}

// TestOlder: a ledger of the schema before is migrated by its owner, and a role is told that it has to be.
func TestOlder(t *testing.T) {
	t.Parallel()
	server := peer.Postgres(t, "")
	l, name, o := owned(t, server)
	if err := l.Grant(t.Context(), "mira", "change", ""); err != nil {
		t.Fatal(err)
	}
	first, err := migrations.ReadFile("migrations/00015_first.sql")
	if err != nil {
		t.Fatal(err)
	}
	_, function, _ := strings.Cut(string(first), "CREATE FUNCTION acts_as_itself()")
	function, _, _ = strings.Cut(function, "-- +goose StatementBegin")
	server.Query(t, name, "DROP TRIGGER acts_as_itself ON journal; CREATE OR REPLACE FUNCTION acts_as_itself()"+
		function+"; DELETE FROM goose_db_version WHERE version_id = 16")
	_, err = Open(t.Context(), server.Address(name, "mira"), o)
	if !errors.Is(err, ledger.ErrReadOnly) || !strings.Contains(fmt.Sprint(err), "has to be migrated first") {
		t.Errorf("a role opens it: %v", err)
	}
	for _, role := range []string{"", "mira"} {
		l, err := Open(t.Context(), server.Address(name, role), o)
		if err != nil {
			t.Fatalf("%q: %v", role, err)
		}
		if p, err := l.Now(t.Context()).Prove(""); err != nil || !p.Whole() {
			t.Errorf("%q: %+v, %v", role, p, err)
		}
		l.Close()
	}
	if n := server.Query(t, name, "SELECT max(version_id) FROM goose_db_version"); n != fmt.Sprint(schema) {
		t.Errorf("it has schema %s", n)
	}
}

// crowd loads so many people, each with a title.
func crowd(t *testing.T, l *Ledger, n int, title string) (runs int, err error) {
	var list []people.Person
	for i := range n {
		list = append(list, people.Person{ID: fmt.Sprintf("p%04d", i),
			Attributes: map[string][]string{"title": {title}}})
	}
	err = ledger.Updater(l.Update).Do(t.Context(), l.Env(), func(b *model.Book) error {
		if _, err := b.View.Persons(); err != nil { // the moment of this run
			return err
		}
		runs++
		return b.Change(func(e *model.Edit) error {
			_, _, _, err := e.PutPersons(list, false, "people.csv")
			return err
		})
	})
	return runs, err
}

// until asks until something is so; a server says it of itself, and nothing wakes who waits for it.
func until(t *testing.T, what string, so func() bool) {
	t.Helper()
	for end := time.Now().Add(time.Minute); !so(); runtime.Gosched() {
		if time.Now().After(end) {
			t.Fatal(what)
		}
	}
}

// TestLargeBeside: while the rows of a large change are put, others write; somebody who wants one of its rows goes
// first, and it is worked out anew.
func TestLargeBeside(t *testing.T) {
	t.Parallel()
	server := peer.Postgres(t, "")
	l, name, o := owned(t, server)
	const many = 3000
	if _, err := crowd(t, l, many, "observer"); err != nil {
		t.Fatal(err)
	}
	other, err := Open(t.Context(), server.Address(name, ""), o)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	waiting := func(n int) func() bool {
		return func() bool {
			return server.Query(t, name, "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock'") ==
				fmt.Sprint(n)
		}
	}
	for _, c := range []struct {
		what  string
		write func(b *model.Book) error
		runs  int
		beats bool // it wants a row that the large change has
	}{
		{"something else", func(b *model.Book) error {
			return b.Change(func(e *model.Edit) error {
				return e.Let(&model.Let{Finding: "key.end", About: "ridge", Until: time.Now().Add(time.Hour)})
			})
		}, 1, false},
		{"one of the people", func(b *model.Book) error {
			return b.Change(func(e *model.Edit) error {
				_, _, _, err := e.PutPersons([]people.Person{{ID: "p0001", Groups: []string{"dome-crew"}}}, false,
					"one.csv")
				return err
			})
		}, 2, true},
	} {
		// somebody keeps the last person's row: the large change gets as far as that
		keeps, err := l.pool.Begin(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := keeps.Exec(t.Context(), "SELECT FROM persons WHERE id = $1 FOR UPDATE",
			fmt.Sprintf("p%04d", many-1)); err != nil {
			t.Fatal(err)
		}
		var g sync.WaitGroup
		runs := 0
		g.Go(func() {
			var err error
			if runs, err = crowd(t, l, many, c.what); err != nil {
				t.Errorf("the large change: %v", err)
			}
		})
		until(t, c.what+": the large change waits for nobody", waiting(1))
		write := func() error { return ledger.Updater(other.Update).Do(t.Context(), other.Env(), c.write) }
		if c.beats {
			g.Go(func() {
				if err := write(); err != nil {
					t.Errorf("%s: %v", c.what, err)
				}
			})
			until(t, c.what+": nobody waits for the large change", waiting(2))
		} else if err := write(); err != nil { // it is made while the large one waits
			t.Errorf("%s: %v", c.what, err)
		}
		if err := keeps.Rollback(t.Context()); err != nil {
			t.Fatal(err)
		}
		g.Wait()
		if runs != c.runs {
			t.Errorf("%s: the large change was worked out %d times, not %d", c.what, runs, c.runs)
		}
		p, err := other.Now(t.Context()).Person("p0001")
		if err != nil || p.Attributes["title"][0] != c.what || len(p.Groups) != 0 {
			t.Errorf("%s: %v, %v", c.what, p, err)
		}
		if proof, err := other.Now(t.Context()).Prove(""); err != nil || !proof.Whole() {
			t.Errorf("%s: %+v, %v", c.what, proof, err)
		}
	}
	if list, err := other.Now(t.Context()).Acceptances(); err != nil || len(list) != 1 {
		t.Errorf("%v, %v", list, err)
	}
}

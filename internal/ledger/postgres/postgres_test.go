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
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

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

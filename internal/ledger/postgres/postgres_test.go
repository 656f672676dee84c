package postgres

import (
	"crypto/rand"
	"fmt"
	"path/filepath"
	"sync"
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

package postgres

import (
	"path/filepath"
	"testing"

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

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
	s := peer.Postgres(t, "")
	ledgertest.Suite(t, func(t *testing.T, env model.Env) (ledger.Ledger, func() ledger.Ledger) {
		place := s.Address(s.New(t), "")
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
	})
}

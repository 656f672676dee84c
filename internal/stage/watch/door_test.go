package watch

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/server"
)

// TestASlowStageKeepsItsDoor: whoever gives up waiting for a stage that does not answer leaves its door; the door of a
// process that is gone is taken away.
func TestASlowStageKeepsItsDoor(t *testing.T) {
	t.Parallel()
	ledger := filepath.Join(t.TempDir(), "tressik.ledger")
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	write := func() string {
		t.Helper()
		b, err := json.Marshal(&Door{Base: "http://" + ln.Addr().String(), Token: "token"})
		if err != nil {
			t.Fatal(err)
		}
		path := ledger + ".stage-1"
		if err := os.WriteFile(path, b, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	path := write()
	for name, ask := range map[string]func(context.Context) error{
		"attach": func(ctx context.Context) error {
			_, _, err := Attach(ctx, ledger, play.Follow{Trust: "nightlog@ridge"}, func(server.Event) {})
			return err
		},
		"sheet": func(ctx context.Context) error {
			_, err := Sheet(ctx, ledger, "nightlog@ridge", "app")
			return err
		},
	} {
		ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		if err := ask(ctx); !errors.Is(err, context.DeadlineExceeded) || errors.Is(err, ErrNoStage) {
			t.Errorf("%s: %v", name, err)
		}
		cancel()
		if _, err := os.Stat(path); err != nil {
			t.Errorf("%s: the door is gone: %v", name, err)
		}
	}
	ln.Close() // now the process is gone
	if _, err := Sheet(t.Context(), ledger, "nightlog@ridge", "app"); !errors.Is(err, ErrNoStage) {
		t.Errorf("nobody listens: %v", err)
	}
	if _, err := os.Stat(path); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("its door stays: %v", err)
	}
}

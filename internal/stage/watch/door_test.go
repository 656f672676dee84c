package watch

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"sync/atomic"
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

// TestNothingIsSentToSomebodyElse: where somebody else listens at the address of a stage that was killed, neither its
// token nor a client's secret is sent there; its door is taken away where its process is gone.
func TestNothingIsSentToSomebodyElse(t *testing.T) {
	t.Parallel()
	var sent atomic.Value
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		if r.Header.Get("Authorization") != "" || len(b) > 0 || r.Method != http.MethodGet {
			sent.Store(r.Method + " " + r.Header.Get("Authorization") + " " + string(b))
		}
		fmt.Fprint(w, `{"how":{"trust":"nightlog@ridge"}}`)
	}))
	defer other.Close()
	gone := exec.Command("true")
	if err := gone.Run(); err != nil {
		t.Fatal(err)
	}
	for pid, want := range map[int]error{os.Getpid(): ErrOther, gone.Process.Pid: ErrNoStage} {
		ledger := filepath.Join(t.TempDir(), "tressik.ledger")
		b, err := json.Marshal(&Door{Base: other.URL, Token: "token-of-the-door"})
		if err != nil {
			t.Fatal(err)
		}
		path := fmt.Sprintf("%s.stage-%d", ledger, pid)
		if err := os.WriteFile(path, b, 0o600); err != nil {
			t.Fatal(err)
		}
		_, _, err = Attach(t.Context(), ledger, play.Follow{Trust: "nightlog@ridge", Secret: "the client's secret"},
			func(server.Event) {})
		if !errors.Is(err, want) || want == ErrOther && errors.Is(err, ErrNoStage) {
			t.Errorf("process %d: %v, want %v", pid, err, want)
		}
		if _, err := os.Stat(path); (err == nil) != (want == ErrOther) {
			t.Errorf("process %d: the door: %v", pid, err)
		}
	}
	if s := sent.Load(); s != nil {
		t.Errorf("somebody else was sent %v", s)
	}
}

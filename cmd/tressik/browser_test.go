package main

import (
	"bufio"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"syscall"
	"testing"
	"time"

	"golang.org/x/net/websocket"
)

// browser drives a headless Chromium over the Chrome DevTools Protocol.
type browser struct {
	t  *testing.T
	ws *websocket.Conn
	n  int
	// what the browser told in between, of the domains that were enabled
	events []struct {
		Method string
		Params json.RawMessage
	}
}

func newBrowser(ctx context.Context, t *testing.T, path string, more ...string) *browser {
	t.Helper()
	profile, err := os.MkdirTemp("", "tressik-browser-")
	if err != nil {
		t.Fatal(err)
	}
	args := append(more, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
		"--disable-background-networking",
		"--disable-component-update", "--disable-sync", "--window-size=1280,800", "--user-data-dir="+profile,
		"--remote-debugging-port=0", "--remote-allow-origins=*", "about:blank")
	c := exec.CommandContext(ctx, path, args...)
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // its helpers go with it
	errs, err := c.StderrPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
		c.Wait()
		os.RemoveAll(profile) // a helper that still writes there is no failure
	})
	var port string
	for s := bufio.NewScanner(errs); s.Scan(); {
		if m := regexp.MustCompile(`DevTools listening on ws://127\.0\.0\.1:(\d+)/`).FindStringSubmatch(
			s.Text()); m != nil {
			port = m[1]
			break
		}
	}
	go func() {
		for s := bufio.NewScanner(errs); s.Scan(); {
		}
	}()
	var pages []struct{ Type, WebSocketDebuggerURL string }
	for range 50 {
		_, body, _ := get(t, "http://127.0.0.1:"+port+"/json/list")
		if json.Unmarshal([]byte(body), &pages) == nil && len(pages) > 0 {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	b := &browser{t: t}
	for _, p := range pages {
		if p.Type == "page" {
			if b.ws, err = websocket.Dial(p.WebSocketDebuggerURL, "", "http://127.0.0.1"); err != nil {
				t.Fatal(err)
			}
		}
	}
	if b.ws == nil {
		t.Fatal("the browser opened no page")
	}
	b.ws.SetDeadline(time.Now().Add(80 * time.Second))
	return b
}

func (b *browser) call(method string, params map[string]any) json.RawMessage {
	b.t.Helper()
	b.n++
	if err := websocket.JSON.Send(b.ws, map[string]any{"id": b.n, "method": method, "params": params}); err != nil {
		b.t.Fatal(err)
	}
	for {
		var m struct {
			ID     int
			Result json.RawMessage
			Error  struct{ Message string }
			Method string
			Params json.RawMessage
		}
		if err := websocket.JSON.Receive(b.ws, &m); err != nil {
			b.t.Fatal(err)
		}
		if m.Method != "" {
			b.events = append(b.events, struct {
				Method string
				Params json.RawMessage
			}{m.Method, m.Params})
		}
		if m.ID == b.n {
			if m.Error.Message != "" { // a page that is just being left; the caller asks again
				return json.RawMessage("{}")
			}
			return m.Result
		}
	}
}

func (b *browser) open(url string) {
	b.t.Helper()
	b.call("Page.navigate", map[string]any{"url": url})
}

func (b *browser) eval(js string) string {
	b.t.Helper()
	var r struct {
		Result struct{ Value any }
	}
	if err := json.Unmarshal(b.call("Runtime.evaluate", map[string]any{"expression": js, "returnByValue": true}),
		&r); err != nil {
		b.t.Fatal(err)
	}
	switch v := r.Result.Value.(type) {
	case string:
		return v
	case bool:
		if v {
			return "true"
		}
	}
	return ""
}

// shot leaves a picture of the whole page in the folder TRESSIK_SHOTS, if that is set.
func (b *browser) shot(name string) {
	b.t.Helper()
	dir := os.Getenv("TRESSIK_SHOTS")
	if dir == "" {
		return
	}
	var size struct {
		CSSContentSize struct{ Width, Height float64 }
	}
	if err := json.Unmarshal(b.call("Page.getLayoutMetrics", nil), &size); err != nil {
		b.t.Fatal(err)
	}
	var r struct{ Data []byte }
	if err := json.Unmarshal(b.call("Page.captureScreenshot", map[string]any{"format": "png",
		"captureBeyondViewport": true, "clip": map[string]any{"x": 0, "y": 0, "width": size.CSSContentSize.Width,
			"height": max(size.CSSContentSize.Height, 800), "scale": 1}}), &r); err != nil {
		b.t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, name+".png"), r.Data, 0o644); err != nil {
		b.t.Fatal(err)
	}
}

func (b *browser) until(js string) {
	b.t.Helper()
	for range 400 {
		if b.eval(js) == "true" {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	b.t.Fatalf("waited in vain for %s; the page is %q at %s:\n%s", js, b.eval("document.title"),
		b.eval("location.href"), b.eval("document.body.innerText"))
}

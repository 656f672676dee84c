package inspect

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"
)

// session writes an archive of so many entries, each with a binary body of 1 MiB in one of the forms in which browsers
// write it; in the middle is a sign-in.
func session(w io.Writer, entries int) {
	raw := make([]byte, 1<<20)
	for i := range raw {
		raw[i] = byte(i * 31)
	}
	bodies := []string{
		`{"mimeType":"font/woff2","encoding":"base64","text":"` + base64.StdEncoding.EncodeToString(raw[:3<<18]) + `"}`,
		`{"mimeType":"application/octet-stream","text":"` + strings.Repeat(`\u0000\ufffd\"`, 1<<20/14) + `"}`,
		`{"mimeType":"application/json","text":"` + strings.Repeat(`{\"n\":1}\n`, 1<<20/11) + `"}`}
	fmt.Fprint(w, `{"log":{"version":"1.2","entries":[`)
	for n := range entries {
		url := fmt.Sprintf("https://sky.kestrelridge.example/tile/%d", n)
		if n == entries/2 {
			url = "https://sky.kestrelridge.example/callback?code=c&state=s"
		}
		if n > 0 {
			fmt.Fprint(w, ",")
		}
		fmt.Fprintf(w, `{"startedDateTime":"2031-03-04T09:00:%02d.000Z","request":{"method":"GET","url":%q},`+
			`"response":{"status":200,"content":%s}}`, n*60/entries, url, bodies[n%len(bodies)])
	}
	fmt.Fprint(w, "]}}")
}

// TestLongArchive reads 200 MB with binary bodies in one pass; no more than a few entries are held.
func TestLongArchive(t *testing.T) {
	r, w := io.Pipe()
	go func() {
		session(w, 200)
		w.Close()
	}()
	var most uint64
	list, err := Archive(readerFunc(func(p []byte) (int, error) {
		n, err := r.Read(p)
		if n > 1<<15 { // at the long bodies
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most = max(most, m.HeapAlloc)
		}
		return n, err
	}))
	if err != nil || len(list) != 1 || list[0].Entry != 101 || !strings.Contains(list[0].Text, "code=c") {
		t.Fatalf("%+v %v", list, err)
	}
	if most > 64<<20 {
		t.Errorf("%d MB were held", most>>20)
	}
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

// TestCutArchive gives what stands before the cut, wherever that is, and says that there is more.
func TestCutArchive(t *testing.T) {
	var all strings.Builder
	session(&all, 4)
	text := all.String()
	callback := strings.Index(text, "callback")
	for _, at := range []int{1, 20, callback, callback + 200, len(text) - 2} {
		list, err := Archive(strings.NewReader(text[:at]))
		if !errors.Is(err, ErrArchive) {
			t.Errorf("cut at %d: %v", at, err)
		}
		if want := at > len(text)-3; want != (len(list) == 1) {
			t.Errorf("cut at %d: %d messages", at, len(list))
		}
	}
	for _, bad := range []string{"", "GIF89a", `{"log":[]}`, `{"log":{"entries":{}}}`,
		`{"log":{"entries":[1]}}`, `[]`} {
		if _, err := Archive(strings.NewReader(bad)); !errors.Is(err, ErrArchive) {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

package reach

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

func serve(t *testing.T, tls bool) *httptest.Server {
	mux := http.NewServeMux()
	mux.HandleFunc("/md", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "<metadata/>") })
	mux.HandleFunc("/big", func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, strings.Repeat("x", 5000)) })
	mux.HandleFunc("/loop", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/loop",
			http.StatusFound)
	})
	mux.HandleFunc("/down", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "http://idp.southmere.example/md", http.StatusFound)
	})
	mux.HandleFunc("/slow", func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	s := httptest.NewUnstartedServer(mux)
	s.Config.ErrorLog = nil
	if tls {
		s.StartTLS()
	} else {
		s.Start()
	}
	t.Cleanup(s.Close)
	return s
}

func TestFetchIsChecked(t *testing.T) {
	t.Parallel()
	s := serve(t, true)
	ca := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})
	sum := sha256.Sum256(s.Certificate().Raw)
	pin := hex.EncodeToString(sum[:])
	wrong := strings.Repeat("ab", 32)
	for _, c := range []struct {
		name, path string
		o          Options
		want       error
		words      string
	}{
		{"by authority", "/md", Options{CA: ca}, nil, ""},
		{"by pin", "/md", Options{Pin: pin}, nil, ""},
		{"by pin with colons", "/md", Options{Pin: strings.ToUpper(pin[:2] + ":" + pin[2:])}, nil, ""},
		{"unknown authority", "/md", Options{}, ErrTLS, "--ca FILE"},
		{"it shows the fingerprint", "/md", Options{}, ErrTLS, pin},
		{"wrong pin", "/md", Options{Pin: wrong}, ErrPin, pin},
		{"too large", "/big", Options{CA: ca, Max: 4096}, ErrTooLarge, ""},
		{"circle of redirects", "/loop", Options{CA: ca}, nil, "more than 5 redirects"},
		{"redirect down to http", "/down", Options{CA: ca}, ErrPlainHTTP, "https:"},
		{"too slow", "/slow", Options{CA: ca, Timeout: 300 * time.Millisecond}, nil, "no whole answer within 300ms"},
		{"not there", "/none", Options{CA: ca}, ErrStatus, "404"},
		{"not a pin", "/md", Options{Pin: "abc"}, nil, "64 hexadecimal digits"},
		{"not a CA", "/md", Options{CA: []byte("x")}, nil, "no certificate in PEM"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.o.Max == 0 {
				c.o.Max = 1 << 20
			}
			b, err := Read(context.Background(), s.URL+c.path, c.o)
			if c.want == nil && c.words == "" {
				if err != nil || string(b) != "<metadata/>" {
					t.Fatalf("%q, %v", b, err)
				}
				return
			}
			if err == nil || c.want != nil && !errors.Is(err, c.want) || !strings.Contains(err.Error(), c.words) {
				t.Fatalf("got %v, want %v with %q", err, c.want, c.words)
			}
		})
	}
}

func TestPlainHTTPIsForLoopback(t *testing.T) {
	t.Parallel()
	s := serve(t, false)
	if b, err := Read(context.Background(), s.URL+"/md", Options{Max: 100}); err != nil || string(b) != "<metadata/>" {
		t.Errorf("%q, %v", b, err)
	}
	for _, u := range []string{"http://idp.southmere.example/md", "http://192.0.2.1/md", "https:///md"} {
		if _, err := Read(context.Background(), u, Options{Max: 100}); !errors.Is(err, ErrPlainHTTP) {
			t.Errorf("%s: %v", u, err)
		}
	}
}

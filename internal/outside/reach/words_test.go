package reach

import (
	"bufio"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"tressik.example/internal/core/people"
)

// TestUnreached: what is wrong on the way to a server is said in words, by whatever asks it.
func TestUnreached(t *testing.T) {
	t.Parallel()
	shut, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	nobody := shut.Addr().String()
	shut.Close()
	plain := httptest.NewServer(http.NotFoundHandler())
	defer plain.Close()
	ends := listening(t, func(c net.Conn) {
		_, _ = http.ReadRequest(bufio.NewReader(c)) // what is not read when it closes is told as broken off
		c.Close()
	})
	quits := listening(t, func(c net.Conn) {
		_, _ = c.Read(make([]byte, 1024))
		c.Close()
	})
	silent := listening(t, func(c net.Conn) { _, _ = io.Copy(io.Discard, c) })
	short := Options{Timeout: 300 * time.Millisecond}
	directory := func(at string) error {
		_, err := (&LDAP{Source: people.Source{At: at, Base: "dc=x", Timeout: 1}}).People(t.Context())
		return err
	}
	fetch := func(at string) error {
		_, err := Fetch(t.Context(), at, short)
		return err
	}
	for _, c := range []struct {
		what string
		err  error
		says string
	}{
		{"nobody listens", fetch("http://" + nobody + "/x"), "nothing takes connections there (" + nobody + ")"},
		{"no TLS", fetch("https://" + plain.Listener.Addr().String()), "speaks no TLS"},
		{"ends at once", fetch("http://" + ends), "ended the connection before it had answered"},
		{"says nothing", fetch("http://" + silent), "within 300ms"},
		{"no directory server listens", directory("ldaps://" + nobody),
			"nothing takes connections there (" + nobody + ")"},
		{"no directory server, and no TLS", directory("ldaps://" + plain.Listener.Addr().String()), "speaks no TLS"},
		{"a directory server that ends at once", directory("ldap://" + quits),
			"or what answers there is no directory server"},
		{"a directory server that says nothing", directory("ldap://" + silent), "within 1s"},
		{"no name", Unreached(&url.Error{Op: "Get", URL: "https://secret.example/?token=x",
			Err: &net.OpError{Op: "dial",
				Err: &net.DNSError{Name: "secret.example", IsNotFound: true}}}),
			"knows no host of the name secret.example;"},
		{"no name service", Unreached(&net.DNSError{Name: "a.example", IsTemporary: true}), "could not be looked up"},
		{"an unknown authority", Unreached(&tls.CertificateVerificationError{Err: x509.UnknownAuthorityError{}}),
			"not trusted: it is from an authority that is not known here"},
		{"another name", Unreached(&tls.CertificateVerificationError{Err: x509.HostnameError{Host: "a.example",
			Certificate: &x509.Certificate{}}}), "not trusted: it is not for the name a.example"},
		{"run out", Unreached(&tls.CertificateVerificationError{Err: x509.CertificateInvalidError{Reason: x509.Expired,
			Cert: &x509.Certificate{NotBefore: time.Unix(0, 0), NotAfter: time.Unix(86400, 0)}}}),
			"good from 1970-01-01 to 1970-01-02 alone"},
		{"no socket", Unreached(&net.OpError{Op: "dial", Net: "unix", Addr: &net.UnixAddr{Name: "/run/x.sock",
			Net: "unix"},
			Err: os.NewSyscallError("connect", syscall.ENOENT)}), "nothing takes connections there (/run/x.sock)"},
		{"reset", Unreached(&net.OpError{Op: "read", Err: os.NewSyscallError("read", syscall.ECONNRESET)}),
			"broke the"},
		{"no way", Unreached(&net.OpError{Op: "dial", Addr: &net.TCPAddr{IP: net.IP{192, 0, 2, 1}, Port: 443},
			Err: os.NewSyscallError("connect", syscall.ENETUNREACH)}),
			"no way from this machine to it (192.0.2.1:443)"},
	} {
		if c.err == nil || !strings.Contains(c.err.Error(), c.says) || strings.Contains(c.err.Error(), "dial tcp") ||
			strings.Contains(c.err.Error(), "token=") {
			t.Errorf("%s: %v, which does not say %q", c.what, c.err, c.says)
		}
	}
	if err := errors.New("other"); Unreached(err) != err || Unreached(nil) != nil {
		t.Error("another error is changed")
	}
	once := Unreached(io.EOF)
	if twice := Unreached(fmt.Errorf("x: %w", once)); !errors.Is(twice, io.EOF) || twice.Error() != "x: "+once.Error() {
		t.Errorf("said twice: %v", twice)
	}
}

// listening is a server that does something with each connection.
func listening(t *testing.T, do func(net.Conn)) (at string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go do(c)
		}
	}()
	return l.Addr().String()
}

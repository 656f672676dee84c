// Package reach talks to the outside world: files, standard input and metadata over HTTPS.
package reach

import (
	"bytes"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
)

// Errors that callers test for.
var (
	ErrTooLarge    = errors.New("too large")
	ErrPlainHTTP   = errors.New("http: is for loopback only")
	ErrTLS         = errors.New("the server's certificate is not trusted")
	ErrPin         = errors.New("the server's certificate is not the pinned one")
	ErrStatus      = errors.New("the server did not answer with the document")
	ErrSlow        = errors.New("no whole answer")
	ErrNotModified = errors.New("the document is as it was")
	ErrInward      = errors.New("a public host leads to a private one, which is not asked")
)

// MaxAggregate is how much of an aggregate is taken from a server, in bytes: it is read as it comes, and not kept.
const MaxAggregate = 2 << 30

// Options bound and secure a fetch.
type Options struct {
	CA      []byte // PEM of the authorities to trust instead of the system's
	Pin     string // SHA-256 of the server's certificate, hex with or without colons
	Timeout time.Duration
	Max     int64 // bytes
	Accept  string
	Stdin   io.Reader
	// Of is the address of the document that names what is fetched; "" where a person does. Where it lies at a public
	// host, nothing is fetched from a private one because of it.
	Of          string
	Certificate *tls.Certificate // with which a server is told who asks; nil: none
	// Strangers is whether anybody may have named the address: then no private host is asked at all.
	Strangers bool
	// ETag and Modified are by what the server knows the state of the document that is there already; a fetch with
	// either may end in ErrNotModified.
	ETag, Modified string
}

// Answer is a document from a server, with by what the server knows its state and for how long it may be kept.
type Answer struct {
	Source         string // where it was read, without what may be a secret
	Bytes          []byte
	ETag, Modified string
	MaxAge         time.Duration // of Cache-Control; 0 where nothing is said
	ServerUntil    time.Time     // when the certificate of the server ends; zero without TLS
}

// Opened is a document that is being read; its Answer has no bytes. Close it.
type Opened struct {
	io.Reader
	Answer *Answer
	size   int64 // 0 where it is not known
	close  func()
}

// Close ends the reading.
func (o *Opened) Close() error { o.close(); return nil }

// Open begins to read the document at a source: a file, "-" for standard input, or an https: URL (http: for loopback
// only). More than Max bytes are ErrTooLarge; 0 sets no bound to a file or to standard input.
func Open(ctx context.Context, source string, o Options) (*Opened, error) {
	switch {
	case source == "-":
		return &Opened{bounded(o.Stdin, o.Max, "standard input"), &Answer{Source: source}, 0, func() {}}, nil
	case strings.HasPrefix(source, "https://"), strings.HasPrefix(source, "http://"):
		return open(ctx, source, o)
	case strings.Contains(source, "://"):
		return nil, fmt.Errorf("%s: only https: URLs, files and - for standard input are read", Shown(source))
	}
	fi, err := os.Stat(source)
	if err == nil && fi.IsDir() {
		err = syscall.EISDIR
	}
	if err != nil {
		return nil, FileError(source, err)
	}
	size := int64(0)
	if fi.Mode().IsRegular() {
		size = fi.Size()
	}
	if o.Max > 0 && size > o.Max {
		return nil, tooLarge(source, size, o.Max)
	}
	f, err := os.Open(source)
	if err != nil {
		return nil, FileError(source, err)
	}
	return &Opened{bounded(f, o.Max, source), &Answer{Source: source}, size, func() { f.Close() }}, nil
}

// bounded reads at most so many bytes, and ends in ErrTooLarge where there are more; 0 is no bound. Its errors say what
// was read.
func bounded(r io.Reader, max int64, what string) io.Reader {
	return &boundedReader{r, max, max, what}
}

type boundedReader struct {
	r         io.Reader
	left, max int64
	what      string
}

func (b *boundedReader) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	if b.left -= int64(n); b.left < 0 && b.max > 0 {
		return n, tooLarge(b.what, 0, b.max)
	}
	if err != nil && err != io.EOF {
		err = fmt.Errorf("reading %s: %w", b.what, err)
	}
	return n, err
}

// Read returns the bytes at a source that Open opens; Max bounds each.
func Read(ctx context.Context, source string, o Options) ([]byte, error) {
	in, err := Open(ctx, source, o)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return in.all()
}

// all reads a document to its end.
func (o *Opened) all() ([]byte, error) {
	b := bytes.NewBuffer(make([]byte, 0, o.size+bytes.MinRead))
	_, err := b.ReadFrom(o)
	if err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// FileError says why a file cannot be read: err, a folder, or that it is not there.
func FileError(path string, err error) error {
	fi, serr := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return &fileError{"there is no file " + path, err}
	case serr == nil && fi.IsDir():
		return &fileError{path + " is a folder; name a file in it", err}
	}
	return err
}

// fileError says in words what the system said of a file; it unwraps to that.
type fileError struct {
	words string
	err   error
}

func (e *fileError) Error() string { return e.words }
func (e *fileError) Unwrap() error { return e.err }

// tooLarge says how large something is, 0 where that is not known, and how much of it is read.
func tooLarge(what string, is, max int64) error {
	size := func(n int64) string {
		if n < 1<<20 {
			return fmt.Sprintf("%d KB", n>>10)
		}
		return fmt.Sprintf("%d MB", n>>20)
	}
	if is > 0 {
		return fmt.Errorf("%s is %w: %s, at most %s are read", what, ErrTooLarge, size(is), size(max))
	}
	return fmt.Errorf("%s is %w: at most %s are read", what, ErrTooLarge, size(max))
}

// trip is a way to one address and to no other, for as long as a request may take.
type trip struct {
	ctx    context.Context
	client *http.Client
	way    *way
	end    func()
}

// trip prepares the way to an address. Errors: those of Fetch.
func (o Options) trip(ctx context.Context, at string) (*trip, error) {
	if err := checkURL(at); err != nil {
		return nil, err
	}
	cfg, err := o.tls()
	if err != nil {
		return nil, err
	}
	if o.Timeout == 0 {
		o.Timeout = 20 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, o.Timeout)
	t := &trip{ctx: ctx, way: &way{of: o.Of, public: o.Strangers}}
	t.client = &http.Client{Transport: t.way.transport(cfg), CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse
	}}
	t.end = func() { t.client.CloseIdleConnections(); cancel() }
	return t, nil
}

// Fetch gets a document from an https: URL (http: for loopback only). Errors: ErrNotModified, ErrTooLarge,
// ErrPlainHTTP, ErrTLS, ErrPin, ErrStatus, ErrInward and those of the way there.
func Fetch(ctx context.Context, source string, o Options) (*Answer, error) {
	in, err := open(ctx, source, o)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if in.Answer.Bytes, err = in.all(); err != nil {
		return nil, err
	}
	return in.Answer, nil
}

// open asks for the document at an address.
func open(ctx context.Context, source string, o Options) (_ *Opened, err error) {
	to, err := o.trip(ctx, source)
	if err != nil {
		return nil, err
	}
	over := to.end
	defer func() {
		if err != nil {
			over()
		}
	}()
	to.client.CheckRedirect = to.way.redirect
	req, err := http.NewRequestWithContext(to.ctx, http.MethodGet, source, nil)
	if err != nil {
		return nil, err
	}
	if o.Accept == "" {
		o.Accept = "application/samlmetadata+xml, application/xml;q=0.9"
	}
	req.Header.Set("Accept", o.Accept+", */*;q=0.5")
	if o.ETag != "" {
		req.Header.Set("If-None-Match", o.ETag)
	}
	if o.Modified != "" {
		req.Header.Set("If-Modified-Since", o.Modified)
	}
	resp, err := to.client.Do(req)
	source = Shown(source)
	if err != nil {
		return nil, explain(source, o, err)
	}
	over = func() { resp.Body.Close(); to.end() }
	switch {
	case resp.StatusCode == http.StatusNotModified && (o.ETag != "" || o.Modified != ""):
		return nil, fmt.Errorf("%s: %w", source, ErrNotModified)
	case resp.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("%s: %w: status %s", source, ErrStatus, resp.Status)
	case resp.ContentLength > o.Max:
		return nil, tooLarge(source, resp.ContentLength, o.Max)
	}
	answer := &Answer{Source: source, ETag: short(resp.Header.Get("ETag")),
		Modified: short(resp.Header.Get("Last-Modified")),
		MaxAge:   maxAge(resp.Header)}
	if resp.TLS != nil && len(resp.TLS.PeerCertificates) > 0 {
		answer.ServerUntil = resp.TLS.PeerCertificates[0].NotAfter.UTC()
	}
	// the server may take the end of the connection for that of its answer
	body := &inTime{r: bounded(resp.Body, o.Max, source), ctx: to.ctx,
		explain: func(err error) error { return explain(source, o, err) }}
	return &Opened{body, answer, 0, over}, nil // what it says of its length is not believed
}

// inTime is an answer that has to come within the time that a trip may take.
type inTime struct {
	r       io.Reader
	ctx     context.Context
	explain func(error) error
}

func (t *inTime) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	if late := t.ctx.Err(); err != nil && late != nil {
		return n, t.explain(late)
	}
	return n, err
}

// short drops a header that nobody would send.
func short(s string) string {
	if len(s) > 512 {
		return ""
	}
	return s
}

// maxAge is for how long a document may be kept (RFC 9111, section 5.2.2).
func maxAge(h http.Header) time.Duration {
	for _, d := range strings.Split(h.Get("Cache-Control"), ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(d), "=")
		if n, err := strconv.Atoi(strings.Trim(value, `"`)); strings.EqualFold(name, "max-age") && err == nil &&
			n >= 0 {
			return time.Duration(min(n, 365*86400)) * time.Second
		}
	}
	return 0
}

func checkURL(s string) error {
	u, err := url.Parse(s)
	if err != nil {
		return errors.New("the address is no URL that can be read; see to its host, its port and its percent signs")
	}
	if u.Scheme == "https" && u.Host != "" || u.Scheme == "http" && judge.IsLoopback(u.Hostname()) {
		return nil
	}
	if u.Scheme != "http" && u.Scheme != "https" {
		return fmt.Errorf("%q is no https: URL", Shown(s))
	}
	return fmt.Errorf("%s: %w; use https:", Shown(s), ErrPlainHTTP)
}

func explain(source string, o Options, err error) error {
	if errors.Is(err, ErrPin) || errors.Is(err, ErrPlainHTTP) || errors.Is(err, ErrInward) {
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err // its words hold the whole address
		}
		return fmt.Errorf("%s: %w", source, err)
	}
	var cert *tls.CertificateVerificationError
	if errors.As(err, &cert) {
		seen := ""
		if len(cert.UnverifiedCertificates) > 0 {
			sum := sha256.Sum256(cert.UnverifiedCertificates[0].Raw)
			seen = "; it shows the certificate with SHA-256 " + hex.EncodeToString(sum[:])
		}
		return finding.Errorf("%s: %w (%v)%s. If it is from a private authority, give that authority's certificate "+
			"(%s FILE); if you have checked this very certificate, pin it (%s SHA256)", source, ErrTLS,
			Distrusted(cert), seen, finding.FieldCA, finding.FieldTLSPin)
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("%s: %w within %s; try again, or save the document to a file and read that", source, ErrSlow,
			o.Timeout)
	}
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err
	}
	return fmt.Errorf("%s: %w", source, Unreached(err))
}

// tls sets up checking: by the system's authorities, by the given ones, by one server certificate, or by the given ones
// and the certificate, where both are given. There is no way to switch it off.
func (o Options) tls() (*tls.Config, error) {
	cfg := &tls.Config{MinVersion: tls.VersionTLS12}
	if o.Certificate != nil {
		cfg.Certificates = []tls.Certificate{*o.Certificate}
	}
	if len(o.CA) > 0 {
		cfg.RootCAs = x509.NewCertPool()
		if !cfg.RootCAs.AppendCertsFromPEM(o.CA) {
			return nil, finding.Errorf("%s: the file holds no certificate in PEM", finding.FieldCA)
		}
	}
	if o.Pin == "" {
		return cfg, nil
	}
	pin, err := hex.DecodeString(strings.ReplaceAll(o.Pin, ":", ""))
	if err != nil || len(pin) != sha256.Size {
		return nil, finding.Errorf("%s: a SHA-256 fingerprint has 64 hexadecimal digits, with or without colons",
			finding.FieldTLSPin)
	}
	// Without authorities the chain is not built; the one certificate is compared, byte for byte by its hash, on every
	// handshake.
	cfg.InsecureSkipVerify = len(o.CA) == 0
	cfg.VerifyConnection = func(cs tls.ConnectionState) error {
		got := sha256.Sum256(cs.PeerCertificates[0].Raw)
		if !bytes.Equal(got[:], pin) {
			return fmt.Errorf("%w: it is %s", ErrPin, hex.EncodeToString(got[:]))
		}
		return nil
	}
	return cfg, nil
}

package reach

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"strings"
	"syscall"
	"time"
)

// Unreached is an error of the way to a server in words: what happened, and what to look at. It wraps the error.
// Another one, and one that has no words here, it returns as it is.
func Unreached(err error) error {
	var name *net.DNSError
	var op *net.OpError
	var plain tls.RecordHeaderError
	var alert tls.AlertError
	var cert *tls.CertificateVerificationError
	words := ""
	switch {
	case err == nil:
		return nil
	case errors.As(err, new(*unreachedError)):
		return err
	case errors.As(err, &cert):
		words = "its certificate is not trusted: " + Distrusted(cert)
	case errors.As(err, &name) && name.IsNotFound:
		words = fmt.Sprintf("this machine knows no host of the name %s; see whether it is spelled right, and whether "+
			"it can be looked up from here", name.Name)
	case errors.As(err, &name):
		words = fmt.Sprintf("the name %s could not be looked up: the name service does not answer", name.Name)
	case errors.Is(err, syscall.ECONNREFUSED), errors.As(err, &op) && op.Net == "unix" && errors.Is(err,
		fs.ErrNotExist):
		words = "nothing takes connections there" + at(err) + "; see whether the server is up, and where it listens"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		words = "there is no way from this machine to it" + at(err)
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		words = "the server broke the connection off"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		words = "the server ended the connection before it had answered"
	case errors.As(err, &plain), errors.Is(err, http.ErrSchemeMismatch):
		words = "what answers there speaks no TLS; see whether the port is that of https: or ldaps:"
	case errors.As(err, &alert):
		words = "the server refuses the TLS connection: " + alert.Error()
	case errors.As(err, &op) && op.Timeout():
		words = "no connection comes about" + at(err) + "; see whether this machine may reach it"
	default:
		return err
	}
	return &unreachedError{words, err}
}

// Distrusted says why a server's certificate is not trusted (RFC 5280, section 6; RFC 9110, section 4.3.4).
func Distrusted(err *tls.CertificateVerificationError) string {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err.Err, &unknown):
		return "it is from an authority that is not known here"
	case errors.As(err.Err, &name):
		return "it is not for the name " + name.Host
	case errors.As(err.Err, &invalid) && invalid.Reason == x509.Expired && invalid.Cert != nil:
		return fmt.Sprintf("it, or one above it, is good from %s to %s alone", day(invalid.Cert.NotBefore),
			day(invalid.Cert.NotAfter))
	}
	return strings.TrimPrefix(err.Err.Error(), "x509: ")
}

func day(t time.Time) string { return t.UTC().Format("2006-01-02") }

// at is the address of an error, in brackets; "" where it has none.
func at(err error) string {
	var op *net.OpError
	if errors.As(err, &op) && op.Addr != nil {
		return " (" + op.Addr.String() + ")"
	}
	return ""
}

type unreachedError struct {
	words string
	err   error
}

func (e *unreachedError) Error() string { return e.words }
func (e *unreachedError) Unwrap() error { return e.err }

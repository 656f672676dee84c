package reach

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"syscall"
)

// Unreached is an error of the way to a server in words: what happened, and what to look at. It wraps the error.
// Another one, and one that has no words here, it returns as it is.
func Unreached(err error) error {
	var name *net.DNSError
	var op *net.OpError
	var plain tls.RecordHeaderError
	var alert tls.AlertError
	words := ""
	switch {
	case err == nil:
		return nil
	case errors.As(err, new(*unreachedError)):
		return err
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

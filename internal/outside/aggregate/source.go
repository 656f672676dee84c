// Package aggregate works on metadata documents as files, without a ledger: it surveys, verifies, searches, splits and
// signs aggregates of any size, one entity at a time.
package aggregate

import (
	"bytes"
	"context"
	"crypto/x509"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/saml"
	"tressik.example/internal/outside/reach"
)

// Source is a metadata document that can be read more than once.
type Source struct {
	Name string // as a person called it
	Size int64  // bytes

	path     string // of a regular file
	modified time.Time
	open     func() (io.ReadCloser, error)
}

// File is a document in a file. Anything but a regular file, such as a pipe, can be read once only, and is kept aside.
func File(path string) (*Source, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, reach.FileError(path, err)
	}
	defer f.Close()
	fi, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if fi.IsDir() {
		return nil, fmt.Errorf("%s is a folder; give the file with the metadata", path)
	}
	if !fi.Mode().IsRegular() {
		return Spool(path, f)
	}
	return &Source{Name: path, Size: fi.Size(), path: path, modified: fi.ModTime(),
		open: func() (io.ReadCloser, error) { return os.Open(path) }}, nil
}

// Bytes is a document in memory.
func Bytes(name string, b []byte) *Source {
	return &Source{Name: name, Size: int64(len(b)),
		open: func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(b)), nil }}
}

// Spool keeps what can be read once only in a temporary file, which nobody else can open and which goes with the
// program.
func Spool(name string, r io.Reader) (*Source, error) {
	f, err := os.CreateTemp("", "tressik-*")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, err
	}
	n, err := io.Copy(f, r)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	return &Source{Name: name, Size: n,
		open: func() (io.ReadCloser, error) { return io.NopCloser(io.NewSectionReader(f, 0, n)), nil }}, nil
}

// Reading says how a document is read.
type Reading struct {
	SignedBy *x509.Certificate      // the signature must hold with its key; nil: signatures are not looked at
	Now      time.Time              // when entities are judged; zero: nothing has run out, and nothing is in doubt
	Progress func(read, size int64) // told as the reading goes on; may be nil
}

// Survey reads the whole document. Errors are those of saml.Surveying.Read and of opening; the survey is nil only with
// the latter.
func (s *Source) Survey(ctx context.Context, how Reading,
	each func(saml.Listed, *etree.Element) error) (*saml.Survey, error) {
	f, err := s.open()
	if err != nil {
		return nil, err
	}
	defer f.Close()
	o := saml.Surveying{Each: each, Now: how.Now}
	if how.SignedBy != nil {
		o.Key = how.SignedBy.PublicKey
	}
	return o.Read(ctx, &counted{f, 0, s.Size, how.Progress})
}

// counted tells how much has been read.
type counted struct {
	io.Reader
	n, size int64
	tell    func(read, size int64)
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	if c.tell != nil && n > 0 {
		c.tell(c.n, c.size)
	}
	return n, err
}

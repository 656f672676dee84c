// Package desk holds the use cases: one method for each thing an administrator does.
package desk

import (
	"io"
	"time"

	"tressik.example/internal/book"
	"tressik.example/internal/store"
)

// Desk does an administrator's work on a ledger.
type Desk struct {
	*book.Book
	Rand io.Reader
}

// New makes a desk on an open ledger.
func New(l *store.Ledger, now func() time.Time, rand io.Reader) *Desk {
	return &Desk{&book.Book{L: l, Now: now}, rand}
}

// What a desk shares with the readers of the ledger.
type (
	UnknownError = book.UnknownError
	ClientState  = book.ClientState
	Published    = book.Published
)

// Errors that callers test for.
var (
	ErrValue = book.ErrValue
	ErrEnded = book.ErrEnded
)

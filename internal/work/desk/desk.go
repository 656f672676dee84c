// Package desk holds the use cases: one method for each thing an administrator does.
package desk

import "tressik.example/internal/model"

// Desk does an administrator's work on what a Book says.
type Desk struct{ *model.Book }

// New makes a desk on a Book.
func New(b *model.Book) *Desk { return &Desk{b} }

// What a desk shares with the readers of the ledger.
type (
	UnknownError = model.UnknownError
	ClientState  = model.ClientState
	Published    = model.Published
)

// Errors that callers test for.
var (
	ErrValue = model.ErrValue
	ErrEnded = model.ErrEnded
)

// Package play puts what the ledger says on a stage: it rehearses trusts, holds a stage open and fetches tokens. It
// writes to the ledger only what was seen.
package play

import (
	"io"

	"tressik.example/internal/book"
)

// Player plays what a book says.
type Player struct {
	*book.Book
	Rand io.Reader // of keys, secrets and message IDs
}

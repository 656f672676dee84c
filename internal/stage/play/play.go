// Package play puts what the ledger says on a stage: it rehearses trusts, holds a stage open and fetches tokens. It
// writes to the ledger only what was seen.
package play

import (
	"tressik.example/internal/model"
)

// Player plays what a book says.
type Player struct {
	*model.Book
	// Keep has changes of what the book says kept: in the ledger, or nowhere where something is tried.
	Keep func(func(*model.Book) error) error
}

// On makes a player that keeps what it saw in the book itself, which must be open for changing.
func On(b *model.Book) *Player {
	return &Player{Book: b, Keep: func(f func(*model.Book) error) error { return f(b) }}
}

// keep tells changes.
func (d *Player) keep(f func(*model.Edit) error) error {
	return d.Keep(func(b *model.Book) error { return b.Change(f) })
}

// Package play puts what the ledger says on a stage: it rehearses trusts, holds a stage open and fetches tokens. It
// writes to the ledger only what was seen.
package play

import (
	"tressik.example/internal/model"

	"sync"
)

// Player plays what a book says.
type Player struct {
	*model.Book
	// Keep has changes of what the book says kept: in the ledger, or nowhere where something is tried.
	Keep func(func(*model.Book) error) error
	// Stock is where stand-ins get their keys that have none kept, and of which nothing is kept: one for all of them,
	// of each kind. It is for what is tried many times; nil makes a key for each.
	Stock *Stock
}

// Stock is keys of stand-ins, by kind, each made when it is first needed.
type Stock struct {
	mu   sync.Mutex
	made map[string]*once[model.Opened]
}

// of is the key of a kind.
func (s *Stock) of(kind string, make func() (model.Opened, error)) (model.Opened, error) {
	s.mu.Lock()
	if s.made == nil {
		s.made = map[string]*once[model.Opened]{}
	}
	o := s.made[kind]
	if o == nil {
		o = &once[model.Opened]{}
		s.made[kind] = o
	}
	s.mu.Unlock()
	return o.get(make)
}

// On makes a player that keeps what it saw in the book itself, which must be open for changing.
func On(b *model.Book) *Player {
	return &Player{Book: b, Keep: func(f func(*model.Book) error) error { return f(b) }}
}

// keep tells changes.
func (d *Player) keep(f func(*model.Edit) error) error {
	return d.Keep(func(b *model.Book) error { return b.Change(f) })
}

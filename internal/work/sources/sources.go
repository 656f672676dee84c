// Package sources reads people from where they live: files, and directory servers, which are asked again when what was
// read is no longer fresh. Nothing is ever written there.
package sources

import (
	"slices"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
)

// Reader works on the sources of a ledger.
type Reader struct {
	*model.Book
	Env func(string) string
}

// Fresh is for how long what was read of a directory is not read again, where its source says nothing else.
const Fresh = 5 * time.Minute

// Outcome is what came of reading a source.
type Outcome struct {
	Source  string `json:"source"`
	Read    int    `json:"read"`
	Added   int    `json:"added"`
	Changed int    `json:"changed"`
	Removed int    `json:"removed"`
	Skipped int    `json:"skipped"` // entries that are neither people nor groups
	// attributes that hold secrets
	LeftOut []string `json:"leftOut,omitempty"`
}

// Add keeps a source with the people that were read of it. Errors: model.ErrExists for somebody who came from
// elsewhere, federation.ErrName.
func (k *Reader) Add(s *people.Source, dir *people.Directory) (*Outcome, error) {
	if _, err := k.Source(s.Name); err != nil { // it is new, or nobody can tell
		if err := federation.CheckName(s.Name); err != nil {
			return nil, err
		}
	}
	return k.keep(s, dir, true)
}

// List is every source of the ledger.
func (k *Reader) List() ([]people.Source, error) { return k.View.Sources() }

// Source returns a source by its name. Errors: *model.UnknownError.
func (k *Reader) Source(name string) (*people.Source, error) {
	all, err := k.View.Sources()
	if err != nil {
		return nil, err
	}
	var names []string
	for i := range all {
		if all[i].Name == name {
			return &all[i], nil
		}
		names = append(names, all[i].Name)
	}
	return nil, &model.UnknownError{What: "source of people", Name: name, Near: names,
		Add: "see `tressik people source list`"}
}

// Renew keeps the people that were read again of a source. Those who are in it no longer go. Errors: model.ErrExists
// for somebody who came from elsewhere.
func (k *Reader) Renew(s *people.Source, dir *people.Directory) (*Outcome, error) {
	return k.keep(s, dir, false)
}

// Remove takes a source away, and the people who came from it.
func (k *Reader) Remove(name string) error {
	if _, err := k.Source(name); err != nil {
		return err
	}
	return k.Change(func(tx *model.Edit) error { return tx.RemoveSource(name) })
}

func (k *Reader) keep(s *people.Source, dir *people.Directory, added bool) (*Outcome, error) {
	o := &Outcome{Source: s.Name, Read: len(dir.Persons), Skipped: dir.Skipped, LeftOut: dir.LeftOut}
	return o, k.Change(func(tx *model.Edit) error {
		if added {
			if err := tx.PutSource(s); err != nil {
				return err
			}
		}
		var err error
		o.Added, o.Changed, o.Removed, err = tx.PutPersonsOf(s.Name, dir.Persons)
		return err
	})
}

// Stale lists the directories whose people were read too long ago.
func (k *Reader) Stale() ([]people.Source, error) {
	all, err := k.View.Sources()
	return slices.DeleteFunc(all, func(s people.Source) bool {
		fresh := Fresh
		if s.Cache > 0 {
			fresh = time.Duration(s.Cache) * time.Second
		}
		return !s.Directory() || k.Now().Sub(s.Read) < fresh
	}), err
}

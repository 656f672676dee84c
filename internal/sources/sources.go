// Package sources reads people from where they live: files, and directory servers, which are asked again when what was
// read is no longer fresh. Nothing is ever written there.
package sources

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"tressik.example/internal/book"
	"tressik.example/internal/core/people"
	"tressik.example/internal/reach"
	"tressik.example/internal/store"
)

// Keeper works on the sources of a ledger.
type Keeper struct {
	*book.Book
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
}

// Add keeps a source and reads it: one that cannot be read is not kept. Errors: people.ErrSource, those of Read.
func (k *Keeper) Add(ctx context.Context, s people.Source) (*Outcome, error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
	dir, err := k.fetch(ctx, &s)
	if err != nil {
		return nil, err
	}
	return k.keep(&s, dir, true)
}

// List is every source of the ledger.
func (k *Keeper) List() ([]people.Source, error) { return k.L.Sources() }

// Source returns a source by its name. Errors: *book.UnknownError.
func (k *Keeper) Source(name string) (*people.Source, error) {
	all, err := k.L.Sources()
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
	return nil, &book.UnknownError{What: "source of people", Name: name, Near: names,
		Add: "see `tressik people source list`"}
}

// Read reads a source again. People who are in it no longer go. Errors: *book.UnknownError, store.ErrExists for
// somebody who came from elsewhere, those of reading.
func (k *Keeper) Read(ctx context.Context, name string) (*Outcome, error) {
	s, err := k.Source(name)
	if err != nil {
		return nil, err
	}
	dir, err := k.fetch(ctx, s)
	if err != nil {
		return nil, err
	}
	return k.keep(s, dir, false)
}

// Remove takes a source away, and the people who came from it.
func (k *Keeper) Remove(name string) error {
	if _, err := k.Source(name); err != nil {
		return err
	}
	return k.L.Change(func(tx *store.Tx) error { return tx.RemoveSource(name) })
}

func (k *Keeper) keep(s *people.Source, dir *people.Directory, added bool) (*Outcome, error) {
	o := &Outcome{Source: s.Name, Read: len(dir.Persons), Skipped: dir.Skipped}
	return o, k.L.Change(func(tx *store.Tx) error {
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

// fetch reads the people of a source.
func (k *Keeper) fetch(ctx context.Context, s *people.Source) (*people.Directory, error) {
	if s.Directory() {
		l, err := k.server(s)
		if err != nil {
			return nil, err
		}
		return l.People(ctx)
	}
	raw, err := reach.Read(ctx, s.At, reach.Options{Max: 1 << 30})
	if err != nil {
		return nil, err
	}
	dir, err := people.Read(raw)
	if err != nil {
		return nil, fmt.Errorf("people from %s: %w", s.At, err)
	}
	return dir, nil
}

// server is the directory server of a source, with the password of its bind name.
func (k *Keeper) server(s *people.Source) (*reach.LDAP, error) {
	l := &reach.LDAP{Source: *s}
	switch where, what, _ := strings.Cut(s.Password, ":"); where {
	case "file":
		b, err := os.ReadFile(what)
		if err != nil {
			return nil, fmt.Errorf("the password of %s: %w", s.BindDN, err)
		}
		line, _, _ := strings.Cut(string(b), "\n")
		l.Password = strings.TrimSuffix(line, "\r")
	case "env":
		l.Password = k.Env(what)
	}
	if s.BindDN != "" && l.Password == "" {
		return nil, fmt.Errorf("the password of %s is empty; it comes from %s", s.BindDN, strings.Replace(s.Password, ":",
			" ", 1))
	}
	return l, nil
}

// Freshen reads the directories again whose people were read too long ago. What cannot be read stays as it was; the
// errors say why.
func (k *Keeper) Freshen(ctx context.Context) []error {
	all, err := k.L.Sources()
	if err != nil {
		return []error{err}
	}
	var out []error
	for i := range all {
		s := &all[i]
		fresh := Fresh
		if s.Cache > 0 {
			fresh = time.Duration(s.Cache) * time.Second
		}
		if !s.Directory() || k.Now().Sub(s.Read) < fresh {
			continue
		}
		if _, err := k.Read(ctx, s.Name); err != nil {
			out = append(out, fmt.Errorf("people of %s are those of %s: %w", s.Name,
				s.Read.UTC().Format("2006-01-02 15:04 UTC"), err))
		}
	}
	return out
}

// Passwords checks the passwords of people who came from directories, by binding there with them.
type Passwords struct{ Keeper *Keeper }

// Has reports whether somebody has a password.
func (p Passwords) Has(who *people.Person) bool {
	if who.Source == "" || who.DN == "" {
		return false
	}
	s, err := p.Keeper.Source(who.Source)
	return err != nil || s.Directory() // where the source cannot be found out nobody gets in without one
}

// Check reports whether a password is somebody's. Errors: people.ErrPassword where it is not, others where the
// directory cannot be asked.
func (p Passwords) Check(ctx context.Context, who *people.Person, password string) error {
	s, err := p.Keeper.Source(who.Source)
	if err != nil {
		return err
	}
	l := &reach.LDAP{Source: *s}
	if err = l.Check(ctx, who.DN, password); errors.Is(err, reach.ErrBind) {
		return people.ErrPassword
	}
	return err
}

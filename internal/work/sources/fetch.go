package sources

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"tressik.example/internal/core/people"
	"tressik.example/internal/outside/reach"
)

// Fetch reads the people of a source. Nothing is kept. Errors: people.ErrSource, those of reading.
func (k *Reader) Fetch(ctx context.Context, s *people.Source) (*people.Directory, error) {
	if err := s.Check(); err != nil {
		return nil, err
	}
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
	dir, err := people.ReadAs(raw, s.Columns)
	if err != nil {
		return nil, fmt.Errorf("people from %s: %w", s.At, err)
	}
	return dir, nil
}

// server is the directory server of a source, with the password of its bind name.
func (k *Reader) server(s *people.Source) (*reach.LDAP, error) {
	l := &reach.LDAP{Source: *s}
	switch where, what, _ := strings.Cut(s.Password, ":"); where {
	case "file":
		b, err := os.ReadFile(what)
		if err != nil {
			return nil, fmt.Errorf("the password of %s: %w", s.BindDN, reach.FileError(what, err))
		}
		line, _, _ := strings.Cut(string(b), "\n")
		l.Password = strings.TrimSuffix(line, "\r")
	case "env":
		l.Password = k.Env(what)
	}
	if s.BindDN != "" && l.Password == "" {
		return nil, fmt.Errorf("the password of %s is empty; it comes from %s", s.BindDN,
			strings.Replace(s.Password, ":", " ", 1))
	}
	return l, nil
}

// Passwords checks the passwords of people who came from directories, by binding there with them.
type Passwords struct{ Keeper *Reader }

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

// Package desk holds the use cases: one method for each thing an administrator does.
package desk

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/people"
	"tressik.example/internal/store"
)

// Desk does an administrator's work on a ledger.
type Desk struct {
	L    *store.Ledger
	Now  func() time.Time
	Rand io.Reader
}

// UnknownError is for a name that the ledger does not have, with the nearest ones it has.
type UnknownError struct {
	What, Name string
	Near       []string
	Add        string // how to add the first
}

func (e *UnknownError) Error() string {
	s := fmt.Sprintf("there is no %s %q", e.What, e.Name)
	switch {
	case len(e.Near) > 0:
		s += "; did you mean " + strings.Join(e.Near, " or ") + "?"
	case e.Add != "":
		s += "; " + e.Add
	}
	return s
}

// ErrValue is for a value that a command cannot take.
var ErrValue = errors.New("not usable")

// Party returns a party of a kind. Errors: *UnknownError.
func (d *Desk) Party(kind federation.Kind, name string) (*federation.Party, error) {
	p, err := d.L.Party(name)
	if err == nil && p.Kind == kind {
		return p, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	providers, apps, _, err := d.L.Names()
	if err != nil {
		return nil, err
	}
	list, other, word := providers, apps, "app"
	if kind == federation.App {
		list, other, word = apps, providers, "provider"
	}
	u := &UnknownError{What: string(kind), Name: name, Near: near.Names(name, list),
		Add: fmt.Sprintf("see `tressik %s list`", kind)}
	if len(list) == 0 {
		u.Add = fmt.Sprintf("add the first with `tressik %s add NAME --metadata SOURCE`", kind)
	}
	for _, o := range other {
		if o == name {
			return nil, fmt.Errorf("%s is the name of %s %s; %w", name, article(word), word, u)
		}
	}
	return nil, u
}

func article(word string) string {
	if strings.ContainsRune("aeiou", rune(word[0])) {
		return "an"
	}
	return "a"
}

// AnyParty returns a party of either kind. Errors: *UnknownError.
func (d *Desk) AnyParty(name string) (*federation.Party, error) {
	p, err := d.L.Party(name)
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	providers, apps, _, err := d.L.Names()
	if err != nil {
		return nil, err
	}
	return nil, &UnknownError{What: "provider or app", Name: name, Near: near.Names(name, append(providers, apps...)),
		Add: "see `tressik provider list` and `tressik app list`"}
}

// Trust returns a trust with both its parties. Errors: *UnknownError.
func (d *Desk) Trust(name string) (*federation.Trust, *federation.Party, *federation.Party, error) {
	t, err := d.L.Trust(name)
	if errors.Is(err, store.ErrNotFound) {
		_, _, trusts, err := d.L.Names()
		if err != nil {
			return nil, nil, nil, err
		}
		u := &UnknownError{What: "trust", Name: name, Near: near.Names(name, trusts), Add: "see `tressik trust list`"}
		for _, t := range trusts {
			if app, _, _ := strings.Cut(t, "@"); app == name {
				u.Near = append([]string{t}, u.Near...)
				break
			}
		}
		u.Near = unique(u.Near)
		if len(trusts) == 0 {
			u.Add = "make the first with `tressik federate APP --with PROVIDER`"
		}
		return nil, nil, nil, u
	}
	if err != nil {
		return nil, nil, nil, err
	}
	app, err := d.L.Party(t.App)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the app of %s: %w", name, err)
	}
	provider, err := d.L.Party(t.Provider)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the provider of %s: %w", name, err)
	}
	return t, app, provider, nil
}

func unique(list []string) []string {
	seen := map[string]bool{}
	var out []string
	for _, s := range list {
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	return out
}

// Person finds a person by ID or mail address. Errors: *UnknownError.
func (d *Desk) Person(name string) (*people.Person, error) {
	p, err := d.L.Person(name)
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	all, err := d.L.Persons()
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(all))
	for i := range all {
		ids[i] = all[i].ID
		for _, m := range all[i].Attributes["mail"] {
			if strings.EqualFold(m, name) {
				return &all[i], nil
			}
		}
	}
	u := &UnknownError{What: "person", Name: name, Near: near.Names(name, ids), Add: "see `tressik people list`"}
	if len(all) == 0 {
		u.Add = "load people first with `tressik people load FILE`"
	}
	return nil, u
}

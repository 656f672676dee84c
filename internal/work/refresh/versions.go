package refresh

import (
	"fmt"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/work/desk"
)

// NoVersionError means that a party has no version with a number.
type NoVersionError struct {
	Party        string
	Number, Last int
}

func (e *NoVersionError) Error() string {
	if e.Last == 0 { // it has none
		return e.Party + " has no versions: they are kept of foreign parties"
	}
	return fmt.Sprintf("%s has no version %d; it has 1 to %d: see `tressik metadata history %s`", e.Party, e.Number,
		e.Last,
		e.Party)
}

// Versions lists what a foreign party published, oldest first. Errors: *NoVersionError, *model.UnknownError.
func Versions(d *desk.Desk, name string) ([]federation.Version, error) {
	if _, err := d.AnyParty(name); err != nil {
		return nil, err
	}
	list, err := d.View.Versions(name)
	if err == nil && len(list) == 0 {
		err = &NoVersionError{Party: name}
	}
	return list, err
}

// Version returns a party as it was at a version, which counts from 1. Errors: *NoVersionError, *model.UnknownError.
func Version(d *desk.Desk, name string, number int) (*federation.Version, error) {
	list, err := Versions(d, name)
	if err != nil {
		return nil, err
	}
	if number < 1 || number > len(list) {
		return nil, &NoVersionError{name, number, len(list)}
	}
	return &list[number-1], nil
}

// Restore gives a foreign party back what it published at a version: its entity, its OpenID side and its metadata as
// received. What the ledger says of it besides stays, a side that came later too. It returns what is different now, and
// the trusts that are to be handed over and rehearsed again. Errors: those of Version and of desk.ChangeParty.
func Restore(d *desk.Desk, name string, number int) ([]federation.Difference, []string, error) {
	v, err := Version(d, name, number)
	if err != nil {
		return nil, nil, err
	}
	old, err := d.AnyParty(name)
	if err != nil {
		return nil, nil, err
	}
	then := v.Party // with the sides that came later
	if then.OpenID == nil {
		then.OpenID = old.OpenID
	}
	if then.Role() == nil {
		then.Entity = old.Entity
	}
	if len(federation.Differences(old, &then)) == 0 {
		return nil, nil, nil
	}
	raw, err := d.View.VersionRaw(name, number)
	if err != nil {
		return nil, nil, err
	}
	p, _, stale, err := d.ChangeParty(desk.PartyInput{Kind: old.Kind, Name: name, Received: desk.Received{Raw: raw},
		Version: v,
		Accept:  true})
	if err != nil {
		return nil, nil, fmt.Errorf("version %d of %s: %w", number, name, err)
	}
	return federation.Differences(old, p), stale, nil
}

// Restored is what is told of a party that is what it was at a version.
type Restored struct {
	Differences []federation.Difference `json:"differences"`
	Party       string                  `json:"party"`
	Trusts      []string                `json:"trusts"` // to be handed over and rehearsed again
	Version     int                     `json:"version"`
}

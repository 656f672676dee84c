package desk

import (
	"errors"
	"fmt"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
)

// Enter enters into a trust what a run of it saw; admission says that who signed in is to be admitted by name. Errors:
// *UnknownError, federation.ErrEnter, model.ErrEnded.
func (d *Desk) Enter(r *federation.Run, admission bool) (out *federation.Entered, err error) {
	old, app, provider, err := d.Trust(r.Trust)
	if err != nil {
		return nil, err
	}
	if old.Standing == federation.Ended {
		return nil, fmt.Errorf("%s %w", r.Trust, ErrEnded)
	}
	var who *people.Person
	if r.Person != "" {
		var unknown *UnknownError
		if who, err = d.Person(r.Person); err != nil && !errors.As(err, &unknown) {
			return nil, err
		}
	}
	if who == nil { // whom the other side calls by a mail address that is known here
		for _, m := range slices.Concat(r.Claims["mail"], r.Claims["email"]) {
			if who, err = d.Person(m); err != nil {
				who = nil
			}
		}
	}
	t := old.Clone()
	if out, err = t.Enter(r, who, admission, app, provider, d.Now()); err != nil {
		return nil, err
	}
	if err := d.Sides().TakeBack(old, t); err != nil {
		return nil, err
	}
	return out, d.Change(func(tx *model.Edit) error { return tx.PutTrust(old, t, "trust.enter") })
}

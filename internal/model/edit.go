package model

import (
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"time"

	"tressik.example/internal/core/finding"
)

// Edit is a change in the making. What it is told is kept as Changes, and its View shows the ledger as they make it. It
// is for one goroutine.
type Edit struct {
	View
	Env
	over    *overlay
	changes Changes
}

// NewEdit begins a change of what a View says.
func NewEdit(v View, env Env) *Edit {
	o := newOverlay(v.Reader)
	return &Edit{View: View{o}, Env: env, over: o}
}

// Changes returns what was told until now.
func (e *Edit) Changes() Changes { return e.changes }

// second is a time as the ledger keeps it: in UTC, to the second.
func second(t time.Time) time.Time {
	if t.IsZero() {
		return t
	}
	return t.UTC().Truncate(time.Second)
}

// put puts a record in place of what stands under its key, and does nothing where that is the same. The record is
// copied.
func (e *Edit) put(r Record) error { return e.putWith(r, nil) }

func (e *Edit) putWith(r Record, doc *Document) error {
	before, err := e.Get(r.Key())
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	if err != nil {
		before = nil
	}
	if doc == nil && same(before, r) {
		return nil
	}
	after, err := clone(r)
	if err != nil {
		return err
	}
	e.tell(Change{Key: r.Key(), Before: before, After: after, Document: doc})
	return nil
}

// known puts a record whose own it becomes in place of one that is known to stand there; nil is none.
func (e *Edit) known(before, r Record) {
	if !same(before, r) {
		e.tell(Change{Key: r.Key(), Before: before, After: r})
	}
}

// take takes a record away; it reports whether one was there.
func (e *Edit) take(k Key) (bool, error) {
	before, err := e.Get(k)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	e.tell(Change{Key: k, Before: before})
	return true, nil
}

// takeAll takes away the records that a query finds.
func (e *Edit) takeAll(q Query) (int, error) {
	var gone []Record
	for r, err := range e.Find(q) {
		if err != nil {
			return 0, err
		}
		gone = append(gone, r)
	}
	for _, r := range gone {
		e.tell(Change{Key: r.Key(), Before: r})
	}
	return len(gone), nil
}

func (e *Edit) tell(c Change) {
	e.over.lay(c)
	e.changes.Records = append(e.changes.Records, c)
}

// add takes over what another Edit on this one's View has gathered.
func (e *Edit) add(c Changes) {
	before := len(e.changes.Records)
	for _, x := range c.Records {
		e.tell(x)
	}
	for _, w := range c.Entries {
		w.Upto += before
		e.changes.Entries = append(e.changes.Entries, w)
		e.over.entries = append(e.over.entries, w.entry())
	}
	if c.Over.After(e.changes.Over) {
		e.changes.Over = c.Over
	}
}

// next is the number of the next record of a numbered kind.
func (e *Edit) next(k Kind) (int64, error) {
	n, err := e.Last(k)
	return n + 1, err
}

// note adds an entry to the journal. before and after are whole values; what is equal in both is left out.
func (e *Edit) note(action, party, trust string, before, after any) error {
	b, a, err := worded(before, after)
	if err != nil {
		return err
	}
	w := Words{Action: action, Party: party, Trust: trust, Before: b, After: a, Upto: len(e.changes.Records),
		at: e.Now().UTC(), actor: e.Actor}
	e.changes.Entries = append(e.changes.Entries, w)
	e.over.entries = append(e.over.entries, w.entry())
	return nil
}

// random returns so many random bytes in hex.
func (e *Edit) random(n int) (string, error) {
	b := make([]byte, n)
	if _, err := io.ReadFull(e.Rand, b); err != nil {
		return "", fmt.Errorf("reading randomness: %w", err)
	}
	return hex.EncodeToString(b), nil
}

// Found makes a ledger of an organisation. recipient is the public part of its ledger key.
func (e *Edit) Found(org, recipient string) error {
	if err := CheckLine(finding.FieldOrg, org); err != nil {
		return err
	}
	peopleKey, err := e.random(32)
	if err != nil {
		return err
	}
	for _, s := range []Setting{{SettingOrg, org}, {SettingSeal, recipient},
		{SettingMade, e.Now().UTC().Format(time.RFC3339)}, {SettingPeople, peopleKey}} {
		if err := e.put(&s); err != nil {
			return err
		}
	}
	return e.note("ledger.init", "", "", nil, map[string]string{"org": org})
}

// Restored notes that the ledger was made of a copy: when the copy was made, and where its journal ended.
func (e *Edit) Restored(made, journal string) error {
	now := e.Now().UTC().Format(time.RFC3339)
	if err := e.put(&Setting{SettingRestored, now + " " + made + " " + journal}); err != nil {
		return err
	}
	return e.note("ledger.restore", "", "", nil, map[string]string{"copyOf": made, "journal": journal})
}

// Granted notes what a role of the database may do from now on; "" is nothing.
func (e *Edit) Granted(action, role, may string) error {
	return e.note(action, "", "", nil, map[string]string{"role": role, "may": may})
}

// SetValue keeps a setting of the ledger itself. It is a reading, and has no entry.
func (e *Edit) SetValue(name, value string) error { return e.put(&Setting{name, value}) }

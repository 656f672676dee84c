// Package refresh reads again what foreign parties publish, says what is different, and takes what touches no trust.
package refresh

import (
	"errors"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

// The outcomes for a party.
const (
	Unchanged = federation.ReadUnchanged
	Taken     = federation.ReadTaken
	Waits     = federation.ReadWaits
	Failed    = federation.ReadFailed
	Left      = federation.ReadLeft
	ByHand    = "by hand" // its source is no address
)

// Result is what came of one party.
type Result struct {
	Party       string                  `json:"party"`
	Source      string                  `json:"source"`
	Outcome     string                  `json:"outcome"`
	Why         string                  `json:"why,omitempty"`
	Differences []federation.Difference `json:"differences"`
	Trusts      []string                `json:"trusts"` // to be handed over and rehearsed again
	Fix         finding.Remedy          `json:"fix,omitzero"`
}

// How says which parties are read again, and how.
type How struct {
	Kind    federation.Kind
	Names   []string // none for all
	Due     bool     // those alone whose time has come
	Accept  bool     // take what touches trust too
	Timeout time.Duration
}

// Take takes what the parties published where it touches no trust, or all of it with accept. Nothing of a party is
// changed by half: one whose answer cannot be taken stays as it was. Errors: those of the ledger.
func (a *Answers) Take(d *desk.Desk, accept bool) ([]Result, error) {
	out := []Result{}
	readings := map[string]federation.Reading{}
	for i := range a.list {
		r, err := take(d, &a.list[i], &a.got[i], accept)
		if err != nil {
			return nil, err
		}
		out = append(out, *r)
		if r.Outcome != ByHand {
			readings[r.Party] = reading(d.Now(), &a.list[i], r, &a.got[i])
		}
	}
	if len(readings) == 0 {
		return out, nil
	}
	return out, d.Change(func(tx *model.Edit) error { return tx.KeepReadings(readings) })
}

// reading is what is kept of how reading a party ended.
func reading(now time.Time, p *federation.Party, r *Result, f *fetched) federation.Reading {
	out := federation.Reading{Outcome: r.Outcome, Why: r.Why, At: now}
	var said []time.Duration
	if d, err := saml.Duration(p.Entity.CacheDuration); err == nil {
		said = append(said, d)
	}
	pinned := p.TLS.Pin != "" || p.OpenID != nil && p.OpenID.TLS.Pin != ""
	for _, a := range f.answers {
		said = append(said, a.MaxAge)
		if pinned && !a.ServerUntil.IsZero() && (out.Pinned.IsZero() || a.ServerUntil.Before(out.Pinned)) {
			out.Pinned = a.ServerUntil
		}
	}
	if out.Again = federation.Again(now, said, p.Entity.ValidUntil); r.Outcome == Failed { // and it is tried again soon
		out.Again = now.Add(time.Hour)
	}
	if r.Outcome != Taken && r.Outcome != Unchanged || f.as {
		return out // what waits is asked for in full next time
	}
	out.Sources = []federation.Fetched{}
	for _, a := range f.answers {
		if a.ETag != "" || a.Modified != "" {
			out.Sources = append(out.Sources, federation.Fetched{Source: a.Source, ETag: a.ETag, Modified: a.Modified})
		}
	}
	return out
}

// take compares what a party publishes now with what the ledger has, and takes it where that touches no trust.
func take(d *desk.Desk, p *federation.Party, f *fetched, accept bool) (*Result, error) {
	r := &Result{Party: p.Name, Source: p.Source, Differences: []federation.Difference{}, Trusts: []string{}}
	if r.Source == "" && p.OpenID != nil {
		r.Source = p.OpenID.Source
	}
	switch {
	case f.err != nil:
		r.Outcome, r.Why = Failed, f.err.Error()
		return r, nil
	case f.as:
		r.Outcome = Unchanged
		return r, nil
	case f.received.Raw == nil && f.missing == nil && f.openID == nil:
		r.Outcome = ByHand
		r.Fix = finding.Run(string(p.Kind), "change", p.Name, "--metadata", "SOURCE")
		return r, nil
	}
	if f.received.Raw != nil {
		was, err := d.View.Raw(p.Name)
		if err != nil {
			return nil, err
		}
		signers, err := desk.SignersOf(p)
		if err != nil {
			return nil, err
		}
		if f.openID == nil && f.received.Is(was, signers) {
			r.Outcome = Unchanged
			return r, back(d, r)
		}
	}
	in := desk.PartyInput{Kind: p.Kind, Name: p.Name, Received: f.received, Source: p.Source, TLS: p.TLS,
		OpenID: f.openID,
		Accept: accept}
	var now *federation.Party
	var stale []string
	err := f.missing
	if err == nil {
		err = d.Attempt(func() (err error) {
			now, _, stale, err = d.ChangeParty(in)
			return err
		})
	}
	var waits *desk.WaitsError
	switch {
	case errors.As(err, &waits):
		r.Outcome, r.Differences = Waits, waits.Differences
		r.Fix = federation.AcceptDifferences(p.Kind, p.Name)
	case err != nil && errors.Is(err, saml.ErrNoSuchEntity):
		r.Outcome, r.Why = Left, err.Error()
		r.Fix = finding.Do("ask its registry, and its owner on another way, why; until it is back nothing proves its " +
			"trusts")
		if err := d.Attempt(func() (err error) { r.Trusts, err = d.Left(p.Name, true); return err }); err != nil {
			return nil, err
		}
		return r, nil
	case err != nil:
		r.Outcome, r.Why = Failed, err.Error()
	default:
		r.Outcome, r.Trusts = Taken, append(r.Trusts, stale...)
		if r.Differences = federation.Differences(p, now); len(r.Differences) == 0 {
			r.Outcome, r.Differences = Unchanged, []federation.Difference{}
		}
		return r, back(d, r)
	}
	return r, nil
}

// back notes that a party is in its registry again, where it was not.
func back(d *desk.Desk, r *Result) error {
	return d.Attempt(func() error { _, err := d.Left(r.Party, false); return err })
}

// Package refresh reads again what foreign parties publish, says what is different, and takes what touches no trust.
package refresh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/desk"
	"tressik.example/internal/reach"
)

// The outcomes for a party.
const (
	Unchanged = federation.ReadUnchanged
	Taken     = federation.ReadTaken
	Waits     = federation.ReadWaits
	Failed    = federation.ReadFailed
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

// atOnce is how many parties are asked at one time.
const atOnce = 8

// fetched is what a party published when it was asked.
type fetched struct {
	raw    []byte
	openID *desk.OpenIDInput
	err    error
}

// Parties reads the parties of a kind again: those named, or all whose source is an address. Nothing of a party is
// changed by half. Errors: *book.UnknownError, those of the ledger.
func Parties(ctx context.Context, d *desk.Desk, kind federation.Kind, names []string, accept bool) ([]Result, error) {
	var list []federation.Party
	if len(names) == 0 {
		all, err := d.L.Parties(kind)
		if err != nil {
			return nil, err
		}
		for i := range all {
			if !all[i].Own {
				list = append(list, all[i])
			}
		}
	}
	for _, n := range names {
		p, err := d.Party(kind, n)
		if err != nil {
			return nil, err
		}
		if p.Own {
			return nil, fmt.Errorf("%s is Tressik's own: nothing is read of it", n)
		}
		list = append(list, *p)
	}
	got := make([]fetched, len(list))
	var g errgroup.Group
	g.SetLimit(atOnce)
	for i := range list {
		g.Go(func() error {
			got[i] = fetch(ctx, &list[i])
			return nil
		})
	}
	_ = g.Wait() // each error is that of its party
	out := []Result{}
	for i := range list {
		r, err := take(d, &list[i], &got[i], accept)
		if err != nil {
			return nil, err
		}
		out = append(out, *r)
	}
	if ctx.Err() != nil || len(out) == 0 {
		return out, ctx.Err()
	}
	readings := map[string]federation.Reading{}
	for _, r := range out {
		if r.Outcome != ByHand {
			readings[r.Party] = federation.Reading{Outcome: r.Outcome, Why: r.Why}
		}
	}
	return out, d.L.KeepReadings(readings)
}

// address reports whether a source can be asked.
func address(source string) bool {
	return strings.HasPrefix(source, "https://") || strings.HasPrefix(source, "http://")
}

func fetch(ctx context.Context, p *federation.Party) (f fetched) {
	if address(p.Source) && p.Role() != nil {
		f.raw, f.err = reach.Read(ctx, p.Source, reach.Options{CA: []byte(p.TLS.CA), Pin: p.TLS.Pin,
			Max: int64(xmlsec.MetadataLimits().Bytes)})
	}
	if o := p.OpenID; o != nil && address(o.Source) && f.err == nil {
		var got *reach.Published
		got, f.err = reach.OpenID(ctx, o.Discovery.Issuer, reach.Options{CA: []byte(o.TLS.CA), Pin: o.TLS.Pin})
		if f.err == nil {
			f.openID = &desk.OpenIDInput{Issuer: o.Discovery.Issuer, Discovery: got.Discovery, JWKS: got.JWKS,
				Source: got.Source,
				TLS:    o.TLS}
		}
	}
	return f
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
	case f.raw == nil && f.openID == nil:
		r.Outcome = ByHand
		r.Fix = finding.Run(string(p.Kind), "change", p.Name, "--metadata", "SOURCE")
		return r, nil
	}
	if f.raw != nil {
		was, err := d.L.Raw(p.Name)
		if err != nil {
			return nil, err
		}
		if bytes.Equal(was, f.raw) && f.openID == nil {
			r.Outcome = Unchanged
			return r, nil
		}
	}
	in := desk.PartyInput{Kind: p.Kind, Name: p.Name, Raw: f.raw, Source: p.Source, TLS: p.TLS, OpenID: f.openID,
		Accept: accept}
	now, _, stale, err := d.ChangeParty(in)
	var waits *desk.WaitsError
	switch {
	case errors.As(err, &waits):
		r.Outcome, r.Differences = Waits, waits.Differences
		r.Fix = federation.AcceptDifferences(p.Kind, p.Name)
	case err != nil:
		r.Outcome, r.Why = Failed, err.Error()
	default:
		r.Outcome, r.Trusts = Taken, append(r.Trusts, stale...)
		if r.Differences = federation.Differences(p, now); len(r.Differences) == 0 {
			r.Outcome, r.Differences = Unchanged, []federation.Difference{}
		}
	}
	return r, nil
}

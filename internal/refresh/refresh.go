// Package refresh reads again what foreign parties publish, says what is different, and takes what touches no trust.
package refresh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
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
const atOnce = 32

// How says which parties are read again, and how.
type How struct {
	Kind    federation.Kind
	Names   []string // none for all
	Due     bool     // those alone whose time has come
	Accept  bool     // take what touches trust too
	Timeout time.Duration
}

// fetched is what a party published when it was asked.
type fetched struct {
	raw     []byte
	openID  *desk.OpenIDInput
	as      bool // all is as it was, by what its servers say
	answers []*reach.Answer
	err     error
}

// Parties reads parties again: those named, or all whose source is an address. Servers that can say that nothing has
// changed are asked for no more. Nothing of a party is changed by half. Errors: *book.UnknownError, those of the
// ledger.
func Parties(ctx context.Context, d *desk.Desk, how How) ([]Result, error) {
	list, err := parties(d, how.Kind, how.Names)
	if err != nil {
		return nil, err
	}
	before, err := d.L.Readings()
	if err != nil {
		return nil, err
	}
	if how.Due {
		list = slices.DeleteFunc(list, func(p federation.Party) bool {
			asked := address(p.Source) || p.OpenID != nil && address(p.OpenID.Source)
			return !asked || d.Now().Before(before[p.Name].Again)
		})
	}
	got := make([]fetched, len(list))
	var g errgroup.Group
	g.SetLimit(atOnce)
	for i := range list {
		g.Go(func() error {
			got[i] = how.fetch(ctx, &list[i], before[list[i].Name])
			return nil
		})
	}
	_ = g.Wait() // each error is that of its party
	out := []Result{}
	readings := map[string]federation.Reading{}
	for i := range list {
		r, err := take(d, &list[i], &got[i], how.Accept)
		if err != nil {
			return nil, err
		}
		out = append(out, *r)
		if r.Outcome != ByHand {
			readings[r.Party] = reading(d.Now(), &list[i], r, &got[i])
		}
	}
	if ctx.Err() != nil || len(readings) == 0 {
		return out, ctx.Err()
	}
	return out, d.L.KeepReadings(readings)
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

// parties are the foreign ones that are named, or all of a kind.
func parties(d *desk.Desk, kind federation.Kind, names []string) ([]federation.Party, error) {
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
	return list, nil
}

// address reports whether a source can be asked.
func address(source string) bool {
	return strings.HasPrefix(source, "https://") || strings.HasPrefix(source, "http://")
}

// fetch asks the servers of a party.
func (how *How) fetch(ctx context.Context, p *federation.Party, before federation.Reading) (f fetched) {
	o := p.OpenID
	bySAML, byOpenID := address(p.Source) && p.Role() != nil, o != nil && address(o.Source)
	if bySAML {
		f.metadata(ctx, p.Source, how.options(p.TLS, before, p.Source))
	}
	if f.err != nil || !byOpenID {
		return f
	}
	if how.asItWas(ctx, o, before) {
		f.as = f.as || !bySAML
		return f
	}
	var got *reach.Published
	got, f.err = reach.OpenID(ctx, o.Discovery.Issuer, how.options(o.TLS, before, ""))
	if f.err == nil {
		f.as, f.answers = false, append(f.answers, got.Answers...)
		f.openID = &desk.OpenIDInput{Issuer: o.Discovery.Issuer, Discovery: got.Discovery, JWKS: got.JWKS,
			Source: got.Source, TLS: o.TLS}
	}
	return f
}

func (f *fetched) metadata(ctx context.Context, source string, o reach.Options) {
	var a *reach.Answer
	a, f.err = reach.Fetch(ctx, source, o)
	if errors.Is(f.err, reach.ErrNotModified) {
		f.as, f.err = true, nil
		return
	}
	if f.err == nil {
		f.raw, f.answers = a.Bytes, append(f.answers, a)
	}
}

// asItWas reports whether the servers of an OpenID side say that its document and its keys are as they were.
func (how *How) asItWas(ctx context.Context, o *federation.OpenID, before federation.Reading) bool {
	for _, at := range []string{o.Source, o.Discovery.JWKSURI} {
		opt := how.options(o.TLS, before, at)
		opt.Max = oidc.MaxDiscovery
		if opt.ETag == "" && opt.Modified == "" {
			return false
		}
		if _, err := reach.Fetch(ctx, at, opt); !errors.Is(err, reach.ErrNotModified) {
			return false
		}
	}
	return true
}

// options are how a source of a party is asked, with by what its server knows the state that is there already.
func (how *How) options(tls federation.Server, before federation.Reading, source string) reach.Options {
	o := reach.Options{CA: []byte(tls.CA), Pin: tls.Pin, Max: int64(xmlsec.MetadataLimits().Bytes), Timeout: how.Timeout}
	for _, f := range before.Sources {
		if f.Source == source {
			o.ETag, o.Modified = f.ETag, f.Modified
		}
	}
	return o
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

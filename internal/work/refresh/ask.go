package refresh

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/desk"
)

// atOnce is how many parties are asked at one time.
const atOnce = 32

// fetched is what a party published when it was asked.
type fetched struct {
	received desk.Received
	missing  error // why the entity is not in what its source published
	openID   *desk.OpenIDInput
	as       bool // all is as it was, by what its servers say
	answers  []*reach.Answer
	err      error
}

// Answers are what parties published when they were asked.
type Answers struct {
	list []federation.Party
	got  []fetched
}

// Ask reads parties again: those named, or all whose source is an address. Servers that can say that nothing has
// changed are asked for no more. Nothing is changed. Errors: *model.UnknownError, those of the ledger.
func Ask(ctx context.Context, d *desk.Desk, how How) (*Answers, error) {
	list, err := parties(d, how.Kind, how.Names)
	if err != nil {
		return nil, err
	}
	before, err := d.View.Readings()
	if err != nil {
		return nil, err
	}
	if how.Due {
		list = slices.DeleteFunc(list, func(p federation.Party) bool {
			asked := address(p.Source) || p.OpenID != nil && address(p.OpenID.Source)
			return !asked || d.Now().Before(before[p.Name].Again)
		})
	}
	a := &Answers{list, make([]fetched, len(list))}
	var g errgroup.Group
	g.SetLimit(atOnce)
	for from, of := range a.sources() {
		g.Go(func() error {
			a.metadata(ctx, &how, from, of, before)
			return nil
		})
	}
	_ = g.Wait() // each error is that of its party
	for i := range list {
		g.Go(func() error {
			how.openID(ctx, &list[i], before[list[i].Name], &a.got[i])
			return nil
		})
	}
	_ = g.Wait()
	return a, ctx.Err()
}

// source is where the metadata of parties is read, and how its server is known.
type source struct {
	at  string
	tls federation.Server
}

// sources are the parties by where their metadata is read: an aggregate is fetched once for all of them.
func (a *Answers) sources() map[source][]int {
	out := map[source][]int{}
	for i := range a.list {
		if p := &a.list[i]; address(p.Source) && p.Role() != nil {
			from := source{p.Source, p.TLS}
			out[from] = append(out[from], i)
		}
	}
	return out
}

// metadata reads a source for all parties that come from it, in one pass.
func (a *Answers) metadata(ctx context.Context, how *How, from source, of []int,
	before map[string]federation.Reading) {
	o := how.options(from.tls, before[a.list[of[0]].Name], from.at)
	var want []string
	var signers []*x509.Certificate
	all := func(f func(*fetched)) {
		for _, i := range of {
			f(&a.got[i])
		}
	}
	for _, i := range of {
		p := &a.list[i]
		if x := how.options(from.tls, before[p.Name], from.at); x.ETag != o.ETag || x.Modified != o.Modified {
			o.ETag, o.Modified = "", "" // some are to be read in full
		}
		want = append(want, p.Entity.ID)
		known, err := desk.SignersOf(p)
		if err != nil {
			a.got[i].err = err
		}
		for _, c := range known {
			if !slices.ContainsFunc(signers, c.Equal) {
				signers = append(signers, c)
			}
		}
	}
	o.Max = reach.MaxAggregate
	in, err := reach.Open(ctx, from.at, o)
	if errors.Is(err, reach.ErrNotModified) {
		all(func(f *fetched) { f.as = f.err == nil })
		return
	}
	var doc *desk.Document
	if err == nil {
		defer in.Close()
		if doc, err = desk.ReadDocument(ctx, in, want, signers); err != nil {
			err = fmt.Errorf("metadata from %s: %w", from.at, err)
		}
	}
	for _, i := range of {
		f := &a.got[i]
		if f.err != nil {
			continue
		}
		if f.err = err; err != nil {
			continue
		}
		f.answers = append(f.answers, in.Answer)
		if f.received, f.missing = doc.Of(a.list[i].Entity.ID); f.missing != nil {
			f.missing = fmt.Errorf("metadata from %s: %w", from.at, f.missing)
		}
	}
}

// parties are the foreign ones that are named, or all of a kind.
func parties(d *desk.Desk, kind federation.Kind, names []string) ([]federation.Party, error) {
	var list []federation.Party
	if len(names) == 0 {
		all, err := d.View.Parties(kind)
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

// openID asks the servers of the OpenID side of a party, where it has one.
func (how *How) openID(ctx context.Context, p *federation.Party, before federation.Reading, f *fetched) {
	o := p.OpenID
	if f.err != nil || o == nil || !address(o.Source) {
		return
	}
	if how.asItWas(ctx, o, before) {
		f.as = f.as || !(address(p.Source) && p.Role() != nil)
		return
	}
	var got *reach.Published
	got, f.err = reach.OpenID(ctx, o.Discovery.Issuer, how.options(o.TLS, before, ""))
	if f.err == nil {
		f.as, f.answers = false, append(f.answers, got.Answers...)
		f.openID = &desk.OpenIDInput{Issuer: o.Discovery.Issuer, Discovery: got.Discovery, JWKS: got.JWKS,
			Source: got.Source, TLS: o.TLS}
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
	o := reach.Options{CA: []byte(tls.CA), Pin: tls.Pin, Max: int64(xmlsec.MetadataLimits().Bytes),
		Timeout: how.Timeout}
	for _, f := range before.Sources {
		if f.Source == source {
			o.ETag, o.Modified = f.ETag, f.Modified
		}
	}
	return o
}

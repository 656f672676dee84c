package refresh

import (
	"context"
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
	raw     []byte
	openID  *desk.OpenIDInput
	as      bool // all is as it was, by what its servers say
	answers []*reach.Answer
	err     error
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
	return &Answers{list, got}, ctx.Err()
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
	o := reach.Options{CA: []byte(tls.CA), Pin: tls.Pin, Max: int64(xmlsec.MetadataLimits().Bytes),
		Timeout: how.Timeout}
	for _, f := range before.Sources {
		if f.Source == source {
			o.ETag, o.Modified = f.ETag, f.Modified
		}
	}
	return o
}

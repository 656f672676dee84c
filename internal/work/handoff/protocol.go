package handoff

import (
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
)

// View is a trust with all that its sides say, as the ledger has it.
type View struct {
	Trust         *federation.Trust
	App, Provider *federation.Party
	model.ClientState
	Crowd    *federation.Crowd // all people of the ledger
	Now      time.Time
	Staged   bool // the parties are as a stage plays them
	Metadata func(p *federation.Party) ([]byte, error)
	// Releaser works out what the trust sends for people, the first time that it is asked for.
	Releaser func() (*federation.Releaser, error)
}

// Protocol is what differs between trusts over one protocol and over another. Each implementation lies in a file of its
// own.
type Protocol interface {
	// Compare puts both sides beside each other before anyone signs in.
	Compare(v *View) finding.List
	// Sheet fills in what the side that the handoff is for must be given.
	Sheet(v *View, h *Handoff) error
	// Letter adds to a letter what the metadata of the protocol does not say. party is the one that it describes.
	Letter(v *View, l *Letter, party *federation.Party) error
	// Recipe lists what the app checks of a sign-in, in the order in which it checks it.
	Recipe(v *View) ([]Verify, error)
	// Open lists what is done and what is left to do of the protocol's own work.
	Open(v *View, found finding.List) []Todo
	// Thrift says how the trust could do with fewer permissions.
	Thrift(v *View) finding.List
	// Made says in words that the trust is made.
	Made(v *View) string
}

// Of is the protocol of a trust: the one place where it is chosen.
func Of(t *federation.Trust) Protocol {
	switch terms := t.Terms.Terms.(type) {
	case *federation.OIDCTerms:
		return overOIDC{terms}
	case *federation.SAMLTerms:
		return overSAML{terms}
	}
	return overNothing{}
}

func (d *Maker) view(t *federation.Trust, app, provider *federation.Party) (*View, error) {
	s, err := d.Clients(t)
	if err != nil {
		return nil, err
	}
	crowd, err := d.View.Crowd()
	if err != nil {
		return nil, err
	}
	return d.ViewOf(t, app, provider, s, crowd, func() (*federation.Releaser, error) {
		return d.Book.Releaser(t, d.Rand)
	}), nil
}

// ViewOf is a trust with what was read of it and of everybody before, for whoever judges many. rel makes its releaser,
// and is asked once at most.
func (d *Maker) ViewOf(t *federation.Trust, app, provider *federation.Party, s model.ClientState,
	crowd *federation.Crowd, rel func() (*federation.Releaser, error)) *View {
	return &View{Trust: t, App: t.AppOf(app), Provider: provider, ClientState: s, Crowd: crowd, Now: d.Now(),
		Metadata: func(p *federation.Party) ([]byte, error) { return d.Metadata(p, Writing{}) },
		Releaser: sync.OnceValues(rel)}
}

// overNothing is a trust over a protocol that this version does not know.
type overNothing struct{}

func (overNothing) Compare(v *View) finding.List {
	return finding.List{{ID: finding.TrustProtocol, Level: finding.Error, Check: "protocol", Saw: v.Trust.Over(),
		Expected: "a protocol that is known",
		Side:     finding.Ledger, Fix: finding.Do("use a newer version")}}
}
func (overNothing) Thrift(*View) finding.List                      { return nil }
func (overNothing) Sheet(*View, *Handoff) error                    { return federation.ErrTerms }
func (overNothing) Letter(*View, *Letter, *federation.Party) error { return federation.ErrTerms }
func (overNothing) Open(*View, finding.List) []Todo                { return nil }
func (overNothing) Made(*View) string                              { return "the trust is made" }

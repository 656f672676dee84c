package play

import (
	"crypto/tls"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/server"
)

// Follow is one trust that is watched on a stage.
type Follow struct {
	Trust  string
	Secret string // of the played client, to try the real one at the real provider
	// keys of the played client at the real provider, in place of a secret; nil: none
	Holder *cast.Holder
	CA     []byte   // authorities of the real party's server, PEM
	Real   []string // foreign parties that are not played while it is watched
}

// Following is how a watched trust is played.
type Following struct {
	Trust    string   `json:"trust"`
	Link     string   `json:"link"`     // starts the sign-in; "" where only the app knows it
	Real     []string `json:"real"`     // parties that are not played
	Played   []string `json:"played"`   // parties that are
	StandIns []string `json:"standIns"` // played ones that are foreign
	Silent   bool     `json:"silent"`   // whether the app took the sign-in is not seen here
	// addresses here that the real party must know, and the ledger does not have
	AtReal []string `json:"register,omitempty"`
	// facts that such a sign-in can show: those of real parties, and of played ones what is here as the ledger has it
	Shows []finding.FactID `json:"shows"`
	// by party, where it is spoken to: its endpoint for sign-ins, or that of the app for answers
	Addresses map[string]string `json:"addresses,omitempty"`
	// trusts through which people come in at the provider, each played as it is: a sign-in may pass through one of them
	Upstream []Following `json:"upstream,omitempty"`
}

// All are the parties that are real, those upstream as well.
func (f *Following) All() []string {
	out := slices.Clone(f.Real)
	for i := range f.Upstream {
		for _, n := range f.Upstream[i].All() {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	return out
}

// Through returns how a trust upstream is played, nil where the sign-in cannot pass through it.
func (f *Following) Through(trust string) *Following {
	for i := range f.Upstream {
		if f.Upstream[i].Trust == trust {
			return &f.Upstream[i]
		}
	}
	return nil
}

// ErrBothForeign means that nothing of a trust can be played here: both its parties are foreign and elsewhere.
var ErrBothForeign = errors.New("passes between two foreign parties")

// ErrWatched means that a trust is watched already.
var ErrWatched = errors.New("is being watched already")

// follows are the trusts that are watched, each with who hears of it.
type follows struct {
	mu   sync.Mutex
	next int
	all  map[int]*followed
}

type followed struct {
	Follow
	real map[string]bool
	via  []string // trusts upstream, through which the sign-in may pass
	hear func(server.Event)
}

// hears reports whether an event of a trust is of what is watched.
func (x *followed) hears(trust string) bool { return x.Trust == trust || slices.Contains(x.via, trust) }

func (f *follows) has(trust string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, x := range f.all {
		if x.Trust == trust {
			return true
		}
	}
	return false
}

// hears reports whether somebody watches a trust, or one that lies upstream of it.
func (f *follows) hears(trust string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, x := range f.all {
		if x.hears(trust) {
			return true
		}
	}
	return false
}

// cast says for a cast of the ledger which parties are not played, and with which secrets clients authenticate.
func (f *follows) cast(led *cast.Ledger) (real map[string]bool, suppose map[string]cast.Suppose) {
	f.mu.Lock()
	defer f.mu.Unlock()
	real, suppose = map[string]bool{}, map[string]cast.Suppose{}
	for _, x := range f.all {
		for n := range x.real {
			real[n] = true
		}
		if x.Secret != "" || x.Holder != nil {
			suppose[x.Trust] = cast.Suppose{Secret: x.Secret, Holder: x.Holder}
		}
	}
	return real, suppose
}

// heard tells whoever watches of each event, after whoever listens to the whole stage.
func (k *Keeper) heard(also func(server.Event)) func(server.Event) {
	return func(e server.Event) {
		if also != nil {
			also(e)
		}
		k.follows.mu.Lock()
		var hear []func(server.Event)
		for _, x := range k.follows.all {
			if x.hears(e.Trust) {
				hear = append(hear, x.hear)
			}
		}
		k.follows.mu.Unlock()
		for _, h := range hear {
			h(e)
		}
	}
}

// outside is the way to a real party: checked TLS by the authorities that the ledger has of it, and those that were
// given.
func (k *Keeper) outside(p *federation.Party, with *tls.Certificate) (http.RoundTripper, error) {
	ca := slices.Clone(k.in.CA)
	k.follows.mu.Lock()
	for _, x := range k.follows.all {
		ca = append(ca, x.CA...)
	}
	k.follows.mu.Unlock()
	return OutsideOf(p, ca, with)
}

// OutsideOf is the way to a real party's servers. ca are authorities beside those that the ledger has of it; with is
// the certificate with which it is gone, nil: none.
func OutsideOf(p *federation.Party, ca []byte, with *tls.Certificate) (http.RoundTripper, error) {
	o := ReachOf(p, ca)
	o.Certificate = with
	c, err := reach.Client(o)
	if err != nil {
		return nil, err
	}
	return c.Transport, nil
}

// ReachOf is how the servers of a party are known.
func ReachOf(p *federation.Party, ca []byte) reach.Options {
	o := reach.Options{CA: slices.Clone(ca), Of: p.Source}
	known := []federation.Server{p.TLS}
	if p.OpenID != nil {
		known, o.Of = append(known, p.OpenID.TLS), p.OpenID.Source
	}
	for _, s := range known {
		if s.CA != "" && !strings.Contains(string(o.CA), s.CA) {
			o.CA = append(append(o.CA, '\n'), s.CA...)
		}
		if s.Pin != "" {
			o.Pin = s.Pin
		}
	}
	return o
}

// Follow has a trust be watched: its foreign side is the real one from now on, as far as that can be reached from this
// stage, and hear gets each event of it. end takes that back; it waits for no event. Errors: *model.UnknownError,
// ErrBothForeign, ErrWatched, model.ErrEnded.
func (k *Keeper) Follow(f Follow, hear func(server.Event)) (how *Following, end func(), err error) {
	t, app, provider, err := k.d.Trust(f.Trust)
	if err != nil {
		return nil, nil, err
	}
	if t.Standing == federation.Ended {
		return nil, nil, fmt.Errorf("%s %w", f.Trust, model.ErrEnded)
	}
	if err := t.Registered(); err != nil {
		return nil, nil, err
	}
	if k.follows.has(f.Trust) { // two sign-ins could not be told apart, and each would be kept as the other's
		return nil, nil, fmt.Errorf("%s %w on this stage; end that watch first", f.Trust, ErrWatched)
	}
	x := &followed{Follow: f, real: map[string]bool{}, hear: hear}
	switch {
	case !provider.Own:
		x.real[provider.Name] = true
	case !app.Own && loopbackApp(app, k.in.Base):
		x.real[app.Name] = true
	}
	for _, n := range f.Real {
		if err := k.d.mayBeReal(n); err != nil {
			return nil, nil, err
		}
		x.real[n] = true
	}
	if x.via, err = k.upstream(provider); err != nil {
		return nil, nil, err
	}
	k.follows.mu.Lock()
	if k.follows.all == nil {
		k.follows.all = map[int]*followed{}
	}
	k.follows.next++
	id := k.follows.next
	k.follows.all[id] = x
	k.follows.mu.Unlock()
	end = func() {
		k.follows.mu.Lock()
		delete(k.follows.all, id)
		k.follows.mu.Unlock()
		_ = k.again(true) // the ledger may be gone; then the stage goes on as it is
	}
	if err := k.again(true); err != nil {
		end()
		return nil, nil, err
	}
	how, err = k.following(x)
	if err != nil {
		end()
		return nil, nil, err
	}
	return how, end, nil
}

// loopbackApp reports whether an app runs on this machine, and not on the stage at base.
func loopbackApp(app *federation.Party, base string) bool {
	var at []string
	if r := app.Entity.SP; r != nil {
		for _, e := range r.ACS {
			at = append(at, e.Location)
		}
	}
	if app.Client != nil {
		at = append(at, app.Client.Redirects...)
	}
	return slices.ContainsFunc(at, func(s string) bool {
		u, err := url.Parse(s)
		return err == nil && judge.IsLoopback(u.Hostname()) && !strings.HasPrefix(s, base+"/")
	})
}

// following says how a watched trust is played now.
func (k *Keeper) following(x *followed) (*Following, error) {
	deal, link, at := k.s.Cast().Playing(x.Trust)
	if deal == nil {
		return nil, fmt.Errorf("%s is not played on this stage", x.Trust)
	}
	how := &Following{Trust: x.Trust, Link: link, Real: []string{}, Played: []string{}, StandIns: []string{}}
	for _, pl := range []*cast.Player{deal.Provider, deal.App} {
		switch {
		case pl.Real || x.real[pl.Name()]:
			how.Real = append(how.Real, pl.Name())
		default:
			how.Played = append(how.Played, pl.Name())
			if !pl.Party.Own {
				how.StandIns = append(how.StandIns, pl.Name())
			}
		}
	}
	if !deal.Provider.Party.Own && len(how.Real) == 2 {
		return nil, fmt.Errorf("%s %w: %s and %s. Record the sign-in in the browser, and read that", x.Trust,
			ErrBothForeign,
			deal.App.Name(), deal.Provider.Name())
	}
	how.Addresses = map[string]string{deal.App.Name(): at, deal.Provider.Name(): k.s.Cast().AskedAt(x.Trust)}
	how.Silent = deal.App.Real && k.s.Cast().FindSAML(x.Trust) != nil
	t, app, provider, err := k.d.Trust(x.Trust)
	if err != nil {
		return nil, err
	}
	if deal.Provider.Real && at != "" && !app.HasAddress(at) {
		how.AtReal = append(how.AtReal, at)
	}
	how.Shows = shows(how, deal, federation.FactsOf(t, app, provider), t)
	for _, n := range x.via {
		up, err := k.following(&followed{Follow: Follow{Trust: n}, real: x.real})
		if err != nil {
			return nil, err
		}
		how.Upstream = append(how.Upstream, *up)
	}
	return how, nil
}

// upstream lists the trusts through which people come in at a provider, as they are played.
func (k *Keeper) upstream(provider *federation.Party) (out []string, err error) {
	if !provider.Own {
		return nil, nil
	}
	trusts, err := k.d.TrustsOf(provider.Name)
	if err != nil {
		return nil, err
	}
	for _, t := range trusts {
		if deal, _, _ := k.s.Cast().Playing(t.Name); t.App == provider.Name && deal != nil {
			out = append(out, t.Name)
		}
	}
	return out, nil
}

// shows are the facts that a sign-in on this stage can show as the ledger has them. A played party has other addresses
// here, and other keys unless it was said that the real ones sign; those show nothing of the ledger's.
func shows(how *Following, deal *cast.Deal, facts []federation.Fact, t *federation.Trust) []finding.FactID {
	app, provider := deal.App.Party, deal.Provider.Party
	if deal.App.Client != nil {
		app.Client = deal.App.Client
	}
	here := map[finding.FactID]string{}
	for _, f := range federation.FactsOf(t, &app, &provider) {
		here[f.Name] = f.Value
	}
	out := []finding.FactID{}
	for _, f := range facts {
		of := deal.Provider
		if f.OfSide == "app" {
			of = deal.App
		}
		keys := f.Name == finding.FactKeys || f.Name == finding.FactAppKeys || f.Name == finding.FactEncryption
		switch {
		case f.Name == finding.FactStart && (f.Value != how.Link || !of.Real), f.Name == finding.FactSignOut:
			// nobody took that link, and nobody signs out before a sign-in is over
		case f.OfSide == "both", of.Real:
			out = append(out, f.Name)
		case keys:
			if !of.StandIn {
				out = append(out, f.Name)
			}
		case f.Name == finding.FactRedirect:
			if of.Here != "" && len(how.AtReal) == 0 {
				out = append(out, f.Name)
			}
		case here[f.Name] == f.Value:
			out = append(out, f.Name)
		}
	}
	return out
}

// Arrived judges what an app learned of somebody who signed in: against what the trust promises of the person, where it
// is known who that is, else against what the app asks for; and for which of the app's accounts it would take them.
// expected is the account that it has to be, or "".
func (d *Player) Arrived(trust string, got federation.Learned, person *people.Person, expected string) (account string,
	out finding.List, err error) {
	t, app, provider, err := d.Trust(trust)
	if err != nil {
		return "", nil, err
	}
	if person != nil && provider.Own {
		rel, err := d.Releaser(t, d.Rand)
		if err != nil {
			return "", nil, err
		}
		rel = rel.Serving(app, got.Service)
		out = federation.Promised(t, rel, person, t.Terms.Promised(rel, person), got)
	} else {
		out = federation.Wanting(t, app, got)
	}
	accounts, err := d.accountsOf([]string{trust})
	if err != nil {
		return "", nil, err
	}
	account, l := federation.JudgeAccount(t, app, accounts[app.Name], got, expected)
	return account, append(out, l...), nil
}

package play

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
)

// StageInput says how a stage is opened.
type StageInput struct {
	Context  context.Context // of the stage's own work with the ledger; it outlives what asked for the stage
	Ledger   ledger.Ledger   // what the stage follows
	Base     string          // address under which all parties are played, each below its name
	RealKeys bool            // own parties sign with their own keys
	Real     []string        // foreign parties that are not played: they are reached where they are
	CA       []byte          // authorities of real parties' servers, PEM, beside those kept in the ledger
	Options  stage.Options
	// Secret is what is known of the secret of a trust's client at a real provider, "" where nothing is; nil knows none
	Secret func(trust string) string
}

// Keeper ties a running stage to the ledger: it swaps the cast when the ledger changes, and writes what the stage saw.
// It is one goroutine; requests only leave things with it and never wait for the ledger.
type Keeper struct {
	d       *Player
	s       *stage.Stage
	l       ledger.Ledger
	w       ledger.Watch
	ring    *ring
	engine  *claims.Engine
	in      StageInput
	secrets map[string]string
	holders func(trust string) *cast.Holder
	last    int64
	away    bool            // the ledger could not be read when it was last looked at
	ctx     context.Context // of the stage
	wake    chan struct{}   // something waits that must not be lost
	done    chan struct{}
	ended   chan struct{}

	mu   sync.Mutex
	left left

	swap    sync.Mutex // taken while the cast is made and swapped
	held    held
	stale   bool // what is held could not be played
	follows follows
}

// left is what was left for the ledger and is not written yet.
type left struct {
	uses     map[federation.Use]*federation.Use
	secrets  map[string]time.Time
	consents []federation.Consent
	keys     []stageKey
	state    []oauth.Kept
}

func (l *left) empty() bool {
	return len(l.uses)+len(l.secrets)+len(l.consents)+len(l.keys)+len(l.state) == 0
}

// often is how often a keeper looks at the ledger: a change holds within a second.
const often = 200 * time.Millisecond

// Stage opens a stage of all trusts that have not ended. Close the keeper afterwards: it writes what is left. Errors:
// *server.ErrClash, model.ErrSealKey.
func (d *Player) Stage(in StageInput) (*stage.Stage, *Keeper, error) {
	for _, n := range in.Real {
		if err := d.mayBeReal(n); err != nil {
			return nil, nil, err
		}
	}
	k := &Keeper{d: d, l: in.Ledger, ctx: in.Context, in: in, secrets: map[string]string{},
		holders: cast.Holders(d.Rand, d.Now),
		wake: make(chan struct{},
			1), done: make(chan struct{}),
		ended: make(chan struct{})}
	k.left = newLeft()
	k.ring = d.newRing(func(x stageKey) { k.leave(func(l *left) { l.keys = append(l.keys, x) }) })
	var err error
	if k.engine, err = d.Engine(); err != nil {
		return nil, nil, err
	}
	if k.w, err = in.Ledger.Watch(in.Context); err != nil {
		return nil, nil, err
	}
	if err := k.open(); err != nil {
		return nil, nil, errors.Join(err, k.w.Close())
	}
	// Its keys are in the ledger before anybody is answered, so that what it signs is known as a stage's from the first
	// message on. What cannot be written now is tried again.
	_ = k.write()
	go k.run()
	return k.s, k, nil
}

// mayBeReal refuses that a party is not played which is nobody else's.
func (d *Player) mayBeReal(name string) error {
	p, err := d.AnyParty(name)
	if err == nil && p.Own {
		err = fmt.Errorf("%s is Tressik's own, and played here; only a foreign party can be the real one", name)
	}
	return err
}

// refreshKey opens the key with which the refresh tokens of stages are made, and makes one where there is none.
func (k *Keeper) refreshKey() ([]byte, error) {
	key, err := k.d.RefreshKey(k.d.Vault)
	if !errors.Is(err, model.ErrNotFound) {
		return key, err
	}
	key = make([]byte, 32)
	if err := k.d.random(key); err != nil {
		return nil, err
	}
	return key, k.d.keep(func(tx *model.Edit) error { return tx.AddRefreshKey(key) })
}

func newLeft() left {
	return left{uses: map[federation.Use]*federation.Use{}, secrets: map[string]time.Time{}}
}

func (k *Keeper) open() (err error) {
	o := k.in.Options
	o.Now, o.Rand = k.d.Now, k.d.Rand
	o.Watch, o.Follows, o.Outside = k.heard(o.Watch), k.follows.hears, k.outside
	state := oauth.NewMemory(k.d.Now, func(x oauth.Kept) { k.leave(func(l *left) { l.state = append(l.state, x) }) })
	kept, err := k.d.StageState(k.d.Now())
	if err != nil {
		return err
	}
	state.Restore(kept)
	if o.Key, err = k.refreshKey(); err != nil && !errors.Is(err, ledger.ErrReadOnly) {
		return err
	}
	o.State = state
	o.Notes = op.Notes{Keys: clientKeysAt, Consents: k.consents, Issued: k.issued,
		Secret: func(id string, at time.Time) { k.leave(func(l *left) { l.secrets[id] = at }) }}
	o.Presented, o.Arrive = k.presented, k.arrive
	if k.s, err = stage.New(o); err != nil {
		return err
	}
	if k.last, err = k.w.Version(k.ctx); err != nil {
		return err
	}
	if err := k.l.View(k.ctx, k.held.read); err != nil {
		return err
	}
	c, err := k.cast()
	if err != nil {
		return err
	}
	if len(c.Players) == 0 {
		return finding.Advise(errors.New("there is no trust to play"),
			finding.Run("federate", "APP", "--with", "PROVIDER"))
	}
	return k.s.Play(c)
}

// cast makes the cast of what is held.
func (k *Keeper) cast() (*cast.Cast, error) {
	c := *k.held.led
	led := &c
	k.mu.Lock()
	waiting := k.left.consents
	k.mu.Unlock()
	if len(waiting) > 0 {
		led.Consents = maps.Clone(led.Consents)
	}
	for _, c := range waiting {
		led.Consents[c.Trust] = cast.MergeConsents(led.Consents[c.Trust], waiting, c.Trust)
	}
	real, suppose := k.follows.cast(led)
	for _, n := range k.in.Real {
		real[n] = true
	}
	for _, t := range led.Trusts { // what the stage makes up is no secret at a real provider
		if x := suppose[t.Name]; real[t.Provider] && x.Secret == "" && k.in.Secret != nil {
			x.Secret = k.in.Secret(t.Name)
			suppose[t.Name] = x
		}
	}
	return cast.New(led, cast.Options{Base: k.in.Base, Engine: k.engine, Random: k.d.random, Now: k.d.Now(),
		Real: real, Suppose: suppose,
		Secret: k.d.stageSecrets(k.secrets), Holder: k.holders,
		Keys: func(p *federation.Party) cast.Keys {
			if p.Own && k.in.RealKeys {
				return &realKeys{d: k.d, party: p}
			}
			return k.ring.of(p)
		},
		StandIn: func(p *federation.Party) bool { return !p.Own || !k.in.RealKeys }})
}

func (k *Keeper) leave(f func(*left)) {
	k.mu.Lock()
	f(&k.left)
	urgent := k.left.urgent()
	k.mu.Unlock()
	if urgent {
		select {
		case k.wake <- struct{}{}:
		default:
		}
	}
}

func (k *Keeper) consents(list []federation.Consent) {
	k.leave(func(l *left) { l.consents = append(l.consents, list...) })
}

// arrive keeps somebody who came in from upstream, at once: what apps know them by must not change with the next visit.
func (k *Keeper) arrive(p *people.Person, trust, subject, how string) (out *people.Person, err error) {
	return out, k.d.keep(func(tx *model.Edit) error {
		if out, err = tx.PutPerson(p); err != nil {
			return err
		}
		return tx.Bind(model.Arrival{Trust: trust, Subject: subject, Person: p.ID}, how)
	})
}

func (k *Keeper) issued(trust string, asks []federation.Ask, at time.Time) {
	k.leave(func(l *left) {
		for _, a := range asks {
			l.use(trust, a).Issued = at
		}
	})
}

func (k *Keeper) presented(trust string, a federation.Ask) {
	k.leave(func(l *left) { l.use(trust, a).Presented = k.d.Now() })
}

func (l *left) use(trust string, a federation.Ask) *federation.Use {
	key := federation.Use{Trust: trust, API: a.API, Name: a.Name, As: a.As}
	u := l.uses[key]
	if u == nil {
		c := key
		u = &c
		l.uses[key] = u
	}
	return u
}

func (k *Keeper) run() {
	defer close(k.ended)
	tick := time.NewTicker(often)
	defer tick.Stop()
	for n := 0; ; n++ {
		select {
		case <-k.done:
			return
		case <-k.wake:
			_ = k.write() // what cannot be written now is tried again
			continue
		case <-k.w.Changed():
		case <-tick.C:
		}
		k.look()
		if k.urgent() || n%10 == 0 {
			_ = k.write() // what cannot be written now is tried again
		}
	}
}

// urgent reports whether something waits that must not be lost: all but when permissions and secrets were used.
func (l *left) urgent() bool { return len(l.consents)+len(l.keys)+len(l.state) > 0 }

func (k *Keeper) urgent() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.left.urgent()
}

// look takes over what changed in the ledger.
func (k *Keeper) look() {
	v, err := k.w.Version(k.ctx)
	switch {
	case errors.Is(err, ledger.ErrMoved):
		k.s.Trouble("what you see is out of date: " + err.Error())
		return
	case err != nil:
		k.s.Trouble("the ledger cannot be read, so what you see may be out of date: " + err.Error())
		k.away = true
		return
	case v == k.last && k.away:
		k.s.Trouble("")
		k.away = false
		return
	case v == k.last:
		return
	}
	k.away = false
	err = k.again(false)
	if err != nil {
		k.s.Trouble("the ledger was changed to what the stage cannot play, so it goes on as before: " + err.Error())
		if errors.Is(err, ledger.ErrBusy) {
			return // it is looked at again
		}
	} else {
		k.s.Trouble("")
	}
	k.last = v
}

// again brings what is held up to date, and swaps the cast where something of it changed, or always.
func (k *Keeper) again(always bool) error {
	k.swap.Lock()
	defer k.swap.Unlock()
	was := k.held.led
	if err := k.l.View(k.ctx, k.held.read); err != nil {
		return err
	}
	if k.held.led == was && !always && !k.stale {
		return nil
	}
	c, err := k.cast()
	if err == nil {
		err = k.s.Play(c)
	}
	k.stale = err != nil
	return err
}

// write writes what was left. While it waits for the ledger no lock is held that a request needs.
func (k *Keeper) write() error {
	k.mu.Lock()
	if k.left.empty() {
		k.mu.Unlock()
		return nil
	}
	out := k.left
	k.left = newLeft()
	k.left.consents = out.consents // they count until they are in the ledger
	k.mu.Unlock()
	s := model.Sightings{Secrets: out.secrets}
	for _, u := range out.uses {
		s.Uses = append(s.Uses, *u)
	}
	err := ledger.Updater(k.w.Update).Do(k.ctx, k.d.Env, func(b *model.Book) error {
		return b.Change(func(tx *model.Edit) error {
			for _, x := range out.keys {
				if err := tx.AddStageKey(x.party, x.kind, x.Opened); err != nil {
					return err
				}
			}
			return errors.Join(tx.Saw(s), tx.KeepState(out.state), tx.Consented(out.consents))
		})
	})
	k.mu.Lock()
	defer k.mu.Unlock()
	if err == nil {
		k.left.consents = k.left.consents[len(out.consents):]
		return nil
	}
	k.left.keys = append(out.keys, k.left.keys...)
	k.left.state = append(out.state, k.left.state...)
	for key, u := range out.uses {
		if k.left.uses[key] == nil {
			k.left.uses[key] = u
		}
	}
	for id, at := range out.secrets {
		if k.left.secrets[id].IsZero() {
			k.left.secrets[id] = at
		}
	}
	return fmt.Errorf("keeping what the stage saw: %w", err)
}

// Close writes what is left, trying for some seconds, and ends the watch.
func (k *Keeper) Close() error {
	close(k.done)
	<-k.ended
	err := k.write()
	for tries := 0; err != nil && errors.Is(err, ledger.ErrBusy) && tries < 20; tries++ {
		err = k.write()
	}
	return errors.Join(err, k.w.Close())
}

// tokenStage is a stage of one trust in this process, with the own provider's real keys and the client's real secrets
// alone.
func (d *Player) tokenStage(trust string) (*stage.Stage, func() error, error) {
	c, made, err := d.castOf([]string{trust}, cast.Options{}, nil, func(p *federation.Party) bool { return p.Own })
	if err != nil {
		return nil, nil, err
	}
	saw := model.Sightings{Secrets: map[string]time.Time{}}
	notes := op.Notes{Keys: clientKeysAt, Consents: func([]federation.Consent) {},
		Secret: func(id string, at time.Time) { saw.Secrets[id] = at },
		Issued: func(trust string, asks []federation.Ask, at time.Time) {
			for _, a := range asks {
				saw.Uses = append(saw.Uses, federation.Use{Trust: trust, API: a.API, Name: a.Name, As: a.As,
					Issued: at})
			}
		}}
	s, err := stage.New(stage.Options{Now: d.Now, Rand: d.Rand, Notes: notes})
	if err == nil {
		err = s.Play(c)
	}
	end := func() error {
		d.keepKeys(made)
		return d.keep(func(tx *model.Edit) error { return tx.Saw(saw) })
	}
	return s, end, err
}

// Package drill tries the rollover of a key on an overlay of the ledger, with a rehearsal of every trust after each
// step.
package drill

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/rehearse"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/keyring"
)

// Drill is what came of one.
type Drill struct {
	Party string `json:"party"`
	Use   string `json:"use"`
	Steps []Step `json:"steps" rows:"each"`
	// NotTried are the trusts of which no sign-in could be tried, and why
	NotTried map[string]string `json:"notTried"`
	Holds    bool              `json:"holds"` // of what was tried nothing broke in the rollover that waits
	// Assumed are the trusts whose other side is taken to have the key without having been given it, and why
	Assumed map[string]string `json:"assumed"`
}

// Tried is how many trusts were tried.
func (d *Drill) Tried() int {
	if len(d.Steps) == 0 {
		return 0
	}
	return len(d.Steps[0].Accepted)
}

// Step is the state after one step: which sign-ins were accepted, and which were not.
type Step struct {
	What     string              `json:"what"`
	Expected bool                `json:"expected"` // that something breaks is what the step is to show
	Accepted []string            `json:"accepted"`
	Refused  map[string][]string `json:"refused"` // by trust: the IDs of the errors
}

// run is a drill under way on a Book of its own.
type run struct {
	d      *Drill
	desk   *desk.Desk
	keeper *keyring.Keeper
	player *play.Player
	who    map[string]string // by trust: who signs in; "" is nobody, a machine
	before map[string][]string
}

// inTurns is a source of randomness for several at once.
type inTurns struct {
	mu sync.Mutex
	r  io.Reader
}

func (t *inTurns) Read(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.r.Read(b)
}

// ErrNotUsed means that a drill would prove nothing: no sign-in uses the key.
var ErrNotUsed = errors.New("a sign-in does not use it, only an app that encrypts the names in its requests")

// Run drills the rollover of an own party's key. Each way of it is tried on a Book of its own, with the use cases that
// the commands run; of what they change nothing is kept. Errors: those of the keyring.
func Run(k *keyring.Keeper, party, use string) (*Drill, error) {
	if r, err := k.Ring(party); err == nil && use == federation.ForEncryption &&
		r.Party.Kind == federation.Provider {
		return nil, fmt.Errorf("the rollover of a provider's key for encryption cannot be drilled: %w", ErrNotUsed)
	}
	d := &Drill{Party: party, Use: use, Steps: []Step{}, NotTried: map[string]string{}, Holds: true,
		Assumed: map[string]string{}}
	if err := d.waiting(k); err != nil {
		return nil, err
	}
	return d, d.atOnce(k)
}

// on begins to try something on what the ledger says.
func (d *Drill) on(k *keyring.Keeper) (*run, error) {
	all := *k.Book // of what changes here nothing is kept, and nothing that others change is to be seen
	all.View = model.Remember(all.View, model.Trusts, model.Parties, model.Secrets, model.Consents, model.OwnKeys,
		model.Settings, model.Carried, model.Exports)
	b := all.Try()
	b.Vault, b.Rand = model.OpenOnce(b.Vault), &inTurns{r: b.Rand}
	x := &run{d: d, desk: desk.New(b), keeper: &keyring.Keeper{Book: b}, player: play.On(b), who: map[string]string{}}
	x.player.Stock = &play.Stock{}
	return x, x.cast()
}

// cast finds who signs in at each trust of the party.
func (x *run) cast() error {
	all, err := x.keeper.View.TrustsOf(x.d.Party)
	if err != nil {
		return err
	}
	crowd, err := x.keeper.View.Crowd()
	if err != nil {
		return err
	}
	for i := range all {
		t := &all[i]
		if t.Standing == federation.Ended {
			continue
		}
		if err := t.Registered(); err != nil {
			x.d.NotTried[t.Name] = err.Error()
			continue
		}
		app, err := x.keeper.View.Party(t.App)
		if err != nil {
			return err
		}
		if t.Terms.Machine(app) {
			x.who[t.Name] = ""
			continue
		}
		consents, err := x.keeper.View.Consents(t.Name)
		if err != nil {
			return err
		}
		who := crowd.First(func(p *people.Person) bool {
			ok, _ := t.AdmitsPerson(p, consents)
			return ok
		})
		if who == nil {
			x.d.NotTried[t.Name] = "nobody in the ledger is admitted"
			continue
		}
		x.who[t.Name] = who.ID
	}
	return crowd.Err()
}

// signIns rehearses all trusts, and notes the step.
func (x *run) signIns(what string, expected bool) error {
	s := Step{What: what, Expected: expected, Accepted: []string{}, Refused: map[string][]string{}}
	trusts := slices.Sorted(maps.Keys(x.who))
	out, errs := make([]federation.Rehearsal, len(trusts)), make([]error, len(trusts))
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, trust := range trusts {
		g.Go(func() error {
			list, err := x.player.Rehearse(play.RehearseInput{Script: rehearse.Script{Trusts: []string{trust},
				Second: true}, As: x.who[trust], DryRun: true})
			if errs[i] = err; err == nil {
				out[i] = list[0]
			}
			return nil
		})
	}
	_ = g.Wait() // each error is that of its trust
	for i, trust := range trusts {
		switch {
		case errs[i] != nil:
			x.d.NotTried[trust] = errs[i].Error()
			delete(x.who, trust)
		case out[i].Verdict == judge.Accepted:
			s.Accepted = append(s.Accepted, trust)
		default:
			s.Refused[trust] = out[i].Findings.IDs(finding.Error)
		}
	}
	if x.before == nil {
		x.before = s.Refused
		for trust := range s.Refused { // they fail already, and say nothing of the keys
			x.d.NotTried[trust] = "it is refused as it is: " + strings.Join(s.Refused[trust], ", ")
			delete(x.who, trust)
		}
		s.Refused = map[string][]string{}
	}
	x.d.Holds = x.d.Holds && (expected || len(s.Refused) == 0)
	x.d.Steps = append(x.d.Steps, s)
	return nil
}

// announce announces a key where none is.
func (x *run) announce() (*keyring.Ring, *federation.OwnKey, error) {
	r, err := x.keeper.Ring(x.d.Party)
	if err != nil {
		return nil, nil, err
	}
	if last := r.At(x.d.Use, federation.Outgoing); last != nil {
		if _, err := x.keeper.Withdraw(x.d.Party, last.ID, true); err != nil {
			return nil, nil, err
		}
	}
	if r.At(x.d.Use, federation.Announced) == nil {
		if _, err := x.keeper.Announce(x.d.Party, keyring.Coming{Use: x.d.Use}); err != nil {
			return nil, nil, err
		}
	}
	if r, err = x.keeper.Ring(x.d.Party); err != nil {
		return nil, nil, err
	}
	return r, r.At(x.d.Use, federation.Announced), nil
}

// waiting is the rollover as it should be.
func (d *Drill) waiting(k *keyring.Keeper) error {
	x, err := d.on(k)
	if err != nil {
		return err
	}
	if err := x.signIns("as it is", false); err != nil {
		return err
	}
	r, key, err := x.announce()
	if err != nil {
		return err
	}
	if err := x.signIns("announced "+key.ID, false); err != nil {
		return err
	}
	sights, err := x.keeper.Sights(r, key)
	if err != nil {
		return err
	}
	for _, s := range sights {
		if s.Seen {
			if s.Assumed {
				d.Assumed[s.Trust] = s.How
			}
			continue
		}
		if err := x.desk.Prepared(s.Trust, s.Side); err != nil {
			return err
		}
		if _, err := x.desk.HandOver(s.Trust, s.Side, "drill"); err != nil {
			return err
		}
	}
	if _, err := x.keeper.Activate(d.Party, d.Use, nil); err != nil {
		return err
	}
	if err := x.signIns("activated, once everybody had it", false); err != nil {
		return err
	}
	if _, err := x.keeper.Withdraw(d.Party, "", true); err != nil {
		return err
	}
	return x.signIns("withdrew the old one", false)
}

// atOnce is the rollover without waiting for those who have not seen the key, where there are any.
func (d *Drill) atOnce(k *keyring.Keeper) error {
	x, err := d.on(k)
	if err != nil {
		return err
	}
	r, key, err := x.announce()
	if err != nil {
		return err
	}
	sights, err := x.keeper.Sights(r, key)
	if err != nil {
		return err
	}
	var breaks []string
	for _, s := range sights {
		if !s.Seen && d.Use != federation.ForEncryption {
			breaks = append(breaks, s.Trust)
		}
	}
	for trust := range d.NotTried {
		delete(x.who, trust)
	}
	if len(breaks) == 0 {
		return nil
	}
	x.before = map[string][]string{}
	if _, err := x.keeper.Activate(d.Party, d.Use, breaks); err != nil {
		return fmt.Errorf("activating at once: %w", err)
	}
	return x.signIns("activated at once, without waiting for "+strings.Join(breaks, ", "), true)
}

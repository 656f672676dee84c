// Package probe asks the real parties of trusts without anyone signing in: whether they are there, whether they still
// say what the ledger holds, and whether they know each other. It sends no credentials of people, and claims no more
// than the answers prove.
package probe

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/redact"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/inspect"
)

// Input says what is probed, and how.
type Input struct {
	Trusts []string // none: all that have not ended
	CA     []byte   // authorities of the parties' servers, PEM, beside those in the ledger
	Secret string   // of the client at its provider; "" tries what SecretOf has
	// SecretOf is the secret that is known of a trust's client; "" where none is. nil: none is known
	SecretOf func(trust string) (string, error)
	// Reads reads back what a provider registered of a trust's client, where that can be asked. nil: nothing is
	Reads   func(trust string) (finding.List, error)
	Call    string // address of an API to fetch records from with the client's token; "" calls none
	Records int    // how many of them are shown at most
	Timeout time.Duration
	Dry     bool // keep nothing with the trusts
}

// Result is what a probe of one trust found.
type Result struct {
	Trust    string              `json:"trust"`
	Verdict  judge.Verdict       `json:"verdict"`
	Asked    []string            `json:"asked"`    // the parties that answered
	NotAsked []string            `json:"notAsked"` // with why
	Known    string              `json:"known"`    // known, not known, cannot tell, or "" where nobody was asked
	Findings finding.List        `json:"findings"`
	Records  []federation.Record `json:"records,omitempty"`
	Run      int64               `json:"run,omitempty"`
	seen     []seen
	// facts that a party publishes otherwise than the ledger has them
	contradicted []finding.FactID
	messages     []federation.Message
	addresses    map[string]string // by party, where it was asked
	taken        map[string]bool   // by the ID of an own key, whether the other side takes it
	at           time.Time
}

// Prober probes trusts of a ledger.
type Prober struct {
	*play.Player
	In    Input
	Ended func(Result) // told of each trust as it is done; may be nil

	inspector *inspect.Inspector
	mask      *redact.Mask
	mu        sync.Mutex
	hosts     map[string]*host
}

// atOnce is how many trusts are probed at one time, perHost how many requests one host gets at one time.
const (
	atOnce  = 64
	perHost = 2
)

// ErrSecret means that a secret was given for several trusts, or for one over which no secret is sent.
var ErrSecret = errors.New("a secret is that of one client")

// ErrCall means that a call was asked for that no token can be got for.
var ErrCall = errors.New("an API is called with the token of a machine client, which its secret is needed for")

// Trusts probes trusts, several at once, and keeps what they prove. Errors: *model.UnknownError, ErrSecret, and those
// of the ledger.
func (p *Prober) Trusts(ctx context.Context) ([]Result, error) {
	names := p.In.Trusts
	if len(names) == 0 {
		all, err := p.View.Trusts()
		if err != nil {
			return nil, err
		}
		for _, t := range all {
			if t.Standing != federation.Ended {
				names = append(names, t.Name)
			}
		}
	}
	if (p.In.Secret != "" || p.In.Call != "") && len(names) != 1 {
		return nil, fmt.Errorf("%w: name the one trust that it is for", ErrSecret)
	}
	if p.In.Timeout == 0 {
		p.In.Timeout = 10 * time.Second
	}
	persons, err := p.Persons()
	if err != nil {
		return nil, err
	}
	p.inspector, p.mask, p.hosts = inspect.New(p.Book), play.MaskOf(persons...), map[string]*host{}
	jobs := make([]*job, len(names))
	for i, n := range names {
		if jobs[i], err = p.job(n); err != nil {
			return nil, err
		}
		secret, token := jobs[i].over.authenticates(jobs[i])
		if p.In.Secret != "" && !secret {
			return nil, fmt.Errorf("%w, and over %s none is sent", ErrSecret, n)
		}
		if jobs[i].secret = p.In.Secret; secret && p.In.Secret == "" && p.In.SecretOf != nil {
			if jobs[i].secret, err = p.In.SecretOf(n); err != nil {
				return nil, err
			}
		}
		if p.In.Call != "" && (!token || jobs[i].secret == "") {
			return nil, fmt.Errorf("%w; %s has none that could be tried", ErrCall, n)
		}
	}
	out := make([]Result, len(jobs))
	var g errgroup.Group
	g.SetLimit(atOnce)
	for i, j := range jobs {
		g.Go(func() error {
			out[i] = j.run(ctx)
			if p.Ended != nil {
				p.mu.Lock()
				p.Ended(out[i])
				p.mu.Unlock()
			}
			return nil
		})
	}
	_ = g.Wait() // each failure is a finding
	if ctx.Err() != nil {
		return nil, fmt.Errorf("the probe was ended before its time: %w", ctx.Err())
	}
	if p.In.Dry {
		return out, nil
	}
	return out, p.keep(out)
}

func (p *Prober) keep(list []Result) error {
	for i := range list {
		r := &list[i]
		if p.In.Reads != nil { // which may bring another token: only who keeps that may read
			more, err := p.In.Reads(r.Trust)
			if err != nil {
				return err
			}
			r.Findings = append(r.Findings, more...)
		}
		run := &federation.Run{Kind: federation.ProbedProof, Messages: r.messages, Contradicted: r.contradicted,
			Taken: r.taken,
			Rehearsal: federation.Rehearsal{Addresses: r.addresses, At: r.at, Trust: r.Trust, Verdict: r.Verdict,
				StandIns: []string{}, Findings: r.Findings, Records: r.Records}}
		if len(r.Asked) == 0 {
			continue // nobody was asked: that proves nothing, and takes nothing back
		}
		for _, f := range r.seen {
			run.Saw(f.Fact, federation.Observation{Of: f.of})
		}
		if err := p.KeepRun(run, "trust.probe"); err != nil {
			return err
		}
		r.Run = run.Number
	}
	return nil
}

// job is the probe of one trust.
type job struct {
	p             *Prober
	t             *federation.Trust
	app, provider *federation.Party
	over          protocol
	secret        string // of the client; "" tries none
	out           Result
	answered      map[string]bool // by party
	same          map[string]bool // whether a party says what the ledger holds
	servers       map[string]bool // whose clock and certificate were judged
	request       ask             // the app's own request, from its start link
}

// protocol is what differs by protocol in probing.
type protocol interface {
	// endpoints are the addresses of both sides that have to answer.
	endpoints(j *job) []endpoint
	// published is where an own party publishes what the other side reads, and what that is; "" where it publishes
	// nothing.
	published(p *federation.Party) (at, what string)
	// start is the link that starts sign-in at the app, "" where none is known.
	start(j *job) string
	// isRequest reports whether an address, or a form that a page posts, carries a request for a sign-in.
	isRequest(at *url.URL, form url.Values) bool
	// knows asks the provider for a sign-in as the app would, and as one that nobody knows would.
	knows(ctx context.Context, j *job)
	// authenticates says whether the app authenticates at the provider with a secret, and whether it gets a token as
	// itself with it.
	authenticates(j *job) (secret, token bool)
	// secret tries the client's secret at the token endpoint.
	secret(ctx context.Context, j *job)
}

type endpoint struct {
	what   string
	at     string
	of     *federation.Party
	posted bool // it is asked by POST alone (RFC 6749, section 3.2; SAML Bindings, section 3.5)
}

func (p *Prober) job(name string) (*job, error) {
	t, app, provider, err := p.Trust(name)
	if err != nil {
		return nil, err
	}
	if t.Standing == federation.Ended {
		return nil, fmt.Errorf("%s %w", name, model.ErrEnded)
	}
	j := &job{p: p, t: t, app: app, provider: provider, answered: map[string]bool{}, same: map[string]bool{},
		servers: map[string]bool{}, out: Result{Trust: name, Asked: []string{}, NotAsked: []string{},
			at: p.Now().UTC(), addresses: map[string]string{}}}
	j.over = over(t)
	return j, nil
}

func (j *job) run(ctx context.Context) Result {
	for _, x := range []*federation.Party{j.provider, j.app} {
		j.says(ctx, x)
	}
	j.reach(ctx)
	j.begins(ctx)
	if j.t.Registered() == nil {
		j.over.knows(ctx, j)
		j.over.secret(ctx, j)
	}
	for _, x := range []*federation.Party{j.provider, j.app} {
		if j.answered[x.Name] && !x.Own {
			j.out.Asked = append(j.out.Asked, x.Name)
		}
	}
	j.prove()
	j.out.Verdict = judge.Accepted
	if j.out.Findings.Failed() || len(j.out.Asked) == 0 {
		j.out.Verdict = judge.Refused
	}
	if len(j.out.Asked) == 0 && !j.out.Findings.Failed() {
		j.add(finding.Finding{ID: finding.ProbeNobody, Level: finding.Note, Check: "the other side",
			Saw: "no real party could be asked", Expected: "an address of it in the ledger", Side: finding.Ledger,
			Fix: finding.Do("give the address from which its metadata is read, or the link that starts sign-in at " +
				"the app")})
	}
	return j.out
}

func (j *job) add(f finding.Finding) { j.out.Findings.Add(f) }

func (j *job) pass(id finding.ID, check, saw string) { j.out.Findings.Pass(id, check, saw) }

func (j *job) skip(what, why string) { j.out.NotAsked = append(j.out.NotAsked, what+": "+why) }

func (j *job) keep(kind, text string) {
	if len(j.out.messages) >= 20 {
		return
	}
	j.p.mu.Lock()
	text = j.p.mask.Message(text)
	j.p.mu.Unlock()
	j.out.messages = append(j.out.messages, federation.Message{Kind: kind, Text: text})
}

// seen is a fact that the answers showed, and whose it is.
type seen struct {
	federation.Fact
	of string
}

// prove notes which facts the answers show: what a party publishes itself, what its link leads to, and by what the
// provider knows the app.
func (j *job) prove() {
	good := func(party *federation.Party) bool { return j.same[party.Name] && j.answered[party.Name] }
	for _, f := range federation.FactsOf(j.t, j.app, j.provider) {
		x := seen{f, map[string]string{"app": j.app.Name, "provider": j.provider.Name}[f.OfSide]}
		switch {
		case f.Name == finding.FactAdmission:
		case f.Name == finding.FactStart:
			if j.request.at != "" {
				j.out.seen = append(j.out.seen, x)
			}
		case f.Name == finding.FactClientID && j.showed(finding.ProbeSecret, finding.ProbeToken):
			x.of = j.provider.Name
			j.out.seen = append(j.out.seen, x)
		case f.OfSide == "provider" && good(j.provider), f.OfSide == "app" && good(j.app):
			j.out.seen = append(j.out.seen, x)
		case slices.Contains([]finding.FactID{finding.FactClientID, finding.FactRedirect, finding.FactEntityID,
			finding.FactACS}, f.Name) && j.out.Known == known:
			x.of = j.provider.Name // it is the provider that has it so
			j.out.seen = append(j.out.seen, x)
		}
	}
}

// showed reports whether a check of one of the IDs passed.
func (j *job) showed(ids ...finding.ID) bool {
	return slices.ContainsFunc(j.out.Findings,
		func(f finding.Finding) bool { return f.Level == finding.Pass && slices.Contains(ids, f.ID) })
}

// What is said of whether a provider knows an app.
const (
	known      = "known"
	notKnown   = "not known"
	cannotTell = "cannot tell"
)

// Ready probes until nothing is wrong any more, or a time is over: it can take minutes until a change is in effect.
// wait is told of each try that found something, and how long it waits until the next.
func (p *Prober) Ready(ctx context.Context, within time.Duration, wait func(tries int, left time.Duration,
	list []Result)) (
	[]Result, error) {
	// the machine's own time: it is waited for, whatever the clock says
	until, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	pause, dry := 2*time.Second, p.In.Dry
	for tries := 1; ; tries++ {
		p.In.Dry = true
		list, err := p.Trusts(ctx)
		if err != nil {
			return nil, err
		}
		ready := !slices.ContainsFunc(list, func(r Result) bool { return r.Findings.Failed() })
		left := leftOf(until)
		if ready || left <= 0 {
			if p.In.Dry = dry; !dry {
				err = p.keep(list)
			}
			return list, err
		}
		if wait != nil {
			wait(tries, left, list)
		}
		select {
		case <-time.After(pause):
		case <-until.Done(): // one last try
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
		}
		pause = min(pause*2, 30*time.Second)
	}
}

// leftOf is how long a context lasts from now on.
func leftOf(ctx context.Context) time.Duration {
	end, _ := ctx.Deadline()
	return time.Until(end)
}

// Package watch follows one real sign-in live: it turns what the parties on the stage tell into where the sign-in is,
// shows that on a page that moves by itself, and lets a running stage be watched from another process.
package watch

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/redact"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/server"
)

// State is where a sign-in is.
type State string

// The states of a watched sign-in. The last four end it.
const (
	Waiting   State = "waiting"
	UnderWay  State = "under way"
	SignedIn  State = "signed in"
	SignedOut State = "signed out" // where the watch goes on until then
	Refused   State = "refused"
	Abandoned State = "abandoned"   // it began and did not end in time
	NobodyWas State = "nobody came" // it did not begin in time
)

// Over reports whether a state ends the watch.
func (s State) Over() bool { return s != Waiting && s != UnderWay }

// Step is something that happened, in the order in which it did.
type Step struct {
	N        int          `json:"n"`
	At       time.Time    `json:"at"`
	By       string       `json:"by,omitempty"`
	What     string       `json:"what"`
	Sent     bool         `json:"sent"`               // it left; nothing was judged
	Refused  bool         `json:"refused"`            // a check of it failed
	Through  string       `json:"upstream,omitempty"` // of which trust upstream it is; "" of the one that is watched
	Findings finding.List `json:"findings,omitempty"` // what was judged
	Messages []string     `json:"messages,omitempty"` // redacted
}

// View is what is known of a watched sign-in at one time.
type View struct {
	Trust   string              `json:"trust"`
	State   State               `json:"state"`
	Began   time.Time           `json:"began"`
	Until   time.Time           `json:"until"` // the watch waits no longer
	Cast    play.Following      `json:"cast"`
	Steps   []Step              `json:"steps" rows:"each"`
	Person  string              `json:"person,omitempty"` // ID, where a played provider said it
	Subject string              `json:"subject,omitempty"`
	Claims  map[string][]string `json:"claims,omitempty"`
	names   map[string]string   // of claims, in the message
	service string              // of the app that was asked for
	key     string              // ID of that which signed it
	Account string              `json:"account,omitempty"`
	Asks    bool                `json:"asks"` // whoever signs in has to say whether the app let them in
	Said    bool                `json:"said"` // they did
	Again   int                 `json:"again,omitempty"`
	Out     bool                `json:"untilSignedOut,omitempty"` // the watch goes on until somebody signed out
}

// Over reports whether the watch is over.
func (v *View) Over() bool { return v.State.Over() && !(v.Out && v.State == SignedIn) }

// Findings are those of all steps of the trust itself, in order.
func (v *View) Findings() finding.List { return v.through("") }

// through are the findings of the steps of a trust upstream, "" for those of the trust itself.
func (v *View) through(trust string) finding.List {
	var out finding.List
	for _, s := range v.Steps {
		if s.Through == trust {
			out = append(out, s.Findings...)
		}
	}
	return out
}

// hop is what is known of a sign-in upstream, through which the watched one passed.
type hop struct {
	in      bool
	began   time.Time
	subject string
	claims  map[string][]string
	key     string
}

// Stopped is the step in which the sign-in was refused, nil where it was not.
func (v *View) Stopped() *Step {
	for i := range v.Steps {
		if v.Steps[i].Refused {
			return &v.Steps[i]
		}
	}
	return nil
}

// Track follows one sign-in. Its methods may be called at once from several goroutines.
type Track struct {
	// Arrived judges what an app learned; it may be nil.
	Arrived func(got federation.Learned, person string) (account string, l finding.List)
	// SignOut says what signing out ends, and what stays signed in; nil says nothing.
	SignOut func() finding.List
	// Expected is the ID of the person who is going to sign in, or for somebody of the other side their mail address;
	// "" is anybody. Mails are their addresses, by which they are known where a real provider signs them in.
	Expected string
	Mails    []string

	mu    sync.Mutex
	v     View
	raw   map[string][]federation.Message // by trust
	hops  map[string]*hop
	mask  *redact.Mask
	last  time.Time
	now   func() time.Time
	moved chan struct{} // closed at each change, and made anew
	by    string        // who said whether the app let them in
}

// NewTrack begins to follow a sign-in that is waited for until a time.
func NewTrack(how play.Following, now func() time.Time, until time.Time, mask *redact.Mask) *Track {
	return &Track{v: View{Trust: how.Trust, State: Waiting, Began: now().UTC(), Until: until.UTC(), Cast: how,
		Steps: []Step{}},
		now: now, mask: mask, moved: make(chan struct{}), raw: map[string][]federation.Message{},
		hops: map[string]*hop{}}
}

// View returns what is known now, and a channel that is closed once there is more.
func (t *Track) View() (View, <-chan struct{}) {
	t.mu.Lock()
	defer t.mu.Unlock()
	v := t.v
	v.Steps = slices.Clone(t.v.Steps)
	return v, t.moved
}

// Messages are the messages that passed, redacted.
func (t *Track) Messages() []federation.Message {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.raw[t.v.Trust])
}

func (t *Track) change() {
	close(t.moved)
	t.moved = make(chan struct{})
}

// Event takes what happened on the stage.
func (t *Track) Event(e server.Event) {
	t.mu.Lock()
	defer t.mu.Unlock()
	defer t.change()
	if t.v.Out && t.v.State == SignedIn {
		t.leaves(e)
		return
	}
	if t.v.State.Over() {
		if begins(e) {
			t.v.Again++ // somebody does it a second time; the verdict is of the first
		}
		return
	}
	upstream := e.Trust != "" && e.Trust != t.v.Trust
	if upstream && t.v.State != UnderWay {
		return // somebody else comes in through it
	}
	s := Step{N: len(t.v.Steps) + 1, At: t.now().UTC(), By: e.By, What: e.What, Sent: e.Sent, Findings: e.Findings,
		Refused: e.Findings.Failed()}
	for _, m := range e.Kept {
		text := t.mask.Message(m[1])
		s.Messages = append(s.Messages, text)
		of := cmp.Or(e.Trust, t.v.Trust)
		t.raw[of] = append(t.raw[of], federation.Message{Kind: m[0], Text: text})
	}
	t.v.State, t.last = UnderWay, t.now()
	if upstream {
		t.passes(s, &e)
		return
	}
	if e.Person != "" {
		t.v.Person = e.Person
		if t.Expected != "" && t.Expected != e.Person {
			s.Findings.Add(finding.Finding{ID: finding.WatchPerson, Level: finding.Error, Check: "who signs in",
				Saw: e.Person, Expected: t.Expected, Side: finding.Person,
				Fix: finding.Do("sign out at the provider, or open the link in a private window, and sign in as " +
					t.Expected)})
			s.Refused = true
		}
	}
	if o := e.Outcome; o != nil {
		t.v.Subject, t.v.Claims, t.v.names, t.v.key = o.Subject, o.Claims, o.Names, e.SignedBy()
		t.v.service = o.Service
	}
	t.v.Steps = append(t.v.Steps, s)
	switch {
	case s.Refused:
		t.v.State = Refused
	case e.SignedIn:
		t.arrived()
	case e.What == "token request" && !t.plays(false): // a real app redeemed its code
		t.v.State = SignedIn
	case e.What == "response" && e.Sent && t.v.Cast.Silent:
		t.v.Asks = true
	}
}

// passes takes what happened upstream of the watched trust.
func (t *Track) passes(s Step, e *server.Event) {
	s.Through = e.Trust
	t.v.Steps = append(t.v.Steps, s)
	h := t.hops[e.Trust]
	if h == nil {
		h = &hop{began: s.At}
		t.hops[e.Trust] = h
	}
	if o := e.Outcome; o != nil {
		h.subject, h.claims, h.key = o.Subject, o.Claims, e.SignedBy()
	}
	h.in = h.in || e.SignedIn
	if !s.Refused {
		return
	}
	h.in = false
	_, provider, _ := cut(t.v.Trust)
	first := e.Findings[slices.IndexFunc(e.Findings, func(f finding.Finding) bool { return f.Level == finding.Error })]
	t.v.Steps = append(t.v.Steps, Step{N: len(t.v.Steps) + 1, At: s.At, By: provider, What: "sign-in", Refused: true,
		Findings: finding.List{{ID: finding.WatchUpstream, Level: finding.Error, Check: "who comes in through " +
			e.Trust, Saw: "refused there: " + first.Check + ": " + first.Saw, Expected: "somebody who signed in",
			Side: first.Side, Fix: finding.Do("mend what stopped it upstream").Then(finding.Run("next",
				e.Trust))}}})
	t.v.State = Refused
}

// UntilSignedOut has the watch go on until somebody signed out.
func (t *Track) UntilSignedOut() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.v.Out = true
}

// leaves takes what happens after a sign-in: the watch is over once a party has judged a sign-out, or the app's page
// for it was shown.
func (t *Track) leaves(e server.Event) {
	if !strings.Contains(e.What, "logout") && !strings.Contains(e.What, "sign-out") && !strings.Contains(e.What,
		"signed-out") {
		return
	}
	t.v.Steps = append(t.v.Steps, Step{N: len(t.v.Steps) + 1, At: t.now().UTC(), By: e.By, What: e.What, Sent: e.Sent,
		Findings: e.Findings, Refused: e.Findings.Failed()})
	switch {
	case e.Findings.Failed():
		t.v.State = Refused
	case !e.Sent:
		t.v.State = SignedOut
		t.told()
	}
}

// told adds what signing out ends, and what stays.
func (t *Track) told() {
	if t.SignOut == nil {
		return
	}
	t.v.Steps = append(t.v.Steps, Step{N: len(t.v.Steps) + 1, At: t.now().UTC(), What: "what the sign-out ends",
		Findings: t.SignOut()})
}

// begins reports whether an event is the beginning of a sign-in.
func begins(e server.Event) bool {
	return e.Sent && (e.What == "request" || e.What == "authorization request") || e.What == "authorization request"
}

// plays reports whether the app is played here.
func (t *Track) plays(provider bool) bool {
	app, idp, _ := cut(t.v.Trust)
	name := app
	if provider {
		name = idp
	}
	return slices.Contains(t.v.Cast.Played, name)
}

func cut(trust string) (app, provider string, ok bool) {
	for i := range trust {
		if trust[i] == '@' {
			return trust[:i], trust[i+1:], true
		}
	}
	return trust, "", false
}

// arrived ends a sign-in that the played app took, with what is to be said of what it learned.
func (t *Track) arrived() {
	t.v.State = SignedIn
	if t.Arrived == nil {
		return
	}
	account, l := t.Arrived(federation.Learned{Subject: t.v.Subject, Claims: t.v.Claims, Names: t.v.names,
		Service: t.v.service}, t.v.Person)
	l = append(l, t.isExpected()...)
	t.v.Account = account
	app, _, _ := cut(t.v.Trust)
	t.v.Steps = append(t.v.Steps, Step{N: len(t.v.Steps) + 1, At: t.now().UTC(), By: app, What: "claims and account",
		Findings: l, Refused: l.Failed()})
	if l.Failed() {
		t.v.State = Refused
	}
}

// isExpected judges by what arrived whether the person signed in who was going to; a real provider tells no more.
func (t *Track) isExpected() (out finding.List) {
	if t.Expected == "" || t.v.Person != "" { // a played provider has said it
		return nil
	}
	got := slices.Concat(t.v.Claims["mail"], t.v.Claims["email"])
	same := func(a string) bool {
		return slices.ContainsFunc(t.Mails, func(b string) bool { return strings.EqualFold(a, b) })
	}
	f := finding.Finding{ID: finding.WatchPerson, Level: finding.Error, Check: "who signs in",
		Saw: strings.Join(got, ", "), Expected: t.Expected, Side: finding.Person,
		Fix: finding.Do("sign out at the provider, or open the link in a private window, and sign in as " + t.Expected)}
	switch {
	case slices.ContainsFunc(got, same):
		out.Pass(finding.WatchPerson, f.Check, f.Saw)
		return out
	case len(got) == 0 || len(t.Mails) == 0:
		f.Level, f.Saw = finding.Note, "not known: no mail address arrived by which they could be told"
		f.Fix = finding.Do("compare the subject with what the provider's owner sees")
	}
	out.Add(f)
	return out
}

// Say takes what whoever signed in says of a real app that cannot be seen: whether it let them in. by is who says it.
func (t *Track) Say(in bool, by string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.v.Asks || t.v.State.Over() {
		return
	}
	defer t.change()
	app, _, _ := cut(t.v.Trust)
	t.v.Asks, t.v.Said, t.by = false, true, by
	s := Step{N: len(t.v.Steps) + 1, At: t.now().UTC(), By: app, What: "answer, as whoever signed in says"}
	if in {
		t.v.State = SignedIn
		s.Findings.Pass(finding.WatchSaid, "signed in at "+app, "as whoever signed in says")
	} else {
		t.v.State, s.Refused = Refused, true
		s.Findings.Add(finding.Finding{ID: finding.WatchSaid, Level: finding.Error, Check: "signed in at " + app,
			Saw: "refused, as whoever signed in says", Expected: "the app's page", Side: finding.App,
			Fix: finding.Do("see in the app's log why it refused, or read the response that the browser carried with " +
				"tressik inspect")})
	}
	t.v.Steps = append(t.v.Steps, s)
}

// Late ends a sign-in that did not come to an end in time.
func (t *Track) Late() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.v.Over() {
		return
	}
	defer t.change()
	if t.v.State == SignedIn {
		t.v.Out = false
		t.v.Steps = append(t.v.Steps, Step{N: len(t.v.Steps) + 1, At: t.now().UTC(), What: "the end of the wait",
			Findings: finding.List{{ID: finding.WatchSignedIn, Level: finding.Warning, Check: "the sign-out",
				Saw:      "nobody signed out",
				Expected: "a sign-out before " + t.v.Until.Format("15:04:05 UTC"), Side: finding.Person,
				Fix: finding.Do("sign out at the app while the watch goes on")}}})
		return
	}
	s := Step{N: len(t.v.Steps) + 1, At: t.now().UTC(), What: "the end of the wait", Refused: true}
	f := finding.Finding{ID: finding.WatchAbandoned, Level: finding.Error, Check: "the sign-in",
		Saw: "it began and did not end", Expected: "an answer before " +
			t.v.Until.Format("15:04:05 UTC"), Side: finding.Person,
		Fix: finding.Do("open the link again in a new private window and sign in to the end")}
	switch {
	case t.v.State == Waiting:
		t.v.State = NobodyWas
		f.ID, f.Saw = finding.WatchNobody, "nobody opened the link, or the party there does not lead here"
		f.Fix = finding.Do("open the link; where that was done, see that the party's settings name the addresses of " +
			"this stage")
	case t.v.Asks:
		t.v.State = Abandoned
		f.Saw = "a response was sent, and nobody said whether the app let them in"
		f.Fix = finding.Do("sign in once more, and press the button on the page of the watch")
	default:
		t.v.State = Abandoned
		if n := len(t.v.Steps); n > 0 {
			f.Saw += "; the last that was seen is the " + t.v.Steps[n-1].What + " of " + t.v.Steps[n-1].By
		}
	}
	s.Findings = finding.List{f}
	t.v.Steps = append(t.v.Steps, s)
}

// Through lists the trusts upstream that the sign-in passed through.
func (t *Track) Through() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Sorted(maps.Keys(t.hops))
}

// RunThrough is what is kept of the sign-in upstream, as of one that was watched by itself. facts are those of that
// trust as it is now; it is one of Through.
func (t *Track) RunThrough(trust string, facts []federation.Fact) *federation.Run {
	v, _ := t.View()
	t.mu.Lock()
	h := *t.hops[trust]
	up := *t.v.Cast.Through(trust)
	up.Upstream = nil
	x := &Track{v: View{Trust: trust, State: Refused, Began: h.began, Until: v.Until, Cast: up, Subject: h.subject,
		Claims: h.claims, key: h.key}, now: t.now, moved: make(chan struct{}), raw: t.raw}
	t.mu.Unlock()
	for _, s := range v.Steps {
		if s.Through == trust {
			s.Through = ""
			x.v.Steps = append(x.v.Steps, s)
		}
	}
	if h.in {
		x.v.State = SignedIn
	}
	return x.Run(facts)
}

// Lost reports whether a real provider was asked for a sign-in and nothing came back.
func (t *Track) Lost() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	_, provider, _ := cut(t.v.Trust)
	return t.v.State == Abandoned && !t.v.Asks && slices.Contains(t.v.Cast.Real, provider)
}

// Found adds what was found out after the sign-in had ended.
func (t *Track) Found(what string, l finding.List) {
	t.mu.Lock()
	defer t.mu.Unlock()
	defer t.change()
	app, _, _ := cut(t.v.Trust)
	t.v.Steps = append(t.v.Steps, Step{N: len(t.v.Steps) + 1, At: t.now().UTC(), By: app, What: what, Findings: l,
		Refused: l.Failed()})
}

// Run is what is kept of the watch. It shows what took part in it and nothing else: of a party that was played here
// only what is here as the ledger has it, of a real app that cannot be seen what somebody said of it. facts are those
// of the trust as it is now.
func (t *Track) Run(facts []federation.Fact) *federation.Run {
	v, _ := t.View()
	r := &federation.Run{Kind: federation.WitnessProof, Messages: t.Messages(),
		Rehearsal: federation.Rehearsal{At: v.Began,
			Trust: v.Trust, Person: v.Person, Verdict: judge.Refused, Subject: v.Subject, Claims: v.Claims,
			Account: v.Account, Addresses: v.Cast.Addresses, Key: v.key, Names: v.names,
			StandIns: v.Cast.StandIns, Findings: v.Findings()}}
	switch {
	case len(v.Cast.Real) == 0: // both were played
		r.Kind, r.StandIns = federation.ByRehearsal, v.Cast.Played
	case v.Said:
		r.Kind = federation.Told
	}
	app, provider, _ := cut(v.Trust)
	in := v.State == SignedIn || v.State == SignedOut
	if !in && !r.Meant() {
		return r
	}
	if in {
		r.Verdict = judge.Accepted
	}
	for _, f := range facts {
		o := federation.Observation{Of: map[string]string{"app": app, "provider": provider}[f.OfSide], Out: !in}
		o.Played = slices.Contains(v.Cast.Played, o.Of)
		switch {
		case !slices.Contains(v.Cast.Shows, f.Name), !in && f.Name != finding.FactAdmission:
			continue
		case v.Said && o.Of == app && t.asked(): // its own request was seen
			o.Kind = federation.WitnessProof
		case v.Said:
			o.By = t.by
		case !t.plays(false) && slices.Contains([]finding.FactID{finding.FactClaims, finding.FactKeys}, f.Name):
			continue // what a real app made of its tokens is not seen
		}
		r.Saw(f, o)
	}
	return r
}

// asked reports whether a request of the app was judged, and found good.
func (t *Track) asked() bool {
	v, _ := t.View()
	return slices.ContainsFunc(v.Steps,
		func(s Step) bool { return !s.Sent && !s.Refused && strings.Contains(s.What, "request") })
}

// Package handoff works out what each side of a trust must be given, how both sides compare, and what is left to do.
package handoff

import (
	"bytes"
	"cmp"
	"fmt"
	"os"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/play"
)

// Maker works on what can be read of a ledger.
type Maker struct {
	*model.Book
}

// New makes a maker.
func New(b *model.Book) *Maker { return &Maker{b} }

// Item is one value of a handoff.
type Item struct {
	Label    string `json:"label"`         // the standard's name of it
	Value    string `json:"value"`         // exactly as the other side must enter it
	Metadata string `json:"metadata"`      // what it is called in metadata
	From     string `json:"from"`          // where the value comes from
	Env      string `json:"env,omitempty"` // name in an app's environment
}

// Handoff is what one side of a trust must be given.
type Handoff struct {
	Trust       string `json:"trust"`
	For         string `json:"for"`   // app or provider: who is given it
	About       string `json:"about"` // the party it describes
	Items       []Item `json:"values" rows:"each"`
	Attributes  []Item `json:"attributes,omitempty" rows:"each"`
	Certificate []byte `json:"-"` // PEM
	Metadata    []byte `json:"-"`

	// address of the stage whose addresses and keys these are; "" is the real ones
	Stage   string   `json:"stage,omitempty"`
	Remarks []string `json:"remarks,omitempty"` // what has to be known of them beside

	Example      *Example `json:"example,omitempty"`
	Registration []byte   `json:"-"` // of a client: its metadata as RFC 7591, section 2 writes it
	Letter       []byte   `json:"-"` // all of it as one file for another ledger, see Letter
	secret       bool
}

// Mode is how files of the handoff are protected: one with a secret, or about a person, is for its owner alone.
func (h *Handoff) Mode() os.FileMode {
	if h.secret || h.Example != nil {
		return 0o600
	}
	return 0o644
}

// Handoff collects what a side needs. side is app or provider.
func (d *Maker) Handoff(name, side string) (*Handoff, error) {
	t, app, provider, err := d.Trust(name)
	if err != nil {
		return nil, err
	}
	v, err := d.view(t, app, provider)
	if err != nil {
		return nil, err
	}
	h, err := sheet(v, side)
	if err == nil {
		h.Letter, err = h.letter(v, d.Org())
	}
	return h, err
}

// OnStage collects what a side needs to try the trust with the other one as a running stage plays it.
func (d *Maker) OnStage(name, side string, on *play.Played) (*Handoff, error) {
	t, _, _, err := d.Trust(name)
	if err != nil {
		return nil, err
	}
	v, err := d.view(t, &on.App, &on.Provider)
	if err != nil {
		return nil, err
	}
	v.Staged = true
	v.Metadata = func(*federation.Party) ([]byte, error) { return on.Metadata, nil }
	h, err := sheet(v, side)
	if err != nil {
		return nil, err
	}
	h.Stage, h.Remarks = on.Base, on.Remarks
	for i := range h.Items {
		if from := &h.Items[i].From; strings.Contains(*from, h.About) || h.Items[i].Label == "Metadata address" {
			*from = "the stage at " + on.Base
		}
	}
	for _, api := range on.APIs {
		h.Items = append(h.Items, Item{Label: "Address of " + api.Name, Value: api.At, From: "the stage at " + on.Base})
	}
	if on.Secret != "" {
		h.AddStageSecret(on.Secret)
	}
	h.lines()
	return h, nil
}

// lines adds lines with which whoever tests tries the stage from a shell, ready to paste.
func (h *Handoff) lines() {
	value := func(env string) string {
		for _, i := range h.Items {
			if i.Env == env {
				return i.Value
			}
		}
		return ""
	}
	add := func(what, line string) {
		h.Items = append(h.Items, Item{Label: "To try: " + what, Value: line, From: "the stage at " + h.Stage})
	}
	ca := ""
	if strings.HasPrefix(h.Stage, "https:") {
		ca = "CURL_CA_BUNDLE=CA.pem "
	}
	if at := value("OIDC_DISCOVERY_URL"); at != "" {
		add("what the provider publishes", ca+"curl "+at)
	}
	scope, secret := cmp.Or(value("OIDC_SCOPE_AS_ITSELF"), value("OIDC_SCOPE")), value("OIDC_CLIENT_SECRET")
	grants := slices.ContainsFunc(h.Items,
		func(i Item) bool {
			return i.Metadata == "grant_types" && strings.Contains(i.Value, "client_credentials")
		})
	if grants && secret != "" {
		add("a token as itself", fmt.Sprintf("%scurl -u '%s:%s' -d grant_type=client_credentials -d 'scope=%s' %s", ca,
			value("OIDC_CLIENT_ID"), secret, scope, value("OIDC_TOKEN_ENDPOINT")))
	}
	permission := ""
	for _, s := range strings.Fields(scope) {
		if _, own := oidc.Standard(s); !own && permission == "" {
			permission = s
		}
	}
	for _, i := range h.Items {
		if api, ok := strings.CutPrefix(i.Label, "Address of "); ok && permission != "" {
			add("a call of "+api, ca+`curl -H "Authorization: Bearer $TOKEN" `+i.Value+"/"+permission)
		}
	}
}

func sheet(v *View, side string) (*Handoff, error) {
	h := &Handoff{Trust: v.Trust.Name, For: side}
	switch {
	case side == "app":
		h.About = v.Provider.Name
	case side == "provider":
		h.About = v.App.Name
	default:
		return nil, finding.Errorf("%s %q is %w; write app or provider", finding.FieldFor, side, model.ErrValue)
	}
	if err := Of(v.Trust).Sheet(v, h); err != nil {
		return nil, err
	}
	return h, nil
}

// TakeBack takes back what was given to a foreign side of a trust, where a change means that it needs something else.
func (d *Maker) TakeBack(old, t *federation.Trust) error {
	for _, side := range []string{"app", "provider"} {
		_, given := old.Handed[side]
		_, written := old.Prepared[side]
		if !given && !written {
			continue
		}
		name := t.App
		if side == "provider" {
			name = t.Provider
		}
		if p, err := d.View.Party(name); err != nil || p.Own {
			if err != nil {
				return err
			}
			continue
		}
		same, err := d.sameSheet(old, t, side)
		if err != nil {
			return err
		}
		if !same {
			t.Outdate(side)
		}
	}
	return nil
}

// sameSheet reports whether a side needs the same values by two states of one trust; side is app or provider. Metadata
// is the party's and not compared here. A state for which no sheet can be made is like no other.
func (d *Maker) sameSheet(old, t *federation.Trust, side string) (bool, error) {
	_, app, provider, err := d.Trust(t.Name)
	if err != nil {
		return false, err
	}
	var sheets [2]*Handoff
	for i, state := range []*federation.Trust{old, t} {
		v, err := d.view(state, app, provider)
		if err != nil {
			return false, err
		}
		h := &Handoff{Trust: t.Name, For: side}
		if Of(state).Sheet(v, h) != nil {
			return false, nil
		}
		sheets[i] = h
	}
	a, b := sheets[0], sheets[1]
	return slices.Equal(a.Items, b.Items) && slices.Equal(a.Attributes, b.Attributes) &&
		bytes.Equal(a.Registration, b.Registration), nil
}

func source(p *federation.Party) string {
	switch {
	case p.Own:
		return p.Name + ", an own party"
	case p.Source == "entered by hand":
		return p.Name + ", " + p.Source
	case p.Source != "":
		return "metadata of " + p.Name + " (" + p.Source + ")"
	}
	return "metadata of " + p.Name
}

func (h *Handoff) add(label, value, metadata, from string) {
	if value != "" {
		h.Items = append(h.Items, Item{Label: label, Value: value, Metadata: metadata, From: from})
	}
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// Todo is one step of the work on a trust.
type Todo struct {
	ID   finding.StepID `json:"id"` // stays, whatever the words are
	Done bool           `json:"done"`
	Step string         `json:"step"`
	Fix  finding.Remedy `json:"fix,omitzero"`   // how to do it, if it is open
	Said string         `json:"said,omitempty"` // by whom it was settled by hand, and why

	older finding.StepID // the ID by which older versions know it
}

// todoOf is the step of mending a finding. It is known by the finding and what was looked at.
func todoOf(f finding.Finding) Todo {
	return Todo{ID: finding.StepID(f.Key()), older: finding.StepID(string(f.ID) + "/" + f.Check),
		Step: f.Check + ": " + f.Saw, Fix: f.Fix}
}

// Next lists what is done and what is left for a trust.
func (d *Maker) Next(name string) (*federation.Trust, []Todo, error) {
	v, found, err := d.judged(name)
	if err != nil {
		return nil, nil, err
	}
	t, app, provider := v.Trust, v.App, v.Provider
	if t.Standing == federation.Ended {
		return t, []Todo{{ID: finding.StepEnded, Done: true,
			Step: "the trust has ended; it stays on record, and nothing is left to do"}}, nil
	}
	over := Of(t)
	machine := t.Terms.Machine(app)
	out := []Todo{{ID: finding.StepParties, Done: true,
		Step: "both parties are in the ledger: " + app.Name + ", " + provider.Name},
		{ID: finding.StepMade, Done: true, Step: "the trust is made"}}
	out[1].Step = over.Made(v)
	if !machine {
		out = append(out, Todo{ID: finding.StepPeople, Done: v.Crowd.People > 0, Step: "there are people to try it on",
			Fix: finding.Run("people",
				"load", "FILE")})
	}
	out = append(out, over.Open(v, found)...)
	let, err := d.LetBe(name)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range found {
		if slices.ContainsFunc(let, func(l model.Let) bool { return l.Covers(&f) }) {
			continue // it was accepted
		}
		if f.Level == finding.Error && !f.ID.Of(finding.ClaimsFamily) {
			out = append(out, todoOf(f))
		}
	}
	// what changes a sheet comes before it is handed over
	for _, side := range []string{"app", "provider"} {
		p, about := app, provider.Name
		if side == "provider" {
			p, about = provider, app.Name
		}
		_, given := t.Handed[side]
		step := fmt.Sprintf("%s %s has what it needs of %s", side, p.Name, about)
		fix := finding.Run("handoff", name, "--for", side)
		if at, written := t.Prepared[side]; written && !t.Has(side) {
			step += "; it was written on " + at.Format("2006-01-02") + ", and nobody said that it was delivered"
			fix = finding.Do("give it to the owner of " +
				p.Name).Then(finding.Run("handoff", name, "--for", side, "--delivered", p.ContactOrBlank()))
		}
		if p.Own {
			step += " (it is Tressik's own)"
		} else if to := t.HandedTo[side]; to != "" {
			step += ": delivered to " + to
		} else if !given && t.Shown(side) {
			step += ": a real sign-in showed it on " + t.Witnessed.At.Format("2006-01-02")
		}
		out = append(out, Todo{ID: finding.StepHandoff.For(side), Done: t.Has(side), Step: step, Fix: fix})
	}
	who := "PERSON"
	if p := v.Crowd.First(func(p *people.Person) bool {
		ok, _ := t.AdmitsPerson(p, v.Consents)
		return ok
	}); p != nil {
		who = p.ID
	}
	if err := v.Crowd.Err(); err != nil {
		return nil, nil, err
	}
	rehearsed := t.Holds || t.Witnessed.Whole()
	step := "a rehearsal succeeded"
	if !t.Holds && t.Witnessed.Whole() {
		step = "a rehearsal is not needed: a real sign-in was watched"
	} else if t.Last != nil && !rehearsed {
		step = "a rehearsal succeeded since the last change"
	}
	command := finding.Run("rehearse", name, "--as", who)
	if machine {
		command = finding.Run("rehearse", name)
	}
	out = append(out, Todo{ID: finding.StepRehearsed, Done: rehearsed, Step: step, Fix: command})
	out = append(out, d.proven(v, machine)...)
	if err := d.settled(name, out); err != nil {
		return nil, nil, err
	}
	for i := range out {
		if out[i].Done {
			out[i].Fix = finding.Remedy{}
		}
	}
	return t, out, nil
}

// proven are the steps that prove a trust at the real other side, and make it live. An own pair is proven by rehearsal.
func (d *Maker) proven(v *View, machine bool) []Todo {
	t := v.Trust
	if v.App.Own && v.Provider.Own {
		return nil
	}
	who := "the real " + v.Provider.Name
	if v.Provider.Own {
		who = "the real " + v.App.Name
	}
	out := []Todo{{ID: finding.StepProbed, Done: t.Probed.Whole() || t.Witnessed.Whole(),
		Step: who + " was asked (probe)" + again(t, t.Probed, federation.ProbedProof),
		Fix:  finding.Run("probe", t.Name)}}
	if !machine {
		out = append(out, Todo{ID: finding.StepWatched, Done: t.Witnessed.Whole(),
			Step: "a real sign-in was watched" + again(t, t.Witnessed, federation.WitnessProof),
			Fix:  finding.Run("watch", t.Name)})
	}
	live := Todo{ID: finding.StepLive, Done: t.Standing == federation.Live || t.Standing == federation.Paused,
		Step: "it is live", Fix: finding.Run("cutover", t.Name)}
	if t.Plan != nil {
		live.Step = "it is live; planned for " + t.Plan.When() + " by " + t.Plan.By
		live.Fix = finding.Do("leave it to the timer that runs it, or carry it out at that time").
			Then(finding.Run("cutover", "--due"))
	}
	return append(out, live)
}

// again says why a step is open again that was done before: what failed since, or what no longer shows.
func again(t *federation.Trust, p *federation.Proven, kind federation.ProofKind) string {
	s := ""
	if p != nil && !p.Whole() {
		s = "; it was, and since then no longer shown: " + federation.Proof{Lost: p.Lost}.LostWords()
	}
	if f := t.Failed; f != nil && (f.Kind == kind || kind == federation.WitnessProof && f.Kind == federation.Told) {
		s += "; run " + fmt.Sprint(f.Run) + " of " + f.At.Format("2006-01-02") + " failed: " + f.Why
	}
	return s
}

// settled marks the steps that somebody settled by hand.
func (d *Maker) settled(name string, list []Todo) error {
	all, err := d.SettledSteps(name)
	if err != nil {
		return err
	}
	by := map[finding.StepID]model.Settled{}
	for _, s := range all {
		by[cmp.Or(s.ID, finding.StepID(s.Step))] = s // ledgers of older versions know a step by its words
	}
	for i := range list {
		s, ok := by[list[i].ID]
		if !ok && list[i].older != "" {
			s, ok = by[list[i].older]
		}
		if !ok {
			s, ok = by[finding.StepID(list[i].Step)]
		}
		if !ok || list[i].Done {
			continue
		}
		how := "done"
		if s.Waived {
			how = "waived"
		}
		list[i].Done = true
		list[i].Said = fmt.Sprintf("%s, says %s on %s: %s", how, s.By, s.At.Format("2006-01-02"), s.Reason)
	}
	return nil
}

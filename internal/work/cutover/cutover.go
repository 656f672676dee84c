// Package cutover makes trusts live: it says what has to be true before people depend on one, makes it live now or at a
// time, for a group first or for everyone, and takes it back.
package cutover

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/plain"
	"tressik.example/internal/model"
	"tressik.example/internal/work/check"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/expect"
	"tressik.example/internal/work/mapping"
)

// Planner makes trusts of a ledger live.
type Planner struct {
	*expect.Runner
	Checker *check.Checker
}

// Errors that callers test for.
var (
	ErrWanting = errors.New("not every condition is met")
	ErrPast    = errors.New("is in the past")
	ErrFar     = errors.New("is more than a year away")
)

// Readiness is what has to be true of a trust before it is made live.
type Readiness struct {
	Trust    string             `json:"trust"`
	Standing string             `json:"standing"`
	Plan     federation.Cutover `json:"plan"`
	Findings finding.List       `json:"findings"`
}

// Ready reports whether nothing is wanting.
func (r *Readiness) Ready() bool { return !r.Findings.Failed() }

// wanting names what is wanting: each finding by its ID and what was looked at.
func (r *Readiness) wanting() []string {
	return keysOf(slices.DeleteFunc(slices.Clone(r.Findings),
		func(f finding.Finding) bool { return f.Level != finding.Error }))
}

func keysOf(list finding.List) []string {
	var out []string
	for i := range list {
		out = append(out, list[i].Key())
	}
	return out
}

// beyond names what is wanting and was not when the plan was allowed despite it.
func (r *Readiness) beyond(plan *federation.Cutover) []string {
	return keysOf(slices.DeleteFunc(slices.Clone(r.Findings), func(f finding.Finding) bool {
		return f.Level != finding.Error || plan.Despite != "" && slices.ContainsFunc(plan.Wanting, f.Is)
	}))
}

// Ready says of a trust what has to be true, and what of it is. Errors: *model.UnknownError.
func (p *Planner) Ready(ctx context.Context, name string, plan federation.Cutover) (*Readiness, error) {
	t, app, provider, err := p.Trust(name)
	if err != nil {
		return nil, err
	}
	r := &Readiness{Trust: name, Standing: string(t.Standing), Plan: plan, Findings: finding.List{}}
	if plan.Group != "" {
		if err := p.pilot(r, t, plan.Group); err != nil {
			return nil, err
		}
	}
	p.proof(r, t, app, provider)
	if err := p.expectations(ctx, r); err != nil {
		return nil, err
	}
	rep, err := p.Checker.Run(ctx, []string{name})
	if err != nil {
		return nil, err
	}
	p.checked(r, rep)
	if err := p.accounts(r, t, app); err != nil {
		return nil, err
	}
	p.words(r, t, app)
	r.Findings = append(r.Findings, t.Terms.SignOut(app, provider)...)
	return r, nil
}

// pilot says whom a pilot is for: who is in the group, and who of them the trust admits.
func (p *Planner) pilot(r *Readiness, t *federation.Trust, group string) error {
	persons, err := p.Persons()
	if err != nil {
		return err
	}
	consents, err := p.Consents(t.Name)
	if err != nil {
		return err
	}
	rule := t.Admission()
	rule.Pilot = group
	in, admitted := 0, 0
	for i := range persons {
		if persons[i].In(group) {
			in++
			if rule.Refuses(&persons[i], consents) == nil {
				admitted++
			}
		}
	}
	f := finding.Finding{ID: finding.CutoverPilot, Level: finding.Error, Check: "the pilot",
		Expected: "a group with people whom the trust admits", Side: finding.Ledger}
	switch {
	case in == 0:
		f.Saw, f.Fix = "the group "+group+", in which nobody is", finding.Run("people", "list")
	case admitted == 0:
		f.Saw = fmt.Sprintf("none of the %d people in the group %s is admitted: %s", in, group, t.Admission().Words())
		f.Fix = finding.Do("name another group for the pilot, or decide whether these people are to be admitted")
	case admitted < in:
		f.Level = finding.Warning
		f.Saw = fmt.Sprintf("%d of the %d people in the group %s are admitted: %s", admitted, in, group,
			t.Admission().Words())
		f.Expected = "each of them, or a word to the others that the pilot is not for them"
		f.Fix = finding.Do("tell the others, or decide whether they are to be admitted")
	default:
		r.Findings.Pass(finding.CutoverPilot, "the pilot", fmt.Sprintf("%d people in the group %s", in, group))
		return nil
	}
	r.Findings.Add(f)
	return nil
}

// proof says what the trust rests on: a sign-in that was watched; of a machine client, whom nobody can watch, that the
// real provider was asked; between own parties a rehearsal.
func (p *Planner) proof(r *Readiness, t *federation.Trust, app, provider *federation.Party) {
	have := t.Proof()
	want, fix := federation.WitnessProof, finding.Run("watch", t.Name)
	switch machine := t.Terms.Machine(app); {
	case app.Own && provider.Own:
		want, fix = federation.ByRehearsal, finding.Run("next", t.Name)
	case machine && provider.Own:
		want, fix = federation.ByRehearsal, finding.Run("rehearse", t.Name)
	case machine:
		want, fix = federation.ProbedProof, finding.Run("probe", t.Name)
	}
	switch {
	case have.Kind == federation.Told && len(have.By) > 1 && have.Whole():
		r.Findings.Add(finding.Finding{ID: finding.CutoverProof, Level: finding.Warning, Check: "proof",
			Saw: "told by " + strings.Join(have.By, " and ") + "; the app itself was not seen", Expected: string(want) +
				", as the trust is now", Side: finding.Ledger, Fix: finding.Run("watch", t.Name, "--recorded", "FILE")})
		return
	case have.Kind == federation.Told:
		r.Findings.Add(finding.Finding{ID: finding.CutoverProof, Level: finding.Error, Check: "proof",
			Saw:      "told by " + strings.Join(have.By, " and ") + "; the app itself was not seen",
			Expected: "the word of a second person, or a real response that the app took", Side: finding.Ledger,
			Fix: finding.Run("watch", t.Name, "--recorded", "FILE").Or(finding.Do("have somebody else sign in while " +
				"`tressik watch " + t.Name + "` goes on, and say so"))})
		return
	case !have.Whole() && !want.Stronger(have.Kind):
		r.Findings.Add(finding.Finding{ID: finding.CutoverProof, Level: finding.Error, Check: "proof",
			Saw: string(have.Kind) + ", and nothing shows any more: " + have.LostWords(), Expected: string(want) +
				", as the trust is now", Side: finding.Ledger, Fix: fix})
		return
	}
	if want.Stronger(have.Kind) {
		r.Findings.Add(finding.Finding{ID: finding.CutoverProof, Level: finding.Error, Check: "proof",
			Saw: string(have.Kind), Expected: string(want) + ", as the trust is now", Side: finding.Ledger, Fix: fix})
		return
	}
	r.Findings.Pass(finding.CutoverProof, "proof", string(have.Kind)+" on "+have.At.UTC().Format("2006-01-02"))
}

// expectations says whether there are any, and whether they hold.
func (p *Planner) expectations(ctx context.Context, r *Readiness) error {
	list, err := p.List(r.Trust)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		r.Findings.Add(finding.Finding{ID: finding.CutoverExpectations, Level: finding.Warning, Check: "expectations",
			Saw:      "none",
			Expected: "who gets in and who does not, to be run again afterwards", Side: finding.Ledger,
			Fix: finding.Run("expect", "record", r.Trust)})
		return nil
	}
	out, err := p.Run(ctx, []string{r.Trust}, true)
	if err != nil {
		return err
	}
	holds := 0
	for _, x := range out {
		if x.Holds {
			holds++
		}
	}
	if holds < len(out) {
		r.Findings.Add(finding.Finding{ID: finding.CutoverExpectations, Level: finding.Error, Check: "expectations",
			Saw: fmt.Sprintf("%d of %d pass", holds, len(out)), Expected: "all of them", Side: finding.Ledger,
			Fix: finding.Run("expect", "run", r.Trust)})
		return nil
	}
	r.Findings.Pass(finding.CutoverExpectations, "expectations", fmt.Sprintf("%d of %[1]d pass", len(out)))
	return nil
}

// checked takes over the errors of the check, and what it says of accounts.
func (p *Planner) checked(r *Readiness, rep *check.Report) {
	n := 0
	for _, x := range rep.Open() {
		if x.ID == finding.ProofNone { // what a live trust lacks; here it is asked for above
			continue
		}
		if x.Level == finding.Error {
			n++
		}
		if x.Level == finding.Error || x.ID.Of(finding.AccountFamily) {
			r.Findings.Add(x.Finding)
		}
	}
	if n == 0 {
		r.Findings.Pass(finding.CutoverCheck, "check", fmt.Sprintf("no error; %d passed", rep.Passed))
	}
}

// accounts says whom the app would know, where that is known; where it is not, nothing is claimed.
func (p *Planner) accounts(r *Readiness, t *federation.Trust, app *federation.Party) error {
	if t.Terms.Machine(app) {
		return nil
	}
	m, err := (&mapping.Mapper{Book: p.Checker.Book}).Match(t.Name)
	switch {
	case errors.Is(err, mapping.ErrNoAccounts), errors.Is(err, mapping.ErrNoKey), errors.Is(err, mapping.ErrNotKnown):
		fix := finding.Run("accounts", "load", app.Name, finding.BlankFile)
		if errors.Is(err, mapping.ErrNotKnown) {
			fix = finding.Run("watch", t.Name)
		} else if reads := t.Reading(app); reads == nil || reads.Key == "" {
			fix = finding.Run("app", "change", app.Name, "--reads", "FIELD=CLAIM", "--account-key", "FIELD")
		}
		r.Findings.Add(finding.Finding{ID: finding.CutoverAccounts, Level: finding.Note,
			Check: "accounts of " + app.Name,
			Saw:   "not known", Expected: "whom the app would know, from its own export", Side: finding.Ledger,
			Fix: fix})
		return nil
	case err != nil:
		return err
	}
	for _, f := range m.Judge() {
		if f.Level == finding.Pass {
			r.Findings = append(r.Findings, f)
		}
	}
	return nil
}

// words says whether it is known whom to tell, and what people use where it has to be taken back.
func (p *Planner) words(r *Readiness, t *federation.Trust, app *federation.Party) {
	if t.Owner == "" {
		r.Findings.Add(finding.Finding{ID: finding.CutoverOwner, Level: finding.Error, Check: "whom to ask",
			Saw: "nobody", Expected: "an owner of the trust", Side: finding.Ledger,
			Fix: finding.Run("trust", "change", t.Name, "--owner", "MAIL")})
	} else {
		r.Findings.Pass(finding.CutoverOwner, "whom to ask", t.Owner)
	}
	if !app.Own && app.Contact() == "" {
		r.Findings.Add(finding.Finding{ID: finding.CutoverContact, Level: finding.Warning,
			Check: "contact of " + app.Name, Saw: "none",
			Expected: "whom to call at the app when nobody can sign in", Side: finding.App,
			Fix: finding.Do("ask its owner for one")})
	}
	if strings.TrimSpace(r.Plan.Back) == "" {
		r.Findings.Add(finding.Finding{ID: finding.CutoverWayBack, Level: finding.Error, Check: "a way back",
			Saw:      "none is said",
			Expected: "what people use where it has to be taken back, such as the app's own sign-in",
			Side:     finding.Ledger,
			Fix:      finding.Run("cutover", t.Name, "--way-back", "TEXT")})
		return
	}
	r.Findings.Pass(finding.CutoverWayBack, "a way back", r.Plan.Back)
}

// Input says when and how a trust is made live.
type Input struct {
	Plan federation.Cutover
	Now  bool // at once; else at the plan's time
}

// Cut makes a trust live, or keeps the plan for later. Where something is wanting it is refused, unless the plan says
// despite what. Errors: ErrWanting, ErrPast, ErrFar, federation.ErrLive.
func (p *Planner) Cut(r *Readiness, in Input) (*federation.Trust, error) {
	if !r.Ready() && in.Plan.Despite == "" {
		return nil, fmt.Errorf("%s: %w", r.Trust, ErrWanting)
	}
	now := p.Now()
	if in.Plan.Despite != "" {
		in.Plan.Wanting = r.wanting()
	}
	if !in.Now {
		switch {
		case in.Plan.From.Before(now) && !in.Plan.Until.After(now): // a window that has begun is not over
			return nil, fmt.Errorf("%s %w", in.Plan.From.UTC().Format("2006-01-02 15:04 UTC"), ErrPast)
		case in.Plan.From.After(now.AddDate(1, 0, 0)):
			return nil, fmt.Errorf("%s %w", in.Plan.From.UTC().Format("2006-01-02 15:04 UTC"), ErrFar)
		}
	}
	action := "trust.plan-cutover"
	return p.change(r.Trust, func(t *federation.Trust) (string, error) {
		if err := t.PlanCutover(in.Plan); err != nil {
			return "", err
		}
		if in.Now {
			t.GoLive(now)
			action = "trust.cutover"
		}
		return action, nil
	})
}

// change changes the standing of a trust under an action of the journal.
func (p *Planner) change(name string, f func(*federation.Trust) (action string, err error)) (*federation.Trust, error) {
	old, _, _, err := p.Trust(name)
	if err != nil {
		return nil, err
	}
	if old.Standing == federation.Ended {
		return nil, fmt.Errorf("%s has ended", name)
	}
	t := old.Clone()
	action, err := f(t)
	if err != nil {
		return nil, err
	}
	return t, p.Change(func(tx *model.Edit) error { return tx.PutTrust(old, t, action) })
}

// Back takes a cutover, or the plan of one, back. Errors: federation.ErrNotLive.
func (p *Planner) Back(name string) (*federation.Trust, error) {
	return p.change(name, func(t *federation.Trust) (string, error) { return "trust.cutover-back", t.GoBack() })
}

// Pause switches a live trust off for a while, or on again. Errors: federation.ErrNotLive.
func (p *Planner) Pause(name string, off bool) (*federation.Trust, error) {
	return p.change(name, func(t *federation.Trust) (string, error) {
		return map[bool]string{true: "trust.pause", false: "trust.resume"}[off], t.Pause(off)
	})
}

// Due is what became of a plan whose time has come.
type Due struct {
	Trust string `json:"trust"`
	Done  bool   `json:"done"`
	Why   string `json:"why,omitempty"` // why it was not done
}

// Due carries the plans out whose time has come: each is looked at anew, and one of which something is wanting by now,
// or whose window is over, is not.
func (p *Planner) Due(ctx context.Context) ([]Due, error) {
	all, err := p.Trusts()
	if err != nil {
		return nil, err
	}
	out := []Due{}
	now := p.Now()
	for i := range all {
		plan := all[i].Plan
		if plan == nil || plan.From.After(now) {
			continue
		}
		d := Due{Trust: all[i].Name}
		r, err := p.Ready(ctx, d.Trust, *plan)
		switch {
		case err != nil:
			return out, err
		case !plan.Until.IsZero() && !now.Before(plan.Until):
			d.Why = "its window was over on " + plan.Until.UTC().Format("2006-01-02 15:04 UTC") + "; plan it anew"
		case len(r.beyond(plan)) > 0:
			d.Why = "it is not ready: " + strings.Join(r.beyond(plan), ", ")
		default:
			err = p.Keep(func(*model.Book) error {
				_, err := p.change(d.Trust, func(t *federation.Trust) (string, error) {
					t.GoLive(now)
					return "trust.cutover", nil
				})
				return err
			})
			if err != nil {
				return out, err
			}
			d.Done = true
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b Due) int { return strings.Compare(a.Trust, b.Trust) })
	return out, nil
}

// Note is what the administrator sends to the people concerned, in Markdown: what changes when, in the plan's zone,
// where it begins, whom to ask, and what to do where it does not work. t is the trust as it was before.
func Note(t *federation.Trust, app, provider *federation.Party, plan *federation.Cutover) string {
	when := "now"
	if !plan.Done {
		from, zone := plan.Local(plan.From)
		when = "on " + from.Format("Monday, 2 January 2006, 15:04 ") + zone
		if until, _ := plan.Local(plan.Until); !plan.Until.IsZero() {
			when = "between " + from.Format("Monday, 2 January 2006, 15:04") + " and " + until.Format("15:04 ") + zone
		}
	}
	start := app.StartLink()
	if c := app.ClientSide(); start == "" && c != nil {
		start = c.Start
	}
	say := func(s string) string { return plain.Markdown(plain.Line(s)) } // names come from others, too
	to, with := say(app.Label()), say(provider.Label())
	var b strings.Builder
	fmt.Fprintf(&b, "# Signing in to %s changes\n\n", to)
	switch plan.Way {
	case federation.Pilot:
		fmt.Fprintf(&b, "From then, %s, those in the group %s who may use %s sign in to it with %s. For everybody "+
			"else nothing changes yet.\n\n", when, say(plan.Group), to, with)
		if c := t.Admission().Pilot; c != "" && c != plan.Group {
			b.WriteString("Who is in the group " + say(c) + " alone goes back to what was before the pilot.\n\n")
		}
	case federation.Beside:
		fmt.Fprintf(&b, "From then, %s, you can sign in to %s with %s as well. The sign-in that you know "+
			"stays.\n\n", when, to, with)
	default:
		fmt.Fprintf(&b, "From then, %s, you sign in to %s with %s: the app sends you there by itself.\n\n", when, to,
			with)
	}
	if start != "" {
		fmt.Fprintf(&b, "It begins at <%s>.\n\n", start)
	}
	fmt.Fprintf(&b, "If you cannot sign in: %s\n\n", plain.Markdown(plan.Back))
	if t.Owner != "" {
		fmt.Fprintf(&b, "Questions go to %s.\n", say(t.Owner))
	}
	return b.String()
}

// Result is what is told of a cutover: what had to be true, and the trust as it is now.
type Result struct {
	Readiness *Readiness       `json:"readiness"`
	Trust     desk.TrustResult `json:"trust"`
}

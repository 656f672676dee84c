// Package expect keeps statements about trusts and runs them again: by rehearsal, before a change, at night, in CI.
package expect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/rehearse"
)

// Runner keeps expectations of a ledger.
type Runner struct{ *play.Player }

// Errors that callers test for.
var (
	ErrUnknown = errors.New("there is no such expectation")
	ErrNothing = errors.New("there is nothing to record")
	ErrFit     = errors.New("does not fit the trust")
)

// Add keeps an expectation. Errors: *model.UnknownError, ErrFit, federation.ErrContradicts, also for one that
// contradicts another.
func (k *Runner) Add(e *federation.Expected) error {
	t, app, _, err := k.Trust(e.Trust)
	if err != nil {
		return err
	}
	if t.Standing == federation.Ended {
		return fmt.Errorf("%s %w; nothing more is expected of it", t.Name, model.ErrEnded)
	}
	if e.As != "" {
		p, err := k.Person(e.As)
		if err != nil {
			return err
		}
		e.As = p.ID
	}
	machine := t.Terms.Machine(app)
	switch {
	case machine && e.As != "":
		return finding.Errorf("%w: %s is a machine client's, and nobody signs in there; leave %s out", ErrFit, t.Name,
			finding.FieldAs)
	case !machine && e.As == "":
		return finding.Errorf("%w: who signs in at %s? Say %s PERSON", ErrFit, t.Name, finding.FieldAs)
	case t.ClientID() == "" && len(e.Answered)+len(e.Denied)+len(e.AtMost) > 0:
		return fmt.Errorf("%w: %s is over SAML, and has neither calls nor tokens", ErrFit, t.Name)
	}
	for _, c := range append(slices.Clone(e.Answered), e.Denied...) {
		if _, err := k.AskOf(c); err != nil {
			return err
		}
	}
	if err := e.Check(); err != nil {
		return err
	}
	there, err := k.Expectations(e.Trust)
	if err != nil {
		return err
	}
	for i := range there {
		if x := &there[i]; x.As == e.As && x.Refused != e.Refused {
			return finding.Advise(fmt.Errorf("it %w expectation %d, by which %s is %s", federation.ErrContradicts, x.ID,
				x.Who(), x.Words()), finding.Run("expect", "remove", fmt.Sprint(x.ID)))
		}
	}
	return k.Change(func(tx *model.Edit) error { return tx.AddExpected(e) })
}

// Record keeps what the newest rehearsal of a trust showed. Errors: ErrNothing.
func (k *Runner) Record(trust string) (*federation.Expected, error) {
	if _, _, _, err := k.Trust(trust); err != nil {
		return nil, err
	}
	list, err := k.Runs(trust, 50)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if r := &list[i]; r.Kind == federation.ByRehearsal && len(r.Suppose) == 0 {
			e := federation.ExpectedOf(&r.Rehearsal)
			return e, k.Add(e)
		}
	}
	return nil, fmt.Errorf("%w: %s was not rehearsed yet", ErrNothing, trust)
}

// Remove takes an expectation away. Errors: ErrUnknown.
func (k *Runner) Remove(id int64) (*federation.Expected, error) {
	list, err := k.Expectations("")
	if err != nil {
		return nil, err
	}
	for i := range list {
		if list[i].ID == id {
			return &list[i], k.Change(func(tx *model.Edit) error { return tx.RemoveExpected(&list[i]) })
		}
	}
	return nil, fmt.Errorf("%w %d; see `tressik expect list`", ErrUnknown, id)
}

// List lists expectations of a trust; "" lists all.
func (k *Runner) List(trust string) ([]federation.Expected, error) {
	if trust != "" {
		if _, _, _, err := k.Trust(trust); err != nil {
			return nil, err
		}
	}
	return k.Expectations(trust)
}

// Outcome is how an expectation came out.
type Outcome struct {
	Result
	Holds    bool          `json:"holds"`
	Findings finding.List  `json:"findings"`
	Since    []model.Entry `json:"since,omitempty"` // what changed since it held last, where it does not hold now
}

// Run runs the expectations of trusts, of all where none is named, several at once. Errors: *model.UnknownError, those
// of the ledger.
func (k *Runner) Run(ctx context.Context, trusts []string, keep bool) ([]Outcome, error) {
	var all []federation.Expected
	if len(trusts) == 0 {
		trusts = []string{""}
	}
	for _, t := range trusts {
		list, err := k.List(t)
		if err != nil {
			return nil, err
		}
		all = append(all, list...)
	}
	persons, err := k.who(all)
	if err != nil {
		return nil, err
	}
	out := make([]Outcome, len(all))
	by := map[string][]int{}
	for i := range all {
		out[i] = Outcome{Result: ResultOf(&all[i]), Findings: finding.List{}}
		by[all[i].Trust] = append(by[all[i].Trust], i)
	}
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(2) // each trust is rehearsed on all processors
	for _, t := range slices.Sorted(maps.Keys(by)) {
		g.Go(func() error {
			err := k.trust(ctx, t, out, by[t], persons)
			mu.Lock()
			defer mu.Unlock()
			if err != nil && ctx.Err() == nil { // a trust that cannot be rehearsed holds nothing; the others go on
				for _, i := range by[t] {
					if !out[i].Holds && len(out[i].Findings) == 0 {
						out[i].Findings.Add(finding.Finding{ID: finding.ExpectRehearsal, Level: finding.Error,
							Check: "the rehearsal",
							Saw:   err.Error(), Expected: "a trust that can be rehearsed", Side: finding.Ledger,
							Fix: finding.Run("next", t)})
					}
				}
				return nil
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if err := k.explain(out); err != nil {
		return nil, err
	}
	if keep {
		return out, k.held(out)
	}
	return out, nil
}

// who finds the persons that expectations name, by ID; those who left are not among them.
func (k *Runner) who(all []federation.Expected) (map[string]people.Person, error) {
	persons := map[string]people.Person{}
	for i := range all {
		id := all[i].As
		if id == "" {
			continue
		}
		if _, there := persons[id]; there {
			continue
		}
		p, err := k.View.Person(id)
		if errors.Is(err, model.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		persons[id] = *p
	}
	return persons, nil
}

// trust runs the expectations of one trust.
func (k *Runner) trust(ctx context.Context, name string, out []Outcome, which []int,
	persons map[string]people.Person) error {
	t, err := k.View.Trust(name)
	if err != nil {
		return err
	}
	if err := t.Registered(); err != nil {
		return err
	}
	var scripts []rehearse.Script
	var of []int
	here := map[string]people.Person{}
	for _, i := range which {
		e := out[i].expected()
		p, known := persons[e.As]
		if e.As != "" && !known {
			out[i].left()
			continue
		}
		if e.As != "" {
			here[e.As] = p
		}
		scripts = append(scripts, rehearse.Script{Person: e.As, Second: true, From: "app",
			Call: append(slices.Clone(e.Answered), e.Denied...)})
		of = append(of, i)
	}
	if len(scripts) == 0 {
		return nil
	}
	list, err := k.Many(ctx, name, scripts, slices.Collect(maps.Values(here)))
	if err != nil {
		return err
	}
	for n, i := range of {
		x := &out[i]
		x.Findings = x.expected().Judge(&list[n])
		x.Holds = !x.Findings.Failed()
	}
	return nil
}

// left says that an expectation is about somebody who is not in the ledger any more.
func (x *Outcome) left() {
	x.Findings.Add(finding.Finding{ID: finding.ExpectPerson, Level: finding.Error, Check: "who it is about",
		Saw: x.As + " is not in the ledger any more", Expected: "somebody who can sign in", Side: finding.Ledger,
		Fix: finding.Run("expect", "remove", fmt.Sprint(x.ID))})
}

// explain says of each that does not hold what changed since it did, and what to do.
func (k *Runner) explain(out []Outcome) error {
	for i := range out {
		x := &out[i]
		if x.Holds {
			continue
		}
		t, err := k.View.Trust(x.Trust)
		if err != nil {
			return err
		}
		if x.HeldSeq > 0 {
			if x.Since, err = k.JournalAfter(x.HeldSeq, t); err != nil {
				return err
			}
		}
		// Which of the two is right only a person can say.
		fix := finding.Do("where " + x.Trust + " is wrong, change it; where it is as it should be, expect that instead")
		if n := len(x.Since); n > 0 {
			e := x.Since[n-1]
			fix = finding.Do(fmt.Sprintf("since it held, %s did %s (%s; entry %d of %s): take that back where it was "+
				"wrong; where it was meant, expect what is now",
				e.Actor, e.Action, Changed(&e), e.Seq, e.At.UTC().Format("2006-01-02 15:04 UTC")))
		}
		fix = fix.Then(finding.Run("expect", "remove", fmt.Sprint(x.ID)))
		for j := range x.Findings {
			if f := &x.Findings[j]; f.Level == finding.Error && f.Fix.IsZero() {
				f.Fix = fix
			}
		}
	}
	return nil
}

// Changed says what an entry of the journal changed: from which value to which, where they are short.
func Changed(e *model.Entry) string {
	var before, after map[string]any
	_ = json.Unmarshal(e.Before, &before) // empty where there is none
	_ = json.Unmarshal(e.After, &after)
	var out []string
	for _, k := range slices.Sorted(maps.Keys(after)) {
		if slices.Contains([]string{"changed", "reshaped", "standing", "rehearsalHolds", "version"}, k) {
			continue
		}
		was, _ := before[k].(string)
		now, short := after[k].(string)
		if short && len(was)+len(now) < 120 && was != "" {
			out = append(out, k+" from "+was+" to "+now)
			continue
		}
		out = append(out, k)
	}
	if len(out) == 0 {
		return e.Fields()
	}
	return strings.Join(out, ", ")
}

// held notes when those that hold did.
func (k *Runner) held(out []Outcome) error {
	seq, err := k.LastSeq()
	if err != nil {
		return err
	}
	var list []federation.Expected
	for i := range out {
		if e := out[i].expected(); out[i].Holds {
			e.Held, e.HeldSeq = k.Now().UTC(), seq
			out[i].Result = ResultOf(e)
			list = append(list, *e)
		}
	}
	if len(list) == 0 {
		return nil
	}
	return k.Keep(func(b *model.Book) error {
		return b.Change(func(tx *model.Edit) error { return tx.Held(list) })
	})
}

package charter

import (
	"context"
	"maps"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/expect"
)

// Trial enacts the charter on what stands, keeps nothing, and rehearses there what is expected of the trusts that it
// declares. Of a trust of which nothing is expected, the first who is admitted is to get in; where nobody is, it is not
// tried, and named. With every, what the ledger expects of trusts that the charter does not declare is rehearsed too: a
// changed provider or group reaches them as well. Errors: those of Compare.
func (k *Enactor) Trial(ctx context.Context, every bool) (list []expect.Outcome, untried []string, err error) {
	b := k.Try()
	try := *k
	try.Desk, try.Accept = desk.New(b), true
	if _, _, err := try.Run(""); err != nil {
		return nil, nil, err
	}
	runner := &expect.Runner{Player: play.On(b)}
	names := slices.Sorted(maps.Keys(k.File.Trusts))
	persons, err := b.Persons()
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		tried, err := try.someone(runner, name, persons)
		if err != nil {
			return nil, nil, err
		}
		if !tried {
			untried = append(untried, name)
		}
	}
	if every {
		all, err := b.Expectations("")
		if err != nil {
			return nil, nil, err
		}
		for _, e := range all {
			if !slices.Contains(names, e.Trust) {
				names = append(names, e.Trust)
			}
		}
	}
	if len(names) == 0 {
		return []expect.Outcome{}, nil, nil
	}
	if list, err = runner.Run(ctx, names, false); err != nil {
		return nil, nil, err
	}
	return list, untried, k.remedied(list)
}

// remedied has what is expected by the charter alone, or by nobody yet, remedied there: the ledger does not know it.
func (k *Enactor) remedied(list []expect.Outcome) error {
	have, err := k.Expectations("")
	if err != nil {
		return err
	}
	for i := range list {
		x := &list[i]
		if slices.ContainsFunc(have, func(e federation.Expected) bool { return e.ID == x.ID }) {
			continue
		}
		for j := range x.Findings {
			if f := &x.Findings[j]; f.Level == finding.Error {
				f.Fix = finding.Do("where " + x.Trust + " is wrong, change what the charter declares of it; where " +
					"it is as it should be, declare that under expectations")
			}
		}
	}
	return nil
}

// someone expects of a trust of which nothing is expected that somebody gets in, and reports whether anything is
// expected then.
func (k *Enactor) someone(r *expect.Runner, name string, persons []people.Person) (bool, error) {
	have, err := k.Expectations(name)
	if err != nil || len(have) > 0 {
		return true, err
	}
	t, app, _, err := k.Trust(name)
	if err != nil {
		return false, err
	}
	e := &federation.Expected{Trust: name}
	if !t.Terms.Machine(app) {
		consents, err := k.Consents(name)
		if err != nil {
			return false, err
		}
		i := slices.IndexFunc(persons, func(p people.Person) bool {
			ok, _ := t.AdmitsPerson(&p, consents)
			return ok
		})
		if i < 0 {
			return false, nil
		}
		e.As = persons[i].ID
	}
	return true, r.Add(e)
}

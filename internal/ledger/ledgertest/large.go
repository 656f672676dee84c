package ledgertest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit"
)

// crowd are n persons, with a title where one is given.
func crowd(n int, title string) (out []people.Person) {
	for i := range n {
		id := fmt.Sprintf("person%d", i)
		p := people.Person{ID: id, Attributes: map[string][]string{"mail": {id + "@kestrelridge.example"}},
			Groups: []string{fmt.Sprint("floor-", i%7)}}
		if title != "" {
			p.Attributes["title"] = []string{title}
		}
		out = append(out, p)
	}
	return out
}

func load(list []people.Person, replace bool) func(*model.Book) error {
	return func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			_, _, _, err := e.PutPersons(list, replace, "people.csv")
			return err
		})
	}
}

func whole(t *testing.T, l ledger.Ledger, persons int) {
	t.Helper()
	err := l.View(t.Context(), func(v model.View) error {
		all, err := v.Persons()
		if err != nil {
			return err
		}
		census, err := v.Census()
		if err != nil {
			return err
		}
		again, err := model.Remember(v).Persons()
		if err != nil {
			return err
		}
		if !slices.EqualFunc(again, all, func(a, b people.Person) bool { return a.ID == b.ID }) {
			t.Errorf("%d persons are remembered of %d", len(again), len(all))
		}
		p, err := v.Prove("")
		if err == nil && (len(all) != persons || census.People != persons || !p.Whole()) {
			t.Errorf("%d persons, %d counted, where there are to be %d; %+v", len(all), census.People, persons, p)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// overlaid makes a change, and holds what stands then against what an overlay of the moment before said of it. It
// returns how often the change was worked out.
func overlaid(t *testing.T, l ledger.Ledger, what string, f func(*model.Book) error) (runs int) {
	t.Helper()
	before, end, err := l.Snapshot(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var made model.Changes
	err = l.Update(t.Context(), func(v model.View) (model.Changes, error) {
		runs++
		b, e := model.Begin(v, l.Env())
		err := f(b)
		made = e.Changes()
		return made, err
	})
	if err != nil {
		t.Fatalf("%s: %v", what, err)
	}
	expected := dump(t, model.Overlay(before, made), testkit.Noon())
	if is := dump(t, l.Now(t.Context()), testkit.Noon()); is != expected {
		t.Errorf("%s:\n%s", what, different(is, expected))
	}
	if err := end(); err != nil {
		t.Error(err)
	}
	return runs
}

// large: a change of thousands of records says what an overlay said of it, whatever is put over, beside and away.
func large(t *testing.T, made Make) {
	l, _ := made(t, testkit.Env(1))
	for _, c := range []struct {
		what    string
		do      func(*model.Book) error
		persons int
	}{
		{"all is new", func(b *model.Book) error {
			if err := load(crowd(3000, ""), false)(b); err != nil {
				return err
			}
			return makeTrust(b)
		}, 3000},
		{"everybody is taken away and put again", func(b *model.Book) error {
			if err := load(crowd(1, ""), true)(b); err != nil {
				return err
			}
			return load(crowd(3000, ""), false)(b)
		}, 3000},
		{"all are changed, some are new", load(crowd(5000, "observer"), false), 5000},
		{"most are taken away", load(crowd(400, "engineer"), true), 400},
		{"somebody is put twice, and taken away", func(b *model.Book) error {
			if err := load(crowd(3000, "x"), false)(b); err != nil {
				return err
			}
			return load(crowd(2999, "y"), true)(b)
		}, 2999},
		{"other records beside", func(b *model.Book) error {
			if err := load(crowd(6000, "z"), false)(b); err != nil {
				return err
			}
			return b.Change(func(e *model.Edit) error {
				if err := e.Tell([]string{"something"}); err != nil {
					return err
				}
				return e.Let(&model.Let{Finding: "key.end", About: "ridge", Until: testkit.Noon().Add(time.Hour)})
			})
		}, 6000},
	} {
		overlaid(t, l, c.what, c.do)
		whole(t, l, c.persons)
	}
}

// largeAmongOthers: what others write while a large change is worked out is there afterwards; where it concerns people
// the change is worked out anew.
func largeAmongOthers(t *testing.T, made Make) {
	l, again := made(t, testkit.Env(1))
	do(t, l, makeTrust)
	other := again()
	for n, c := range []struct {
		what  string
		write func(*model.Book) error
		runs  int
	}{
		{"something else", func(b *model.Book) error {
			return b.Change(func(e *model.Edit) error {
				return e.Let(&model.Let{Finding: "key.end", About: "ridge", Until: testkit.Noon().Add(time.Hour)})
			})
		}, 1},
		{"what the journal does not have", func(b *model.Book) error {
			return b.Change(func(e *model.Edit) error { return e.Tell([]string{"something"}) })
		}, 1},
		{"somebody", load([]people.Person{{ID: "mira", Attributes: map[string][]string{"mail": {"m@k.example"}}}},
			false), 2},
	} {
		runs := 0
		do(t, l, func(b *model.Book) error {
			if _, err := b.View.Party("ridge"); err != nil { // the moment of this run
				return err
			}
			if runs++; runs == 1 {
				do(t, other, c.write)
			}
			return load(crowd(3000, fmt.Sprint("round ", n)), false)(b)
		})
		if runs != c.runs {
			t.Errorf("%s: it was worked out %d times", c.what, runs)
		}
	}
	whole(t, l, 3001)
	v := l.Now(t.Context())
	if list, err := v.Acceptances(); err != nil || len(list) != 1 {
		t.Errorf("what others wrote: %v %v", list, err)
	}
	if p, err := v.Person("person0"); err != nil || p.Attributes["title"][0] != "round 2" {
		t.Errorf("%v %v", p, err)
	}
}

// makeTrusts makes so many apps, each with a trust with one provider.
func makeTrusts(many int) func(*model.Book) error {
	return func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			ridge := &federation.Party{Name: "ridge", Kind: federation.Provider, Own: true}
			if err := e.AddParty(ridge, nil); err != nil {
				return err
			}
			for i := range many {
				p := &federation.Party{Name: fmt.Sprintf("app%04d", i), Kind: federation.App, Own: true}
				trust := federation.NewTrust(p, ridge, "", &federation.SAMLTerms{}, e.Now())
				if err := errors.Join(e.AddParty(p, nil), e.AddTrust(trust,
					federation.SubjectKey{Salt: []byte("x")})); err != nil {
					return err
				}
			}
			return nil
		})
	}
}

// owned gives all trusts an owner; for mira it adds a trust and changes one once more as well.
func owned(owner string) func(*model.Book) error {
	return func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			all, err := e.View.Trusts()
			if err != nil {
				return err
			}
			for i := range all {
				x := all[i].Clone()
				x.Owner = owner
				if err := e.PutTrust(&all[i], x, "trust.change"); err != nil {
					return err
				}
			}
			if owner != "mira" {
				return nil
			}
			p := &federation.Party{Name: "plates", Kind: federation.App, Own: true}
			ridge, err := e.View.Party("ridge")
			if err != nil {
				return err
			}
			plates := federation.NewTrust(p, ridge, "", &federation.SAMLTerms{}, e.Now())
			err = errors.Join(e.AddParty(p, nil), e.AddTrust(plates, federation.SubjectKey{Salt: []byte("x")}))
			if err != nil {
				return err
			}
			last, err := e.View.Trust(all[8].Name)
			if err != nil {
				return err
			}
			x := last.Clone()
			x.Admits = "group:observers"
			return e.PutTrust(last, x, "trust.change")
		})
	}
}

// manyTrusts: a change of thousands of trusts says what an overlay said of it, whatever is done to other records in it,
// and is made as it was worked out where others wrote something else meanwhile.
func manyTrusts(t *testing.T, made Make) {
	l, again := made(t, testkit.Env(1))
	const many = 2100
	do(t, l, makeTrusts(many))
	other := again()
	for n, c := range []struct {
		owner  string
		others func(*model.Book) error
		runs   int
	}{
		{"tobias", nil, 1},
		{"mira", nil, 1},
		{"aiyana", load(crowd(1, ""), false), 1},
		{"ilse", func(b *model.Book) error {
			x, err := b.View.Trust("app0001@ridge")
			if err != nil {
				return err
			}
			return b.Change(func(e *model.Edit) error { return e.RemoveTrust(x) })
		}, 2},
	} {
		runs := 0
		if c.others == nil {
			runs = overlaid(t, l, c.owner, owned(c.owner))
		} else {
			do(t, l, func(b *model.Book) error {
				if _, err := b.View.Party("ridge"); err != nil { // the moment of this run
					return err
				}
				if runs++; runs == 1 {
					do(t, other, c.others)
				}
				return owned(c.owner)(b)
			})
		}
		if runs != c.runs {
			t.Errorf("%s: it was worked out %d times, not %d", c.owner, runs, c.runs)
		}
		whole(t, l, n/2)
		all, err := l.Now(t.Context()).Trusts()
		if err != nil || len(all) != []int{many, many + 1, many + 1, many}[n] {
			t.Errorf("%s: %d trusts, %v", c.owner, len(all), err)
		}
		for i := range all {
			if want := c.owner; all[i].Owner != want && all[i].App != "plates" {
				t.Fatalf("%s is of %s, not of %s", all[i].Name, all[i].Owner, want)
			}
		}
	}
	if _, breaks, err := l.Now(t.Context()).VerifyJournal(); err != nil || len(breaks) > 0 {
		t.Errorf("%v %v", breaks, err)
	}
}

// largeCancelled: a large change that is cancelled is there whole or not at all, and the next one goes through.
func largeCancelled(t *testing.T, made Make) {
	l, _ := made(t, testkit.Env(1))
	do(t, l, makeTrust)
	have := 0
	for i := range 8 {
		ctx, cancel := context.WithCancel(t.Context())
		list := crowd(3000+i, "")
		start := time.Now()
		stop := time.AfterFunc(time.Duration(i)*25*time.Millisecond, cancel)
		err := ledger.Updater(l.Update).Do(ctx, l.Env(), load(list, true))
		stop.Stop()
		cancel()
		if err == nil {
			have = len(list)
		} else if !errors.Is(err, context.Canceled) {
			t.Errorf("cancelled after %s: %v", time.Since(start), err)
		}
		whole(t, l, have)
	}
	do(t, l, load(crowd(3100, ""), true))
	whole(t, l, 3100)
}

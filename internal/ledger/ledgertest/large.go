package ledgertest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"

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
		var expected string
		do(t, l, func(b *model.Book) error {
			if err := c.do(b); err != nil {
				return err
			}
			expected = dump(t, b.View, b.Now())
			return nil
		})
		if is := dump(t, l.Now(t.Context()), testkit.Noon()); is != expected {
			t.Errorf("%s:\n%s", c.what, different(is, expected))
		}
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

// Package ledgertest is what every engine of a ledger has to stand.
package ledgertest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit"
)

// Make makes a new ledger with an environment, and opens the same one again.
type Make func(t *testing.T, env model.Env) (l ledger.Ledger, again func() ledger.Ledger)

// Fill makes a new ledger of all that another one has.
type Fill func(t *testing.T, env model.Env, s ledger.Source) (ledger.Ledger, error)

// Suite runs all tests of an engine.
func Suite(t *testing.T, made Make, fill Fill) {
	t.Run("filled", func(t *testing.T) {
		t.Parallel()
		filled(t, made, fill)
	})
	for _, c := range []struct {
		name string
		run  func(*testing.T, Make)
	}{{"answers as an overlay", answersAsAnOverlay}, {"all or nothing", allOrNothing}, {"writers", writers},
		{"readers", readers},
		{"one moment", oneMoment}, {"journal", journal}, {"watch", watch}, {"opened again", openedAgain},
		{"indexes", indexes}, {"beginnings", beginnings}, {"mentions", mentions},
		{"remembered", remembered}, {"overtaken", overtaken}, {"overtaken elsewhere", overtakenElsewhere},
		{"cancelled", cancelled}, {"large", large}, {"many trusts", manyTrusts},
		{"large among others", largeAmongOthers}, {"large, cancelled", largeCancelled}} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			c.run(t, made)
		})
	}
}

func do(t *testing.T, l ledger.Ledger, f func(*model.Book) error) {
	t.Helper()
	if err := ledger.Updater(l.Update).Do(t.Context(), l.Env(), f); err != nil {
		t.Fatal(err)
	}
}

func dump(t *testing.T, v model.View, now time.Time) string {
	t.Helper()
	var b bytes.Buffer
	if err := testkit.Dump(&b, v, now); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// different shows the first lines in which two dumps differ.
func different(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range max(len(x), len(y)) {
		var p, q string
		if i < len(x) {
			p = x[i]
		}
		if i < len(y) {
			q = y[i]
		}
		if p != q {
			return p + "\nand not\n" + q
		}
	}
	return ""
}

// answersAsAnOverlay: what an engine says after each change is what an overlay said before it was made.
func answersAsAnOverlay(t *testing.T, made Make) {
	h, err := testkit.NewHistory(7)
	if err != nil {
		t.Fatal(err)
	}
	l, _ := made(t, h.Env)
	var before string
	for i := range 250 {
		do(t, l, func(b *model.Book) error {
			if err := h.Do(b); err != nil {
				return err
			}
			if i%5 == 0 { // several things in one change
				if err := h.Do(b); err != nil {
					return err
				}
			}
			before = dump(t, b.View, b.Now())
			return nil
		})
		err := l.View(t.Context(), func(v model.View) error {
			if after := dump(t, v, h.Env.Now()); after != before {
				return fmt.Errorf("after %q (%d):\n%s", h.Last(), i, different(after, before))
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	err = l.View(t.Context(), func(v model.View) error {
		p, err := v.Prove("")
		if err == nil && (p.Entries < 150 || !p.Whole() || p.Records < 100 || p.Unproven > 0) {
			t.Errorf("%+v", p)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// indexes: each record is found by each value under which it says it is, and by no other.
func indexes(t *testing.T, made Make) {
	h, err := testkit.NewHistory(11)
	if err != nil {
		t.Fatal(err)
	}
	l, _ := made(t, h.Env)
	for range 160 {
		do(t, l, h.Do)
	}
	found := 0
	err = l.View(t.Context(), func(v model.View) error {
		for _, k := range model.Kinds() {
			for r, err := range v.Find(model.Query{Kind: k}) {
				if err != nil {
					return err
				}
				one, err := v.Get(r.Key())
				if err != nil || one.Key() != r.Key() {
					t.Errorf("%v by its key: %v, %v", r.Key(), one, err)
				}
				for _, by := range model.Indexes() {
					for _, value := range r.Under(by) {
						q := model.Query{Kind: k, By: by, Value: value, Newest: found%2 == 0}
						if !holds(t, v, q, r.Key()) {
							t.Errorf("%v is not found by %s %q", r.Key(), by, value)
						}
						found++
					}
				}
			}
		}
		return nil
	})
	if err != nil || found < 50 {
		t.Errorf("%d, %v", found, err)
	}
}

// remembered: what a View remembers is what the ledger says, however it is asked.
func remembered(t *testing.T, made Make) {
	h, err := testkit.NewHistory(17)
	if err != nil {
		t.Fatal(err)
	}
	l, _ := made(t, h.Env)
	for range 200 {
		do(t, l, h.Do)
	}
	err = l.View(t.Context(), func(v model.View) error {
		for _, kinds := range [][]model.Kind{nil, {model.Trusts, model.Parties}, model.Kinds()} {
			m := model.Remember(v, kinds...)
			is, want := dump(t, m, testkit.Noon()), dump(t, v, testkit.Noon())
			if is != want {
				t.Errorf("%v: %s", kinds, different(is, want))
			}
			for _, k := range model.Kinds() {
				for r, err := range v.Find(model.Query{Kind: k}) {
					if err != nil {
						return err
					}
					for _, by := range model.Indexes() {
						for _, value := range r.Under(by) {
							if !holds(t, m, model.Query{Kind: k, By: by, Value: value, Newest: true}, r.Key()) {
								t.Errorf("%v is not remembered by %s %q", r.Key(), by, value)
							}
						}
					}
				}
			}
			if _, err := m.Get(model.Key{Kind: model.Trusts, ID: "none@none"}); !errors.Is(err, model.ErrNotFound) {
				t.Errorf("what is not there: %v", err)
			}
		}
		return nil
	})
	if err != nil {
		t.Error(err)
	}
}

// beginnings: what begins with a text is found by it, in order, and nothing else.
func beginnings(t *testing.T, made Make) {
	h, err := testkit.NewHistory(13)
	if err != nil {
		t.Fatal(err)
	}
	l, _ := made(t, h.Env)
	for range 150 {
		do(t, l, h.Do)
	}
	err = l.View(t.Context(), func(v model.View) error {
		for _, q := range []model.Query{{Kind: model.People}, {Kind: model.Trusts}, {Kind: model.Parties},
			{Kind: model.Parties, By: model.ByKind, Value: "app"}} {
			var all []string
			for r, err := range v.Find(q) {
				if err != nil {
					return err
				}
				all = append(all, r.Key().ID)
			}
			if len(all) == 0 {
				t.Errorf("%d of %s", len(all), q.Kind)
			}
			for _, id := range append(all, "none") {
				for n := range min(len(id), 5) {
					q.Begins = id[:n]
					var is, want []string
					for r, err := range v.Find(q) {
						if err != nil {
							return err
						}
						is = append(is, r.Key().ID)
					}
					for _, x := range all {
						if strings.HasPrefix(x, q.Begins) {
							want = append(want, x)
						}
					}
					if !slices.Equal(is, want) {
						t.Errorf("%s that begin with %q: %q and not %q", q.Kind, q.Begins, is, want)
					}
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Error(err)
	}
}

// mentions: whatever one holds, and however it is written, one is found by it, and nobody else is.
func mentions(t *testing.T, made Make) {
	h, err := testkit.NewHistory(17)
	if err != nil {
		t.Fatal(err)
	}
	l, _ := made(t, h.Env)
	list := crowd(40, "")
	odd := []string{"\u0130zm\u0130r", "\u212Aelvin", "kelvin", "izmir", "IZMIR", "M\u00fcller", "M\u00dcLLER",
		`O"Neil`, `back\slash`,
		"<b>&", "a/b", "100%", "under_score", "star*", "a b", "tab\there", "\u017fecret", "*", "\\", "i", "k"}
	for i, v := range odd {
		list[i].Attributes["title"] = []string{"x", "one " + v + " more"}
		list[i].Groups = append(list[i].Groups, v)
	}
	do(t, l, load(list, false))
	words := [][]string{{"person1"}, {"person3@kestrelridge.example"}, {"KESTREL", "person2"}, {"floor-3", "@"},
		{"nobody"}, {""}, {strings.Repeat("ik", 40)}, {strings.Repeat("a", 40), "k"}}
	for _, v := range odd {
		words = append(words, []string{v}, []string{strings.ToUpper(v)}, []string{"one " + v, "PERSON"},
			[]string{strings.ToLower(v) + " more"})
	}
	if err := l.View(t.Context(), func(v model.View) error {
		for _, w := range words {
			var is, want []string
			for p, err := range v.Holding(w...) {
				if err != nil {
					return fmt.Errorf("%q: %w", w, err)
				}
				is = append(is, p.ID)
			}
			for p, err := range v.EachPerson() {
				if err != nil {
					return err
				}
				if p.Holds(w...) {
					want = append(want, p.ID)
				}
			}
			if !slices.Equal(is, want) {
				t.Errorf("%q is held by %q and not %q", w, is, want)
			}
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}

func holds(t *testing.T, v model.View, q model.Query, k model.Key) (there bool) {
	for r, err := range v.Find(q) {
		if err != nil {
			t.Fatal(err)
		}
		if !slices.Contains(r.Under(q.By), q.Value) {
			t.Errorf("%v is found by %s %q", r.Key(), q.By, q.Value)
		}
		there = there || r.Key() == k
	}
	return there
}

func allOrNothing(t *testing.T, made Make) {
	l, _ := made(t, testkit.Env(1))
	before := dump(t, l.Now(t.Context()), testkit.Noon())
	boom := errors.New("boom")
	err := ledger.Updater(l.Update).Do(t.Context(), l.Env(), func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			if err := e.AddParty(&federation.Party{Name: "nightlog", Kind: federation.App}, nil); err != nil {
				return err
			}
			return boom
		})
	})
	if !errors.Is(err, boom) {
		t.Fatal(err)
	}
	// What breaks a rule of the engine itself, behind those of the model, leaves nothing either.
	err = l.Update(t.Context(), func(model.View) (model.Changes, error) {
		return model.Changes{Records: []model.Change{
			{Key: model.Key{Kind: model.Parties, ID: "a"}, After: &model.Party{Party: federation.Party{Name: "a",
				Kind: federation.App}}},
			{Key: model.Key{Kind: model.Secrets, ID: "s"}, After: &model.Secret{Secret: federation.Secret{ID: "s",
				Trust: "nobody@nowhere"}}}}}, nil
	})
	if err == nil {
		t.Error("a secret of a trust that is not there was kept")
	}
	if after := dump(t, l.Now(t.Context()), testkit.Noon()); after != before {
		t.Errorf("something was kept: %s", different(after, before))
	}
}

// makeTrust makes a trust and what it needs.
func makeTrust(b *model.Book) error {
	return b.Change(func(e *model.Edit) error {
		app := &federation.Party{Name: "nightlog", Kind: federation.App, Own: true}
		provider := &federation.Party{Name: "ridge", Kind: federation.Provider, Own: true}
		t := federation.NewTrust(app, provider, "", &federation.SAMLTerms{}, e.Now())
		return errors.Join(e.AddParty(app, nil), e.AddParty(provider, nil), e.AddTrust(t,
			federation.SubjectKey{Salt: []byte("x")}))
	})
}

// writers: many write one trust at the same time, each on a ledger of its own; all changes land, and none is lost.
func writers(t *testing.T, made Make) {
	l, again := made(t, testkit.Env(1))
	do(t, l, makeTrust)
	const many, each = 16, 3
	var wg sync.WaitGroup
	errs := make(chan error, many*each)
	for w := range many {
		other := again()
		wg.Add(1)
		go func() {
			defer wg.Done()
			for i := range each {
				errs <- ledger.Updater(other.Update).Do(context.Background(), other.Env(), func(b *model.Book) error {
					old, _, _, err := b.Trust("nightlog@ridge")
					if err != nil {
						return err
					}
					x := old.Clone()
					x.Owner += fmt.Sprintf(" %d.%d", w, i)
					return b.Change(func(e *model.Edit) error { return e.PutTrust(old, x, "trust.change") })
				})
			}
		}()
	}
	wg.Wait()
	close(errs)
	for err := range errs {
		if err != nil {
			t.Error(err)
		}
	}
	x, err := l.Now(t.Context()).Trust("nightlog@ridge")
	if err != nil {
		t.Fatal(err)
	}
	if n := len(strings.Fields(x.Owner)); n != many*each || x.Version != many*each+1 {
		t.Errorf("%d of %d changes are there, at version %d", n, many*each, x.Version)
	}
	if _, breaks, err := l.Now(t.Context()).VerifyJournal(); err != nil || len(breaks) > 0 {
		t.Errorf("%v %v", breaks, err)
	}
}

// overtaken: a change is worked out again where somebody else was faster, and sees what they did.
func overtaken(t *testing.T, made Make) {
	l, again := made(t, testkit.Env(1))
	do(t, l, makeTrust)
	other := again()
	runs := 0
	do(t, l, func(b *model.Book) error {
		runs++
		old, _, _, err := b.Trust("nightlog@ridge")
		if err != nil {
			return err
		}
		if runs == 1 {
			do(t, other, func(b *model.Book) error {
				x := old.Clone()
				x.Owner = "other"
				return b.Change(func(e *model.Edit) error { return e.PutTrust(old, x, "trust.change") })
			})
		}
		x := old.Clone()
		x.Owner += " mine"
		return b.Change(func(e *model.Edit) error { return e.PutTrust(old, x, "trust.change") })
	})
	if x, err := l.Now(t.Context()).Trust("nightlog@ridge"); err != nil || x.Owner != "other mine" || runs != 2 {
		t.Errorf("%q after %d runs, %v", x.Owner, runs, err)
	}
}

// overtakenElsewhere: a change is made as it was worked out where what others wrote meanwhile is nothing that it asked
// about; where it is, or where nobody can tell, it is worked out again.
func overtakenElsewhere(t *testing.T, made Make) {
	l, again := made(t, testkit.Env(1))
	do(t, l, makeTrust)
	other := again()
	changes := func(owner string) func(b *model.Book) error {
		return func(b *model.Book) error {
			old, _, _, err := b.Trust("nightlog@ridge")
			if err != nil {
				return err
			}
			x := old.Clone()
			x.Owner = owner
			return b.Change(func(e *model.Edit) error { return e.PutTrust(old, x, "trust.change") })
		}
	}
	let := func(about string) func(b *model.Book) error {
		return func(b *model.Book) error {
			return b.Change(func(e *model.Edit) error {
				return e.Let(&model.Let{Finding: "key.end", About: about, Until: testkit.Noon().Add(time.Hour)})
			})
		}
	}
	asks := func(f func(v model.View) error) func(b *model.Book) error {
		return func(b *model.Book) error { return errors.Join(f(b.View), let("asked")(b)) }
	}
	for _, c := range []struct {
		what   string
		does   func(*model.Book) error
		others func(*model.Book) error
		runs   int
	}{
		{"nothing of it", let("one"), changes("mira"), 1},
		{"the same kind of record", let("two"), let("three"), 2},
		{"what it asked for by name", asks(func(v model.View) error {
			_, err := v.Trust("nightlog@ridge")
			return err
		}), changes("tobias"), 2},
		{"what is not there", asks(func(v model.View) error {
			if _, err := v.Trust("plates@ridge"); !errors.Is(err, model.ErrNotFound) {
				return errors.New("it is there")
			}
			return nil
		}), changes("aiyana"), 2},
		{"what it counted", asks(func(v model.View) error {
			_, err := v.Count(model.Query{Kind: model.Trusts})
			return err
		}), changes("ilse"), 2},
		{"names alone", asks(func(v model.View) error {
			_, err := v.TrustNames("")
			return err
		}), changes("petra"), 2},
		{"how many people there are", asks(func(v model.View) error {
			_, err := v.Census()
			return err
		}), load(crowd(1, ""), false), 2},
		{"the journal", asks(func(v model.View) error {
			_, err := v.Journal(model.Filter{Last: 1})
			return err
		}), changes("mira"), 2},
		{"what the journal does not have", asks(func(v model.View) error {
			_, err := v.Told()
			return err
		}), changes("tobias"), 2},
	} {
		runs := 0
		do(t, l, func(b *model.Book) error {
			if err := c.does(b); err != nil {
				return err
			}
			if runs++; runs == 1 {
				do(t, other, c.others)
			}
			return nil
		})
		if runs != c.runs {
			t.Errorf("%s: it was worked out %d times, not %d", c.what, runs, c.runs)
		}
	}
	whole(t, l, 1)
	if _, breaks, err := l.Now(t.Context()).VerifyJournal(); err != nil || len(breaks) > 0 {
		t.Errorf("%v %v", breaks, err)
	}
}

// oneMoment: a View stays what it is while others write.
func oneMoment(t *testing.T, made Make) {
	l, again := made(t, testkit.Env(1))
	do(t, l, makeTrust)
	v, end, err := l.Snapshot(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	before := dump(t, v, testkit.Noon())
	do(t, again(), func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			return e.AddParty(&federation.Party{Name: "plates", Kind: federation.App}, nil)
		})
	})
	if after := dump(t, v, testkit.Noon()); after != before {
		t.Errorf("a moment moved: %s", different(after, before))
	}
	if err := end(); err != nil {
		t.Error(err)
	}
	if _, err := l.Now(t.Context()).Party("plates"); err != nil {
		t.Errorf("afterwards: %v", err)
	}
}

func journal(t *testing.T, made Make) {
	env := testkit.Env(1)
	at := testkit.Noon()
	env.Now = func() time.Time { at = at.Add(time.Minute); return at }
	l, _ := made(t, env)
	for i := range 5 {
		env := l.Env()
		env.Actor = []string{"mira", "tobias"}[i%2]
		err := ledger.Updater(l.Update).Do(t.Context(), env, func(b *model.Book) error {
			return b.Change(func(e *model.Edit) error {
				return e.AddParty(&federation.Party{Name: fmt.Sprintf("app%d", i), Kind: federation.App}, nil)
			})
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	v := l.Now(t.Context())
	all, err := v.Journal(model.Filter{})
	if err != nil || len(all) != 6 {
		t.Fatalf("%d entries, %v", len(all), err)
	}
	for name, c := range map[string]struct {
		model.Filter
		want int
	}{"actor": {model.Filter{Actor: "mira"}, 3}, "party": {model.Filter{Party: "app3"}, 1},
		"last":  {model.Filter{Last: 2}, 2},
		"trust": {model.Filter{Trust: "x"}, 0}, "since": {model.Filter{Since: all[1].At}, 5},
		"until": {model.Filter{Until: all[1].At}, 1}, "after": {model.Filter{After: 4}, 2},
		"last of an actor": {model.Filter{Actor: "tobias", Last: 1}, 1}} {
		got, err := v.Journal(c.Filter)
		if err != nil || len(got) != c.want {
			t.Errorf("%s: %d entries, want %d; %v", name, len(got), c.want, err)
		}
		if !slices.IsSortedFunc(got, func(a, b model.Entry) int { return int(a.Seq - b.Seq) }) {
			t.Errorf("%s: not the oldest first", name)
		}
	}
}

func watch(t *testing.T, made Make) {
	l, again := made(t, testkit.Env(1))
	w, err := l.Watch(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	first, err := w.Version(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	do(t, again(), makeTrust)
	second, err := w.Version(t.Context())
	if err != nil || second == first {
		t.Errorf("a change went by: %d, %d, %v", first, second, err)
	}
	err = ledger.Updater(w.Update).Do(t.Context(), l.Env(), func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			return e.Saw(model.Sightings{Uses: []federation.Use{{Trust: "nightlog@ridge", API: "a", Name: "n",
				As: "user"}}})
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	if uses, err := l.Now(t.Context()).Uses("nightlog@ridge"); err != nil || len(uses) != 1 {
		t.Errorf("%v %v", uses, err)
	}
}

func openedAgain(t *testing.T, made Make) {
	h, err := testkit.NewHistory(5)
	if err != nil {
		t.Fatal(err)
	}
	l, again := made(t, h.Env)
	for range 40 {
		do(t, l, h.Do)
	}
	a, b := dump(t, l.Now(t.Context()), h.Env.Now()), dump(t, again().Now(t.Context()), h.Env.Now())
	if a != b {
		t.Errorf("it says something else when it is opened again: %s", different(b, a))
	}
}

// filled: a ledger that is made of another one, at once or by way of a copy, says the same; a copy in which a byte is
// wrong makes none.
func filled(t *testing.T, made Make, fill Fill) {
	h, err := testkit.NewHistory(23)
	if err != nil {
		t.Fatal(err)
	}
	l, _ := made(t, h.Env)
	for range 150 {
		do(t, l, h.Do)
	}
	v, end, err := l.Snapshot(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer end()
	want, err := model.Digest(v)
	if err != nil || want.Records < 80 || want.Entries < 100 {
		t.Fatalf("%+v, %v", want, err)
	}
	same := func(how string, s ledger.Source) {
		t.Helper()
		other, err := fill(t, h.Env, s)
		if err != nil {
			t.Fatalf("%s: %v", how, err)
		}
		err = other.View(t.Context(), func(o model.View) error {
			if a, b := dump(t, v, h.Env.Now()), dump(t, o, h.Env.Now()); a != b {
				t.Errorf("%s says something else: %s", how, different(a, b))
			}
			got, err := model.Digest(o)
			if got != want {
				t.Errorf("%s: %+v, want %+v", how, got, want)
			}
			n, breaks, verr := o.VerifyJournal()
			if n != want.Entries || len(breaks) > 0 {
				t.Errorf("%s: %d entries, %v", how, n, breaks)
			}
			return errors.Join(err, verr)
		})
		if err != nil {
			t.Error(err)
		}
		do(t, other, h.Do) // and it goes on
	}
	same("a ledger made of another one", ledger.Of(v))
	var b bytes.Buffer
	if _, err := model.WriteCopy(&b, v, "2031-03-04T12:00:00Z"); err != nil {
		t.Fatal(err)
	}
	c, err := model.ReadCopy(bytes.NewReader(b.Bytes()))
	if err != nil {
		t.Fatal(err)
	}
	same("a ledger made of a copy", c)
	for i := range 12 {
		bad := slices.Clone(b.Bytes())
		at := len(bad) * (i + 1) / 13
		bad[at] ^= 1
		if i%4 == 3 {
			bad = bad[:at]
		}
		c, err := model.ReadCopy(bytes.NewReader(bad))
		if err == nil {
			_, err = fill(t, h.Env, c)
		}
		if err == nil {
			t.Errorf("a copy that is damaged at byte %d of %d made a ledger", at, b.Len())
		}
	}
}

func cancelled(t *testing.T, made Make) {
	l, _ := made(t, testkit.Env(1))
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := l.View(ctx, func(model.View) error { return nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("a view: %v", err)
	}
	if err := ledger.Updater(l.Update).Do(ctx, l.Env(), makeTrust); !errors.Is(err, context.Canceled) {
		t.Errorf("a change: %v", err)
	}
	do(t, l, makeTrust) // and it is none the worse for it
	// A change that is cancelled while it is made is kept where it says so, and only there.
	kept := 0
	for i := range 300 {
		ctx, cancel := context.WithCancel(t.Context())
		end := make(chan bool)
		go func() {
			for range i * 40 { // now before it is written, now while it is, now afterwards
				runtime.Gosched()
			}
			cancel()
			close(end)
		}()
		err := ledger.Updater(l.Update).Do(ctx, l.Env(), func(b *model.Book) error {
			old, _, _, err := b.Trust("nightlog@ridge")
			if err != nil {
				return err
			}
			x := old.Clone()
			x.Owner = strconv.Itoa(i)
			return b.Change(func(e *model.Edit) error { return e.PutTrust(old, x, "trust.change") })
		})
		<-end
		x, rerr := l.Now(t.Context()).Trust("nightlog@ridge")
		if rerr != nil {
			t.Fatal(rerr)
		}
		if is := x.Owner == strconv.Itoa(i); is != (err == nil) {
			t.Fatalf("change %d: %v, and it is kept: %t", i, err, is)
		} else if is {
			kept++
		}
	}
	t.Logf("%d of 300 were kept", kept)
}

// readers has many ask one View the same at the same time: each is answered.
func readers(t *testing.T, made Make) {
	l, _ := made(t, testkit.Env(1))
	do(t, l, func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			for i := range 20 {
				p := &federation.Party{Name: fmt.Sprintf("app%d", i), Kind: federation.App}
				if err := e.AddParty(p, nil); err != nil {
					return err
				}
			}
			return nil
		})
	})
	err := l.View(t.Context(), func(v model.View) error {
		var all sync.WaitGroup
		for range 16 {
			all.Go(func() {
				for i := range 400 {
					name := fmt.Sprintf("app%d", i%20)
					if p, err := v.Party(name); err != nil || p.Name != name {
						t.Errorf("%s: %+v, %v", name, p, err)
						return
					}
					if i%40 == 0 {
						if list, err := v.Parties(""); err != nil || len(list) != 20 {
							t.Errorf("%d parties, %v", len(list), err)
							return
						}
					}
				}
			})
		}
		all.Wait()
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

package model_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit"
)

func dump(t *testing.T, v model.View, now time.Time) string {
	t.Helper()
	var b bytes.Buffer
	if err := testkit.Dump(&b, v, now); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func history(t *testing.T, seed int64) (*testkit.History, *testkit.Memory) {
	t.Helper()
	h, err := testkit.NewHistory(seed)
	if err != nil {
		t.Fatal(err)
	}
	m, err := testkit.NewMemory(h.Env)
	if err != nil {
		t.Fatal(err)
	}
	return h, m
}

// TestOverlays holds that changes laid on one another, each on a View of its own, say the same as all of them in one.
func TestOverlays(t *testing.T) {
	for seed := range int64(8) {
		h, err := testkit.NewHistory(seed)
		if err != nil {
			t.Fatal(err)
		}
		one, edit := model.Begin(model.Empty(), h.Env)
		many := model.Empty()
		for i := range 60 {
			before := edit.Changes()
			if err := h.Do(one); err != nil {
				t.Fatal(err)
			}
			after := edit.Changes()
			many = model.Overlay(many, model.Changes{Records: after.Records[len(before.Records):],
				Entries: after.Entries[len(before.Entries):]})
			if a, b := dump(t, one.View, h.Env.Now()), dump(t, many, h.Env.Now()); a != b {
				t.Fatalf("seed %d, step %d, %s:\n%s\nand in layers\n%s", seed, i, h.Last(), a, b)
			}
		}
		a, errA := one.Journal(model.Filter{})
		b, errB := many.Journal(model.Filter{})
		if len(a) != len(b) || len(a) < 20 || errA != nil || errB != nil {
			t.Errorf("%d entries, and %d in layers; %v %v", len(a), len(b), errA, errB)
		}
	}
}

// forms are all records that the journal has, as it has them.
func forms(v model.View, key string) (map[string]string, error) {
	sums := regexp.MustCompile(`,"sum":"[0-9a-f]*"`)
	out := map[string]string{}
	for _, k := range model.Kinds() {
		if !k.Journaled() || k == model.Settings {
			continue
		}
		for r, err := range v.Find(model.Query{Kind: k}) {
			if err != nil {
				if errors.Is(err, model.ErrForgotten) && k.Personal() {
					out["forgotten "+string(k)] = "yes"
					break
				}
				return nil, err
			}
			b, err := model.Recording([]model.Change{{Key: r.Key(), After: r}}, key)
			if err != nil {
				return nil, err
			}
			// a hash of what the journal leaves out is no part of what can be brought back
			out[fmt.Sprint(r.Key())] = sums.ReplaceAllString(string(b), "")
		}
	}
	return out, nil
}

// TestIndexes: what a change puts is found by each value under which it says it is, before it is kept; and no index is
// left out of those that are looked through.
func TestIndexes(t *testing.T) {
	h, err := testkit.NewHistory(5)
	if err != nil {
		t.Fatal(err)
	}
	b, _ := model.Begin(model.Empty(), h.Env)
	for range 200 {
		if err := h.Do(b); err != nil {
			t.Fatal(err)
		}
	}
	found := map[model.Index]bool{}
	for _, k := range model.Kinds() {
		for r, err := range b.Find(model.Query{Kind: k}) {
			if err != nil {
				t.Fatal(err)
			}
			for _, by := range indexNames(t) {
				for _, value := range r.Under(by) {
					found[by] = true
					there := false
					for x, err := range b.Find(model.Query{Kind: k, By: by, Value: value}) {
						there = there || err == nil && x.Key() == r.Key()
					}
					if !there {
						t.Errorf("%v is not found by %s %q", r.Key(), by, value)
					}
				}
			}
		}
	}
	if len(found) < 10 {
		t.Errorf("the history has records under %v alone", found)
	}
}

var indexLine = regexp.MustCompile(`(?m)^\tBy[A-Z]\w+ +Index = "(\w+)"`)

// indexNames reads the indexes out of the source.
func indexNames(t *testing.T) (out []model.Index) {
	t.Helper()
	text, err := os.ReadFile("model.go")
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range indexLine.FindAllSubmatch(text, -1) {
		out = append(out, model.Index(m[1]))
	}
	if all := model.Indexes(); !slices.Equal(out, all[:]) {
		t.Fatalf("the source has %v, and looked through are %v", out, all)
	}
	return out
}

// TestPast holds that the View of an earlier moment is what stood then, over histories at random; of people it may say
// that it does not know any more.
func TestPast(t *testing.T) {
	forgotten, compared := 0, 0
	for seed := range int64(6) {
		h, m := history(t, 100+seed)
		key, _ := m.View().Value(model.SettingPeople)
		then := map[int64]map[string]string{}
		for range 40 {
			if err := m.Do(h.Do); err != nil {
				t.Fatal(err)
			}
			seq, err := m.View().LastSeq()
			if err != nil {
				t.Fatal(err)
			}
			if then[seq], err = forms(m.View(), key); err != nil {
				t.Fatal(err)
			}
		}
		for seq, want := range then {
			past, err := model.Past(m.View(), seq)
			if err != nil {
				t.Fatal(err)
			}
			got, err := forms(past, key)
			if err != nil {
				t.Fatal(err)
			}
			if last, err := past.LastSeq(); err != nil || last != seq {
				t.Errorf("the journal of entry %d ends with %d, %v", seq, last, err)
			}
			for _, k := range model.Kinds() {
				if got["forgotten "+string(k)] != "" {
					forgotten++
					maps.DeleteFunc(want, func(name,
						_ string) bool {
						return strings.HasPrefix(name, "{"+string(k)+" ")
					})
					maps.DeleteFunc(got, func(name, _ string) bool {
						return strings.HasPrefix(name, "{"+string(k)+" ") || name == "forgotten "+string(k)
					})
				}
			}
			compared += len(want)
			if !maps.Equal(got, want) {
				t.Fatalf("seed %d, after entry %d:\n%v\nand was\n%v", seed, seq, got, want)
			}
		}
	}
	if forgotten == 0 || compared < 500 {
		t.Errorf("%d forgotten, %d compared: this test proves little", forgotten, compared)
	}
}

// TestBack holds, over histories at random in which two people take turns, that taking back what one did leaves what
// the other did, and that what one did alone is as it was.
func TestBack(t *testing.T) {
	for seed := range int64(12) {
		h, m := history(t, 200+seed)
		for range 25 {
			if err := m.Do(h.Do); err != nil {
				t.Fatal(err)
			}
		}
		key, _ := m.View().Value(model.SettingPeople)
		start, err := m.View().LastSeq()
		if err != nil {
			t.Fatal(err)
		}
		before, err := forms(m.View(), key)
		if err != nil {
			t.Fatal(err)
		}
		alone := seed%2 == 0
		for i := range 20 {
			actor := "mira"
			if !alone && i%2 == 1 {
				actor = "tobias"
			}
			if err := m.As(actor, h.Do); err != nil {
				t.Fatal(err)
			}
		}
		now, err := forms(m.View(), key)
		if err != nil {
			t.Fatal(err)
		}
		c, stay, err := model.Back(m.View(), start, func(e *model.Entry) bool { return e.Actor == "mira" })
		if err != nil {
			t.Fatal(err)
		}
		got, err := forms(model.Overlay(m.View(), c), key)
		if err != nil {
			t.Fatal(err)
		}
		mine, theirs := touched(t, m.View(), start, "mira"), touched(t, m.View(), start, "tobias")
		stays := map[string]bool{}
		for _, s := range stay {
			if s.Why == "" {
				t.Errorf("%v stays, and nobody knows why", s.Key)
			}
			stays[fmt.Sprint(s.Key)] = true
		}
		for name := range union(before, now, got) {
			personal := slices.ContainsFunc([]model.Kind{model.People, model.Subjects, model.Exports, model.Arrived},
				func(k model.Kind) bool { return strings.HasPrefix(name, "{"+string(k)+" ") })
			switch {
			case personal || stays[name]:
				if got[name] != now[name] {
					t.Errorf("seed %d: %s was to stay", seed, name)
				}
			case !mine[name]:
				if got[name] != now[name] {
					t.Errorf("seed %d: %s is somebody else's:\n%s\n%s", seed, name, got[name], now[name])
				}
			case !theirs[name]:
				if unversioned(got[name]) != unversioned(before[name]) {
					t.Errorf("seed %d: %s was to be as before:\n%s\n%s", seed, name, got[name], before[name])
				}
			}
		}
	}
}

// unversioned leaves the count of changes out, and when it changed, which go on.
func unversioned(s string) string {
	var list []map[string]any
	if json.Unmarshal([]byte(s), &list) != nil || len(list) == 0 {
		return s
	}
	if m, ok := list[0]["after"].(map[string]any); ok {
		delete(m, "version")
	}
	b, _ := json.Marshal(list)
	return string(b)
}

func union(maps ...map[string]string) map[string]bool {
	out := map[string]bool{}
	for _, m := range maps {
		for k := range m {
			out[k] = true
		}
	}
	return out
}

func touched(t *testing.T, v model.View, after int64, actor string) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	for e, err := range v.Entries(model.Filter{After: after, Actor: actor, Whole: true}) {
		if err != nil {
			t.Fatal(err)
		}
		var list []model.Recorded
		if err := json.Unmarshal(e.Records, &list); err != nil {
			t.Fatal(err)
		}
		for _, r := range list {
			out[fmt.Sprint(model.Key{Kind: r.Kind, ID: r.ID})] = true
		}
	}
	return out
}

// TestBackKeepsTheOthersField: of one trust two people changed one term each; taking back the first leaves the second.
func TestBackKeepsTheOthersField(t *testing.T) {
	_, m := history(t, 1)
	if err := m.Do(house); err != nil {
		t.Fatal(err)
	}
	start, _ := m.View().LastSeq()
	change := func(actor string, f func(*federation.Trust)) {
		t.Helper()
		if err := m.As(actor, func(b *model.Book) error {
			old, _, _, err := b.Trust("nightlog@ridge")
			if err != nil {
				return err
			}
			x := old.Clone()
			f(x)
			return b.Change(func(e *model.Edit) error { return e.PutTrust(old, x, "trust.change") })
		}); err != nil {
			t.Fatal(err)
		}
	}
	change("mira", func(x *federation.Trust) { x.Admits = "group:observers" })
	change("tobias", func(x *federation.Trust) { x.Owner = "tobias@kestrelridge.example" })
	change("mira", func(x *federation.Trust) { x.Strength = "mfa" })
	c, stay, err := model.Back(m.View(), start, func(e *model.Entry) bool { return e.Actor == "mira" })
	if err != nil || len(stay) > 0 {
		t.Fatal(stay, err)
	}
	x, err := model.Overlay(m.View(), c).Trust("nightlog@ridge")
	if err != nil || x.Admits != "everyone" || x.Strength != "any" || x.Owner != "tobias@kestrelridge.example" {
		t.Errorf("%+v %v", x, err)
	}
}

// house makes a small ledger.
func house(b *model.Book) error {
	return b.Change(func(e *model.Edit) error {
		ridge := &federation.Party{Name: "ridge", Kind: federation.Provider, Own: true,
			Entity: saml.Entity{ID: "urn:ridge", IDP: &saml.Role{}}}
		night := &federation.Party{Name: "nightlog", Kind: federation.App, Entity: saml.Entity{ID: "urn:night",
			SP: &saml.Role{}}}
		api := &federation.Party{Name: "telescope-api", Kind: federation.App, API: &federation.API{
			Audience:    "https://telescope.kestrelridge.example",
			Permissions: []federation.Permission{{Name: "frames.read", As: []string{"user"}, Says: "read frames"}}}}
		dome := &federation.Party{Name: "dome-scheduler", Kind: federation.App, Client: federation.NewClient(oidc.Web)}
		for _, p := range []*federation.Party{ridge, night, api, dome} {
			if err := e.AddParty(p, []byte("<raw/>")); err != nil {
				return err
			}
		}
		over := federation.NewTrust(dome, ridge, "",
			&federation.OIDCTerms{ClientID: "c", Policy: federation.DefaultPolicy(),
				Asks: []federation.Ask{{API: "telescope-api", Name: "frames.read", As: "user"}}}, e.Now())
		mira := people.Person{ID: "mira", Attributes: map[string][]string{"mail": {"mira.solano@kestrelridge.example"}},
			Groups: []string{"observers"}}
		_, _, _, err := e.PutPersons([]people.Person{mira}, false, "people.csv")
		return errors.Join(err, e.AddTrust(federation.NewTrust(night, ridge, saml.FormatPersistent,
			&federation.SAMLTerms{},
			e.Now()), federation.SubjectKey{Salt: []byte("salt")}),
			e.AddTrust(over, federation.SubjectKey{Salt: []byte("s")}))
	})
}

// TestJournalForgets holds what the journal keeps of people and of secrets: nothing that says who they are, and nothing
// that opens anything.
func TestJournalForgets(t *testing.T) {
	_, m := history(t, 1)
	if err := m.Do(house); err != nil {
		t.Fatal(err)
	}
	err := m.Do(func(b *model.Book) error {
		old, _, _, err := b.Trust("nightlog@ridge")
		if err != nil {
			return err
		}
		x := old.Clone()
		x.Last = &federation.Rehearsal{Verdict: "accepted", Subject: "secret-subject",
			Claims: map[string][]string{"mail": {"mira.solano@kestrelridge.example"}}}
		return b.Change(func(e *model.Edit) error {
			return errors.Join(e.PutTrust(old, x, "trust.rehearse"), e.AddSecret(&federation.Secret{ID: "s1",
				Trust: "dome-scheduler@ridge", Hash: "hash-of-it", EndsIn: "abcd", Added: e.Now(), Expires: e.Now()}),
				e.AddExpected(&federation.Expected{Trust: "nightlog@ridge", As: "mira", Subject: "secret-subject",
					Claims: map[string][]string{"mail": {"mira.solano@kestrelridge.example"}}}))
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	whole, err := m.View().Journal(model.Filter{Whole: true})
	if err != nil {
		t.Fatal(err)
	}
	accepted := false
	for _, e := range whole {
		text := string(e.Before) + string(e.After) + string(e.Records)
		accepted = accepted || strings.Contains(text, "accepted")
		for _, secret := range []string{"mira.solano@", "secret-subject", "hash-of-it"} {
			if strings.Contains(text, secret) {
				t.Errorf("entry %d (%s) has %s: %s", e.Seq, e.Action, secret, text)
			}
		}
		if strings.Contains(string(e.Records), "mira") && strings.HasPrefix(e.Action, "people.") {
			t.Errorf("entry %d names mira: %s", e.Seq, e.Records)
		}
	}
	if !accepted {
		t.Error("the outcome of a rehearsal is not in the journal")
	}
}

// TestAttemptLeavesNothing: what fails leaves nothing of itself, and what was changed before stays.
func TestAttemptLeavesNothing(t *testing.T) {
	b, e := model.Begin(model.Empty(), testkit.Env(1))
	if err := house(b); err != nil {
		t.Fatal(err)
	}
	before, entries := dump(t, b.View, b.Now()), len(e.Changes().Entries)
	boom := errors.New("boom")
	err := b.Attempt(func() error {
		if err := b.Change(func(e *model.Edit) error {
			return e.AddParty(&federation.Party{Name: "x", Kind: federation.App}, nil)
		}); err != nil {
			return err
		}
		if _, err := b.AnyParty("x"); err != nil {
			t.Errorf("what was changed is not seen: %v", err)
		}
		return boom
	})
	if !errors.Is(err, boom) || dump(t, b.View, b.Now()) != before || len(e.Changes().Entries) != entries {
		t.Errorf("%v; something stays", err)
	}
	err = b.Attempt(func() error {
		return b.Change(func(e *model.Edit) error {
			return e.AddParty(&federation.Party{Name: "x", Kind: federation.App}, nil)
		})
	})
	if _, there := b.AnyParty("x"); err != nil || there != nil || len(e.Changes().Entries) != entries+1 {
		t.Errorf("%v %v", err, there)
	}
	tried := b.Try()
	if err := tried.Change(func(e *model.Edit) error { return e.RemoveRoute("nowhere.example") }); !errors.Is(err,
		model.ErrNotFound) {
		t.Error(err)
	}
	if len(tried.Changes().Records) != 0 {
		t.Error("a refused change left records")
	}
	read := model.Open(b.View, b.Env)
	if err := read.Change(func(*model.Edit) error { return nil }); !errors.Is(err, model.ErrReading) {
		t.Errorf("a Book for reading was changed: %v", err)
	}
	if err := read.Attempt(func() error { return nil }); !errors.Is(err, model.ErrReading) || read.Changing() {
		t.Errorf("%v", err)
	}
}

// TestConflicts: what cannot be put is refused by name, and nothing of it is told.
func TestConflicts(t *testing.T) {
	b, e := model.Begin(model.Empty(), testkit.Env(1))
	if err := house(b); err != nil {
		t.Fatal(err)
	}
	ridge, err := b.Party(federation.Provider, "ridge")
	if err != nil {
		t.Fatal(err)
	}
	stale := *ridge
	stale.Version = 7
	night, _, _, err := b.Trust("nightlog@ridge")
	if err != nil {
		t.Fatal(err)
	}
	old := night.Clone()
	old.Version = 7
	n := len(e.Changes().Records)
	for name, c := range map[string]struct {
		do   func() error
		want error
	}{
		"the name of a party": {func() error {
			return e.AddParty(&federation.Party{Name: "ridge", Kind: federation.App}, nil)
		}, model.ErrExists},
		"an entity ID": {func() error {
			return e.AddParty(&federation.Party{Name: "b", Kind: federation.App,
				Entity: saml.Entity{ID: "urn:night"}}, nil)
		}, model.ErrExists},
		"an audience": {func() error {
			return e.AddParty(&federation.Party{Name: "b", Kind: federation.App, API: &federation.API{
				Audience: "https://telescope.kestrelridge.example"}}, nil)
		}, model.ErrExists},
		"a stale party":     {func() error { return e.PutParty(ridge, &stale, nil, true) }, model.ErrChanged},
		"a stale removal":   {func() error { return e.RemoveParty(&stale) }, model.ErrInUse},
		"a party in use":    {func() error { return e.RemoveParty(ridge) }, model.ErrInUse},
		"a trust":           {func() error { return e.AddTrust(night, federation.SubjectKey{}) }, model.ErrExists},
		"a stale trust":     {func() error { return e.PutTrust(night, old, "x") }, model.ErrChanged},
		"a trust that went": {func() error { return e.RemoveTrust(old) }, model.ErrChanged},
		"a secret": {func() error { return e.RetireSecret(&federation.Secret{ID: "none"}) },
			model.ErrChanged},
		"an expectation": {func() error { return e.RemoveExpected(&federation.Expected{ID: 9}) },
			model.ErrNotFound},
		"somebody to rename":  {func() error { return e.RenamePerson("nobody", "x") }, model.ErrNotFound},
		"a finding to reopen": {func() error { return e.Reopen("x", "y") }, model.ErrNotFound},
	} {
		if err := c.do(); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if got := len(e.Changes().Records); got != n {
		t.Errorf("%d records were told", got-n)
	}
}

// TestNearest: a name that is not there is answered with the nearest that are, and with what to do where there is none.
func TestNearest(t *testing.T) {
	b, _ := model.Begin(model.Empty(), testkit.Env(1))
	for name, c := range map[string]struct {
		ask  func() error
		want string
	}{
		"trust":  {func() error { _, _, _, err := b.Trust("a@b"); return err }, "tressik federate"},
		"app":    {func() error { _, err := b.Party(federation.App, "a"); return err }, "tressik app add"},
		"person": {func() error { _, err := b.Person("a"); return err }, "tressik people load"},
		"API":    {func() error { _, err := b.API("a"); return err }, "tressik app add"},
	} {
		var u *model.UnknownError
		if err := c.ask(); !errors.As(err, &u) || !strings.Contains(err.Error(), c.want) {
			t.Errorf("no %s: %v", name, err)
		}
	}
	if err := house(b); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		ask  func() error
		want string
	}{
		"trust":      {func() error { _, _, _, err := b.Trust("nightlgo@ridge"); return err }, "nightlog@ridge"},
		"app alone":  {func() error { _, _, _, err := b.Trust("nightlog"); return err }, "nightlog@ridge"},
		"app":        {func() error { _, err := b.Party(federation.App, "nightlgo"); return err }, "nightlog"},
		"other kind": {func() error { _, err := b.Party(federation.App, "ridge"); return err }, "a provider"},
		"person":     {func() error { _, err := b.Person("mria"); return err }, "mira"},
		"party":      {func() error { _, err := b.AnyParty("rigde"); return err }, "ridge"},
		"API":        {func() error { _, err := b.API("telescope-apu"); return err }, "telescope-api"},
		"no API":     {func() error { _, err := b.API("nightlog"); return err }, "has no api side"},
		"ask":        {func() error { _, err := b.AskOf("telescope-api:frames.raed"); return err }, "frames.read"},
		"scope":      {func() error { _, err := b.AskOf("opneid"); return err }, "openid"},
		"protocol":   {func() error { _, _, _, err := b.OIDCTrust("nightlog@ridge"); return err }, "is over SAML"},
	} {
		if err := c.ask(); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if p, err := b.Person("MIRA.SOLANO@kestrelridge.example"); err != nil || p.ID != "mira" || p.Key == "" {
		t.Errorf("by mail: %v %v", p, err)
	}
	if list, err := b.Permissions(""); err != nil || len(list) != 1 || !slices.Equal(list[0].AskedBy,
		[]string{"dome-scheduler@ridge"}) {
		t.Errorf("%+v %v", list, err)
	}
	ridge, _ := b.AnyParty("ridge")
	foreign := *ridge
	foreign.Own = false
	if a, err := b.AskAt(&foreign, "their-scope"); err != nil || a.Name != "their-scope" {
		t.Errorf("%v %v", a, err)
	}
	if _, err := b.AskAt(&foreign, "two words"); !errors.Is(err, model.ErrValue) {
		t.Errorf("%v", err)
	}
	if err := model.CheckURL(finding.FieldAt, "ftp://x"); !errors.Is(err, model.ErrValue) {
		t.Errorf("%v", err)
	}
	trust, _, _, err := b.Trust("dome-scheduler@ridge")
	if err != nil {
		t.Fatal(err)
	}
	if s, err := b.Clients(trust); err != nil || len(s.APIs) != 1 {
		t.Errorf("%+v %v", s, err)
	}
	if _, err := b.Releaser(trust, b.Rand); err != nil {
		t.Error(err)
	}
}

// TestVerify: a journal that was cut, edited or reordered is found out, whatever was done to it.
func TestVerify(t *testing.T) {
	h, m := history(t, 3)
	for range 10 {
		if err := m.Do(h.Do); err != nil {
			t.Fatal(err)
		}
	}
	whole, err := m.View().Journal(model.Filter{Whole: true})
	if err != nil || len(whole) < 5 {
		t.Fatal(len(whole), err)
	}
	head := model.Head(whole[len(whole)-1].Seq, whole[len(whole)-1].Hash)
	for name, c := range map[string]struct {
		edit func([]model.Entry) []model.Entry
		want string
	}{
		"whole":    {func(l []model.Entry) []model.Entry { return l }, ""},
		"an actor": {func(l []model.Entry) []model.Entry { l[2].Actor = "x"; return l }, "not what was written"},
		"its records": {func(l []model.Entry) []model.Entry { l[2].Records = []byte("[]"); return l },
			"not what was written"},
		"one is gone":   {func(l []model.Entry) []model.Entry { return slices.Delete(l, 2, 3) }, "missing"},
		"the last gone": {func(l []model.Entry) []model.Entry { return l[:len(l)-1] }, "ended with entry"},
		"another chain": {func(l []model.Entry) []model.Entry { l[2].Prev = "x"; return l }, "does not follow"},
	} {
		edited := c.edit(slices.Clone(whole))
		_, breaks, err := verifyEdited(edited, head)
		if err != nil {
			t.Fatal(err)
		}
		if (c.want == "") != (len(breaks) == 0) || c.want != "" && !strings.Contains(breaks[0].Reason, c.want) {
			t.Errorf("%s: %v", name, breaks)
		}
	}
}

// TestFields names what entries changed, for people.
func TestFields(t *testing.T) {
	for want, e := range map[string]model.Entry{
		"admits": {Action: "trust.change", Before: []byte(`{"admits":"a"}`),
			After: []byte(`{"admits":"b","changed":1}`)},
		"new":                   {Action: "app.add", After: []byte(`{"a":1,"b":2,"c":3,"d":4,"e":5}`)},
		"gone":                  {Action: "app.remove", Before: []byte(`{"a":1,"b":2,"c":3,"d":4,"e":5}`)},
		"api:read for everyone": {Action: "consent.give", After: []byte(`{"api":"api","permission":"read"}`)},
		"openid for mira":       {Action: "consent.give", After: []byte(`{"permission":"openid","for":"mira"}`)},
		"s1, ends in abcd":      {Action: "secret.add", After: []byte(`{"id":"s1","endsIn":"abcd"}`)},
		"is no longer there, the new": {Action: "x", Before: []byte(`{"is no longer there":1}`),
			After: []byte(`{"the new":1}`)},
	} {
		if got := e.Fields(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// TestSaltsAreNotRecorded has the salt of a rule changed: no entry says one, the change is seen, and what it was does
// not come back as another rule.
func TestSaltsAreNotRecorded(t *testing.T) {
	h, m := history(t, 400)
	for range 60 {
		if err := m.Do(h.Do); err != nil {
			t.Fatal(err)
		}
	}
	all, err := m.View().Trusts()
	if err != nil || len(all) == 0 {
		t.Fatalf("%d trusts, %v", len(all), err)
	}
	name := all[0].Name
	set := func(salt string) {
		t.Helper()
		err := m.As("mira", func(b *model.Book) error {
			old, err := b.View.Trust(name)
			if err != nil {
				return err
			}
			now := old.Clone()
			now.Rules = claims.Set(nil, claims.Rule{Claim: "badge", Name: "badge",
				Expression: `hashed(person.uid, "` + salt + `")`})
			return b.Change(func(e *model.Edit) error { return e.PutTrust(old, now, "claims.set") })
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	set("peppercorn")
	before, _ := m.View().LastSeq()
	set("peppermill")
	for e, err := range m.View().Entries(model.Filter{Whole: true}) {
		if err != nil {
			t.Fatal(err)
		}
		if text := string(e.Before) + string(e.After) + string(e.Records); strings.Contains(text, "pepper") {
			t.Errorf("entry %d says a salt: %s", e.Seq, text)
		}
	}
	p, err := m.View().Prove("")
	if err != nil || len(p.Differs) > 0 {
		t.Errorf("%+v, %v", p, err)
	}
	past, err := model.Past(m.View(), before)
	if err != nil {
		t.Fatal(err)
	}
	if was, err := past.Trust(name); err != nil || !strings.Contains(was.Rules[0].Expression, claims.Kept) {
		t.Errorf("what it was: %+v, %v", was, err)
	}
	c, stay, err := model.Back(m.View(), before, func(e *model.Entry) bool { return e.Actor == "mira" })
	if err != nil || len(c.Records) > 0 || len(stay) != 1 || !strings.Contains(stay[0].Why, "salt") {
		t.Errorf("it goes back to %+v, stays %+v, %v", c.Records, stay, err)
	}
}

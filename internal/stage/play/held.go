package play

import (
	"cmp"
	"errors"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/cast"
)

// held is what a stage holds of the ledger. It is read whole once, and brought up to date by what the journal says was
// touched since: a change of one trust among thousands reads that trust. What was handed out never changes; a newer one
// shares with it what stayed the same.
type held struct {
	seq int64 // the newest entry of the journal that is in it
	led *cast.Ledger
}

// read brings it up to date.
func (h *held) read(v model.View) error {
	if h.led == nil {
		return h.readAll(v)
	}
	t, err := v.Touched(h.seq)
	switch {
	case errors.Is(err, model.ErrBeforeRecords), err == nil && (t.Seq < h.seq || t.Any(model.Carried)):
		return h.readAll(v) // another ledger lies there, or what it says of people concerns every trust
	case err != nil:
		return err
	case t.Seq == h.seq:
		return nil
	}
	led := *h.led
	if err := errors.Join(h.parties(v, t, &led), h.trusts(v, t, &led), h.people(v, t, &led)); err != nil {
		return err
	}
	if t.Any(model.Secrets) {
		if led.Secrets, err = v.SecretsByTrust(); err != nil {
			return err
		}
	}
	if t.Any(model.Consents) {
		if led.Consents, err = v.ConsentsByTrust(); err != nil {
			return err
		}
	}
	if t.Any(model.Routes, model.Arrived) {
		if led.Routes, led.Came, err = arrivalsOf(v); err != nil {
			return err
		}
	}
	h.led, h.seq = &led, t.Seq
	return nil
}

// readAll reads all that a cast of the whole ledger needs, at one moment.
func (h *held) readAll(v model.View) (err error) {
	led := &cast.Ledger{}
	seq, err := v.LastSeq()
	if err != nil {
		return err
	}
	trusts, subjects, err := v.Agreed()
	if err != nil {
		return err
	}
	led.Subjects = subjects
	for _, t := range trusts {
		if t.Standing == federation.Ended {
			delete(subjects, t.Name)
			continue
		}
		t.Last = nil
		led.Trusts = append(led.Trusts, t)
	}
	if led.Parties, err = v.PartiesByName(); err != nil {
		return err
	}
	if led.Secrets, err = v.SecretsByTrust(); err != nil {
		return err
	}
	if led.Consents, err = v.ConsentsByTrust(); err != nil {
		return err
	}
	if led.Routes, led.Came, err = arrivalsOf(v); err != nil {
		return err
	}
	persons, err := v.Persons()
	if err != nil {
		return err
	}
	if led.Census, err = v.Census(); err != nil {
		return err
	}
	led.People = cast.NewPeople(persons)
	h.led, h.seq = led, seq
	return nil
}

func (h *held) parties(v model.View, t *model.Touched, led *cast.Ledger) error {
	if !t.Any(model.Parties) {
		return nil
	}
	led.Parties = maps.Clone(led.Parties)
	for name := range t.Marks[model.Parties] {
		switch p, err := v.Party(name); {
		case errors.Is(err, model.ErrNotFound):
			delete(led.Parties, name)
		case err != nil:
			return err
		default:
			led.Parties[name] = p
		}
	}
	return nil
}

func (h *held) trusts(v model.View, t *model.Touched, led *cast.Ledger) error {
	if !t.Any(model.Trusts) {
		return nil
	}
	led.Trusts, led.Subjects = slices.Clone(led.Trusts), maps.Clone(led.Subjects)
	for name := range t.Marks[model.Trusts] {
		at, there := slices.BinarySearchFunc(led.Trusts, name,
			func(x federation.Trust, name string) int { return strings.Compare(x.Name, name) })
		if there {
			led.Trusts = slices.Delete(led.Trusts, at, at+1)
			delete(led.Subjects, name)
		}
		x, err := v.Trust(name)
		if errors.Is(err, model.ErrNotFound) || err == nil && x.Standing == federation.Ended {
			continue
		}
		if err != nil {
			return err
		}
		if led.Subjects[name], err = v.SubjectKey(name); err != nil {
			return err
		}
		x.Last = nil
		led.Trusts = slices.Insert(led.Trusts, at, *x)
	}
	return nil
}

func (h *held) people(v model.View, t *model.Touched, led *cast.Ledger) (err error) {
	if !t.Any(model.People) {
		return nil
	}
	if led.Census, err = v.Census(); err != nil {
		return err
	}
	was := led.People.List()
	marks := t.Marks[model.People]
	if 4*len(marks) > len(was) {
		persons, err := v.Persons()
		led.People = cast.NewPeople(persons)
		return err
	}
	now := make([]people.Person, 0, len(was)+len(marks))
	known := make(map[string]bool, len(was))
	look := func(key model.Key) error {
		p, err := v.Person(key.ID)
		if errors.Is(err, model.ErrNotFound) {
			return nil
		}
		if err == nil {
			now = append(now, *p)
		}
		return err
	}
	for i := range was {
		key := model.PersonKey(was[i].ID)
		known[key.ID] = true
		if !marks[t.Mark(key)] {
			now = append(now, was[i])
			continue
		}
		if err := look(key); err != nil {
			return err
		}
	}
	for id, err := range v.Names(model.Query{Kind: model.People}) {
		if err != nil {
			return err
		}
		if key := model.PersonKey(id); !known[key.ID] {
			if err := look(key); err != nil {
				return err
			}
		}
	}
	slices.SortFunc(now, func(a, b people.Person) int {
		return cmp.Compare(model.PersonKey(a.ID).ID, model.PersonKey(b.ID).ID)
	})
	led.People = cast.NewPeople(now)
	return nil
}

func arrivalsOf(v model.View) (byDomain, who map[string]string, err error) {
	routes, came, err := v.Arrivals()
	byDomain, who = map[string]string{}, map[string]string{}
	for _, r := range routes {
		byDomain[r.Domain] = r.Trust
	}
	for _, a := range came {
		who[cast.CameKey(a.Trust, a.Subject)] = a.Person
	}
	return byDomain, who, err
}

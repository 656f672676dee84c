package model

import (
	"errors"
	"iter"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
)

// counted is a Reader that has counted the people.
type counted interface {
	Census() (people.Census, error)
}

// Census is how many people there are, in each group, and with each attribute.
func (v View) Census() (people.Census, error) {
	if c, ok := v.Reader.(counted); ok {
		return c.Census()
	}
	out := people.CensusOf(nil)
	for p, err := range v.EachPerson() {
		if err != nil {
			return out, err
		}
		out.Count(&p, 1)
	}
	return out, nil
}

// Knows reports whether there is a person of an ID, letter case not counting.
func (v View) Knows(id string) (bool, error) {
	_, err := v.Get(PersonKey(id))
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Crowd is the people of the ledger, who are read where that is needed.
func (v View) Crowd() (*federation.Crowd, error) {
	c, err := v.Census()
	if err != nil {
		return nil, err
	}
	return federation.CrowdOf(c, v), nil
}

// Census is that of the base, with what the changes made of it.
func (o *overlay) Census() (people.Census, error) {
	c, err := View{o.base}.Census()
	l := o.kinds[People]
	if err != nil || l == nil {
		return c, err
	}
	for _, x := range l.over {
		if x.forgotten {
			return c, ErrForgotten
		}
		if was, is := x.was.(*Person); is {
			c.Count(&was.Person, -1)
		}
		if now, is := x.rec.(*Person); is {
			c.Count(&now.Person, 1)
		}
	}
	return c, nil
}

// PersonsFrom goes through the persons whose ID begins with a text, letter case not counting, by ID.
func (v View) PersonsFrom(beginning string) iter.Seq2[people.Person, error] {
	if beginning == "" {
		return v.EachPerson()
	}
	return each(v, Query{Kind: People, Begins: Folded(beginning)}, personOf)
}

// Holding goes through the persons who hold all of some words, by ID.
func (v View) Holding(words ...string) iter.Seq2[people.Person, error] {
	q := Query{Kind: People}
	for _, w := range words {
		plain := !strings.ContainsFunc(w, func(r rune) bool {
			// K has a third form (U+212A), which a database does not know
			return (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') || r == 'k' || r == 'K'
		})
		if plain && len(w) > len(q.Mentions) { // as it stands in the record, whatever way that is written
			q.Mentions = w
		}
	}
	return func(yield func(people.Person, error) bool) {
		for p, err := range each(v, q, personOf) {
			if (err != nil || p.Holds(words...)) && !yield(p, err) {
				return
			}
		}
	}
}

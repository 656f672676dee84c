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

// mentioned is what stands in the record of whoever holds all of some words, as Query.Mentions has it: each word with a
// star for all that a record, or a database, may have in another way. JSON has more than one way for what is no ASCII
// and for its own signs, and of i and k there is a third form (U+0130, U+212A) whose small letter they are.
func mentioned(words []string) string {
	var out []string
	for _, w := range words {
		var b strings.Builder
		plain, star := false, false
		for _, r := range w {
			switch safe := r > ' ' && r < 0x7f && !strings.ContainsRune(`iIkK"\/<>&*`, r); {
			case safe:
				b.WriteRune(r)
				plain, star = true, false
			case !star:
				b.WriteByte('*')
				star = true
			}
		}
		if plain {
			out = append(out, b.String())
		}
	}
	return strings.Join(out, "\x00")
}

// Holding goes through the persons who hold all of some words, by ID.
func (v View) Holding(words ...string) iter.Seq2[people.Person, error] {
	q := Query{Kind: People, Mentions: mentioned(words)}
	return func(yield func(people.Person, error) bool) {
		for p, err := range each(v, q, personOf) {
			if (err != nil || p.Holds(words...)) && !yield(p, err) {
				return
			}
		}
	}
}

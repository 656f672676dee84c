package tables

import (
	"fmt"
	"maps"

	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
)

// How many people are in each group and have each attribute is counted as they are written, in the table tallies, so
// that whoever asks reads a few rows and not everybody.

// The kinds of tallies.
const (
	tallyPeople    = "people" // all of them; the value is empty
	tallyGroup     = "group"
	tallyAttribute = "attribute"
)

// counts adds to a tally what a change makes of people.
func counts(c *people.Census, x model.Change) {
	if was, is := x.Before.(*model.Person); is {
		c.Count(&was.Person, -1)
	}
	if now, is := x.After.(*model.Person); is {
		c.Count(&now.Person, 1)
	}
}

// tally adds up what was counted.
func (r *Reader) tally(by *people.Census) error {
	all := map[[2]string]int{{tallyPeople, ""}: by.People}
	for g, n := range by.Groups {
		all[[2]string{tallyGroup, g}] = n
	}
	for a, n := range by.Attributes {
		all[[2]string{tallyAttribute, a}] = n
	}
	maps.DeleteFunc(all, func(_ [2]string, n int) bool { return n == 0 })
	if len(all) == 0 {
		return nil
	}
	had, err := r.tallies()
	if err != nil {
		return err
	}
	for k, n := range all {
		if n += had[k]; n <= 0 {
			if err := r.c.Exec("DELETE FROM tallies WHERE what = ? AND value = ?", k[0], k[1]); err != nil {
				return err
			}
			continue
		}
		values := []any{k[0], k[1], n}
		if err := r.c.Exec(upsert("tallies", "what, value", "what, value, n, sum"), append(values,
			sumOf("tallies", values))...); err != nil {
			return err
		}
	}
	return nil
}

// tallies are those that are kept.
func (r *Reader) tallies() (map[[2]string]int, error) {
	out := map[[2]string]int{}
	err := r.each("tallies", "SELECT what, value, n, sum FROM tallies", nil, func(s Scanner) (bool, error) {
		var what, value string
		var n int
		err := r.scan("tallies", s, &what, &value, &n)
		out[[2]string{what, value}] = n
		return true, err
	})
	return out, err
}

// Census is how many people there are, in each group, and with each attribute.
func (r *Reader) Census() (people.Census, error) {
	r.asked(model.People)
	all, err := r.tallies()
	if err != nil {
		return people.Census{}, err
	}
	c := people.CensusOf(nil)
	for k, n := range all {
		switch k[0] {
		case tallyPeople:
			c.People = n
		case tallyGroup:
			c.Groups[k[1]] = n
		case tallyAttribute:
			c.Attributes[k[1]] = n
		default:
			if err := r.damage(&damagedError{"tallies", fmt.Sprint(k)}); err != nil {
				return c, err
			}
		}
	}
	return c, nil
}

package people

import (
	"maps"
	"slices"
)

// Census is how many people there are, how many are in each group, and how many have a value of each attribute.
type Census struct {
	People     int
	Groups     map[string]int
	Attributes map[string]int
}

// CensusOf counts people.
func CensusOf(list []Person) Census {
	c := Census{Groups: map[string]int{}, Attributes: map[string]int{}}
	for i := range list {
		c.Count(&list[i], 1)
	}
	return c
}

// Count counts somebody so many times more; -1 takes them out.
func (c *Census) Count(p *Person, by int) {
	c.People += by
	for i, g := range p.Groups {
		if !slices.Contains(p.Groups[:i], g) {
			add(c.Groups, g, by)
		}
	}
	for a, v := range p.Attributes {
		if len(v) > 0 {
			add(c.Attributes, a, by)
		}
	}
}

func add(to map[string]int, name string, by int) {
	if to[name] += by; to[name] == 0 {
		delete(to, name)
	}
}

// GroupNames lists the groups in which somebody is, by name.
func (c *Census) GroupNames() []string { return slices.Sorted(maps.Keys(c.Groups)) }

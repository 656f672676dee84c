package accounts

import (
	"slices"
	"strings"
)

// Arrival is a person as an app receives them.
type Arrival struct {
	Person string
	Key    []string // what arrives for the field by which accounts are found
}

// Pair is a person with the account that they would be taken for.
type Pair struct {
	Person  string `json:"person"`
	Value   string `json:"value"`   // that found it
	Account string `json:"account"` // its value of the field
	Line    int    `json:"line"`
}

// Stranger is a person whom the app would not know.
type Stranger struct {
	Person string `json:"person"`
	Value  string `json:"value"` // "" where nothing arrives
	Near   string `json:"near,omitempty"`
	How    string `json:"how,omitempty"` // in what the nearest account differs: case, domain
}

// Collision is two people for one account, or two accounts for one person.
type Collision struct {
	People   []string `json:"people"`
	Accounts []string `json:"accounts"`
	Lines    []int    `json:"lines"`
}

// Matching is whom of some people an app knows.
type Matching struct {
	Found      []Pair      `json:"found"`
	Strangers  []Stranger  `json:"strangers"`
	Collisions []Collision `json:"collisions"`
	Orphans    []Pair      `json:"orphans"` // accounts for which nobody would come; of a pair, without a person
}

// Index finds accounts by a field.
type Index struct {
	field   string
	list    []Account
	exact   map[string][]int
	folded  map[string][]int
	local   map[string][]int // by what stands in front of an @
	Domains map[string]int   // how many accounts have an address of a domain
}

// NewIndex indexes accounts by the field by which an app finds them. It takes time linear in their number.
func NewIndex(list []Account, field string) *Index {
	x := &Index{field: field, list: list, exact: make(map[string][]int, len(list)), folded: make(map[string][]int,
		len(list)),
		local: map[string][]int{}, Domains: map[string]int{}}
	for i := range list {
		for _, v := range list[i].Fields[field] {
			x.exact[v] = append(x.exact[v], i)
			low := strings.ToLower(v)
			x.folded[low] = append(x.folded[low], i)
			local, domain, isAddress := strings.Cut(low, "@")
			x.local[local] = append(x.local[local], i)
			if isAddress {
				x.Domains[domain]++
			}
		}
	}
	return x
}

// Alone reports whether one account, and no other, has the value, exactly.
func (x *Index) Alone(value string) bool { return len(x.exact[value]) == 1 }

// near finds the account that differs least from a value, and in what.
func (x *Index) near(value string) (account, how string) {
	low := strings.ToLower(value)
	if at := x.folded[low]; len(at) > 0 {
		return x.list[at[0]].Label(x.field), "case"
	}
	local, _, isAddress := strings.Cut(low, "@")
	if at := x.local[local]; len(at) > 0 {
		how = "domain"
		if !isAddress {
			how = "a domain behind it"
		}
		return x.list[at[0]].Label(x.field), how
	}
	return "", ""
}

// Match says for each arrival which account it would be taken for, and what goes wrong. It takes time linear in the
// number of both.
func (x *Index) Match(arrivals []Arrival) *Matching {
	m := &Matching{Found: []Pair{}, Strangers: []Stranger{}, Collisions: []Collision{}, Orphans: []Pair{}}
	came := make(map[int][]string, len(arrivals)) // to an account, who
	for _, a := range arrivals {
		var at []int
		value := ""
		for _, v := range a.Key {
			value = v
			for _, i := range x.exact[v] {
				if !slices.Contains(at, i) {
					at = append(at, i)
				}
			}
		}
		switch len(at) {
		case 0:
			s := Stranger{Person: a.Person, Value: value}
			if value != "" {
				s.Near, s.How = x.near(value)
			}
			m.Strangers = append(m.Strangers, s)
			continue
		case 1:
			m.Found = append(m.Found, Pair{a.Person, value, x.list[at[0]].Label(x.field), x.list[at[0]].Line})
		default:
			m.Collisions = append(m.Collisions, x.collision([]string{a.Person}, at))
		}
		for _, i := range at {
			came[i] = append(came[i], a.Person)
		}
	}
	for i := range x.list {
		switch who := came[i]; {
		case len(who) == 0:
			m.Orphans = append(m.Orphans, Pair{Account: x.list[i].Label(x.field), Line: x.list[i].Line})
		case len(who) > 1:
			m.Collisions = append(m.Collisions, x.collision(who, []int{i}))
		}
	}
	if len(m.Collisions) > 0 { // who collides is not known
		hit := map[string]bool{}
		for _, c := range m.Collisions {
			for _, p := range c.People {
				hit[p] = true
			}
		}
		m.Found = slices.DeleteFunc(m.Found, func(p Pair) bool { return hit[p.Person] })
	}
	return m
}

func (x *Index) collision(who []string, at []int) Collision {
	c := Collision{People: who}
	for _, i := range at {
		c.Accounts = append(c.Accounts, x.list[i].Label(x.field))
		c.Lines = append(c.Lines, x.list[i].Line)
	}
	return c
}

package accounts

import (
	"iter"
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

// Swap is a person who would be taken for somebody else.
type Swap struct {
	Pair
	Whose string `json:"whose"` // the person to whom the account belongs, by what else it says
	Field string `json:"field"` // of the account, which says so
}

// Owners says to whom accounts belong by what they say beside the field by which they are found: values that one person
// alone has.
type Owners struct{ by map[string]string }

// NewOwners reads what values name one person alone; values are those of each person by ID.
func NewOwners(people iter.Seq2[string, []string]) *Owners {
	o := &Owners{by: map[string]string{}}
	for id, values := range people {
		for _, v := range values {
			v = strings.ToLower(strings.TrimSpace(v))
			if had, there := o.by[v]; there && had != id {
				o.by[v] = "" // several
				continue
			}
			o.by[v] = id
		}
	}
	return o
}

// swapped says whose an account is that somebody would be taken for, where it is not theirs: it names another person,
// and nothing in it but the value that found it names this one. field is the one by which accounts are found.
func (o *Owners) swapped(p Pair, a *Account, field string) (Swap, bool) {
	whose, by := "", ""
	for _, f := range Sorted(a.Fields) {
		for _, v := range a.Fields[f] {
			id := o.by[strings.ToLower(strings.TrimSpace(v))]
			switch {
			case id == "":
			case id == p.Person && (f != field || v != p.Value):
				return Swap{}, false // it names them
			case id != p.Person && whose == "":
				whose, by = id, f
			}
		}
	}
	return Swap{p, whose, by}, whose != ""
}

// Tell finds among those who were found the people who would be taken for somebody else.
func (x *Index) Tell(m *Matching, o *Owners) {
	m.Found = slices.DeleteFunc(m.Found, func(p Pair) bool {
		at := x.exact[p.Value]
		if len(at) != 1 {
			return false
		}
		s, ok := o.swapped(p, &x.list[at[0]], x.field)
		if ok {
			m.Swapped = append(m.Swapped, s)
		}
		return ok
	})
}

// Collision is two people for one account, or two accounts for one person.
type Collision struct {
	People   []string `json:"people"`
	Accounts []string `json:"accounts"`
	Lines    []int    `json:"lines"`
}

// Matching is whom of some people an app knows.
type Matching struct {
	Found      []Pair      `json:"found" rows:"each"`
	Strangers  []Stranger  `json:"strangers" rows:"each"`
	Collisions []Collision `json:"collisions" rows:"each"`
	// taken for somebody else: the account says that it is theirs
	Swapped []Swap `json:"swapped" rows:"each"`
	// accounts for which nobody would come; of a pair, without a person
	Orphans []Pair `json:"orphans" rows:"each"`
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
	m := &Matching{Found: []Pair{}, Strangers: []Stranger{}, Collisions: []Collision{}, Swapped: []Swap{},
		Orphans: []Pair{}}
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

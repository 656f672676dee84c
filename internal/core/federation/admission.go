package federation

import (
	"cmp"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/people"
)

// Admission is whom a trust admits. It is read once out of the rule that stands in the trust, and everybody who asks
// who may sign in asks it: the provider that is played, the commands that show and judge, the sheets that are handed
// over. A rule that cannot be read admits nobody: what was meant is not known.
type Admission struct {
	Trust     string // name of the trust; "" where a rule is read by itself
	Rule      string // as it stands there
	Everyone  bool
	Consented bool     // those alone for whom an administrator consented
	Groups    []string // members of any of them
	Persons   []string // by ID
	Pilot     string   // the group for which alone the trust is live; "" is none
	Broken    bool     // the rule cannot be read
}

// ReadAdmission reads a rule of admission: everyone, consented, or a list of group:NAME and person:ID with commas,
// such as group:observers,visitors,person:ilse. What has no word in front is of the kind of what stands before it.
// Errors: ErrAdmits.
func ReadAdmission(rule string) (Admission, error) {
	a := Admission{Rule: rule}
	switch rule {
	case "everyone":
		a.Everyone = true
		return a, nil
	case "consented":
		a.Consented = true
		return a, nil
	}
	to := (*[]string)(nil)
	for _, part := range strings.Split(rule, ",") {
		part = strings.TrimSpace(part)
		word, name, said := strings.Cut(part, ":")
		switch {
		case said && word == "group":
			part, to = name, &a.Groups
		case said && word == "person":
			part, to = name, &a.Persons
		case said || part == "everyone" || part == "consented":
			to = nil
		}
		if to == nil || part == "" {
			return Admission{Rule: rule, Broken: true},
				fmt.Errorf("%w: %q; write everyone, group:NAME or person:ID, several "+
					"with commas; over OpenID Connect also consented", ErrAdmits, rule)
		}
		*to = append(*to, part)
	}
	return a, nil
}

// CheckAdmits refuses what is no rule of admission. Errors: ErrAdmits.
func CheckAdmits(rule string) error {
	_, err := ReadAdmission(rule)
	return err
}

// Admission is whom the trust admits as it is now.
func (t *Trust) Admission() Admission {
	a, _ := ReadAdmission(t.Admits) // one that cannot be read is Broken
	if a.Trust = t.Name; t.Standing == Live && t.Cutover != nil && t.Cutover.Way == Pilot {
		a.Pilot = t.Cutover.Group
	}
	return a
}

// Refusal is why somebody is not let in: the policy that refuses, and the reason in words.
type Refusal struct {
	Policy string // standing or admits
	Why    string // for the administrator
	told   string
}

// Told is what the other side and whoever signs in are told: which groups are admitted, and who is in which, is none of
// their business.
func (r *Refusal) Told() string { return cmp.Or(r.told, r.Why) }

// Refuses says why a trust does not let somebody in; nil where it does. consents are those of the trust. A nil person
// is a machine client, of which the standing alone decides.
func (t *Trust) Refuses(p *people.Person, consents []Consent) *Refusal {
	switch {
	case t.Standing == Ended:
		return &Refusal{Policy: "standing", Why: t.Name + " has ended"}
	case t.Standing == Paused:
		return &Refusal{Policy: "standing", Why: t.Name + " is paused: nobody signs in through it until it is resumed"}
	case p == nil:
		return nil
	}
	return t.Admission().Refuses(p, consents)
}

// Refuses says why somebody is not among those who are admitted; nil where they are.
func (a Admission) Refuses(p *people.Person, consents []Consent) *Refusal {
	switch {
	case a.Broken:
		return &Refusal{Policy: "admits", Why: fmt.Sprintf("whom %s admits cannot be read (%q), so it admits nobody",
			a.Trust, a.Rule), told: a.Trust + " admits nobody now"}
	case a.Pilot != "" && !p.In(a.Pilot):
		return &Refusal{Policy: "standing", Why: a.Trust + " is live for the group " + a.Pilot + " alone, and " + p.ID +
			" is not in it", told: a.Trust + " is live for some alone, and " + p.ID + " is not admitted yet"}
	case a.By(p, consents) != "":
		return nil
	case a.Consented:
		return &Refusal{Policy: "admits", Why: fmt.Sprintf("%s admits those alone for whom an administrator "+
			"consented, and nobody did for %s", a.Trust, p.ID)}
	}
	return &Refusal{"admits", fmt.Sprintf("%s is not admitted; %s admits %s", p.ID, a.Trust, a.whom(" or ", ", or ")),
		p.ID + " is not admitted through " + a.Trust}
}

// Counts is how many of a crowd are admitted. Where the rule is about everyone, or about one group, nobody is read.
func (a Admission) Counts(c *Crowd, consents []Consent) (n int) {
	switch {
	case a.Broken:
		return 0
	case a.Everyone && a.Pilot == "":
		return c.People
	case a.Everyone:
		return c.In(a.Pilot)
	case a.Pilot == "" && !a.Consented && len(a.Groups) == 1 && len(a.Persons) == 0:
		return c.In(a.Groups[0])
	}
	all := c.All()
	for i := range all {
		if a.Refuses(&all[i], consents) == nil {
			n++
		}
	}
	return n
}

// By says by what the rule admits somebody, such as "everyone", "by name" or "group observers"; "" where it does not.
func (a Admission) By(p *people.Person, consents []Consent) string {
	switch {
	case a.Everyone:
		return "everyone"
	case a.Consented:
		if slices.ContainsFunc(consents, func(c Consent) bool {
			return c.Standing == Consented && c.Admin && c.As == AsUser &&
				(c.For == "" || strings.EqualFold(c.For, p.ID))
		}) {
			return "consented"
		}
		return ""
	case slices.ContainsFunc(a.Persons, func(id string) bool { return strings.EqualFold(id, p.ID) }):
		return "by name"
	}
	var by []string
	for _, g := range a.Groups {
		if p.In(g) {
			by = append(by, g)
		}
	}
	if by == nil {
		return ""
	}
	return "group " + strings.Join(by, ", ")
}

// whom lists groups and persons.
func (a Admission) whom(or, between string) string {
	var out []string
	if len(a.Groups) > 0 {
		word := "the group "
		if len(a.Groups) > 1 && or == ", " {
			word = "the groups "
		}
		out = append(out, word+strings.Join(a.Groups, or))
	}
	if len(a.Persons) > 0 {
		out = append(out, strings.Join(a.Persons, or))
	}
	return strings.Join(out, between)
}

// Words says for people whom the trust admits.
func (a Admission) Words() string {
	var s string
	switch {
	case a.Broken:
		return fmt.Sprintf("nobody: %q cannot be read", a.Rule)
	case a.Everyone:
		s = "everyone"
	case a.Consented:
		s = "those alone for whom an administrator consented"
	default:
		s = a.whom(", ", ", and ")
	}
	if a.Pilot != "" {
		s += "; live for the group " + a.Pilot + " alone (pilot)"
	}
	return s
}

// Short says it in the words in which it is entered, for a table.
func (a Admission) Short() string {
	switch {
	case a.Broken:
		return "nobody (unreadable)"
	case a.Pilot != "":
		return a.Rule + ", pilot group:" + a.Pilot
	}
	return a.Rule
}

// Crowd is the people of a ledger, as far as they are asked for: how many there are in each group is known at once, and
// all of them are read where a question is about each.
type Crowd struct {
	people.Census
	from Everybody
	all  []people.Person
	read bool
	err  error
}

// Everybody is where the people of a crowd are read.
type Everybody interface {
	// Persons lists all of them by ID.
	Persons() ([]people.Person, error)
	// EachPerson goes through them by ID, as far as it is asked to.
	EachPerson() iter.Seq2[people.Person, error]
	// Knows reports whether there is a person of an ID, letter case not counting.
	Knows(id string) (bool, error)
}

// NewCrowd is a crowd of people who were read.
func NewCrowd(list []people.Person) *Crowd {
	return &Crowd{Census: people.CensusOf(list), all: list, read: true}
}

// CrowdOf is a crowd of people who are read where that is needed. Ask for Err afterwards.
func CrowdOf(c people.Census, from Everybody) *Crowd { return &Crowd{Census: c, from: from} }

// Err is what went wrong when people were read; answers given since are not to be used.
func (c *Crowd) Err() error { return c.err }

// In is how many people are in a group.
func (c *Crowd) In(group string) int { return c.Groups[group] }

// All are all of them, by ID.
func (c *Crowd) All() []people.Person {
	if !c.read {
		c.read = true
		all, err := c.from.Persons()
		c.all, c.err = all, errors.Join(c.err, err)
	}
	return c.all
}

// First is the first of them, by ID, whom a function picks; nil where it picks nobody.
func (c *Crowd) First(picks func(*people.Person) bool) *people.Person {
	if c.read {
		if i := slices.IndexFunc(c.all, func(p people.Person) bool { return picks(&p) }); i >= 0 {
			return &c.all[i]
		}
		return nil
	}
	for p, err := range c.from.EachPerson() {
		if err != nil {
			c.err = errors.Join(c.err, err)
			return nil
		}
		if picks(&p) {
			return &p
		}
	}
	return nil
}

// has reports whether there is a person of an ID.
func (c *Crowd) has(id string) bool {
	if c.read {
		return slices.ContainsFunc(c.all, func(p people.Person) bool { return strings.EqualFold(p.ID, id) })
	}
	yes, err := c.from.Knows(id)
	c.err = errors.Join(c.err, err)
	return yes
}

// mailOf is the ID of the last of those who have a mail address; "" where nobody has.
func (c *Crowd) mailOf(address string) (id string) {
	all := c.All()
	for i := range all {
		if slices.ContainsFunc(all[i].Attributes["mail"], func(m string) bool {
			return strings.EqualFold(m,
				address)
		}) {
			id = all[i].ID
		}
	}
	return id
}

// Judge holds whom a trust admits against the people of a ledger: groups in which nobody is, persons who are not there.
func (a Admission) Judge(c *Crowd) finding.List {
	var out finding.List
	const check = "who may sign in"
	warn := func(level finding.Level, of, saw, expected string, fix finding.Remedy) {
		out.Add(finding.Finding{ID: finding.TrustAdmits, Level: level, Check: check, Of: of, Saw: saw,
			Expected: expected, Side: finding.Ledger, Fix: fix})
	}
	change := func(rule string) finding.Remedy { return finding.Run("trust", "change", a.Trust, "--admits", rule) }
	if a.Broken {
		warn(finding.Error, a.Rule, fmt.Sprintf("%q, which cannot be read: nobody is admitted", a.Rule),
			"everyone, group:NAME or person:ID", change("group:NAME"))
		return out
	}
	if c.People == 0 {
		return nil // nothing to compare with
	}
	groups := a.Groups
	if a.Pilot != "" {
		groups = append(slices.Clone(groups), a.Pilot)
	}
	for _, g := range groups {
		if n := c.In(g); n > 0 {
			out.Pass(finding.TrustAdmits, check, fmt.Sprintf("the group %s, %d in the ledger", g, n))
			continue
		}
		fix := finding.Do("load people with that group").Or(change("group:NAME"))
		if names := near.Names(g, c.GroupNames()); len(names) > 0 {
			fix = change("group:" + names[0])
		}
		warn(finding.Warning, g, "the group "+g+", in which nobody is", "a group that people in the ledger are in", fix)
	}
	for _, id := range a.Persons {
		if c.has(id) {
			out.Pass(finding.TrustAdmits, check, id)
			continue
		}
		fix := finding.Do("load people who have that name").Or(change("group:NAME"))
		if who := c.mailOf(id); who != "" { // a mail address is no ID, and lets nobody in
			fix = change(strings.ReplaceAll(a.Rule, id, who))
		}
		warn(finding.Warning, id, id+", who is not in the ledger", "people of the ledger", fix)
	}
	return out
}

// Package mapping looks at what people's attributes become at an app, over everybody: what is missing, whom the app
// would know, and what would serve more people. It changes nothing but the accounts that are loaded.
package mapping

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
)

// Mapper works on a ledger.
type Mapper struct {
	*model.Book
}

// Errors that callers test for.
var (
	ErrNoAccounts = errors.New("the accounts of the app are not known")
	ErrField      = errors.New("no account in it has the field by which the app finds one")
	ErrNoKey      = errors.New("nobody said by which field the app finds an account")
	ErrNotKnown   = errors.New("not known")
)

// Load replaces what is known of the accounts inside an app with those of its export. An export in which no account has
// the field by which the app finds one is another's, and what was known stays. Errors: those of accounts.Read,
// ErrField, *model.UnknownError. The findings name accounts that the app itself could not tell apart.
func (m *Mapper) Load(app string, raw []byte, source string) (*Loaded, error) {
	p, err := m.Party(federation.App, app)
	if err != nil {
		return nil, err
	}
	list, leftOut, err := accounts.Read(raw)
	if err != nil {
		return nil, fmt.Errorf("accounts from %s: %w", source, err)
	}
	out := &Loaded{Accounts: len(list), LeftOut: leftOut}
	if p.Reads != nil && p.Reads.Key != "" {
		key := p.Reads.Key
		if !slices.ContainsFunc(list, func(a accounts.Account) bool { return len(a.Fields[key]) > 0 }) {
			return nil, finding.Advise(fmt.Errorf("accounts from %s: %w: %s; its fields are %s; nothing was "+
				"loaded", source,
				ErrField, key, strings.Join(accounts.Sorted(list[0].Fields), ", ")),
				finding.Run("app", "change", app, "--reads", "FIELD=CLAIM", "--account-key", "FIELD"))
		}
		out.Findings = twice(list, p.Reads.Key, source)
	}
	return out, m.Change(func(tx *model.Edit) error { return tx.PutAccounts(app, source, list) })
}

// twice names accounts with the same value of the field by which they are found, and those with none.
func twice(list []accounts.Account, key, source string) finding.List {
	var out finding.List
	first, without := map[string]int{}, 0
	for i := range list {
		if len(list[i].Fields[key]) == 0 {
			without++
		}
		for _, v := range list[i].Fields[key] {
			if line, ok := first[v]; ok {
				out.Add(finding.Finding{ID: finding.AccountsTwice, Level: finding.Warning, Check: key, Of: v,
					Saw:      fmt.Sprintf("%s in line %d and in line %d of %s", v, line, list[i].Line, source),
					Expected: "one account for each value of the field by which the app finds them", Side: finding.App,
					Fix: finding.Do("ask the app's owner which of them is in use, and have the other one closed")})
				continue
			}
			first[v] = list[i].Line
		}
	}
	if without > 0 {
		out.Add(finding.Finding{ID: finding.AccountsNoKey, Level: finding.Warning, Check: key,
			Saw:      fmt.Sprintf("%d of %d accounts have no %s", without, len(list), key),
			Expected: "a value in each, since the app finds accounts by it", Side: finding.App,
			Fix: finding.Do("ask the app's owner whether the export is whole, and by which field accounts are found")})
	}
	return out
}

// Those are the people whom a trust admits, with what the app receives of each.
type Those struct {
	trust     *federation.Trust
	provider  *federation.Party
	assumed   bool // that they sign in there: nobody said so
	app       *federation.Party
	releaser  *federation.Releaser
	all       []people.Person // whom the trust admits
	everybody []people.Person
}

// Admitted are those of everybody who sign in at the provider of a trust and whom the trust admits, with the consents
// given to it, for whoever has read all of them. Of a foreign provider those count of whom it was said that they sign
// in there; where that was said of nobody, everybody is assumed to, which whoever claims something of them has to say.
func Admitted(t *federation.Trust, app, provider *federation.Party, releaser *federation.Releaser,
	consents []federation.Consent, everybody []people.Person) *Those {
	out := &Those{trust: t, app: app, provider: provider, releaser: releaser, everybody: everybody}
	may := t.Admission()
	out.assumed = !provider.Own && !slices.ContainsFunc(everybody,
		func(p people.Person) bool { return p.SignsInAt(provider.Name, false) })
	for i := range everybody {
		here := out.assumed || everybody[i].SignsInAt(provider.Name, provider.Own)
		if here && may.Refuses(&everybody[i], consents) == nil {
			out.all = append(out.all, everybody[i])
		}
	}
	return out
}

// admitted reads whom a trust admits; group narrows it, "" does not.
func (m *Mapper) admitted(trust, group string) (*Those, error) {
	t, app, provider, err := m.Trust(trust)
	if err != nil {
		return nil, err
	}
	everybody, err := m.View.Persons()
	if err != nil {
		return nil, err
	}
	consents, err := m.View.Consents(trust)
	if err != nil {
		return nil, err
	}
	r, err := m.Releaser(t, m.Rand)
	if err != nil {
		return nil, err
	}
	who := Admitted(t, app, provider, r, consents, everybody)
	if group == "" {
		return who, nil
	}
	if census := people.CensusOf(everybody); census.Groups[group] == 0 {
		return nil, model.UnknownGroup(group, census)
	}
	who.all = slices.DeleteFunc(who.all, func(p people.Person) bool { return !p.In(group) })
	return who, nil
}

// Match is whom of those whom a trust admits its app would know.
type Match struct {
	Trust      string `json:"trust"`
	App        string `json:"app"`
	Field      string `json:"field"`                // by which the app finds an account
	From       string `json:"from"`                 // the received name that fills it
	Expression string `json:"expression,omitempty"` // the rule behind it
	Admitted   int    `json:"admitted"`
	Accounts   int    `json:"accounts"`
	Strange    string `json:"strangersAre,omitempty"` // created or refused
	*accounts.Matching
	Shared []Shared `json:"shared" rows:"each"` // to which another provider leads as well
	// the app's other trusts of which it is not known whom they bring
	Beside []string `json:"besideNotKnown,omitempty"`
	Better []Better `json:"better"` // rules that would find more
}

// Better is a rule that would find more accounts.
type Better struct {
	Expression string         `json:"expression"`
	Found      int            `json:"found"`
	Fix        finding.Remedy `json:"fix"`
}

// Match says for everyone whom a trust admits which account of the app they would be taken for. Errors: ErrNoAccounts,
// ErrNoKey, *model.UnknownError.
func (m *Mapper) Match(trust string) (*Match, error) {
	t, app, _, err := m.Trust(trust)
	if err != nil {
		return nil, err
	}
	list, err := m.View.Accounts(app.Name)
	if err != nil {
		return nil, err
	}
	if t.Standing == federation.Ended { // it leads nobody anywhere, and what it did is asked about
		who, err := m.admitted(trust, "")
		if err != nil {
			return nil, err
		}
		return who.Match(list)
	}
	beside, err := m.View.TrustsOf(app.Name)
	if err != nil {
		return nil, err
	}
	parties, trusts := map[string]*federation.Party{app.Name: app}, []*federation.Trust{}
	for i := range beside {
		x := &beside[i]
		if x.App != app.Name {
			continue
		}
		if parties[x.Provider], err = m.View.Party(x.Provider); err != nil {
			return nil, err
		}
		if x.Name == t.Name {
			x = t
		}
		trusts = append(trusts, x)
	}
	everybody, err := m.View.Persons()
	if err != nil {
		return nil, err
	}
	w, err := m.Ways(trusts, parties, everybody, list)
	if err != nil {
		return nil, err
	}
	return w.Of(trust)
}

// Match says of each of them which account of the app's list they would be taken for. Errors: ErrNoAccounts, ErrNoKey,
// ErrNotKnown.
func (t *Those) Match(list []accounts.Account) (*Match, error) {
	if len(list) == 0 {
		return nil, finding.Advise(fmt.Errorf("%w: %s", ErrNoAccounts, t.app.Name), finding.Run("accounts", "load",
			t.app.Name, "FILE"))
	}
	reads := t.trust.Reading(t.app)
	if reads == nil || reads.Key == "" {
		return nil, finding.Advise(fmt.Errorf("%w: %s", ErrNoKey, t.app.Name), finding.Run("app", "change", t.app.Name,
			"--reads", "FIELD=NameID", "--account-key", "FIELD"))
	}
	from := reads.From(reads.Key)
	if _, _, ruled := t.trust.RuleFor(from); !t.provider.Own && !ruled && from != federation.Subject {
		return nil, finding.Advise(fmt.Errorf("%w: what %s sends as %s, by which %s finds accounts", ErrNotKnown,
			t.provider.Name, from, t.app.Name), finding.Run("watch", t.trust.Name))
	}
	if len(t.all) == 0 || t.assumed { // nothing is true of nobody
		return nil, finding.Advise(fmt.Errorf("%w: nobody in the ledger is known to sign in at %s whom %s admits",
			ErrNotKnown, t.provider.Name, t.trust.Name), finding.Run("people", "load", finding.BlankFile, "--home",
			t.provider.Name))
	}
	out := &Match{Trust: t.trust.Name, App: t.app.Name, Field: reads.Key, From: reads.From(reads.Key),
		Admitted: len(t.all),
		Accounts: len(list), Strange: reads.Strangers, Shared: []Shared{}, Better: []Better{}}
	if out.From == federation.Subject {
		out.Expression = t.trust.SubjectExpression()
	} else {
		_, out.Expression, _ = t.trust.RuleFor(out.From)
	}
	arrivals := make([]accounts.Arrival, len(t.all))
	for i := range t.all {
		arrivals[i] = accounts.Arrival{Person: t.all[i].ID, Key: t.releaser.Receive(&t.all[i]).Of(out.From)}
	}
	index := accounts.NewIndex(list, reads.Key)
	out.Matching = index.Match(arrivals)
	index.Tell(out.Matching, owners(t.everybody))
	out.Better = t.better(index, out)
	return out, nil
}

// owners says to whom accounts belong, by all that is known of people.
func owners(all []people.Person) *accounts.Owners {
	return accounts.NewOwners(func(yield func(string, []string) bool) {
		for i := range all {
			values := []string{all[i].ID}
			for name, v := range all[i].Attributes {
				if name != "objectClass" {
					values = append(values, v...)
				}
			}
			if !yield(all[i].ID, values) {
				return
			}
		}
	})
}

// Judge says what is wrong with whom the app takes people for, for every command that asks.
func (m *Match) Judge() finding.List {
	var out finding.List
	check, fix := "accounts of "+m.App, finding.Run("accounts", "match", m.Trust)
	add := func(id finding.ID, level finding.Level, saw, expected string) {
		out.Add(finding.Finding{ID: id, Level: level, Check: check, Saw: saw, Expected: expected, Side: finding.Both,
			Fix: fix})
	}
	if n := len(m.Strangers); n > 0 {
		saw := fmt.Sprintf("%d of %d who may sign in have none", n, m.Admitted)
		if m.Strange == "created" {
			saw += ": the app makes each of them a new, empty one"
		}
		add(finding.AccountStrangers, finding.Warning, saw, "an account for each")
	}
	if n := len(m.Collisions); n > 0 {
		add(finding.AccountCollisions, finding.Error, fmt.Sprintf("%d collisions of people and accounts", n),
			"one account for each person, and one person for each")
	}
	if n := len(m.Swapped); n > 0 {
		s := m.Swapped[0]
		add(finding.AccountSwapped, finding.Error,
			fmt.Sprintf("%d would be taken for somebody else, such as %s for %s (%s)", n,
				s.Person, s.Whose, s.Account), "each person their own account")
	}
	m.judgeShared(&out, check)
	if len(out) == 0 && m.Admitted > 0 {
		out.Pass(finding.AccountKnown, check, fmt.Sprintf("each of %d who may sign in is known", m.Admitted))
	}
	return out
}

// better looks for rules that would find more accounts, the best first.
func (t *Those) better(x *accounts.Index, now *Match) []Better {
	domain, most := "", 0
	for d, n := range x.Domains {
		if n > most || n == most && d < domain {
			domain, most = d, n
		}
	}
	out := []Better{}
	for _, c := range candidates(t.all, domain) {
		hits := map[string]int{}
		for i := range t.all {
			if v := c.of(&t.all[i]); v != "" && x.Alone(v) {
				hits[v]++
			}
		}
		b := Better{Expression: c.expression}
		for _, n := range hits {
			if n == 1 { // two people for one account are no gain
				b.Found++
			}
		}
		if b.Found <= len(now.Found)+len(now.Swapped) {
			continue
		}
		if now.From == federation.Subject {
			b.Fix = finding.Run("claims", "set", now.Trust, "--subject", c.expression, "--subject-format",
				"unspecified")
		} else {
			claim := now.From
			if name, _, ok := t.trust.RuleFor(now.From); ok {
				claim = name
			}
			b.Fix = finding.Run("claims", "set", now.Trust, claim+"="+c.expression)
		}
		out = append(out, b)
	}
	slices.SortStableFunc(out, func(a, b Better) int {
		return cmp.Or(cmp.Compare(b.Found, a.Found), cmp.Compare(len(a.Expression), len(b.Expression)))
	})
	return out[:min(len(out), 3)]
}

// candidate is a way to make a value out of a person's attributes: as an expression, and as what it yields.
type candidate struct {
	expression string
	of         func(*people.Person) string // "" where it yields nothing
}

// Expr reads an attribute of a person in CEL.
func expr(attr string) string {
	if strings.ContainsAny(attr, ":/.-; ") {
		return fmt.Sprintf("first(person[%q])", attr)
	}
	return "first(person." + attr + ")"
}

func firstOf(p *people.Person, attr string) string {
	if v := p.Attributes[attr]; len(v) > 0 {
		return v[0]
	}
	return ""
}

// candidates are the ways to make an identifier out of the attributes that people have: an attribute as it is, in lower
// case, what stands in front of its @, and that with another domain; and a name in parts.
func candidates(all []people.Person, domain string) []candidate {
	have := people.CensusOf(all).Attributes
	var attrs []string
	for a := range have {
		if a != "objectClass" && a != "entryUUID" && a != "jpegPhoto" {
			attrs = append(attrs, a)
		}
	}
	slices.Sort(attrs)
	local := func(v string) string { v, _, _ = strings.Cut(v, "@"); return v }
	var out []candidate
	add := func(expression string, of func(*people.Person) string) { out = append(out, candidate{expression, of}) }
	for _, a := range attrs {
		add(expr(a), func(p *people.Person) string { return firstOf(p, a) })
		add(expr(a)+".lowerAscii()", func(p *people.Person) string { return strings.ToLower(firstOf(p, a)) })
		add(expr(a)+`.split("@")[0]`, func(p *people.Person) string { return local(firstOf(p, a)) })
		if domain != "" {
			add(fmt.Sprintf(`%s.split("@")[0].lowerAscii() + "@%s"`, expr(a), domain), func(p *people.Person) string {
				if v := firstOf(p, a); v != "" && !strings.Contains(v, " ") {
					return strings.ToLower(local(v)) + "@" + domain
				}
				return ""
			})
		}
	}
	for _, a := range attrs {
		if a == "mail" || have["mail"] == 0 {
			continue
		}
		add(fmt.Sprintf(`scope(%s, first(person.mail).split("@")[1])`, expr(a)), func(p *people.Person) string {
			v := firstOf(p, a)
			_, at, ok := strings.Cut(firstOf(p, "mail"), "@")
			if v == "" || !ok {
				return ""
			}
			return local(v) + "@" + at
		})
	}
	names := func(p *people.Person) (given, sn string, ok bool) {
		given, sn = firstOf(p, "givenName"), firstOf(p, "sn")
		return given, sn, given != "" && sn != ""
	}
	const both = `first(person.givenName) + "%s" + first(person.sn)`
	add(fmt.Sprintf(both, " "), func(p *people.Person) string {
		if g, s, ok := names(p); ok {
			return g + " " + s
		}
		return ""
	})
	if domain != "" {
		add("("+fmt.Sprintf(both, ".")+`).lowerAscii() + "@`+domain+`"`, func(p *people.Person) string {
			if g, s, ok := names(p); ok {
				return strings.ToLower(g + "." + s + "@" + domain)
			}
			return ""
		})
	}
	return out
}

// Loaded is what is told of an app's accounts that were read.
type Loaded struct {
	Accounts int          `json:"accounts"`
	LeftOut  []string     `json:"leftOut,omitempty"` // fields that hold secrets
	Findings finding.List `json:"findings"`
}

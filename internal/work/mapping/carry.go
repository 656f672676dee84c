package mapping

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
	"tressik.example/internal/work/handoff"
)

// CarryInput says which subjects people keep at an app that moves to another provider: those that they have through the
// provider From; those of the accounts whose field says the same as an attribute of a person (By, FIELD=ATTRIBUTE); or
// those of a Table with the columns person and subject. One of the three is said.
type CarryInput struct {
	App, To string
	From    string
	By      string
	Table   []byte
	Source  string // of the table
}

// Keeps is a person with the subject that they keep at an app.
type Keeps struct {
	Person  string `json:"person"`
	Mail    string `json:"mail,omitempty"`
	Subject string `json:"subject"`
	Else    string `json:"else,omitempty"` // what the rules of the trust would give them
}

// Carrying is what was carried to a trust, and what was not.
type Carrying struct {
	Trust    string          `json:"trust"`
	From     string          `json:"from"`
	Kept     bool            `json:"kept"` // in the ledger; a foreign provider sends what its owner makes it send
	Carried  []Keeps         `json:"carried" rows:"each"`
	Orphans  []accounts.Pair `json:"orphans"` // accounts that nobody of the table comes for
	Fresh    []string        `json:"fresh"`   // people whom the trust admits and who have no subject to keep
	Exported bool            `json:"accountsKnown"`
}

// Errors that callers test for.
var (
	ErrNotBySubject = errors.New("finds accounts by something else than the subject")
	ErrTaken        = errors.New("would be taken for somebody else")
	ErrTable        = errors.New("no table of subjects")
)

// Carry has the people of an app keep the subjects by which it knows them, when it moves to another provider: nobody is
// orphaned, and nobody is taken for somebody else, or nothing is changed. At a foreign provider nothing is kept: its
// owner needs the table. Errors: ErrNotBySubject, ErrTaken, ErrTable, those of Match, *model.UnknownError.
func (m *Mapper) Carry(in CarryInput) (*Carrying, error) {
	name, err := m.way(in.App, in.To)
	if err != nil {
		return nil, err
	}
	who, err := m.admitted(name, "")
	if err != nil {
		return nil, err
	}
	if who.trust.Terms.Machine(who.app) {
		return nil, fmt.Errorf("%s acts as itself, and nobody signs in there whose subject could be kept: %w", in.App,
			model.ErrValue)
	}
	if who.trust.SubjectFormat == saml.FormatTransient {
		return nil, finding.Advise(fmt.Errorf("the subject of %s is a new one at each sign-in: %w", name,
			model.ErrValue),
			finding.Run("claims", "set", name, "--format", "persistent"))
	}
	if reads := who.trust.Reading(who.app); reads != nil && reads.Key != "" {
		if from := reads.From(reads.Key); from != federation.Subject {
			return nil, finding.Advise(fmt.Errorf("%s %w: by %s, out of %s", in.App, ErrNotBySubject, reads.Key, from),
				finding.Run("claims", "suggest", name))
		}
	}
	out := &Carrying{Trust: name, Carried: []Keeps{}, Orphans: []accounts.Pair{}, Fresh: []string{}}
	list, err := m.View.Accounts(in.App)
	if err != nil && !errors.Is(err, model.ErrNotFound) {
		return nil, err
	}
	out.Exported = len(list) > 0
	switch {
	case in.Table != nil:
		out.From = in.Source
		err = m.fromTable(out, in.Table)
	case in.By != "":
		out.From = "the accounts of " + in.App
		err = m.byField(out, who, list, in.By)
	default:
		err = m.fromTrust(out, in, list)
	}
	if err != nil {
		return nil, err
	}
	if err := m.judge(out, who); err != nil {
		return nil, err
	}
	if out.rest(who, list); !who.provider.Own {
		return out, nil
	}
	subjects := map[string]string{}
	for _, k := range out.Carried {
		p, err := m.Person(k.Person)
		if err != nil {
			return nil, err
		}
		subjects[p.SubjectKey()] = k.Subject
	}
	out.Kept = true
	return out, m.carry(name, out.From, subjects)
}

// Uncarry has people get the subjects again that the rules of a trust give them. Errors: *model.UnknownError.
func (m *Mapper) Uncarry(app, provider string) (string, error) {
	name, err := m.way(app, provider)
	if err != nil {
		return "", err
	}
	t, _, _, err := m.Trust(name)
	if err == nil && t.Carried == nil {
		err = fmt.Errorf("nobody keeps a subject at %s from before: %w", name, model.ErrValue)
	}
	if err != nil {
		return "", err
	}
	return name, m.carry(name, "", nil)
}

// carry keeps subjects with a trust.
func (m *Mapper) carry(name, from string, subjects map[string]string) error {
	was, app, provider, err := m.Trust(name)
	if err != nil {
		return err
	}
	now := was.Clone()
	if err := now.Change(m.Now(), app, provider, func(t *federation.Trust) error {
		if t.Carried = nil; len(subjects) > 0 {
			t.Carried = &federation.Carrying{Count: len(subjects), From: from,
				At: m.Now().UTC().Truncate(time.Second)}
		}
		return nil
	}); err != nil {
		return err
	}
	if err := handoff.New(m.Book).TakeBack(was, now); err != nil {
		return err
	}
	return m.Change(func(tx *model.Edit) error { return tx.Carry(was, now, subjects) })
}

// fromTrust takes the subjects that people have through another provider: where the accounts of the app are known, of
// those who have one.
func (m *Mapper) fromTrust(out *Carrying, in CarryInput, list []accounts.Account) error {
	name, err := m.way(in.App, in.From)
	if err != nil {
		return err
	}
	if name == out.Trust {
		return fmt.Errorf("%s is the provider that the app moves to: %w", in.From, model.ErrValue)
	}
	out.From = name
	who, err := m.admitted(name, "")
	if err != nil {
		return err
	}
	if !who.provider.Own {
		return finding.Advise(fmt.Errorf("%w: which subjects %s sends for whom", ErrNotKnown, in.From),
			finding.Run("accounts", "carry", in.App, "--to", in.To, "--by", "FIELD=ATTRIBUTE"))
	}
	if who.trust.SubjectFormat == saml.FormatTransient {
		return fmt.Errorf("the subject of %s is a new one at each sign-in, and no account can be found by it: %w", name,
			model.ErrValue)
	}
	if len(list) > 0 {
		x, err := who.Match(list)
		if err != nil {
			return err
		}
		if x.From != federation.Subject {
			return fmt.Errorf("through %s, %s %w: by %s, out of %s", in.From, in.App, ErrNotBySubject, x.Field, x.From)
		}
		for _, f := range x.Found {
			out.Carried = append(out.Carried, Keeps{Person: f.Person, Subject: f.Account})
		}
		return nil
	}
	for i := range who.all {
		v, err := who.releaser.SubjectOf(&who.all[i])
		if err != nil {
			return err
		}
		out.Carried = append(out.Carried, Keeps{Person: who.all[i].ID, Subject: v})
	}
	return nil
}

// byField takes the subjects out of the accounts of which a field says the same as an attribute of one person.
func (m *Mapper) byField(out *Carrying, who *Those, list []accounts.Account, by string) error {
	field, attr, ok := strings.Cut(by, "=")
	if !ok || field == "" || attr == "" {
		return fmt.Errorf("%q is %w: write FIELD=ATTRIBUTE, such as mail=mail", by, model.ErrValue)
	}
	reads := who.trust.Reading(who.app)
	switch {
	case len(list) == 0:
		return finding.Advise(fmt.Errorf("%w: %s", ErrNoAccounts, who.app.Name), finding.Run("accounts", "load",
			who.app.Name, "FILE"))
	case reads == nil || reads.Key == "":
		return finding.Advise(fmt.Errorf("%w: %s", ErrNoKey, who.app.Name), finding.Run("app", "change", who.app.Name,
			"--reads", "FIELD=NameID", "--account-key", "FIELD"))
	}
	whose := map[string]string{} // of the attribute's values; "" where several have one
	for i := range who.everybody {
		p := &who.everybody[i]
		for _, v := range p.Attributes[attr] {
			v = strings.ToLower(strings.TrimSpace(v))
			if had, there := whose[v]; there && had != p.ID {
				whose[v] = ""
				continue
			}
			whose[v] = p.ID
		}
	}
	if len(whose) == 0 {
		return fmt.Errorf("nobody in the ledger has the attribute %q: %w", attr, model.ErrValue)
	}
	there := false
	for i := range list {
		a := &list[i]
		keys := a.Fields[reads.Key]
		there = there || len(a.Fields[field]) > 0
		for _, v := range a.Fields[field] {
			id, known := whose[strings.ToLower(strings.TrimSpace(v))]
			switch {
			case known && id == "":
				return fmt.Errorf("line %d of the accounts: several people have the %s %s, so nobody knows whose it "+
					"is: %w",
					a.Line, attr, v, model.ErrValue)
			case known && len(keys) == 1:
				out.Carried = append(out.Carried, Keeps{Person: id, Subject: keys[0]})
			}
		}
	}
	if !there {
		return &model.UnknownError{What: "field of the accounts of " + who.app.Name, Name: field,
			Near: near.Names(field, accounts.Sorted(list[0].Fields)),
			Add:  "they have " + strings.Join(accounts.Sorted(list[0].Fields), ", ")}
	}
	return nil
}

// fromTable takes a table with the columns person and subject.
func (m *Mapper) fromTable(out *Carrying, raw []byte) error {
	rows, _, err := accounts.Read(raw)
	if err != nil {
		return fmt.Errorf("%s: %w", out.From, err)
	}
	for i := range rows {
		a := &rows[i]
		who, subject := a.Fields["person"], a.Fields["subject"]
		if len(who) != 1 || len(subject) != 1 {
			return fmt.Errorf("%s is %w: line %d has not one person and one subject; its columns are person and "+
				"subject",
				out.From, ErrTable, a.Line)
		}
		p, err := m.Person(who[0])
		if err != nil {
			return fmt.Errorf("%s, line %d: %w", out.From, a.Line, err)
		}
		out.Carried = append(out.Carried, Keeps{Person: p.ID, Subject: subject[0]})
	}
	return nil
}

// judge refuses a table by which anybody would be taken for somebody else.
func (m *Mapper) judge(out *Carrying, who *Those) error {
	slices.SortFunc(out.Carried, func(a, b Keeps) int { return strings.Compare(a.Person, b.Person) })
	out.Carried = slices.Compact(out.Carried)
	if len(out.Carried) == 0 {
		return fmt.Errorf("%s has a subject for nobody: nothing is carried: %w", out.From, model.ErrValue)
	}
	rules, err := m.ruled(who)
	if err != nil {
		return err
	}
	persons := map[string]*people.Person{}
	for i := range who.everybody {
		persons[who.everybody[i].ID] = &who.everybody[i]
	}
	owner := map[string]string{}
	for i := range out.Carried {
		k := &out.Carried[i]
		if i > 0 && out.Carried[i-1].Person == k.Person {
			return fmt.Errorf("%s %w: %s and %s are both said to be their subject", k.Person, ErrTaken,
				out.Carried[i-1].Subject, k.Subject)
		}
		same := k.Subject
		if who.trust.SubjectFormat == saml.FormatEmail { // apps take addresses for the same whatever their case
			same = strings.ToLower(same)
		}
		if had := owner[same]; had != "" {
			return fmt.Errorf("%s %w: %s has the subject %s as well", k.Person, ErrTaken, had, k.Subject)
		}
		why := forbiddenSubject(who.trust.SubjectFormat, k.Subject)
		if len(k.Subject) > 255 { // OpenID Connect Core, section 2; SAML allows one more
			why = "it is longer than 255 characters"
		}
		if why != "" || k.Subject == "" {
			return fmt.Errorf("the subject %q of %s is %w for the format of %s: %s", k.Subject, k.Person,
				model.ErrValue,
				who.trust.Name, why)
		}
		owner[k.Subject], owner[same] = k.Person, k.Person
		if p := persons[k.Person]; p != nil {
			k.Mail = firstOf(p, "mail")
			if v, err := rules.SubjectOf(p); err == nil && v != k.Subject {
				k.Else = v
			}
		}
	}
	keeps := out.keeps()
	for i := range who.all {
		p := &who.all[i]
		if keeps[p.ID] {
			continue
		}
		if v, err := rules.SubjectOf(p); err == nil && owner[v] != "" {
			return fmt.Errorf("%s %w: the rules of %s give them the subject %s, which %s keeps", p.ID, ErrTaken,
				who.trust.Name, v, owner[v])
		}
	}
	return nil
}

// keeps are the people of a table.
func (x *Carrying) keeps() map[string]bool {
	out := map[string]bool{}
	for _, k := range x.Carried {
		out[k.Person] = true
	}
	return out
}

// rest says whom and what a table leaves out.
func (x *Carrying) rest(who *Those, list []accounts.Account) {
	keeps, owned := x.keeps(), map[string]bool{}
	for _, k := range x.Carried {
		owned[k.Subject] = true
	}
	for i := range who.all {
		if !keeps[who.all[i].ID] {
			x.Fresh = append(x.Fresh, who.all[i].ID)
		}
	}
	reads := who.trust.Reading(who.app)
	if reads == nil || reads.Key == "" {
		return
	}
	for i := range list {
		for _, v := range list[i].Fields[reads.Key] {
			if !owned[v] {
				x.Orphans = append(x.Orphans, accounts.Pair{Account: v, Line: list[i].Line})
			}
		}
	}
}

// ruled releases what the rules of a trust give, whatever is carried.
func (m *Mapper) ruled(who *Those) (*federation.Releaser, error) {
	key, err := m.View.SubjectKey(who.trust.Name)
	if err != nil {
		return nil, err
	}
	key.Carried = nil
	return m.ReleaserWith(who.trust, key, m.Rand)
}

// CarriedOf lists who keeps which subject at the app of a trust. Errors: *model.UnknownError.
func (m *Mapper) CarriedOf(app, provider string) (*Carrying, error) {
	name, err := m.way(app, provider)
	if err != nil {
		return nil, err
	}
	who, err := m.admitted(name, "")
	if err != nil {
		return nil, err
	}
	out := &Carrying{Trust: name, Kept: true, Carried: []Keeps{}, Orphans: []accounts.Pair{}, Fresh: []string{}}
	if who.trust.Carried == nil {
		return out, nil
	}
	out.From = who.trust.Carried.From
	key, err := m.View.SubjectKey(name)
	if err != nil {
		return nil, err
	}
	for i := range who.everybody {
		p := &who.everybody[i]
		if v, carried := key.Carried[p.SubjectKey()]; carried {
			out.Carried = append(out.Carried, Keeps{Person: p.ID, Subject: v})
		}
	}
	list, err := m.View.Accounts(app)
	if err != nil && !errors.Is(err, model.ErrNotFound) {
		return nil, err
	}
	out.Exported = len(list) > 0
	out.rest(who, list)
	return out, nil
}

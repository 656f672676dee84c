package custody

import (
	"crypto"
	"crypto/rsa"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
)

// Peopleless is a ledger made of another one for a tester: the same parties, trusts, rules and permissions, as many
// people in the same groups with as many values, and no person, secret or key of the other one. It is all in memory.
type Peopleless struct {
	records []model.Change
	entries []model.Entry
	People  int `json:"people"`
	Keys    int `json:"keys"`    // made anew
	Secrets int `json:"secrets"` // that nobody has
}

// Records are its records.
func (p *Peopleless) Records() iter.Seq2[model.Change, error] {
	return func(yield func(model.Change, error) bool) {
		for _, c := range p.records {
			if !yield(c, nil) {
				return
			}
		}
	}
}

// Entries are its journal, which begins anew.
func (p *Peopleless) Entries() iter.Seq2[model.Entry, error] {
	return func(yield func(model.Entry, error) bool) {
		for _, e := range p.entries {
			if !yield(e, nil) {
				return
			}
		}
	}
}

// tester makes a ledger for a tester.
type tester struct {
	*Peopleless
	model.Env
	seal  func(key crypto.Signer) ([]byte, error)
	ids   map[string]string // of people, folded: what stands for each
	names map[string]bool   // of parties, groups and the like, folded: they stay, whoever is called so
	count map[string]int    // how many people have a value
	words map[string]string // what is known of people alone, folded, and what stands for it
	mails map[string]string // of others
	n     int
}

// WithoutPeople makes a ledger for a tester of what a View says. recipient is the public part of its ledger key, seal
// seals private keys for that. Errors: those of the View, and a trace of somebody that was found in the result.
func WithoutPeople(v model.View, env model.Env, recipient string, seal func(crypto.Signer) ([]byte,
	error)) (*Peopleless,
	error) {
	t := &tester{Peopleless: &Peopleless{}, Env: env, seal: seal, ids: map[string]string{}, names: map[string]bool{},
		count: map[string]int{}, words: map[string]string{},
		mails: map[string]string{}}
	persons, err := v.Persons()
	if err != nil {
		return nil, err
	}
	if err := t.reserve(v); err != nil {
		return nil, err
	}
	t.learn(persons)
	random := make([]byte, 32)
	if _, err := io.ReadFull(env.Rand, random); err != nil {
		return nil, err
	}
	peopleKey := hex.EncodeToString(random)
	for _, s := range []model.Setting{{Name: model.SettingOrg, Value: v.Org()}, {Name: model.SettingSeal,
		Value: recipient},
		{Name: model.SettingMade, Value: env.Now().UTC().Format(time.RFC3339)}, {Name: model.SettingPeople,
			Value: peopleKey}} {
		t.put(&s)
	}
	for c, err := range model.Whole(v) {
		if err != nil {
			return nil, err
		}
		if err := t.take(c.After); err != nil {
			return nil, fmt.Errorf("the %s %s: %w", c.Key.Kind, strings.Join(c.Key.Parts(), " "), err)
		}
	}
	if err := t.journal(v.Org(), peopleKey); err != nil {
		return nil, err
	}
	return t.Peopleless, t.trace()
}

// shared is how many people have a value that is no longer theirs alone: a title, a language.
const shared = 3

// learn gathers what is known of people, and makes up what stands for it.
func (t *tester) learn(persons []people.Person) {
	for i := range persons {
		for _, list := range persons[i].Attributes {
			for _, v := range list {
				t.count[model.Folded(v)]++
			}
		}
	}
	for i := range persons {
		p := &persons[i]
		n := i + 1
		id := fmt.Sprintf("tester%d", n)
		t.ids[model.Folded(p.ID)] = id
		t.know(p.ID, id)
		t.know(p.DN, fmt.Sprintf("uid=%s,ou=people,dc=tester,dc=example", id))
		t.know(p.Key, "key-"+id)
		for name, list := range p.Attributes {
			for k, v := range list {
				if t.own(v) && len(v) > 2 && strings.ContainsFunc(v, unicode.IsLetter) {
					t.know(v, standIn(name, n, k))
				}
			}
		}
	}
	t.People = len(persons)
}

// standIn is what stands for a value of somebody's attribute.
func standIn(attribute string, n, k int) string {
	s := fmt.Sprintf("%s-%d", attribute, n)
	if k > 0 {
		s += fmt.Sprintf("-%d", k+1)
	}
	if strings.Contains(strings.ToLower(attribute), "mail") {
		return strings.ToLower(s) + "@people.example"
	}
	return s
}

// own reports whether a value says who somebody is.
func (t *tester) own(v string) bool {
	return t.count[model.Folded(v)] < shared || strings.Contains(v, "@")
}

// reserve gathers the names that stay.
func (t *tester) reserve(v model.View) error {
	providers, apps, trusts, err := v.AllNames()
	if err != nil {
		return err
	}
	census, err := v.Census()
	if err != nil {
		return err
	}
	apis, err := v.APIs()
	if err != nil {
		return err
	}
	list := slices.Concat(providers, apps, trusts, census.GroupNames(), slices.Sorted(maps.Keys(census.Attributes)))
	for _, api := range apis {
		for _, p := range api.API.Permissions {
			list = append(list, p.Name)
		}
	}
	for _, name := range list {
		t.names[model.Folded(name)] = true
	}
	return nil
}

func (t *tester) know(value, word string) {
	if value != "" && !t.names[model.Folded(value)] && t.words[model.Folded(value)] == "" {
		t.words[model.Folded(value)] = word
	}
}

func (t *tester) put(r model.Record) {
	t.records = append(t.records, model.Change{Key: r.Key(), After: r})
}

// take takes a record over, without people, secrets and keys.
func (t *tester) take(r model.Record) (err error) {
	switch x := r.(type) {
	case *model.Setting, *model.Version, *model.Carrying, *model.Item, *model.StageKey, *model.Kept:
		return nil // made anew, or about somebody, or opens something
	case *model.Registration:
		x.Hash, x.Sealed = "", nil
	case *model.Party:
		x.Party.Entity.Contacts = nil
	case *model.Trust:
		x.Trust.Last = nil
		x.Subject.Salt = make([]byte, len(x.Subject.Salt))
		if _, err := io.ReadFull(t.Rand, x.Subject.Salt); err != nil {
			return err
		}
	case *model.OwnKey:
		return t.key(x)
	case *model.Secret:
		x.Secret.EndsIn = "none"
		x.Hash, err = t.nobodys()
		t.Secrets++
	case *model.Registrar:
		x.Registrar.EndsIn = "none"
		x.Hash, err = t.nobodys()
	case *model.Person:
		t.person(x)
		return nil
	case *model.Subject:
		if x.Person = t.ids[model.Folded(x.Person)]; x.Person == "" {
			return nil // of somebody who is there no more
		}
		x.Pseudo, x.UUID = "key-"+x.Person, "uuid-"+x.Person
		t.put(x)
		return nil
	case *model.Consent:
		if x.For != "" {
			if x.For = t.ids[model.Folded(x.For)]; x.For == "" {
				return nil
			}
		}
	case *model.Arrival:
		if x.Person = t.ids[model.Folded(x.Person)]; x.Person == "" {
			return nil
		}
		x.Subject = "subject-of-" + x.Person
	case *model.Run:
		x.Run = model.Forgotten(x.Run)
	case *model.Expectation:
		x.Claims, x.Subject, x.Account = nil, "", ""
		if x.As != "" {
			if x.As = t.ids[model.Folded(x.As)]; x.As == "" {
				return nil
			}
		}
	case *model.Export:
		t.export(x)
	}
	if err != nil {
		return err
	}
	return t.reworded(r)
}

// person makes up somebody in the same groups, with as many values.
func (t *tester) person(x *model.Person) {
	p := &x.Person
	id := t.ids[model.Folded(p.ID)]
	var n int
	_, _ = fmt.Sscanf(id, "tester%d", &n) // made above
	attributes := map[string][]string{}
	for name, list := range p.Attributes {
		for k, v := range list {
			if t.own(v) {
				v = standIn(name, n, k)
			}
			attributes[name] = append(attributes[name], v)
		}
	}
	if list := p.Attributes["entryUUID"]; len(list) == 1 {
		attributes["entryUUID"] = []string{"uuid-" + id}
	}
	if p.DN != "" {
		p.DN = "uid=" + id + ",ou=people,dc=tester,dc=example"
	}
	p.ID, p.Attributes, x.Pseudo = id, attributes, "key-"+id
	t.put(x)
}

// nobodys is the hash of a secret that nobody has.
func (t *tester) nobodys() (string, error) {
	b := make([]byte, 32)
	_, err := io.ReadFull(t.Rand, b)
	return hex.EncodeToString(b), err
}

// key makes a key in place of one.
func (t *tester) key(x *model.OwnKey) error {
	old, err := x509.ParseCertificate(x.Certificate)
	if err != nil {
		return err
	}
	kind := "ecdsa-p256"
	if _, is := old.PublicKey.(*rsa.PublicKey); is {
		kind = "rsa-2048"
	}
	key, err := keys.Generate(t.Rand, kind)
	if err != nil {
		return err
	}
	cert, err := keys.SelfSign(t.Rand, key, old.Subject.CommonName, "", old.NotBefore, old.NotAfter.Sub(old.NotBefore))
	if err != nil {
		return err
	}
	if x.Sealed, err = t.seal(key); err != nil {
		return err
	}
	x.Certificate, x.Chain = cert.Raw, nil
	t.Keys++
	t.put(x)
	return nil
}

// export makes up the accounts of an app; those of people keep what links them.
func (t *tester) export(x *model.Export) {
	x.Source = "made up"
	for i := range x.Accounts {
		made := accounts.Account{Line: x.Accounts[i].Line, Fields: x.Accounts[i].Fields}
		for name, list := range made.Fields {
			for k, v := range list {
				if t.words[model.Folded(v)] == "" {
					list[k] = fmt.Sprintf("%s-%d", name, i+1)
				}
			}
		}
		x.Accounts[i] = made
	}
}

// reworded puts a record in which each text that is about somebody is made up.
func (t *tester) reworded(r model.Record) error {
	b, err := model.Encode(r)
	if err != nil {
		return err
	}
	var doc any
	if err := json.Unmarshal(b, &doc); err != nil {
		return err
	}
	if b, err = json.Marshal(t.walk("", doc)); err != nil {
		return err
	}
	out, err := model.Decode(r.Key().Kind, b)
	if err != nil {
		return err
	}
	if e, is := out.(*model.Expectation); is { // by which finding, not by whom
		e.By = r.(*model.Expectation).By
	}
	t.put(out)
	return nil
}

var (
	mail = regexp.MustCompile(`^[^\s@/:]+@[^\s@/:]+\.[^\s@/:]+$`)
	word = regexp.MustCompile(`[^\s,;:/="'<>()]+`)
)

// walk rewords the texts of a document.
func (t *tester) walk(name string, v any) any {
	switch x := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, y := range x {
			out[t.text("", k)] = t.walk(k, y)
		}
		return out
	case []any:
		for i := range x {
			x[i] = t.walk(name, x[i])
		}
		return x
	case string:
		return t.text(name, x)
	}
	return v
}

// text rewords one text, which stands under a name.
func (t *tester) text(name, s string) string {
	if to := t.words[model.Folded(s)]; to != "" {
		return to
	}
	if slices.Contains([]string{"by", "actor"}, name) && s != "" {
		return "somebody"
	}
	if mail.MatchString(s) {
		if t.mails[s] == "" {
			t.n++
			t.mails[s] = fmt.Sprintf("contact%d@people.example", t.n)
		}
		return t.mails[s]
	}
	return word.ReplaceAllStringFunc(s, func(w string) string {
		if to := t.words[model.Folded(w)]; to != "" {
			return to
		}
		return w
	})
}

// journal begins the journal anew.
func (t *tester) journal(org, peopleKey string) error {
	c := model.Changes{Records: t.records, Entries: []model.Words{model.Founded(org, t.Now(), "somebody")}}
	c.Entries[0].Upto = len(t.records)
	var err error
	if t.entries, err = c.Append(0, "", peopleKey); err != nil {
		return err
	}
	last := t.entries[len(t.entries)-1]
	t.put(&model.Setting{Name: model.SettingHead, Value: model.Head(last.Seq, last.Hash)})
	return nil
}

// trace looks for what is known of people alone in what was made.
func (t *tester) trace() error {
	for _, c := range t.records {
		b, err := model.Encode(c.After)
		if err != nil {
			return err
		}
		var doc any
		if err := json.Unmarshal(b, &doc); err != nil {
			return err
		}
		if at := t.found(doc); at != "" {
			return fmt.Errorf("the %s %s still says something of a person (%s); nothing was made", c.Key.Kind,
				strings.Join(c.Key.Parts(), " "), at)
		}
	}
	return nil
}

// found names where a text is that is about somebody; "" is nowhere.
func (t *tester) found(v any) string {
	switch x := v.(type) {
	case map[string]any:
		for k, y := range x {
			if at := t.found(y); at != "" || t.words[model.Folded(k)] != "" {
				return strings.TrimSuffix(k+"."+at, ".")
			}
		}
	case []any:
		for _, y := range x {
			if at := t.found(y); at != "" {
				return at
			}
		}
	case string:
		for _, w := range append(word.FindAllString(x, -1), x) {
			if to := t.words[model.Folded(w)]; to != "" && !strings.EqualFold(to, w) {
				return "a text"
			}
		}
	}
	return ""
}

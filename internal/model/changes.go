package model

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
)

// Changes are what a use case wants done: all of it, or nothing.
type Changes struct {
	Records []Change
	Entries []Words
	// Over is the time before which what stages kept is over and can be forgotten; zero forgets nothing.
	Over time.Time
	// Told is told how many of the records are written, as it goes on; nil where nobody wants to know.
	Told func(written int)

	recorded []behind // what stands behind each entry, once Record worked it out
}

// Empty reports whether nothing is to be done.
func (c *Changes) Empty() bool { return len(c.Records) == 0 && len(c.Entries) == 0 && c.Over.IsZero() }

// Large reports whether so much is to be written that whoever waits for it would wait for long, and can be laid down
// aside.
func (c *Changes) Large() bool {
	n := 0
	for i := range c.Records {
		if c.Records[i].Aside() {
			n++
		}
	}
	return n > 2000
}

// Aside reports whether a change can be worked out apart from the others of its kind, and be made in any order with
// what is done to records of other kinds: it is about people, whose records rest on no others, or about a trust that is
// there and stays.
func (x *Change) Aside() bool {
	switch x.Key.Kind {
	case People, Subjects:
		return !x.Forgotten
	case Trusts:
		return x.Before != nil && x.After != nil && !x.Forgotten
	}
	return false
}

// Record works out what the journal will keep of the changes, so that Append need not. peopleKey is the ledger's
// SettingPeople.
func (c *Changes) Record(peopleKey string) error {
	c.recorded = nil
	for i := range c.Entries {
		b, err := Recording(c.Of(i), peopleKey)
		if err != nil {
			return err
		}
		text, err := json.Marshal(string(b))
		if err != nil {
			return err
		}
		c.recorded = append(c.recorded, behind{b, text})
	}
	return nil
}

// behind is what stands behind an entry, and that as a string of JSON, as the entry's hash is over it.
type behind struct{ records, text json.RawMessage }

// Change is a record that is put or taken away.
type Change struct {
	Key    Key
	Before Record // as it was; nil: it was not there
	After  Record // as it is to be; nil: it is taken away
	// Document is what lies beside the record from now on; nil leaves what is there.
	Document *Document
	// Forgotten says that there is an After which is not known.
	Forgotten bool
}

// Document is the bytes that lie beside a record; nil bytes are none.
type Document struct{ Bytes []byte }

// Words are an entry of the journal in the making: what was done, to whom, and the fields that it changed.
type Words struct {
	Action string // such as provider.add
	Party  string
	Trust  string
	Before json.RawMessage
	After  json.RawMessage
	// Upto is how many of the Records stand behind this entry and those before it.
	Upto int

	at    time.Time
	actor string
}

func (w *Words) entry() Entry {
	return Entry{At: w.at, Actor: w.actor, Action: w.Action, Party: w.Party, Trust: w.Trust, Before: w.Before,
		After: w.After}
}

// Of returns the records that stand behind the entry of an index, of kinds that the journal has. Those behind no entry
// are counted to the last one.
func (c *Changes) Of(i int) []Change {
	from, to := 0, c.Entries[i].Upto
	if i > 0 {
		from = c.Entries[i-1].Upto
	}
	if i == len(c.Entries)-1 {
		to = len(c.Records)
	}
	return slices.DeleteFunc(slices.Clone(c.Records[from:to]), func(x Change) bool {
		return !x.Key.Kind.Journaled() || x.Key.Kind == Settings && !provenSetting(x.Key.ID)
	})
}

// recorded is a record as the journal keeps it: of a rehearsal its outcome, not the person's attributes; of a secret
// and of a key nothing that opens anything.
func recorded(r Record) Record {
	switch x := r.(type) {
	case *Trust:
		c := *x
		c.Trust = *recordedTrust(&x.Trust)
		return &c
	case *Secret:
		c := *x
		c.Hash, c.Secret.Used = "", nil
		return &c
	case *OwnKey:
		c := *x
		c.Sealed = nil
		return &c
	case *Expectation:
		c := *recordedExpected(&x.Expected)
		c.Held, c.HeldSeq = time.Time{}, 0
		return &Expectation{c}
	}
	return r
}

// recordedTrust is a trust as the journal keeps it: without what is known of a person, and without the salts of its
// rules.
func recordedTrust(t *federation.Trust) *federation.Trust {
	t = withoutSalts(t)
	if t == nil || t.Last == nil {
		return t
	}
	c, r := *t, *t.Last
	r.Claims, r.Subject, r.Findings = nil, "", r.Findings.Without(finding.Pass)
	c.Last = &r
	return &c
}

// salted reports whether a salt stands in a rule of a trust.
func salted(t *federation.Trust) bool {
	return claims.Masked(t.Subject) != t.Subject || slices.ContainsFunc(t.Rules,
		func(r claims.Rule) bool { return claims.Masked(r.Expression) != r.Expression })
}

// withoutSalts is a trust whose rules tell their salts apart and do not say them: whoever knows one can make the value
// of anybody at any app, and the journal never forgets.
func withoutSalts(t *federation.Trust) *federation.Trust {
	if t == nil || !salted(t) {
		return t
	}
	c := *t
	c.Subject, c.Rules = claims.Told(t.Subject), slices.Clone(t.Rules)
	for i, r := range c.Rules {
		c.Rules[i].Expression = claims.Told(r.Expression)
	}
	return &c
}

// resalt puts the salts of a trust as it is into one that the journal tells of. It reports whether all of them are
// there.
func resalt(t, from *federation.Trust) bool {
	whole := true
	put := func(expr *string, is string) {
		if !strings.Contains(*expr, claims.Kept) {
			return
		}
		if claims.Told(is) == *expr {
			*expr = is
			return
		}
		whole = false
	}
	if from == nil {
		from = &federation.Trust{}
	}
	put(&t.Subject, from.Subject)
	for i := range t.Rules {
		_, is, _ := from.RuleFor(t.Rules[i].Claim)
		put(&t.Rules[i].Expression, is)
	}
	return whole
}

// recordedExpected is an expectation as the journal keeps it: which claims, not the person's values.
func recordedExpected(e *federation.Expected) *federation.Expected {
	c := *e
	c.Claims, c.Subject, c.Account = nil, "", ""
	for name := range e.Claims {
		if c.Claims == nil {
			c.Claims = map[string][]string{}
		}
		c.Claims[name] = nil
	}
	return &c
}

// worded writes the fields in which two values differ, as JSON objects; an empty one is nil.
func worded(before, after any) (b, a json.RawMessage, err error) {
	x, err := fields(before)
	if err != nil {
		return nil, nil, err
	}
	y, err := fields(after)
	if err != nil {
		return nil, nil, err
	}
	differ(x, y)
	text := func(m map[string]any) json.RawMessage {
		if len(m) == 0 {
			return nil
		}
		t, _ := json.Marshal(m) // it was JSON before
		return t
	}
	return text(x), text(y), nil
}

// differ leaves in both maps what differs. Of the parts of a trust or party over OpenID Connect each is told by itself,
// under a name such as oidc.policy.session.
func differ(b, a map[string]any) {
	for k, v := range b {
		w, ok := a[k]
		if !ok {
			continue
		}
		old, isMap := v.(map[string]any)
		now, alsoMap := w.(map[string]any)
		switch {
		case reflect.DeepEqual(v, w):
		case isMap && alsoMap && k == "terms": // of the protocol of the trust, which never changes
			differ(old, now)
			maps.Copy(b, old)
			maps.Copy(a, now)
		case isMap && alsoMap && (slices.Contains(federation.Protocols(), k) || strings.HasSuffix(k, "policy") ||
			k == "client" || k == "api"):
			differ(old, now)
			for sub, x := range old {
				b[k+"."+sub] = x
			}
			for sub, x := range now {
				a[k+"."+sub] = x
			}
		default:
			continue
		}
		delete(b, k)
		delete(a, k)
	}
}

func fields(v any) (map[string]any, error) {
	if v == nil || reflect.ValueOf(v).Kind() == reflect.Pointer && reflect.ValueOf(v).IsNil() {
		return nil, nil
	}
	b, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	m := map[string]any{}
	return m, json.Unmarshal(b, &m)
}

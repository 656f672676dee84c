package model

import (
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
)

// ForgetRuns takes out of the runs from before a time what they keep of people: who it was, as whom the app knew them,
// what was sent of them, the messages, and what findings saw. That there was a run stays, with its outcome and which
// findings it had. It returns how many runs had something of people.
func (e *Edit) ForgetRuns(before time.Time) (n int, err error) {
	var old []*Run
	for r, err := range find[*Run](e.View, Query{Kind: Runs}) {
		if err != nil {
			return 0, err
		}
		if r.At.Before(before) {
			old = append(old, r)
		}
	}
	for _, r := range old {
		c := &Run{Forgotten(r.Run)}
		if same(r, c) {
			continue
		}
		if err := e.put(c); err != nil {
			return n, err
		}
		n++
	}
	if n == 0 {
		return 0, nil
	}
	return n, e.note("ledger.purge", "", "", nil, map[string]string{"runsBefore": before.UTC().Format(time.RFC3339),
		"runs": strconv.Itoa(n)})
}

// Forgotten is a run without what it keeps of people.
func Forgotten(r federation.Run) federation.Run {
	r.Person, r.Subject, r.Account = "", "", ""
	r.Claims, r.Records, r.Names, r.Messages = nil, nil, nil, nil
	list := make(finding.List, 0, len(r.Findings))
	for _, f := range r.Findings {
		f.Saw, f.Expected, f.Fix = "", "", finding.Remedy{}
		list = append(list, f)
	}
	r.Findings = list
	var seen []federation.Observation
	for _, o := range r.Observed {
		o.Person = ""
		seen = append(seen, o)
	}
	r.Observed = seen
	return r
}

// Rekey seals all private keys anew, for the holders of other keys: to are their public parts, and change opens what
// was sealed and seals it for them. It returns how many there are.
func (e *Edit) Rekey(to []string, change func(sealed []byte) ([]byte, error)) (n int, err error) {
	was, err := e.Value(SettingSeal)
	if err != nil {
		return 0, err
	}
	var list []Record
	for _, k := range []Kind{OwnKeys, StageKeys, Registered} {
		for r, err := range e.Find(Query{Kind: k}) {
			if err != nil {
				return 0, err
			}
			list = append(list, r)
		}
	}
	for _, r := range list {
		var sealed *[]byte
		switch x := r.(type) {
		case *OwnKey:
			sealed = &x.Sealed
		case *StageKey:
			sealed = &x.Sealed
		case *Registration:
			sealed = &x.Sealed
		}
		if len(*sealed) == 0 {
			continue
		}
		if *sealed, err = change(*sealed); err != nil {
			return n, err
		}
		if err := e.put(r); err != nil {
			return n, err
		}
		n++
	}
	now := strings.Join(to, " ")
	if err := e.put(&Setting{SettingSeal, now}); err != nil {
		return n, err
	}
	return n, e.note("ledger.rekey", "", "", map[string]string{"for": was}, map[string]string{"for": now})
}

// Founded are the words of the entry with which the journal of a ledger begins.
func Founded(org string, at time.Time, actor string) Words {
	b, a, _ := worded(nil, map[string]string{"org": org}) // strings alone
	return Words{Action: "ledger.init", Before: b, After: a, at: at.UTC(), actor: actor}
}

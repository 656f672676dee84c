// Package custody looks after a ledger as a whole: what a copy of it brings back that was ended since, and what it
// keeps of people.
package custody

import (
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/model"
)

// Revived is what lives in a ledger that was made of a copy, and may have been ended since the copy was made. The copy
// cannot know.
type Revived struct {
	Secrets    []Held `json:"secrets"`    // of clients, neither expired nor retired then
	Keys       []Held `json:"keys"`       // of own parties, those that are used no longer left out
	Registrars []Held `json:"registrars"` // credentials for programs
	Consents   int    `json:"consents"`   // that stood then
	Trusts     int    `json:"trusts"`     // that were live
}

// Held is one thing that opens something, by its ID.
type Held struct {
	Of string `json:"of"` // the trust, the party, or the registrar itself
	ID string `json:"id"`
}

// Revives finds what a copy brings back.
func Revives(v model.View, now time.Time) (r Revived, err error) {
	r = Revived{Secrets: []Held{}, Keys: []Held{}, Registrars: []Held{}}
	secrets, err := v.Secrets("")
	if err != nil {
		return r, err
	}
	for i := range secrets {
		if s := &secrets[i]; s.Standing(now) == "valid" {
			r.Secrets = append(r.Secrets, Held{s.Trust, s.ID})
		}
	}
	for p, err := range v.EachParty("") {
		if err != nil {
			return r, err
		}
		if !p.Own {
			continue
		}
		keys, err := v.Keys(p.Name)
		if err != nil {
			return r, err
		}
		for _, k := range keys {
			if k.Place != federation.Outgoing {
				r.Keys = append(r.Keys, Held{p.Name, k.ID})
			}
		}
	}
	registrars, err := v.Registrars()
	if err != nil {
		return r, err
	}
	for _, x := range registrars {
		r.Registrars = append(r.Registrars, Held{x.Registrar.Name, x.Registrar.Name})
	}
	consents, err := v.Consents("")
	if err != nil {
		return r, err
	}
	for _, c := range consents {
		if c.Standing == federation.Consented {
			r.Consents++
		}
	}
	for t, err := range v.EachTrust() {
		if err != nil {
			return r, err
		}
		if t.Standing == federation.Live {
			r.Trusts++
		}
	}
	return r, nil
}

// Restored is that a ledger was made of a copy.
type Restored struct {
	At      time.Time
	CopyOf  string // when the copy was made, RFC 3339
	Journal string // where the journal of the copy ended
}

// RestoredFrom is the copy that a ledger was made of last; nil where it was made of none.
func RestoredFrom(v model.View) (*Restored, error) {
	text, err := v.Value(model.SettingRestored)
	if err != nil || text == "" {
		return nil, err
	}
	at, rest, _ := strings.Cut(text, " ")
	made, journal, _ := strings.Cut(rest, " ")
	r := &Restored{CopyOf: made, Journal: journal}
	r.At, err = time.Parse(time.RFC3339, at)
	return r, err
}

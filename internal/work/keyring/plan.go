package keyring

import (
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
)

// Plan is the calendar of the rollovers of an own party's keys.
type Plan struct {
	Party string    `json:"party"`
	Uses  []UsePlan `json:"uses" rows:"each"`
}

// UsePlan is the rollover of the keys of one use.
type UsePlan struct {
	Use    string  `json:"use"`
	Steps  []Step  `json:"steps" rows:"each"`
	Sights []Sight `json:"sights"` // of the announced key; of the active one where none is announced and one goes
}

// Step is one step of a rollover.
type Step struct {
	What   string         `json:"what"`
	Done   bool           `json:"done"`
	When   time.Time      `json:"when,omitzero"` // when it was done, else the earliest time at which it is safe
	By     time.Time      `json:"by,omitzero"`   // when it should be done at the latest
	Waits  []string       `json:"waits"`         // the trusts whose other side has not seen the key yet
	Breaks string         `json:"breaks"`        // what breaks if it were done now; "" is nothing
	Fix    finding.Remedy `json:"fix,omitzero"`
}

// Plan works out where the rollovers of a party stand. Errors: those of Ring.
func (k *Keeper) Plan(party string) (*Plan, error) {
	r, err := k.Ring(party)
	if err != nil {
		return nil, err
	}
	p := &Plan{Party: party, Uses: []UsePlan{}}
	for _, use := range []string{federation.ForSigning, federation.ForTokens, federation.ForEncryption} {
		active, next, last := r.At(use, federation.Active), r.At(use, federation.Announced), r.At(use,
			federation.Outgoing)
		if active == nil && next == nil && last == nil {
			continue
		}
		u := UsePlan{Use: use, Sights: []Sight{}}
		seen := next
		if next == nil && last != nil {
			seen = active
		}
		if seen != nil {
			if u.Sights, err = k.Sights(r, seen); err != nil {
				return nil, err
			}
		}
		if err := k.steps(r, &u, active, next, last); err != nil {
			return nil, err
		}
		p.Uses = append(p.Uses, u)
	}
	return p, nil
}

// steps are those of one use: announce, activate, withdraw, in the order in which they come.
func (k *Keeper) steps(r *Ring, u *UsePlan, active, next, last *federation.OwnKey) error {
	party := r.Party.Name
	var waits []string
	for _, s := range u.Sights {
		if !s.Seen {
			waits = append(waits, s.Trust)
		}
	}
	if last != nil {
		after, why, err := k.over(r, last)
		if err != nil {
			return err
		}
		s := Step{What: "withdraw " + last.ID, When: after, Waits: []string{}, Fix: finding.Run("key", "withdraw",
			party, last.ID)}
		if k.Now().Before(after) {
			s.Breaks = why
		}
		if u.Use == federation.ForEncryption && len(waits) > 0 {
			s.Waits, s.Fix = append(s.Waits, waits...), deliver(u.Sights)
		}
		u.Steps = append(u.Steps, s)
	}
	switch {
	case next == nil:
		s := Step{What: "announce the key that follows " + nameOf(active), Waits: []string{},
			Fix: finding.Run("key", "announce", party, "--use", u.Use)}
		if active != nil { // half a year before its certificate ends there is time for everybody
			s.By = active.Certificate.NotAfter.AddDate(0, -6, 0)
		}
		u.Steps = append(u.Steps, s)
	default:
		u.Steps = append(u.Steps, Step{What: "announce " + next.ID, Done: true, When: next.Announced,
			Waits: []string{}})
		s := Step{What: "activate " + next.ID, Waits: []string{}, Fix: finding.Run("key", "activate", party, "--use",
			u.Use)}
		if u.Use != federation.ForEncryption {
			s.Waits = append(s.Waits, waits...)
		}
		if len(s.Waits) > 0 {
			s.Breaks, s.Fix = strings.Join(s.Waits, ", "), deliver(u.Sights)
		}
		if last != nil {
			s.Breaks = strings.TrimPrefix(s.Breaks+"; "+last.ID+" must be withdrawn first", "; ")
		}
		u.Steps = append(u.Steps, s, Step{What: "withdraw " + nameOf(active), Waits: []string{}})
	}
	return nil
}

// deliver has what is published delivered to everybody who has not seen the key.
func deliver(sights []Sight) (fix finding.Remedy) {
	for _, s := range sights {
		switch {
		case s.Seen:
		case fix.IsZero():
			fix = s.Fix
		default:
			fix = fix.Then(s.Fix)
		}
	}
	return fix
}

func nameOf(k *federation.OwnKey) string {
	if k == nil {
		return "none"
	}
	return k.ID
}

package desk

import (
	"fmt"
	"slices"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
)

// The stages of a renewal.
const (
	RenewalNone      = "nothing to renew"
	RenewalFailed    = "failed"
	RenewalMade      = "made"         // and to be delivered
	RenewalDelivered = "delivered"    // its use is waited for
	RenewalUsed      = "use seen"     // the old one is retired
	RenewalOver      = "overlap over" // the old one is retired, though no use was seen
)

// Renewal is how far the renewal of a client's secret is. It is known from the secrets alone, so that whoever goes on
// with it, after a crash or on another machine, begins where it stopped.
type Renewal struct {
	Trust   string     `json:"trust"`
	Stage   string     `json:"stage"`
	Secret  string     `json:"secret,omitempty"`  // ID of the new one
	Retired string     `json:"retired,omitempty"` // ID of the old one, once it is
	Until   *time.Time `json:"until,omitempty"`   // when the old one is retired at the latest
	Expires *time.Time `json:"expires,omitempty"` // of the new one
	Value   string     `json:"-"`                 // of one that was just made
}

// Renew takes the renewal of a client's secret one step further: a new secret is made and has to be brought where it
// belongs (Delivered); when its use is seen, or the overlap is over, the old one is retired. A secret that was made and
// never brought anywhere is lost, and another is made. Where none is on its way one is begun. Errors: as AddSecret.
func (d *Desk) Renew(name string, life, overlap time.Duration) (*Renewal, error) {
	all, err := d.Secrets(name)
	if err != nil {
		return nil, err
	}
	valid := slices.DeleteFunc(slices.Clone(all), func(s federation.Secret) bool { return !Valid(d.Now())(s) })
	old := ""
	for i := range slices.Backward(valid) {
		s := &valid[i]
		if s.Renews == "" || !slices.ContainsFunc(valid, func(o federation.Secret) bool { return o.ID == s.Renews }) {
			continue
		}
		if s.Delivered == nil { // it is lost: nobody knows it
			if err := d.Change(func(tx *model.Edit) error { return tx.RetireSecret(s) }); err != nil {
				return nil, err
			}
			old = s.Renews
			break
		}
		return d.goOn(s, overlap)
	}
	if old == "" && len(valid) > 0 {
		old = valid[len(valid)-1].ID
	}
	s, value, _, err := d.newSecret(name, life, "renewal", old)
	if err != nil {
		return nil, err
	}
	return &Renewal{Trust: name, Stage: RenewalMade, Secret: s.ID, Expires: &s.Expires, Value: value}, nil
}

// goOn looks whether the old secret can go.
func (d *Desk) goOn(s *federation.Secret, overlap time.Duration) (*Renewal, error) {
	until := s.Delivered.Add(overlap)
	r := &Renewal{Trust: s.Trust, Stage: RenewalDelivered, Secret: s.ID, Until: &until, Expires: &s.Expires}
	switch {
	case s.Used != nil && !s.Used.Before(*s.Delivered):
		r.Stage = RenewalUsed
	case !d.Now().Before(until):
		r.Stage = RenewalOver
	default:
		return r, nil
	}
	r.Retired, r.Until = s.Renews, nil
	_, _, err := d.RetireSecret(s.Trust, s.Renews, false)
	return r, err
}

// Delivered notes that a new secret was brought where it belongs.
func (d *Desk) Delivered(trust, id string) error {
	all, err := d.Secrets(trust)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(all, func(s federation.Secret) bool { return s.ID == id })
	if i < 0 {
		return fmt.Errorf("%s has no secret %s any more", trust, id)
	}
	return d.Change(func(tx *model.Edit) error { return tx.DeliverSecret(&all[i]) })
}

// ToRenew lists the trusts whose secret runs out within a time, and those of which a renewal is on its way.
func (d *Desk) ToRenew(within time.Duration) ([]string, error) {
	all, err := d.Secrets("")
	if err != nil {
		return nil, err
	}
	newest, busy := map[string]time.Time{}, map[string]bool{}
	for _, s := range all {
		if !Valid(d.Now())(s) {
			continue
		}
		if s.Expires.After(newest[s.Trust]) {
			newest[s.Trust] = s.Expires
		}
		busy[s.Trust] = busy[s.Trust] || s.Renews != "" && slices.ContainsFunc(all, func(o federation.Secret) bool {
			return o.ID == s.Renews && Valid(d.Now())(o)
		})
	}
	var out []string
	for t, end := range newest {
		x, err := d.View.Trust(t)
		if err != nil {
			return nil, err
		}
		if x.Standing != federation.Ended && (busy[t] || end.Before(d.Now().Add(within))) {
			out = append(out, t)
		}
	}
	slices.Sort(out)
	return out, nil
}

// CheckOverlap refuses an overlap that is none. Errors: ErrValue.
func CheckOverlap(life, overlap time.Duration) error {
	if overlap >= life {
		return finding.Errorf("%s is %w: the old secret and the new one are valid together for less than the new one "+
			"lasts", finding.FieldOverlap, ErrValue)
	}
	return nil
}

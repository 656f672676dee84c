package saml

import "time"

// Ends is when the certificates of a role end that it publishes for one use. One that ends before another is no trouble
// by itself: the last one counts.
type Ends struct {
	Use   string // signing or encryption
	Until time.Time
	Of    int // certificates that can be read
	Ended int // of them, those that have ended
}

// Over reports whether none of them is in force any more.
func (e Ends) Over() bool { return e.Ended == e.Of }

// Ends says for each use for which a role publishes certificates when they end. A certificate without a use is for both
// (SAML Metadata, section 2.4.1.1).
func (r *Role) Ends(now time.Time) []Ends {
	var out []Ends
	for _, use := range []string{"signing", "encryption"} {
		e := Ends{Use: use}
		for _, k := range r.Keys {
			c, err := k.X509()
			if err != nil || k.Use != use && k.Use != "" {
				continue
			}
			if e.Of++; !now.Before(c.NotAfter) {
				e.Ended++
			}
			if c.NotAfter.After(e.Until) {
				e.Until = c.NotAfter
			}
		}
		if e.Of > 0 {
			out = append(out, e)
		}
	}
	return out
}

// others reports whether one of the certificates for a use is in force.
func (r *Role) others(use string, now time.Time) bool {
	for _, e := range r.Ends(now) {
		if e.Use == use && !e.Over() {
			return true
		}
	}
	return false
}

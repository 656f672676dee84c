package federation

import (
	"fmt"
	"time"
)

// End is something at a foreign side that ends, as somebody entered it: a secret that others issued, a certificate that
// no metadata shows, an authorisation that ends when it is not used. Whether it was renewed there is not known here.
type End struct {
	What string    `json:"what"`        // in words, such as client secret
	At   time.Time `json:"at,omitzero"` // when it ends
	// in place of At: it ends so many seconds after its last use
	Unused int       `json:"unused,omitempty" unit:"seconds"`
	Since  time.Time `json:"entered"`
}

// When is when it ends, as far as is known. Of what ends unused that is a span after the last use that was seen: others
// may have used it since.
func (e *End) When(t *Trust) time.Time {
	if e.Unused == 0 {
		return e.At
	}
	last := e.Since
	for _, p := range []*Proven{t.Probed, t.Witnessed} {
		if p != nil && p.At.After(last) {
			last = p.At
		}
	}
	return last.Add(Span(e.Unused))
}

// Words say how it ends.
func (e *End) Words(t *Trust) string {
	if e.Unused == 0 {
		return e.What + " ends"
	}
	return fmt.Sprintf("%s ends when unused for %s; it was seen in use last on %s", e.What, SpanWords(Span(e.Unused)),
		e.When(t).Add(-Span(e.Unused)).UTC().Format(time.DateOnly))
}

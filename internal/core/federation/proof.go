package federation

import (
	"crypto"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
)

// ProofKind is what a fact or a trust rests on.
type ProofKind string

// The kinds of proof, from the weakest to the strongest.
const (
	Asserted     ProofKind = "asserted"  // entered or published
	ByRehearsal  ProofKind = "rehearsed" // a sign-in between stand-ins
	ProbedProof  ProofKind = "probed"    // the real party was asked, nobody signed in
	WitnessProof ProofKind = "witnessed" // a real sign-in with the real party was watched
)

// Stronger reports whether a kind of proof says more than another.
func (k ProofKind) Stronger(o ProofKind) bool { return k.rank() > o.rank() }

func (k ProofKind) rank() int {
	return slices.Index([]ProofKind{Asserted, ByRehearsal, ProbedProof, WitnessProof}, k)
}

// Proven says when something was proven, and by which run.
type Proven struct {
	At       time.Time `json:"at"`
	Run      int64     `json:"run"`
	Person   string    `json:"person,omitempty"`
	StandIns []string  `json:"standIns,omitempty"` // parties that were played, and so not proven
}

// Fact is one value that a trust rests on.
type Fact struct {
	Name   finding.FactID `json:"fact"`
	Value  string         `json:"value"`
	Rests  ProofKind      `json:"restsOn"`
	At     time.Time      `json:"at,omitzero"`
	Run    int64          `json:"run,omitempty"`
	OfSide string         `json:"side"` // app, provider or both: whose value it is
}

// Run is what is kept of a rehearsal, of a probe or of a watch.
type Run struct {
	Number int64     `json:"run"`
	Kind   ProofKind `json:"kind"`
	Rehearsal
	Proves   []finding.FactID `json:"proves,omitempty"`   // names of facts
	Messages []Message        `json:"messages,omitempty"` // what passed, redacted
}

// Message is one message of a run, without secrets, signatures and what names a person.
type Message struct {
	Kind string `json:"kind"`
	Text string `json:"text"`
}

// FactsOf lists what a trust rests on, each with its best proof: one that was for another value than the present one
// does not count.
func FactsOf(t *Trust, app, provider *Party) []Fact {
	out := t.Terms.facts(t, app, provider)
	rules := []string{t.SubjectWords()}
	for _, r := range t.Rules {
		rules = append(rules, r.Claim+"="+r.Expression)
	}
	out = append(out, Fact{Name: finding.FactClaims, Value: strings.Join(rules, ", "), OfSide: "both"},
		Fact{Name: finding.FactAdmission, Value: t.Admits + ", " + t.Strength, OfSide: "provider"})
	for i := range out {
		f := &out[i]
		f.Rests = Asserted
		if had, ok := t.Facts[f.Name]; ok && had.Value == f.Value {
			f.Rests, f.At, f.Run = had.Rests, had.At, had.Run
		}
	}
	return out
}

func keyIDs(list []crypto.PublicKey) string {
	var out []string
	for _, k := range list {
		id := KeyID(k)
		out = append(out, id[:min(12, len(id))])
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

func endpoints(list []saml.Endpoint) string {
	var out []string
	for _, e := range list {
		if e.Binding == saml.BindingRedirect || e.Binding == saml.BindingPOST {
			out = append(out, e.Location)
		}
	}
	return strings.Join(slices.Compact(out), " ")
}

func (s *SAMLTerms) facts(_ *Trust, app, provider *Party) []Fact {
	var out []Fact
	if r := provider.Entity.IDP; r != nil {
		list, _ := r.SigningKeys()
		out = append(out, Fact{Name: finding.FactIssuer, Value: provider.Entity.ID, OfSide: "provider"},
			Fact{Name: finding.FactSignIn, Value: endpoints(r.SSO), OfSide: "provider"},
			Fact{Name: finding.FactKeys, Value: keyIDs(list), OfSide: "provider"})
	}
	if r := app.Entity.SP; r != nil {
		out = append(out, Fact{Name: finding.FactEntityID, Value: app.Entity.ID, OfSide: "app"},
			Fact{Name: finding.FactACS, Value: endpoints(r.ACS), OfSide: "app"})
		if r.Start != "" {
			out = append(out, Fact{Name: finding.FactStart, Value: r.Start, OfSide: "app"})
		}
	}
	return out
}

func (o *OIDCTerms) facts(_ *Trust, app, provider *Party) []Fact {
	var out []Fact
	if doc := provider.OpenIDOf(); doc != nil {
		out = append(out, Fact{Name: finding.FactIssuer, Value: doc.Issuer, OfSide: "provider"},
			Fact{Name: finding.FactSignIn, Value: doc.AuthorizationEndpoint, OfSide: "provider"},
			Fact{Name: finding.FactToken, Value: doc.TokenEndpoint, OfSide: "provider"},
			Fact{Name: finding.FactKeys, Value: provider.tokenKeyIDs(), OfSide: "provider"})
	}
	out = append(out, Fact{Name: finding.FactClientID, Value: o.ClientID, OfSide: "both"})
	if c := app.ClientSide(); c != nil && c.Kind.Redirects() {
		out = append(out, Fact{Name: finding.FactRedirect, Value: strings.Join(c.Redirects, " "), OfSide: "app"})
		if c.Start != "" {
			out = append(out, Fact{Name: finding.FactStart, Value: c.Start, OfSide: "app"})
		}
	}
	var asks []string
	for _, a := range o.Asks {
		asks = append(asks, a.Label())
	}
	return append(out, Fact{Name: finding.FactPermissions, Value: strings.Join(asks, " "), OfSide: "both"})
}

// tokenKeyIDs are the IDs of the keys with which a provider signs tokens.
func (p *Party) tokenKeyIDs() string {
	if p.Own {
		return keyIDs(p.TokenSigners())
	}
	if p.OpenID == nil {
		return ""
	}
	out := keyWordsOf(p.OpenID)
	slices.Sort(out)
	return strings.Join(out, " ")
}

// Prove keeps what a run proved: of the trust where it was accepted, and of each fact that it names. A weaker proof of
// the same value does not take a stronger one's place. facts are those of the trust as it is now.
func (t *Trust) Prove(r *Run, facts []Fact) {
	for _, f := range facts {
		if !slices.Contains(r.Proves, f.Name) {
			continue
		}
		if f.Rests.Stronger(r.Kind) {
			continue
		}
		f.Rests, f.At, f.Run = r.Kind, r.At, r.Number
		if t.Facts == nil {
			t.Facts = map[finding.FactID]Fact{}
		}
		t.Facts[f.Name] = f
	}
	if len(r.Suppose) > 0 {
		return
	}
	p := &Proven{At: r.At, Run: r.Number, Person: r.Person, StandIns: r.StandIns}
	good := r.Verdict == judge.Accepted
	switch {
	case r.Kind == ProbedProof && good:
		t.Probed = p
	case r.Kind == ProbedProof:
		t.Probed, t.Witnessed = nil, nil // what was seen once does not hold any more
	case r.Kind == WitnessProof && good:
		t.Witnessed = p
	case r.Kind == WitnessProof:
		t.Witnessed = nil
	}
	t.settle()
}

// unproven takes the proof back after a change of what it rested on. What the real parties said of themselves still
// holds where the change was of claims and admission alone.
func (t *Trust) unproven(now time.Time, wholly bool) {
	t.Reshaped, t.Holds, t.Witnessed = now.UTC(), false, nil
	if wholly {
		t.Probed = nil
	}
}

// Proof is what a trust rests on at most, and since when.
type Proof struct {
	Kind     ProofKind `json:"kind"`
	At       time.Time `json:"at"`
	Run      int64     `json:"run,omitempty"`
	StandIns []string  `json:"standIns,omitempty"`
}

// Proof returns the best proof of the trust as it is now.
func (t *Trust) Proof() Proof {
	for _, p := range []struct {
		kind ProofKind
		*Proven
	}{{WitnessProof, t.Witnessed}, {ProbedProof, t.Probed}} {
		if p.Proven != nil {
			return Proof{Kind: p.kind, At: p.At, Run: p.Proven.Run, StandIns: p.StandIns}
		}
	}
	if t.Holds && t.Last != nil {
		return Proof{Kind: ByRehearsal, At: t.Last.At, StandIns: t.Last.StandIns}
	}
	at := t.Added
	if t.Reshaped.After(at) {
		at = t.Reshaped
	}
	return Proof{Kind: Asserted, At: at}
}

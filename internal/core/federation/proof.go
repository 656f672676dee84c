package federation

import (
	"cmp"
	"crypto"
	"maps"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
)

// ProofKind is what a fact or a trust rests on.
type ProofKind string

// The kinds of proof, from the weakest to the strongest.
const (
	Asserted     ProofKind = "asserted"  // entered or published
	Told         ProofKind = "told"      // a person said so
	ByRehearsal  ProofKind = "rehearsed" // a sign-in between stand-ins
	ProbedProof  ProofKind = "probed"    // the real party was asked, nobody signed in
	WitnessProof ProofKind = "witnessed" // a real sign-in with the real party was watched
)

// Stronger reports whether a kind of proof says more than another.
func (k ProofKind) Stronger(o ProofKind) bool { return k.rank() > o.rank() }

func (k ProofKind) rank() int {
	return slices.Index([]ProofKind{Asserted, Told, ByRehearsal, ProbedProof, WitnessProof}, k)
}

// Observation is what one run saw of one fact: this value, of this party, at this time, for this person. It says
// nothing of a party that took no part, of an address or a key that was not used, nor of other people.
type Observation struct {
	Fact   finding.FactID `json:"fact"`
	Value  string         `json:"value"`
	Kind   ProofKind      `json:"kind"`
	Of     string         `json:"of,omitempty"`     // the party whose value it is; "" of both
	Played bool           `json:"played,omitempty"` // that party was played here
	At     time.Time      `json:"at"`
	Run    int64          `json:"run,omitempty"`
	Person string         `json:"person,omitempty"`  // for whom: an ID, or the subject of somebody unknown
	Out    bool           `json:"refused,omitempty"` // the person was refused, as the terms demand
	By     string         `json:"by,omitempty"`      // told: who said it
	// where that party was spoken to, and the ID of the key with which it signed what was judged; "" where that was not
	// seen
	Address string `json:"address,omitempty"`
	Key     string `json:"key,omitempty"`
}

// Proven says when something was proven, and by which run.
type Proven struct {
	At       time.Time        `json:"at"`
	Run      int64            `json:"run"`
	Person   string           `json:"person,omitempty"`
	StandIns []string         `json:"standIns,omitempty"` // parties that were played, and so not proven
	By       []string         `json:"by,omitempty"`       // told: who said it
	Facts    []finding.FactID `json:"facts,omitempty"`    // which it showed; none in what older versions kept
	// which of them hold no longer: they changed, or were seen otherwise
	Lost []finding.FactID `json:"lost,omitempty"`
}

// Whole reports whether all that the run showed still holds.
func (p *Proven) Whole() bool { return p != nil && len(p.Lost) == 0 }

// loses takes back what a run showed of facts.
func (p *Proven) loses(gone []finding.FactID) *Proven {
	if p == nil {
		return nil
	}
	c := *p
	c.Lost = slices.Clone(p.Lost)
	for _, f := range gone {
		if (p.Facts == nil || slices.Contains(p.Facts, f)) && !slices.Contains(c.Lost, f) {
			c.Lost = append(c.Lost, f)
		}
	}
	if len(c.Lost) > 0 && len(c.Lost) == len(p.Facts) {
		return nil // nothing is left of it
	}
	return &c
}

// Failure is the last probe or watch of a trust that found something wrong, since one succeeded.
type Failure struct {
	Kind    ProofKind  `json:"kind"`
	At      time.Time  `json:"at"`
	Run     int64      `json:"run"`
	Finding finding.ID `json:"finding"` // the first error
	Why     string     `json:"why"`     // in words
}

// Fact is one value that a trust rests on.
type Fact struct {
	Name   finding.FactID `json:"fact"`
	Value  string         `json:"value"`
	Rests  ProofKind      `json:"restsOn"`
	At     time.Time      `json:"at,omitzero"`
	Run    int64          `json:"run,omitempty"`
	OfSide string         `json:"side"`           // app, provider or both: whose value it is
	Seen   []Observation  `json:"seen,omitempty"` // of this value, the newest first; of several of one kind the newest
}

// mostSeen is how many observations of a fact are kept: of admission there is one for each person.
const mostSeen = 12

// saw adds an observation of the fact's value.
func (f *Fact) saw(o Observation) {
	rest := slices.DeleteFunc(slices.Clone(f.Seen),
		func(x Observation) bool { return x.Kind == o.Kind && x.Person == o.Person && x.Of == o.Of })
	f.Seen = append([]Observation{o}, rest...)
	f.Seen = f.Seen[:min(len(f.Seen), mostSeen)]
	best := f.Seen[0]
	for _, x := range f.Seen {
		if x.Kind.Stronger(best.Kind) {
			best = x
		}
	}
	f.Rests, f.At, f.Run = best.Kind, best.At, best.Run
}

// Run is what is kept of a rehearsal, of a probe or of a watch.
type Run struct {
	Number int64     `json:"run"`
	Kind   ProofKind `json:"kind"`
	Rehearsal
	Proves   []finding.FactID `json:"proves,omitempty"`   // names of the facts that it showed
	Observed []Observation    `json:"observed,omitempty"` // what it saw of each; none in runs that older versions kept
	Messages []Message        `json:"messages,omitempty"` // what passed, redacted
	// facts that the party itself says otherwise, beside those that the findings contradict
	Contradicted []finding.FactID `json:"contradicted,omitempty"`
	// by the ID of an own key, whether the other side took a request that was signed with it; only what could be told
	Taken map[string]bool `json:"keysTaken,omitempty"`
}

// Tried is what a probe found of an own key at the other side.
type Tried struct {
	Takes bool      `json:"takes"`
	At    time.Time `json:"at"`
	Run   int64     `json:"run"`
}

// Message is one message of a run, without secrets, signatures and what names a person.
type Message struct {
	Kind string `json:"kind"`
	Text string `json:"text"`
}

// Saw notes that a run saw a fact as the ledger has it. o says what of it is not the run's own: a kind, a person.
func (r *Run) Saw(f Fact, o Observation) {
	o.Fact, o.Value, o.At = f.Name, f.Value, r.At
	o.Kind = cmp.Or(o.Kind, r.Kind)
	o.Address = cmp.Or(o.Address, r.Addresses[o.Of])
	if _, provider, _ := strings.Cut(r.Trust, "@"); o.Of == provider {
		o.Key = cmp.Or(o.Key, r.Key)
	}
	if f.Name == finding.FactAdmission { // it is seen for the persons seen, never for everyone
		o.Person = cmp.Or(o.Person, r.Person, r.Subject)
	}
	r.Observed = append(r.Observed, o)
	if !slices.Contains(r.Proves, f.Name) {
		r.Proves = append(r.Proves, f.Name)
	}
}

// Meant reports whether somebody was refused as the terms of the trust demand, and for nothing else: that contradicts
// nothing, and is no failure of the trust.
func (r *Rehearsal) Meant() bool {
	n := 0
	for _, f := range r.Findings {
		if f.Level != finding.Error {
			continue
		}
		if !finding.AsTheTermsDemand(f.ID) {
			return false
		}
		n++
	}
	return n > 0
}

// Otherwise lists the facts that the errors of a run show to be otherwise than the ledger has them.
func (r *Rehearsal) Otherwise() []finding.FactID {
	var out []finding.FactID
	for _, f := range r.Findings {
		if f.Level != finding.Error {
			continue
		}
		list := finding.Contradicts(f.ID)
		if slices.Contains(list, finding.FactID(f.Of)) { // it says itself which
			list = []finding.FactID{finding.FactID(f.Of)}
		}
		for _, x := range list {
			if !slices.Contains(out, x) {
				out = append(out, x)
			}
		}
	}
	return out
}

// FactsOf lists what a trust rests on, each with its best proof: one that was for another value than the present one
// does not count.
func FactsOf(t *Trust, app, provider *Party) []Fact {
	out := t.Terms.facts(t, app, provider)
	rules := []string{t.SubjectWords()}
	for _, r := range t.Rules {
		rules = append(rules, r.Claim+"="+claims.Told(r.Expression))
	}
	out = append(out, Fact{Name: finding.FactClaims, Value: strings.Join(rules, ", "), OfSide: "both"},
		Fact{Name: finding.FactAdmission, Value: t.admissionWords(), OfSide: "provider"})
	for i := range out {
		f := &out[i]
		f.Rests = Asserted
		if had, ok := t.Facts[f.Name]; ok && had.Value == f.Value {
			f.Rests, f.At, f.Run, f.Seen = had.Rests, had.At, had.Run, had.Seen
		}
	}
	return out
}

// admissionWords are who comes in through the trust, how strongly signed in, and of which domains, in a line.
func (t *Trust) admissionWords() string {
	out := t.Admits + ", " + t.Strength
	if len(t.SpeaksFor) > 0 {
		out += ", speaks for " + strings.Join(t.SpeaksFor, " ")
	}
	return out
}

func keyIDs(list []crypto.PublicKey) string {
	out := shortIDs(list)
	slices.Sort(out)
	return strings.Join(out, " ")
}

// signerIDs are the IDs of the keys with which a party signs. Which of an own party's is active is part of the value,
// and stands first; of a foreign party the order says nothing.
func signerIDs(p *Party, list []crypto.PublicKey) string {
	out := shortIDs(list)
	if p.Own && len(out) > 0 {
		slices.Sort(out[1:])
	} else {
		slices.Sort(out)
	}
	return strings.Join(out, " ")
}

func shortIDs(list []crypto.PublicKey) []string {
	var out []string
	for _, k := range list {
		id := KeyID(k)
		out = append(out, id[:min(12, len(id))])
	}
	return out
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
			Fact{Name: finding.FactKeys, Value: signerIDs(provider, list), OfSide: "provider"})
	}
	if r := app.Entity.SP; r != nil {
		out = append(out, Fact{Name: finding.FactEntityID, Value: app.Entity.ID, OfSide: "app"},
			Fact{Name: finding.FactACS, Value: endpoints(r.ACS), OfSide: "app"})
		out = filled(out, Fact{Name: finding.FactStart, Value: r.Start, OfSide: "app"})
		if list, _ := r.SigningKeys(); s.SignsRequests {
			out = filled(out, Fact{Name: finding.FactAppKeys, Value: signerIDs(app, list), OfSide: "app"})
		}
		if c, _ := r.EncryptionKey(); c != nil {
			out = append(out, Fact{Name: finding.FactEncryption, Value: keyIDs([]crypto.PublicKey{c.PublicKey}),
				OfSide: "app"})
		}
		var wants []string
		for _, w := range r.Wanted {
			wants = append(wants, w.Label())
		}
		out = filled(out, Fact{Name: finding.FactWants, Value: strings.Join(wants, ", "), OfSide: "app"})
	}
	out = filled(out, Fact{Name: finding.FactSignOut, Value: signOuts(app.Entity.SP, provider.Entity.IDP),
		OfSide: "both"})
	return append(out, Fact{Name: finding.FactTerms, Value: s.words(), OfSide: "both"})
}

// filled appends a fact that has a value.
func filled(list []Fact, f Fact) []Fact {
	if f.Value == "" {
		return list
	}
	return append(list, f)
}

// signOuts are the single logout services of both sides.
func signOuts(roles ...*saml.Role) string {
	var out []string
	for _, r := range roles {
		if r != nil && len(r.SLO) > 0 {
			out = append(out, endpoints(r.SLO))
		}
	}
	return strings.Join(out, " ")
}

// words are the terms in a line.
func (s *SAMLTerms) words() string {
	out := []string{"the provider signs: " + s.Signs}
	for _, x := range []struct {
		on   bool
		says string
	}{{s.Encrypts, "assertions encrypted"}, {s.PlainRefused, "others refused"}, {s.SignsRequests, "requests signed"},
		{s.Unsolicited, "unsolicited responses taken"}, {s.AllowSHA1, "SHA-1 taken"},
		{s.ForceAuthn, "a fresh sign-in each time"}, {s.IsPassive, "no page shown"}} {
		if x.on {
			out = append(out, x.says)
		}
	}
	return strings.Join(out, ", ")
}

func (o *OIDCTerms) facts(_ *Trust, app, provider *Party) []Fact {
	var out []Fact
	if doc := provider.OpenIDOf(); doc != nil {
		out = append(out, Fact{Name: finding.FactIssuer, Value: doc.Issuer, OfSide: "provider"},
			Fact{Name: finding.FactSignIn, Value: doc.AuthorizationEndpoint, OfSide: "provider"},
			Fact{Name: finding.FactToken, Value: o.Endpoints(doc).TokenEndpoint, OfSide: "provider"},
			Fact{Name: finding.FactKeys, Value: provider.tokenKeyIDs(), OfSide: "provider"})
	}
	out = append(out, Fact{Name: finding.FactClientID, Value: o.ClientID, OfSide: "both"})
	if c := app.ClientSide(); c != nil && c.Kind.Redirects() {
		out = append(out, Fact{Name: finding.FactRedirect, Value: strings.Join(c.Redirects, " "), OfSide: "app"})
		out = filled(out, Fact{Name: finding.FactStart, Value: c.Start, OfSide: "app"})
		uris := append(slices.Clone(c.AfterSignOut), c.BackChannelLogout, c.FrontChannelLogout)
		if doc := provider.OpenIDOf(); doc != nil {
			uris = append([]string{doc.EndSessionEndpoint}, uris...)
		}
		out = filled(out, Fact{Name: finding.FactSignOut,
			Value: strings.Join(strings.Fields(strings.Join(uris, " ")), " "), OfSide: "both"})
	}
	out = filled(out, Fact{Name: finding.FactAppKeys, Value: o.keyWords(), OfSide: "app"})
	out = append(out, Fact{Name: finding.FactTerms, Value: o.words(app.ClientSide()), OfSide: "both"})
	var asks []string
	for _, a := range o.Asks {
		asks = append(asks, a.Label())
	}
	return append(out, Fact{Name: finding.FactPermissions, Value: strings.Join(asks, " "), OfSide: "both"})
}

// tokenKeyIDs are the IDs of the keys with which a provider signs tokens.
func (p *Party) tokenKeyIDs() string {
	if p.Own {
		return signerIDs(p, p.TokenSigners())
	}
	if p.OpenID == nil {
		return ""
	}
	out := keyWordsOf(p.OpenID)
	slices.Sort(out)
	return strings.Join(out, " ")
}

// keyWords are the keys with which a client shows that it is itself: those that it publishes, or where it does.
func (o *OIDCTerms) keyWords() string {
	if o.JWKSURI != "" {
		return o.JWKSURI
	}
	list, _, err := oidc.ReadKeys([]byte(o.JWKS), finding.App)
	if o.JWKS == "" || err != nil {
		return ""
	}
	var out []crypto.PublicKey
	for _, k := range list {
		out = append(out, k.Public)
	}
	return keyIDs(out)
}

// words are the terms in a line: what kind of client it is, and what is not as for each new trust.
func (o *OIDCTerms) words(c *Client) string {
	var out []string
	if c != nil {
		out = append(out, string(c.Kind)+" client")
		if c.IDTokenAlg != "" {
			out = append(out, "ID tokens by "+c.IDTokenAlg)
		}
		if c.MaxAge > 0 {
			out = append(out, "sign-ins no older than "+SpanWords(Span(c.MaxAge)))
		}
	}
	p, d := o.Policy, DefaultPolicy()
	for _, x := range []struct {
		on   bool
		says string
	}{{p.PKCEOff, "PKCE off"}, {p.Pushed, "requests pushed"}, {p.Device, "device authorization"},
		{p.AsItself, "acts as itself too"}, {p.OfflineEnds, "offline access ends with the sign-out"},
		{p.SingleSignOut != d.SingleSignOut, "single sign-out otherwise than at first"},
		{p.Auth != "", "authenticates by " + p.Auth}, {p.Bound != "", "tokens bound by " + p.Bound},
		{p.Objects, "requests signed"}, {p.Profile != "", "profile " + p.Profile},
		{len(p.SignInFrom) > 0, "sign-ins from " + strings.Join(p.SignInFrom, " ")},
		{len(p.RefreshFrom) > 0, "refreshes from " + strings.Join(p.RefreshFrom, " ")},
		{p.Session != d.Session, "sign-ins for " + SpanWords(Span(p.Session))},
		{p.AccessToken != d.AccessToken, "access tokens for " + SpanWords(Span(p.AccessToken))},
		{p.IDToken != d.IDToken, "ID tokens for " + SpanWords(Span(p.IDToken))},
		{p.Refresh != d.Refresh, "refreshed for " + SpanWords(Span(p.Refresh))},
		{p.RefreshIdle != d.RefreshIdle, "idle for " + SpanWords(Span(p.RefreshIdle))}} {
		if x.on {
			out = append(out, x.says)
		}
	}
	return strings.Join(out, ", ")
}

// Prove keeps what a run showed: of the trust where it was accepted, and of each fact that it saw. A weaker proof of
// the same value does not take a stronger one's place. A run that was refused takes back the facts that it saw
// otherwise, and no other; one in which somebody was refused as the terms demand, or that came to no end, takes nothing
// back. facts are those of the trust as it is now.
func (t *Trust) Prove(r *Run, facts []Fact) {
	if len(r.Suppose) > 0 {
		return
	}
	if t.Facts == nil {
		t.Facts = map[finding.FactID]Fact{}
	}
	for id, takes := range r.Taken {
		if t.Tried == nil {
			t.Tried = map[string]Tried{}
		}
		t.Tried[id] = Tried{takes, r.At, r.Number}
	}
	var shown []finding.FactID // of a trust that was changed meanwhile a run shows what is still as it was
	for _, f := range facts {
		for _, o := range r.Observed {
			if o.Fact == f.Name && o.Value == f.Value {
				o.Run = r.Number
				f.saw(o)
				t.Facts[f.Name] = f
				shown = append(shown, f.Name)
			}
		}
	}
	if r.Verdict != judge.Accepted {
		if !r.Meant() {
			t.contradicted(r)
		}
		t.settle()
		return
	}
	p := &Proven{At: r.At, Run: r.Number, Person: r.Person, StandIns: r.StandIns, Facts: r.Proves}
	for _, f := range r.Proves {
		if len(r.Observed) > 0 && !slices.Contains(shown, f) {
			p.Lost = append(p.Lost, f)
		}
	}
	switch r.Kind {
	case Told:
		by := ""
		for _, o := range r.Observed {
			by = cmp.Or(by, o.By)
		}
		p.By = []string{cmp.Or(by, "whoever signed in")}
		if t.Told.Whole() { // the word of another is added to it
			p.By = append(p.By, slices.DeleteFunc(slices.Clone(t.Told.By),
				func(s string) bool { return s == p.By[0] })...)
		}
		t.Told = p
	case ProbedProof:
		t.Probed = p
	case WitnessProof:
		t.Witnessed = p
		if b := broughtBy(r); b != nil {
			t.Brought = b
		}
	}
	if t.Failed != nil && !t.Failed.Kind.Stronger(r.Kind) {
		t.Failed = nil
	}
	t.settle()
}

// contradicted takes back what a run saw otherwise, and notes that it failed.
func (t *Trust) contradicted(r *Run) {
	gone := append(r.Otherwise(), r.Contradicted...)
	t.lose(gone)
	if slices.Contains(r.Findings.IDs(finding.Error), string(finding.WatchSaid)) {
		t.Told = nil // one word against another
	}
	if r.Kind == ByRehearsal {
		return // that is what the last rehearsal is for
	}
	for _, f := range r.Findings {
		if f.Level == finding.Error && (r.Kind == ProbedProof || !f.ID.Of(finding.WatchFamily) || len(gone) > 0) {
			t.Failed = &Failure{Kind: r.Kind, At: r.At, Run: r.Number, Finding: f.ID, Why: f.Check + ": " + f.Saw}
			return
		}
	}
}

// lose takes facts back: nothing shows them any more as they are.
func (t *Trust) lose(gone []finding.FactID) {
	for _, f := range gone {
		delete(t.Facts, f)
	}
	t.Told, t.Probed, t.Witnessed = t.Told.loses(gone), t.Probed.loses(gone), t.Witnessed.loses(gone)
}

// changed takes back the facts whose value is another one than before, and returns them. A rehearsal has to be run
// again where there are any.
func (t *Trust) changed(now time.Time, before, after []Fact) []finding.FactID {
	was := map[finding.FactID]string{}
	for _, f := range before {
		was[f.Name] = f.Value
	}
	var gone []finding.FactID
	for _, f := range after {
		if v, there := was[f.Name]; !there || v != f.Value {
			gone = append(gone, f.Name)
		}
		delete(was, f.Name)
	}
	for _, f := range before { // those that are no more
		if _, left := was[f.Name]; left {
			gone = append(gone, f.Name)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	t.lose(gone)
	t.Reshaped, t.Holds = now.UTC(), false
	return gone
}

// Proof is what a trust rests on at most, and since when.
type Proof struct {
	Kind     ProofKind        `json:"kind"`
	At       time.Time        `json:"at"`
	Run      int64            `json:"run,omitempty"`
	StandIns []string         `json:"standIns,omitempty"`
	By       []string         `json:"by,omitempty"`   // told: who said it
	Lost     []finding.FactID `json:"lost,omitempty"` // what of it holds no longer
	// parties that left their registry: what was proven rests meanwhile
	Left []string `json:"left,omitempty"`
}

// Whole reports whether all that the proof showed still holds.
func (p Proof) Whole() bool { return len(p.Lost) == 0 }

// LostWords names what of the proof holds no longer, in a line.
func (p Proof) LostWords() string {
	var out []string
	for _, f := range p.Lost {
		out = append(out, string(f))
	}
	return strings.Join(out, ", ")
}

// Leave notes that a party is in its registry no more, or is back: what was proven of the trust rests meanwhile. It
// reports whether that is new.
func (t *Trust) Leave(party string, at time.Time, gone bool) bool {
	_, had := t.Left[party]
	if had == gone {
		return false
	}
	if !gone {
		delete(t.Left, party)
		return true
	}
	if t.Left == nil {
		t.Left = map[string]time.Time{}
	}
	t.Left[party] = at.UTC()
	return true
}

// Proof returns the best proof of the trust as it is now; one of which something holds no longer says so. While a party
// is not in its registry nothing is proven.
func (t *Trust) Proof() Proof {
	if len(t.Left) > 0 {
		p := Proof{Kind: Asserted, Left: slices.Sorted(maps.Keys(t.Left))}
		for _, at := range t.Left {
			if at.After(p.At) {
				p.At = at
			}
		}
		return p
	}
	for _, p := range []struct {
		kind ProofKind
		*Proven
	}{{WitnessProof, t.Witnessed}, {ProbedProof, t.Probed}} {
		if p.Proven != nil {
			return Proof{Kind: p.kind, At: p.At, Run: p.Proven.Run, StandIns: p.StandIns, Lost: p.Lost}
		}
	}
	if t.Holds && t.Last != nil {
		return Proof{Kind: ByRehearsal, At: t.Last.At, StandIns: t.Last.StandIns}
	}
	if t.Told != nil {
		return Proof{Kind: Told, At: t.Told.At, Run: t.Told.Run, StandIns: t.Told.StandIns, By: t.Told.By,
			Lost: t.Told.Lost}
	}
	at := t.Added
	if t.Reshaped.After(at) {
		at = t.Reshaped
	}
	return Proof{Kind: Asserted, At: at}
}

package desk

import (
	"slices"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// What commands tell programs of records. They are structs of their own: a record may be kept otherwise one day, and
// gain what nobody is told, while these stay.

// TrustResult is what is told of a trust.
type TrustResult struct {
	Name          string                             `json:"name"`
	App           string                             `json:"app"`
	Provider      string                             `json:"provider"`
	Standing      federation.Standing                `json:"standing"`
	Admits        string                             `json:"admits"`
	Strength      string                             `json:"strength"`
	SubjectFormat string                             `json:"subjectFormat"`
	SpeaksFor     []string                           `json:"speaksFor,omitempty"`
	Owner         string                             `json:"owner,omitempty"`
	Ends          []federation.End                   `json:"ends,omitempty"`
	Subject       string                             `json:"subject,omitempty"`
	Carried       *federation.Carrying               `json:"carried,omitempty"`
	Rules         []claims.Rule                      `json:"claims"`
	Reads         *federation.Mapping                `json:"reads,omitempty"`
	Terms         federation.Held                    `json:"terms"`
	Arrival       *federation.Arrival                `json:"arrival,omitempty"`
	Handed        map[string]time.Time               `json:"handed"`
	HandedTo      map[string]string                  `json:"handedTo,omitempty"`
	Prepared      map[string]time.Time               `json:"prepared,omitempty"`
	KeysSeen      map[string][]string                `json:"keysSeen,omitempty"`
	Written       map[string][]string                `json:"writtenKeys,omitempty"`
	Fetched       map[string]federation.Fetch        `json:"fetched,omitempty"`
	Last          *federation.Rehearsal              `json:"lastRehearsal,omitempty"`
	Holds         bool                               `json:"rehearsalHolds"`
	Cutover       *federation.Cutover                `json:"cutover,omitempty"`
	Plan          *federation.Cutover                `json:"plan,omitempty"`
	Probed        *federation.Proven                 `json:"probed,omitempty"`
	Witnessed     *federation.Proven                 `json:"witnessed,omitempty"`
	Told          *federation.Proven                 `json:"told,omitempty"`
	Left          map[string]time.Time               `json:"leftRegistry,omitempty"`
	Failed        *federation.Failure                `json:"lastFailed,omitempty"`
	Brought       *federation.Brought                `json:"brought,omitempty"`
	Tried         map[string]federation.Tried        `json:"keysTried,omitempty"`
	Facts         map[finding.FactID]federation.Fact `json:"facts,omitempty"`
	Added         time.Time                          `json:"added"`
	Changed       time.Time                          `json:"changed"`
	Reshaped      time.Time                          `json:"reshaped"`
	Version       int64                              `json:"-"`
}

// TrustResultOf tells of one; where the record changes, the compiler asks here what is told of that.
// The salts of its rules are told to nobody.
func TrustResultOf(t *federation.Trust) TrustResult {
	r := TrustResult(*t)
	r.Subject, r.Rules = claims.Masked(r.Subject), slices.Clone(r.Rules)
	for i := range r.Rules {
		r.Rules[i].Expression = claims.Masked(r.Rules[i].Expression)
	}
	return r
}

// RuleResult is a claim as it is listed: a rule, or a standard claim that a scope brings without one.
type RuleResult struct {
	claims.Rule
	Scope string   `json:"scope,omitempty"` // that brings it; "" for a rule
	From  []string `json:"from,omitempty"`  // attributes, of which the first counts that the person has
}

// RuleResultsOf lists the claims of a trust, the salts of its rules left out.
func RuleResultsOf(t *federation.Trust) []RuleResult {
	out := []RuleResult{}
	for _, r := range TrustResultOf(t).Rules {
		out = append(out, RuleResult{Rule: r})
	}
	for _, c := range t.Unruled() {
		out = append(out, RuleResult{Rule: claims.Rule{Claim: c.Claim, Name: c.Claim}, Scope: c.Scope, From: c.From})
	}
	return out
}

// PartyResult is what is told of a party.
type PartyResult struct {
	Name   string          `json:"name"`
	Kind   federation.Kind `json:"kind"`
	Title  string          `json:"title,omitempty"`
	Own    bool            `json:"own"`
	At     string          `json:"at,omitempty"`
	Source string          `json:"source,omitempty"`
	Signed string          `json:"signedBy,omitempty"`
	Signer string          `json:"signer,omitempty" rows:"none"`

	NextSigner string `json:"nextSigner,omitempty" rows:"none"`

	TLS       federation.Server   `json:"sourceTLS,omitzero"`
	Entity    saml.Entity         `json:"saml"`
	OpenID    *federation.OpenID  `json:"openid,omitempty"`
	Client    *federation.Client  `json:"client,omitempty"`
	API       *federation.API     `json:"api,omitempty"`
	Reads     *federation.Mapping `json:"reads,omitempty"`
	From      []string            `json:"fetchesFrom,omitempty"`
	Admins    string              `json:"administrators,omitempty"`
	AgreedBy  int                 `json:"agreedBy,omitempty"`
	Registers bool                `json:"registers,omitempty"`
	TokenKeys []saml.Key          `json:"tokenKeys,omitempty"`
	Added     time.Time           `json:"added"`
	Changed   time.Time           `json:"changed"`
	Version   int64               `json:"-"`
}

// PartyResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func PartyResultOf(p *federation.Party) PartyResult { return PartyResult(*p) }

// PersonResult is what is told of a person.
type PersonResult struct {
	ID         string              `json:"id"`
	DN         string              `json:"dn,omitempty"`
	Attributes map[string][]string `json:"attributes"`
	Groups     []string            `json:"groups"`
	Home       string              `json:"home,omitempty"`
	Source     string              `json:"source,omitempty"`
	Key        string              `json:"-"`
}

// PersonResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func PersonResultOf(p *people.Person) PersonResult { return PersonResult(*p) }

// ConsentResult is what is told of a consent.
type ConsentResult struct {
	Trust    string    `json:"trust"`
	API      string    `json:"api,omitempty"`
	Name     string    `json:"permission"`
	As       string    `json:"as"`
	For      string    `json:"for,omitempty"`
	Standing string    `json:"standing"`
	By       string    `json:"by"`
	Admin    bool      `json:"byAdministrator"`
	At       time.Time `json:"at"`

	Narrowed *federation.Narrowed `json:"narrowed,omitempty"`
}

// ToldConsent is a consent as programs are told it.
type ToldConsent struct {
	Trust      string    `json:"trust"`
	Permission string    `json:"permission"` // API:NAME, or the scope where there is no API
	As         string    `json:"as"`
	For        string    `json:"for,omitempty"`
	Standing   string    `json:"standing"`
	By         string    `json:"by"`
	Admin      bool      `json:"byAdministrator"`
	At         time.Time `json:"at"`

	Narrowed *federation.Narrowed `json:"narrowed,omitempty"` // to what; nil: it is to the whole permission
}

// Told is the consent with its permission in one.
func (c ConsentResult) Told() ToldConsent {
	return ToldConsent{c.Trust, federation.Ask{API: c.API, Name: c.Name}.Label(), c.As, c.For, c.Standing, c.By,
		c.Admin, c.At, c.Narrowed}
}

// ConsentResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func ConsentResultOf(c *federation.Consent) ConsentResult { return ConsentResult(*c) }

// SecretResult is what is told of a secret: never the secret itself.
type SecretResult struct {
	ID        string     `json:"id"`
	Trust     string     `json:"trust"`
	Hash      string     `json:"-"`
	EndsIn    string     `json:"endsIn"`
	Note      string     `json:"note,omitempty"`
	Added     time.Time  `json:"added"`
	Expires   time.Time  `json:"expires"`
	Retired   *time.Time `json:"retired,omitempty"`
	Used      *time.Time `json:"lastUsed,omitempty"`
	Renews    string     `json:"renews,omitempty"`
	Delivered *time.Time `json:"delivered,omitempty"`
	Key       bool       `json:"key,omitempty"`
}

// SecretResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func SecretResultOf(s *federation.Secret) SecretResult { return SecretResult(*s) }

// RunResult is what is told of a run that was kept.
type RunResult struct {
	Number int64                `json:"run"`
	Kind   federation.ProofKind `json:"kind"`
	federation.Rehearsal
	Proves       []finding.FactID         `json:"proves,omitempty"`
	Observed     []federation.Observation `json:"observed,omitempty"`
	Messages     []federation.Message     `json:"messages,omitempty"`
	Contradicted []finding.FactID         `json:"contradicted,omitempty"`
	Taken        map[string]bool          `json:"keysTaken,omitempty"`
}

// RunResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func RunResultOf(r *federation.Run) RunResult { return RunResult(*r) }

// Results tells of each of a list; of none it tells an empty list.
func Results[S, R any](list []S, of func(*S) R) []R {
	out := make([]R, len(list))
	for i := range list {
		out[i] = of(&list[i])
	}
	return out
}

// Removed is what is told of something that was taken away.
type Removed struct {
	Name string `json:"removed"`
}

// Unpublished is what is told of a permission that an API publishes no longer: API:NAME.
type Unpublished struct {
	Permission string `json:"unpublished"`
}

// Retired is what is told of a secret that was retired.
type Retired struct {
	Secret string `json:"retired"`
	Trust  string `json:"trust"`
	// until when an API that judges access tokens by itself takes those that were issued before
	TakenUntil time.Time `json:"takenUntil,omitzero"`
}

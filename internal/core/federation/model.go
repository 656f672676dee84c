// Package federation is the model of Tressik and its rules: providers, apps, and the trusts between them.
package federation

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// Kind tells providers from apps.
type Kind string

// The kinds of party.
const (
	Provider Kind = "provider"
	App      Kind = "app"
)

// Side returns the side that a finding about a party of this kind points at.
func (k Kind) Side() finding.Side {
	if k == Provider {
		return finding.Provider
	}
	return finding.App
}

// Party is a provider or an app.
type Party struct {
	Name    string      `json:"name"`
	Kind    Kind        `json:"kind"`
	Title   string      `json:"title,omitempty"`
	Own     bool        `json:"own"`
	At      string      `json:"at,omitempty"`     // own: the address under which its endpoints lie
	Source  string      `json:"source,omitempty"` // foreign: where its metadata came from
	Signed  string      `json:"signedBy,omitempty"`
	Entity  saml.Entity `json:"saml"`
	OpenID  *OpenID     `json:"openid,omitempty"`         // foreign provider: its discovery document and keys
	Client  *Client     `json:"client,omitempty"`         // app: its client side
	API     *API        `json:"api,omitempty"`            // app: its api side
	Admins  string      `json:"administrators,omitempty"` // provider: the group whose members may consent for everyone
	Added   time.Time   `json:"added"`
	Changed time.Time   `json:"changed"`
	Version int64       `json:"-"`
}

// Role returns the SAML role in which the party acts, or nil.
func (p *Party) Role() *saml.Role {
	if p.Kind == Provider {
		return p.Entity.IDP
	}
	return p.Entity.SP
}

// Label is the title, else the name.
func (p *Party) Label() string {
	if p.Title != "" {
		return p.Title
	}
	if r := p.Role(); r != nil && r.DisplayName != "" {
		return r.DisplayName
	}
	return p.Name
}

// Standing is how far a trust has come.
type Standing string

// The standings of a trust, in order.
const (
	Drafted   Standing = "drafted"
	Exchanged Standing = "exchanged"
	Rehearsed Standing = "rehearsed"
	Live      Standing = "live"
	Paused    Standing = "paused"
	Ended     Standing = "ended"
)

// Rehearsal is what is kept of a sign-in run as a test.
type Rehearsal struct {
	At       time.Time           `json:"at"`
	Trust    string              `json:"trust"`
	Person   string              `json:"person"`
	Verdict  string              `json:"verdict"` // accepted or refused
	Subject  string              `json:"subject,omitempty"`
	Format   string              `json:"subjectFormat,omitempty"`
	Claims   map[string][]string `json:"claims,omitempty"`
	StandIns []string            `json:"standIns"`          // names of the parties played with keys of their own
	Suppose  []string            `json:"suppose,omitempty"` // values supposed to differ from the ledger
	Records  []Record            `json:"records,omitempty"` // what the calls of APIs brought
	Findings finding.List        `json:"findings"`
}

// Record is one record that an API answered with.
type Record struct {
	Call string `json:"call"` // API:PERMISSION
	ID   string `json:"id"`
	Note string `json:"note"`
}

// Trust is the agreement between one app and one provider.
type Trust struct {
	Name          string               `json:"name"` // app@provider
	App           string               `json:"app"`
	Provider      string               `json:"provider"`
	Standing      Standing             `json:"standing"`
	Admits        string               `json:"admits"`   // everyone or group:NAME
	Strength      string               `json:"strength"` // any or mfa
	SubjectFormat string               `json:"subjectFormat"`
	Subject       string               `json:"subject,omitempty"` // CEL; "" takes what fits the format
	Rules         []claims.Rule        `json:"claims"`
	Signs         string               `json:"signs"` // assertion, response or both
	Encrypts      bool                 `json:"encrypts"`
	PlainRefused  bool                 `json:"plainRefused"` // the app refuses an assertion that is not encrypted
	SignsRequests bool                 `json:"signsRequests"`
	Unsolicited   bool                 `json:"unsolicited"`
	OIDC          *Registration        `json:"oidc,omitempty"` // a trust over OpenID Connect; nil: over SAML
	AllowSHA1     bool                 `json:"allowSHA1"`
	Handed        map[string]time.Time `json:"handed"` // app, provider: when that side was given what it needs
	Last          *Rehearsal           `json:"lastRehearsal,omitempty"`
	Added         time.Time            `json:"added"`
	Changed       time.Time            `json:"changed"`
	Reshaped      time.Time            `json:"reshaped"` // last change that a rehearsal should see
	Version       int64                `json:"-"`
}

// TrustName joins the names of an app and a provider.
func TrustName(app, provider string) string { return app + "@" + provider }

// Errors that callers test for.
var (
	ErrName   = errors.New("not a usable name")
	ErrAdmits = errors.New("not a rule of admission")
	ErrValue  = errors.New("not an accepted value")
)

// CheckName refuses names that would be awkward in a command line, a URL path or a trust's name.
func CheckName(name string) error {
	ok := name != "" && len(name) <= 63 && name[0] != '-'
	for _, c := range name {
		ok = ok && (c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' || c == '.' || c == '_')
	}
	if !ok {
		return fmt.Errorf("%w: %q; use up to 63 lower-case letters, digits, '-', '.' and '_'", ErrName, name)
	}
	return nil
}

// CheckAdmits refuses what is none of everyone, group:NAME[,NAME…] and consented.
func CheckAdmits(v string) error {
	if v == "everyone" || v == "consented" {
		return nil
	}
	if g := AdmittedGroups(v); len(g) > 0 && !slices.Contains(g, "") {
		return nil
	}
	return fmt.Errorf("%w: %q; write everyone or group:NAME, several groups with commas; over OpenID Connect also consented", ErrAdmits, v)
}

// AdmittedGroups lists the groups of a rule of admission; none if it does not go by groups.
func AdmittedGroups(v string) []string {
	g, ok := strings.CutPrefix(v, "group:")
	if !ok {
		return nil
	}
	return strings.Split(g, ",")
}

// Admission reports whether the trust admits a person, and why not in words.
func (t *Trust) Admission(p *people.Person) (bool, string) {
	groups := AdmittedGroups(t.Admits)
	if len(groups) == 0 || slices.ContainsFunc(groups, p.In) {
		return true, ""
	}
	g := strings.Join(groups, " or ")
	in := "no group"
	if len(p.Groups) > 0 {
		in = strings.Join(p.Groups, ", ")
	}
	return false, fmt.Sprintf("%s is in %s; %s admits the group %s", p.ID, in, t.Name, g)
}

// Contexts returns the authentication context classes that the trust's strength asks for; none for any.
func (t *Trust) Contexts() []string {
	if t.Strength == "mfa" {
		return []string{saml.ContextMFA}
	}
	return nil
}

// SubjectExpression is the expression of the subject, or what stands for it where none is set.
func (t *Trust) SubjectExpression() string {
	switch {
	case t.Subject != "":
		return t.Subject
	case t.SubjectFormat == saml.FormatEmail:
		return "first(person.mail)"
	case t.SubjectFormat == saml.FormatUnspecified:
		return "person.uid"
	}
	return ""
}

// SubjectWords says where the subject comes from.
func (t *Trust) SubjectWords() string {
	switch {
	case t.SubjectExpression() != "":
		return t.SubjectExpression()
	case t.SubjectFormat == saml.FormatTransient:
		return "a new random value at each sign-in"
	}
	return "a pseudonym of the person for this app alone"
}

// StartLink is the link that starts sign-in at the app; "" if none is known.
func (p *Party) StartLink() string {
	if p.Entity.SP == nil {
		return ""
	}
	return p.Entity.SP.Start
}

// LaunchLink is the link that starts sign-in at an own provider for an app; "" if the provider is foreign.
func (p *Party) LaunchLink(app *Party) string {
	if !p.Own {
		return ""
	}
	return strings.TrimSuffix(p.At, "/") + "/launch?app=" + url.QueryEscape(app.Entity.ID)
}

// OwnEntity fills in the entity of an own party: entity ID and endpoints under its address.
func OwnEntity(kind Kind, at, title string, org *saml.Organization) saml.Entity {
	at = strings.TrimSuffix(at, "/")
	e := saml.Entity{ID: at + "/metadata", Organization: org}
	role := &saml.Role{Protocols: []string{saml.NSProtocol}, DisplayName: title}
	if kind == Provider {
		role.SSO = []saml.Endpoint{{Binding: saml.BindingRedirect, Location: at + "/sso"},
			{Binding: saml.BindingPOST, Location: at + "/sso"}}
		role.NameIDFormats = []string{saml.FormatPersistent, saml.FormatTransient, saml.FormatEmail, saml.FormatUnspecified}
		e.IDP = role
	} else {
		role.ACS = []saml.Endpoint{{Binding: saml.BindingPOST, Location: at + "/acs", Index: 1, Default: true}}
		role.Start = at + "/start"
		role.WantAssertionsSigned = true
		role.RequestsSigned = true
		e.SP = role
	}
	return e
}

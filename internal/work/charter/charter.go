// Package charter holds a federation that is declared in a file: it is read, written out of a ledger, compared with
// one, and enacted.
//
// # One answer
//
// What a charter would change is not worked out beside what changes it. Enacting calls the use cases that the commands
// call, on a Book; comparing does the same on a Book of which nothing is kept, writes the charter of the ledger as it
// is and as it would be, and shows how the two differ. So a comparison cannot say other things than enacting does, and
// what a use case refuses is refused in both.
//
// # What is said, what is not
//
// A part that a charter does not name is left as it is. Of a list that it does name, such as redirect URIs, all that
// it does not name is told as not declared, and taken away where enacting is told to take away. A charter that covers
// everything declares all parties, trusts, routes and expectations in the same sense. Nobody consents by a charter,
// nothing is handed over by it, and no secret stands in it: a secret is declared by its life and where it goes.
package charter

import (
	"tressik.example/internal/work/mapping"
)

// Kind is what a charter says of itself in its first field.
const Kind = "tressik charter 1"

// Everything is the word of a charter that declares all there is.
const Everything = "everything"

// Charter is a declared federation. Names of parties and trusts are keys.
type Charter struct {
	Charter      string               `yaml:"charter"`
	Organisation string               `yaml:"organisation,omitempty"`
	Covers       string               `yaml:"covers,omitempty"` // everything, or nothing
	Values       map[string]string    `yaml:"values,omitempty"` // by name; ${NAME} stands for one
	People       []People             `yaml:"people,omitempty"`
	Providers    map[string]*Provider `yaml:"providers,omitempty"`
	Apps         map[string]*App      `yaml:"apps,omitempty"`
	Trusts       map[string]*Trust    `yaml:"trusts,omitempty"`
	Routes       map[string]string    `yaml:"routes,omitempty"` // provider by domain
	Expectations []Expectation        `yaml:"expectations,omitempty"`
}

// People are persons and groups: a file that is loaded, or a source that is read now and again.
type People struct {
	Source string `yaml:"source,omitempty"` // name of a source; without one a file is loaded
	From   string `yaml:"from"`             // file, or ldaps: address
	Home   string `yaml:"home,omitempty"`   // of a file: the provider at which alone they sign in
	// of a table: which attribute a column is, by its heading
	Columns map[string]string `yaml:"columns,omitempty"`

	Base         string   `yaml:"base,omitempty"`
	Filter       string   `yaml:"filter,omitempty"`
	BindDN       string   `yaml:"bindDN,omitempty"`
	PasswordFrom string   `yaml:"passwordFrom,omitempty"` // file:PATH or env:NAME
	ID           string   `yaml:"id,omitempty"`
	Attributes   []string `yaml:"attributes,omitempty"`
	CA           string   `yaml:"ca,omitempty"` // file, or PEM
	TLSPin       string   `yaml:"tlsPin,omitempty"`
	Page         int      `yaml:"page,omitempty"`
	Most         int      `yaml:"most,omitempty"`
	Timeout      string   `yaml:"timeout,omitempty"` // time span
	Cache        string   `yaml:"cache,omitempty"`   // time span
}

// Party is what providers and apps have alike. Of a foreign one its documents say what it is: each is a file, an https:
// address, or the text itself.
type Party struct {
	Title    string `yaml:"title,omitempty"`
	Own      *Own   `yaml:"own,omitempty"`
	Metadata string `yaml:"metadata,omitempty"` // SAML metadata
	Entity   string `yaml:"entity,omitempty"`   // which of an aggregate
	SignedBy string `yaml:"signedBy,omitempty"` // certificate
	CA       string `yaml:"ca,omitempty"`       // of the servers of these addresses: certificates
	TLSPin   string `yaml:"tlsPin,omitempty"`   // SHA-256 of their own certificate
	SAML     *SAML  `yaml:"saml,omitempty"`     // values by hand, in place of metadata or over it
	// the addresses from which it fetches what others publish
	FetchesFrom []string `yaml:"fetchesFrom,omitempty"`
}

// Own is said of a party whose keys Tressik keeps. Of one that is there only the address is compared.
type Own struct {
	At        string `yaml:"at"`
	Key       string `yaml:"key,omitempty"`       // kind of signing key, when it is made
	Encrypted bool   `yaml:"encrypted,omitempty"` // when it is made: with a key to which others encrypt
}

// SAML are the values of a party that has no metadata, or that were entered over it.
type SAML struct {
	EntityID              string   `yaml:"entityID,omitempty"`
	ACS                   []string `yaml:"acs,omitempty"`
	SSO                   []string `yaml:"sso,omitempty"` // redirect=URL or post=URL
	Logout                []string `yaml:"logout,omitempty"`
	Formats               []string `yaml:"nameIDFormats,omitempty"`
	Wants                 []string `yaml:"wants,omitempty"` // required ones with a ! behind
	Start                 string   `yaml:"start,omitempty"`
	SignedOut             string   `yaml:"signedOut,omitempty"`
	SigningCertificate    string   `yaml:"signingCertificate,omitempty"`    // file, or PEM
	EncryptionCertificate string   `yaml:"encryptionCertificate,omitempty"` // file, or PEM
	SignsRequests         *bool    `yaml:"signsRequests,omitempty"`         // of a provider: it wants them signed
	SignedAssertions      *bool    `yaml:"wantsSignedAssertions,omitempty"`
}

// Provider is an identity provider.
type Provider struct {
	Party          `yaml:",inline"`
	Issuer         string `yaml:"issuer,omitempty"`
	Discovery      string `yaml:"discovery,omitempty"` // discovery document, in place of what the issuer publishes
	JWKS           string `yaml:"jwks,omitempty"`      // its keys, likewise
	Administrators string `yaml:"administrators,omitempty"`
	AgreedBy       int    `yaml:"agreedBy,omitempty"`
}

// App is an application, with the sides that it has.
type App struct {
	Party   `yaml:",inline"`
	Reading `yaml:",inline"`
	Client  *Client `yaml:"client,omitempty"`
	API     *API    `yaml:"api,omitempty"`
}

// Reading is what an app makes of what arrives.
type Reading struct {
	Reads      map[string]string `yaml:"reads,omitempty"` // received name by field of its accounts
	AccountKey string            `yaml:"accountKey,omitempty"`
	RoleField  string            `yaml:"roleField,omitempty"`
	Strangers  string            `yaml:"strangers,omitempty"`
}

// Client is the client side of an app.
type Client struct {
	Kind               string   `yaml:"kind"`
	RedirectURIs       []string `yaml:"redirectURIs,omitempty"`
	AfterSignOut       []string `yaml:"afterSignOut,omitempty"`
	BackChannelLogout  string   `yaml:"backChannelLogout,omitempty"`
	FrontChannelLogout string   `yaml:"frontChannelLogout,omitempty"`
	SignInLink         string   `yaml:"signInLink,omitempty"`
	Contact            string   `yaml:"contact,omitempty"`
	Home               string   `yaml:"home,omitempty"`
	MaxAge             string   `yaml:"maxAge,omitempty"` // time span
	IDTokenAlg         string   `yaml:"idTokenAlg,omitempty"`
}

// API is the api side of an app.
type API struct {
	Audience    string                 `yaml:"audience"`
	Permissions map[string]*Permission `yaml:"permissions,omitempty"`
}

// Permission is what an API publishes.
type Permission struct {
	As       []string `yaml:"as"`
	Says     string   `yaml:"says"`
	Needs    string   `yaml:"needs,omitempty"` // admin
	Includes []string `yaml:"includes,omitempty"`
	// by which members of authorization details it may be narrowed (RFC 9396)
	NarrowRecords string `yaml:"narrowRecords,omitempty"`
	NarrowAmount  string `yaml:"narrowAmount,omitempty"`
	NeedsStrength string `yaml:"needsStrength,omitempty"`
	NeedsFresh    string `yaml:"needsFresh,omitempty"`
}

// Trust is a trust with its terms. Those of the other protocol are refused, as by the commands.
type Trust struct {
	Over      string            `yaml:"over,omitempty"`
	Admits    string            `yaml:"admits,omitempty"`
	Strength  string            `yaml:"strength,omitempty"`
	SpeaksFor []string          `yaml:"speaksFor,omitempty"`
	Owner     string            `yaml:"owner,omitempty"`
	Ends      map[string]string `yaml:"ends,omitempty"` // a date, or unused:SPAN, by what ends at the other side

	Subject *mapping.SubjectDocument `yaml:"subject,omitempty"`
	Claims  []mapping.ClaimDocument  `yaml:"claims,omitempty"`
	Reading `yaml:",inline"`

	Signs        string `yaml:"signs,omitempty"`
	Encrypt      string `yaml:"encrypt,omitempty"` // off, on or required
	SignRequests *bool  `yaml:"signRequests,omitempty"`
	Unsolicited  *bool  `yaml:"unsolicited,omitempty"`
	SHA1         *bool  `yaml:"sha1,omitempty"`
	ForceAuthn   *bool  `yaml:"forceAuthn,omitempty"`
	IsPassive    *bool  `yaml:"isPassive,omitempty"`

	RedirectURIs   []string `yaml:"redirectURIs,omitempty"` // registered at this provider; none: the app's
	ClientID       string   `yaml:"clientID,omitempty"`     // at a foreign provider
	ClientKey      string   `yaml:"clientKey,omitempty"`
	ClientKeysAt   string   `yaml:"clientKeysAt,omitempty"`
	ClientKeysCA   string   `yaml:"clientKeysCA,omitempty"`
	ClientKeysPin  string   `yaml:"clientKeysPin,omitempty"`
	ClientAuth     string   `yaml:"clientAuth,omitempty"`
	ClientCert     string   `yaml:"clientCert,omitempty"`     // with which the client connects
	ClientCertName string   `yaml:"clientCertName,omitempty"` // KIND:NAME in it, of the authority in clientCertCA
	ClientCertCA   string   `yaml:"clientCertCA,omitempty"`
	Asks           *Asks    `yaml:"asks,omitempty"`
	// to what permissions are narrowed that it asks for, by their label
	Narrowed map[string]*Narrowed `yaml:"narrowed,omitempty"`

	SignInFrom     []string `yaml:"signInFrom,omitempty"`
	RefreshFrom    []string `yaml:"refreshFrom,omitempty"`
	Session        string   `yaml:"session,omitempty"`
	AccessToken    string   `yaml:"accessToken,omitempty"`
	IDToken        string   `yaml:"idToken,omitempty"`
	Refresh        string   `yaml:"refresh,omitempty"`
	RefreshIdle    string   `yaml:"refreshIdle,omitempty"`
	SingleSignOut  *bool    `yaml:"singleSignOut,omitempty"`
	OfflineEnds    *bool    `yaml:"offlineEnds,omitempty"`
	Device         *bool    `yaml:"device,omitempty"`
	PushedRequests *bool    `yaml:"pushedRequests,omitempty"`
	RequestObjects *bool    `yaml:"requestObjects,omitempty"`
	BoundTokens    string   `yaml:"boundTokens,omitempty"`
	Profile        string   `yaml:"profile,omitempty"`
	PKCE           *bool    `yaml:"pkce,omitempty"`
	AsItself       *bool    `yaml:"asItself,omitempty"`

	Arrival *Arrival `yaml:"arrival,omitempty"`
	Secret  *Secret  `yaml:"secret,omitempty"`
}

// Asks are the permissions that a client asks for: API:NAME, or a scope of OpenID.
type Asks struct {
	User []string `yaml:"user,omitempty"` // on behalf of a user
	Self []string `yaml:"self,omitempty"` // as itself
}

// Narrowed is to what a permission is narrowed (RFC 9396).
type Narrowed struct {
	Records []string `yaml:"records,omitempty"`
	Most    float64  `yaml:"most,omitempty"`
}

// Arrival is what happens to somebody who comes in at an own provider from upstream.
type Arrival struct {
	Unknown string            `yaml:"unknown,omitempty"`
	Known   string            `yaml:"known,omitempty"`
	Bind    string            `yaml:"bind,omitempty"`
	Groups  []string          `yaml:"groups,omitempty"`
	Takes   map[string]string `yaml:"takes,omitempty"` // claim by attribute
}

// Secret declares that a client has a secret: how long it lasts, and where a new one goes. It is made where none is
// valid.
type Secret struct {
	Lasts string `yaml:"lasts"`          // time span
	Out   string `yaml:"out,omitempty"`  // file, which must not be there yet
	Into  string `yaml:"into,omitempty"` // command that reads it from its standard input
	Note  string `yaml:"note,omitempty"`
}

// Expectation is a kept statement about a trust.
type Expectation struct {
	Trust    string              `yaml:"trust"`
	As       string              `yaml:"as,omitempty"` // a person; none: the client itself
	Refused  bool                `yaml:"refused,omitempty"`
	By       string              `yaml:"by,omitempty"`
	Claims   map[string][]string `yaml:"claims,omitempty"`
	Without  []string            `yaml:"without,omitempty"`
	Account  string              `yaml:"account,omitempty"`
	Subject  string              `yaml:"subject,omitempty"`
	Answered []string            `yaml:"answered,omitempty"`
	Denied   []string            `yaml:"denied,omitempty"`
	AtMost   map[string]string   `yaml:"atMost,omitempty"` // time span by token
	Note     string              `yaml:"note,omitempty"`
}

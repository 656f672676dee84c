package federation

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
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
	Name   string `json:"name"`
	Kind   Kind   `json:"kind"`
	Title  string `json:"title,omitempty"`
	Own    bool   `json:"own"`
	At     string `json:"at,omitempty"`       // own: the address under which its endpoints lie
	Source string `json:"source,omitempty"`   // foreign: where its metadata came from
	Signed string `json:"signedBy,omitempty"` // foreign: SHA-256 of the certificate that signed its metadata
	Signer string `json:"signer,omitempty"`   // that certificate, base64 of DER
	// foreign: the certificate of another one who may sign it as well, base64 of DER: a registry changes its key
	NextSigner string      `json:"nextSigner,omitempty"`
	TLS        Server      `json:"sourceTLS,omitzero"` // how the server of its source is known
	Entity     saml.Entity `json:"saml"`
	OpenID     *OpenID     `json:"openid,omitempty"` // foreign provider: its discovery document and keys
	Client     *Client     `json:"client,omitempty"` // app: its client side
	API        *API        `json:"api,omitempty"`    // app: its api side
	Reads      *Mapping    `json:"reads,omitempty"`  // app: which received name fills which field of its accounts
	// foreign: the addresses from which it fetches what others publish, ADDRESS or NETWORK/BITS
	From   []string `json:"fetchesFrom,omitempty"`
	Admins string   `json:"administrators,omitempty"` // provider: the group whose members may consent for everyone
	// own provider: how many administrators agree before a client gets what lies past its registrar's bounds; 0 is 1
	AgreedBy int `json:"agreedBy,omitempty"`
	// own provider: programs register clients there (RFC 7591)
	Registers bool `json:"registers,omitempty"`
	// own provider: the certificates of keys that sign tokens alone, beside those of its SAML role
	TokenKeys []saml.Key `json:"tokenKeys,omitempty"`
	Added     time.Time  `json:"added"`
	Changed   time.Time  `json:"changed"`
	Version   int64      `json:"-"`
}

// FetchesFrom reports whether an address is one from which the party fetches what others publish.
func (p *Party) FetchesFrom(addr netip.Addr) bool {
	return slices.ContainsFunc(p.From, func(s string) bool {
		n, err := Network(s)
		return err == nil && n.Contains(addr.Unmap())
	})
}

// CheckFrom refuses what is neither an address nor a network. Errors: ErrValue.
func CheckFrom(list []string) error {
	for _, s := range list {
		if _, err := Network(s); err != nil {
			return finding.Errorf("%s %q is %w: write an IP address, or a network such as 192.0.2.0/28",
				finding.FieldFetchesFrom, s, ErrValue)
		}
	}
	return nil
}

// Network reads an IP address, as a network of one, or a network. Errors: those of netip, and one for a network of IPv4
// that is written as one of IPv6, in which no address lies.
func Network(s string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(s); err == nil {
		return netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen()), nil
	}
	n, err := netip.ParsePrefix(s)
	if err == nil && n.Addr().Is4In6() {
		return n, errors.New("a network of IPv4 in the form of IPv6")
	}
	return n.Masked(), err
}

// Needs is how many administrators have to agree before a client gets what lies past its registrar's bounds.
func (p *Party) Needs() int { return max(1, p.AgreedBy) }

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
		role.SLO = ownLogout(at)
		role.NameIDFormats = []string{saml.FormatPersistent, saml.FormatTransient, saml.FormatEmail,
			saml.FormatUnspecified}
		e.IDP = role
	} else {
		role.ACS = []saml.Endpoint{{Binding: saml.BindingPOST, Location: at + "/acs", Index: 1, Default: true}}
		role.Start = at + "/start"
		role.SLO = ownLogout(at)
		role.WantAssertionsSigned = true
		role.RequestsSigned = true
		e.SP = role
	}
	return e
}

func ownLogout(at string) []saml.Endpoint {
	return []saml.Endpoint{{Binding: saml.BindingRedirect, Location: at + "/slo"},
		{Binding: saml.BindingPOST, Location: at + "/slo"}}
}

// HasAddress reports whether an address is an assertion consumer service or a redirect URI of an app, as it is
// registered.
func (p *Party) HasAddress(at string) bool {
	if c := p.ClientSide(); c != nil && slices.Contains(c.Redirects, at) {
		return true
	}
	return p.Entity.SP != nil && slices.ContainsFunc(p.Entity.SP.ACS,
		func(e saml.Endpoint) bool { return e.Location == at })
}

package federation

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
)

// Registrar is a credential for programs at an own provider: within its bounds they may register clients (RFC 7591),
// and see, change and take away those alone that it made. Of its token there is a hash alone, which lies elsewhere.
type Registrar struct {
	Name     string   `json:"name"`
	Provider string   `json:"provider"`
	ID       string   `json:"id"`
	EndsIn   string   `json:"endsIn"` // the token's last characters
	Kinds    []string `json:"kinds"`  // of client
	// Hosts are those under which redirect URIs may lie: HOST, HOST:PORT, *.DOMAIN for one label before it, or SCHEME:
	// for the private scheme of a native app.
	Hosts []string `json:"hosts"`
	// permissions that its clients may ask for, API:NAME; consent is a person's
	May     []string `json:"mayAsk"`
	Secrets int      `json:"secretsLast" unit:"seconds"` // how long the secrets of its clients last, in seconds
	Most    int      `json:"mostClients"`                // how many clients it may have at a time
	JWKS    string   `json:"jwks,omitempty"`             // keys by which software statements are signed; "" takes none
	// Waits has what lies past its hosts and permissions wait for an administrator; otherwise that is refused. Kinds,
	// numbers and times never wait.
	Waits   bool       `json:"waits,omitempty"`
	Note    string     `json:"note,omitempty"` // what it is for
	Expires time.Time  `json:"expires"`
	Added   time.Time  `json:"added"`
	By      string     `json:"by"`
	Retired *time.Time `json:"retired,omitempty"`
	Used    *time.Time `json:"lastUsed,omitempty"`
	Uses    int        `json:"uses"`
	Refused int        `json:"refused"` // uses that went past its bounds
}

// Registration is that a registrar made the client of a trust at an own provider; or that this ledger registered it at
// a foreign one, and then no registrar is named.
type Registration struct {
	Trust     string    `json:"trust"`
	Registrar string    `json:"registrar"`
	ClientID  string    `json:"clientID"`
	EndsIn    string    `json:"endsIn"`             // the registration access token's last characters
	Software  string    `json:"software,omitempty"` // software_id, as it was registered
	Version   string    `json:"softwareVersion,omitempty"`
	Issued    time.Time `json:"issued"`
	Changed   time.Time `json:"changed"`
	// of a client that was registered at a foreign provider: where it is read, replaced and taken away there
	At string `json:"at,omitempty"`
	// Past is what of the client metadata lies past the registrar's bounds, as it was asked for last
	Past []Past `json:"past,omitempty"`
}

// Past is a value that a program asked for past the bounds of its registrar. It is registered when as many
// administrators have agreed as the provider says.
type Past struct {
	Member string    `json:"member"` // of the client metadata (RFC 7591, section 2)
	Value  string    `json:"value"`
	Since  time.Time `json:"since"`
	Agreed []Word    `json:"agreed,omitempty"`
	No     *Word     `json:"refused,omitempty"`
}

// Word is what somebody said, and when.
type Word struct {
	By string    `json:"by"`
	At time.Time `json:"at"`
}

// The standings of what was asked for past a registrar's bounds, beside Waiting.
const (
	PastAgreed  = "agreed"
	PastRefused = "refused"
)

// Agree is the command by which an administrator agrees.
func (p *Past) Agree(trust string) finding.Remedy {
	return finding.Run("registrar", "agree", trust, p.Value)
}

// Standing is waiting, agreed or refused; needs is how many administrators have to agree.
func (p *Past) Standing(needs int) string {
	switch {
	case p.No != nil:
		return PastRefused
	case len(p.Agreed) >= needs:
		return PastAgreed
	}
	return Waiting
}

// Same reports whether two are about the same value.
func (p *Past) Same(o Past) bool { return p.Member == o.Member && p.Value == o.Value }

// Waiting is what of a registration waits for administrators of its provider.
func (r *Registration) Waiting(provider *Party) []Past {
	var out []Past
	for _, x := range r.Past {
		if x.Standing(provider.Needs()) == Waiting {
			out = append(out, x)
		}
	}
	return out
}

// Says is what the client may do when it is agreed to, in words.
func (p *Past) Says() string {
	switch p.Member {
	case "redirect_uris":
		return "people who sign in are sent there, and the app gets their sign-in there"
	case "post_logout_redirect_uris":
		return "people who sign out are sent there"
	case "initiate_login_uri":
		return "sign-in begins there, for whoever comes from the provider"
	case "backchannel_logout_uri", "frontchannel_logout_uri":
		return "it is told there who signed out"
	}
	return "the client may ask for it; to use it, it needs consent as well"
}

// ErrRegistrar means that bounds for a registrar cannot be understood.
var ErrRegistrar = errors.New("not usable for a registrar")

// Standing is valid, expired or retired.
func (r *Registrar) Standing(now time.Time) string {
	switch {
	case r.Retired != nil:
		return "retired"
	case !r.Expires.After(now):
		return "expired"
	}
	return "valid"
}

// Check refuses bounds that bound nothing, or that nobody can read. Errors: ErrRegistrar.
func (r *Registrar) Check() error {
	if len(r.Kinds) == 0 {
		return finding.Errorf("%s is missing: which kinds of client it may register, such as web,machine",
			finding.FieldKinds)
	}
	for _, k := range r.Kinds {
		if !slices.Contains(oidc.Kinds(), oidc.Kind(k)) {
			return finding.Errorf("%s %q is %w: write web, user-agent, native or machine", finding.FieldKinds, k,
				ErrRegistrar)
		}
	}
	for _, h := range r.Hosts {
		if err := checkPattern(h); err != nil {
			return err
		}
	}
	if r.Most < 1 || r.Most > 100_000 {
		return finding.Errorf("%s %d is %w: how many clients it may have at a time, 1 to 100000",
			finding.FieldMost, r.Most, ErrRegistrar)
	}
	return nil
}

// checkPattern refuses what is no host, no *.DOMAIN of at least two labels, and no private scheme.
func checkPattern(h string) error {
	bad := func(why string) error {
		return finding.Errorf("%s %q is %w: %s", finding.FieldHosts, h, ErrRegistrar, why)
	}
	if scheme, ok := strings.CutSuffix(h, ":"); ok {
		if !strings.Contains(scheme, ".") || strings.ContainsAny(scheme, "/*@") {
			return bad("a private scheme is a reversed domain name, such as com.kestrelridge.skyview: (RFC " +
				"8252, section 7.1)")
		}
		return nil
	}
	host, star := strings.CutPrefix(h, "*.")
	u, err := url.Parse("https://" + host)
	switch {
	case err != nil || u.Host != host || u.User != nil || host == "" || strings.ContainsAny(host, "*/?#@ "):
		return bad("write HOST, HOST:PORT, *.DOMAIN or SCHEME:")
	case star && strings.Count(u.Hostname(), ".") < 1:
		return bad("*. stands before a domain of at least two labels")
	}
	return nil
}

// Allows reports whether a redirect URI lies within the bounds. A * stands for one label alone: it matches neither a
// dot nor what stands before an @ or behind a colon.
func (r *Registrar) Allows(uri string) bool {
	u, err := url.Parse(uri)
	if err != nil || u.User != nil || strings.Contains(u.Host, "@") {
		return false
	}
	if u.Host == "" { // the private scheme of a native app
		return slices.Contains(r.Hosts, strings.ToLower(u.Scheme)+":")
	}
	if u.Scheme != "https" && u.Scheme != "http" {
		return false
	}
	host, port := strings.ToLower(u.Hostname()), u.Port()
	loopback := host == "127.0.0.1" || host == "::1" || host == "localhost"
	return slices.ContainsFunc(r.Hosts, func(p string) bool {
		pu, err := url.Parse("https://" + strings.Replace(p, "*.", "x.", 1))
		if err != nil {
			return false
		}
		if want := pu.Port(); want != port && !(want == "" && (loopback || port == "443" && u.Scheme == "https")) {
			return false
		}
		domain, star := strings.CutPrefix(strings.ToLower(p), "*.")
		if !star {
			return strings.ToLower(pu.Hostname()) == host
		}
		if i := strings.LastIndexByte(domain, ':'); i >= 0 {
			domain = domain[:i]
		}
		label, rest, ok := strings.Cut(host, ".")
		return ok && label != "" && rest == domain
	})
}

// Actor is who acts where the registrar's token was shown, for the journal.
func (r *Registrar) Actor() string { return RegistrarPrefix + r.Name }

// RegistrarPrefix begins the name of an actor who was proven by a registrar's token. Nobody else may say to be one.
const RegistrarPrefix = "registrar:"

// RolePrefix begins the name of an actor who was proven by the database that keeps the ledger: it lets a role write
// entries of its own alone. Nobody else may say to be one.
const RolePrefix = "role:"

// ProvenActor reports whether an actor of the journal was proven, and not only said.
func ProvenActor(actor string) bool {
	return strings.HasPrefix(actor, RegistrarPrefix) || strings.HasPrefix(actor, RolePrefix)
}

// ActorName is the name of an actor, by which an administrator is known who is somebody in the ledger.
func ActorName(actor string) string { return strings.TrimPrefix(actor, RolePrefix) }

// Within says why a registration cannot be, as an error of RFC 7591, section 3.2.2; nil is that it can. What may wait
// for an administrator is no reason.
func (r *Registrar) Within(m *oidc.ClientMetadata) *oidc.RegistrationError {
	if !slices.Contains(r.Kinds, string(m.Kind())) {
		return &oidc.RegistrationError{Code: oidc.InvalidClientMetadata, Field: "token_endpoint_auth_method",
			Description: fmt.Sprintf("what is asked for is a %s client; this credential registers %s", m.Kind(),
				strings.Join(r.Kinds, ", "))}
	}
	for _, x := range r.Beyond(m) {
		if !r.Waits || x.Member == "jwks_uri" { // nobody fetches keys from a host that nobody named
			return r.beyond(x)
		}
	}
	return nil
}

// Beyond lists the addresses of a registration that lie under none of the hosts.
func (r *Registrar) Beyond(m *oidc.ClientMetadata) []Past {
	var out []Past
	for member, uris := range m.Addresses() {
		for _, u := range uris {
			if !r.Allows(u) {
				out = append(out, Past{Member: member, Value: u})
			}
		}
	}
	return out
}

// beyond refuses an address that lies under none of the hosts.
func (r *Registrar) beyond(x Past) *oidc.RegistrationError {
	code := oidc.InvalidClientMetadata
	if x.Member == "redirect_uris" {
		code = oidc.InvalidRedirectURI
	}
	return &oidc.RegistrationError{Code: code, Field: x.Member, Description: fmt.Sprintf(
		"%s lies under none of the hosts of this credential: %s", x.Value, strings.Join(r.Hosts, ", "))}
}

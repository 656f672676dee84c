// Package registrar keeps credentials for programs, and does what they may: register clients at an own provider, and
// see, change and take away those alone that they made (RFC 7591, RFC 7592). Programs ask; people consent: nothing here
// agrees to a permission, admits anybody or shows a person.
//
// Whatever is refused because it lies past a registrar's bounds is counted and stands in the journal. What is refused
// leaves nothing else behind.
package registrar

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

// Keeper works on the registrars of a ledger.
type Keeper struct{ *desk.Desk }

// ErrToken means that a token is none, or that what it stood for is over.
var ErrToken = errors.New("the token is not accepted")

// Result is what is told of a registrar.
type Result struct {
	Name     string     `json:"name"`
	Provider string     `json:"provider"`
	ID       string     `json:"id"`
	EndsIn   string     `json:"endsIn"`
	Kinds    []string   `json:"kinds"`
	Hosts    []string   `json:"hosts"`
	May      []string   `json:"mayAsk"`
	Secrets  int        `json:"secretsLast" unit:"seconds"`
	Most     int        `json:"mostClients"`
	JWKS     string     `json:"jwks,omitempty"`
	Waits    bool       `json:"waits,omitempty"`
	Note     string     `json:"note,omitempty"`
	Expires  time.Time  `json:"expires"`
	Added    time.Time  `json:"added"`
	By       string     `json:"by"`
	Retired  *time.Time `json:"retired,omitempty"`
	Used     *time.Time `json:"lastUsed,omitempty"`
	Uses     int        `json:"uses"`
	Refused  int        `json:"refused"`
}

// ResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func ResultOf(r *federation.Registrar) Result {
	out := Result(*r)
	for _, l := range []*[]string{&out.Kinds, &out.Hosts, &out.May} {
		*l = append([]string{}, *l...) // a list that programs read is never null
	}
	return out
}

// Made is a registrar with the token that is shown this once.
type Made struct {
	Result
	Token string `json:"token,omitempty"`
}

// Add makes a registrar. An administrator of its provider does, as with consent for everyone. Errors:
// federation.ErrRegistrar, model.ErrExists, *model.UnknownError.
func (k *Keeper) Add(r federation.Registrar, life time.Duration) (*Made, error) {
	if err := federation.CheckName(r.Name); err != nil {
		return nil, err
	}
	p, err := k.Party(federation.Provider, r.Provider)
	if err != nil {
		return nil, err
	}
	if !p.Own {
		return nil, fmt.Errorf("%s is foreign: it issues the credentials for registering there; ask its owner", p.Name)
	}
	if err := k.MayAdminister(p, "make or retire a registrar there"); err != nil {
		return nil, err
	}
	if err := r.Check(); err != nil {
		return nil, err
	}
	for i, label := range r.May {
		a, err := k.AskAt(p, label)
		if err != nil {
			return nil, err
		}
		if a.API == "" {
			return nil, finding.Errorf("%s %q is %w: write permissions as API:NAME; scopes of OpenID need no leave",
				finding.FieldMayAsk, label, federation.ErrRegistrar)
		}
		r.May[i] = a.Label()
	}
	if r.JWKS != "" {
		if r.JWKS, err = desk.ClientKeys([]byte(r.JWKS)); err != nil {
			return nil, err
		}
	}
	list, err := k.Registrars()
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(list, func(x model.Registrar) bool { return x.Registrar.Name == r.Name }) {
		return nil, fmt.Errorf("the registrar %s is %w; retire it, and choose another name", r.Name, model.ErrExists)
	}
	if life <= 0 || life > 400*24*time.Hour {
		return nil, finding.Errorf("%s %s is %w: a registrar's token lasts at most 400 days", finding.FieldLasts,
			federation.SpanWords(life), federation.ErrRegistrar)
	}
	token, id, err := k.token()
	if err != nil {
		return nil, err
	}
	now := k.Now().UTC().Truncate(time.Second)
	r.ID, r.EndsIn, r.Added, r.By, r.Expires = "r-"+id, token[len(token)-4:], now, k.Actor, now.Add(life)
	return &Made{ResultOf(&r), token}, k.Change(func(tx *model.Edit) error {
		if err := tx.PutRegistrar(&model.Registrar{Registrar: r, Hash: hash(token)}, "registrar.add"); err != nil {
			return err
		}
		return tx.Registers(p)
	})
}

// token makes a token of 256 random bits, and an ID.
func (k *Keeper) token() (token, id string, err error) {
	b := make([]byte, 32+5)
	if _, err := io.ReadFull(k.Rand, b); err != nil {
		return "", "", err
	}
	return base64.RawURLEncoding.EncodeToString(b[:32]), hex.EncodeToString(b[32:]), nil
}

func hash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// equal compares a token with a hash in constant time.
func equal(token, of string) bool {
	return subtle.ConstantTimeCompare([]byte(hash(token)), []byte(of)) == 1
}

// Find returns a registrar. Errors: *model.UnknownError.
func (k *Keeper) Find(name string) (*model.Registrar, error) {
	list, err := k.Registrars()
	if err != nil {
		return nil, err
	}
	var names []string
	for i := range list {
		if list[i].Registrar.Name == name {
			return &list[i], nil
		}
		names = append(names, list[i].Registrar.Name)
	}
	return nil, &model.UnknownError{What: "registrar", Name: name, Near: near.Names(name, names),
		Add: "see `tressik registrar list`"}
}

// Retire ends a registrar: from now on it can do nothing, and neither can the tokens of the clients that it made. The
// clients themselves stay. Errors: *model.UnknownError, model.ErrChanged.
func (k *Keeper) Retire(name string) (*federation.Registrar, error) {
	r, err := k.Find(name)
	if err != nil {
		return nil, err
	}
	p, err := k.Party(federation.Provider, r.Registrar.Provider)
	if err != nil {
		return nil, err
	}
	if err := k.MayAdminister(p, "make or retire a registrar there"); err != nil {
		return nil, err
	}
	if r.Registrar.Retired != nil {
		return nil, fmt.Errorf("the registrar %s is retired already, since %s", name,
			r.Registrar.Retired.Format("2006-01-02 15:04 UTC"))
	}
	now := k.Now().UTC().Truncate(time.Second)
	r.Registrar.Retired = &now
	return &r.Registrar, k.Change(func(tx *model.Edit) error { return tx.PutRegistrar(r, "registrar.retire") })
}

// Of finds the registrar of a token. Errors: ErrToken.
func (k *Keeper) Of(token string) (*model.Registrar, error) {
	list, err := k.Registrars()
	if err != nil {
		return nil, err
	}
	var of *model.Registrar
	for i := range list {
		if equal(token, list[i].Hash) {
			of = &list[i]
		}
	}
	if token == "" || of == nil {
		return nil, ErrToken
	}
	if s := of.Registrar.Standing(k.Now()); s != "valid" {
		return nil, fmt.Errorf("%w: the registrar %s is %s", ErrToken, of.Registrar.Name, s)
	}
	return of, nil
}

// Holder finds the registrar on whose behalf a token changes the client of a trust: its own token, or the registration
// access token of that client. What belongs to another is said to be unknown. Errors: ErrToken.
func (k *Keeper) Holder(trust, token string) (*model.Registrar, *model.Registration, error) {
	reg, err := k.Registration(trust)
	if errors.Is(err, model.ErrNotFound) {
		r, terr := k.Of(token)
		if terr != nil {
			return nil, nil, terr
		}
		return r, nil, ErrToken // somebody else's, or nobody's: both look alike
	}
	if err != nil {
		return nil, nil, err
	}
	if r, err := k.Of(token); err == nil {
		if r.Registrar.Name != reg.Registration.Registrar {
			return r, nil, ErrToken
		}
		return r, reg, nil
	}
	if token == "" || !equal(token, reg.Hash) {
		return nil, nil, ErrToken
	}
	r, err := k.Find(reg.Registration.Registrar)
	if err != nil {
		return nil, nil, ErrToken
	}
	if s := r.Registrar.Standing(k.Now()); s != "valid" {
		return nil, nil, fmt.Errorf("%w: the registrar %s is %s", ErrToken, r.Registrar.Name, s)
	}
	return r, reg, nil
}

// Refuse counts and journals that a registrar was used for what it may not do.
func (k *Keeper) Refuse(r *model.Registrar, what string) error {
	c := *r
	c.Registrar.Refused++
	k.use(&c)
	return k.Change(func(tx *model.Edit) error { return tx.RefusedRegistrar(&c, what) })
}

// use counts that a registrar was used.
func (k *Keeper) use(r *model.Registrar) {
	now := k.Now().UTC().Truncate(time.Second)
	r.Registrar.Used = &now
	r.Registrar.Uses++
}

// TrustOf is the trust of a client by its ID at a provider: an own provider makes the ID of the app's name.
func TrustOf(clientID, provider string) string {
	i := strings.LastIndexByte(clientID, '.')
	return clientID[:max(i, 0)] + "@" + provider
}

// scope says how a permission that is asked for stands on the wire.
func scope(asks []federation.Ask) string {
	var out []string
	for _, a := range asks {
		if !slices.Contains(out, a.Name) {
			out = append(out, a.Name)
		}
	}
	return strings.Join(out, " ")
}

// past is what lies past the bounds of a registrar.
func past(field, format string, args ...any) *oidc.RegistrationError {
	return &oidc.RegistrationError{Code: oidc.InvalidClientMetadata, Field: field,
		Description: fmt.Sprintf(format, args...)}
}

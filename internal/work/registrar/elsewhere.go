package registrar

import (
	"cmp"
	"errors"
	"fmt"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

// Elsewhere is a client that is to be registered at a foreign provider, or is: where, and as what.
type Elsewhere struct {
	Trust    string
	Endpoint string
	TLS      federation.Server
	Meta     *oidc.ClientMetadata
	Token    string // registration access token, of one that is registered
}

// ErrNoEndpoint means that a provider offers no registration.
var ErrNoEndpoint = errors.New("publishes no registration endpoint")

// Prepare says where and as what an app is registered at a foreign provider. Errors: ErrNoEndpoint,
// *model.UnknownError.
func (k *Keeper) Prepare(app, provider string, x desk.Terms) (*Elsewhere, error) {
	p, err := k.Party(federation.Provider, provider)
	if err != nil {
		return nil, err
	}
	if p.Own {
		return nil, fmt.Errorf("%s is own, and issues the client ID itself: leave the registration out", provider)
	}
	doc := p.OpenIDOf()
	if doc == nil || doc.RegistrationEndpoint == "" {
		return nil, finding.Advise(fmt.Errorf("%s %w: its owner registers the client by hand, from what the handoff "+
			"says", provider, ErrNoEndpoint),
			finding.Run("federate", app, "--with", provider, "--over", federation.OverOIDC))
	}
	b := desk.New(k.Try())
	t, _, err := b.Federate(federation.OverOIDC, app, provider, "", x)
	if err != nil {
		return nil, err
	}
	a, err := b.AnyParty(app)
	if err != nil {
		return nil, err
	}
	return &Elsewhere{Trust: t.Name, Endpoint: doc.RegistrationEndpoint, TLS: p.OpenID.TLS,
		Meta: Metadata(t.AppOf(a), t.OIDCTerms())}, nil
}

// Keep keeps what a foreign provider registered: the trust with its client ID, the sealed token by which it is changed,
// and when its secret ends. Errors: those of Federate.
func (k *Keeper) Keep(app, provider string, x desk.Terms, info *oidc.ClientInformation) (*federation.Trust,
	finding.List, error) {
	if info.Expires != nil && *info.Expires > 0 {
		x.Ends = append(x.Ends, "client secret="+time.Unix(*info.Expires, 0).UTC().Format(time.DateOnly))
	}
	t, fs, err := k.Federate(federation.OverOIDC, app, provider, info.ClientID, x)
	if err != nil {
		return nil, nil, err
	}
	return t, fs, k.sealed(t.Name, info, nil)
}

// sealed keeps the token by which a registration elsewhere is changed, sealed. was is what was kept before.
func (k *Keeper) sealed(trust string, info *oidc.ClientInformation, was *model.Registration) error {
	if info.RegistrationURI == "" || info.Token == "" && was == nil {
		return nil // the server lets nobody read or change it again
	}
	now := k.Now().UTC().Truncate(time.Second)
	r := &model.Registration{Registration: federation.Registration{Trust: trust, ClientID: info.ClientID,
		At: info.RegistrationURI, Issued: now, Changed: now}}
	if was != nil {
		r.Registration.Issued, r.Registration.EndsIn, r.Sealed = was.Registration.Issued, was.Registration.EndsIn,
			was.Sealed
	}
	if info.Token != "" {
		var err error
		if r.Sealed, err = k.Vault.Seal([]byte(info.Token)); err != nil {
			return err
		}
		r.Registration.EndsIn = info.Token[max(0, len(info.Token)-4):]
	}
	return k.Change(func(tx *model.Edit) error { return tx.PutRegistration(r, "registration.elsewhere") })
}

// Registered is Elsewhere of a client that has to be registered elsewhere. Errors: *model.UnknownError where it is not
// known to be.
func (k *Keeper) Registered(trust string) (*Elsewhere, error) {
	_, _, p, err := k.OIDCTrust(trust)
	if err != nil {
		return nil, err
	}
	x, err := k.Elsewhere(trust)
	if err != nil || x != nil {
		return x, err
	}
	u := &model.UnknownError{What: "registration elsewhere of the client of", Name: trust,
		Add: "none by the protocol is kept here; the owner of " + p.Name + " knows what is registered there"}
	if p.Own {
		u.Add = p.Name + " is own: what is registered there shows `tressik trust show " + trust + "`"
	}
	return nil, u
}

// Elsewhere is the client of a trust that this ledger registered at a foreign provider, with its token, and as the
// ledger would have it; nil where it did not.
func (k *Keeper) Elsewhere(trust string) (*Elsewhere, error) {
	r, err := k.Registration(trust)
	if errors.Is(err, model.ErrNotFound) || err == nil && r.Registration.At == "" {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	t, app, p, err := k.OIDCTrust(trust)
	if err != nil {
		return nil, err
	}
	token, err := k.Vault.Open(r.Sealed)
	if err != nil {
		return nil, err
	}
	m := Metadata(app, t.OIDCTerms())
	m.ClientID = t.ClientID()
	x := &Elsewhere{Trust: trust, Endpoint: r.Registration.At, Meta: m, Token: string(token)}
	if p.OpenID != nil {
		x.TLS = p.OpenID.TLS
	}
	return x, nil
}

// Took keeps that a registration elsewhere was read or replaced, with the token that it has now.
func (k *Keeper) Took(trust string, info *oidc.ClientInformation) error {
	was, err := k.Registration(trust)
	if err != nil || info.Token == "" {
		return err
	}
	if info.RegistrationURI == "" {
		info.RegistrationURI = was.Registration.At
	}
	return k.sealed(trust, info, was)
}

// Gone forgets a registration elsewhere that was taken away there, if it is still kept.
func (k *Keeper) Gone(trust string) error {
	if _, err := k.Registration(trust); err != nil {
		if errors.Is(err, model.ErrNotFound) {
			return nil
		}
		return err
	}
	return k.Change(func(tx *model.Edit) error { return tx.ForgetRegistration(trust) })
}

// Drift says by member how what is registered elsewhere differs from what the ledger has.
func Drift(x *Elsewhere, info *oidc.ClientInformation) finding.List {
	out := finding.List{}
	for _, c := range oidc.Changes(x.Meta, &info.ClientMetadata) {
		out.Add(finding.Finding{ID: finding.RegistrationChanged, Level: finding.Warning, Check: c.Member, Of: c.Member,
			Saw: cmp.Or(c.Got, "nothing"), Expected: c.Asked, Side: finding.Provider, Ref: "RFC 7591 3.2.1",
			Fix: finding.Run("trust", "registration", x.Trust, "--write")})
	}
	if len(out) == 0 {
		out.Pass(finding.RegistrationChanged, "registration", "as the ledger has it")
	}
	return out
}

// Unread says that a registration elsewhere could not be read back.
func Unread(x *Elsewhere, err error) finding.List {
	return finding.List{{ID: finding.RegistrationUnread, Level: finding.Warning, Check: "registration",
		Saw: err.Error(), Expected: "what is registered", Side: finding.Provider, Ref: "RFC 7592 2.1",
		Fix: finding.Run("trust", "registration", x.Trust)}}
}

package handoff

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
)

// letterKind is how a letter says what it is, and which form it has.
const letterKind = "tressik handoff 1"

// Letter is what one ledger gives another, as one file: all that the other side of a trust must enter, in the forms of
// the standards where there are any. Never a secret.
type Letter struct {
	Kind     string `json:"letter"` // letterKind
	From     string `json:"from"`   // the organisation whose ledger it is
	Trust    string `json:"trust"`  // as that ledger names it
	Over     string `json:"over"`   // the protocol
	For      string `json:"for"`    // app or provider: who is given it
	Party    string `json:"party"`  // which it describes, as that ledger names it
	Title    string `json:"title,omitempty"`
	Contact  string `json:"contact,omitempty"`
	Metadata string `json:"samlMetadata,omitempty"`
	// of a provider: OpenID Connect Discovery, section 3, and its keys
	Discovery json.RawMessage `json:"discovery,omitempty"`
	Keys      json.RawMessage `json:"jwks,omitempty"`
	Client    *LetterClient   `json:"client,omitempty"`
}

// LetterClient is a client as it is registered.
type LetterClient struct {
	ID           string   `json:"client_id,omitempty"` // for the app: what the provider issued
	Kind         string   `json:"kind"`
	Redirects    []string `json:"redirect_uris,omitempty"`
	AfterSignOut []string `json:"post_logout_redirect_uris,omitempty"`
	Scopes       []string `json:"scopes,omitempty"`         // on behalf of a user
	Itself       []string `json:"scopesAsItself,omitempty"` // with client_credentials
}

// ErrLetter means that a file is no handoff of another ledger, or not for what it is read for.
var ErrLetter = errors.New("no handoff that can be read here")

// ReadLetter reads a letter that is for a side: app or provider. Errors: ErrLetter.
func ReadLetter(b []byte, side string) (*Letter, error) {
	l := &Letter{}
	switch err := json.Unmarshal(b, l); {
	case err != nil:
		return nil, fmt.Errorf("%w: it is not the JSON that `tressik handoff` writes into NAME-handoff.json", ErrLetter)
	case l.Kind != letterKind:
		return nil, fmt.Errorf("%w: it says %q of itself, and not %q; give the handoff.json that `tressik "+
			"handoff` wrote",
			ErrLetter, l.Kind, letterKind)
	case side != "" && l.For != side:
		return nil, fmt.Errorf("%w: it is for the %s of %s, and describes the other side; have the one for "+
			"the %s written",
			ErrLetter, l.For, l.Trust, side)
	}
	for _, x := range []struct{ name, value string }{{"from", l.From}, {"trust", l.Trust}, {"party", l.Party}} {
		if x.value == "" {
			return nil, fmt.Errorf("%w: it does not say %q; have it written anew", ErrLetter, x.name)
		}
	}
	if !slices.Contains(federation.Protocols(), l.Over) {
		return nil, fmt.Errorf("%w: it is over %q; known are %s", ErrLetter, l.Over,
			strings.Join(federation.Protocols(), " and "))
	}
	return l, nil
}

// letter writes a handoff as a letter.
func (h *Handoff) letter(v *View, org string) ([]byte, error) {
	p := v.Provider
	if h.For == "provider" {
		p = v.App
	}
	l := Letter{Kind: letterKind, From: org, Trust: h.Trust, Over: v.Trust.Over(), For: h.For, Party: p.Name,
		Title: p.Title, Contact: p.Contact(), Metadata: string(h.Metadata)}
	if err := Of(v.Trust).Letter(v, &l, p); err != nil {
		return nil, err
	}
	b, err := json.MarshalIndent(l, "", "  ")
	return append(b, '\n'), err
}

// Letter adds nothing: the metadata says it all.
func (overSAML) Letter(*View, *Letter, *federation.Party) error { return nil }

// Letter adds the client, and for the app's side the provider's documents.
func (o overOIDC) Letter(v *View, l *Letter, p *federation.Party) error {
	terms, c := o.terms, v.App.ClientSide()
	if c == nil {
		return nil
	}
	l.Client = &LetterClient{ID: terms.ClientID, Kind: string(c.Kind), Redirects: c.Redirects,
		AfterSignOut: c.AfterSignOut}
	for _, a := range terms.Asks {
		if a.As == federation.AsSelf {
			l.Client.Itself = append(l.Client.Itself, a.Name)
		} else {
			l.Client.Scopes = append(l.Client.Scopes, a.Name)
		}
	}
	doc := p.OpenIDOf()
	if l.For != "app" || doc == nil {
		return nil
	}
	var err error
	if l.Discovery, err = json.Marshal(doc); err != nil {
		return err
	}
	if !p.Own && p.OpenID != nil {
		l.Keys = json.RawMessage(p.OpenID.JWKS)
		return nil
	}
	l.Keys, err = oidc.WriteKeys(p.TokenSigners()...)
	return err
}

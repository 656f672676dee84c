package layout

import (
	"fmt"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
)

// overOIDC lays out a trust over OpenID Connect.
type overOIDC struct{ t *federation.Trust }

func (r overOIDC) terms(d *desk.Desk) ([]format.Block, error) {
	_, app, provider, err := d.Trust(r.t.Name)
	if err != nil {
		return nil, err
	}
	s, err := d.Clients(r.t)
	if err != nil {
		return nil, err
	}
	c := app.ClientSide()
	kind := oidc.Web
	if c != nil {
		kind = c.Kind
	}
	return []format.Block{registrationBlock(r.t, c, provider, s.Secrets, d.Now()),
		policyBlock(r.t, kind, provider)}, nil
}

func (r overOIDC) head(app, provider *federation.Party) trustHead {
	who := app.Name
	if app.Kind == federation.Provider {
		who += ", an own provider that is the client here: its people sign in at " + provider.Name + " upstream"
	}
	return trustHead{before: [][2]string{{"over", "OpenID Connect"}, {"app", who}, {"provider", provider.Name + "  " +
		issuerOf(provider)}}}
}

func (r overOIDC) more(d *desk.Desk, data *TrustData) ([]format.Block, error) {
	v, err := d.ConsentShow(r.t.Name)
	if err != nil {
		return nil, err
	}
	data.Consent = v
	secrets, err := d.Secrets(r.t.Name)
	if err != nil {
		return nil, err
	}
	data.Secrets = desk.Results(secrets, desk.SecretResultOf)
	b := Matrix(v)
	b.Title = "Permissions and consent"
	if len(r.t.Rules)+len(r.t.Unruled()) > 0 {
		return []format.Block{b, r.rules()}, nil
	}
	return []format.Block{b}, nil
}

func (r overOIDC) rules() format.Block {
	b := format.Block{Title: "Claims", Head: []string{"Claim", "From"}, Noun: "claim",
		Empty: fmt.Sprintf("None: no scope that it asks for brings one. Set one with `tressik claims set %s "+
			"role=EXPRESSION`.",
			r.t.Name)}
	for _, x := range r.t.Rules {
		b.Rows = append(b.Rows, []string{x.Claim, ruleWords(x)})
	}
	for _, x := range r.t.Unruled() {
		words := "person." + strings.Join(x.From, ", else person.")
		if x.Claim == "email_verified" {
			words += ", else true: the directory vouches for its addresses"
		}
		b.Rows = append(b.Rows, []string{x.Claim, words + " (of the scope " + x.Scope + ", without a rule)"})
	}
	return b
}

package desk

import (
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
)

// ClientInput is what is said of the client side of an app. Empty values leave things as they are.
type ClientInput struct {
	Kind                      string
	Redirects, AfterSignOut   []string // a whole list each; a single "none" empties it
	AddRedirects              []string
	DropRedirects             []string
	Contact, Home             string
	MaxAge                    string // time span, or none
	IDTokenAlg                string // or none
	BackChannel, FrontChannel string // logout URIs; "none" takes them away
	Start                     string // link that starts sign-in at it, or none
}

// OpenIDInput is what was read of a foreign provider's OpenID side.
type OpenIDInput struct {
	Issuer    string
	Discovery []byte
	JWKS      []byte
	Source    string
	TLS       federation.Server
}

// sides puts the client, api and OpenID sides of an input into a party and judges them. It refuses what does not fit.
func (d *Desk) sides(p *federation.Party, in PartyInput) (finding.List, error) {
	var found finding.List
	if in.Client != nil {
		was := p.Client
		if err := d.clientSide(p, *in.Client); err != nil {
			return nil, err
		}
		fs := p.Client.Judge()
		if fs.Failed() {
			return nil, refusal(federation.ErrFit, p.Name+" as a "+string(p.Client.Kind)+" client", fs)
		}
		found = append(found, fs...)
		if was == nil || was.Kind != p.Client.Kind { // of one kind it fits already
			if err := d.fitsTrusts(p); err != nil {
				return nil, err
			}
		}
	}
	if in.API != "" {
		if err := federation.CheckAudience(in.API); err != nil {
			return nil, err
		}
		a := federation.API{Audience: in.API, Permissions: []federation.Permission{}}
		if p.API != nil {
			a.Permissions = p.API.Permissions
		}
		p.API = &a
		found.Pass(finding.APIAudience, "audience", in.API)
	}
	if in.OpenID != nil {
		if p.Own {
			return nil, fmt.Errorf("%s is Tressik's own: its discovery document is written here, not read", p.Name)
		}
		doc, err := oidc.ReadDiscovery(in.OpenID.Discovery)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", in.OpenID.Source, err)
		}
		fs := oidc.JudgeDiscovery(doc, in.OpenID.Issuer)
		if slices.Contains(fs.IDs(finding.Error), "discovery.issuer") {
			return nil, refusal(oidc.ErrDiscovery, in.OpenID.Source, fs)
		}
		_, ks, err := oidc.ReadKeys(in.OpenID.JWKS, finding.Provider)
		if err != nil {
			return nil, fmt.Errorf("keys of %s: %w", doc.Issuer, err)
		}
		p.OpenID = &federation.OpenID{Discovery: *doc, JWKS: string(in.OpenID.JWKS), Source: in.OpenID.Source,
			TLS: in.OpenID.TLS}
		found = append(append(found, fs...), ks...)
	}
	if in.Admins != "" {
		g, ok := strings.CutPrefix(in.Admins, "group:")
		if in.Admins != "none" && (!ok || g == "" || strings.Contains(g, ",")) {
			return nil, finding.Errorf("%s %q is %w; write group:NAME, or none", finding.FieldAdministrators, in.Admins,
				ErrValue)
		}
		if p.Admins = in.Admins; p.Admins == "none" {
			p.Admins = ""
		}
	}
	if len(in.From) > 0 {
		if p.Own {
			return nil, finding.Errorf("%s is about foreign parties: %s is Tressik's own, and reads the ledger",
				finding.FieldFetchesFrom, p.Name)
		}
		if p.From = in.From; slices.Equal(in.From, []string{"none"}) {
			p.From = nil
		}
		if err := federation.CheckFrom(p.From); err != nil {
			return nil, err
		}
	}
	switch {
	case in.AgreedBy == 0:
	case in.AgreedBy < 1 || in.AgreedBy > 2:
		return nil, finding.Errorf("%s %d is %w; write 1 or 2", finding.FieldAgreedBy, in.AgreedBy, ErrValue)
	case !p.Own:
		return nil, finding.Errorf("%s is about own providers: %s is foreign, and its owner decides",
			finding.FieldAgreedBy, p.Name)
	default:
		if p.AgreedBy = in.AgreedBy; p.AgreedBy == 1 { // as where nobody said anything
			p.AgreedBy = 0
		}
	}
	if in.Admins != "" || in.AgreedBy > 1 {
		crowd, err := d.View.Crowd()
		if err != nil {
			return nil, err
		}
		found = append(found, p.JudgeAdmins(crowd)...)
	}
	return found, nil
}

// refusal turns the errors among findings into an error that names each.
func refusal(is error, what string, fs finding.List) error {
	var b strings.Builder
	for _, f := range fs {
		if f.Level == finding.Error {
			fmt.Fprintf(&b, "\n  %s: %s; expected %s", f.Check, f.Saw, f.Expected)
			if f.Fix.Do != "" {
				b.WriteString("; " + f.Fix.Do)
			}
		}
	}
	if !strings.HasPrefix(is.Error(), "this ") {
		what += ": this"
	} else {
		what += ":"
	}
	return fmt.Errorf("%s %w:%s", what, is, b.String())
}

func (d *Desk) clientSide(p *federation.Party, in ClientInput) error {
	c := federation.NewClient("")
	if p.Client != nil {
		cp := *p.Client
		c = &cp
	}
	if in.Kind != "" {
		c.Kind = oidc.Kind(in.Kind)
	}
	if !slices.Contains(oidc.Kinds(), c.Kind) {
		if in.Kind == "" {
			return finding.Errorf("%s has no client side yet: give its kind with %s web, user-agent, native or machine",
				p.Name, finding.FieldClient)
		}
		return finding.Errorf("%s %q is %w; write web, user-agent, native or machine", finding.FieldClient, in.Kind,
			federation.ErrKind)
	}
	whole(&c.Redirects, in.Redirects)
	whole(&c.AfterSignOut, in.AfterSignOut)
	for _, l := range []struct {
		field finding.Field
		v     string
		to    *string
	}{{finding.FieldBackChannelLogout, in.BackChannel, &c.BackChannelLogout},
		{finding.FieldFrontChannelLogout, in.FrontChannel, &c.FrontChannelLogout},
		{finding.FieldSignInLink, in.Start, &c.Start}} {
		switch {
		case l.v == "none":
			*l.to = ""
		case l.v != "":
			if err := model.CheckURL(l.field, l.v); err != nil {
				return err
			}
			if !c.Kind.Redirects() {
				return finding.Errorf("%s %w a %s client: nobody signs in there", l.field, federation.ErrFit, c.Kind)
			}
			*l.to = l.v
		}
	}
	c.Redirects = model.Unique(append(slices.Clone(c.Redirects), in.AddRedirects...))
	for _, r := range in.DropRedirects {
		i := slices.Index(c.Redirects, r)
		if i < 0 {
			return &UnknownError{What: "redirect URI of " + p.Name, Name: r, Near: near.Names(r, c.Redirects),
				Add: "see `tressik app show " + p.Name + "`"}
		}
		c.Redirects = slices.Delete(c.Redirects, i, i+1)
	}
	if c.Redirects == nil {
		c.Redirects = []string{}
	}
	if err := signInTerms(c, in); err != nil {
		return err
	}
	switch {
	case in.Home == "none":
		c.Home = ""
	case in.Home != "":
		if err := model.CheckURL(finding.FieldHomePage, in.Home); err != nil {
			return err
		}
		c.Home = in.Home
	}
	switch {
	case in.Contact == "none":
		c.Contact = ""
	case in.Contact != "":
		if err := model.CheckLine(finding.FieldContact, in.Contact); err != nil {
			return err
		}
		c.Contact = in.Contact
	}
	p.Client = c
	return nil
}

// signInTerms enters what a client asks of each sign-in: the algorithm of its ID token and the age of the session.
func signInTerms(c *federation.Client, in ClientInput) error {
	switch {
	case in.IDTokenAlg == "none":
		c.IDTokenAlg = ""
	case in.IDTokenAlg != "":
		if !slices.Contains(oidc.Algorithms(), in.IDTokenAlg) {
			return finding.Errorf("%s %q is %w; write one of %s, or none to take it away", finding.FieldIDTokenAlg,
				in.IDTokenAlg, ErrValue, strings.Join(oidc.Algorithms(), ", "))
		}
		if !c.Kind.Redirects() {
			return finding.Errorf("%s %w a %s client: nobody signs in there", finding.FieldIDTokenAlg,
				federation.ErrFit, c.Kind)
		}
		c.IDTokenAlg = in.IDTokenAlg
	}
	switch {
	case in.MaxAge == "none":
		c.MaxAge = 0
	case in.MaxAge != "":
		d, err := ParseSpan(in.MaxAge)
		if err != nil {
			return finding.Errorf("%s: %w", finding.FieldMaxAge, err)
		}
		if !c.Kind.Redirects() {
			return finding.Errorf("%s %w a %s client: nobody signs in there", finding.FieldMaxAge,
				federation.ErrFit, c.Kind)
		}
		if d%time.Second != 0 {
			return finding.Errorf("%s %s is %w: it is counted in whole seconds", finding.FieldMaxAge, in.MaxAge,
				ErrValue)
		}
		c.MaxAge = int(d / time.Second)
	}
	return nil
}

// fitsTrusts names what of an app's trusts no longer fits the kind of its client.
func (d *Desk) fitsTrusts(p *federation.Party) error {
	all, err := d.TrustsOf(p.Name)
	if err != nil {
		return err
	}
	var wrong []string
	for _, t := range all {
		if t.App != p.Name || t.Standing == federation.Ended {
			continue
		}
		for _, a := range t.Asks() {
			if err := fitsKind(&t, p.Client.Kind, a.As); err != nil {
				wrong = append(wrong, fmt.Sprintf("%s asks for %s as %s: `tressik permission drop %s %s --acting %s`",
					t.Name,
					a.Label(), a.As, t.Name, a.Label(), a.As))
			}
		}
		if !p.Client.Kind.Public() {
			continue
		}
		if t.ClientKeys() != "" {
			wrong = append(wrong, fmt.Sprintf("%s has a client key: `tressik trust change %s --client-key none`",
				t.Name,
				t.Name))
		}
		secrets, err := d.View.Secrets(t.Name)
		if err != nil {
			return err
		}
		for _, s := range secrets {
			if s.Standing(d.Now()) == "valid" {
				wrong = append(wrong, fmt.Sprintf("%s has the secret %s: `tressik secret retire %s %s`", t.Name, s.ID,
					t.Name,
					s.ID))
			}
		}
	}
	if len(wrong) > 0 {
		return fmt.Errorf("%s as a %s client: this %w:\n  %s", p.Name, p.Client.Kind, federation.ErrFit,
			strings.Join(wrong, "\n  "))
	}
	return nil
}

func fitsKind(t *federation.Trust, k oidc.Kind, as string) error {
	switch {
	case as != federation.AsUser && as != federation.AsSelf:
		return finding.Errorf("%s %q is %w; write user (on behalf of a user) or self (as itself)", finding.FieldActing,
			as,
			ErrValue)
	case k == oidc.Machine && as == federation.AsUser:
		return finding.Errorf("%s user %w a machine client: it acts as itself and has no users; write %s self",
			finding.FieldActing, federation.ErrFit, finding.FieldActing)
	case k == oidc.Web && as == federation.AsSelf && !t.OIDCTerms().ActsAsItself(&federation.Client{Kind: k}):
		return finding.Advise(finding.Errorf("%s self %w a web client whose trust does not let it act as itself: it "+
			"could never use the permission", finding.FieldActing, federation.ErrFit),
			finding.Run("trust", "change", t.Name, "--as-itself", "on"))
	case k.Public() && as == federation.AsSelf:
		return finding.Errorf("%s self %w a %s client: it keeps no secret to show that it is itself; write %s user",
			finding.FieldActing, federation.ErrFit, k, finding.FieldActing)
	}
	return nil
}

// freshOIDC is the trust between an app and a provider over OpenID Connect as a new one begins. Errors: *UnknownError.
func (d *Desk) freshOIDC(appName, providerName, clientID string) (*federation.Trust, error) {
	app, err := d.AnyParty(appName)
	if err != nil {
		return nil, err
	}
	provider, err := d.Party(federation.Provider, providerName)
	if err != nil {
		return nil, err
	}
	return d.oidcBetween(app, provider, clientID)
}

// oidcBetween is freshOIDC of parties that were read.
func (d *Desk) oidcBetween(app, provider *federation.Party, clientID string) (*federation.Trust, error) {
	if err := checkClientID(clientID); err != nil {
		return nil, err
	}
	c := app.ClientSide()
	switch {
	case app.Name == provider.Name:
		return nil, errors.New("a provider cannot be upstream of itself")
	case app.Kind == federation.Provider && (!app.Own || provider.Own):
		return nil,
			fmt.Errorf("%s and %s: of two providers, the one in front must be own and the one upstream of it foreign",
				app.Name,
				provider.Name)
	case c == nil:
		return nil,
			fmt.Errorf("%s has no client side; give it one with `tressik app change %s --client web --redirect URI`",
				app.Name,
				app.Name)
	case provider.OpenIDOf() == nil:
		return nil,
			fmt.Errorf("%s has no OpenID side in the ledger; read it with `tressik provider change %s --issuer URL`",
				provider.Name, provider.Name)
	case provider.Own && clientID != "":
		return nil, finding.Errorf("%s is %w: %s is own, and issues the client ID itself", finding.FieldClientID,
			ErrValue, provider.Name)
	}
	if provider.Own {
		b := make([]byte, 8)
		if _, err := io.ReadFull(d.Rand, b); err != nil {
			return nil, err
		}
		clientID = app.Name + "." + hex.EncodeToString(b)
	}
	t := federation.NewTrust(app, provider, saml.FormatPersistent,
		&federation.OIDCTerms{ClientID: clientID, Asks: []federation.Ask{},
			Policy: federation.DefaultPolicy()}, d.Now())
	if c.Kind.Redirects() {
		for _, s := range []string{"openid", "profile", "email"} {
			t.OIDCTerms().Asks = append(t.OIDCTerms().Asks, federation.Ask{Name: s, As: federation.AsUser,
				At: d.Now().UTC()})
		}
	}
	return t, nil
}

// federateOIDC registers an app at a provider over OpenID Connect. An own provider issues the client ID; at a foreign
// one it is what the other side issued. The app may be an own provider, which then stands before the other one.
func (d *Desk) federateOIDC(appName, providerName, clientID string, x Terms) (*federation.Trust, finding.List, error) {
	t, err := d.freshOIDC(appName, providerName, clientID)
	if err != nil {
		return nil, nil, err
	}
	if err := d.apply(t, x); err != nil {
		return nil, nil, err
	}
	if err := d.makeTrust(t); err != nil {
		return nil, nil, err
	}
	return d.comparedNew(t)
}

// makeTrust keeps a new trust, with a random key for its pseudonyms.
func (d *Desk) makeTrust(t *federation.Trust) error {
	key := federation.SubjectKey{Salt: make([]byte, 32)}
	if _, err := io.ReadFull(d.Rand, key.Salt); err != nil {
		return err
	}
	return d.Change(func(tx *model.Edit) error { return tx.AddTrust(t, key) })
}

// ClientKeys reads public keys of a client: a certificate or public key in PEM, a JSON Web Key, or a JWKS; and returns
// them as a JWKS. Private keys are refused.
func ClientKeys(raw []byte) (string, error) {
	text := strings.TrimSpace(string(raw))
	if strings.HasPrefix(text, "{") {
		var probe map[string]json.RawMessage
		if json.Unmarshal([]byte(text), &probe) == nil && probe["keys"] == nil {
			text = `{"keys":[` + text + `]}`
		}
		list, found, err := oidc.ReadKeys([]byte(text), finding.App)
		if err != nil {
			return "", err
		}
		if found.Failed() {
			return "", refusal(oidc.ErrKeys, "the client's keys", found)
		}
		set := jose.JSONWebKeySet{}
		for _, k := range list {
			set.Keys = append(set.Keys, jose.JSONWebKey{Key: k.Public, KeyID: k.ID, Algorithm: k.Alg, Use: "sig"})
		}
		b, err := json.Marshal(set)
		return string(b), err
	}
	var pub any
	if b, _ := pem.Decode(raw); b != nil && b.Type == "PUBLIC KEY" {
		k, err := x509.ParsePKIXPublicKey(b.Bytes)
		if err != nil {
			return "", fmt.Errorf("the public key cannot be read: %w", err)
		}
		pub = k
	} else {
		c, err := keys.ParseCertificate(raw)
		if err != nil {
			return "", fmt.Errorf("%w; give the client's public key: PEM, a certificate, a JSON Web Key or a JWKS", err)
		}
		pub = c.PublicKey
	}
	if oidc.Algorithm(pub) == "" {
		return "", fmt.Errorf("a key of kind %s is %w for a client", keys.Describe(pub), ErrValue)
	}
	b, err := oidc.WriteKeys(pub)
	if err != nil {
		return "", err
	}
	if _, found, err := oidc.ReadKeys(b, finding.App); err != nil || found.Failed() {
		return "", refusal(oidc.ErrKeys, "the client's key", found)
	}
	return string(b), nil
}

// whole enters a list in place of another: a single none empties it, and without any it stays.
func whole(to *[]string, from []string) {
	switch {
	case len(from) == 1 && from[0] == "none":
		*to = []string{}
	case len(from) > 0:
		*to = model.Unique(from)
	}
}

// fitsClient refuses what a trust would let its client do and the kind of the client cannot.
func fitsClient(t *federation.Trust, app *federation.Party, x PolicyTerms) error {
	c := app.ClientSide()
	if c == nil {
		return fmt.Errorf("%s has no client side any more", app.Name)
	}
	var list []string
	if whole(&list, x.Redirects); len(list) > 0 {
		if app.Kind == federation.Provider {
			return finding.Errorf("%s %w a provider: people come back to it at %s", finding.FieldRedirect,
				federation.ErrFit, strings.Join(c.Redirects, " "))
		}
		if !c.Kind.Redirects() {
			return finding.Errorf("%s %w a %s client: nobody signs in there", finding.FieldRedirect,
				federation.ErrFit, c.Kind)
		}
		for i, u := range list {
			if fs := oidc.JudgeRedirect(c.Kind, u, "redirect URI", list[:i]); fs.Failed() {
				return refusal(federation.ErrFit, t.Name+" with another redirect URI", fs)
			}
		}
	}
	switch {
	case x.PKCE != nil && !*x.PKCE && c.Kind != oidc.Web:
		return finding.Errorf("%s off %w a %s client: only a web client with a secret has something else to "+
			"protect its codes", finding.FieldPKCE, federation.ErrFit, c.Kind)
	case x.AsItself != nil && *x.AsItself && c.Kind != oidc.Web:
		return finding.Errorf("%s on %w a %s client: a machine client does so anyway, and others keep no secret",
			finding.FieldAsItself, federation.ErrFit, c.Kind)
	case (x.Device != nil && *x.Device || x.Pushed != nil && *x.Pushed) && !c.Kind.Redirects():
		return finding.Errorf("%s and %s %w a %s client: nobody signs in there", finding.FieldDevice,
			finding.FieldPushedRequests, federation.ErrFit, c.Kind)
	case x.Auth != "" && x.Auth != "any" && c.Kind.Public():
		return finding.Errorf("%s %w a %s client: it has nothing to authenticate with", finding.FieldClientAuth,
			federation.ErrFit, c.Kind)
	case x.Objects != nil && *x.Objects && !c.Kind.Redirects():
		return finding.Errorf("%s %w a %s client: it sends no authorization requests", finding.FieldRequestObjects,
			federation.ErrFit, c.Kind)
	case x.Objects != nil && *x.Objects && t.ClientKeys() == "":
		return finding.Advise(finding.Errorf("%s on: %s has no client key yet with which they could be verified",
			finding.FieldRequestObjects, t.Name), finding.Run("trust", "change", t.Name, "--client-key", "FILE"))
	case x.Profile == federation.ProfileFAPI2 && c.Kind.Public():
		return finding.Errorf("%s fapi-2 %w a %s client: it keeps no key to prove itself with", finding.FieldProfile,
			federation.ErrFit, c.Kind)
	case x.Bound == federation.BoundMTLS && c.Kind == oidc.UserAgent:
		return finding.Errorf("%s mtls %w a %s client: a page in a browser connects without a certificate of its own",
			finding.FieldBoundTokens, federation.ErrFit, c.Kind)
	case x.Auth == "certificate" && t.OIDCTerms().ByCertificate() == "":
		return finding.Advise(finding.Errorf("%s certificate: %s has no certificate of the client yet",
			finding.FieldClientAuth, t.Name), finding.Run("trust", "change", t.Name, "--client-cert", "FILE"))
	case x.Auth == "key" && t.ClientKeys() == "":
		return finding.Advise(finding.Errorf("%s key: %s has no client key yet", finding.FieldClientAuth, t.Name),
			finding.Run("trust", "change", t.Name, "--client-key", "FILE"))
	}
	return nil
}

package federation

import (
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// TestStandings walks a trust from its making to its end, and asserts the standing after each step.
func TestStandings(t *testing.T) {
	app, provider := parties()
	app.Own = false
	tr := NewTrust(app, provider, saml.FormatPersistent, &SAMLTerms{Signs: "assertion"}, now)
	is := func(step string, want Standing) {
		t.Helper()
		if tr.Standing != want {
			t.Fatalf("%s: %s, want %s", step, tr.Standing, want)
		}
	}
	is("made, the provider is Tressik's own", Drafted)
	tr.Prepare(now, "app", provider)
	is("written for the app", Drafted)
	if tr.Has("app") || !tr.Has("provider") {
		t.Error("what was written is not delivered")
	}
	tr.HandOver(now, "app", "ops@nightlog.example", provider)
	is("delivered", Exchanged)
	if _, still := tr.Prepared["app"]; still || tr.HandedTo["app"] != "ops@nightlog.example" {
		t.Errorf("%+v", tr)
	}
	tr.Rehearse(&Rehearsal{Verdict: judge.Accepted, Suppose: []string{"clock=+1h"}})
	is("rehearsed with something supposed", Exchanged)
	tr.Rehearse(&Rehearsal{Verdict: judge.Refused})
	is("refused", Exchanged)
	tr.Rehearse(&Rehearsal{Verdict: judge.Accepted})
	is("rehearsed", Rehearsed)
	if err := tr.Change(now, app, provider,
		func(t *Trust) error { t.Owner = "owner@ridge.example"; return nil }); err != nil {
		t.Fatal(err)
	}
	is("another owner is nothing that a rehearsal sees", Rehearsed)
	if err := tr.Change(now, app, provider,
		func(t *Trust) error { t.SAMLTerms().ForceAuthn = true; return nil }); err != nil {
		t.Fatal(err)
	}
	is("other terms", Exchanged)
	tr.Rehearse(&Rehearsal{Verdict: judge.Accepted})
	other := func(p *Party, change func(*Party)) *Party {
		c := *p
		role := *p.Role()
		if c.Kind == Provider {
			c.Entity.IDP = &role
		} else {
			c.Entity.SP = &role
		}
		change(&c)
		return &c
	}
	second := other(provider, func(p *Party) {
		p.Entity.IDP.Keys = append([]saml.Key{{Use: "signing", Certificate: another()}}, p.Entity.IDP.Keys...)
	})
	tr.KeysChanged(now, provider, second, app, func(t *Trust) { t.Outdate("app") })
	is("other keys, which the app has to be given", Drafted)
	tr.HandOver(now, "app", "", provider)
	moved := other(app, func(p *Party) {
		p.Entity.SP.ACS = []saml.Endpoint{{Binding: saml.BindingPOST,
			Location: "https://x"}}
	})
	tr.PartyChanged(now, app, moved, provider)
	is("the app changed, and the provider is Tressik's own", Exchanged)
	contact := other(app, func(p *Party) {
		p.Entity.Contacts = []saml.Contact{{Email: []string{"ops@nightlog.example"}}}
	})
	if tr.PartyChanged(now, app, contact, provider) {
		t.Error("another contact is nothing that a sign-in rests on")
	}
	tr.PartyChanged(now, second, provider, app)
	is("the provider changed, and the app is foreign", Drafted)
	tr.Plan = &Cutover{}
	tr.GoLive(now)
	is("live", Live)
	tr.PartyChanged(now, provider, second, app)
	is("live whatever changes", Live)
	tr.End()
	is("ended", Ended)
	fail := errors.New("no")
	if err := tr.Change(now, app, provider, func(*Trust) error { return fail }); !errors.Is(err, fail) {
		t.Error(err)
	}
}

func TestCloneSharesNothing(t *testing.T) {
	tr, app, provider := dome()
	tr.Gave("app", []string{"k1"})
	c := tr.Clone()
	c.OIDCTerms().Asks = append(c.OIDCTerms().Asks, ask("openid", AsUser))
	c.OIDCTerms().Policy.SignInFrom = append(c.OIDCTerms().Policy.SignInFrom, "192.0.2.0/24")
	c.Gave("app", []string{"k2"})
	c.Outdate("provider")
	if len(tr.Asks()) > 0 || len(tr.OIDCTerms().Policy.SignInFrom) > 0 || len(tr.KeysSeen["app"]) != 1 ||
		!tr.Has("provider") {
		t.Errorf("%+v", tr)
	}
	if app.Name+"@"+provider.Name != tr.Name {
		t.Errorf("name %s", tr.Name)
	}
}

// TestTermsAreKeptByProtocol writes the terms of each protocol and reads them back, and reads what is none.
func TestTermsAreKeptByProtocol(t *testing.T) {
	for _, terms := range []Terms{&SAMLTerms{Signs: "both"}, &OIDCTerms{ClientID: "c"}} {
		b, err := json.Marshal(Held{terms})
		if err != nil {
			t.Fatal(err)
		}
		var back Held
		if err := json.Unmarshal(b, &back); err != nil || back.Protocol() != terms.Protocol() {
			t.Errorf("%s: %v", b, err)
		}
	}
	if _, err := json.Marshal(Held{}); err == nil {
		t.Error("a trust without terms was written")
	}
	for _, s := range []string{`{}`, `{"saml":{},"oidc":{}}`, `{"other":{}}`, `[]`, `{"saml":[]}`} {
		var h Held
		if err := json.Unmarshal([]byte(s), &h); err == nil {
			t.Errorf("%s was read", s)
		}
	}
	if !slices.Contains(Protocols(), OverSAML) || !slices.Contains(Protocols(),
		OverOIDC) || ProtocolTitle(OverOIDC) != "OpenID Connect" ||
		ProtocolTitle("other") != "other" {
		t.Errorf("%v", Protocols())
	}
}

// TestTermsSayWhatTheyNeed asks the terms of both protocols what differs between them.
func TestTermsSayWhatTheyNeed(t *testing.T) {
	overSAML, overOIDC := trust(), func() *Trust { t, _, _ := dome(); return t }()
	for _, c := range []struct {
		use, side  string
		saml, oidc bool
	}{{ForSigning, "app", true, true}, {ForSigning, "provider", true, false}, {ForEncryption, "provider", true, false},
		{ForEncryption, "app", true, false}, {ForTokens, "app", false, true}} {
		if overSAML.Terms.Concerns(c.use, c.side) != c.saml || overOIDC.Terms.Concerns(c.use, c.side) != c.oidc {
			t.Errorf("keys for %s and the %s", c.use, c.side)
		}
	}
	if overSAML.Terms.Rereads() != "" || overOIDC.Terms.Rereads() == "" || overSAML.Terms.Life() != 10*time.Minute ||
		overOIDC.Terms.Life() != 15*time.Minute {
		t.Error("how keys are learned, and how long what is signed lives")
	}
	overOIDC.OIDCTerms().ClientID = ""
	err := overOIDC.Registered()
	if !errors.Is(err, ErrNoClientID) || overSAML.Registered() != nil || overOIDC.ClientID() != "" ||
		overSAML.ClientID() != "" || overSAML.ClientKeys() != "" || overSAML.Asks() != nil {
		t.Errorf("a client without an ID: %v", err)
	}
	overOIDC.OIDCTerms().ClientID, overOIDC.OIDCTerms().JWKS = "c", "{}"
	if overOIDC.Registered() != nil || overOIDC.ClientID() != "c" || overOIDC.ClientKeys() != "{}" {
		t.Error("a client with an ID and a key")
	}
	app, _ := parties()
	machine := &Party{Name: "m", Kind: App, Client: NewClient(oidc.Machine)}
	if overSAML.Terms.Machine(machine) || !overOIDC.Terms.Machine(machine) || overOIDC.Terms.Machine(app) {
		t.Error("who signs in over a trust")
	}
	for strength, want := range map[string][]string{"": nil, "any": nil, "mfa": {judge.ContextMFA},
		"urn:x": {"urn:x"}} {
		if overSAML.Strength = strength; !slices.Equal(overSAML.Contexts(), want) {
			t.Errorf("%s: %v", strength, overSAML.Contexts())
		}
	}
	for format, want := range map[string]string{saml.FormatEmail: "first(person.mail)",
		saml.FormatUnspecified: "person.uid",
		saml.FormatTransient:   "a new random value at each sign-in",
		saml.FormatPersistent: "a pseudonym of the person for this " +
			"app alone"} {
		if overSAML.SubjectFormat = format; overSAML.SubjectWords() != want {
			t.Errorf("%s: %s", format, overSAML.SubjectWords())
		}
	}
}

// ring makes keys of each use and place.
func ring(t *testing.T) []OwnKey {
	t.Helper()
	cert, err := (saml.Key{Certificate: certificate()}).X509()
	if err != nil {
		t.Fatal(err)
	}
	var out []OwnKey
	for _, use := range []string{ForTokens, ForEncryption, ForSigning} {
		for _, place := range []string{Outgoing, Announced, Active, Unpublished} {
			out = append(out, OwnKey{ID: KeyID(cert.PublicKey), Use: use, Place: place, Certificate: cert})
		}
	}
	return out
}

func TestKeyringIsPublished(t *testing.T) {
	app, provider := parties()
	for _, p := range []*Party{app, provider} {
		before := p.Role()
		p.Publish(ring(t))
		if p.Role() == before || len(p.TokenKeys) != 3 || len(p.Role().Keys) != 4 {
			t.Fatalf("%s publishes %d keys, and %d for tokens", p.Name, len(p.Role().Keys), len(p.TokenKeys))
		}
		if last := p.Role().Keys[3]; last.Use != ForEncryption || len(last.Methods) == 0 {
			t.Errorf("%s: %+v", p.Name, last)
		}
	}
	ids := provider.SignerIDs()
	if len(ids) != 6 || ids[0] != ring(t)[0].ID || KeyID("none") != "" {
		t.Errorf("the keys that sign: %v", ids)
	}
	tr := trust()
	tr.Handed = map[string]time.Time{}
	list := provider.TokenSigners()
	if got := tr.Known("app", list); len(got) != 6 {
		t.Errorf("nobody said what the app was given: %d keys", len(got))
	}
	tr.Gave("app", []string{"k-other"})
	if got := tr.Known("app", list); len(got) != 0 {
		t.Errorf("the app was given another: %d keys", len(got))
	}
	tr.Gave("app", ids)
	if got := tr.Known("app", list); len(got) != 6 || len(tr.KeysSeen["app"]) != 2 {
		t.Errorf("the app was given it: %d keys, %v", len(got), tr.KeysSeen)
	}
	tr.HandOver(now, "app", "", provider)
	if len(tr.KeysSeen["app"]) != 2 {
		t.Errorf("handed over again: %v", tr.KeysSeen)
	}
}

func TestContactOfAParty(t *testing.T) {
	app, _ := parties()
	if app.Contact() != "" || app.ContactOrBlank() != finding.BlankMail {
		t.Errorf("nobody is known: %q", app.ContactOrBlank())
	}
	if got := app.JudgeContact(); len(got) != 1 || got[0].Level != finding.Note {
		t.Errorf("nobody to write to: %+v", got)
	}
	app.Client = NewClient(oidc.Web)
	if got := app.JudgeContact(); len(got) != 1 || !slices.Contains(flat(got[0].Fix), "--contact") {
		t.Errorf("a client, and nobody to write to: %+v", got)
	}
	app.Client.Contact = "client@nightlog.example"
	if app.ContactOrBlank() != "client@nightlog.example" || app.JudgeContact() != nil {
		t.Error("the client's contact")
	}
	app.Entity.Contacts = []saml.Contact{{Type: "technical"}, {Email: []string{"ops@nightlog.example"}}}
	if app.Contact() != "ops@nightlog.example" {
		t.Errorf("the contact of the metadata: %q", app.Contact())
	}
	_, provider := parties()
	if provider.JudgeContact() != nil {
		t.Error("nobody has to be told of an own party")
	}
}

func TestPartyIsJudged(t *testing.T) {
	nobody := NewCrowd(nil)
	app, provider := parties()
	app.Client, app.API = NewClient(oidc.Web), telescope()["tel"].API
	app.Client.Redirects = []string{"https://nightlog.kestrelridge.example/callback"}
	if got := app.Judge(nobody, now); got.Failed() || !slices.ContainsFunc(got, func(f finding.Finding) bool {
		return f.ID == "api.audience"
	}) {
		t.Errorf("an app with three sides: %+v", got.Without(finding.Pass))
	}
	far := &Party{Name: "far", Kind: Provider, OpenID: &OpenID{Discovery: *oidc.OwnDiscovery("https://far.example",
		[]string{"RS256"}, nil), JWKS: publishedJWKS(t, provider)}}
	if got := far.Judge(nobody, now); got.Failed() {
		t.Errorf("a provider with an OpenID side: %+v", got.Without(finding.Pass))
	}
	if got := (&Party{Name: "bare", Kind: App}).Judge(nobody, now); !got.Failed() {
		t.Errorf("a party without a side: %+v", got)
	}
	provider.Admins = "group:director"
	if got := provider.JudgeAdmins(nobody); got != nil {
		t.Errorf("nobody is known: %+v", got)
	}
	crowd := NewCrowd([]people.Person{{ID: "mira", Groups: []string{"directors"}}})
	if got := provider.JudgeAdmins(crowd); len(got) != 1 || !slices.Contains(flat(got[0].Fix), "group:directors") {
		t.Errorf("a group in which nobody is: %+v", got)
	}
	provider.Admins = "group:directors"
	if got := provider.JudgeAdmins(crowd); got != nil {
		t.Errorf("a group in which somebody is: %+v", got)
	}
	provider.AgreedBy = 2
	if got := provider.JudgeAdmins(crowd); len(got) != 1 || !strings.Contains(got[0].Saw, "in which 1 is") {
		t.Errorf("a group of one, where two have to agree: %+v", got)
	}
}

// TestSignOut says what signing out ends, by what both sides published.
func TestSignOut(t *testing.T) {
	notes := func(l finding.List) string {
		var out []string
		for _, f := range l {
			if f.Level == finding.Note {
				out = append(out, string(f.ID)+" "+string(f.Side))
			}
		}
		return strings.Join(out, ", ")
	}
	app, provider := parties()
	app.Entity.SP.SignedOut = "https://nightlog.kestrelridge.example/bye"
	if got := trust().Terms.SignOut(app, provider); notes(got) != "" || len(got) != 3 {
		t.Errorf("both have single logout: %+v", got)
	}
	app.Entity.SP.SLO = nil
	if got := notes(trust().Terms.SignOut(app, provider)); got != "signout.provider app, signout.app app" {
		t.Errorf("the app has none: %s", got)
	}
	provider.Entity.IDP.SLO = nil
	if got := notes(trust().Terms.SignOut(app, provider)); got != "signout.provider provider, signout.app provider" {
		t.Errorf("the provider has none: %s", got)
	}
	tr, client, own := dome()
	if got := notes(tr.Terms.SignOut(client, own)); got != "signout.provider app, signout.app app" {
		t.Errorf("a client that says nothing: %s", got)
	}
	client.Client.AfterSignOut = []string{"https://dome.kestrelridge.example/bye"}
	client.Client.BackChannelLogout = "https://dome.kestrelridge.example/out"
	if got := tr.Terms.SignOut(client, own); notes(got) != "" || len(got) != 3 {
		t.Errorf("a client that is told: %+v", got)
	}
	own.Own = false
	own.OpenID = &OpenID{Discovery: oidc.Discovery{Issuer: own.At}}
	if got := notes(tr.Terms.SignOut(client, own)); got != "signout.provider provider, signout.app provider" {
		t.Errorf("a provider that publishes no way: %s", got)
	}
	own.OpenID = nil
	if got := tr.Terms.SignOut(client, own); len(got) > 0 {
		t.Errorf("a provider without an OpenID side: %+v", got)
	}
}

// TestExpectations makes what a trust expects of each kind of message.
func TestExpectations(t *testing.T) {
	app, provider := parties()
	tr := trust()
	tr.Strength = "mfa"
	r := RequestExpectation(tr, tr.SAMLTerms(), &app.Entity, app, provider, now)
	if r.App.ID != app.Entity.ID || !r.WantSigned || r.Trust != tr.Name || len(r.SSO) != 2 || len(r.Contexts) != 1 ||
		!r.Now.Equal(now) {
		t.Errorf("a request: %+v", r)
	}
	l := LogoutExpectation(tr.SAMLTerms(), app, provider, now)
	if l.From != app.Entity.ID || len(l.At) != 2 && len(l.At) != 1 || len(l.Keys) != 1 || l.Side != finding.App {
		t.Errorf("a logout message: %+v", l)
	}
	over, client, own := dome()
	client.Client.IDTokenAlg, client.Client.MaxAge = "ES256", 60
	k := TokenExpectation(over, over.OIDCTerms(), client, client.Client, own.At, own.Name, nil, now)
	if k.Issuer != own.At || k.Audience != "dome.1" || k.SignedWith != "ES256" || k.MaxAge != time.Minute {
		t.Errorf("a token: %+v", k)
	}
	if k := TokenExpectation(over, over.OIDCTerms(), nil, nil, own.At, own.Name, nil,
		now); k.SignedWith != "" || k.MaxAge != 0 {
		t.Errorf("a token without a client: %+v", k)
	}
}

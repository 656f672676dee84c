package rehearse

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/op"
	"tressik.example/internal/stage/server"
)

func now() time.Time { return time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC) }

// oneKey is the key of every party of these tests.
type oneKey struct {
	key  *ecdsa.PrivateKey
	cert *x509.Certificate
}

func (k oneKey) SAML() (*xmlsec.Signer, error) {
	return &xmlsec.Signer{Key: k.key, Certificate: k.cert, Rand: rand.Reader}, nil
}
func (k oneKey) JOSE() (oidc.Signers, error) {
	s, err := oidc.NewSigner(k.key)
	return oidc.Signers{s}, err
}
func (oneKey) Decrypt() ([]*rsa.PrivateKey, *x509.Certificate, error) { return nil, nil, nil }

// set is a stage with an own provider; nightlog and plates over SAML, dome and courier over OpenID Connect.
func set(t *testing.T, change func(*cast.Ledger)) *stage.Stage {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := keys.SelfSign(rand.Reader, key, "ridge", "", now(), 365*24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	ridge := &federation.Party{Name: "ridge", Kind: federation.Provider, Own: true,
		At: "https://login.kestrelridge.example"}
	ridge.Entity = federation.OwnEntity(federation.Provider, ridge.At, "Ridge", nil)
	led := &cast.Ledger{Parties: map[string]*federation.Party{"ridge": ridge},
		Subjects: map[string]federation.SubjectKey{},
		Secrets:  map[string][]federation.Secret{}, Consents: map[string][]federation.Consent{},
		People: cast.NewPeople([]people.Person{{ID: "mira", Attributes: map[string][]string{"uid": {"mira"}},
			Groups: []string{"observers"}}})}
	add := func(app *federation.Party, terms federation.Terms) {
		x := federation.NewTrust(app, ridge, saml.FormatPersistent, terms, now())
		led.Parties[app.Name], led.Trusts = app, append(led.Trusts, *x)
		led.Subjects[x.Name] = federation.SubjectKey{Salt: []byte("salt of " + x.Name)}
	}
	for _, name := range []string{"nightlog", "plates"} {
		at := "https://" + name + ".kestrelridge.example"
		app := &federation.Party{Name: name, Kind: federation.App}
		app.Entity = saml.Entity{ID: at, SP: &saml.Role{ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: at +
			"/acs"}},
			SLO: []saml.Endpoint{{Binding: saml.BindingRedirect, Location: at + "/slo"}}}}
		add(app, &federation.SAMLTerms{Signs: "assertion"})
	}
	for name, kind := range map[string]oidc.Kind{"dome": oidc.Web, "courier": oidc.Machine} {
		app := &federation.Party{Name: name, Kind: federation.App, Client: federation.NewClient(kind)}
		ask := federation.Ask{API: "telescope-api", Name: "frames.read", As: federation.AsSelf}
		if kind == oidc.Web {
			app.Client.Redirects = []string{"https://dome.kestrelridge.example/cb"}
			ask = federation.Ask{Name: "openid", As: federation.AsUser}
		}
		add(app, &federation.OIDCTerms{ClientID: name + ".1", Asks: []federation.Ask{ask},
			Policy: federation.DefaultPolicy()})
		trust := name + "@ridge"
		led.Secrets[trust] = []federation.Secret{{ID: "s-1", Trust: trust, Hash: "none",
			Expires: now().AddDate(0, 3, 0)}}
		led.Consents[trust] = []federation.Consent{{Trust: trust, API: ask.API, Name: ask.Name, As: ask.As,
			Standing: federation.Consented, By: "aiyana", Admin: true}}
	}
	led.Parties["telescope-api"] = &federation.Party{Name: "telescope-api", Kind: federation.App, API: &federation.API{
		Audience: "https://api.kestrelridge.example", Permissions: []federation.Permission{{Name: "frames.read",
			As: []string{federation.AsSelf}, Says: "read frames"}}}}
	if change != nil {
		change(led)
	}
	engine, err := claims.NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	c, err := cast.New(led, cast.Options{Engine: engine, Now: now(),
		Keys:    func(*federation.Party) cast.Keys { return oneKey{key, cert} },
		Random:  func(b []byte) error { _, err := rand.Read(b); return err },
		StandIn: func(p *federation.Party) bool { return !p.Own },
		Secret:  func(trust string) string { return "secret of " + trust }, Holder: cast.Holders(rand.Reader, now)})
	if err != nil {
		t.Fatal(err)
	}
	s, err := stage.New(stage.Options{Now: now, Rand: rand.Reader, Notes: op.NoNotes(), CarryOn: true, Record: true})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Play(c); err != nil {
		t.Fatal(err)
	}
	return s
}

// TestRun rehearses each way of walking, and what goes wrong in it, on a stage made by hand.
func TestRun(t *testing.T) {
	nobody := func(led *cast.Ledger) {
		for i := range led.Trusts {
			led.Trusts[i].Admits = "group:directors"
		}
	}
	hardened := func(change func(*federation.Policy)) func(led *cast.Ledger) {
		return func(led *cast.Ledger) {
			led.Parties["dome"].Client.IDTokenAlg = "ES256"
			for i := range led.Trusts {
				if o, ok := led.Trusts[i].OIDC(); ok {
					change(&o.Policy)
				}
			}
		}
	}
	reads := func(led *cast.Ledger, p federation.Permission, n *federation.Narrowed) {
		led.Parties["telescope-api"].API.Permissions = []federation.Permission{p}
		for i := range led.Trusts {
			if o, ok := led.Trusts[i].OIDC(); ok && led.Trusts[i].App == "dome" {
				o.Asks = append(o.Asks, federation.Ask{API: "telescope-api", Name: p.Name, As: "user", Narrowed: n})
				led.Consents["dome@ridge"] = append(led.Consents["dome@ridge"], federation.Consent{Trust: "dome@ridge",
					API: "telescope-api", Name: p.Name, As: "user", Standing: federation.Consented, By: "aiyana",
					Admin: true, Narrowed: n})
			}
		}
	}
	frames := federation.Permission{Name: "frames.read", As: []string{"user", "self"}, Says: "read frames"}
	stepUp := func(led *cast.Ledger) {
		p := frames
		p.Strength = "mfa"
		reads(led, p, nil)
	}
	narrowed := func(led *cast.Ledger) {
		p := frames
		p.Records = "identifier"
		reads(led, p, &federation.Narrowed{Records: []string{"frames-001"}})
	}
	fapi := hardened(func(p *federation.Policy) { p.Profile = federation.ProfileFAPI2 })
	calls := map[string][]string{"a call that needs a second factor": {"telescope-api:frames.read"},
		"a call in detail": {"telescope-api:frames.read"}}
	for _, c := range []struct {
		name    string
		trusts  []string
		from    string
		change  func(*cast.Ledger)
		verdict judge.Verdict
		finding string // in the last rehearsal
	}{
		{"a sign-in over SAML", []string{"nightlog@ridge"}, "app", nil, judge.Accepted, "logout.status"},
		{"two apps in one session", []string{"nightlog@ridge", "plates@ridge"}, "app", nil, judge.Accepted, "session"},
		{"from the provider, which no trust allows", []string{"nightlog@ridge"}, "provider", nil, judge.Refused,
			"saml.unsolicited"},
		{"a person who is not admitted", []string{"nightlog@ridge"}, "app", nobody, judge.Refused, "saml.admission"},
		{"a sign-in over OpenID Connect", []string{"dome@ridge"}, "app", nil, judge.Accepted, "token.signature"},
		{"a machine client", []string{"courier@ridge"}, "app", nil, judge.Accepted, ""},
		{"a client of FAPI 2.0", []string{"dome@ridge"}, "app", fapi, judge.Accepted, "dpop.proof"},
		{"a machine client of FAPI 2.0", []string{"courier@ridge"}, "app", fapi, judge.Accepted, "token.bound"},
		{"tokens bound to a certificate", []string{"courier@ridge"}, "app",
			hardened(func(p *federation.Policy) { p.Bound, p.Auth = "mtls", federation.AuthSelfSigned }),
			judge.Accepted, "token.bound"},
		{"a call that needs a second factor", []string{"dome@ridge"}, "app", stepUp, judge.Accepted, "call.step-up"},
		{"a call in detail", []string{"dome@ridge"}, "app", narrowed, judge.Accepted, "call.records"},
		{"signed requests", []string{"dome@ridge"}, "app",
			hardened(func(p *federation.Policy) { p.Objects = true }), judge.Accepted, "oauth.request-object"},
		{"requests signed and pushed", []string{"dome@ridge"}, "app",
			hardened(func(p *federation.Policy) { p.Objects, p.Pushed, p.Bound = true, true, "dpop" }), judge.Accepted,
			"dpop.proof"},
		{"a machine client without consent", []string{"courier@ridge"}, "app",
			func(led *cast.Ledger) { led.Consents = map[string][]federation.Consent{} }, judge.Refused, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := set(t, c.change)
			var heard []string
			var order []int
			list, err := Run(s, Script{Trusts: c.trusts, Person: "mira", From: c.from,
				Second: true, Call: calls[c.name]}, Hear{
				Start: func(trust string) { heard = append(heard, trust) },
				Event: func(e server.Event) {
					if e.Step != nil {
						order = append(order, e.Step.N)
					}
				}})
			if err != nil || len(list) != len(c.trusts) || !slices.Equal(heard, c.trusts) {
				t.Fatalf("%d rehearsals, heard %v, %v", len(list), heard, err)
			}
			if !slices.IsSorted(order) {
				t.Errorf("the steps came in the order %v", order)
			}
			last := list[len(list)-1]
			if last.Verdict != c.verdict || (last.Verdict == judge.Refused) != last.Findings.Failed() {
				t.Errorf("%s: %v", last.Verdict, last.Findings.Without(finding.Pass))
			}
			if c.finding != "" && !slices.ContainsFunc(last.Findings,
				func(f finding.Finding) bool { return strings.HasPrefix(string(f.ID), c.finding) }) {
				t.Errorf("no %s in %v", c.finding, last.Findings)
			}
			if last.Verdict == judge.Accepted && last.Subject == "" {
				t.Error("accepted without a subject")
			}
		})
	}
}

// TestSettle holds that a walk which ended before the app judged anything is never accepted.
func TestSettle(t *testing.T) {
	r := &federation.Rehearsal{Person: "mira"}
	settle(r, false)
	if r.Verdict != judge.Refused || !slices.Equal(r.Findings.IDs(finding.Error), []string{"walk"}) {
		t.Errorf("%s, %v", r.Verdict, r.Findings)
	}
	r = &federation.Rehearsal{Person: "mira"}
	if settle(r, true); r.Verdict != judge.Accepted {
		t.Errorf("%s", r.Verdict)
	}
}

// TestUnproven names each party that a stand-in plays once, and no own one.
func TestUnproven(t *testing.T) {
	s := set(t, nil)
	lines := Unproven(s.Cast())
	text := strings.Join(lines, "\n")
	for _, name := range []string{"nightlog", "plates", "dome", "courier"} {
		if strings.Count(text, name+" is played by a STAND-IN") != 1 {
			t.Errorf("%s is not told once in:\n%s", name, text)
		}
	}
	if strings.Contains(text, "ridge is played") {
		t.Errorf("the own provider is told as a stand-in:\n%s", text)
	}
	if Machines(s.Cast(), []string{"courier@ridge"}) == Machines(s.Cast(), []string{"courier@ridge", "dome@ridge"}) {
		t.Error("a web client counts as a machine")
	}
}

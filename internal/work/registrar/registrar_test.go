package registrar_test

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/registrar"
)

// keeper is a house whose provider has an administrator, who acts, and a registrar that may have two clients.
func keeper(t *testing.T) (*fixture.House, *registrar.Keeper, *registrar.Made) {
	t.Helper()
	h := fixture.New(t)
	people := "id,uid,mail,displayName,groups\naiyana,aiyana,aiyana@kestrelridge.example,Aiyana,directors\n"
	if _, err := h.LoadPeople([]byte(people), "more.csv", desk.Loading{}); err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := h.ChangeParty(desk.PartyInput{Kind: federation.Provider, Name: "ridge",
		Admins: "group:directors"}); err != nil {
		t.Fatal(err)
	}
	k := &registrar.Keeper{Desk: h.Desk}
	made, err := k.Add(federation.Registrar{Name: "pipeline", Provider: "ridge", Kinds: []string{"web", "machine"},
		Hosts: []string{"*.apps.kestrelridge.example"}, Secrets: 90 * 86400, Most: 2}, 180*24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	return h, k, made
}

func web(host string) *oidc.ClientMetadata {
	return &oidc.ClientMetadata{ClientName: "Night Desk", RedirectURIs: []string{"https://" + host + "/cb"}}
}

// TestLifeOfAClient registers a client, reads it with the token that it was given, replaces it, with another token
// from then on, and takes it away with all that was made for it.
func TestLifeOfAClient(t *testing.T) {
	_, k, made := keeper(t)
	by, err := k.Of(made.Token)
	if err != nil {
		t.Fatal(err)
	}
	info, refused, err := k.Register(registrar.Request{By: by, Meta: web("desk.apps.kestrelridge.example")})
	if err != nil || refused != nil {
		t.Fatal(err, refused)
	}
	const trust = "night-desk@ridge"
	if info.Token == "" || info.ClientSecret == "" || !strings.HasPrefix(info.ClientID, "night-desk.") {
		t.Errorf("%+v", info)
	}
	holder, reg, err := k.Holder(trust, info.Token)
	if err != nil || holder.Registrar.Name != "pipeline" {
		t.Fatal(err)
	}
	if _, _, err := k.Holder(trust, info.Token+"x"); !errors.Is(err, registrar.ErrToken) {
		t.Errorf("another token: %v", err)
	}
	in := registrar.Request{By: holder, Reg: reg, Meta: web("other.apps.kestrelridge.example")}
	in.Meta.ClientID = info.ClientID
	again, refused, err := k.Replace(in)
	if err != nil || refused != nil || again.Token == info.Token || again.ClientID != info.ClientID ||
		again.RedirectURIs[0] != "https://other.apps.kestrelridge.example/cb" {
		t.Fatalf("%v %v %+v", err, refused, again)
	}
	if _, _, err := k.Holder(trust, info.Token); !errors.Is(err, registrar.ErrToken) {
		t.Errorf("the token before: %v", err)
	}
	if _, _, err := k.Replace(in); !errors.Is(err, registrar.ErrToken) {
		t.Errorf("a replacement with what was read before the last one: %v", err)
	}
	// A client hardens itself, and does not take that away.
	if holder, reg, err = k.Holder(trust, again.Token); err != nil {
		t.Fatal(err)
	}
	in.By, in.Reg, in.Meta.DPoPBound, in.Meta.PushedRequests = holder, reg, true, true
	if again, refused, err = k.Replace(in); err != nil || refused != nil || !again.DPoPBound || !again.PushedRequests {
		t.Fatalf("hardened: %v %v %+v", err, refused, again)
	}
	if holder, reg, err = k.Holder(trust, again.Token); err != nil {
		t.Fatal(err)
	}
	in.By, in.Reg, in.Meta.Hardening = holder, reg, oidc.Hardening{}
	if again, refused, err = k.Replace(in); err != nil || refused != nil || !again.DPoPBound || !again.PushedRequests {
		t.Fatalf("left out: %v %v %+v", err, refused, again)
	}
	in.Meta.DPoPBound, in.Meta.CertificateBound = true, true
	if _, reg, err = k.Holder(trust, again.Token); err != nil {
		t.Fatal(err)
	}
	if err := in.Meta.Check(); err == nil || !strings.Contains(err.Error(), "ask for one") {
		t.Errorf("bound to two: %v", err)
	}
	if refused, err := k.Delete(registrar.Request{By: holder, Reg: reg}); err != nil || refused != nil {
		t.Fatal(err, refused)
	}
	if _, err := k.View.Party("night-desk"); !errors.Is(err, model.ErrNotFound) {
		t.Errorf("the app stayed: %v", err)
	}
	if list, _ := k.Secrets(trust); len(list) > 0 {
		t.Errorf("secrets stayed: %v", list)
	}
}

// TestPastTheBounds refuses by member what lies past the bounds: nothing of it stays, and each use is counted.
func TestPastTheBounds(t *testing.T) {
	h, k, made := keeper(t)
	by, err := k.Of(made.Token)
	if err != nil {
		t.Fatal(err)
	}
	with := func(f func(*oidc.ClientMetadata)) *oidc.ClientMetadata {
		m := web("desk.apps.kestrelridge.example")
		f(m)
		return m
	}
	cases := []struct {
		field string
		meta  *oidc.ClientMetadata
	}{
		{"redirect_uris", web("desk.kestrelridge.example")},
		{"redirect_uris", web("a.b.apps.kestrelridge.example")},
		{"redirect_uris", web("desk.apps.kestrelridge.example:8443")},
		{"scope", with(func(m *oidc.ClientMetadata) { m.Scope = "frames.read" })},
		{"token_endpoint_auth_method", with(func(m *oidc.ClientMetadata) { m.AuthMethod = "none" })},
		{"software_statement", with(func(m *oidc.ClientMetadata) { m.Statement = "a.b.c" })},
	}
	for _, c := range cases {
		info, refused, err := k.Register(registrar.Request{By: by, Meta: c.meta})
		if err != nil || info != nil || refused == nil || refused.Field != c.field {
			t.Errorf("%s: %v %v %v", c.field, info, refused, err)
		}
	}
	if list, _ := k.Registrations(""); len(list) > 0 {
		t.Errorf("it left %+v behind", list)
	}
	r, err := k.Find("pipeline")
	if err != nil || r.Registrar.Refused != len(cases) || r.Registrar.Uses != len(cases) {
		t.Errorf("counted %d refused of %d, %v", r.Registrar.Refused, r.Registrar.Uses, err)
	}
	for i, host := range []string{"one", "two", "three"} {
		_, refused, err := k.Register(registrar.Request{By: by, Meta: web(host + ".apps.kestrelridge.example")})
		if err != nil || (refused != nil) != (i == 2) {
			t.Errorf("client %d of 2: %v %v", i+1, refused, err)
		}
	}
	h.Clock = h.Clock.AddDate(0, 0, 181)
	if _, _, err := k.Register(registrar.Request{By: by, Meta: web("four.apps.kestrelridge.example")}); !errors.Is(err,
		registrar.ErrToken) {
		t.Errorf("past its end: %v", err)
	}
}

// TestElsewhere keeps what a foreign provider registered, names by member what is otherwise there, and forgets it.
func TestElsewhere(t *testing.T) {
	h, k, _ := keeper(t)
	doc := oidc.OwnDiscovery("https://login.southmere.example", []string{"ES256"}, nil)
	doc.RegistrationEndpoint = "https://login.southmere.example/register"
	raw, err := json.Marshal(doc)
	if err != nil {
		t.Fatal(err)
	}
	ridge, err := h.Party(federation.Provider, "ridge")
	if err != nil {
		t.Fatal(err)
	}
	keys, err := oidc.WriteKeys(ridge.TokenSigners()...)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := h.AddParty(desk.PartyInput{Kind: federation.Provider, Name: "southmere", OpenID: &desk.OpenIDInput{
		Discovery: raw, JWKS: keys}}); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Prepare("dome-scheduler", "ridge", desk.Terms{}); err == nil || !strings.Contains(err.Error(),
		"is own") {
		t.Errorf("at an own one: %v", err)
	}
	x := desk.Terms{Policy: desk.PolicyTerms{Redirects: []string{"https://dome.sandbox.example/cb"}}}
	at, err := k.Prepare("dome-scheduler", "southmere", x)
	if err != nil || at.Endpoint != doc.RegistrationEndpoint || len(at.Meta.RedirectURIs) != 1 ||
		at.Meta.RedirectURIs[0] != "https://dome.sandbox.example/cb" {
		t.Fatalf("%v %+v", err, at)
	}
	const trust = "dome-scheduler@southmere"
	if _, err := k.View.Trust(trust); !errors.Is(err, model.ErrNotFound) {
		t.Errorf("preparing left a trust: %v", err)
	}
	ends := h.Clock.AddDate(0, 3, 0).Unix()
	info := &oidc.ClientInformation{ClientMetadata: *at.Meta, Expires: &ends, Token: "first-token",
		RegistrationURI: "https://login.southmere.example/register/c7"}
	info.ClientID = "c7"
	made, _, err := k.Keep("dome-scheduler", "southmere", x, info)
	if err != nil || made.ClientID() != "c7" {
		t.Fatal(err)
	}
	is, err := k.Elsewhere(trust)
	if err != nil || is.Token != "first-token" || is.Endpoint != info.RegistrationURI {
		t.Fatalf("%+v %v", is, err)
	}
	if fs := registrar.Drift(is, info); len(fs.Without(finding.Pass)) > 0 {
		t.Errorf("%v", fs)
	}
	there := *info
	there.RedirectURIs = append([]string{"https://stray.example/cb"}, there.RedirectURIs...)
	fs := registrar.Drift(is, &there).Without(finding.Pass)
	if len(fs) != 1 || fs[0].Of != "redirect_uris" || !strings.Contains(fs[0].Saw, "stray") {
		t.Errorf("%v", fs)
	}
	there.Token = "second-token"
	if err := k.Took(trust, &there); err != nil {
		t.Fatal(err)
	}
	if is, err = k.Elsewhere(trust); err != nil || is.Token != "second-token" {
		t.Errorf("%+v %v", is, err)
	}
	for range 2 { // the second time nothing is kept
		if err := k.Gone(trust); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{trust, fixture.OverOIDC, fixture.OverSAML} {
		if is, err := k.Elsewhere(name); err != nil || is != nil {
			t.Errorf("%s: %+v %v", name, is, err)
		}
	}
	var none *model.UnknownError
	if _, err := k.Registered(fixture.OverOIDC); !errors.As(err, &none) || !strings.Contains(err.Error(), "is own") {
		t.Errorf("at the own provider: %v", err)
	}
}

package model_test

import (
	"crypto/x509"
	"errors"
	"testing"
	"time"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit"
)

// TestView asks each question once, of a ledger in which the answer is known.
func TestView(t *testing.T) {
	b, e := model.Begin(model.Empty(), testkit.Env(1))
	if err := house(b); err != nil {
		t.Fatal(err)
	}
	const trust = "nightlog@ridge"
	now := b.Now()
	crowd := make([]people.Person, 60)
	for i := range crowd {
		id := "visitor" + string(rune('a'+i%26)) + string(rune('a'+i/26))
		crowd[i] = people.Person{ID: id, Attributes: map[string][]string{"entryUUID": {"u-" + id}}, Groups: []string{}}
	}
	_, _, _, err := e.PutPersonsOf("southmere", crowd)
	night, _ := b.View.Party("nightlog")
	changed := *night
	changed.Entity.ID = "urn:night:2"
	err = errors.Join(err, e.PutSource(&people.Source{Name: "southmere", At: "/visitors.csv"}),
		e.SourceRead("southmere", 60),
		e.PutParty(night, &changed, []byte("<second/>"), false),
		e.PutRoute(federation.Route{Domain: "southmere.example",
			Trust: trust}), e.Bind(model.Arrival{Trust: trust, Subject: "s", Person: "mira"}, "made"),
		e.PutAccounts("nightlog", "accounts.csv", []accounts.Account{{Line: 2}}),
		e.Let(&model.Let{Finding: "f", About: trust, Checks: []string{"c"}, Until: now.Add(time.Hour)}),
		e.Settle(trust, &model.Settled{Step: "in words"}),
		e.Settle(trust, &model.Settled{ID: "watch", Step: "watched"}),
		e.KeepReadings(map[string]federation.Reading{"nightlog": {Outcome: "failed", Why: "gone", Pinned: now}}),
		e.KeepReadings(map[string]federation.Reading{"nightlog": {Outcome: "failed", Why: "still"}}),
		e.Tell([]string{"x"}),
		e.SetValue("report", "1"), e.AddRefreshKey([]byte("k")), e.AddRefreshKey([]byte("another")),
		e.Saw(model.Sightings{Uses: []federation.Use{{Trust: "dome-scheduler@ridge", API: "a", Name: "n", As: "user",
			Issued: now}}}),
		e.KeepState([]oauth.Kept{{Revoked: "jti", Until: now.Add(time.Minute)}, {Revoked: "over",
			Until: now.Add(-time.Hour)}}),
		e.AddRun(&federation.Run{Kind: federation.ByRehearsal, Rehearsal: federation.Rehearsal{Trust: trust, At: now}}),
		e.AddRun(&federation.Run{Kind: federation.ProbedProof, Rehearsal: federation.Rehearsal{Trust: trust, At: now}}))
	if err != nil {
		t.Fatal(err)
	}
	v := b.View
	is := func(what string, ok bool) {
		t.Helper()
		if !ok {
			t.Error(what)
		}
	}
	routes, came, err := v.Arrivals()
	is("arrivals", err == nil && len(routes) == 1 && len(came) == 1 && came[0].At.Equal(now))
	list, err := v.Accounts("nightlog")
	is("accounts", err == nil && len(list) == 1)
	none, err := v.Accounts("nobody")
	is("no accounts", err == nil && len(none) == 0)
	let, err := b.LetBe(trust)
	is("let be", err == nil && len(let) == 1 &&
		let[0].Covers(&finding.Finding{ID: "f", Check: "c"}) && !let[0].Covers(&finding.Finding{ID: "f", Check: "d"}))
	byKey := model.Let{Finding: "f", Checks: []string{"in words"}, Keys: []string{"f/mail"}}
	is("let be by its key", byKey.Covers(&finding.Finding{ID: "f", Of: "mail", Check: "in other words"}) &&
		!byKey.Covers(&finding.Finding{ID: "f", Of: "phone", Check: "in words"}))
	over, err := v.LetBe(trust, now.Add(2*time.Hour))
	is("let be no longer", err == nil && len(over) == 0)
	all, err := v.Acceptances()
	is("acceptances", err == nil && len(all) == 1)
	steps, err := v.SettledSteps(trust)
	is("steps", err == nil && len(steps) == 2 && steps[0].By == "aiyana")
	readings, err := v.Readings()
	r := readings["nightlog"]
	is("readings", err == nil && r.Why == "still" && r.Pinned.Equal(now) && r.Since.Equal(now))
	told, err := v.Told()
	is("told", err == nil && told["x"])
	set, err := v.Value("report")
	is("value", err == nil && set == "1" && v.Org() == "")
	key, err := v.RefreshKey(b.Vault)
	is("refresh key", err == nil && string(key) == "k")
	uses, err := v.Uses("dome-scheduler@ridge")
	is("uses", err == nil && len(uses) == 1)
	kept, err := v.StageState(now)
	is("state", err == nil && len(kept) == 1 && kept[0].Revoked == "jti")
	newest, err := v.Runs(trust, 1)
	is("runs", err == nil && len(newest) == 1 && newest[0].Kind == federation.ProbedProof)
	one, err := v.RunOf(trust, 1)
	is("a run", err == nil && one.Kind == federation.ByRehearsal)
	_, err = v.RunOf("dome-scheduler@ridge", 1)
	is("a run of another trust", errors.Is(err, model.ErrNotFound))
	versions, err := v.Versions("nightlog")
	is("versions", err == nil && len(versions) == 2 && versions[1].Party.Entity.ID == "urn:night:2")
	raw, err := v.VersionRaw("nightlog", 1)
	is("a version", err == nil && string(raw) == "<raw/>")
	_, err = v.VersionRaw("nightlog", 9)
	is("no version", errors.Is(err, model.ErrNotFound))
	raw, err = v.Raw("nightlog")
	is("raw", err == nil && string(raw) == "<second/>")
	_, err = v.Raw("nobody")
	is("nobody's raw", errors.Is(err, model.ErrNotFound))
	trusts, subjects, err := v.Agreed()
	is("agreed", err == nil && len(trusts) == 2 && string(subjects[trust].Salt) == "salt")
	n := 0
	for p, err := range v.EachPerson() {
		is("person", err == nil && p.Key != "")
		n++
	}
	for _, err := range v.EachParty(federation.App) {
		is("app", err == nil)
		n++
	}
	for _, err := range v.EachTrust() {
		is("trust", err == nil)
		n++
	}
	is("each", n == 61+3+2)
	providers, apps, names, err := v.AllNames()
	is("names", err == nil && len(providers) == 1 && len(apps) == 3 && len(names) == 2)
	x, _ := v.Trust(trust)
	after, err := v.JournalAfter(1, x)
	is("journal of a trust", err == nil && len(after) > 3)
	_, _, _, err = e.PutPersons(crowd[:1], false, "people.csv")
	is("somebody of a source", errors.Is(err, model.ErrExists))
	_, _, _, err = e.PutPersonsOf("other", []people.Person{{ID: "Mira"}})
	is("somebody loaded by hand", errors.Is(err, model.ErrExists))
	is("changes", len(b.Changes().Records) > 60 && !b.Changing() == false && b.Known())
}

// TestKeys: private keys are sealed, opened and given other certificates.
func TestKeys(t *testing.T) {
	b, e := model.Begin(model.Empty(), testkit.Env(1))
	if err := house(b); err != nil {
		t.Fatal(err)
	}
	key, err := keys.Generate(b.Rand, "ecdsa-p256")
	if err != nil {
		t.Fatal(err)
	}
	sign := func(name string) *x509.Certificate {
		c, err := keys.SelfSign(b.Rand, key, name, "", b.Now(), time.Hour)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	first, second := sign("first"), sign("second")
	if err := errors.Join(e.AddKey("ridge", federation.ForSigning, federation.Active, key, first),
		e.AddStageKey("ridge", "ecdsa-p256", model.Opened{Key: key, Certificate: first})); err != nil {
		t.Fatal(err)
	}
	ring, err := b.Keys("ridge")
	if err != nil || len(ring) != 1 {
		t.Fatal(ring, err)
	}
	if err := e.Recertify("ridge", &ring[0], second, []*x509.Certificate{first}); err != nil {
		t.Fatal(err)
	}
	got, err := b.Key("ridge", federation.ForSigning)
	if err != nil || !got.Certificate.Equal(second) {
		t.Errorf("%v", err)
	}
	if _, err := b.PrivateKey("ridge", &ring[0]); !errors.Is(err, model.ErrNotFound) {
		t.Errorf("by a certificate that it has no more: %v", err)
	}
	if err := e.PlaceKey("ridge", &ring[0], federation.Outgoing); !errors.Is(err, model.ErrChanged) {
		t.Errorf("%v", err)
	}
	ring, _ = b.Keys("ridge")
	if k, err := b.PrivateKey("ridge", &ring[0]); err != nil || k == nil || len(ring[0].Chain) != 1 {
		t.Errorf("%v", err)
	}
	if o, err := b.KeyOnStage(b.Vault, "ridge", "ecdsa-p256"); err != nil || o.Key == nil {
		t.Errorf("%v", err)
	}
	if c, err := b.CertificateOnStage("ridge", "ecdsa-p256"); err != nil || !c.Equal(first) {
		t.Errorf("%v", err)
	}
	if _, err := b.Key("nightlog", federation.ForSigning); !errors.Is(err, model.ErrNotFound) {
		t.Errorf("%v", err)
	}
}

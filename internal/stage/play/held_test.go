package play_test

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/desk"
)

func written(t *testing.T, l *cast.Ledger) string {
	t.Helper()
	b, err := json.Marshal([]any{l.Trusts, l.Parties, l.Subjects, l.Secrets, l.Consents, l.People.List(), l.Routes,
		l.Came})
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// TestHeld changes a ledger in many ways, and holds after each what was brought up to date against what is read anew.
// What was handed out before stays as it was.
func TestHeld(t *testing.T) {
	t.Parallel()
	clock := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	l, err := engine.Create(t.Context(), filepath.Join(t.TempDir(), "tressik.ledger"), "Kestrel Ridge Observatory",
		ledger.Options{Env: model.Env{Actor: "aiyana", Rand: rand.Reader, Now: func() time.Time { return clock }}})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	on := func(f func(d *desk.Desk) error) func() error {
		return func() error {
			clock = clock.Add(time.Minute)
			return ledger.Updater(l.Update).Do(t.Context(), l.Env(),
				func(b *model.Book) error { return f(desk.New(b)) })
		}
	}
	persons := func(csv string, replace bool) func() error {
		return on(func(d *desk.Desk) error {
			_, err := d.LoadPeople([]byte(csv), "people.csv", desk.Loading{Replace: replace})
			return err
		})
	}
	party := func(in desk.PartyInput) func() error {
		return on(func(d *desk.Desk) error { _, _, err := d.AddParty(in); return err })
	}
	federate := func(over, app string) func() error {
		return on(func(d *desk.Desk) error {
			_, _, err := d.Federate(over, app, "ridge", "",
				desk.Terms{})
			return err
		})
	}
	edit := func(f func(e *model.Edit) error) func() error {
		return on(func(d *desk.Desk) error { return d.Book.Change(f) })
	}
	many := "uid,mail,groups\n"
	for i := range 40 {
		many += fmt.Sprintf("p%02d,p%02d@kestrelridge.example,observers\n", i, i)
	}
	var h, fresh play.Held
	for _, c := range []struct {
		what string
		do   func() error
	}{
		{"nothing", func() error { return nil }},
		{"a provider", party(desk.PartyInput{Kind: federation.Provider, Name: "ridge", Own: true,
			At: "https://login.kestrelridge.example", KeyKind: "ecdsa-p256"})},
		{"an app", party(desk.PartyInput{Kind: federation.App, Name: "nightlog",
			Hand: &desk.Hand{EntityID: "https://nightlog.kestrelridge.example/saml",
				ACS: []string{"https://nightlog.kestrelridge.example/saml/acs/"}}})},
		{"a client", party(desk.PartyInput{Kind: federation.App, Name: "dome-scheduler",
			Client: &desk.ClientInput{Kind: "web", Redirects: []string{"https://dome.kestrelridge.example/cb"}}})},
		{"people", persons(many, false)},
		{"a trust over SAML", federate(federation.OverSAML, "nightlog")},
		{"a trust over OpenID", federate(federation.OverOIDC, "dome-scheduler")},
		{"one person more", persons("uid,mail,groups\nmira,mira@kestrelridge.example,observers\n", false)},
		{"one person changed", persons("uid,mail,groups\np07,other@kestrelridge.example,directors\n", false)},
		{"terms", on(func(d *desk.Desk) error {
			_, err := d.ChangeTrust("nightlog@ridge", desk.Terms{Strength: "mfa"})
			return err
		})},
		{"claims", on(func(d *desk.Desk) error {
			_, _, err := d.SetClaims("dome-scheduler@ridge", desk.ClaimInput{Assign: []string{"mail=person.mail"}})
			return err
		})},
		{"a secret", on(func(d *desk.Desk) error {
			_, _, _, err := d.AddSecret("dome-scheduler@ridge", 90*24*time.Hour, "")
			return err
		})},
		{"a person renamed", on(func(d *desk.Desk) error { _, err := d.RenamePerson("p08", "p8"); return err })},
		{"a consent", edit(func(e *model.Edit) error {
			return e.Consented([]federation.Consent{{Trust: "dome-scheduler@ridge", API: "telescope-api",
				Name: "frames.read", As: "user", For: "mira", By: "mira", Standing: "consented", At: clock}})
		})},
		{"a route", edit(func(e *model.Edit) error {
			return e.PutRoute(federation.Route{Domain: "southmere.example", Trust: "dome-scheduler@ridge"})
		})},
		{"an arrival", edit(func(e *model.Edit) error {
			p, err := e.PutPerson(&people.Person{ID: "petra", Attributes: map[string][]string{"mail": {"p@s.example"}}})
			if err == nil {
				err = e.Bind(model.Arrival{Trust: "dome-scheduler@ridge", Subject: "x1", Person: p.ID}, "made")
			}
			return err
		})},
		{"what the journal does not have", edit(func(e *model.Edit) error { return e.Tell([]string{"x"}) })},
		{"people replaced",
			persons("uid,mail,groups\nmira,mira@kestrelridge.example,observers\nilse,i@kestrelridge.example,"+
				"archivists\n", true)},
		{"a trust ended", on(func(d *desk.Desk) error { _, err := d.EndTrust("nightlog@ridge"); return err })},
		{"a trust removed", on(func(d *desk.Desk) error { return d.RemoveTrust("nightlog@ridge") })},
		{"a party removed", on(func(d *desk.Desk) error { return d.RemoveParty(federation.App, "nightlog") })},
	} {
		if err := c.do(); err != nil {
			t.Fatalf("%s: %v", c.what, err)
		}
		before := h.Ledger()
		var text string
		if before != nil {
			text = written(t, before)
		}
		if err := l.View(t.Context(), h.Read); err != nil {
			t.Fatalf("%s: %v", c.what, err)
		}
		fresh = play.Held{}
		if err := l.View(t.Context(), fresh.ReadAll); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(h.Ledger(), fresh.Ledger()) || h.Seq() != fresh.Seq() {
			t.Errorf("after %s it holds\n%+v\nand the ledger\n%+v", c.what, h.Ledger(), fresh.Ledger())
		}
		if before != nil && written(t, before) != text {
			t.Errorf("%s changed what was handed out before", c.what)
		}
		if c.what == "what the journal does not have" && h.Ledger() != before {
			t.Errorf("%s had it read", c.what)
		}
	}
	if len(h.Ledger().People.List()) != 2 || len(h.Ledger().Trusts) != 1 || len(h.Ledger().Parties) != 2 {
		t.Errorf("in the end: %+v", h.Ledger())
	}
}

package bench

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/sqlite"
	"tressik.example/internal/model"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/desk"
)

// bigLedger has an own provider and so many trusts, half of them over SAML with foreign apps, half over OpenID Connect.
func bigLedger(b *testing.B, trusts int) *desk.Desk {
	b.Helper()
	return ledgerOf(b, trusts, "ecdsa-p256")
}

// ledgerOf is a ledger with so many trusts and a provider with a key of a kind.
func ledgerOf(b *testing.B, trusts int, kind string) *desk.Desk {
	b.Helper()
	dir := b.TempDir()
	l, err := sqlite.Create(b.Context(), filepath.Join(dir, "tressik.ledger"), "Kestrel Ridge Observatory", options())
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	live := desk.New(model.Open(l.Now(context.Background()), l.Env()))
	opened.Store(live.Book, l)
	err = ledger.Updater(l.Update).Do(b.Context(), l.Env(), func(book *model.Book) error {
		return fill(b, desk.New(book), trusts, kind)
	})
	if err != nil {
		b.Fatal(err)
	}
	return live
}

// opened are the ledgers that desks work on.
var opened sync.Map

// options are those of a ledger of a benchmark.
func options() ledger.Options {
	return ledger.Options{Env: model.Env{Actor: "bench", Now: time.Now, Rand: rand.Reader}}
}

// player plays what a desk has, and keeps what it sees in its ledger.
func player(d *desk.Desk) *play.Player {
	l, _ := opened.Load(d.Book)
	return &play.Player{Book: d.Book, Keep: func(f func(*model.Book) error) error {
		return ledger.Updater(l.(ledger.Ledger).Update).Do(context.Background(), d.Env, f)
	}}
}

// change changes the ledger of a desk.
func change(b *testing.B, d *desk.Desk, f func(*model.Edit) error) {
	b.Helper()
	if err := player(d).Keep(func(book *model.Book) error { return book.Change(f) }); err != nil {
		b.Fatal(err)
	}
}

// stageOf opens a stage of a desk's ledger.
func stageOf(d *desk.Desk, in play.StageInput) (*stage.Stage, *play.Keeper, error) {
	l, _ := opened.Load(d.Book)
	in.Context, in.Ledger = context.Background(), l.(ledger.Ledger)
	return player(d).Stage(in)
}

func fill(b *testing.B, d *desk.Desk, trusts int, kind string) error {
	provider, _, err := d.AddParty(desk.PartyInput{Kind: federation.Provider, Name: "ridge", Own: true,
		At:      "https://login.kestrelridge.example",
		KeyKind: kind})
	if err != nil {
		return err
	}
	cert := base64.StdEncoding.EncodeToString(signer(b).Certificate.Raw)
	return d.Change(func(tx *model.Edit) error {
		api := &federation.Party{Name: "telescope-api", Kind: federation.App,
			API: &federation.API{Audience: "https://telescope.kestrelridge.example",
				Permissions: []federation.Permission{{Name: "frames.read", As: []string{"self"}, Says: "read frames"}}}}
		if err := tx.AddParty(api, nil); err != nil {
			return err
		}
		if _, _, _, err := tx.PutPersons([]people.Person{person()}, false, "bench"); err != nil {
			return err
		}
		for i := range trusts {
			name := fmt.Sprintf("app%04d", i)
			app := &federation.Party{Name: name, Kind: federation.App}
			var terms federation.Terms = &federation.SAMLTerms{Signs: "assertion"}
			if i%2 == 0 {
				app.Entity = saml.Entity{ID: "urn:example:" + name,
					SP: &saml.Role{Keys: []saml.Key{{Use: "signing", Certificate: cert}},
						ACS: []saml.Endpoint{{Binding: saml.BindingPOST,
							Location: "https://" + name + ".kestrelridge.example/acs", Index: 1}}}}
			} else {
				app.Client = federation.NewClient(oidc.Machine)
				terms = &federation.OIDCTerms{ClientID: name, Policy: federation.DefaultPolicy(),
					Asks: []federation.Ask{{API: "telescope-api", Name: "frames.read", As: federation.AsSelf}}}
			}
			if err := tx.AddParty(app, nil); err != nil {
				return err
			}
			t := federation.NewTrust(app, provider, saml.FormatPersistent, terms, time.Now())
			if err := tx.AddTrust(t, federation.SubjectKey{Salt: []byte("salt")}); err != nil {
				return err
			}
			if i%2 == 0 {
				continue
			}
			s := &federation.Secret{ID: "s-" + name, Trust: t.Name, Hash: desk.HashSecret("sesame"), EndsIn: "same",
				Added: time.Now(), Expires: time.Now().Add(time.Hour)}
			if err := tx.AddSecret(s); err != nil {
				return err
			}
			if err := tx.PutConsents("consent.give", []federation.Consent{{Trust: t.Name, API: "telescope-api",
				Name: "frames.read", As: "self",
				Standing: federation.Consented, By: "bench", Admin: true, At: time.Now()}}); err != nil {
				return err
			}
		}
		return nil
	})
}

// BenchmarkStageStart opens a stage on a ledger with so many trusts, until it can answer.
func BenchmarkStageStart(b *testing.B) {
	for _, n := range []int{20, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			d := bigLedger(b, n)
			for b.Loop() {
				_, k, err := stageOf(d, play.StageInput{Base: "http://127.0.0.1:9"})
				if err != nil {
					b.Fatal(err)
				}
				if err := k.Close(); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms-start")
		})
	}
}

// BenchmarkTokenOnLargeStage gets tokens over HTTP from a stage that is tied to its ledger, with so many trusts.
func BenchmarkTokenOnLargeStage(b *testing.B) {
	for _, n := range []int{20, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			d := bigLedger(b, n)
			srv := httptest.NewUnstartedServer(nil)
			base := "http://" + srv.Listener.Addr().String()
			s, k, err := stageOf(d, play.StageInput{Base: base, Options: stage.Options{}})
			if err != nil {
				b.Fatal(err)
			}
			defer k.Close()
			srv.Config.Handler = s
			srv.Start()
			defer srv.Close()
			c := &client{b: b, addr: srv.Listener.Addr().String()}
			form := []byte(url.Values{"grant_type": {"client_credentials"}, "client_id": {"app0001"},
				"client_secret": {"sesame"}}.Encode())
			get := func() {
				if resp, body := c.do("POST", base+"/ridge/token", form); resp.StatusCode != 200 {
					b.Fatalf("%s %s", resp.Status, body)
				}
			}
			get()
			for b.Loop() {
				get()
			}
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "tokens/s")
		})
	}
}

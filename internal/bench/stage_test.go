package bench

import (
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/desk"
	"tressik.example/internal/play"
	"tressik.example/internal/stage"
	"tressik.example/internal/store"
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
	o := store.Options{Actor: "bench", Now: time.Now}
	l, err := store.Create(filepath.Join(dir, "tressik.ledger"), "Kestrel Ridge Observatory", o)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	d := desk.New(l, time.Now, rand.Reader)
	provider, _, err := d.AddParty(desk.PartyInput{Kind: federation.Provider, Name: "ridge", Own: true,
		At:      "https://login.kestrelridge.example",
		KeyKind: kind})
	if err != nil {
		b.Fatal(err)
	}
	cert := base64.StdEncoding.EncodeToString(signer(b).Certificate.Raw)
	err = l.Change(func(tx *store.Tx) error {
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
						ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: "https://" + name + ".kestrelridge.example/acs",
							Index: 1}}}}
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
	if err != nil {
		b.Fatal(err)
	}
	return d
}

// BenchmarkStageStart opens a stage on a ledger with so many trusts, until it can answer.
func BenchmarkStageStart(b *testing.B) {
	for _, n := range []int{20, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			d := bigLedger(b, n)
			for b.Loop() {
				_, k, err := (&play.Player{Book: d.Book, Rand: d.Rand}).Stage(play.StageInput{Base: "http://127.0.0.1:9"})
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
			s, k, err := (&play.Player{Book: d.Book, Rand: d.Rand}).Stage(play.StageInput{Base: base, Options: stage.Options{}})
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

package custody

import (
	"crypto"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit"
)

// ledger is one in memory with a key, a secret that is valid and one that is retired, a consent, and somebody.
func ledger(t *testing.T) *testkit.Memory {
	t.Helper()
	env := testkit.Env(3)
	m, err := testkit.NewMemory(env)
	if err != nil {
		t.Fatal(err)
	}
	key, err := keys.Generate(env.Rand, "ecdsa-p256")
	if err != nil {
		t.Fatal(err)
	}
	cert, err := keys.SelfSign(env.Rand, key, "ridge", "", testkit.Noon(), 24*time.Hour)
	if err != nil {
		t.Fatal(err)
	}
	err = m.Do(func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			app := &federation.Party{Name: "nightlog", Kind: federation.App}
			provider := &federation.Party{Name: "ridge", Kind: federation.Provider, Own: true}
			x := federation.NewTrust(app, provider, "", &federation.OIDCTerms{ClientID: "nightlog"}, e.Now())
			x.Admits = "person:mira"
			for _, do := range []func() error{
				func() error { return e.AddParty(app, nil) }, func() error { return e.AddParty(provider, nil) },
				func() error { return e.AddTrust(x, federation.SubjectKey{Salt: []byte("the salt of the trust")}) },
				func() error { return e.AddKey("ridge", federation.ForSigning, federation.Active, key, cert) },
				func() error {
					retired := e.Now()
					for _, s := range []federation.Secret{{ID: "s-one", Hash: "hash of one"}, {ID: "s-two",
						Hash:    "hash of two",
						Retired: &retired}} {
						s.Trust, s.Added, s.Expires = x.Name, e.Now(), e.Now().Add(time.Hour)
						if err := e.AddSecret(&s); err != nil {
							return err
						}
					}
					return nil
				},
				func() error {
					return e.PutConsents("consent.give", []federation.Consent{{Trust: x.Name, Name: "openid",
						As:  "user",
						For: "mira", Standing: federation.Consented, By: "aiyana", Admin: true, At: e.Now()}})
				},
				func() error {
					_, _, _, err := e.PutPersons([]people.Person{{ID: "mira", Groups: []string{"observers"},
						Attributes: map[string][]string{"mail": {"mira.solano@kestrelridge.example"}, "sn": {"Solano"},
							"title": {"observers"}}}}, false, "people.csv")
					return err
				}} {
				if err := do(); err != nil {
					return err
				}
			}
			return nil
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// TestRevives: what a copy brings back is what was valid in it, and nothing else.
func TestRevives(t *testing.T) {
	t.Parallel()
	m := ledger(t)
	r, err := Revives(m.View(), testkit.Noon())
	if err != nil || len(r.Secrets) != 1 || r.Secrets[0].ID != "s-one" || len(r.Keys) != 1 || r.Keys[0].Of != "ridge" ||
		r.Consents != 1 || r.Trusts != 0 || len(r.Registrars) != 0 {
		t.Errorf("%+v, %v", r, err)
	}
	if r, err := Revives(m.View(), testkit.Noon().Add(2*time.Hour)); err != nil || len(r.Secrets) != 0 {
		t.Errorf("once it expired: %+v, %v", r, err)
	}
	if from, err := RestoredFrom(m.View()); from != nil || err != nil {
		t.Errorf("it was never restored: %+v, %v", from, err)
	}
	if err := m.Do(func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error { return e.Restored("2031-03-01T00:00:00Z", "12 abcd") })
	}); err != nil {
		t.Fatal(err)
	}
	from, err := RestoredFrom(m.View())
	if err != nil || from == nil || !from.At.Equal(testkit.Noon()) || from.CopyOf != "2031-03-01T00:00:00Z" ||
		from.Journal != "12 abcd" {
		t.Errorf("%+v, %v", from, err)
	}
}

// TestWithoutPeople: nothing of somebody, of a secret or of a key is in what is made for a tester; what refers to them
// still does, and names of groups stay, whoever is called so.
func TestWithoutPeople(t *testing.T) {
	t.Parallel()
	m := ledger(t)
	made, err := WithoutPeople(m.View(), testkit.Env(4), "age1tester", func(crypto.Signer) ([]byte, error) {
		return []byte("sealed anew"), nil
	})
	if err != nil || made.People != 1 || made.Keys != 1 || made.Secrets != 2 {
		t.Fatalf("%+v, %v", made, err)
	}
	var all strings.Builder
	kinds := map[model.Kind]int{}
	for c, err := range made.Records() {
		if err != nil {
			t.Fatal(err)
		}
		b, err := model.Encode(c.After)
		if err != nil {
			t.Fatal(err)
		}
		kinds[c.Key.Kind]++
		all.WriteString(string(c.Key.Kind) + " " + string(b) + "\n")
	}
	text := all.String()
	old, err := m.View().Keys("ridge")
	if err != nil {
		t.Fatal(err)
	}
	cert, err := model.Encode(&model.OwnKey{Certificate: old[0].Certificate.Raw})
	if err != nil {
		t.Fatal(err)
	}
	_, der, _ := strings.Cut(string(cert), `"certificate":"`)
	for _, word := range []string{"mira", "Solano", "kestrelridge.example", "hash of one", "aiyana", "people.csv",
		"nobody's",
		"dGhlIHNhbHQgb2YgdGhlIHRydXN0", der[:40]} {
		if strings.Contains(text, word) {
			t.Errorf("%q is in it:\n%s", word, text)
		}
	}
	for _, word := range []string{`"admits":"person:tester1"`, `"for":"tester1"`, `"groups":["observers"]`,
		`"id":"tester1"`} {
		if !strings.Contains(text, word) {
			t.Errorf("it lacks %s:\n%s", word, text)
		}
	}
	if kinds[model.Trusts] != 1 || kinds[model.Secrets] != 2 || kinds[model.People] != 1 || kinds[model.Consents] != 1 {
		t.Errorf("%v", kinds)
	}
}

// TestTraceRefuses: where something of somebody is left, nothing is made.
func TestTraceRefuses(t *testing.T) {
	t.Parallel()
	x := &tester{Peopleless: &Peopleless{}, words: map[string]string{"solano": "sn-1"}}
	x.put(&model.Item{Item: "ask Solano about it"})
	if err := x.trace(); err == nil || !strings.Contains(err.Error(), "nothing was made") {
		t.Errorf("%v", err)
	}
}

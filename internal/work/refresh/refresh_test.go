package refresh

import (
	"errors"
	"strings"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
)

const metadata = `<md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" ` +
	`entityID="https://nightlog.kestrelridge.example/saml"><md:SPSSODescriptor ` +
	`protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"><md:AssertionConsumerService index="1" ` +
	`isDefault="true" Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" Location="LOCATION"/>` +
	`</md:SPSSODescriptor></md:EntityDescriptor>`

func raw(location string) []byte { return []byte(strings.Replace(metadata, "LOCATION", location, 1)) }

// TestTake: what touches no trust is taken, what does waits for a word, and what cannot be read leaves everything as it
// was; each is kept as how reading ended.
func TestTake(t *testing.T) {
	for name, c := range map[string]struct {
		got    fetched
		accept bool
		want   string
		acs    string
	}{
		"the same " +
			"host": {fetched{received: desk.Received{Raw: raw("https://nightlog.kestrelridge.example/saml/acs2")}},
			false, Taken,
			"https://nightlog.kestrelridge.example/saml/acs2"},
		"another host": {fetched{received: desk.Received{Raw: raw("https://elsewhere.example/acs")}}, false, Waits,
			"https://nightlog.kestrelridge.example/saml/acs/"},
		"another host, by word": {fetched{received: desk.Received{Raw: raw("https://elsewhere.example/acs")}}, true,
			Taken,
			"https://elsewhere.example/acs"},
		"no answer": {fetched{err: errors.New("no answer")}, false, Failed,
			"https://nightlog.kestrelridge.example/saml/acs/"},
		"garbage": {fetched{received: desk.Received{Raw: []byte("<html>")}}, false, Failed,
			"https://nightlog.kestrelridge.example/saml/acs/"},
		"unchanged": {fetched{as: true}, false, Unchanged, "https://nightlog.kestrelridge.example/saml/acs/"},
		"by hand":   {fetched{}, false, ByHand, "https://nightlog.kestrelridge.example/saml/acs/"},
	} {
		t.Run(name, func(t *testing.T) {
			h := fixture.New(t)
			p, err := h.AnyParty("nightlog")
			if err != nil {
				t.Fatal(err)
			}
			a := &Answers{[]federation.Party{*p}, []fetched{c.got}}
			list, err := a.Take(h.Desk, c.accept)
			if err != nil || len(list) != 1 || list[0].Outcome != c.want {
				t.Fatalf("%+v %v", list, err)
			}
			if p, err = h.AnyParty("nightlog"); err != nil || p.Entity.SP.ACS[0].Location != c.acs {
				t.Errorf("%+v %v", p.Entity.SP.ACS, err)
			}
			readings, err := h.Readings()
			if err != nil || (readings["nightlog"].Outcome == c.want) == (c.want == ByHand) {
				t.Errorf("%+v %v", readings, err)
			}
		})
	}
}

// TestVersions: what a party published before comes back as it was.
func TestVersions(t *testing.T) {
	h := fixture.New(t)
	p, err := h.AnyParty("nightlog")
	if err != nil {
		t.Fatal(err)
	}
	a := &Answers{[]federation.Party{*p},
		[]fetched{{received: desk.Received{Raw: raw("https://elsewhere.example/acs")}}}}
	if _, err := a.Take(h.Desk, true); err != nil {
		t.Fatal(err)
	}
	diff, stale, err := Restore(h.Desk, "nightlog", 1)
	if err != nil || len(diff) == 0 || len(stale) != 1 {
		t.Fatalf("%v %v %v", diff, stale, err)
	}
	const first = "https://nightlog.kestrelridge.example/saml/acs/"
	if p, err = h.AnyParty("nightlog"); err != nil || p.Entity.SP.ACS[0].Location != first {
		t.Errorf("%+v %v", p.Entity.SP.ACS, err)
	}
	var none *NoVersionError
	if _, _, err := Restore(h.Desk, "nightlog", 9); !errors.As(err, &none) {
		t.Errorf("%v", err)
	}
}

// TestLeft: a party that left its registry proves nothing until it is back, and what was proven is there again then.
func TestLeft(t *testing.T) {
	h := fixture.New(t)
	p, err := h.AnyParty("nightlog")
	if err != nil {
		t.Fatal(err)
	}
	group := func(entities string) []byte {
		return []byte(`<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata">` + entities +
			`</md:EntitiesDescriptor>`)
	}
	const acs = "https://nightlog.kestrelridge.example/saml/acs/"
	other := strings.ReplaceAll(string(raw("https://plates.example/acs")), "nightlog.kestrelridge", "plates")
	third := strings.ReplaceAll(other, "plates.example", "third.example")
	read := func(b []byte) Result {
		t.Helper()
		a := &Answers{[]federation.Party{*p}, []fetched{{received: desk.Received{Raw: b}}}}
		list, err := a.Take(h.Desk, false)
		if err != nil {
			t.Fatal(err)
		}
		if p, err = h.AnyParty("nightlog"); err != nil {
			t.Fatal(err)
		}
		return list[0]
	}
	proof := func() federation.Proof {
		t.Helper()
		return h.Trust(t, "nightlog@ridge").Proof()
	}
	if r := read(group(string(raw(acs)) + other)); r.Outcome != Taken && r.Outcome != Unchanged {
		t.Fatalf("it is there: %+v", r)
	}
	before := proof()
	for what, without := range map[string][]byte{"two others": group(other + third), "one other": group(other)} {
		r := read(without)
		if r.Outcome != Left || len(r.Trusts) > 1 || len(proof().Left) != 1 || proof().Left[0] != "nightlog" {
			t.Errorf("%s: %+v, %+v", what, r, proof())
		}
	}
	if p.Entity.ID != "https://nightlog.kestrelridge.example/saml" {
		t.Errorf("it is another one now: %s", p.Entity.ID)
	}
	if r := read(group(string(raw(acs)) + third)); r.Outcome == Left || len(proof().Left) > 0 ||
		proof().Kind != before.Kind {
		t.Errorf("it is back: %+v, %+v", r, proof())
	}
}

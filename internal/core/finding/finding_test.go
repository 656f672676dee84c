package finding

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
)

func TestLists(t *testing.T) {
	var l List
	l.Pass("a", "what", "saw")
	l.Add(Finding{ID: "b", Level: Warning})
	if l.Failed() || l.Count(Pass) != 1 || len(l.Without(Pass)) != 1 || l[0].Expected != "saw" {
		t.Errorf("%+v", l)
	}
	l.Add(Finding{ID: "c", Level: Error})
	if !l.Failed() || !slices.Equal(l.IDs(Error), []string{"c"}) || l.IDs(Note) != nil {
		t.Errorf("%+v", l)
	}
}

func TestRemedies(t *testing.T) {
	r := Run("a", "b").Then(Run("c").Then(Do("words"))).Then(Run("d")).Or(Run("e")).Or(Do("else"))
	var got []string
	for _, c := range r.Commands() {
		got = append(got, strings.Join(c, " "))
	}
	if strings.Join(got, ", ") != "a b, c, d, e" {
		t.Errorf("%v", got)
	}
	if !(Remedy{}).IsZero() || r.IsZero() || Do("x").IsZero() {
		t.Error("which remedy says nothing")
	}
	b, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	var back Remedy
	if err := json.Unmarshal(b, &back); err != nil || fmt.Sprint(back.Commands()) != fmt.Sprint(r.Commands()) {
		t.Errorf("%s: %+v, %v", b, back, err)
	}
	if err := json.Unmarshal([]byte(`"as older ledgers have it"`),
		&back); err != nil || back.Do != "as older ledgers have it" {
		t.Errorf("%+v, %v", back, err)
	}
}

// TestBlanks finds what somebody has to fill in, and takes nothing else for it.
func TestBlanks(t *testing.T) {
	names := func(r Remedy) string {
		var out []string
		for _, b := range r.Blanks() {
			if b.Where == "" {
				t.Errorf("%s: nobody is told where it is found", b.Name)
			}
			out = append(out, b.Name)
		}
		return strings.Join(out, " ")
	}
	for _, c := range []struct {
		r    Remedy
		want string
	}{
		{Run("trust", "change", "a@b", "--owner", "MAIL"), "MAIL"}, {Run("trust", "list"), ""},
		{Run("federate", "APP", "--with", "ridge").Then(Run("rehearse", "APP@ridge", "--as", "PERSON")), "APP PERSON"},
		{Run("x", "group:NAME", "FIELD=NAME"), "NAME FIELD"}, {Run("x", "EMAIL", "SHA256SUM"), ""},
		{Do("write MAIL"), ""},
	} {
		if got := names(c.r); got != c.want {
			t.Errorf("%v: %q, want %q", c.r.Run, got, c.want)
		}
	}
	b, err := json.Marshal(Run("x", "MAIL"))
	if err != nil || !strings.Contains(string(b), `"blanks":[{"name":"MAIL"`) {
		t.Errorf("%s, %v", b, err)
	}
}

func TestAdvised(t *testing.T) {
	if Advise(nil, Do("x")) != nil {
		t.Error("advice about no error")
	}
	cause := errors.New("why")
	err := fmt.Errorf("what: %w", Advise(cause, Run("next")))
	var a *Advised
	if !errors.Is(err, cause) || !errors.As(err, &a) || a.Fix.IsZero() || err.Error() != "what: why" {
		t.Errorf("%v, %+v", err, a)
	}
}

// TestKeys: a finding is known by its ID and by what of its record it is about, and not by its words; what older
// ledgers kept, with words, is recognised still.
func TestKeys(t *testing.T) {
	f := Finding{ID: ClaimsGap, Of: "mail", Check: "the claim mail"}
	g := f
	g.Check = "mail, in other words"
	other := Finding{ID: ClaimsGap, Of: "phone", Check: "the claim mail"}
	if f.Key() != g.Key() || f.Key() == other.Key() ||
		(&Finding{ID: TrustOwner, Check: "owner"}).Key() != "trust.owner" {
		t.Errorf("%q, %q, %q", f.Key(), g.Key(), other.Key())
	}
	if !f.Is("claims.gap/mail") || !f.Is("claims.gap/the claim mail") || f.Is("claims.gap/phone") ||
		f.Is("claims.gap") {
		t.Error("which kept word means the finding")
	}
	if !ClaimsGap.Of(ClaimsFamily) || ID("claims").Of(ClaimsFamily) || ID("claimsgap").Of(ClaimsFamily) {
		t.Error("which ID is of which family")
	}
	if e, ok := Lookup(OAuthFamily.With("its_own")); !ok || e.Level != Error {
		t.Errorf("an error code that no standard has: %+v", e)
	}
	if _, ok := Lookup("no.such"); ok {
		t.Error("an ID that is not there has a meaning")
	}
}

package mapping_test

import (
	"errors"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/mapping"
)

// house is a house with three people, of whom the app finds accounts by their mail address.
func house(t *testing.T) (*fixture.House, *mapping.Mapper) {
	h := fixture.New(t)
	if _, err := h.LoadPeople([]byte("id,uid,mail,displayName\nmira,mira,mira.solano@kestrelridge.example,Mira "+
		"Solano\n"+
		"petra,petra,petra@southmere.example,Petra Lindqvist\nilse,ilse,,Ilse Varga\n"), "people.csv", desk.Loading{
		Replace: true}); err != nil {
		t.Fatal(err)
	}
	if _, _, err := h.SetClaims(fixture.OverSAML, desk.ClaimInput{Assign: []string{"mail=person.mail"}}); err != nil {
		t.Fatal(err)
	}
	if _, _, _, err := h.ChangeParty(desk.PartyInput{Kind: federation.App, Name: "nightlog",
		Reads: federation.MappingInput{
			Reads: []string{"login=mail", "name=displayName"}, Key: "login", Strangers: "created"}}); err != nil {
		t.Fatal(err)
	}
	return h, &mapping.Mapper{Book: h.Book}
}

// TestMatch says of each whom the trust admits what the app would make of them.
func TestMatch(t *testing.T) {
	h, m := house(t)
	if _, err := m.Match(fixture.OverSAML); !errors.Is(err, mapping.ErrNoAccounts) {
		t.Errorf("%v", err)
	}
	for name, c := range map[string]struct {
		accounts                   string
		found, strangers, swapped  int
		orphans                    int
		strangersTold, swappedTold bool
	}{
		"known": {"login,name\nmira.solano@kestrelridge.example,Mira Solano\npetra@southmere.example,Petra L\n",
			2, 1, 0, 0, true, false},
		"nobody":   {"login,name\nx@kestrelridge.example,X\n", 0, 3, 0, 1, true, false},
		"swapped":  {"login,name\nmira.solano@kestrelridge.example,Petra Lindqvist\n", 0, 2, 1, 0, true, true},
		"no proof": {"login,name\nmira.solano@kestrelridge.example,Somebody\n", 1, 2, 0, 0, true, false},
		"both names": {"login,name,mail\nmira.solano@kestrelridge.example,Petra " +
			"Lindqvist,mira.solano@kestrelridge.example\n",
			1, 2, 0, 0, true, false},
	} {
		if _, err := m.Load("nightlog", []byte(c.accounts), "accounts.csv"); err != nil {
			t.Fatal(err)
		}
		x, err := m.Match(fixture.OverSAML)
		if err != nil {
			t.Fatal(err)
		}
		got := [4]int{len(x.Found), len(x.Strangers), len(x.Swapped), len(x.Orphans)}
		if got != [4]int{c.found, c.strangers, c.swapped, c.orphans} {
			t.Errorf("%s: %+v", name, x.Matching)
		}
		told := x.Judge()
		if has(told, "account.strangers") != c.strangersTold || has(told, "account.swapped") != c.swappedTold {
			t.Errorf("%s: %+v", name, told)
		}
	}
	if _, err := m.Load("nightlog", []byte("login\nmira.solano@kestrelridge.example\n"),
		"accounts.csv"); err != nil {
		t.Fatal(err)
	}
	if _, err := h.ChangeTrust(fixture.OverSAML, desk.Terms{Admits: "person:mira"}); err != nil {
		t.Fatal(err)
	}
	if x, err := m.Match(fixture.OverSAML); err != nil || x.Admitted != 1 || len(x.Strangers) != 0 {
		t.Errorf("of one: %+v %v", x, err)
	}
}

func has(l finding.List, id string) bool {
	for _, f := range l {
		if string(f.ID) == id && f.Level != finding.Pass {
			return true
		}
	}
	return false
}

// TestGaps says for how many a rule has nothing, and what would serve them.
func TestGaps(t *testing.T) {
	_, m := house(t)
	g, err := m.Gaps(fixture.OverSAML, "")
	if err != nil || g.People != 3 || len(g.Rules) != 1 || g.Rules[0].Empty != 1 || g.Rules[0].Who[0] != "ilse" ||
		!g.Rules[0].Required {
		t.Fatalf("%+v %v", g, err)
	}
	if len(g.Lacking) != 1 || g.Lacking[0] != "displayName" {
		t.Errorf("lacking: %v", g.Lacking)
	}
	s, err := m.Suggest(fixture.OverSAML)
	if err != nil || len(s.List) != 1 || s.List[0].Claim != "displayName" || s.List[0].Serves != 3 {
		t.Errorf("%+v %v", s, err)
	}
	if _, err := m.Gaps(fixture.OverSAML, "nobody"); err == nil {
		t.Error("a group that is not there")
	}
}

package people

import (
	"errors"
	"slices"
	"testing"
)

func TestPersons(t *testing.T) {
	p := Person{ID: "mira", Groups: []string{"Observers"},
		Attributes: map[string][]string{"mail": {"mira@kestrelridge.example"},
			"entryUUID": {"u-1"}}}
	if p.SubjectKey() != "mira" || p.UUID() != "u-1" || (&Person{}).UUID() != "" {
		t.Errorf("%+v", p)
	}
	if p.Key = "k"; p.SubjectKey() != "k" {
		t.Error("the key that the ledger keeps is not taken")
	}
	if !p.In("observers") || p.In("directors") {
		t.Error("who is in a group")
	}
	for _, c := range []struct {
		words []string
		want  bool
	}{{nil, true}, {[]string{"MIRA"}, true}, {[]string{"mira", "observ"}, true}, {[]string{"mira", "lost"}, false},
		{[]string{"kestrelridge.example"}, true}} {
		if p.Holds(c.words...) != c.want {
			t.Errorf("%v", c.words)
		}
	}
	for want, attrs := range map[string]map[string][]string{"Mira O.": {"displayName": {"Mira O."}, "cn": {"x"}},
		"Mira Okafor": {"givenName": {"Mira"}, "sn": {"Okafor"}}, "mira": {"sn": {"Okafor"}}} {
		if got := (&Person{ID: "mira", Attributes: attrs}).Name(); got != want {
			t.Errorf("%v: %s", attrs, got)
		}
	}
	list := []Person{p, {ID: "petra", Groups: []string{"directors", "Observers"},
		Attributes: map[string][]string{"mail": {}}}}
	c := CensusOf(list)
	if got := c.GroupNames(); !slices.Equal(got, []string{"Observers", "directors"}) {
		t.Errorf("%v", got)
	}
	if got := c.Attributes; c.People != 2 || got["mail"] != 1 || got["lost"] != 0 {
		t.Errorf("%+v", c)
	}
	c.Count(&list[0], -1)
	if c.People != 1 || len(c.Attributes) != 0 || c.Groups["directors"] != 1 {
		t.Errorf("without the first: %+v", c)
	}
}

func TestEntriesOfADirectory(t *testing.T) {
	list,
		err := Entries([]byte("dn: uid=mira,dc=example\nUID;lang-en: mira\nmail: mira@kestrelridge.example\n" +
		"employeeNumber: 7\nobjectClass: person\n\ndn: ou=people,dc=example\nou: people\n"))
	if err != nil || len(list) != 2 || list[1].Line != 7 || list[0].DN != "uid=mira,dc=example" {
		t.Fatalf("%+v, %v", list, err)
	}
	d, err := FromEntries(list, "")
	if err != nil || len(d.Persons) != 1 || d.Persons[0].ID != "mira" || d.Skipped != 1 {
		t.Errorf("%+v, %v", d, err)
	}
	if d, err = FromEntries(list, "employeeNumber"); err != nil || d.Persons[0].ID != "7" {
		t.Errorf("named by an attribute: %+v, %v", d, err)
	}
	list[0].Attributes["jpegPhoto"] = []string{"\xff\xd8"}
	if d, err = FromEntries(list[:1], ""); err != nil || d.Persons[0].Attributes["jpegPhoto"][0] != "/9g=" {
		t.Errorf("what is no text: %+v, %v", d, err)
	}
	if _, err := FromEntries([]Entry{list[0], list[0]}, ""); !errors.Is(err, ErrDuplicate) {
		t.Errorf("one twice: %v", err)
	}
	if _, err := Entries([]byte("no record")); !errors.Is(err, ErrSyntax) {
		t.Errorf("no LDIF: %v", err)
	}
}

func TestSources(t *testing.T) {
	at := "ldaps://directory.kestrelridge.example"
	for _, c := range []struct {
		s         Source
		directory bool
		good      bool
	}{
		{Source{At: "people.ldif"}, false, true}, {Source{At: "people.ldif", Base: "dc=example"}, false, false},
		{Source{At: "https://people.example"}, false, false}, {Source{At: at}, true, false},
		{Source{At: at, Base: "dc=example"}, true, true},
		{Source{At: at, Base: "dc=example", BindDN: "cn=x"}, true, false},
		{Source{At: at, Base: "dc=example", BindDN: "cn=x", Password: "env:WORD"}, true, true},
		{Source{At: at, Base: "dc=example", Page: 10001}, true, false}, {Source{At: at, Base: "dc=example",
			Cache: -1}, true, false},
	} {
		if err := c.s.Check(); (err == nil) != c.good || !c.good && !errors.Is(err, ErrSource) ||
			c.s.Directory() != c.directory {
			t.Errorf("%+v: %v", c.s, err)
		}
	}
}

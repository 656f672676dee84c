package accounts

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"tressik.example/internal/core/people"
)

func TestReadsExports(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ in, want string }{
		"CSV":             {"name,mail\nmira,mira@x.example\n", "2 mail=mira@x.example name=mira"},
		"semicolons, BOM": {"\xEF\xBB\xBFname;mail\r\n\"So;lano\";a@x.example\r\n", "2 mail=a@x.example name=So;lano"},
		"an empty cell":   {"name,mail\nmira,\n", "2 name=mira"},
		"a line in quotes": {"name,note\nmira,\"two\nlines\"\npetra,x\n",
			"2 name=mira note=two\nlines;4 name=petra note=x"},
		"a JSON list": {`[{"name":"mira","n":5,"on":true,"none":null}]`, "1 n=5 name=mira on=true"},
		"JSON lines":  {"{\"name\":\"mira\"}\n{\"name\":\"petra\"}\n", "1 name=mira;2 name=petra"},
		"SCIM": {`{"Resources":[{"userName":"mira","emails":[{"value":"a"},{"value":"b"}]}]}`,
			"1 emails.value=a|b userName=mira"},
		"LDIF": {"dn: uid=mira,dc=x\nuid: mira\nuserPassword: secret\n", "1 dn=uid=mira,dc=x uid=mira"},
		"SCIM in two pages": {`{"totalResults":2,"Resources":[{"userName":"mira"}]}` + "\n" +
			`{"totalResults":2,"startIndex":2,"Resources":[{"userName":"petra"}]}`, "1 userName=mira;2 userName=petra"},
		"a list of pages": {`[{"totalResults":2,"Resources":[{"userName":"mira"}]},` +
			`{"totalResults":2,"Resources":[{"userName":"petra"}]}]`, "1 userName=mira;2 userName=petra"},
		"lines of carriage returns": {"name,mail\rmira,a\r", "2 mail=a name=mira"},
		"secrets": {`[{"name":"mira","password":"x","login":{"pwdHash":"y","totpSecret":"z"},"secretary":"petra"}]`,
			"1 name=mira secretary=petra"},
		"LDIF, base64, folded": {"version: 1\n\ndn: uid=mira\ncn:: TcO8bG\n xlcg==\n", "3 cn=Müller dn=uid=mira"},
	} {
		list, _, err := Read([]byte(c.in))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		var out []string
		for _, a := range list {
			s := fmt.Sprint(a.Line)
			for _, f := range Sorted(a.Fields) {
				s += " " + f + "=" + strings.Join(a.Fields[f], "|")
			}
			out = append(out, s)
		}
		if got := strings.Join(out, ";"); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
	for name, c := range map[string]struct {
		in   string
		want error
		says string
	}{
		"nothing":            {"", ErrEmpty, ""},
		"a head alone":       {"name,mail\n", ErrEmpty, ""},
		"a name twice":       {"name,name\na,b\n", people.ErrSyntax, "there twice"},
		"no name":            {"name,\na,b\n", people.ErrSyntax, "empty"},
		"too few cells":      {"name,mail\nmira\n", people.ErrSyntax, "line 2 cannot be read: it has more"},
		"an open quote":      {"name,mail\n\"mira,x\n", people.ErrSyntax, "line"},
		"bars":               {"name|mail\nmira|x\n", ErrKind, "a semicolon or a tab"},
		"broken JSON":        {"[\n{\"name\":\"mira\"},\n{\"name\":]", people.ErrSyntax, "line 3"},
		"JSON of something":  {"[1,2]", people.ErrSyntax, "entry 1"},
		"LDIF, bad base64":   {"dn: uid=x\ncn:: %%%\n", people.ErrSyntax, "line 2"},
		"LDIF with a change": {"dn: uid=x\nchangetype: delete\n", people.ErrSyntax, "change records"},
		"no UTF-8":           {"name\n\xff\n", people.ErrSyntax, "CSV UTF-8"},
		"UTF-16":             {"\xff\xfen\x00\n\x00", people.ErrSyntax, "text in UTF-16; save it as"},
		"JSON cut short":     {"[{\"name\":", people.ErrSyntax, "is the file whole"},
		"one page of SCIM": {`{"totalResults":200,"Resources":[{"userName":"mira"}]}`, people.ErrSyntax,
			"one page with 1 of the 200"},
		"two pages of three": {`{"totalResults":3,"Resources":[{"userName":"mira"}]}` +
			`{"totalResults":3,"Resources":[{"userName":"petra"}]}`, people.ErrSyntax, "2 pages with 2 of the 3"},
		"a list without any": {`{"totalResults":0}`, ErrEmpty, ""},
	} {
		_, _, err := Read([]byte(c.in))
		if !errors.Is(err, c.want) || !strings.Contains(fmt.Sprint(err), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestMatch(t *testing.T) {
	t.Parallel()
	list, _, err := Read([]byte("user\na@x.example\nB@x.example\nc@old.example\nd@x.example\nd@x.example\n" +
		"shared@x.example\ngone@x.example\n"))
	if err != nil {
		t.Fatal(err)
	}
	m := NewIndex(list, "user").Match([]Arrival{{"a", []string{"a@x.example"}}, {"b", []string{"b@x.example"}}, {"c",
		[]string{"c@x.example"}},
		{"d", []string{"d@x.example"}}, {"e", []string{"shared@x.example"}}, {"f", []string{"shared@x.example"}}, {"g",
			nil},
		{"h", []string{"h@x.example", "a2@x.example"}}, {"i", []string{"c"}}})
	if len(m.Found) != 1 || m.Found[0] != (Pair{"a", "a@x.example", "a@x.example", 2}) {
		t.Errorf("found %v", m.Found)
	}
	want := []Stranger{{"b", "b@x.example", "B@x.example", "case"}, {"c", "c@x.example", "c@old.example", "domain"},
		{Person: "g"},
		{Person: "h", Value: "a2@x.example"}, {"i", "c", "c@old.example", "a domain behind it"}}
	if fmt.Sprint(m.Strangers) != fmt.Sprint(want) {
		t.Errorf("strangers %v, want %v", m.Strangers, want)
	}
	if len(m.Collisions) != 2 || fmt.Sprint(m.Collisions[0]) != "{[d] [d@x.example d@x.example] [5 6]}" ||
		fmt.Sprint(m.Collisions[1]) != "{[e f] [shared@x.example] [7]}" {
		t.Errorf("collisions %v", m.Collisions)
	}
	if len(m.Orphans) != 3 || m.Orphans[2].Account != "gone@x.example" {
		t.Errorf("orphans %v", m.Orphans)
	}
}

// FuzzRead reads any bytes as an export: an error or accounts, and no panic.
func FuzzRead(f *testing.F) {
	for _, s := range []string{"name,mail\nmira,x\n", `[{"a":[{"b":1}]}]`, "dn: uid=x\ncn: y\n", "{}", "\"",
		"a;b\n\"c\";d"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		list, _, err := Read(b)
		if err == nil && len(list) == 0 {
			t.Fatal("no account and no error")
		}
		NewIndex(list, "name").Match([]Arrival{{"x", []string{"mira"}}})
	})
}

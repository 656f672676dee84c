package people

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
)

const ldif = "version: 1\r\n# a comment\r\ndn: uid=mira,ou=people,dc=kestrelridge,dc=example\r\nobjectClass: " +
	"inetOrgPerson\r\nuid: mira\r\nCN: Mira Solano\r\n" +
	"sn;lang-en: Sol\r\n ano\r\nmail: mira.solano@kestrelridge.example\r\nmail: " +
	"mira@kestrelridge.example\r\ngivenname:: TWlyYQ==\r\nuserPassword: secret\r\n\r\n" +
	"dn: ou=people,dc=kestrelridge,dc=example\r\nobjectClass: organizationalUnit\r\n\r\n" +
	"dn: cn=observers,ou=groups,dc=kestrelridge,dc=example\r\nobjectClass: groupOfNames\r\ncn: observers\r\nmember: " +
	"UID=mira, OU=people,dc=kestrelridge,dc=example\r\n\r\n" +
	"dn: cn=night,ou=groups,dc=kestrelridge,dc=example\r\nobjectClass: posixGroup\r\ncn: night\r\nmemberUid: mira\r\n"

func TestLDIF(t *testing.T) {
	d, err := Read([]byte(ldif))
	if err != nil {
		t.Fatal(err)
	}
	if len(d.Persons) != 1 || d.Skipped != 1 {
		t.Fatalf("%+v", d)
	}
	p := d.Persons[0]
	if p.ID != "mira" || p.Attributes["cn"][0] != "Mira Solano" || p.Attributes["sn"][0] != "Solano" ||
		p.Attributes["givenName"][0] != "Mira" ||
		len(p.Attributes["mail"]) != 2 || !slices.Equal(p.Groups, []string{"night", "observers"}) {
		t.Errorf("%+v", p)
	}
	if _, ok := p.Attributes["userPassword"]; ok {
		t.Error("a password was kept")
	}
	if !p.In("Observers") || p.In("directors") || p.Name() != "Mira Solano" {
		t.Errorf("groups %v, name %s", p.Groups, p.Name())
	}
}

func TestCSV(t *testing.T) {
	for _, in := range []string{
		"uid,mail,givenName,groups\nmira,mira@kestrelridge.example;m@kestrelridge.example,Mira,observers;night\n",
		"UID;Mail;givenname;groups\nmira;mira@kestrelridge.example|m@kestrelridge.example;Mira;observers|night\n",
	} {
		d, err := Read([]byte(in))
		if err != nil {
			t.Fatal(err)
		}
		p := d.Persons[0]
		if p.ID != "mira" || len(p.Attributes["mail"]) != 2 || p.Attributes["givenName"][0] != "Mira" ||
			!slices.Equal(p.Groups, []string{"night", "observers"}) {
			t.Errorf("%+v", p)
		}
	}
}

func TestRefused(t *testing.T) {
	for in, want := range map[string]struct {
		err  error
		line int
	}{
		"": {ErrNobody, 0}, "# only a comment\n": {ErrNobody, 0},
		"dn: ou=x\nobjectClass: organizationalUnit\n": {ErrNobody, 0},
		"dn: uid=a\nuid: a\n no: value":               {ErrNobody, -1},
		"version: 2\ndn: uid=a\nuid: a\n":             {ErrSyntax, 1},
		"version: 1\nuid: a\n":                        {ErrSyntax, 2},
		"dn: uid=a\nchangetype: modify\n":             {ErrSyntax, 2},
		"dn: uid=a\njpegPhoto:< file:///etc/passwd\n": {ErrSyntax, 2},
		"dn: uid=a\nuid: a\n\n cont\n":                {ErrSyntax, 4}, "uid,uid\na,b\n": {ErrSyntax, 1},
		"uid,mail\n\"a,b\n":                    {ErrSyntax, 2},
		"uid\na\nA\n":                          {ErrDuplicate, 3},
		"uid,mail\n,x@y.example\n":             {ErrSyntax, 2},
		"dn: uid=a\nuid: a\ncn:: no base64!\n": {ErrSyntax, 3}, "name,phone\na,1\n": {ErrSyntax, 1},
		"[{\"uid\":\"a\"},\n{\"uid\":]": {ErrSyntax, 2}, "[{\"cn\":\"a\"}]": {ErrSyntax, 0}, "[]": {ErrNobody, 0},
		"[{\"uid\":\"a\"},{\"uid\":\"A\"}]": {ErrDuplicate, 0}, "[1]": {ErrSyntax, 0},
	} {
		_, err := Read([]byte(in))
		var re *ReadError
		if want.line == -1 {
			if err != nil {
				t.Errorf("%q: %v", in, err)
			}
			continue
		}
		if !errors.Is(err, want.err) || !errors.As(err, &re) || re.Line != want.line {
			t.Errorf("%q: %v, want %v on line %d", in, err, want.err, want.line)
		}
	}
}

func FuzzLDIF(f *testing.F) {
	f.Add([]byte(ldif))
	f.Add([]byte("dn:: dWlkPWE=\nuid: a\n\ndn: cn=g\nmember: uid=a\n"))
	f.Fuzz(func(t *testing.T, b []byte) { whole(t, ReadLDIF, b) })
}

func FuzzCSV(f *testing.F) {
	f.Add([]byte("uid,mail,groups\na,a@b.example,x;y\n"))
	f.Add([]byte("mail;cn\n\"a@b.example\";\"x\"\"y\"\n"))
	f.Fuzz(func(t *testing.T, b []byte) { whole(t, ReadCSV, b) })
}

// whole holds that what is read has persons, each with an ID that no other has.
func whole(t *testing.T, read func([]byte) (*Directory, error), b []byte) {
	d, err := read(b)
	if err != nil {
		return
	}
	if len(d.Persons) == 0 {
		t.Fatal("nobody, and no error")
	}
	seen := map[string]bool{}
	for _, p := range d.Persons {
		if p.Attributes == nil || seen[p.ID] {
			t.Fatalf("%q: person %q", b, p.ID)
		}
		seen[p.ID] = true
		_ = p.Name()
	}
}

// TestTables: what parts the columns, what a broken row is told as, and names that would steer whatever shows them.
func TestTables(t *testing.T) {
	t.Parallel()
	for _, text := range []string{"uid\tmail\tsn\tgroups\nmira\tm@x.example\t\tnight;day\n",
		"uid,mail,sn,groups\nmira,m@x.example,,night;day\n",
		"uid;mail;sn;groups\nmira; m@x.example;;night|day\n"} {
		d, err := Read([]byte(text))
		if err != nil || len(d.Persons) != 1 || d.Persons[0].Attributes["mail"][0] != "m@x.example" ||
			!slices.Equal(d.Persons[0].Groups, []string{"day", "night"}) || d.Persons[0].Attributes["sn"] != nil {
			t.Errorf("%q: %+v, %v", text, d, err)
		}
	}
	for text, want := range map[string]string{
		"uid,mail\nmira\n":                "line 2 cannot be read: it has more or fewer values",
		"uid,mail\n\"mira,x\n":            "line 2 cannot be read: a value in quotes does not end with one",
		"uid,mail\nmi\"ra,x\n":            "line 2 cannot be read: a quote stands inside a value",
		"uid,mail\nmi\x00ra,x\n":          `"mi\x00ra", an ID of a person`,
		"uid,groups\nmira,\x1b[2Jnight\n": `a name of a group of "mira", holds a control character`,
	} {
		if _, err := Read([]byte(text)); !errors.Is(err, ErrSyntax) || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
}

// TestOddValues: line ends, folds, byte order marks, pictures, and very many values.
func TestOddValues(t *testing.T) {
	t.Parallel()
	text := "\xEF\xBB\xBFversion: 1\r\ndn: uid=mira\r\nuid: mira\r\ncn: Mira\r\n  Solano\r\njpegPhoto:: " +
		"/9j/4AAQ\r\nmail:\r\n"
	for range 10_000 {
		text += "mobile: +1\r\n"
	}
	d, err := Read([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	a := d.Persons[0].Attributes
	if a["cn"][0] != "Mira Solano" || a["jpegPhoto"][0] != "/9j/4AAQ" || len(a["mobile"]) != 10_000 ||
		a["mail"][0] != "" {
		t.Errorf("%q %q, %d", a["cn"], a["jpegPhoto"], len(a["mobile"]))
	}
	d, err = Read([]byte(`{"Resources":[{"uid":"mira","mail":["a@x.example","b@x.example"],"groups":["night",` +
		`"observers"],"level":3}]}`))
	if err != nil || len(d.Persons[0].Attributes["mail"]) != 2 || len(d.Persons[0].Groups) != 2 ||
		d.Persons[0].Attributes["level"][0] != "3" {
		t.Errorf("%+v %v", d, err)
	}
	nested := "dn: uid=a\nuid: a\n\ndn: cn=inner\nobjectClass: groupOfNames\ncn: inner\nmember: uid=a\nmember: " +
		"cn=outer\n\ndn: cn=outer\nobjectClass: groupOfNames\ncn: outer\nmember: cn=inner\n"
	if d, err = Read([]byte(nested)); err != nil || strings.Join(d.Persons[0].Groups, " ") != "inner outer" {
		t.Errorf("groups in a circle: %+v %v", d, err)
	}
}

func FuzzJSON(f *testing.F) {
	f.Add([]byte(`[{"uid":"a","mail":["x"],"groups":["g"]}]`))
	f.Add([]byte(`{"Resources":[{"mail":"a"}]}`))
	f.Fuzz(func(t *testing.T, b []byte) { whole(t, ReadJSON, b) })
}

// TestOneRecordEach: a directory gives each entry its own entryUUID; two people with one are no load.
func TestOneRecordEach(t *testing.T) {
	t.Parallel()
	const head = "uid,mail,entryUUID\n"
	_, err := Read([]byte(head + "mira,m@a.example,9f3c-01\npetra,p@a.example,9F3C-01\n"))
	if !errors.Is(err, ErrDuplicate) || !strings.Contains(err.Error(), "mira and petra have one entryUUID") {
		t.Errorf("two people of one record: %v", err)
	}
	if _, err := Read([]byte(head + "mira,m@a.example,9f3c-01\npetra,p@a.example,\nvera,v@a.example,\n")); err != nil {
		t.Errorf("people without one: %v", err)
	}
}

// TestNoSecretIsKept: whatever a table, a document or a directory calls it.
func TestNoSecretIsKept(t *testing.T) {
	t.Parallel()
	for in, left := range map[string]string{
		"uid,mail,password,pwd_hash\nmira,m@x.example,x,y\n": "[password pwd_hash]",
		`[{"uid":"mira","userPassword":"x","unicodePwd":"y","krbPrincipalKey":"z"}]`: "[krbPrincipalKey unicodePwd " +
			"userPassword]",
		"dn: uid=mira,dc=x\nobjectClass: person\nuid: mira\nuserpassword: x\nsambaNTPassword: y\n": "" +
			"[sambaNTPassword userPassword]",
		"uid,secretary,saltire,passphrase\nmira,petra,x,y\n": "[passphrase]",
		"uid,mail\nmira,m@x.example\n":                       "[]",
	} {
		d, err := Read([]byte(in))
		if err != nil || fmt.Sprint(d.LeftOut) != left {
			t.Errorf("%q: %v, %v", in, d, err)
			continue
		}
		for name := range d.Persons[0].Attributes {
			if HoldsSecret(name) {
				t.Errorf("%q: %s is kept", in, name)
			}
		}
	}
}

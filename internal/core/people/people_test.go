package people

import (
	"errors"
	"slices"
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
		"": {ErrNobody, 0}, "# only a comment\n": {ErrNobody, 0}, "dn: ou=x\nobjectClass: organizationalUnit\n": {ErrNobody,
			0},
		"dn: uid=a\nuid: a\n no: value": {ErrNobody, -1}, "version: 2\ndn: uid=a\nuid: a\n": {ErrSyntax, 1},
		"version: 1\nuid: a\n": {ErrSyntax, 2}, "dn: uid=a\nchangetype: modify\n": {ErrSyntax, 2},
		"dn: uid=a\njpegPhoto:< file:///etc/passwd\n": {ErrSyntax, 2},
		"dn: uid=a\nuid: a\n\n cont\n":                {ErrSyntax, 4}, "uid,uid\na,b\n": {ErrSyntax, 1},
		"uid,mail\n\"a,b\n":        {ErrSyntax, 2},
		"uid\na\nA\n":              {ErrDuplicate, 3},
		"uid,mail\n,x@y.example\n": {ErrSyntax, 2},
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

package people

import (
	"errors"
	"strings"
	"testing"
)

// TestHeadings: a table as people keep it is read by the headings that they give; what is named goes before, and the
// attribute's own name before a usual one.
func TestHeadings(t *testing.T) {
	for _, c := range []struct {
		head    string
		columns map[string]string
		want    string // the attributes of the columns
	}{
		{"User name,E-Mail,First Name,LAST_NAME,Department", nil, "uid mail givenName sn ou"},
		{"Staff no,E-Mail,Team", map[string]string{"Staff no": "uid", "Team": "groups"}, "uid mail groups"},
		{"mail,Email,uid", nil, "mail Email uid"}, // two addresses: the second keeps its name
		{"login,Phone,colour", nil, "uid telephoneNumber colour"},
		{"uid,EduPersonAffiliation", nil, "uid eduPersonAffiliation"},
		{"Email,mail,uid", map[string]string{"Email": "mail"}, ""},
		{"uid,,mail", nil, ""}, {"uid,x,x", nil, ""}, {"uid", map[string]string{"nowhere": "mail"}, ""},
		{"colour,shape", nil, "colour shape"},
	} {
		got, err := attributes(strings.Split(c.head, ","), c.columns)
		if s := strings.Join(got, " "); s != c.want || (err == nil) != (c.want != "") {
			t.Errorf("%s %v: %q %v", c.head, c.columns, s, err)
		}
	}
	d, err := ReadAs([]byte("Staff no,E-Mail,Team\nk-1,mira@kestrelridge.example,observers;directors\n"),
		map[string]string{"Staff no": "uid", "Team": "groups"})
	if err != nil || len(d.Persons) != 1 || d.Persons[0].ID != "k-1" || len(d.Persons[0].Groups) != 2 ||
		d.Persons[0].Attributes["mail"][0] != "mira@kestrelridge.example" {
		t.Errorf("%+v %v", d, err)
	}
	if _, err := ReadAs([]byte("colour,Team\nblue,x\n"), nil); !errors.Is(err, ErrSyntax) ||
		!strings.Contains(err.Error(), "it is: colour, Team") {
		t.Errorf("the headings are told as they stand there: %v", err)
	}
}

package people_test

import (
	"fmt"

	"tressik.example/internal/core/people"
)

func ExampleReadLDIF() {
	d, err := people.ReadLDIF([]byte(`dn: uid=mira,ou=people,dc=kestrelridge,dc=example
objectClass: inetOrgPerson
uid: mira
displayName: Mira Solano

dn: cn=observers,ou=groups,dc=kestrelridge,dc=example
objectClass: groupOfNames
cn: observers
member: uid=mira,ou=people,dc=kestrelridge,dc=example
`))
	fmt.Println(d.Persons[0].ID, d.Persons[0].Name(), d.Persons[0].Groups, err)
	// Output: mira Mira Solano [observers] <nil>
}

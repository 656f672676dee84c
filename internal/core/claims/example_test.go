package claims_test

import (
	"fmt"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/people"
)

// A rule is an expression over a person's attributes and groups.
func ExampleEngine_Compile() {
	e, err := claims.NewEngine()
	if err != nil {
		panic(err)
	}
	p, err := e.Compile(`"observers" in groups ? "writer" : "reader"`)
	if err != nil {
		panic(err)
	}
	v, err := p.Evaluate(&people.Person{ID: "mira", Groups: []string{"observers"}}, "")
	fmt.Println(v, err)
	// Output: [writer] <nil>
}

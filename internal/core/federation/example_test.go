package federation_test

import (
	"fmt"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
)

// Whom a trust admits is read in one place, and what cannot be read admits nobody.
func ExampleTrust_Refuses() {
	mira := &people.Person{ID: "mira", Groups: []string{"observers"}}
	for _, admits := range []string{"everyone", "group:observers", "group:directors", "observers"} {
		t := &federation.Trust{Name: "nightlog@ridge", Admits: admits,
			Terms: federation.Held{Terms: &federation.SAMLTerms{}}}
		r := t.Refuses(mira, nil)
		fmt.Println(admits, r == nil)
	}
	// Output:
	// everyone true
	// group:observers true
	// group:directors false
	// observers false
}

package xmlsec_test

import (
	"fmt"

	"tressik.example/internal/core/xmlsec"
)

// What has two readings is not read at all.
func ExampleParse() {
	for _, text := range []string{`<a ID="_1">mira</a>`, `<!DOCTYPE a [<!ENTITY e "x">]><a>&e;</a>`,
		`<a ID="_1"><b ID="_1"/></a>`} {
		_, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits())
		fmt.Println(err == nil)
	}
	// Output:
	// true
	// false
	// false
}

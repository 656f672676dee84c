package redact_test

import (
	"fmt"

	"tressik.example/internal/core/redact"
)

// The same value gives the same word, so that it still shows what belongs together.
func ExampleMask_Text() {
	m := redact.New()
	m.Know("person", "mira")
	fmt.Println(m.Text("mira asks with code=SplxlOBeZQQYbYS6WxSbIA and mail mira.solano@kestrelridge.example"))
	fmt.Println(m.Text("code=SplxlOBeZQQYbYS6WxSbIA is redeemed for mira"))
	// Output:
	// person-1 asks with code=code-1 and mail mail-1@redacted.invalid
	// code=code-1 is redeemed for person-1
}

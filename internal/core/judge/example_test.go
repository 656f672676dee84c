package judge_test

import (
	"fmt"

	"tressik.example/internal/core/judge"
)

// A context class is reached by itself, and every one of them by a sign-in with several factors.
func ExampleReaches() {
	const password = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
	fmt.Println(judge.Reaches(judge.ContextMFA, password), judge.Reaches(password, judge.ContextMFA))
	// Output: true false
}

package oidc_test

import (
	"fmt"

	"tressik.example/internal/core/oidc"
)

// A native app comes back to its own machine; a web client does not.
func ExampleJudgeRedirect() {
	for _, kind := range []oidc.Kind{oidc.Native, oidc.Web} {
		found := oidc.JudgeRedirect(kind, "http://127.0.0.1/callback", "redirect URI", nil)
		fmt.Println(kind, !found.Failed())
	}
	// Output:
	// native true
	// web true
}

package oauth_test

import (
	"fmt"

	"tressik.example/internal/core/oauth"
)

// A refresh token carries its chain and its number, and nobody makes one without the key.
func ExampleReadRefreshToken() {
	key := []byte("a key of the provider, 32 octets")
	token := oauth.RefreshToken(key, "chain-1", 2)
	id, serial, ok := oauth.ReadRefreshToken(key, token)
	fmt.Println(id, serial, ok)
	_, _, ok = oauth.ReadRefreshToken([]byte("another key of thirty-two octets"), token)
	fmt.Println(ok)
	// Output:
	// chain-1 2 true
	// false
}

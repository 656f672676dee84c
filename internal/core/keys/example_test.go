package keys_test

import (
	"crypto/rand"
	"fmt"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
)

// A certificate is judged at a time that the caller says.
func ExampleJudge() {
	day := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	key, err := keys.Generate(rand.Reader, "ecdsa-p256")
	if err != nil {
		panic(err)
	}
	c, err := keys.SelfSign(rand.Reader, key, "ridge", "Kestrel Ridge Observatory", day, 90*24*time.Hour)
	if err != nil {
		panic(err)
	}
	for _, when := range []time.Time{day.Add(time.Hour), day.Add(70 * 24 * time.Hour), day.Add(100 * 24 * time.Hour)} {
		for _, f := range keys.Judge(c, "signing", finding.Provider, when) {
			fmt.Println(f.ID, f.Saw)
		}
	}
	// Output:
	// certificate ECDSA P-256, valid until 2031-06-02 09:00 UTC
	// certificate.expiring expires 2031-06-02 09:00 UTC
	// certificate.expired expired 2031-06-02 09:00 UTC
}

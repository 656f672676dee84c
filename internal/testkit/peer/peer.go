// Package peer finds the foreign programs that tests compare with.
package peer

import (
	"os"
	"os/exec"
	"testing"
)

// Need returns the path of the first of the programs that is here. Without one the test is skipped, except where CI
// says that peers are a must: there it fails.
func Need(t testing.TB, names ...string) string {
	t.Helper()
	for _, n := range names {
		if p, err := exec.LookPath(n); err == nil {
			return p
		}
	}
	if os.Getenv("CI") != "" {
		t.Fatalf("the peer %v is missing; `make peers` installs it", names)
	}
	t.Skipf("the peer %v is not here; `make peers` installs it", names)
	return ""
}

package internal

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

const module = "tressik.example/"

// allowed says which layers a layer may import, inside core and the stage too. The longest name that fits a package is
// its layer.
func allowed() map[string][]string {
	core := []string{"internal/core", "internal/core/finding", "internal/core/judge", "internal/core/near",
		"internal/core/keys", "internal/core/people", "internal/core/accounts",
		"internal/core/claims", "internal/core/xmlsec", "internal/core/saml", "internal/core/oidc",
		"internal/core/federation", "internal/core/oauth", "internal/core/redact"}
	with := func(more ...string) []string { return append(more, core...) }
	low := []string{"internal/core/finding", "internal/core/judge", "internal/core/near"}
	return map[string][]string{
		"cmd/tressik": {"internal/cli"},
		"internal/cli": with("internal/desk", "internal/book", "internal/play", "internal/inspect",
			"internal/handoff", "internal/report", "internal/view", "internal/store", "internal/stage", "internal/reach",
			"internal/rehearse", "internal/keyring", "internal/due", "internal/refresh",
			"internal/drill", "internal/aggregate", "internal/publish", "internal/mapping", "internal/sources",
			"internal/arrivals",
			"internal/watch", "internal/probe", "internal/expect", "internal/check", "internal/cutover", "internal/dossier",
			"internal/webpage",
			"internal/dossier", "internal/webpage", "internal/stage/cast", "internal/stage/server"),
		"internal/cutover": with("internal/check", "internal/expect", "internal/store"),
		"internal/dossier": with("internal/check", "internal/due", "internal/store", "internal/view"),
		"internal/check": with("internal/book", "internal/due", "internal/handoff", "internal/keyring", "internal/mapping",
			"internal/store"),
		"internal/expect":  with("internal/book", "internal/play", "internal/rehearse", "internal/store"),
		"internal/webpage": {},
		"internal/probe": with("internal/webpage", "internal/book", "internal/desk", "internal/inspect", "internal/play",
			"internal/reach"),
		"internal/watch": with("internal/handoff", "internal/play", "internal/reach", "internal/stage/server"),
		"internal/report": with("internal/watch", "internal/probe", "internal/expect", "internal/check", "internal/cutover",
			"internal/store", "internal/aggregate", "internal/publish", "internal/mapping", "internal/desk",
			"internal/due", "internal/handoff", "internal/inspect", "internal/keyring",
			"internal/refresh", "internal/drill", "internal/view", "internal/stage/server"),
		"internal/view":    {"internal/core/finding"},
		"internal/book":    with("internal/store"),
		"internal/inspect": with("internal/book", "internal/store"),
		"internal/handoff": with("internal/book"),
		"internal/keyring": with("internal/book", "internal/store"),
		"internal/due":     with("internal/book", "internal/keyring"),
		"internal/drill": with("internal/book", "internal/keyring", "internal/play", "internal/rehearse",
			"internal/store"),
		"internal/aggregate": with(),
		"internal/sources":   with("internal/book", "internal/reach", "internal/store"),
		"internal/arrivals":  with("internal/book", "internal/store"),
		"internal/mapping":   with("internal/book", "internal/handoff", "internal/store"),
		"internal/publish":   with("internal/aggregate", "internal/book", "internal/handoff", "internal/keyring"),
		"internal/refresh":   with("internal/desk", "internal/reach"),
		"internal/desk":      with("internal/book", "internal/handoff", "internal/store", "internal/reach"),
		"internal/play": with("internal/handoff", "internal/book", "internal/rehearse", "internal/store", "internal/stage",
			"internal/reach", "internal/stage/cast", "internal/stage/op", "internal/stage/server"),
		"internal/rehearse": with("internal/stage", "internal/stage/cast", "internal/stage/server",
			"internal/stage/rp", "internal/stage/sp"),
		"internal/store": with(),
		"internal/reach": with(),
		"internal/stage": with("internal/webpage", "internal/stage/server", "internal/stage/cast", "internal/stage/idp",
			"internal/stage/sp", "internal/stage/op", "internal/stage/rp", "internal/stage/api"),
		"internal/stage/server": {"internal/core/finding", "internal/core/judge", "internal/core/people",
			"internal/core/federation"},
		"internal/stage/cast": with(),
		"internal/stage/idp":  with("internal/stage/server", "internal/stage/cast"),
		"internal/stage/sp":   with("internal/stage/server", "internal/stage/cast", "internal/stage/idp"),
		"internal/stage/op":   with("internal/stage/server", "internal/stage/cast"),
		"internal/stage/rp": with("internal/stage/server", "internal/stage/cast", "internal/stage/op",
			"internal/stage/api"),
		"internal/stage/api":     with("internal/stage/server", "internal/stage/cast", "internal/stage/op"),
		"internal/core/finding":  {},
		"internal/core/near":     {},
		"internal/core/judge":    {"internal/core/finding"},
		"internal/core/keys":     low,
		"internal/core/people":   low,
		"internal/core/accounts": append([]string{"internal/core/people"}, low...),
		"internal/core/claims":   append([]string{"internal/core/people", "internal/core/saml"}, low...),
		"internal/core/xmlsec":   append([]string{"internal/core/keys"}, low...),
		"internal/core/saml":     append([]string{"internal/core/xmlsec", "internal/core/keys"}, low...),
		"internal/core/oidc":     append([]string{"internal/core/keys"}, low...),
		"internal/core/federation": append([]string{"internal/core/saml", "internal/core/oidc", "internal/core/keys",
			"internal/core/people", "internal/core/claims", "internal/core/accounts"}, low...),
		"internal/core/redact": append([]string{"internal/core/oidc", "internal/core/saml", "internal/core/xmlsec"},
			low...),
		"internal/core/oauth": append([]string{"internal/core/federation", "internal/core/oidc", "internal/core/people"},
			low...),
	}
}

func layer(path string) string {
	best := ""
	for l := range allowed() {
		if (path == l || strings.HasPrefix(path, l+"/")) && len(l) > len(best) {
			best = l
		}
	}
	return best
}

// TestArrows holds the direction of imports, and that nothing in core reaches for files, network, clock or terminal.
func TestArrows(t *testing.T) {
	seen := map[string]int{}
	outside := map[string]bool{"os": true, "net": true, "net/http": true, "os/exec": true, "database/sql": true,
		"log": true, "syscall": true,
		"golang.org/x/term": true, "math/rand": true, "crypto/rand": true}
	err := filepath.WalkDir("..", func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		rel := filepath.ToSlash(strings.TrimPrefix(filepath.Dir(path), ".."+string(filepath.Separator)))
		from := layer(rel)
		if from == "" {
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range f.Imports {
			p, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			if strings.HasPrefix(from, "internal/core") && outside[p] {
				t.Errorf("%s imports %s: nothing in core reaches outside", path, p)
			}
			own, ok := strings.CutPrefix(p, module)
			if !ok {
				continue
			}
			to := layer(own)
			seen[from]++
			good := to == from
			for _, a := range allowed()[from] {
				good = good || to == a
			}
			if !good {
				t.Errorf("%s imports %s: no arrow goes from %s to %s", path, own, from, to)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range []string{"internal/cli", "internal/desk", "internal/stage", "internal/core/saml",
		"internal/core/oauth"} {
		if seen[l] == 0 {
			t.Errorf("no import of %s was looked at: this test proves nothing", l)
		}
	}
}

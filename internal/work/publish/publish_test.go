package publish_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/model"
	"tressik.example/internal/testkit"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/publish"
)

// TestSite: an own provider publishes its metadata, its keys and its discovery document; a ledger without own parties
// publishes nothing.
func TestSite(t *testing.T) {
	h := fixture.New(t)
	s, err := (&publish.Publisher{Book: h.Book, Life: 7 * 24 * time.Hour}).Site(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	var paths []string
	for _, f := range s.Files {
		paths = append(paths, f.Path)
		if len(f.Bytes) == 0 || f.Type == "" {
			t.Errorf("%s is empty, or of no type", f.Path)
		}
	}
	for _, want := range []string{"metadata", "openid-configuration", "federation.xml"} {
		if !slices.ContainsFunc(paths, func(p string) bool { return strings.Contains(p, want) }) {
			t.Errorf("no %s among %v", want, paths)
		}
	}
	if len(s.Parties) != 1 || s.Signer != "ridge" {
		t.Errorf("%+v", s)
	}
	bare, _ := model.Begin(model.Empty(), testkit.Env(1))
	if _, err := (&publish.Publisher{Book: bare, Life: time.Hour}).Site(context.Background()); !errors.Is(err,
		publish.ErrNothing) {
		t.Errorf("%v", err)
	}
}

package sources_test

import (
	"errors"
	"testing"
	"time"

	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/sources"
)

// TestSources: the people of a source are kept as its own; who is in it no longer goes, and nobody of another is
// touched.
func TestSources(t *testing.T) {
	h := fixture.New(t)
	k := &sources.Reader{Book: h.Book}
	staff := &people.Source{Name: "staff", At: "ldaps://directory.kestrelridge.example",
		Base: "dc=kestrelridge,dc=example"}
	crowd := func(ids ...string) *people.Directory {
		d := &people.Directory{Skipped: 1}
		for _, id := range ids {
			d.Persons = append(d.Persons, people.Person{ID: id, Attributes: map[string][]string{"uid": {id}},
				Groups: []string{}})
		}
		return d
	}
	o, err := k.Add(staff, crowd("tobias", "ilse"))
	if err != nil || o.Added != 2 || o.Skipped != 1 {
		t.Fatalf("%+v %v", o, err)
	}
	if o, err = k.Renew(staff, crowd("ilse", "aiyana")); err != nil || o.Added != 1 || o.Removed != 1 {
		t.Errorf("%+v %v", o, err)
	}
	if err := h.Attempt(func() error { _, err := k.Renew(staff, crowd("mira")); return err }); !errors.Is(err,
		model.ErrExists) {
		t.Errorf("somebody loaded by hand: %v", err)
	}
	if stale, err := k.Stale(); err != nil || len(stale) != 0 {
		t.Errorf("%v %v", stale, err)
	}
	h.Clock = h.Clock.Add(sources.Fresh + time.Second)
	if stale, err := k.Stale(); err != nil || len(stale) != 1 {
		t.Errorf("after a while: %v %v", stale, err)
	}
	var unknown *model.UnknownError
	if _, err := k.Source("stuff"); !errors.As(err, &unknown) {
		t.Errorf("%v", err)
	}
	if err := k.Remove("staff"); err != nil {
		t.Fatal(err)
	}
	if all, err := h.Persons(); err != nil || len(all) != 1 || all[0].ID != "mira" {
		t.Errorf("%v %v", all, err)
	}
}

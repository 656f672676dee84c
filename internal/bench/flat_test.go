package bench

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit/peer"
	"tressik.example/internal/work/desk"
)

// sized is a ledger with so many trusts and people, at a place.
func sized(b *testing.B, place string, trusts, persons int) ledger.Options {
	b.Helper()
	o := options()
	o.SealKey = filepath.Join(b.TempDir(), "key")
	l, err := engine.Create(b.Context(), place, "Kestrel Ridge Observatory", o)
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	var list []people.Person
	for i := range persons {
		id := fmt.Sprintf("person%d", i)
		p := people.Person{ID: id, Attributes: map[string][]string{"uid": {id}, "mail": {id + "@kestrelridge.example"},
			"givenName": {fmt.Sprint("Given", i)}, "sn": {fmt.Sprint("Family", i)}},
			Groups: []string{fmt.Sprint("floor-", i%50)}}
		if i%10 == 7 {
			p.Groups = append(p.Groups, "observers")
		}
		list = append(list, p)
	}
	err = ledger.Updater(l.Update).Do(b.Context(), l.Env(), func(book *model.Book) error {
		if err := fill(b, desk.New(book), trusts, "ecdsa-p256"); err != nil {
			return err
		}
		return book.Change(func(e *model.Edit) error {
			_, _, _, err := e.PutPersons(list, false, "bench")
			return err
		})
	})
	if err != nil {
		b.Fatal(err)
	}
	return o
}

// one are commands that concern one person, one party or one trust.
func one() [][]string {
	return [][]string{
		{"trust", "show", "app0000@ridge"}, {"trust", "show", "app0001@ridge"}, {"next", "app0000@ridge"},
		{"app", "show", "app0000"}, {"check", "app0000@ridge"}, {"report", "app0000@ridge", "--out", "report.html",
			"--force"},
		{"claims", "set", "app0000@ridge", "mail=person.mail", "--dry-run"},
		{"claims", "preview", "app0000@ridge", "--as", "person7"},
		{"trust", "change", "app0000@ridge", "--admits", "group:observers", "--dry-run"},
		{"people", "show", "person7"}, {"people", "access", "person7"}, {"people", "search", "person7@"},
		{"consent", "give", "app0001@ridge", "--for", "person7"}, {"consent", "show",
			"app0001@ridge"},
		{"key", "announce", "ridge", "--use", "signing", "--dry-run"}, {"key", "list", "ridge"},
		{"secret", "list", "app0001@ridge"}, {"rehearse", "app0000@ridge", "--as", "person7"},
		{"journal", "list", "--last", "20"}, {"journal", "list", "--trust", "app0000@ridge"},
		{"handoff", "app0000@ridge", "--for", "app"},
		{"__complete", "trust", "show", "app00"}, {"__complete", "people", "show", "person77"},
	}
}

// BenchmarkFlat runs commands that concern one thing, on a small ledger and on a large one in turns: 100 trusts and 50
// people beside 10,000 and 100,000. The limit to keep is one and a half times the time.
func BenchmarkFlat(b *testing.B) {
	tressik := built(b)
	trusts, persons := 10_000, 100_000
	if testing.Short() {
		trusts, persons = 1_000, 5_000
	}
	for _, kept := range []string{"file", "database"} {
		b.Run(kept, func(b *testing.B) {
			small, large := filepath.Join(b.TempDir(), "small.ledger"), filepath.Join(b.TempDir(), "large.ledger")
			if kept == "database" {
				s := peer.Postgres(b, "")
				small, large = s.Address(s.New(b), ""), s.Address(s.New(b), "")
			}
			keys := map[string]string{small: sized(b, small, 100, 50).SealKey, large: sized(b, large, trusts,
				persons).SealKey}
			run := func(place string, args []string) float64 { return clocked(b, tressik, place, keys[place], args) }
			for _, args := range one() {
				b.Run(strings.Join(args[:min(len(args), 3)], "_"), func(b *testing.B) {
					run(small, args) // what it reads lies in memory from now on, for both
					run(large, args)
					var few, many []float64
					for range max(b.N, 5) {
						few, many = append(few, run(small, args)), append(many, run(large, args))
						if len(few) == 9 {
							break
						}
					}
					slices.Sort(few)
					slices.Sort(many)
					f, m := few[len(few)/2], many[len(many)/2]
					b.ReportMetric(f, "ms-small")
					b.ReportMetric(m, "ms-large")
					b.ReportMetric(m/f, "x-large")
					b.ReportMetric(0, "ns/op")
				})
			}
		})
	}
}

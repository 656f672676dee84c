package bench

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/ext"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/sqlite"
	"tressik.example/internal/model"
)

// crowd is a CSV of people, and one of accounts: one in six has none, and one in three accounts is nobody's.
func crowd(n int) (persons, records []byte) {
	var p, a strings.Builder
	p.WriteString("uid,mail,givenName,sn,displayName,title,employeeNumber,groups\n")
	a.WriteString("login,name,level\n")
	for i := range n {
		fmt.Fprintf(&p, "person%d,person%d@kestrelridge.example,Given%d,Family%d,Given%d "+
			"Family%d,Observer,%d,observers;floor-%d\n", i, i, i, i,
			i, i, i, i%50)
		if i%6 != 0 {
			fmt.Fprintf(&a, "person%d@kestrelridge.example,Given%d Family%d,%d\n", i, i, i, i%3)
		}
	}
	for i := range n * 11 / 30 {
		fmt.Fprintf(&a, "gone%d@kestrelridge.example,Gone %d,1\n", i, i)
	}
	return []byte(p.String()), []byte(a.String())
}

func twelve() []claims.Rule {
	var out []claims.Rule
	for i, x := range []string{`person.mail`, `person.uid`, `person.givenName`, `person.sn`, `person.displayName`,
		`person.title`,
		`person.employeeNumber`, `person.givenName + " " + person.sn`, `person.uid + "@kestrelridge.example"`,
		`"observers" in groups ? "reader" : "guest"`, `person.mail.lowerAscii()`, `groups`} {
		out = append(out, claims.Rule{Claim: fmt.Sprintf("claim%d", i), Expression: x})
	}
	return out
}

// BenchmarkClaims works out twelve rules for 100,000 people in one pass, beside the same expressions evaluated bare
// over variables that are there already.
func BenchmarkClaims(b *testing.B) {
	text, _ := crowd(100_000)
	dir, err := people.Read(text)
	if err != nil {
		b.Fatal(err)
	}
	engine, err := claims.NewEngine()
	if err != nil {
		b.Fatal(err)
	}
	release, err := engine.Prepare(twelve())
	if err != nil {
		b.Fatal(err)
	}
	env, err := cel.NewEnv(cel.Variable("person", cel.MapType(cel.StringType, cel.DynType)),
		cel.Variable("groups", cel.ListType(cel.StringType)), ext.Strings())
	if err != nil {
		b.Fatal(err)
	}
	var bare []cel.Program
	for _, r := range twelve() {
		tree, iss := env.Compile(r.Expression)
		if iss.Err() != nil {
			b.Fatal(iss.Err())
		}
		p, err := env.Program(tree, cel.CostLimit(100000))
		if err != nil {
			b.Fatal(err)
		}
		bare = append(bare, p)
	}
	at := 0
	vars := make([]map[string]any, 1000)
	for i := range vars {
		attrs := map[string]any{}
		for k, v := range dir.Persons[i].Attributes {
			attrs[k] = v[0]
		}
		vars[i] = map[string]any{"person": attrs, "groups": dir.Persons[i].Groups}
	}
	limit, work := against(b, "bare", func() {
		for _, p := range bare {
			if _, _, err := p.Eval(vars[at%len(vars)]); err != nil {
				b.Fatal(err)
			}
		}
	}, func() { at++ }, func() {
		if got, gaps := release.For(&dir.Persons[at%len(dir.Persons)], ""); len(got) != 12 || len(gaps) != 0 {
			b.Fatal(got, gaps)
		}
	})
	b.ReportMetric(100*limit.Seconds()/work.Seconds(), "%of-limit")
}

// BenchmarkMatch matches 100,000 people and 120,000 accounts, beside reading both files.
func BenchmarkMatch(b *testing.B) {
	for _, n := range []int{10_000, 100_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			persons, records := crowd(n)
			var reading, matching time.Duration
			for b.Loop() {
				start := time.Now()
				dir, err := people.Read(persons)
				if err != nil {
					b.Fatal(err)
				}
				list, _, err := accounts.Read(records)
				if err != nil {
					b.Fatal(err)
				}
				reading += time.Since(start)
				start = time.Now()
				arrivals := make([]accounts.Arrival, len(dir.Persons))
				for i := range dir.Persons {
					arrivals[i] = accounts.Arrival{Person: dir.Persons[i].ID, Key: dir.Persons[i].Attributes["mail"]}
				}
				m := accounts.NewIndex(list, "login").Match(arrivals)
				matching += time.Since(start)
				if len(m.Found)+len(m.Strangers) != n || len(m.Collisions) != 0 {
					b.Fatal(len(m.Found), len(m.Strangers), len(m.Collisions))
				}
			}
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(matching.Seconds()/reading.Seconds(), "x-reading")
			b.ReportMetric(float64(matching.Microseconds())/float64(b.N)/float64(n)*1000, "ns/person")
		})
	}
}

// BenchmarkLoad loads people into a ledger, then once more in place of those that are there: for each of them it takes
// as long among many as among few.
func BenchmarkLoad(b *testing.B) {
	for _, n := range []int{10_000, 100_000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			text, _ := crowd(n)
			dir, err := people.Read(text)
			if err != nil {
				b.Fatal(err)
			}
			var took time.Duration
			for i := 0; b.Loop(); i++ {
				l, err := sqlite.Create(b.Context(), filepath.Join(b.TempDir(), fmt.Sprintf("%d.ledger", i)),
					"Kestrel Ridge Observatory", options())
				if err != nil {
					b.Fatal(err)
				}
				start := time.Now()
				for _, replace := range []bool{false, true} {
					err := ledger.Updater(l.Update).Do(b.Context(), l.Env(), func(d *model.Book) error {
						return d.Change(func(tx *model.Edit) error {
							_, _, _, err := tx.PutPersons(dir.Persons, replace, "people.csv")
							return err
						})
					})
					if err != nil {
						b.Fatal(err)
					}
				}
				took += time.Since(start)
				if err := l.Close(); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(took.Seconds()/float64(b.N)/float64(n)/2*1e6, "us/person")
		})
	}
}

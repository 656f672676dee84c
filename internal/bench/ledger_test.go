package bench

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/model"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/testkit/peer"
	"tressik.example/internal/work/keyring"
)

// kinds are how a ledger is kept; each makes a place for a new one.
func kinds(b *testing.B) map[string]func(b *testing.B) string {
	b.Helper()
	s := peer.Postgres(b, "")
	return map[string]func(*testing.B) string{
		"file":     func(b *testing.B) string { return filepath.Join(b.TempDir(), "tressik.ledger") },
		"database": func(b *testing.B) string { return s.Address(s.New(b), "") },
	}
}

func opens(b *testing.B, place string, o ledger.Options) ledger.Ledger {
	b.Helper()
	l, err := engine.Open(b.Context(), place, o)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	return l
}

// BenchmarkHold loads 100,000 people, and then others in their place, while somebody else makes one small change after
// the other: how long one of those waits at most. It may be a second.
func BenchmarkHold(b *testing.B) {
	for kept, place := range kinds(b) {
		b.Run(kept, func(b *testing.B) {
			at := place(b)
			held(b, at, sized(b, at, 0, 0), "ms-load", func(i int) func(*model.Book) error {
				var list []people.Person
				for k := range 100_000 {
					id := fmt.Sprint("person", k)
					list = append(list, people.Person{ID: id,
						Attributes: map[string][]string{"mail": {id + "@k.example"},
							"sn": {fmt.Sprint("Family", k, " ", i)}}, Groups: []string{fmt.Sprint("floor-", k%50)}})
				}
				return func(book *model.Book) error {
					return book.Change(func(e *model.Edit) error {
						_, _, _, err := e.PutPersons(list, true, "bench")
						return err
					})
				}
			})
		})
	}
}

// BenchmarkHoldByKey announces a key of a party that has 10,000 trusts, and withdraws it, while somebody else makes
// small changes, as BenchmarkHold does.
func BenchmarkHoldByKey(b *testing.B) {
	for kept, place := range kinds(b) {
		b.Run(kept, func(b *testing.B) {
			at := place(b)
			held(b, at, sized(b, at, 10_000, 0), "ms-key", func(i int) func(*model.Book) error {
				return func(book *model.Book) error {
					k := &keyring.Keeper{Book: book}
					if i%2 == 0 {
						_, err := k.Announce("ridge", keyring.Coming{Use: federation.ForSigning})
						return err
					}
					_, err := k.Withdraw("ridge", "", true)
					return err
				}
			})
		})
	}
}

// held makes a large change in each round, and small ones beside it, on a connection of their own, until it is done.
func held(b *testing.B, at string, o ledger.Options, unit string, large func(round int) func(*model.Book) error) {
	b.Helper()
	loads, changes := opens(b, at, o), opens(b, at, o)
	var longest, took time.Duration
	for i := 0; b.Loop(); i++ {
		work := large(i)
		done := make(chan error)
		start := time.Now()
		go func() { done <- ledger.Updater(loads.Update).Do(b.Context(), loads.Env(), work) }()
		for n := 0; ; n++ {
			began := time.Now()
			err := ledger.Updater(changes.Update).Do(b.Context(), changes.Env(), func(book *model.Book) error {
				return book.Change(func(e *model.Edit) error {
					return e.Let(&model.Let{Finding: "key.end", About: fmt.Sprint(n), Until: began.Add(time.Hour)})
				})
			})
			if err != nil {
				b.Fatal(err)
			}
			longest = max(longest, time.Since(began))
			select {
			case err = <-done:
			case <-time.After(20 * time.Millisecond):
				continue
			}
			if err != nil {
				b.Fatal(err)
			}
			break
		}
		took = time.Since(start)
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(float64(longest.Milliseconds()), "ms-longest")
	b.ReportMetric(float64(took.Milliseconds()), unit)
}

// BenchmarkFollow changes trusts of a ledger with 10,000 trusts and 100,000 people under a running stage: how long it
// takes until a change holds there, and how much more the stage has in memory after many changes than after few.
func BenchmarkFollow(b *testing.B) {
	for kept, place := range kinds(b) {
		b.Run(kept, func(b *testing.B) {
			at := place(b)
			o := sized(b, at, 10_000, 100_000)
			l, other := opens(b, at, o), opens(b, at, o)
			v, end, err := l.Snapshot(b.Context())
			if err != nil {
				b.Fatal(err)
			}
			defer end()
			player := &play.Player{Book: model.Open(v, l.Env()), Keep: func(f func(*model.Book) error) error {
				return ledger.Updater(l.Update).Do(b.Context(), l.Env(), f)
			}}
			s, keeper, err := player.Stage(play.StageInput{Context: b.Context(), Ledger: l, Base: "http://127.0.0.1:1"})
			if err != nil {
				b.Fatal(err)
			}
			defer keeper.Close()
			held := func() float64 {
				runtime.GC()
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				return float64(m.HeapAlloc)
			}
			var all []time.Duration
			var few, many float64
			change := func(i int) {
				admits, name := fmt.Sprint("group:floor-", i), fmt.Sprintf("app%04d@ridge", 2*i)
				err := ledger.Updater(other.Update).Do(b.Context(), other.Env(), func(book *model.Book) error {
					old, err := book.View.Trust(name)
					if err != nil {
						return err
					}
					now := old.Clone()
					now.Admits = admits
					return book.Change(func(e *model.Edit) error { return e.PutTrust(old, now, "trust.change") })
				})
				if err != nil {
					b.Fatal(err)
				}
				began := time.Now()
				for s.Cast().FindSAML(name).Trust.Admits != admits {
					time.Sleep(time.Millisecond)
				}
				all = append(all, time.Since(began))
			}
			for n := 0; b.Loop(); n++ {
				for i := range 20 {
					if change(20*n + i); n == 0 && i == 1 {
						few = held()
					}
				}
				many = held()
			}
			slices.Sort(all)
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(float64(all[len(all)-1].Milliseconds()), "ms-longest")
			b.ReportMetric(many/few, "x-memory")
			b.ReportMetric(many/(1<<20), "MB")
		})
	}
}

// listing are commands whose work grows with the ledger.
func listing() [][]string {
	return [][]string{{"trust", "list"}, {"app", "list"}, {"people", "list"}, {"secret", "list"}, {"next"}, {"check"},
		{"report", "--out", "report.html", "--force"}, {"journal", "list", "--format", "csv"}, {"journal", "verify"},
		{"people", "access", "person7"}, {"key", "announce", "ridge", "--use", "signing", "--dry-run"}}
}

// BenchmarkGrow runs them on a ledger of 1,000 trusts and 10,000 people, and on one of ten times as much, in turns. Ten
// times the time is linear.
func BenchmarkGrow(b *testing.B) {
	tressik := built(b)
	for kept, place := range kinds(b) {
		b.Run(kept, func(b *testing.B) {
			at := [2]string{place(b), place(b)}
			few, many := sized(b, at[0], 1_000, 10_000), sized(b, at[1], 10_000, 100_000)
			for _, args := range listing() {
				b.Run(strings.Join(args[:min(len(args), 2)], "_"), func(b *testing.B) {
					var ms [2][]float64
					for range 3 {
						ms[0] = append(ms[0], clocked(b, tressik, at[0], few.SealKey, args))
						ms[1] = append(ms[1], clocked(b, tressik, at[1], many.SealKey, args))
					}
					slices.Sort(ms[0])
					slices.Sort(ms[1])
					b.ReportMetric(0, "ns/op")
					b.ReportMetric(ms[0][1], "ms-small")
					b.ReportMetric(ms[1][1], "ms-large")
					b.ReportMetric(ms[1][1]/ms[0][1], "x-tenfold")
				})
			}
		})
	}
}

// BenchmarkRows lists 10,000 trusts beside sqlite3 printing the rows that they are in.
func BenchmarkRows(b *testing.B) {
	tressik, sqlite := built(b), peer.Need(b, "sqlite3")
	place := filepath.Join(b.TempDir(), "large.ledger")
	o := sized(b, place, 10_000, 0)
	var ours, theirs []float64
	for range max(b.N, 5) {
		ours = append(ours, clocked(b, tressik, place, o.SealKey, []string{"trust", "list"}))
		start := time.Now()
		if out, err := exec.Command(sqlite, place, "SELECT * FROM trusts").Output(); err != nil || len(out) < 1<<20 {
			b.Fatalf("%d bytes, %v", len(out), err)
		}
		theirs = append(theirs, float64(time.Since(start).Microseconds())/1000)
		if len(ours) == 9 {
			break
		}
	}
	slices.Sort(ours)
	slices.Sort(theirs)
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(ours[len(ours)/2], "ms-list")
	b.ReportMetric(theirs[len(theirs)/2], "ms-sqlite3")
	b.ReportMetric(ours[len(ours)/2]/theirs[len(theirs)/2], "x-sqlite3")
}

// built builds the program as it is released.
func built(b *testing.B) string {
	b.Helper()
	at := filepath.Join(b.TempDir(), "tressik")
	build := exec.Command("go", "build", "-o", at, "tressik.example/cmd/tressik")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	return at
}

// clocked runs the program on one core on a ledger, and returns how many milliseconds it took.
func clocked(b *testing.B, tressik, place, key string, args []string) float64 {
	b.Helper()
	c := exec.Command(tressik, args...)
	c.Dir = b.TempDir()
	c.Env = append(os.Environ(), "GOMAXPROCS=1", "TRESSIK_LEDGER="+place, "TRESSIK_LEDGER_KEY="+key)
	var said bytes.Buffer
	c.Stdout, c.Stderr = &said, &said
	start := time.Now()
	if err := c.Run(); err != nil && c.ProcessState.ExitCode() != 3 {
		b.Fatalf("%s: %v\n%s", args, err, said.Bytes()[:min(2000, said.Len())])
	}
	return float64(time.Since(start).Microseconds()) / 1000
}

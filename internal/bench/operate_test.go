package bench

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"runtime/debug"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/report"
	"tressik.example/internal/model"
	"tressik.example/internal/stage"
	"tressik.example/internal/work/check"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/due"
	"tressik.example/internal/work/expect"
	"tressik.example/internal/work/keyring"
	"tressik.example/internal/work/probe"
)

func checker(d *desk.Desk) *check.Checker {
	return &check.Checker{Book: d.Book, Sides: d.Sides(), Keeper: &keyring.Keeper{Book: d.Book},
		Within: 30 * 24 * time.Hour, Old: 90 * 24 * time.Hour}
}

// BenchmarkCheck checks so many trusts, with their parties.
func BenchmarkCheck(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			c := checker(bigLedger(b, n))
			for b.Loop() {
				r, err := c.Run(context.Background(), nil)
				if err != nil || r.Trusts != n {
					b.Fatalf("%+v %v", r, err)
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms-check")
			b.ReportMetric(b.Elapsed().Seconds()*1e6/float64(b.N)/float64(n), "us/trust")
		})
	}
}

// BenchmarkNext lists what is left to do for each of so many trusts.
func BenchmarkNext(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			d := bigLedger(b, n)
			_, _, trusts, err := d.AllNames()
			if err != nil || len(trusts) != n {
				b.Fatalf("%d trusts, %v", len(trusts), err)
			}
			for b.Loop() {
				for _, name := range trusts {
					if _, todos, err := d.Sides().Next(name); err != nil || len(todos) == 0 {
						b.Fatalf("%s: %d steps, %v", name, len(todos), err)
					}
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms-next")
			b.ReportMetric(b.Elapsed().Seconds()*1e6/float64(b.N)/float64(n), "us/trust")
		})
	}
}

// BenchmarkReport writes the report of so many trusts, from the ledger to the last byte.
func BenchmarkReport(b *testing.B) {
	for _, n := range []int{5, 500} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			d := bigLedger(b, n)
			m := &report.Maker{Checker: checker(d),
				Due: &due.Finder{Book: d.Book, Keeper: &keyring.Keeper{Book: d.Book}}}
			for b.Loop() {
				data, err := m.Gather(context.Background(), time.Time{})
				if err == nil {
					err = data.HTML(io.Discard)
				}
				if err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms-report")
		})
	}
}

// BenchmarkExpect runs a thousand expectations of a trust over SAML, in turns with as many sign-ins on the stage, with
// RSA-2048 both: see SignIn, which goes over a socket in a session that holds. The limit is half of the sign-ins' rate.
func BenchmarkExpect(b *testing.B) {
	defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent))
	d := ledgerOf(b, 2, "rsa-2048")
	_, prepare, signIn, _ := signingIn(b)
	k := &expect.Runner{Player: player(d)}
	const n = 1000
	change(b, d, func(tx *model.Edit) error {
		for range n {
			if err := tx.AddExpected(&federation.Expected{Trust: "app0000@ridge", As: person().ID}); err != nil {
				return err
			}
		}
		return nil
	})
	var expecting, signing time.Duration
	for b.Loop() {
		began := time.Now()
		out, err := k.Run(context.Background(), nil, false)
		if err != nil || len(out) != n || !out[0].Holds {
			b.Fatalf("%d %v %+v", len(out), err, out[0].Findings)
		}
		expecting += time.Since(began)
		for range n {
			prepare()
			began = time.Now()
			signIn()
			signing += time.Since(began)
		}
	}
	b.ReportMetric(float64(n*b.N)/expecting.Seconds(), "expectations/s")
	b.ReportMetric(float64(n*b.N)/signing.Seconds(), "sign-ins/s")
	b.ReportMetric(100*signing.Seconds()/expecting.Seconds(), "%of-sign-ins")
}

// BenchmarkProbe probes two hundred trusts whose apps each answer after 100 ms; what one of them takes is the limit.
func BenchmarkProbe(b *testing.B) {
	const n, pause = 200, 100 * time.Millisecond
	d := bigLedger(b, 0)
	provider, err := d.View.Party("ridge")
	if err != nil {
		b.Fatal(err)
	}
	change(b, d, func(tx *model.Edit) error {
		provider.At = "" // nothing of it is published here
		for i := range n {
			s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				time.Sleep(pause)
				w.WriteHeader(http.StatusMethodNotAllowed)
			}))
			b.Cleanup(s.Close)
			name := fmt.Sprintf("far%03d", i)
			app := &federation.Party{Name: name, Kind: federation.App, Entity: saml.Entity{ID: "urn:example:" + name,
				SP: &saml.Role{ACS: []saml.Endpoint{{Binding: saml.BindingPOST, Location: s.URL + "/acs", Index: 1}}}}}
			if err := tx.AddParty(app, nil); err != nil {
				return err
			}
			t := federation.NewTrust(app, provider, saml.FormatPersistent, &federation.SAMLTerms{Signs: "assertion"},
				time.Now())
			if err := tx.AddTrust(t, federation.SubjectKey{Salt: []byte("salt")}); err != nil {
				return err
			}
		}
		return tx.PutParty(provider, provider, nil, true)
	})
	for b.Loop() {
		list, err := (&probe.Prober{Player: player(d), In: probe.Input{Dry: true}}).Trusts(
			context.Background())
		if err != nil || len(list) != n || len(list[0].Asked) != 1 {
			b.Fatalf("%d %v %+v", len(list), err, list[0])
		}
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)/pause.Seconds(), "x-slowest")
}

package bench

import (
	"bytes"
	"fmt"
	"runtime/debug"
	"strings"
	"testing"

	"golang.org/x/sync/errgroup"

	"tressik.example/internal/model"
	"tressik.example/internal/stage"
	"tressik.example/internal/work/charter"
	"tressik.example/internal/work/desk"
)

// enactor reads a charter whose documents stand in it, for a ledger.
func enactor(b *testing.B, d *desk.Desk, text []byte) *charter.Enactor {
	f, err := charter.Read(text, nil)
	if err != nil {
		b.Fatal(err)
	}
	k := &charter.Enactor{Desk: d, File: f, Read: map[string][]byte{}}
	for _, r := range f.Refs() {
		if !r.Text() {
			b.Fatalf("%s is no text", r.Path)
		}
		k.Read[r.Path] = []byte(r.From)
	}
	return k
}

// BenchmarkCharterCompare compares the charter of so many trusts, with all that foreign parties published, with their
// ledger.
func BenchmarkCharterCompare(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent))
			d := bigLedger(b, n)
			c, err := (&charter.Writer{View: d.View, Inline: true}).All()
			if err != nil || len(c.Trusts) != n {
				b.Fatal(err)
			}
			text, err := c.Marshal()
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				got, err := enactor(b, d, text).Compare()
				if err != nil || !got.Equal {
					b.Fatalf("%+v %v", got, err)
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms-compare")
			b.ReportMetric(b.Elapsed().Seconds()*1e6/float64(b.N)/float64(n), "us/trust")
		})
	}
}

// BenchmarkCharterEnact enacts so many new trusts of clients over OpenID Connect.
func BenchmarkCharterEnact(b *testing.B) {
	for _, n := range []int{100, 1000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			defer debug.SetGCPercent(debug.SetGCPercent(stage.GCPercent))
			var text strings.Builder
			text.WriteString("charter: tressik charter 1\nproviders:\n  ridge: {own: {at: " +
				"\"https://login.kestrelridge.example\"}}\napps:\n")
			for i := range n {
				fmt.Fprintf(&text, "  app%d: {client: {kind: web, redirectURIs: "+
					"[\"https://app%[1]d.kestrelridge.example/cb\"]}}\n", i)
			}
			text.WriteString("trusts:\n")
			for i := range n {
				fmt.Fprintf(&text, "  app%d@ridge:\n    over: oidc\n    claims: [{claim: mail, expression: "+
					"person.mail}]\n", i)
			}
			d := bigLedger(b, 0)
			for b.Loop() {
				book, _ := model.Begin(d.View, d.Env)
				if _, err := enactor(b, desk.New(book), []byte(text.String())).Enact(); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N), "ms-enact")
			b.ReportMetric(b.Elapsed().Seconds()*1e6/float64(b.N)/float64(n), "us/trust")
		})
	}
}

// BenchmarkDoor reads published keys from a running `tressik serve` on 64 connections at once, and in turns on one.
func BenchmarkDoor(b *testing.B) {
	const many, each = 64, 100
	dir := b.TempDir()
	tressik := program(b, dir)
	tressik("init", "--org", "Kestrel Ridge Observatory")
	tressik("provider", "add", "ridge", "--own", "--at", "https://login.kestrelridge.example")
	var at struct{ At string }
	serving(b, dir, "serve", &at)
	read := func(c *client) error {
		resp, body := c.do("GET", at.At+"/ridge/jwks", nil)
		if resp.StatusCode != 200 || !bytes.Contains(body, []byte(`"keys"`)) {
			return fmt.Errorf("%s %s", resp.Status, body)
		}
		return nil
	}
	clients := make([]*client, many)
	for i := range clients {
		clients[i] = &client{b: b, addr: host(b, at.At)}
	}
	one, all := against(b, "on-one-connection", func() {
		for range many * each {
			if err := read(clients[0]); err != nil {
				b.Fatal(err)
			}
		}
	}, nil, func() {
		var g errgroup.Group
		for _, c := range clients {
			g.Go(func() error {
				for range each {
					if err := read(c); err != nil {
						return err
					}
				}
				return nil
			})
		}
		if err := g.Wait(); err != nil {
			b.Fatal(err)
		}
	})
	n := float64(b.N * many * each)
	b.ReportMetric(n/one.Seconds(), "answers/s-on-1")
	b.ReportMetric(n/all.Seconds(), "answers/s-on-64")
	b.ReportMetric(one.Seconds()/all.Seconds(), "x-one-connection")
}

package probe_test

import (
	"context"
	"net"
	"strings"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/probe"
)

// TestNobodyThere: a real party that does not answer proves nothing, and the trust is as it was; a run in which nobody
// was asked is not kept.
func TestNobodyThere(t *testing.T) {
	h := fixture.New(t)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := "http://" + ln.Addr().String()
	ln.Close() // nobody listens there
	if _, _, _, err := h.ChangeParty(desk.PartyInput{Kind: federation.App, Name: "nightlog", Hand: &desk.Hand{
		ACS: []string{at + "/acs"}, Start: at + "/start"}}); err != nil {
		t.Fatal(err)
	}
	p := &probe.Prober{Player: h.Player(), In: probe.Input{Trusts: []string{fixture.OverSAML}}}
	list, err := p.Trusts(context.Background())
	if err != nil || len(list) != 1 {
		t.Fatal(list, err)
	}
	if !list[0].Findings.Failed() ||
		!strings.Contains(strings.Join(list[0].Findings.IDs(finding.Error), " "), "probe.") {
		t.Errorf("%+v", list[0].Findings)
	}
	if x := h.Trust(t, fixture.OverSAML); x.Probed != nil {
		t.Errorf("it is proven: %+v", x.Probed)
	}
	if runs, err := h.Runs(fixture.OverSAML, 0); err != nil || len(runs) != 0 {
		t.Errorf("%v %v", runs, err)
	}
}

package judge

import (
	"testing"

	"tressik.example/internal/core/finding"
)

func TestSettle(t *testing.T) {
	var j Judgement
	j.Findings.Add(finding.Finding{Level: finding.Warning})
	if j.Settle(); j.Verdict != Accepted {
		t.Errorf("a warning refuses: %s", j.Verdict)
	}
	j.Findings.Add(finding.Finding{Level: finding.Error})
	if j.Settle(); j.Verdict != Refused {
		t.Errorf("an error accepts: %s", j.Verdict)
	}
}

func TestThisMachine(t *testing.T) {
	for host, want := range map[string]bool{"localhost": true, "LOCALHOST.": true, "app.localhost": true,
		"127.0.0.1": true,
		"127.9.9.9": true, "::1": true, "::ffff:127.0.0.1": true, "localhost.example": false, "192.0.2.1": false,
		"":             false,
		"notlocalhost": false, "2001:db8::1": false} {
		if IsLoopback(host) != want {
			t.Errorf("%q: %v", host, !want)
		}
	}
}

func TestAssertedContexts(t *testing.T) {
	for _, c := range []struct {
		have       string
		acceptable []string
		want       string
		ok         bool
	}{
		{ContextPassword, nil, ContextPassword, true}, {ContextPassword, []string{ContextMFA}, "", false},
		{ContextMFA, []string{ContextPassword}, ContextPassword, true},
		{ContextMFA, []string{ContextPassword, "urn:x"}, "urn:x", true},
		{ContextPassword, []string{ContextPassword, ContextMFA}, ContextPassword, true}, {"urn:x", []string{"urn:x"},
			"urn:x", true},
		{"urn:x", []string{"urn:y"}, "", false},
	} {
		if got, ok := Asserted(c.have, c.acceptable); got != c.want || ok != c.ok {
			t.Errorf("%s of %v: %s, %v", c.have, c.acceptable, got, ok)
		}
	}
}

package federation

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

// TestExpectedContradicts: nothing is expected that cannot be, or that nobody would look at.
func TestExpectedContradicts(t *testing.T) {
	t.Parallel()
	claims := map[string][]string{"mail": {"m@kestrelridge.example"}}
	for says, e := range map[string]*Expected{
		"brings no claims":    {Refused: true, Claims: claims},
		"account":             {Refused: true, Account: "mira"},
		"calls or tokens":     {Refused: true, AtMost: map[string]int{"access-token": 60}},
		"a rule refuses":      {By: "policy"},
		"the claim mail":      {Claims: claims, Without: []string{"sn", "mail"}},
		"the call api:read":   {Answered: []string{"api:read"}, Denied: []string{"api:read"}},
		"the ID of a finding": {Refused: true, By: "nonsense"},
		"or its beginning":    {Refused: true, By: "polic"},
		"such as policy":      {Refused: true, By: "saml.admissions"},
	} {
		err := e.Check()
		if !errors.Is(err, ErrContradicts) && !errors.Is(err, ErrValue) || !strings.Contains(fmt.Sprint(err), says) {
			t.Errorf("%s: %v", says, err)
		}
	}
	for _, e := range []*Expected{{}, {Refused: true}, {Refused: true, By: "policy"}, {Refused: true, By: "policy."},
		{Refused: true, By: "saml.admission"}, {Refused: true, By: "oauth.access_denied"},
		{Claims: claims, Without: []string{"sn"}}, {Answered: []string{"api:read"}, Denied: []string{"api:write"}}} {
		if err := e.Check(); err != nil {
			t.Errorf("%s: %v", e.Words(), err)
		}
	}
}

package arrivals_test

import (
	"errors"
	"testing"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/model"
	"tressik.example/internal/testkit/fixture"
	"tressik.example/internal/work/arrivals"
	"tressik.example/internal/work/desk"
)

// upstream adds a foreign provider whose client the own one is.
func upstream(t *testing.T) (*fixture.House, *arrivals.Router) {
	h := fixture.New(t)
	southmere := &federation.Party{Name: "southmere", Kind: federation.Provider, OpenID: &federation.OpenID{
		Discovery: oidc.Discovery{Issuer: "https://idp.southmere.example",
			AuthorizationEndpoint: "https://idp.southmere.example/a"}}}
	if err := h.Change(func(e *model.Edit) error { return e.AddParty(southmere, nil) }); err != nil {
		t.Fatal(err)
	}
	if _, _, err := h.Federate(federation.OverOIDC, "ridge", "southmere", "k", desk.Terms{}); err != nil {
		t.Fatal(err)
	}
	return h, &arrivals.Router{Book: h.Book}
}

// TestRoutes: people of a domain go one way, where one leads.
func TestRoutes(t *testing.T) {
	_, k := upstream(t)
	if _, err := k.Route("southmere.example", "ridge"); !errors.Is(err, arrivals.ErrNoWay) {
		t.Errorf("to oneself: %v", err)
	}
	if _, err := k.Route("not a domain", "southmere"); !errors.Is(err, federation.ErrArrival) {
		t.Errorf("%v", err)
	}
	r, err := k.Route("Southmere.Example", "southmere")
	if err != nil || r.Domain != "southmere.example" || r.Trust != "ridge@southmere" {
		t.Fatalf("%+v %v", r, err)
	}
	if list, err := k.Routes(); err != nil || len(list) != 1 {
		t.Errorf("%v %v", list, err)
	}
	var unknown *model.UnknownError
	if err := k.Unroute("southmere.example"); err != nil {
		t.Error(err)
	}
	if err := k.Unroute("southmere.example"); !errors.As(err, &unknown) {
		t.Errorf("%v", err)
	}
}

// TestSet: what happens to somebody who comes in is said for trusts by which people come in, and in words that are
// known.
func TestSet(t *testing.T) {
	_, k := upstream(t)
	x, err := k.Set("ridge@southmere", federation.Arrival{Unknown: "created", Groups: []string{"visitors"}})
	if err != nil || x.Arrival.Unknown != "created" || x.Arrival.Known != "updated" {
		t.Fatalf("%+v %v", x, err)
	}
	if x, err = k.Set("ridge@southmere",
		federation.Arrival{Groups: []string{"none"}}); err != nil || len(x.Arrival.Groups) != 0 ||
		x.Arrival.Unknown != "created" {
		t.Errorf("%+v %v", x.Arrival, err)
	}
	for trust, in := range map[string]federation.Arrival{fixture.OverSAML: {}, "ridge@southmere": {Unknown: "maybe"}} {
		if _, err := k.Set(trust, in); !errors.Is(err, federation.ErrArrival) {
			t.Errorf("%s: %v", trust, err)
		}
	}
	if err := k.Bind("mira", "ridge@southmere", "sub"); err != nil {
		t.Error(err)
	}
	if err := k.Bind("mira", "ridge@southmere", ""); !errors.Is(err, federation.ErrArrival) {
		t.Errorf("%v", err)
	}
}

package stage

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oauth"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/stage/cast"
)

// newDetailed is a stage on which dome may ask for turning the dome, which can be narrowed.
func newDetailed(t *testing.T) *opened {
	t.Helper()
	led := openLedger()
	led.Parties["telescope-api"].API.Permissions = append(led.Parties["telescope-api"].API.Permissions,
		federation.Permission{Name: "dome.control", As: []string{"user"}, Says: "turn the dome", Records: "identifier",
			Amount: "minutes"})
	o := &opened{running: start(t, led)}
	o.fresh()
	o.policy(o.oidc("dome"), func(tr *federation.Trust) {
		terms := tr.OIDCTerms()
		terms.Asks = append(terms.Asks, federation.Ask{API: "telescope-api", Name: "dome.control", As: "user"})
	})
	return o
}

// agree walks to the consent page of a request, returns its text, and answers it.
func (o *opened) agree(d *cast.OIDC, details, decision string) (page string, back url.Values) {
	o.t.Helper()
	q, at := o.went(o.client.Get(o.authorizeURL(d, callback, "authorization_details", details, "scope", "openid")))
	if q == nil && at.Fields.Has("person") {
		at.Fields.Set("person", "mira")
		q, at = o.went(o.client.PostForm(at.Action, at.Fields))
	}
	if q != nil {
		return "", q
	}
	at.Fields.Set("decision", decision)
	back, _ = o.went(o.client.PostForm(at.Action, at.Fields))
	return at.text, back
}

func (o *opened) callDome(access any, query string) (int, map[string]any) {
	o.t.Helper()
	req, err := http.NewRequest("GET", o.s.Cast().Places["telescope-api"]+"/dome.control"+query, nil)
	if err != nil {
		o.t.Fatal(err)
	}
	req.Header.Set("Authorization", fmt.Sprintf("Bearer %v", access))
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		o.t.Fatal(err)
	}
	defer resp.Body.Close()
	m := map[string]any{}
	if err := json.NewDecoder(resp.Body).Decode(&m); err != nil {
		o.t.Fatal(err)
	}
	return resp.StatusCode, m
}

// TestRichRequests narrows a permission to records and an amount: told on the consent page, consented to as that alone,
// in the token, at introspection, and at the API (RFC 9396).
func TestRichRequests(t *testing.T) {
	o := newDetailed(t)
	d := o.oidc("dome")
	const narrow = `[{"type":"dome.control","identifier":["dome-001"],"minutes":30}]`
	page, back := o.agree(d, narrow, "agree")
	if !strings.Contains(page, "Turn the dome: only dome-001; at most 30 minutes") || back.Get("code") == "" {
		t.Fatalf("the page does not say what is agreed to:\n%s\n%v", page, back)
	}
	if n := len(o.kept); n != 1 || o.kept[0].Narrowed == nil || o.kept[0].Narrowed.Most != 30 {
		t.Fatalf("the consent is not kept as it was given: %+v", o.kept)
	}
	o.consents(d.Of().Name, append(o.led.Consents[d.Of().Name], o.kept...))
	status, m := o.redeem(d, back.Get("code"), callback)
	told, _ := m["authorization_details"].([]any)
	if status != 200 || len(told) != 1 || strings.Contains(text(m, "scope"), "dome.control") {
		t.Fatalf("tokens: %d %v", status, m)
	}
	access := m["access_token"]
	if status, m := o.callDome(access, "?minutes=20"); status != 200 || fmt.Sprint(m["records"]) !=
		"[map[id:dome-001 note:Northern field: control accepted by the stand-in, nothing happened]]" {
		t.Errorf("a call within: %d %v", status, m)
	}
	if status, m := o.callDome(access, "?minutes=31"); status != 403 || m["error"] != "insufficient_scope" {
		t.Errorf("a call for more: %d %v", status, m)
	}
	reg, s := o.oidc("dome").Registered, o.serves(o.oidc("dome"))
	said := s.Introspect(reg, fmt.Sprint(access), func(string) *oauth.Registered { return reg })
	if said["active"] != true || !strings.Contains(fmt.Sprint(said["authorization_details"]), "dome-001") {
		t.Errorf("introspection: %v", said)
	}
	d = o.oidc("dome")
	if _, back := o.agree(d, `[{"type":"dome.control","identifier":"dome-001","minutes":10}]`, "agree"); back.Get(
		"code") == "" || len(o.kept) != 1 {
		t.Errorf("less than what was agreed to is asked for again: %v, %+v", back, o.kept)
	}
	if page, _ := o.agree(d, `[{"type":"dome.control","identifier":"dome-002","minutes":10}]`,
		"refuse"); !strings.Contains(page, "only dome-002") {
		t.Errorf("another record is let in by the consent to one:\n%s", page)
	}
	if page, _ := o.agree(d, `[{"type":"dome.control","identifier":"dome-001"}]`, "refuse"); !strings.Contains(page,
		"only dome-001") {
		t.Errorf("any amount is let in by the consent to 30 minutes:\n%s", page)
	}
}

// TestRichRequestsRefused refuses what is not known, more than the trust may ask for, and what cannot be read.
func TestRichRequestsRefused(t *testing.T) {
	o := newDetailed(t)
	o.policy(o.oidc("dome"), func(tr *federation.Trust) {
		asks := tr.OIDCTerms().Asks
		asks[len(asks)-1].Narrowed = &federation.Narrowed{Records: []string{"dome-001", "dome-002"}, Most: 60}
	})
	d := o.oidc("dome")
	for what, details := range map[string]string{
		"no list":                     `{"type":"dome.control"}`,
		"no JSON":                     `[`,
		"an empty list":               `[]`,
		"no type":                     `[{"minutes":3}]`,
		"an unknown type":             `[{"type":"dome.burn","minutes":3}]`,
		"an unknown member":           `[{"type":"dome.control","minutes":3,"hours":2}]`,
		"a member of another case":    `[{"type":"dome.control","Minutes":3}]`,
		"another place":               `[{"type":"dome.control","minutes":3,"locations":["https://elsewhere.test"]}]`,
		"two places":                  `[{"type":"dome.control","minutes":3,"locations":["` + audience + `","x"]}]`,
		"an amount that is a text":    `[{"type":"dome.control","minutes":"3","identifier":"dome-001"}]`,
		"an amount below nothing":     `[{"type":"dome.control","minutes":-3,"identifier":"dome-001"}]`,
		"records that are no texts":   `[{"type":"dome.control","minutes":3,"identifier":["dome-001",7]}]`,
		"more than the trust has":     `[{"type":"dome.control","minutes":61,"identifier":"dome-001"}]`,
		"a record beyond the trust":   `[{"type":"dome.control","minutes":3,"identifier":"dome-003"}]`,
		"all records":                 `[{"type":"dome.control","minutes":3}]`,
		"a type that is not narrowed": `[{"type":"schedule.read"}]`,
		"nothing that narrows":        `[{"type":"dome.control"}]`,
	} {
		if _, back := o.code(d, callback, "mira", "authorization_details", details, "scope",
			"openid"); back.Get("error") != oidc.InvalidDetails {
			t.Errorf("%s: %v", what, back)
		}
	}
	if _, back := o.code(d, callback, "mira", "scope", "openid dome.control"); back.Get("error") != oidc.InvalidScope {
		t.Errorf("what is narrowed is given whole by its scope: %v", back)
	}
}

// TestStepUp has an API ask for a stronger and a fresher sign-in (RFC 9470).
func TestStepUp(t *testing.T) {
	o := newOP(t)
	o.led.Parties["telescope-api"].API.Permissions[0].Strength = "mfa"
	o.led.Parties["telescope-api"].API.Permissions[0].Fresh = 600
	o.play()
	call := func(access any) (int, string) {
		req, err := http.NewRequest("GET", o.s.Cast().Places["telescope-api"]+"/schedule.read", nil)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", fmt.Sprintf("Bearer %v", access))
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		resp.Body.Close()
		return resp.StatusCode, resp.Header.Get("WWW-Authenticate")
	}
	d := o.oidc("dome")
	code, _ := o.code(d, callback, "mira")
	_, m := o.redeem(d, code, callback)
	status, head := call(m["access_token"])
	if status != 401 || !strings.Contains(head, `error="insufficient_user_authentication"`) ||
		!strings.Contains(head, `acr_values="`+judge.ContextMFA+`"`) || !strings.Contains(head, `max_age="600"`) {
		t.Fatalf("a password alone: %d %s", status, head)
	}
	o.fresh()
	code, _ = o.code(d, callback, "mira", "acr_values", judge.ContextMFA)
	_, m = o.redeem(d, code, callback)
	if status, head := call(m["access_token"]); status != 200 {
		t.Errorf("with a second factor: %d %s", status, head)
	}
	o.pass(11 * time.Minute)
	if status, head := call(m["access_token"]); status != 401 || !strings.Contains(head, "insufficient_user") {
		t.Errorf("of 11 minutes ago: %d %s", status, head)
	}
}

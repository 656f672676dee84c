package federation

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

var at = time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)

func telescope() map[string]*Party {
	return map[string]*Party{"tel": {Name: "tel", Kind: App, API: &API{Audience: "https://tel.example",
		Permissions: []Permission{
			{Name: "a.read", As: []string{"user", "self"}, Says: "read"},
			{Name: "a.write", As: []string{"user"}, Says: "write"},
			{Name: "dome", As: []string{"user"}, Says: "turn", Admin: true}}}}}
}

func ask(name, as string) Ask {
	a := Ask{API: "tel", Name: name, As: as, At: at}
	if _, std := oidc.Standard(name); std {
		a.API = ""
	}
	return a
}

func given(a Ask, who, by string, admin bool, standing string) Consent {
	return Consent{API: a.API, Name: a.Name, As: a.As, For: who, By: by, Admin: admin, Standing: standing, At: at}
}

func TestGranted(t *testing.T) {
	read, dome, self := ask("a.read", AsUser), ask("dome", AsUser), ask("a.read", AsSelf)
	apis := telescope()
	for _, c := range []struct {
		name    string
		ask     Ask
		consent Consent
		who     string
		want    bool
	}{
		{"a person for themself", read, given(read, "mira", "mira", false, Consented), "mira", true},
		{"whatever the case of the name", read, given(read, "Mira", "mira", false, Consented), "mira", true},
		{"not for another", read, given(read, "mira", "mira", false, Consented), "petra", false},
		{"everyone", read, given(read, "", "aiyana", true, Consented), "petra", true},
		{"withdrawn", read, given(read, "mira", "mira", false, Withdrawn), "mira", false},
		{"a request is none", dome, given(dome, "mira", "mira", false, Requested), "mira", false},
		{"a person cannot where an administrator must", dome, given(dome, "mira", "mira", false, Consented),
			"mira", false},
		{"an administrator for one person", dome, given(dome, "mira", "aiyana", true, Consented), "mira", true},
		{"as itself needs an administrator", self, given(self, "", "mira", false, Consented), "", false},
		{"as itself", self, given(self, "", "aiyana", true, Consented), "", true},
		{"another way is another consent", self, given(read, "", "aiyana", true, Consented), "", false},
		{"another permission", read, given(ask("a.write", AsUser), "", "aiyana", true, Consented), "mira", false},
	} {
		if got := Granted(c.ask, apis, []Consent{c.consent}, c.who); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}

func TestMatrix(t *testing.T) {
	read, write, dome := ask("a.read", AsUser), ask("a.write", AsUser), ask("dome", AsUser)
	gone := Ask{API: "lost", Name: "x", As: AsUser}
	tr := &Trust{Name: "app@ridge", Terms: Held{Terms: &OIDCTerms{Asks: []Ask{ask("openid", AsUser), read, write, dome,
		gone}}}}
	consents := []Consent{given(read, "", "aiyana", true, Consented), given(write, "", "aiyana", true, Withdrawn),
		given(dome, "mira", "mira", false, Requested)}
	for _, who := range []string{"ann", "bo", "cy", "di"} {
		consents = append(consents, given(ask("openid", AsUser), who, who, false, Consented))
	}
	rows := Matrix(tr.OIDCTerms(), telescope(), consents)
	want := []struct{ standing, detail string }{{Consented, "for ann, bo and 2 others"},
		{Consented, "for everyone by aiyana, 2031-03-04"}, {Withdrawn, "by aiyana, 2031-03-04"},
		{Waiting, "for an administrator; mira asked for it"}, {Unknown, "no API lost in the ledger"}}
	for i, w := range want {
		if rows[i].Standing != w.standing || rows[i].Detail != w.detail {
			t.Errorf("%s: %s %q", rows[i].Label, rows[i].Standing, rows[i].Detail)
		}
	}
	for _, c := range []struct {
		kind         oidc.Kind
		rows         []AskState
		works, whole bool
		says         string
	}{
		{oidc.Web, nil, false, false, "asks for no permission"},
		{oidc.Web, rows, true, false,
			"each agrees to 2 permissions the first time; whoever asks for tel:dome is stopped until an " +
				"administrator consents. No API publishes lost:x."},
		{oidc.Web, rows[1:2], true, true, "people sign in and are asked nothing."},
		{oidc.Web, rows[:1], true, true, "each agrees to 1 permission the first time."},
		{oidc.Web, rows[3:4], false, false, "It cannot work: an administrator has to consent to tel:dome."},
		{oidc.Web, rows[4:], false, false, "It cannot work. No API publishes lost:x."},
		{oidc.Machine, rows[1:2], true, true, "It can work: all that it asks for is consented to."},
		{oidc.Machine, []AskState{rows[1], rows[3]}, true, false,
			"It can work in part, with tel:a.read; an administrator has to consent to tel:dome."},
	} {
		if works, whole, line := Summarize(c.kind, c.rows); works != c.works || whole != c.whole ||
			!strings.HasSuffix(line, c.says) && !strings.Contains(line, c.says) {
			t.Errorf("%v %v %q, want %q", works, whole, line, c.says)
		}
	}
}

func TestAdvise(t *testing.T) {
	app := &Party{Name: "app", Kind: App, Client: NewClient(oidc.Web)}
	read, write, dome, self := ask("a.read", AsUser), ask("a.write", AsUser), ask("dome", AsUser), ask("a.read", AsSelf)
	later := at.Add(100 * 24 * time.Hour)
	use := func(issued, presented time.Time) []Use {
		return []Use{{API: "tel", Name: "a.read", As: AsUser, Issued: issued, Presented: presented}}
	}
	all := []Consent{given(read, "", "aiyana", true, Consented)}
	for _, c := range []struct {
		name     string
		asks     []Ask
		consents []Consent
		uses     []Use
		now      time.Time
		want     []string
	}{
		{"young", []Ask{read}, nil, nil, at, nil},
		{"a write beside a read", []Ask{read, write}, nil, nil, at, []string{"privilege.write"}},
		{"a write alone", []Ask{write}, nil, nil, at, nil},
		{"as itself where it has users", []Ask{self}, nil, nil, at, []string{"privilege.as-self"}},
		{"everything", []Ask{dome, read, write}, nil, nil, at, []string{"privilege.write", "privilege.everything"}},
		{"nobody consented", []Ask{read}, nil, nil, later, []string{"privilege.unconsented"}},
		{"consented and in no token", []Ask{read}, all, nil, later, []string{"privilege.unused"}},
		{"in tokens, never presented", []Ask{read}, all, use(later, time.Time{}), later, []string{"privilege.unused"}},
		{"presented long ago", []Ask{read}, all, use(later, at), later, []string{"privilege.unused"}},
		{"in use", []Ask{read}, all, use(later, later), later, nil},
		{"OpenID's own", []Ask{ask("openid", AsUser)}, nil, nil, later, nil},
	} {
		tr := &Trust{Name: "app@ridge", Terms: Held{Terms: &OIDCTerms{Asks: c.asks}}}
		var got []string
		for _, f := range Advise(tr, tr.OIDCTerms(), app, telescope(), c.consents, c.uses, c.now) {
			got = append(got, string(f.ID))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

func TestTermsOfClients(t *testing.T) {
	mira := &people.Person{ID: "mira", Groups: []string{"observers"}}
	for admits, ok := range map[string]bool{"everyone": true, "group:observers": true,
		"group:directors,observers": true, "group:directors": false, "consented": false} {
		tr := &Trust{Name: "x@y", Admits: admits}
		if got, why := tr.AdmitsPerson(mira, nil); got != ok || !ok && why == "" {
			t.Errorf("%s: %v %q", admits, got, why)
		}
		if err := CheckAdmits(admits); err != nil {
			t.Error(err)
		}
	}
	for _, bad := range []string{"", "observers", "group:", "group:a,,b", "group:,a"} {
		if CheckAdmits(bad) == nil {
			t.Errorf("--admits %q is taken", bad)
		}
	}
	read := ask("a.read", AsUser)
	tr := &Trust{Name: "x@y", Admits: "consented"}
	if ok, _ := tr.AdmitsPerson(mira, []Consent{given(read, "mira", "aiyana", true, Consented)}); !ok {
		t.Error("an administrator consented for mira")
	}
	for _, bad := range []string{"192.0.2.0", "192.0.2.7/24", "192.0.2.0/33", "x", "", "::ffff:192.0.2.0/120"} {
		if CheckNetworks([]string{bad}) == nil {
			t.Errorf("network %q is taken", bad)
		}
	}
	nets := []string{"192.0.2.0/24", "2001:db8::/32"}
	for addr, want := range map[string]bool{"192.0.2.9": true, "::ffff:192.0.2.9": true, "192.0.3.1": false,
		"2001:db8::1": true, "2001:db9::1": false} {
		if FromNetwork(nets, netip.MustParseAddr(addr)) != want || !FromNetwork(nil, netip.MustParseAddr(addr)) {
			t.Errorf("%s: want %v", addr, want)
		}
	}
	const d = 24 * time.Hour
	for life, level := range map[time.Duration]finding.Level{90 * d: finding.Pass, 120 * d: finding.Pass,
		121 * d: finding.Warning, 400 * d: finding.Warning, 401 * d: finding.Error} {
		if f := JudgeSecretLife(life); f[0].Level != level {
			t.Errorf("%s: %s", SpanWords(life), f[0].Level)
		}
	}
	for span, want := range map[time.Duration]string{90 * d: "90 days", 24 * time.Hour: "24 hours", time.Hour: "1 hour",
		90 * time.Minute: "90 minutes", 61 * time.Second: "61 seconds"} {
		if SpanWords(span) != want {
			t.Errorf("%q, want %q", SpanWords(span), want)
		}
	}
	for v, ok := range map[string]bool{"https://tel.example": true, "urn:example:tel": true,
		"http://127.0.0.1:1/x": true,
		"http://tel.example":   false, "tel": false, "https://tel.example#x": false, "https://tel.example/#": false,
		"a b:c": false} {
		if (CheckAudience(v) == nil) != ok {
			t.Errorf("audience %q: want %v", v, ok)
		}
	}
}

func TestClaimsOfScopes(t *testing.T) {
	p := &people.Person{ID: "mira", Attributes: map[string][]string{"uid": {"mira"}, "mail": {"mira@x.example",
		"m@x.example"}, "displayName": {"Mira Solano"}, "telephoneNumber": {"+44 1632 960001"},
		"postalAddress": {"1 Ridge Road$Hillside"}}}
	e, err := claims.NewEngine()
	if err != nil {
		t.Fatal(err)
	}
	tr := &Trust{Name: "app@ridge", Rules: []claims.Rule{{Claim: "email", Expression: "person.mail", Name: "email"},
		{Claim: "sub", Expression: "'evil'", Name: "sub"}, {Claim: "aud", Expression: "'evil'", Name: "aud"},
		{Claim: "roles", Expression: "['a', 'b']", Name: "roles"}, {Claim: "email_verified", Expression: "'true'",
			Name: "email_verified"}}}
	r, err := NewReleaser(e, tr, SubjectKey{Salt: []byte("salt")}, nil)
	if err != nil {
		t.Fatal(err)
	}
	c := r.Claims(p, []string{"openid", "profile", "email", "address", "phone"}, false)
	if c["name"] != "Mira Solano" || c["email"] != "mira@x.example" || c["preferred_username"] != "mira" ||
		c["phone_number"] != "+44 1632 960001" ||
		c["address"].(map[string]string)["formatted"] != "1 Ridge Road\nHillside" {
		t.Errorf("%v", c)
	}
	if c["sub"] != nil || c["aud"] != nil || c["email_verified"] != true || len(c["roles"].([]string)) != 2 {
		t.Errorf("rules: %v", c)
	}
	if c = r.Claims(p, []string{"openid"}, false); len(c) != 1 || c["roles"] == nil {
		t.Errorf("without a scope: %v", c)
	}
	if c = r.Claims(p, []string{"openid", "profile", "email"}, true); len(c) != 3 {
		t.Errorf("in an ID token, the rules alone: %v", c)
	}
}

// TestWhatElseDecides: a client of a trust that has ended, without a secret, or into which nobody gets, is never said
// to be able to work; what a foreign provider decides is not known.
func TestWhatElseDecides(t *testing.T) {
	rows := []AskState{{Ask: Ask{Name: "openid", As: AsUser}, Label: "openid", Standing: Consented, Everyone: true}}
	for _, c := range []struct {
		name  string
		p     Prospect
		works bool
		says  string
	}{
		{"good", Prospect{Kind: oidc.Web, Standing: Live, Admits: 3, Of: 4}, true, "It can work"},
		{"ended", Prospect{Kind: oidc.Web, Standing: Ended, Admits: 3, Of: 4}, false, "the trust has ended"},
		{"paused", Prospect{Kind: oidc.Web, Standing: Paused, Admits: 3, Of: 4}, false, "been paused"},
		{"no secret", Prospect{Kind: oidc.Machine, Standing: Live, Auth: "no secret and no key"}, false,
			"no secret and no key"},
		{"nobody admitted", Prospect{Kind: oidc.Web, Standing: Live, Of: 4}, false, "none of the 4 people"},
		{"nobody known", Prospect{Kind: oidc.Web, Standing: Live}, true, "It can work"},
		{"a machine", Prospect{Kind: oidc.Machine, Standing: Live, Of: 4}, true, "It can work"},
		{"a foreign provider", Prospect{Kind: oidc.Web, Standing: Live, Far: "southmere", Admits: 3, Of: 4}, false,
			"not known here: southmere decides"},
	} {
		works, _, line := c.p.Works(rows)
		if works != c.works || !strings.Contains(line, c.says) || !works && strings.HasPrefix(line, "It can work") {
			t.Errorf("%s: %v, %q", c.name, works, line)
		}
	}
	told, open := rows[0], AskState{Label: "x", Standing: Waiting}
	told.By, told.Detail = "aiyana", "for everyone by aiyana"
	told.Elsewhere("southmere")
	open.Elsewhere("southmere")
	if told.Standing != Recorded || !strings.Contains(told.Detail, "as aiyana said") || open.Standing != Unknown ||
		!strings.Contains(open.Detail, "not known") {
		t.Errorf("%+v, %+v", told, open)
	}
}

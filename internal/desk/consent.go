package desk

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"admin.tressik.example/internal/core/federation"
	"admin.tressik.example/internal/core/finding"
	"admin.tressik.example/internal/core/near"
	"admin.tressik.example/internal/core/oidc"
	"admin.tressik.example/internal/store"
)

// HashSecret is what is kept of a client secret.
func HashSecret(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// AddSecret makes a client secret of 256 random bits. The secret itself is returned once and not kept.
func (d *Desk) AddSecret(name string, life time.Duration, note string) (*federation.Secret, string, finding.List, error) {
	t, app, provider, err := d.OIDCTrust(name)
	if err != nil {
		return nil, "", nil, err
	}
	c := app.ClientSide()
	switch {
	case t.Standing == federation.Ended:
		return nil, "", nil, fmt.Errorf("%s %w", name, ErrEnded)
	case c == nil:
		return nil, "", nil, fmt.Errorf("%s has no client side any more", app.Name)
	case !provider.Own:
		return nil, "", nil, fmt.Errorf("%s is foreign: it issues the secrets of its clients; ask its owner", provider.Name)
	case c.Kind.Public():
		return nil, "", nil, fmt.Errorf("%s is a %s client, which can keep no secret: whoever has the app has it. It needs none, PKCE protects its codes", app.Name, c.Kind)
	}
	found := federation.JudgeSecretLife(life)
	if found.Failed() {
		return nil, "", nil, fmt.Errorf("--lasts %s is %w: a secret lasts at most 2 years (730d)", federation.SpanWords(life), ErrValue)
	}
	b := make([]byte, 32+5)
	if _, err := io.ReadFull(d.Rand, b); err != nil {
		return nil, "", nil, err
	}
	secret := base64.RawURLEncoding.EncodeToString(b[:32])
	now := d.Now().UTC().Truncate(time.Second)
	s := &federation.Secret{ID: "s-" + hex.EncodeToString(b[32:]), Trust: name, Hash: HashSecret(secret), Hint: secret[len(secret)-4:], Note: note, Added: now, Expires: now.Add(life)}
	return s, secret, found, d.L.Change(func(tx *store.Tx) error { return tx.AddSecret(s) })
}

// RetireSecret makes a secret invalid. last reports whether it was the last valid one.
func (d *Desk) RetireSecret(name, id string, dry bool) (s *federation.Secret, last bool, err error) {
	t, _, _, err := d.OIDCTrust(name)
	if err != nil {
		return nil, false, err
	}
	all, err := d.L.Secrets(name)
	if err != nil {
		return nil, false, err
	}
	var ids []string
	valid := 0
	for i := range all {
		ids = append(ids, all[i].ID)
		if all[i].ID == id {
			s = &all[i]
		} else if all[i].Standing(d.Now()) == "valid" {
			valid++
		}
	}
	if s == nil {
		return nil, false, &UnknownError{What: "secret of " + name, Name: id, Near: near.Names(id, ids), Add: "see `tressik secret list " + name + "`"}
	}
	if s.Retired != nil {
		return nil, false, fmt.Errorf("the secret %s is retired already, since %s", id, s.Retired.Format("2006-01-02 15:04 UTC"))
	}
	last = valid == 0 && t.OIDC.JWKS == ""
	if dry {
		return s, last, nil
	}
	return s, last, d.L.Change(func(tx *store.Tx) error { return tx.RetireSecret(s) })
}

// API returns an app that has an api side. Errors: *UnknownError.
func (d *Desk) API(name string) (*federation.Party, error) {
	apis, err := d.L.APIs()
	if err != nil {
		return nil, err
	}
	if p := apis[name]; p != nil {
		return p, nil
	}
	var names []string
	for n := range apis {
		names = append(names, n)
	}
	u := &UnknownError{What: "API", Name: name, Near: near.Names(name, names), Add: "see `tressik permission list`"}
	if p, err := d.L.Party(name); err == nil && p.Kind == federation.App {
		return nil, fmt.Errorf("%s has no api side; give it one with `tressik app change %s --api AUDIENCE`", name, name)
	}
	if len(names) == 0 {
		u.Add = "add the first with `tressik app add NAME --api AUDIENCE`"
	}
	return nil, u
}

// Publish adds a permission to an API or changes it.
func (d *Desk) Publish(api string, x federation.Permission) (*federation.Party, error) {
	if err := federation.CheckPermission(x.Name); err != nil {
		return nil, err
	}
	p, err := d.API(api)
	if err != nil {
		return nil, err
	}
	for _, as := range x.As {
		if as != federation.AsUser && as != federation.AsSelf {
			return nil, fmt.Errorf("--as %q is %w; write user, self or user,self", as, ErrValue)
		}
	}
	if x.As = unique(x.As); len(x.As) == 0 {
		return nil, fmt.Errorf("--as is missing; write user (on behalf of a user), self (as itself) or user,self")
	}
	if x.Says == "" || len(x.Says) > 200 || strings.ContainsAny(x.Says, "\n\r\t") {
		return nil, fmt.Errorf("--says %q is %w: write in one line what it lets a client do; people read it when they are asked to agree", x.Says, ErrValue)
	}
	a := federation.API{Audience: p.API.Audience, Permissions: slices.Clone(p.API.Permissions)}
	if was := a.Find(x.Name); was != nil {
		for _, as := range was.As {
			if asking, err := d.askingAs(api, x.Name, as); err != nil || len(asking) > 0 && !slices.Contains(x.As, as) {
				return nil, errors.Join(err, fmt.Errorf("%s:%s is %w as %s by %s; drop it there first", api, x.Name, store.ErrInUse, as, strings.Join(asking, ", ")))
			}
		}
		*was = x
	} else {
		a.Permissions = append(a.Permissions, x)
	}
	return p, d.putAPI(p, a)
}

func (d *Desk) putAPI(p *federation.Party, a federation.API) error {
	old := *p
	p.API = &a
	return d.L.Change(func(tx *store.Tx) error { return tx.PutParty(&old, p, nil, true) })
}

// Unpublish takes a permission away from an API that no trust asks for.
func (d *Desk) Unpublish(api, name string) error {
	p, err := d.API(api)
	if err != nil {
		return err
	}
	if p.API.Find(name) == nil {
		return unknownPermission(p, name)
	}
	asking, err := d.askingFor(api, name)
	if err != nil {
		return err
	}
	if len(asking) > 0 {
		return fmt.Errorf("%s:%s is %w: %s; drop it there first with `tressik permission drop TRUST %s:%s`", api, name, store.ErrInUse, strings.Join(asking, ", "), api, name)
	}
	a := federation.API{Audience: p.API.Audience, Permissions: []federation.Permission{}}
	for _, x := range p.API.Permissions {
		if x.Name != name {
			a.Permissions = append(a.Permissions, x)
		}
	}
	return d.putAPI(p, a)
}

func unknownPermission(p *federation.Party, name string) error {
	u := &UnknownError{What: "permission of " + p.Name, Name: name, Near: near.Names(name, p.API.Names()), Add: "see `tressik permission list --api " + p.Name + "`"}
	if len(p.API.Permissions) == 0 {
		u.Add = "publish it with `tressik permission publish " + p.Name + " NAME --as user --says TEXT`"
	}
	return u
}

// askingFor names the trusts that ask for a permission of an API; name "" is any permission.
func (d *Desk) askingFor(api, name string) ([]string, error) { return d.askingAs(api, name, "") }

func (d *Desk) askingAs(api, name, as string) ([]string, error) {
	all, err := d.L.Trusts()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, t := range all {
		if t.OIDC == nil {
			continue
		}
		for _, a := range t.OIDC.Asks {
			if a.API == api && (name == "" || a.Name == name) && (as == "" || a.As == as) {
				out = append(out, t.Name)
			}
		}
	}
	return unique(out), nil
}

// askOf reads API:NAME, or the name of one of OpenID's own scopes.
func (d *Desk) askOf(label string) (federation.Ask, error) {
	api, name, ok := strings.Cut(label, ":")
	if !ok {
		if _, std := oidc.Standard(label); std {
			return federation.Ask{Name: label}, nil
		}
		var names []string
		for _, s := range oidc.StandardScopes() {
			names = append(names, s.Name)
		}
		apis, err := d.L.APIs()
		if err != nil {
			return federation.Ask{}, err
		}
		for n, p := range apis {
			for _, x := range p.API.Names() {
				names = append(names, n+":"+x)
			}
		}
		return federation.Ask{}, &UnknownError{What: "permission", Name: label, Near: near.Names(label, names),
			Add: "write API:NAME, such as telescope-api:frames.read, or one of OpenID's own scopes; see `tressik permission list`"}
	}
	p, err := d.API(api)
	if err != nil {
		return federation.Ask{}, err
	}
	if p.API.Find(name) == nil {
		return federation.Ask{}, unknownPermission(p, name)
	}
	return federation.Ask{API: api, Name: name}, nil
}

// Ask makes a trust ask for permissions. as is user, self, or "" for what its kind of client does.
func (d *Desk) Ask(trust string, labels []string, as string) (*federation.Trust, error) {
	_, app, _, err := d.OIDCTrust(trust)
	if err != nil {
		return nil, err
	}
	c := app.ClientSide()
	if as == "" {
		as = federation.AsUser
		if c.Kind == oidc.Service {
			as = federation.AsSelf
		}
	}
	if err := fitsKind(c.Kind, as); err != nil {
		return nil, err
	}
	var asks []federation.Ask
	for _, l := range labels {
		a, err := d.askOf(l)
		if err != nil {
			return nil, err
		}
		a.As, a.At = as, d.Now().UTC()
		if a.API == "" && as == federation.AsSelf {
			return nil, fmt.Errorf("%s %w as itself: OpenID's own scopes are about the person who signs in", l, federation.ErrFit)
		}
		if a.API != "" {
			p, err := d.API(a.API)
			if err != nil {
				return nil, err
			}
			if x := p.API.Find(a.Name); !slices.Contains(x.As, as) {
				return nil, fmt.Errorf("%s %w --as %s: its API publishes it for use as %s", l, federation.ErrFit, as, strings.Join(x.As, ", "))
			}
		}
		asks = append(asks, a)
	}
	return d.change(trust, "permission.ask", true, func(t *federation.Trust) error {
		reg := *t.OIDC
		reg.Asks = slices.Clone(reg.Asks)
		for _, a := range asks {
			if !slices.ContainsFunc(reg.Asks, a.Same) {
				reg.Asks = append(reg.Asks, a)
			}
		}
		t.OIDC = &reg
		return nil
	})
}

// Drop makes a trust no longer ask for permissions; their consents go with them. as "" drops both ways.
func (d *Desk) Drop(trust string, labels []string, as string) (*federation.Trust, error) {
	old, _, _, err := d.OIDCTrust(trust)
	if err != nil {
		return nil, err
	}
	t := *old
	reg := *old.OIDC
	var gone []federation.Ask
	for _, l := range labels {
		var kept []federation.Ask
		var have []string
		n := len(gone)
		for _, a := range reg.Asks {
			have = append(have, a.Label())
			if a.Label() == l && (as == "" || a.As == as) {
				gone = append(gone, a)
			} else {
				kept = append(kept, a)
			}
		}
		if len(gone) == n {
			return nil, &UnknownError{What: "permission that " + trust + " asks for", Name: l, Near: near.Names(l, have), Add: "see `tressik permission list --trust " + trust + "`"}
		}
		reg.Asks = kept
	}
	if reg.Asks == nil {
		reg.Asks = []federation.Ask{}
	}
	t.OIDC, t.Reshaped = &reg, d.Now().UTC()
	return &t, d.L.Change(func(tx *store.Tx) error {
		for _, a := range gone {
			if err := tx.ForgetAsk(trust, a); err != nil {
				return err
			}
		}
		return tx.PutTrust(old, &t, "permission.drop")
	})
}

// ConsentInput says who agrees to what. No labels means all that fits.
type ConsentInput struct {
	Trust    string
	Labels   []string
	For      string // everyone, or a person
	As       string
	Standing string // federation.Consented or federation.Withdrawn
}

// Consent records an administrator's consent or its withdrawal: for everyone, or for one person.
func (d *Desk) Consent(in ConsentInput) ([]federation.Consent, error) {
	t, _, _, err := d.OIDCTrust(in.Trust)
	if err != nil {
		return nil, err
	}
	person := ""
	if in.For != "everyone" {
		p, err := d.Person(in.For)
		if err != nil {
			return nil, err
		}
		person = p.ID
	}
	had, err := d.L.Consents(in.Trust)
	if err != nil {
		return nil, err
	}
	holds := func(a federation.Ask) bool {
		return slices.ContainsFunc(had, func(c federation.Consent) bool {
			return c.Of(a) && c.Standing == federation.Consented && strings.EqualFold(c.For, person) && (c.Admin || in.Standing == federation.Withdrawn)
		})
	}
	var picked []federation.Ask
	var list []federation.Consent
	seen := map[string]bool{}
	var have []string
	for _, a := range t.OIDC.Asks {
		have = append(have, a.Label())
		if len(in.Labels) > 0 && !slices.Contains(in.Labels, a.Label()) || in.As != "" && a.As != in.As {
			continue
		}
		seen[a.Label()] = true
		if in.Standing == federation.Withdrawn && person == "" { // nobody's consent is left
			own := mine(had, a)
			list = append(list, own...)
			if holds(a) || len(own) > 0 {
				picked = append(picked, a)
			}
			continue
		}
		switch {
		case person != "" && a.As == federation.AsSelf:
			if len(in.Labels) > 0 {
				return nil, fmt.Errorf("%s is asked for as itself: it is consented to for everyone, not for one person", a.Label())
			}
		case holds(a) == (in.Standing == federation.Consented):
		default:
			picked = append(picked, a)
		}
	}
	for _, l := range in.Labels {
		if !seen[l] {
			return nil, &UnknownError{What: "permission that " + in.Trust + " asks for", Name: l, Near: near.Names(l, have), Add: "ask for it first with `tressik permission ask " + in.Trust + " " + l + "`"}
		}
	}
	for i := range list {
		list[i].Standing, list[i].By, list[i].Admin, list[i].At = in.Standing, d.L.Actor, true, d.Now().UTC()
	}
	for _, a := range picked {
		list = append(list, federation.Consent{Trust: in.Trust, API: a.API, Name: a.Name, As: a.As, For: person, Standing: in.Standing, By: d.L.Actor, Admin: true, At: d.Now().UTC()})
	}
	if len(list) == 0 {
		return nil, nil
	}
	return list, d.keepConsents(list)
}

// mine are the consents to an ask that single persons gave, or an administrator for them.
func mine(had []federation.Consent, a federation.Ask) []federation.Consent {
	var out []federation.Consent
	for _, c := range had {
		if c.Of(a) && c.For != "" && c.Standing == federation.Consented {
			out = append(out, c)
		}
	}
	return out
}

// keepConsents stores consents of one standing.
func (d *Desk) keepConsents(list []federation.Consent) error {
	action := map[string]string{federation.Consented: "consent.give", federation.Withdrawn: "consent.withdraw", federation.Requested: "consent.request"}[list[0].Standing]
	return d.L.Change(func(tx *store.Tx) error {
		for i := range list {
			if list[i].Standing == federation.Consented {
				if err := tx.SettleRequests(&list[i]); err != nil {
					return err
				}
			}
		}
		return tx.PutConsents(action, list)
	})
}

// ConsentView is what consent show and permission list --trust show.
type ConsentView struct {
	Trust    string           `json:"trust"`
	Kind     oidc.Kind        `json:"client"`
	Works    bool             `json:"works"`
	Whole    bool             `json:"worksWhole"` // with all that it asks for
	Line     string           `json:"summary"`
	Rows     []federation.Row `json:"permissions"`
	Findings finding.List     `json:"findings"`
}

// ConsentShow is the matrix of consent of a trust, with advice on least privilege.
func (d *Desk) ConsentShow(name string) (*ConsentView, error) {
	t, app, _, err := d.OIDCTrust(name)
	if err != nil {
		return nil, err
	}
	s, err := d.Clients(t)
	if err != nil {
		return nil, err
	}
	v := &ConsentView{Trust: name, Rows: federation.Matrix(t, s.APIs, s.Consents), Findings: federation.Advise(t, app, s.APIs, s.Consents, s.Uses, d.Now())}
	if c := app.ClientSide(); c != nil {
		v.Kind = c.Kind
	}
	if v.Rows == nil {
		v.Rows = []federation.Row{}
	}
	if v.Findings == nil {
		v.Findings = finding.List{}
	}
	v.Works, v.Whole, v.Line = federation.Sum(v.Kind, v.Rows)
	return v, nil
}

// Published is a permission of an API with the trusts that ask for it.
type Published struct {
	API   string `json:"api"`
	Label string `json:"permission"`
	federation.Permission
	AskedBy []string `json:"askedForBy"`
}

// Permissions lists what APIs publish, by API; "" lists all of them.
func (d *Desk) Permissions(api string) ([]Published, error) {
	apis, err := d.L.APIs()
	if err != nil {
		return nil, err
	}
	if api != "" {
		p, err := d.API(api)
		if err != nil {
			return nil, err
		}
		apis = map[string]*federation.Party{api: p}
	}
	out := []Published{}
	for _, n := range slices.Sorted(maps.Keys(apis)) {
		for _, x := range apis[n].API.Permissions {
			by, err := d.askingFor(n, x.Name)
			if err != nil {
				return nil, err
			}
			out = append(out, Published{API: n, Label: n + ":" + x.Name, Permission: x, AskedBy: append([]string{}, by...)})
		}
	}
	return out, nil
}

// Package book is what can be read of a ledger: parties, trusts with their parties, people, and what belongs to a
// client; with the nearest names where one is not there. Whatever only reads is built on it.
package book

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/store"
)

// Book reads a ledger.
type Book struct {
	L   *store.Ledger
	Now func() time.Time
}

// UnknownError is for a name that the ledger does not have, with the nearest ones it has.
type UnknownError struct {
	What, Name string
	Near       []string
	Add        string // how to add the first
}

func (e *UnknownError) Error() string {
	s := fmt.Sprintf("there is no %s %q", e.What, e.Name)
	switch {
	case len(e.Near) > 0:
		s += "; did you mean " + strings.Join(e.Near, " or ") + "?"
	case e.Add != "":
		s += "; " + e.Add
	}
	return s
}

// ErrValue is for a value that a command cannot take.
var ErrValue = errors.New("not usable")

// Party returns a party of a kind. Errors: *UnknownError.
func (d *Book) Party(kind federation.Kind, name string) (*federation.Party, error) {
	p, err := d.L.Party(name)
	if err == nil && p.Kind == kind {
		return p, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	providers, apps, _, err := d.L.Names()
	if err != nil {
		return nil, err
	}
	list, other, word := providers, apps, "app"
	if kind == federation.App {
		list, other, word = apps, providers, "provider"
	}
	u := &UnknownError{What: string(kind), Name: name, Near: near.Names(name, list),
		Add: fmt.Sprintf("see `tressik %s list`", kind)}
	if len(list) == 0 {
		u.Add = fmt.Sprintf("add the first with `tressik %s add NAME --metadata SOURCE`", kind)
	}
	for _, o := range other {
		if o == name {
			return nil, fmt.Errorf("%s is the name of %s %s; %w", name, article(word), word, u)
		}
	}
	return nil, u
}

func article(word string) string {
	if strings.ContainsRune("aeiou", rune(word[0])) {
		return "an"
	}
	return "a"
}

// AnyParty returns a party of either kind. Errors: *UnknownError.
func (d *Book) AnyParty(name string) (*federation.Party, error) {
	p, err := d.L.Party(name)
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	providers, apps, _, err := d.L.Names()
	if err != nil {
		return nil, err
	}
	return nil, &UnknownError{What: "provider or app", Name: name, Near: near.Names(name, append(providers, apps...)),
		Add: "see `tressik provider list` and `tressik app list`"}
}

// Trust returns a trust with both its parties. Errors: *UnknownError.
func (d *Book) Trust(name string) (*federation.Trust, *federation.Party, *federation.Party, error) {
	t, err := d.L.Trust(name)
	if errors.Is(err, store.ErrNotFound) {
		_, _, trusts, err := d.L.Names()
		if err != nil {
			return nil, nil, nil, err
		}
		u := &UnknownError{What: "trust", Name: name, Near: near.Names(name, trusts), Add: "see `tressik trust list`"}
		for _, t := range trusts {
			if app, _, _ := strings.Cut(t, "@"); app == name {
				u.Near = append([]string{t}, u.Near...)
				break
			}
		}
		u.Near = Unique(u.Near)
		if len(trusts) == 0 {
			u.Add = "make the first with `tressik federate APP --with PROVIDER`"
		}
		return nil, nil, nil, u
	}
	if err != nil {
		return nil, nil, nil, err
	}
	app, err := d.L.Party(t.App)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the app of %s: %w", name, err)
	}
	provider, err := d.L.Party(t.Provider)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the provider of %s: %w", name, err)
	}
	return t, app, provider, nil
}

func Unique(list []string) []string {
	seen := map[string]bool{}
	var out []string
	for _, s := range list {
		if !seen[s] {
			seen[s] = true
			out = append(out, s)
		}
	}
	return out
}

// Person finds a person by ID or mail address. Errors: *UnknownError.
func (d *Book) Person(name string) (*people.Person, error) {
	p, err := d.L.Person(name)
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	all, err := d.L.Persons()
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(all))
	for i := range all {
		ids[i] = all[i].ID
		for _, m := range all[i].Attributes["mail"] {
			if strings.EqualFold(m, name) {
				return &all[i], nil
			}
		}
	}
	u := &UnknownError{What: "person", Name: name, Near: near.Names(name, ids), Add: "see `tressik people list`"}
	if len(all) == 0 {
		u.Add = "load people first with `tressik people load FILE`"
	}
	return nil, u
}

// ClientState is what the ledger has of a trust over OpenID Connect besides the trust itself.
type ClientState struct {
	APIs     map[string]*federation.Party
	Secrets  []federation.Secret
	Consents []federation.Consent
	Uses     []federation.Use
}

// Clients loads what belongs to a trust over OpenID Connect.
func (d *Book) Clients(t *federation.Trust) (s ClientState, err error) {
	if s.APIs, err = d.L.APIs(); err != nil {
		return s, err
	}
	if s.Secrets, err = d.L.Secrets(t.Name); err != nil {
		return s, err
	}
	if s.Consents, err = d.L.Consents(t.Name); err != nil {
		return s, err
	}
	s.Uses, err = d.L.Uses(t.Name)
	return s, err
}

// OIDCTrust returns a trust over OpenID Connect with its parties, and an error for one over SAML.
func (d *Book) OIDCTrust(name string) (*federation.Trust, *federation.Party, *federation.Party, error) {
	t, app, provider, err := d.Trust(name)
	if err != nil {
		return nil, nil, nil, err
	}
	if _, over := t.OIDC(); !over {
		return nil, nil, nil,
			fmt.Errorf("%s is over SAML; this is for trusts over OpenID Connect (`tressik federate APP --with PROVIDER "+
				"--over oidc`)", name)
	}
	return t, app, provider, err
}

// API returns an app that has an api side. Errors: *UnknownError.
func (d *Book) API(name string) (*federation.Party, error) {
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

// AskingFor names the trusts that ask for a permission of an API; name "" is any permission.
func (d *Book) AskingFor(api, name string) ([]string, error) { return d.AskingAs(api, name, "") }

func (d *Book) AskingAs(api, name, as string) ([]string, error) {
	all, err := d.L.Trusts()
	if err != nil {
		return nil, err
	}
	var out []string
	for _, t := range all {
		for _, a := range t.Asks() {
			if a.API == api && (name == "" || a.Name == name) && (as == "" || a.As == as) {
				out = append(out, t.Name)
			}
		}
	}
	return Unique(out), nil
}

// AskOf reads API:NAME, or the name of one of OpenID's own scopes.
func (d *Book) AskOf(label string) (federation.Ask, error) {
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
			Add: "write API:NAME, such as telescope-api:frames.read, or one of OpenID's own scopes; see `tressik " +
				"permission list`"}
	}
	p, err := d.API(api)
	if err != nil {
		return federation.Ask{}, err
	}
	if p.API.Find(name) == nil {
		return federation.Ask{}, UnknownPermission(p, name)
	}
	return federation.Ask{API: api, Name: name}, nil
}

// AskAt finds what a label means at a provider. At a foreign one any scope can be asked for by name, for the ledger
// does not know what it offers; a permission that an API of the ledger does not publish is a mistake there too.
func (d *Book) AskAt(provider *federation.Party, label string) (federation.Ask, error) {
	a, err := d.AskOf(label)
	var unknown *UnknownError
	if err == nil || provider.Own || !errors.As(err, &unknown) {
		return a, err
	}
	if api, _, ok := strings.Cut(label, ":"); ok {
		if _, err := d.API(api); err == nil {
			return a, unknown
		}
	}
	if list, ok := oidc.Scope(label); !ok || len(list) != 1 || list[0] != label {
		return a, fmt.Errorf("%q is %w as a scope: one word of printable ASCII, without quotes and backslashes (RFC 6749, "+
			"section 3.3)", label, ErrValue)
	}
	return federation.Ask{Name: label}, nil
}

// Releaser works out what a trust sends for a person. Errors: *claims.CompileError, store.ErrNotFound.
func (d *Book) Releaser(t *federation.Trust, rand io.Reader) (*federation.Releaser, error) {
	engine, err := claims.NewEngine()
	if err != nil {
		return nil, err
	}
	key, err := d.L.SubjectKey(t.Name)
	if err != nil {
		return nil, err
	}
	return federation.NewReleaser(engine, t, key, rand)
}

// Published is a permission of an API with the trusts that ask for it.
type Published struct {
	API   string `json:"api"`
	Label string `json:"permission"`
	federation.Permission
	AskedBy []string `json:"askedForBy"`
}

// Permissions lists what APIs publish, by API; "" lists all of them.
func (d *Book) Permissions(api string) ([]Published, error) {
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
			by, err := d.AskingFor(n, x.Name)
			if err != nil {
				return nil, err
			}
			out = append(out, Published{API: n, Label: n + ":" + x.Name, Permission: x, AskedBy: append([]string{}, by...)})
		}
	}
	return out, nil
}

// ErrEnded means that an ended trust was to be used.
var ErrEnded = errors.New("has ended")

// Names lists the names of all parties and trusts.
func (d *Book) Names() (providers, apps, trusts []string, err error) { return d.L.Names() }

// Trusts lists all trusts by name.
func (d *Book) Trusts() ([]federation.Trust, error) { return d.L.Trusts() }

// Parties lists the parties of a kind by name.
func (d *Book) Parties(kind federation.Kind) ([]federation.Party, error) { return d.L.Parties(kind) }

// Persons lists all persons by ID.
func (d *Book) Persons() ([]people.Person, error) { return d.L.Persons() }

// APIs lists the apps that have an api side, by name.
func (d *Book) APIs() (map[string]*federation.Party, error) { return d.L.APIs() }

// Secrets lists the secrets of a trust, oldest first; "" lists those of all trusts.
func (d *Book) Secrets(trust string) ([]federation.Secret, error) { return d.L.Secrets(trust) }

// Consents lists the consents of a trust; "" lists those of all trusts.
func (d *Book) Consents(trust string) ([]federation.Consent, error) { return d.L.Consents(trust) }

// Received returns the metadata of a party as it was received; nil if there is none.
func (d *Book) Received(party string) ([]byte, error) { return d.L.Raw(party) }

// Journal lists entries, oldest first.
func (d *Book) Journal(f store.Filter) ([]store.Entry, error) { return d.L.Journal(f) }

// VerifyJournal walks the chain and returns the number of entries and every break in it.
func (d *Book) VerifyJournal() (int, []store.Break, error) { return d.L.VerifyJournal() }

// UnknownPermission is the error for a permission that an API does not publish.
func UnknownPermission(p *federation.Party, name string) error {
	u := &UnknownError{What: "permission of " + p.Name, Name: name, Near: near.Names(name, p.API.Names()),
		Add: "see `tressik permission list --api " + p.Name + "`"}
	if len(p.API.Permissions) == 0 {
		u.Add = "publish it with `tressik permission publish " + p.Name + " NAME --as user --says TEXT`"
	}
	return u
}

// CheckURL reports what is wrong with a value that must be an absolute URL. Errors: ErrValue.
func CheckURL(flag, v string) error {
	u, err := url.Parse(v)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return fmt.Errorf("%s %q is %w: it must be an absolute URL of https: or http:, such as "+
			"https://app.kestrelridge.example/path",
			flag, v, ErrValue)
	}
	return nil
}

// Org is the organisation whose ledger it is.
func (d *Book) Org() string { return d.L.Org() }

// Path is where the ledger lies.
func (d *Book) Path() string { return d.L.Path() }

// Settled lists the steps of a trust that somebody settled by hand, by their words.
func (d *Book) Settled(trust string) (map[string]store.Settled, error) {
	return store.SettledSteps(d.L, trust)
}

// LetBe reports which findings about a trust or a party are accepted now: by the finding's ID, what was looked at.
func (d *Book) LetBe(about string) (map[string][]string, error) {
	return store.LetBe(d.L, about, d.Now())
}

// Runs lists what was kept of the runs of a trust, the newest first, at most n; 0 is all.
func (d *Book) Runs(trust string, n int) ([]federation.Run, error) { return store.Runs(d.L, trust, n) }

// Run returns one run of a trust. Errors: store.ErrNotFound.
func (d *Book) Run(trust string, number int64) (*federation.Run, error) {
	return store.RunOf(d.L, trust, number)
}

package model

import (
	"crypto"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"sync"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/plain"
)

// Book is what a use case works on: a View with the questions that name the nearest where a name is not there, what the
// use case is handed beside, and, where something may be changed, the Edit that takes it.
type Book struct {
	View
	Env
	edit   *Edit
	engine func() (*claims.Engine, error) // made when it is first needed, and shared
}

// Open returns a Book for reading alone.
func Open(v View, env Env) *Book {
	return &Book{View: v, Env: env, engine: sync.OnceValues(claims.NewEngine)}
}

// Begin returns a Book for changing, and the Edit that gathers what is changed. It shows what was changed already.
func Begin(v View, env Env) (*Book, *Edit) {
	e := NewEdit(v, env)
	return &Book{View: e.View, Env: env, edit: e, engine: sync.OnceValues(claims.NewEngine)}, e
}

// Engine is what evaluates expressions. It is made when it is first asked for: that takes some milliseconds.
func (d *Book) Engine() (*claims.Engine, error) { return d.engine() }

// Try returns a Book on which everything can be tried: it begins with what stands in this one, and nobody keeps what is
// changed.
func (d *Book) Try() *Book {
	b, _ := Begin(d.View, d.Env)
	return b
}

// Change tells the change in the making. Errors: ErrReading where nothing may be changed.
func (d *Book) Change(f func(*Edit) error) error {
	if d.edit == nil {
		return ErrReading
	}
	return f(d.edit)
}

// Turn has the Book show another View from now on: what stands in the ledger after a change.
func (d *Book) Turn(v View) { d.View = v }

// Work has a use case, or several one behind the other, change what a View says, and returns the Changes. Whatever
// works on the Book sees that View meanwhile, with what was changed already.
func (d *Book) Work(v View, f func() error) (Changes, error) {
	was := *d
	e := NewEdit(v, d.Env)
	d.View, d.edit = e.View, e
	defer func() { d.View, d.edit = was.View, was.edit }()
	err := f()
	return e.Changes(), err
}

// Attempt has a use case change something of which, where it fails, nothing stays; what was changed before it stays.
func (d *Book) Attempt(f func() error) error {
	if d.edit == nil {
		return ErrReading
	}
	c, err := d.Work(d.View, f)
	if err != nil {
		return err
	}
	d.edit.add(c)
	return nil
}

// Changing reports whether something may be changed.
func (d *Book) Changing() bool { return d.edit != nil }

// Changes returns what was changed in a Book that is open for changing.
func (d *Book) Changes() Changes {
	if d.edit == nil {
		return Changes{}
	}
	return d.edit.Changes()
}

// Known reports whether there is a ledger behind the Book at all. What needs none works on a Book that knows nothing.
func (d *Book) Known() bool { return d.Reader != nil }

// UnknownError is for a name that the ledger does not have, with the nearest ones it has.
type UnknownError struct {
	What, Name string
	Near       []string
	Add        string // how to add the first
	Err        error  // what callers test for; nil: nothing more
}

// Unwrap is what callers test for.
func (e *UnknownError) Unwrap() error { return e.Err }

// UnknownGroup says that nobody is in a group, and which groups are that look alike.
func UnknownGroup(name string, all people.Census) error {
	return &UnknownError{What: "group", Name: name, Near: near.Names(name, all.GroupNames()),
		Add: "see `tressik people list`"}
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
	p, err := d.View.Party(name)
	if err == nil && p.Kind == kind {
		return p, nil
	}
	if err != nil && !errors.Is(err, ErrNotFound) {
		return nil, err
	}
	providers, apps, _, err := d.AllNames()
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
	p, err := d.View.Party(name)
	if !errors.Is(err, ErrNotFound) {
		return p, err
	}
	providers, apps, _, err := d.AllNames()
	if err != nil {
		return nil, err
	}
	return nil, &UnknownError{What: "provider or app", Name: name, Near: near.Names(name, append(providers, apps...)),
		Add: "see `tressik provider list` and `tressik app list`"}
}

// Trust returns a trust with both its parties. Errors: *UnknownError.
func (d *Book) Trust(name string) (*federation.Trust, *federation.Party, *federation.Party, error) {
	t, err := d.View.Trust(name)
	if errors.Is(err, ErrNotFound) {
		_, _, trusts, err := d.AllNames()
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
	app, err := d.View.Party(t.App)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the app of %s: %w", name, err)
	}
	provider, err := d.View.Party(t.Provider)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the provider of %s: %w", name, err)
	}
	return t, t.AppOf(app), provider, nil
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
	p, err := d.View.Person(name)
	if !errors.Is(err, ErrNotFound) {
		return p, err
	}
	all, err := d.View.Persons()
	if err != nil {
		return nil, err
	}
	who, shared := people.Named(all, name)
	if who != nil {
		return who, nil
	}
	if len(shared) > 0 {
		return nil, fmt.Errorf("the address %s is %w to mean one person: it is that of %s; name them by their IDs",
			name,
			ErrValue, strings.Join(shared, " and of "))
	}
	ids := make([]string, len(all))
	for i := range all {
		ids[i] = all[i].ID
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
	if s.APIs, err = d.View.APIs(); err != nil {
		return s, err
	}
	if s.Secrets, err = d.View.Secrets(t.Name); err != nil {
		return s, err
	}
	if s.Consents, err = d.View.Consents(t.Name); err != nil {
		return s, err
	}
	s.Uses, err = d.View.Uses(t.Name)
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
			fmt.Errorf("%s is over SAML; this is for trusts over OpenID Connect (`tressik federate APP --with "+
				"PROVIDER "+
				"--over oidc`)", name)
	}
	return t, app, provider, err
}

// API returns an app that has an api side. Errors: *UnknownError.
func (d *Book) API(name string) (*federation.Party, error) {
	apis, err := d.View.APIs()
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
	if p, err := d.View.Party(name); err == nil && p.Kind == federation.App {
		return nil, fmt.Errorf("%s has no api side; give it one with `tressik app change %s --api AUDIENCE`",
			name, name)
	}
	if len(names) == 0 {
		u.Add = "add the first with `tressik app add NAME --api AUDIENCE`"
	}
	return nil, u
}

// AskingFor names the trusts that ask for a permission of an API; name "" is any permission.
func (d *Book) AskingFor(api, name string) ([]string, error) { return d.AskingAs(api, name, "") }

func (d *Book) AskingAs(api, name, as string) ([]string, error) {
	all, err := d.View.Trusts()
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
		apis, err := d.View.APIs()
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
		return a, fmt.Errorf("%q is %w as a scope: one word of printable ASCII, without quotes and backslashes (RFC "+
			"6749, "+
			"section 3.3)", label, ErrValue)
	}
	return federation.Ask{Name: label}, nil
}

// Releaser works out what a trust sends for a person. Errors: *claims.CompileError, ErrNotFound.
func (d *Book) Releaser(t *federation.Trust, rand io.Reader) (*federation.Releaser, error) {
	key, err := d.View.SubjectKey(t.Name)
	if err != nil {
		return nil, err
	}
	return d.ReleaserWith(t, key, rand)
}

// ReleaserWith is Releaser, for whoever has read what the trust's pseudonyms are made from.
func (d *Book) ReleaserWith(t *federation.Trust, key federation.SubjectKey,
	rand io.Reader) (*federation.Releaser, error) {
	engine, err := d.Engine()
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
	apis, err := d.View.APIs()
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
			out = append(out, Published{API: n, Label: n + ":" + x.Name, Permission: x,
				AskedBy: append([]string{}, by...)})
		}
	}
	return out, nil
}

// ErrEnded means that an ended trust was to be used.
var ErrEnded = errors.New("has ended")

// UnknownPermission is the error for a permission that an API does not publish.
func UnknownPermission(p *federation.Party, name string) error {
	u := &UnknownError{What: "permission of " + p.Name, Name: name, Near: near.Names(name, p.API.Names()),
		Add: "see `tressik permission list --api " + p.Name + "`"}
	if len(p.API.Permissions) == 0 {
		u.Add = "publish it with `tressik permission publish " + p.Name + " NAME --acting user --says TEXT`"
	}
	return u
}

// CheckURL reports what is wrong with a value that must be an absolute URL. Errors: ErrValue.
func CheckURL(field finding.Field, v string) error {
	u, err := url.Parse(v)
	if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" {
		return finding.Errorf("%s %q is %w: it must be an absolute URL of https: or http:, such as "+
			"https://app.kestrelridge.example/path",
			field, v, ErrValue)
	}
	return nil
}

// CheckLine reports what is wrong with a name or a title for people. Errors: ErrValue.
func CheckLine(field finding.Field, v string) error {
	if err := plain.CheckLine(v, 200); err != nil {
		return finding.Errorf("%s %.60q is %w: %w", field, v, ErrValue, err)
	}
	return nil
}

// CheckMail reports what is wrong with a value that must be one mail address, without a name. Errors: ErrValue.
func CheckMail(field finding.Field, v string) error {
	if a, err := mail.ParseAddress(v); err != nil || a.Address != v {
		return finding.Errorf("%s %q is %w: write one mail address, such as mira.solano@kestrelridge.example", field, v,
			ErrValue)
	}
	return nil
}

// CheckService reports that an app has no AttributeConsumingService of an index; "" asks for the default one, and is
// always right. Errors: ErrValue.
func CheckService(app *federation.Party, index string) error {
	if index == "" || app.Entity.SP.ServiceOf(index) != nil {
		return nil
	}
	return finding.Errorf("%s %s is %w; the services of %s: %s", finding.FieldService, index, ErrValue, app.Name,
		app.Entity.SP.ServiceWords())
}

// LetBe lists what lets findings about a trust or a party be now.
func (d *Book) LetBe(about string) ([]Let, error) { return d.View.LetBe(about, d.Now()) }

// Key opens the active key of an own party for a use. Errors: ErrNotFound, ErrSealKey.
func (d *Book) Key(party, use string) (Opened, error) { return d.ActiveKey(d.Vault, party, use) }

// PrivateKey opens one key of an own party. Errors: ErrNotFound, ErrSealKey.
func (d *Book) PrivateKey(party string, k *federation.OwnKey) (crypto.Signer, error) {
	return d.View.PrivateKey(d.Vault, party, k)
}

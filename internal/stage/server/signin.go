package server

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
)

// Session is somebody who is signed in at a provider.
type Session struct {
	Provider string
	Person   string // ID
	Context  string // how strongly they were authenticated
	Since    time.Time
	Index    string
}

// Wish is a sign-in that a protocol asks a provider for. Its functions go on in the protocol; they hold nothing of the
// scene in which the request came.
type Wish struct {
	Provider string // name
	Title    string // of the provider, for people
	At       string // address of the provider's sign-in form
	App      string // title of the app, for people
	Contexts []string
	Force    bool                // nobody's session counts
	Fresh    func(*Session) bool // whether a session is young enough; nil: any is
	Passive  bool                // no page may be shown
	// Voluntary says that the contexts are a wish: a session that has none of them does where no page may be shown.
	Voluntary bool
	Hint      string                                             // who is likely to sign in
	Leads     string                                             // where the redirects behind the form may lead
	Refuse    func(w http.ResponseWriter, r *http.Request)       // passive, and a page would be needed
	Done      func(http.ResponseWriter, *http.Request, *Session) // somebody is signed in
	People    Directory
	Via       string // the trust whose upstream provider is to sign the person in; "" is none

	browser string
	person  string // after the first factor
	name    string // after the address
}

// find finds somebody who signs in at the provider of the wish.
func (x *Wish) find(name string) *people.Person {
	who := x.People.Find(name)
	if who != nil && who.Home != "" && who.Home != x.Provider {
		return nil
	}
	return who
}

// names are those who may be proposed: where some people sign in at the provider alone, these.
func (x *Wish) names() []string {
	list := slices.DeleteFunc(x.People.Names(200), func(id string) bool { return x.find(id) == nil })
	home := slices.DeleteFunc(slices.Clone(list), func(id string) bool { return x.find(id).Home != x.Provider })
	if len(home) > 0 {
		return home
	}
	return list
}

// Passwords checks the passwords of people who have one.
type Passwords interface {
	// Has reports whether somebody has a password.
	Has(who *people.Person) bool
	// Check reports whether a password is somebody's. Errors: people.ErrPassword where it is not, others where that
	// cannot be found out.
	Check(ctx context.Context, who *people.Person, password string) error
}

// Directory finds people.
type Directory interface {
	// Find returns a person by ID or mail address, letter case not counting; nil if there is none.
	Find(id string) *people.Person
	// Names lists at most n IDs, to propose.
	Names(n int) []string
}

// doors are the sign-ins under way and the sessions of all providers.
type doors struct {
	s        *Server
	sessions *Kept[*Session] // by cookie
	waiting  *Kept[*Wish]    // by form token
	forms    *Kept[form1]    // other forms, by token
}

// longest is how long a session at a provider is remembered; policies of trusts ask for younger ones.
const longest = 30 * 24 * time.Hour

// FormLife is how long a form can be sent.
const FormLife = 15 * time.Minute

func newDoors(s *Server) *doors {
	now := func() time.Time { return s.Now() }
	return &doors{s, NewKept[*Session](now, longest, 20_000), NewKept[*Wish](now, FormLife, 20_000),
		NewKept[form1](now, FormLife, 20_000)}
}

// Waiting is how many sign-in forms are open.
func (s *Server) Waiting() int { return s.doors.waiting.Len() }

func sessionCookie(provider string) string { return "stage_session_" + provider }

// SessionOf returns the session of a browser at a provider, and the value of its cookie; nil if there is none.
func (s *Server) SessionOf(r *http.Request, provider string) (*Session, string) {
	c, err := r.Cookie(sessionCookie(provider))
	if err != nil {
		return nil, ""
	}
	if v, ok := s.doors.sessions.Get(c.Value); ok && v.Provider == provider {
		return v, c.Value
	}
	return nil, c.Value
}

// EndSession ends a session of a provider.
func (s *Server) EndSession(provider, index string) {
	s.doors.sessions.Drop(func(v *Session) bool { return v.Index == index && v.Provider == provider })
}

// SignIn goes on at once where a session is strong enough, else asks for a sign-in.
func (s *Server) SignIn(w http.ResponseWriter, r *http.Request, x *Wish) {
	have, _ := s.SessionOf(r, x.Provider)
	force := x.Force || have != nil && x.Fresh != nil && !x.Fresh(have)
	if have != nil && !force {
		if _, strong := judge.Asserted(have.Context, x.Contexts); strong {
			x.Done(w, r, have)
			return
		}
	}
	if x.Passive {
		if have != nil && !force && x.Voluntary {
			x.Done(w, r, have)
			return
		}
		x.Refuse(w, r)
		return
	}
	x.browser = s.Browser(w, r)
	if have != nil && !force {
		x.person = have.Person
	}
	token := s.ID()
	s.doors.waiting.Put(token, x)
	if x.Via != "" && x.person == "" && s.Upstream != nil {
		s.upstream(w, r, *x, token, x.Via, x.Hint)
		return
	}
	s.ask(w, x, token, "")
}

// upstream has somebody sign in at the provider of a trust, and goes on with who comes in.
func (s *Server) upstream(w http.ResponseWriter, r *http.Request, x Wish, token, trust, name string) {
	s.Upstream(w, r, trust, name, func(w http.ResponseWriter, r *http.Request, who *people.Person, context string) {
		x.person = who.ID
		// the factor that is missing is asked for here
		if _, strong := judge.Asserted(context, x.Contexts); !strong {
			s.doors.waiting.Put(token, &x)
			s.ask(w, &x, token, "")
			return
		}
		s.signedIn(w, r, &x, token, context)
	})
}

func (s *Server) ask(w http.ResponseWriter, x *Wish, token, problem string) {
	f := &Form{Action: x.At, Token: token}
	lead := "You are signing in to " + x.App + "."
	if x.person != "" {
		f.Ask, f.Button = "second", "Confirm the second factor"
		s.Page(w, http.StatusOK, Page{Title: "Second factor", By: x.Title, Form: f, Leads: x.Leads,
			Lead: lead + " It asks for multi-factor authentication; on the stage the second factor is this button."})
		return
	}
	if _, any := s.route(x, ""); any && x.name == "" {
		f.Ask, f.Button, f.Value = "address", "Next", x.Hint
		if problem != "" {
			lead = problem
		}
		s.Page(w, http.StatusOK, Page{Title: "Sign in", By: x.Title, Form: f, Leads: x.Leads, Lead: lead +
			" People of some organisations sign in at home: your address says where."})
		return
	}
	f.Ask, f.Button, f.Value, f.People = "person", "Sign in", cmp.Or(x.name, x.Hint), x.names()
	for _, id := range f.People[:min(8, len(f.People))] {
		if who := x.find(id); who != nil {
			if s.hasPassword(who) {
				f.Password = true
				continue // a name alone does not sign in
			}
			f.Few = append(f.Few, [2]string{id, who.Name()})
		}
	}
	f.Password = f.Password || s.anyPassword(x, f.People)
	if problem != "" {
		lead = problem
	}
	words := " On the stage nobody has a password."
	if f.Password {
		words = " Your directory checks your password."
		if len(f.Few) > 0 {
			words = " People of a directory have its password; others have none on the stage."
		}
	}
	s.Page(w, http.StatusOK, Page{Title: "Sign in", By: x.Title, Form: f, Leads: x.Leads, Lead: lead + words})
}

func (s *Server) hasPassword(who *people.Person) bool {
	return s.Passwords != nil && s.Passwords.Has(who)
}

// anyPassword reports whether somebody of those who are proposed has a password.
func (s *Server) anyPassword(x *Wish, names []string) bool {
	return s.Passwords != nil && slices.ContainsFunc(names, func(id string) bool {
		who := x.find(id)
		return who != nil && s.Passwords.Has(who)
	})
}

// proves reports whether somebody's password is right, or they have none; else what to say.
func (s *Server) proves(r *http.Request, who *people.Person) (problem string) {
	if !s.hasPassword(who) {
		return ""
	}
	person := Bound{"password " + who.ID, 3}
	if wait := s.Tried.Try(person, Bound{"password " + From(r), 20}); wait > 0 {
		return WaitWords(wait)
	}
	switch err := s.Passwords.Check(r.Context(), who, r.PostForm.Get("password")); {
	case err == nil:
		s.Tried.Succeeded(person)
		return ""
	case errors.Is(err, people.ErrPassword):
		return "The name or the password is wrong."
	default:
		return "The directory cannot be asked, and so nobody signs in: " + err.Error()
	}
}

// SignInForm takes the sign-in form of a provider.
func (s *Server) SignInForm(provider, title string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost || r.ParseForm() != nil {
			s.Page(w, http.StatusMethodNotAllowed, Page{Title: "Start at the app", By: title,
				Lead: "A sign-in starts at the app's start link."})
			return
		}
		token := r.PostForm.Get("form_token")
		was, ok := s.doors.waiting.Get(token)
		if !ok || was.Provider != provider || !SameBrowser(r, was.browser) {
			s.formOver(w, title, "It was sent before, is older than 15 minutes, or comes from another browser. Start "+
				"again at the app.")
			return
		}
		x := *was // a copy: two posts of one form do not meddle with each other
		context := judge.ContextPassword
		name := r.PostForm.Get("person")
		if c := r.PostForm.Get("choose"); c != "" {
			name = c
		}
		trust, any := s.route(&x, name)
		switch {
		case r.PostForm.Get("second") == "yes" && x.person != "":
			context = judge.ContextMFA
		case trust != "":
			s.upstream(w, r, x, token, trust, name)
			return
		case x.find(name) == nil:
			x.name = ""
			s.ask(w, &x, token, fmt.Sprintf("Nobody called %q is in the ledger.", name))
			return
		case any && x.name == "" && s.hasPassword(x.find(name)):
			x.name = name
			s.doors.waiting.Put(token, &x)
			s.ask(w, &x, token, "")
			return
		default:
			if problem := s.proves(r, x.find(name)); problem != "" {
				s.ask(w, &x, token, problem)
				return
			}
			x.person = x.find(name).ID
			if len(x.Contexts) > 0 && !slices.Contains(x.Contexts, judge.ContextPassword) &&
				r.PostForm.Get("second") != "no" {
				s.doors.waiting.Put(token, &x)
				s.ask(w, &x, token, "")
				return
			}
		}
		s.signedIn(w, r, &x, token, context)
	}
}

// route returns the trust through which people of an address sign in at the provider of a wish, and whether there are
// routes at all.
func (s *Server) route(x *Wish, address string) (trust string, any bool) {
	if s.Routed == nil || s.Upstream == nil {
		return "", false
	}
	return s.Routed(x.Provider, address)
}

// formOver says that a form cannot be sent again.
func (s *Server) formOver(w http.ResponseWriter, title, why string) {
	s.Page(w, http.StatusForbidden, Page{Title: "This form is over", By: title, Lead: why})
}

// signedIn makes the session of somebody who has shown who they are, and goes on in the protocol that asked.
func (s *Server) signedIn(w http.ResponseWriter, r *http.Request, x *Wish, token, context string) {
	if _, open := s.doors.waiting.Take(token); !open {
		s.formOver(w, x.Title, "It was sent before.")
		return
	}
	_, old := s.SessionOf(r, x.Provider)
	s.doors.sessions.Take(old) // a session that is replaced signs nobody in any more
	ses, key := &Session{Provider: x.Provider, Person: x.person, Context: context, Since: s.Now(),
		Index: s.ID()}, s.ID()
	s.doors.sessions.Put(key, ses)
	Cookie(w, r, sessionCookie(x.Provider), key)
	x.Done(w, r, ses)
}

// form1 is a form that goes to one browser and is taken once.
type form1 struct {
	browser string
	v       any
}

// PutForm keeps what a form is about and returns the form's token.
func (s *Server) PutForm(w http.ResponseWriter, r *http.Request, v any) string {
	token := s.ID()
	s.doors.forms.Put(token, form1{s.Browser(w, r), v})
	return token
}

// TakeForm returns what a form is about, to the browser that it was made for, once, where fits says that it is one of
// the caller's.
func (s *Server) TakeForm(r *http.Request, fits func(any) bool) (any, bool) {
	token := r.PostForm.Get("form_token")
	f, ok := s.doors.forms.Get(token)
	if !ok || !SameBrowser(r, f.browser) || !fits(f.v) {
		return nil, false
	}
	f, ok = s.doors.forms.Take(token)
	return f.v, ok
}

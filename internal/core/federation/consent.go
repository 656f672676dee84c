package federation

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"sort"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
)

// The standings of a consent.
const (
	Consented = "consented"
	Withdrawn = "withdrawn"
	Requested = "requested" // a person was stopped and asks an administrator
)

// Consent is agreement to a permission, its withdrawal, or a request for it.
type Consent struct {
	Trust    string    `json:"trust"`
	API      string    `json:"api,omitempty"`
	Name     string    `json:"permission"`
	As       string    `json:"as"`
	For      string    `json:"for,omitempty"` // a person's ID; "" is everyone
	Standing string    `json:"standing"`
	By       string    `json:"by"`
	Admin    bool      `json:"byAdministrator"`
	At       time.Time `json:"at"`
	// to what it is narrowed; nil: it is to the whole permission
	Narrowed *Narrowed `json:"narrowed,omitempty"`
}

// Of reports whether the consent is about the permission of an ask.
func (c *Consent) Of(a Ask) bool { return c.API == a.API && c.Name == a.Name && c.As == a.As }

// Covers reports whether the consent is to all that an ask is for.
func (c *Consent) Covers(a Ask) bool { return c.Of(a) && c.Narrowed.Covers(a.Narrowed) }

// NeedsAdmin reports whether only an administrator can agree to an ask.
func NeedsAdmin(a Ask, apis map[string]*Party) bool {
	if a.As == AsSelf {
		return true
	}
	if p := apis[a.API]; p != nil {
		if x := p.API.Find(a.Name); x != nil {
			return x.Admin
		}
	}
	return false
}

// Granted reports whether an ask is consented to for a person; "" asks for everyone, which is what a client as itself
// needs.
func Granted(a Ask, apis map[string]*Party, consents []Consent, person string) bool {
	admin := NeedsAdmin(a, apis)
	for i := range consents {
		c := &consents[i]
		if c.Standing != Consented || !c.Covers(a) || admin && !c.Admin {
			continue
		}
		if c.For == "" || person != "" && strings.EqualFold(c.For, person) {
			return true
		}
	}
	return false
}

// AskState is one line of the matrix of consent.
type AskState struct {
	Ask      `json:"-"`
	Label    string    `json:"permission"`
	Says     string    `json:"says"`
	How      string    `json:"as"`
	Admin    bool      `json:"needsAdministrator"`
	Standing string    `json:"standing"` // consented, waiting, withdrawn or unknown
	Detail   string    `json:"detail"`   // for whom, by whom and when, in words
	Everyone bool      `json:"forEveryone"`
	People   []string  `json:"people,omitempty"`   // those who agreed for themselves, or for whom an administrator did
	Requests []string  `json:"requests,omitempty"` // those who were stopped and ask for it
	By       string    `json:"by,omitempty"`       // who consented for everyone, or withdrew that
	At       time.Time `json:"at,omitzero"`        // when
	Added    time.Time `json:"askedFor,omitzero"`  // when
	Problem  string    `json:"problem,omitempty"`  // the API has no such permission any more
	// to what the trust narrows it; nil: it is the whole permission
	Narrowed *Narrowed `json:"narrowed,omitempty"`
}

// The standings of a row besides Consented and Withdrawn.
const (
	Waiting = "waiting"
	Unknown = "unknown"
	// Recorded is what somebody said of a consent that a foreign provider keeps
	Recorded = "told"
)

// Held reports whether anybody's consent is there.
func (r *AskState) Held() bool { return r.Standing == Consented }

func timeWords(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") }

// Matrix is what people look at: each permission of a trust, how, who must agree, and how it stands.
func Matrix(terms *OIDCTerms, apis map[string]*Party, consents []Consent) []AskState {
	var out []AskState
	for _, a := range terms.Asks {
		r := AskState{Ask: a, Label: a.Label(), Narrowed: a.Narrowed, How: a.As,
			Admin: NeedsAdmin(a, apis), Added: a.At}
		if s, std := oidc.Standard(a.Name); a.API == "" && std {
			r.Says = s.Says
		} else if a.ByName() {
			r.Says = "a scope of the provider's own, taken by its name"
		} else if p := apis[a.API]; a.API != "" && (p == nil || p.API == nil) {
			r.Problem = "no API " + a.API + " in the ledger"
		} else if a.API != "" {
			if x := p.API.Find(a.Name); x == nil {
				r.Problem = a.API + " publishes no " + a.Name
			} else {
				r.Says = x.Says
				if w := a.Narrowed.Words(x); w != "" {
					r.Says += ": " + w
				}
			}
		}
		r.fill(a, consents)
		out = append(out, r)
	}
	return out
}

func (r *AskState) fill(a Ask, consents []Consent) {
	withdrawn := false
	for i := range consents {
		c := &consents[i]
		switch {
		case !c.Of(a):
		case c.Standing == Consented && !c.Covers(a): // it was to less
		case c.For == "":
			r.Everyone = c.Standing == Consented && (c.Admin || !r.Admin)
			withdrawn = c.Standing == Withdrawn
			r.By, r.At = c.By, c.At
		case c.Standing == Consented && (c.Admin || !r.Admin):
			r.People = append(r.People, c.For)
		case c.Standing == Requested:
			r.Requests = append(r.Requests, c.For)
		}
	}
	sort.Strings(r.People)
	sort.Strings(r.Requests)
	switch {
	case r.Problem != "":
		r.Standing, r.Detail = Unknown, r.Problem
	case r.Everyone:
		r.Standing, r.Detail = Consented, "for everyone by "+r.By+", "+r.At.UTC().Format(time.DateOnly)
	case len(r.People) > 0:
		r.Standing, r.Detail = Consented, "for "+some(r.People)
	case withdrawn:
		r.Standing, r.Detail = Withdrawn, "by "+r.By+", "+r.At.UTC().Format(time.DateOnly)
	case r.Admin:
		r.Standing, r.Detail = Waiting, "for an administrator"
	default:
		r.Standing, r.Detail = Waiting, "each person is asked once"
	}
	if len(r.Requests) > 0 {
		r.Detail += "; " + some(r.Requests) + " asked for it"
	}
}

// Elsewhere says of a permission what is known of it where a foreign provider decides: what somebody recorded here is
// their word, and the rest is not known.
func (r *AskState) Elsewhere(provider string) {
	switch {
	case r.Problem != "":
	case r.Held():
		r.Standing, r.Detail = Recorded, "as "+cmp.Or(r.By, "somebody")+" said: "+r.Detail
	case r.Standing == Withdrawn:
		r.Standing, r.Detail = Recorded, "withdrawn, as "+r.By+" said"
	default:
		r.Standing, r.Detail = Unknown, "not known: "+provider+" decides"
	}
}

// some names up to three of a list.
func some(list []string) string {
	if len(list) <= 3 {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d others", strings.Join(list[:2], ", "), len(list)-2)
}

// Prospect is what else decides whether a client can work, beside consents.
type Prospect struct {
	Kind     oidc.Kind
	Standing Standing
	Far      string // name of a foreign provider: what it decides is not known here
	Auth     string // what the client lacks to show that it is itself, or to be come back to; "" where nothing
	Admits   int    // how many people of the ledger the trust admits
	Of       int    // of how many
}

// ProspectOf gathers what else decides whether the client of a trust can work.
func ProspectOf(t *Trust, terms *OIDCTerms, app, provider *Party, secrets []Secret, consents []Consent,
	crowd *Crowd, now time.Time) Prospect {
	p := Prospect{Standing: t.Standing, Of: crowd.People}
	if !provider.Own {
		p.Far = provider.Name
	}
	c := app.ClientSide()
	if c == nil {
		return p
	}
	p.Kind = c.Kind
	var auth finding.List
	compareClientAuth(&auth, t, terms, c, provider, secrets, now)
	for _, f := range auth {
		if f.Level == finding.Error {
			p.Auth = f.Saw
		}
	}
	if c.Kind.Redirects() && len(c.Redirects) == 0 && p.Auth == "" {
		p.Auth = "no redirect URI, so that nobody comes back from a sign-in"
	}
	p.Admits = t.Admission().Counts(crowd, consents)
	return p
}

// Works says in one line whether the client can work: at all, and with all that it asks for. It counts what the ledger
// has; what a foreign provider decides is not known, and a client that was never tried is not said to work.
func (p Prospect) Works(rows []AskState) (works, whole bool, line string) {
	switch {
	case p.Standing == Ended || p.Standing == Paused:
		return false, false, "It cannot work: the trust has " + map[Standing]string{Ended: "ended",
			Paused: "been paused"}[p.Standing] + "."
	}
	works, whole, line = Summarize(p.Kind, rows)
	switch {
	case p.Auth != "" && works:
		return false, false, "It cannot work: it has " + p.Auth + "."
	case p.Auth != "":
		return false, false, line + " It has " + p.Auth + "."
	case p.Far != "":
		line = "Whether it can work is not known here: " + p.Far + " decides what it grants. " +
			strings.Replace(line, "It can", "By what is recorded here it can", 1)
		return false, false, line
	case works && p.Kind != oidc.Machine && p.Of > 0 && p.Admits == 0:
		return false, false, fmt.Sprintf("Nobody can sign in: the trust admits none of the %d people "+
			"in the ledger.", p.Of)
	}
	return works, whole, line
}

// Summarize says in one line whether the client can work with the consents there are: at all, and with all that it asks
// for.
func Summarize(kind oidc.Kind, rows []AskState) (works, whole bool, line string) {
	var open, have, unknown []string
	ask := 0
	for _, r := range rows {
		switch {
		case r.Problem != "":
			unknown = append(unknown, r.Label)
		case !r.Held() && r.Admin:
			open = append(open, r.Label)
		default:
			have = append(have, r.Label)
			if !r.Everyone {
				ask++
			}
		}
	}
	missing := strings.Join(open, ", ")
	gone := ""
	if len(unknown) > 0 {
		gone = " No API publishes " + strings.Join(unknown, ", ") + "."
	}
	whole = len(open)+len(unknown) == 0
	switch {
	case len(rows) == 0:
		return false, false, "It cannot work: it asks for no permission."
	case len(have) == 0 && len(open) > 0:
		return false, false, "It cannot work: an administrator has to consent to " + missing + "." + gone
	case len(have) == 0:
		return false, false, "It cannot work." + gone
	case kind == oidc.Machine && len(open) > 0:
		return true, false, "It can work in part, with " + strings.Join(have, ", ") +
			"; an administrator has to consent to " + missing + "." + gone
	case kind == oidc.Machine:
		return true, whole, "It can work: all that it asks for is consented to." + gone
	}
	line = "It can work"
	if len(open) > 0 {
		line += " in part"
	}
	switch ask {
	case 0:
		line += ": people sign in and are asked nothing"
	case 1:
		line += ": people sign in, and each agrees to 1 permission the first time"
	default:
		line += fmt.Sprintf(": people sign in, and each agrees to %d permissions the first time", ask)
	}
	if len(open) > 0 {
		line += "; whoever asks for " + missing + " is stopped until an administrator consents"
	}
	return true, whole, line + "." + gone
}

// Advise says of what a client asks for how it could do with less. uses are what was seen of tokens.
func Advise(t *Trust, terms *OIDCTerms, app *Party, apis map[string]*Party, consents []Consent, uses []Use,
	now time.Time) finding.List {
	var out finding.List
	note := func(level finding.Level, id finding.ID, of, saw, expected string, fix finding.Remedy) {
		out.Add(finding.Finding{ID: id, Level: level, Check: "permission " + of, Of: of, Saw: saw, Expected: expected,
			Side: finding.App, Fix: fix})
	}
	c := app.ClientSide()
	asked := map[string][]Ask{}
	for _, a := range terms.Asks {
		drop := finding.Run("permission", "drop", t.Name, a.Label())
		if a.API != "" {
			asked[a.API] = append(asked[a.API], a)
			if stem, ok := strings.CutSuffix(a.Name, ".write"); ok {
				for _, b := range terms.Asks {
					if b.API == a.API && b.As == a.As && b.Name == stem+".read" {
						note(finding.Note, finding.PrivilegeWrite, a.Label(), "asked for beside "+b.Name,
							"reading alone, if that is enough", drop)
					}
				}
			}
		}
		if p := apis[a.API]; p != nil {
			for _, b := range terms.Asks {
				if b.API == a.API && b.As == a.As && b.Name != a.Name && p.API.Included(b.Name, a.Name) {
					note(finding.Warning, finding.PrivilegeIncluded, a.Label(),
						"asked for beside "+b.Name+", which includes it",
						"one of the two: the smaller, if that is enough", drop)
				}
			}
		}
		if a.As == AsSelf && c != nil && c.Kind != oidc.Machine {
			note(finding.Note, finding.PrivilegeAsSelf, a.Label(), "asked for as itself, and the client has users",
				"on behalf of the user who is there",
				finding.Run("permission", "ask", t.Name, a.Label(), "--acting", "user").
					Then(finding.Run("permission", "drop", t.Name, a.Label(), "--acting", "self")))
		}
		used, row := use(uses, a), AskState{Admin: NeedsAdmin(a, apis)}
		row.fill(a, consents)
		const day24 = 24 * time.Hour
		age := now.Sub(a.At)
		switch {
		case a.API == "" || age < 7*day24: // too new to say
		case used.Issued.IsZero() && !row.Held() && age > 90*day24:
			note(finding.Warning, finding.PrivilegeUnconsented, a.Label(), "nobody consented since "+timeWords(a.At),
				"a permission that is used", drop)
		case !used.Issued.IsZero() && used.Presented.IsZero():
			note(finding.Note, finding.PrivilegeUnused, a.Label(),
				"in a token last "+timeWords(used.Issued)+", and never presented to the API",
				"a permission that is used", drop)
		case used.Issued.IsZero() && row.Held():
			note(finding.Note, finding.PrivilegeUnused, a.Label(), "consented, and in no token yet",
				"a permission that is used", drop)
		case now.Sub(used.Presented) > 90*day24 && !used.Presented.IsZero():
			note(finding.Note, finding.PrivilegeUnused, a.Label(), "last presented "+timeWords(used.Presented),
				"a permission that is used", drop)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		list := asked[name]
		if p := apis[name]; p != nil && p.API != nil && len(p.API.Permissions) > 2 {
			every := true
			for _, x := range p.API.Permissions {
				has := false
				for _, a := range list {
					has = has || a.Name == x.Name
				}
				every = every && has
			}
			if every {
				out.Add(finding.Finding{ID: finding.PrivilegeEverything, Level: finding.Warning,
					Check: "permissions of " + name, Of: name,
					Saw:      fmt.Sprintf("all %d are asked for", len(p.API.Permissions)),
					Expected: "those that the client needs",
					Side:     finding.App, Fix: finding.Do("ask the app's owner which it uses, and drop the others")})
			}
		}
	}
	return out
}

func use(uses []Use, a Ask) Use {
	for _, u := range uses {
		if u.API == a.API && u.Name == a.Name && u.As == a.As {
			return u
		}
	}
	return Use{}
}

// AdmitsPerson reports whether the trust admits a person, and why not; see Admission.
func (t *Trust) AdmitsPerson(p *people.Person, consents []Consent) (bool, string) {
	if r := t.Admission().Refuses(p, consents); r != nil {
		return false, r.Why
	}
	return true, ""
}

// CheckNetworks refuses what is no CIDR block (RFC 4632, RFC 4291).
func CheckNetworks(list []string) error {
	for _, s := range list {
		p, err := netip.ParsePrefix(s)
		switch {
		case err != nil:
			return fmt.Errorf("network %q is %w: write CIDR blocks, such as 192.0.2.0/24 or 2001:db8::/32", s, ErrValue)
		case p.Addr().Is4In6(): // nobody comes from there: an address of IPv4 is one, however it is written
			return fmt.Errorf("network %q is %w: write it as one of IPv4, such as %s/24", s, ErrValue, p.Addr().Unmap())
		case p.Masked() != p:
			return fmt.Errorf("network %q is %w: it has bits behind its mask; did you mean %s?", s, ErrValue,
				p.Masked())
		}
	}
	return nil
}

// FromNetwork reports whether an address lies in one of the networks; none admits all.
func FromNetwork(list []string, addr netip.Addr) bool {
	if len(list) == 0 {
		return true
	}
	for _, s := range list {
		if p, err := netip.ParsePrefix(s); err == nil && p.Contains(addr.Unmap()) {
			return true
		}
	}
	return false
}

package judge

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
)

// Vouching is for whom a provider may speak at an app: for names of its own domains. An app that takes people of
// several providers by their addresses takes whoever sends one; without a bound, the administrator of one
// organisation comes in as a person of another.
//
// Where one service signs for several organisations, names alone tell no two of them apart that use one another's: a
// tenant is what the service itself says of where somebody belongs.
type Vouching struct {
	Domains  []string // in lower case; *.DOMAIN is all below it
	Scopes   []Domain // those of the provider's metadata, where it may speak for them
	ByScopes bool     // they count: without any, the provider speaks for nobody
	Unread   string   // what is wrong with what was said, which covers nobody then
	Tenants  []Tenant // each of these claims has one of its values, or the message is refused
	Said     []string // all of it as an administrator said it
	Key      string   // the received name by which the app finds an account; "" where nobody said
	Subject  bool     // it is the subject's
}

// Domain is a set of domains of names.
type Domain interface {
	Covers(domain string) bool // one domain, without the @
	Words() string             // what it is, for people
}

// Tenant is a claim or an attribute by which a provider says to whom somebody belongs, and what it may say.
type Tenant struct {
	Claim  string // by its name in the message, never a friendly one: that is anybody's to write
	Values []string
}

// OfScopes is said in place of a domain where a provider speaks for the scopes of its metadata.
const OfScopes = "scopes"

// ErrTenant means that a text says no tenant.
var ErrTenant = errors.New("no tenant")

// ReadVouching reads for whom a provider may speak: domains, scopes, and tenants as CLAIM=VALUE. Said is all of it as
// two who say the same have it: written alike, in order and once. Errors: ErrDomain, ErrTenant.
func ReadVouching(said []string) (Vouching, error) {
	var v Vouching
	for _, x := range said {
		claim, value, tenant := strings.Cut(x, "=")
		switch {
		case tenant:
			if claim, value = strings.TrimSpace(claim), strings.TrimSpace(value); claim == "" || value == "" {
				return v, fmt.Errorf("%q is %w: write CLAIM=VALUE", x, ErrTenant)
			}
			i := slices.IndexFunc(v.Tenants, func(t Tenant) bool { return t.Claim == claim })
			if i < 0 {
				i, v.Tenants = len(v.Tenants), append(v.Tenants, Tenant{Claim: claim})
			}
			v.Tenants[i].Values = append(v.Tenants[i].Values, value)
			v.Said = append(v.Said, claim+"="+value)
		case strings.EqualFold(strings.TrimSpace(x), OfScopes): // no domain: it has no dot
			v.ByScopes = true
			v.Said = append(v.Said, OfScopes)
		default:
			d, err := CheckDomain(x)
			if err != nil {
				return v, err
			}
			v.Domains, v.Said = append(v.Domains, d), append(v.Said, d)
		}
	}
	slices.Sort(v.Said)
	v.Said = slices.Compact(v.Said)
	return v, nil
}

// Names reports whether it is said which names the provider may send.
func (v *Vouching) Names() bool { return len(v.Domains) > 0 || v.ByScopes }

// Bounds reports whether anything is said of whom the provider may speak for.
func (v *Vouching) Bounds() bool { return v.Names() || len(v.Tenants) > 0 }

// words says of which names the provider is.
func (v *Vouching) words() string {
	list := slices.Clone(v.Domains)
	for _, s := range v.Scopes {
		list = append(list, s.Words())
	}
	return strings.Join(list, " or ")
}

// expected says which names are expected.
func (v *Vouching) expected() string {
	switch names := v.words(); {
	case v.Unread != "":
		return "none: what was said of whom this provider speaks for cannot be read (" + v.Unread + ")"
	case names == "":
		return "none: this provider may speak for the scopes of its metadata, which has none"
	default:
		return "a name of " + names + ", for which this provider may speak"
	}
}

// ErrDomain means that a text is no domain of names.
var ErrDomain = errors.New("no domain")

// CheckDomain returns a domain in the form in which names are compared with it; with *. before it, it stands for all
// below it. Errors: ErrDomain.
func CheckDomain(v string) (string, error) {
	rest, below := strings.CutPrefix(strings.TrimSpace(v), "*.")
	d, err := OneDomain(rest)
	switch {
	case err != nil:
		return "", fmt.Errorf("%q is %w, or *.southmere.example for all below it", v, err)
	case below:
		d = "*." + d
	}
	return d, nil
}

// OneDomain returns a domain of names: small letters, in its ASCII form, and no address. The error is ErrDomain, with
// what is wanted, and does not name the value.
func OneDomain(v string) (string, error) {
	d := strings.ToLower(strings.TrimSpace(v))
	labels := strings.Split(d, ".")
	ok := len(labels) > 1 && len(d) <= 253 && strings.Trim(labels[len(labels)-1], "0123456789") != ""
	for _, l := range labels {
		ok = ok && l != "" && len(l) <= 63 && l[0] != '-' && l[len(l)-1] != '-' &&
			strings.Trim(l, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
	}
	if !ok {
		return "", fmt.Errorf("%w: write one such as southmere.example, in its ASCII form (xn--…)", ErrDomain)
	}
	return d, nil
}

// scoped are the names of claims and attributes whose values are names within a domain: addresses, and what
// eduPerson and the SAML subject identifiers call scoped.
var scoped = map[string]bool{"mail": true, "urn:oid:0.9.2342.19200300.100.1.3": true, "email": true,
	"emailaddress": true, "upn": true, "preferred_username": true, "edupersonprincipalname": true,
	"urn:oid:1.3.6.1.4.1.5923.1.1.1.6": true, "edupersonscopedaffiliation": true,
	"urn:oid:1.3.6.1.4.1.5923.1.1.1.9": true, "edupersonuniqueid": true, "urn:oid:1.3.6.1.4.1.5923.1.1.1.13": true,
	"urn:oasis:names:tc:saml:attribute:subject-id": true, "urn:oasis:names:tc:saml:attribute:pairwise-id": true,
	"eduperson_principal_name": true, "eduperson_scoped_affiliation": true, "eduperson_unique_id": true}

// Scoped reports whether the values of a claim or an attribute are names within a domain, by its name.
func Scoped(name string) bool {
	n := strings.ToLower(name)
	if strings.HasPrefix(n, "http") {
		n = n[strings.LastIndexByte(n, '/')+1:]
	}
	return scoped[n]
}

// ScopedByRegistry reports whether the values of an attribute are scoped by a domain that a federation registers, by
// its name: what eduPerson and the SAML subject identifiers call scoped, and no mail addresses.
func ScopedByRegistry(name string) bool {
	switch n := strings.ToLower(name); n {
	case "mail", "urn:oid:0.9.2342.19200300.100.1.3", "email", "emailaddress", "upn", "preferred_username":
		return false
	default:
		return scoped[n]
	}
}

// Covers reports whether a name lies within the domains: it has one @, and what follows it is one of them.
func (v *Vouching) Covers(name string) bool {
	_, d, ok := strings.Cut(strings.ToLower(name), "@")
	return ok && (slices.ContainsFunc(v.Domains, func(x string) bool { return Overlap(x, d) }) ||
		slices.ContainsFunc(v.Scopes, func(s Domain) bool { return s.Covers(d) }))
}

// Overlap reports whether a domain is another, or one of the two stands for all below it and has the other there.
func Overlap(a, b string) bool {
	below := func(all, one string) bool {
		root, star := strings.CutPrefix(all, "*.")
		return star && strings.HasSuffix(strings.TrimPrefix(one, "*"), "."+root)
	}
	return a == b || below(a, b) || below(b, a)
}

// Judge judges the names that a message brings: no scoped one, and neither the subject nor what the app finds an
// account by, may be of a domain for which the provider does not speak; and it says one of the tenants. What cannot be
// told is returned. Of a message without a subject, which adds to another, what it says of tenants may be missing.
func (v *Vouching) Judge(out *finding.List, trust, subject string, brought map[string][]string) (open []string) {
	v.tenants(out, trust, subject != "", brought)
	if !v.Names() {
		return nil
	}
	held, free := 0, []string(nil)
	look := func(what, value string, key bool) {
		switch {
		case v.Covers(value):
			held++
		case strings.Contains(value, "@"):
			fix := finding.Do("leave them refused")
			if d, err := CheckDomain(value[strings.LastIndexByte(value, '@')+1:]); err == nil {
				fix = finding.Do("leave them refused; if " + d + " is a domain of the provider as " +
					"well").Then(finding.Run("trust", "change", trust, "--speaks-for",
					strings.Join(append(slices.Clone(v.Said), d), ",")))
			}
			out.Add(finding.Finding{ID: finding.SubjectDomain, Level: finding.Error, Check: what, Saw: value,
				Expected: v.expected(), Side: finding.Provider, Fix: fix})
		case key:
			free = append(free, "whether "+what+" "+value+" is a name of this provider: it has no domain")
		}
	}
	if subject != "" {
		look("subject", subject, v.Subject)
	}
	for _, name := range slices.Sorted(maps.Keys(brought)) {
		key := v.Key != "" && strings.EqualFold(name, v.Key)
		for _, x := range brought[name] {
			if key || Scoped(name) {
				look(name, x, key)
			}
		}
	}
	if held > 0 && !slices.ContainsFunc(*out, func(f finding.Finding) bool { return f.ID == finding.SubjectDomain }) {
		out.Pass(finding.SubjectDomain, "domain of names", v.words())
	}
	return free
}

// tenants judges what a message says of where somebody belongs. needed is whether it must say something.
func (v *Vouching) tenants(out *finding.List, trust string, needed bool, brought map[string][]string) {
	for _, t := range v.Tenants {
		have := brought[t.Claim]
		if len(have) == 0 && !needed {
			continue
		}
		saw := "not sent"
		i := slices.IndexFunc(have, func(x string) bool { return !slices.Contains(t.Values, x) })
		if i < 0 && len(have) > 0 {
			out.Pass(finding.SubjectTenant, "tenant "+t.Claim, strings.Join(have, ", "))
			continue
		}
		fix := finding.Do("have the provider send " + t.Claim + " with each sign-in")
		if i >= 0 {
			saw = have[i]
			fix = finding.Do("leave it refused; if " + saw + " is a tenant of the provider whose people the app takes").
				Then(finding.Run("trust", "change", trust, "--speaks-for",
					strings.Join(append(slices.Clone(v.Said), t.Claim+"="+saw), ",")))
		}
		out.Add(finding.Finding{ID: finding.SubjectTenant, Level: finding.Error, Check: "tenant " + t.Claim, Saw: saw,
			Expected: strings.Join(t.Values, " or ") + ", for which this provider may speak", Side: finding.Provider,
			Fix: fix})
	}
}

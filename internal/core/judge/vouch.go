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
type Vouching struct {
	Domains []string // in lower case; *.DOMAIN is all below it. None: nothing is said
	Key     string   // the received name by which the app finds an account; "" where nobody said
	Subject bool     // it is the subject's
}

// ErrDomain means that a text is no domain of names.
var ErrDomain = errors.New("no domain")

// CheckDomain returns a domain in the form in which names are compared with it. Errors: ErrDomain.
func CheckDomain(v string) (string, error) {
	d := strings.ToLower(strings.TrimSpace(v))
	labels := strings.Split(strings.TrimPrefix(d, "*."), ".")
	ok := len(labels) > 1 && len(d) <= 253
	for _, l := range labels {
		ok = ok && l != "" && len(l) <= 63 && l[0] != '-' && l[len(l)-1] != '-' &&
			strings.Trim(l, "abcdefghijklmnopqrstuvwxyz0123456789-") == ""
	}
	if !ok {
		return "", fmt.Errorf("%q is %w: write one such as southmere.example, in its ASCII form, or "+
			"*.southmere.example for all below it", v, ErrDomain)
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
	return ok && slices.ContainsFunc(v.Domains, func(x string) bool { return Overlap(x, d) })
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
// account by, may be of a domain for which the provider does not speak. What cannot be told is returned.
func (v *Vouching) Judge(out *finding.List, trust, subject string, brought map[string][]string) (open []string) {
	if len(v.Domains) == 0 {
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
					strings.Join(append(slices.Clone(v.Domains), d), ",")))
			}
			out.Add(finding.Finding{ID: finding.SubjectDomain, Level: finding.Error, Check: what, Saw: value,
				Expected: "a name of " + strings.Join(v.Domains, " or ") + ", for which this provider may speak",
				Side:     finding.Provider, Fix: fix})
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
		out.Pass(finding.SubjectDomain, "domain of names", strings.Join(v.Domains, " or "))
	}
	return free
}

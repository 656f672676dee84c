package federation

import (
	"errors"
	"slices"
	"strings"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// Mapping is the app's side of a mapping: which received name fills which field of its accounts.
type Mapping struct {
	Fields []Fill `json:"fields"`
	// Key is the field by which the app finds an account.
	Key string `json:"key,omitempty"`
	// Role is the field that decides what somebody may do there.
	Role string `json:"role,omitempty"`
	// Strangers says what becomes of somebody whom the app does not know: created or refused; "" is not known.
	Strangers string `json:"strangers,omitempty"`
}

// Fill is one field of an app's accounts with the received name that fills it: that of an attribute or a claim, or
// Subject.
type Fill struct {
	Field string `json:"field"`
	From  string `json:"from"`
}

// Subject is the received name of the subject: a NameID, or the claim sub.
const Subject = "subject"

// ErrMapping means that words for a mapping cannot be understood.
var ErrMapping = errors.New("no mapping of a field")

// MappingInput is a change of the app's side of a mapping. Empty parts leave what is there.
type MappingInput struct {
	Reads     []string // FIELD=NAME; without a NAME the field goes
	Key, Role string   // of what decides; none takes it away
	Strangers string
}

// IsZero reports whether nothing changes.
func (in *MappingInput) IsZero() bool { return len(in.Reads) == 0 && in.Key+in.Role+in.Strangers == "" }

// Change returns a mapping with a change. Errors: ErrMapping.
func (m *Mapping) Change(in MappingInput) (*Mapping, error) {
	out := &Mapping{}
	if m != nil {
		*out = *m
		out.Fields = slices.Clone(m.Fields)
	}
	for _, r := range in.Reads {
		field, from, ok := strings.Cut(r, "=")
		if field, from = strings.TrimSpace(field), strings.TrimSpace(from); !ok || field == "" {
			return nil, finding.Errorf("%s %q is %w: write FIELD=NAME, such as username=NameID or mail=email",
				finding.FieldReads, r, ErrMapping)
		}
		if isSubject(from) {
			from = Subject
		}
		out.Fields = slices.DeleteFunc(out.Fields, func(f Fill) bool { return f.Field == field })
		if from != "" {
			out.Fields = append(out.Fields, Fill{field, from})
		}
	}
	slices.SortFunc(out.Fields, func(a, b Fill) int { return strings.Compare(a.Field, b.Field) })
	for _, c := range []struct {
		in    string
		field finding.Field
	}{{in.Key, finding.FieldAccountKey}, {in.Role, finding.FieldRoleField}} {
		if c.in != "" && c.in != "none" && out.From(c.in) == "" {
			return nil, finding.Errorf("%s %q is %w: nothing fills that field; say %s %s=NAME as well", c.field, c.in,
				ErrMapping, finding.FieldReads, c.in)
		}
	}
	set := func(to *string, v string) {
		switch v {
		case "":
		case "none":
			*to = ""
		default:
			*to = v
		}
	}
	set(&out.Key, in.Key)
	set(&out.Role, in.Role)
	set(&out.Strangers, in.Strangers)
	if s := out.Strangers; s != "" && s != "created" && s != "refused" {
		return nil, finding.Errorf("%s %q is %w: write created, refused or none", finding.FieldStrangers, s, ErrMapping)
	}
	if out.From(out.Key) == "" {
		out.Key = ""
	}
	if out.From(out.Role) == "" {
		out.Role = ""
	}
	return out, nil
}

// Reading is how the app of a trust reads what arrives through it: by what was said of this provider, else as it reads
// what any provider sends; nil where nobody said.
func (t *Trust) Reading(app *Party) *Mapping {
	if t.Reads != nil {
		return t.Reads
	}
	return app.Reads
}

func isSubject(name string) bool { return name == "NameID" || name == "sub" || name == Subject }

// From is the received name that fills a field; "" where none does.
func (m *Mapping) From(field string) string {
	for _, f := range m.Fields {
		if f.Field == field && field != "" {
			return f.From
		}
	}
	return ""
}

// Filling lists the fields that a received name fills.
func (m *Mapping) Filling(name string) []string {
	var out []string
	if m != nil {
		for _, f := range m.Fields {
			if f.From == name {
				out = append(out, f.Field)
			}
		}
	}
	return out
}

// Received is what an app receives of a person, by each name that it may know it under.
type Received struct {
	Values  map[string][]string
	Subject string
	NoWhy   error // why there is no subject
}

// Of returns what arrives under a name.
func (r *Received) Of(name string) []string {
	if !isSubject(name) {
		return r.Values[name]
	}
	if r.Subject == "" {
		return nil
	}
	return []string{r.Subject}
}

// Receive works out what the app of a trust receives of a person: over SAML the attributes by name and friendly name,
// over OpenID Connect the claims, once all that is asked for is consented to.
func (r *Releaser) Receive(p *people.Person) *Received {
	out := &Received{}
	out.Subject, out.NoWhy = r.SubjectOf(p)
	out.Values = r.trust.Terms.values(r, r.trust, p)
	return out
}

// TakenFor says which of an app's accounts somebody would be taken for, by what arrived for the field by which it finds
// them; account is "" where that is none, or not one, and how says why.
func (m *Mapping) TakenFor(list []accounts.Account, arrived []string) (account, how string) {
	if m.Key == "" {
		return "", "nobody said by which field it finds an account"
	}
	if len(list) == 0 {
		return "", "its accounts are not known"
	}
	x := accounts.NewIndex(list, m.Key).Match([]accounts.Arrival{{Key: arrived}})
	switch {
	case len(x.Found) == 1:
		return x.Found[0].Account, ""
	case len(x.Collisions) > 0:
		return "", "several accounts fit: " + strings.Join(x.Collisions[0].Accounts, ", ")
	case m.Strangers == "created":
		return "", "a new account would be made"
	}
	how = "the app does not know them"
	if s := x.Strangers[0]; s.Near != "" {
		how += "; " + s.Near + " differs in " + s.How
	}
	return "", how
}

// JudgeAccount says which account somebody who signed in would be taken for, and whether it is the expected one; an
// expected "" is not asked about. The accounts are the app's own export.
func JudgeAccount(t *Trust, app *Party, list []accounts.Account, got Learned, expected string) (account string,
	out finding.List) {
	match, reads := finding.Run("accounts", "match", t.Name), t.Reading(app)
	if reads == nil || reads.Key == "" || len(list) == 0 {
		if expected != "" {
			how := "nobody said by which field " + app.Name + " finds an account"
			fix := finding.Run("app", "change", app.Name, "--reads", "FIELD=CLAIM", "--account-key", "FIELD")
			if reads != nil && reads.Key != "" {
				how, fix = "the accounts of "+app.Name+" are not known",
					finding.Run("accounts", "load", app.Name, "FILE")
			}
			out.Add(finding.Finding{ID: finding.AccountUnknown, Level: finding.Error, Check: "account", Saw: how,
				Expected: expected, Side: finding.Ledger, Fix: fix})
		}
		return "", out
	}
	from := reads.From(reads.Key)
	found, how := reads.TakenFor(list, got.under(t, from))
	what := "account, found by " + reads.Key + " (" + from + ")"
	switch {
	case expected != "" && found != expected:
		saw := how
		if found != "" {
			saw = found
		}
		out.Add(finding.Finding{ID: finding.AccountExpected, Level: finding.Error, Check: what, Saw: saw,
			Expected: expected, Side: finding.Both, Fix: finding.Do("see whom the app takes for whom").Then(match)})
	case found != "":
		out.Pass(finding.AccountFound, what, found)
	case reads.Strangers == "created" && strings.HasPrefix(how, "a new"):
		out.Pass(finding.AccountNew, what, how)
	default:
		out.Add(finding.Finding{ID: finding.AccountNone, Level: finding.Warning, Check: what, Saw: how,
			Expected: "one account of " + app.Name, Side: finding.Both,
			Fix: finding.Do("see which rule is at fault").Then(match)})
	}
	return found, out
}

// under is what an app learned under a name of any kind: the claim's, the attribute's or that of the subject.
func (l Learned) under(t *Trust, name string) []string {
	if isSubject(name) {
		return []string{l.Subject}
	}
	if v, ok := l.of(name); ok {
		return v
	}
	for _, r := range t.Rules {
		if r.Name == name {
			return l.Claims[r.Claim]
		}
	}
	return nil
}

// Wants are the attributes that the app's metadata asks for.
func (*SAMLTerms) Wants(app *Party) []saml.Wanted {
	return app.Entity.SP.Wishes()
}

func (*SAMLTerms) values(r *Releaser, _ *Trust, p *people.Person) map[string][]string {
	out := map[string][]string{}
	attrs, _ := r.Attributes(p)
	for _, a := range attrs {
		out[a.Name] = a.Values
		if a.Friendly != "" {
			out[a.Friendly] = a.Values
		}
	}
	return out
}

// Scopes are those of the provider's metadata.
func (*SAMLTerms) Scopes(provider *Party) []saml.Scope {
	return provider.Entity.AllScopes(provider.Entity.IDP)
}

// Scopes is nothing: over OpenID Connect nobody claims domains of names.
func (*OIDCTerms) Scopes(*Party) []saml.Scope { return nil }

// Wants is nothing: a client asks for scopes.
func (*OIDCTerms) Wants(*Party) []saml.Wanted { return nil }

func (*OIDCTerms) values(r *Releaser, t *Trust, p *people.Person) map[string][]string {
	out := map[string][]string{}
	var scopes []string
	for _, a := range t.Asks() {
		if a.API == "" {
			scopes = append(scopes, a.Name)
		}
	}
	for name, v := range r.Claims(p, scopes, false) {
		list, many := v.([]string)
		if !many {
			list = oidc.Words(v)
		}
		out[name] = list
	}
	return out
}

// RuleFor is the rule of the trust that releases a received name; ok is false where none does.
func (t *Trust) RuleFor(name string) (claim, expression string, ok bool) {
	for _, r := range t.Rules {
		if r.Claim == name || r.Name == name {
			return r.Claim, r.Expression, true
		}
	}
	return "", "", false
}

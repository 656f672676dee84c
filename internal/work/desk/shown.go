package desk

import (
	"slices"
	"strconv"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/plain"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
)

// Told is what a party's metadata says beside the protocol: whom to write to, what to show to people, for whom it may
// speak. A nil list or an empty text leaves things as they are; a single "none" takes them away.
type Told struct {
	Scopes         []string // domains
	ScopeNamespace string   // in which its federation writes scopes
	Contacts       []string // TYPE=MAIL
	Names          []string // LANG=TEXT
	Logos          []string // WIDTHxHEIGHT=URL
	Attributes     []string // NAME=VALUE
	Error          string   // URL
	Privacy        string
	About          string
}

// IsZero reports whether nothing is said.
func (t *Told) IsZero() bool {
	return len(t.Scopes)+len(t.Contacts)+len(t.Names)+len(t.Logos)+len(t.Attributes) == 0 &&
		t.ScopeNamespace+t.Error+t.Privacy+t.About == ""
}

// contactTypes are those of SAML Metadata, section 2.3.2.2, and the one of contacts for security incidents.
func contactTypes() []string {
	return []string{"technical", "support", "administrative", "billing", "other", saml.ContactSecurity}
}

// apply puts what is said into an entity and one of its roles. Errors: ErrValue.
func (t *Told) apply(e *saml.Entity, r *saml.Role) error {
	for _, x := range []struct {
		field finding.Field
		v     string
		to    *string
	}{{finding.FieldErrorURL, t.Error, &r.ErrorURL}, {finding.FieldPrivacyURL, t.Privacy, &r.UI.Privacy},
		{finding.FieldAboutURL, t.About, &r.UI.Information}} {
		if err := toldURL(x.field, x.v, x.to); err != nil {
			return err
		}
	}
	if err := t.scopes(r); err != nil {
		return err
	}
	if err := t.contacts(e); err != nil {
		return err
	}
	if err := t.shown(r); err != nil {
		return err
	}
	return eachTold(t.Attributes, func() { e.Attributes = nil }, finding.FieldEntityAttribute, "NAME=VALUE",
		func(name, value string) bool {
			if i := slices.IndexFunc(e.Attributes,
				func(a saml.EntityAttribute) bool { return a.Name == name }); i >= 0 {
				e.Attributes[i].Values = append(e.Attributes[i].Values, value)
			} else {
				e.Attributes = append(e.Attributes, saml.EntityAttribute{Name: name, Values: []string{value}})
			}
			return strings.Contains(name, ":")
		})
}

func toldURL(field finding.Field, v string, to *string) error {
	switch v {
	case "":
		return nil
	case "none":
		*to = ""
		return nil
	}
	if err := model.CheckURL(field, v); err != nil {
		return err
	}
	if !strings.HasPrefix(v, "https://") {
		return finding.Errorf("%s %q is %w: people are sent there, so write an https: address", field, v, ErrValue)
	}
	*to = v
	return nil
}

func (t *Told) scopes(r *saml.Role) error {
	ns := t.ScopeNamespace
	if ns == "" && len(r.Scopes) > 0 {
		ns = r.Scopes[0].Namespace
	}
	switch {
	case slices.Equal(t.Scopes, []string{"none"}):
		r.Scopes = nil
	case len(t.Scopes) > 0 && ns == "":
		return finding.Errorf("%s needs %s: each federation has a namespace of its own for scopes; it is the xmlns of "+
			"Scope in its metadata", finding.FieldScopeOf, finding.FieldScopeNamespace)
	case len(t.Scopes) > 0:
		r.Scopes = nil
		for _, v := range t.Scopes {
			d, err := judge.OneDomain(v)
			if err != nil {
				return finding.Errorf("%s %q is %w: it is %w", finding.FieldScopeOf, v, ErrValue, err)
			}
			r.Scopes = append(r.Scopes, saml.Scope{Value: d})
		}
		fallthrough
	default:
		for i := range r.Scopes {
			r.Scopes[i].Namespace = ns
		}
	}
	return nil
}

func (t *Told) contacts(e *saml.Entity) error {
	return eachTold(t.Contacts, func() { e.Contacts = nil }, finding.FieldPublishedContact, "TYPE=MAIL, where TYPE is "+
		strings.Join(contactTypes(), ", "), func(kind, address string) bool {
		if model.CheckMail(finding.FieldPublishedContact, address) != nil || !slices.Contains(contactTypes(), kind) {
			return false
		}
		e.Contacts = append(e.Contacts, saml.Contact{Type: kind, Email: []string{address}})
		return true
	})
}

// shown puts what people see into a role.
func (t *Told) shown(r *saml.Role) error {
	err := eachTold(t.Names, func() { r.UI.Names = nil }, finding.FieldDisplayName,
		"LANG=TEXT, such as de=Nachtbuch, in one line", func(lang, text string) bool {
			if len(lang) < 2 || len(lang) > 35 || strings.Trim(strings.ToLower(lang),
				"abcdefghijklmnopqrstuvwxyz0123456789-") != "" || len(text) > 200 || strings.ContainsFunc(text,
				plain.Steers) {
				return false
			}
			r.UI.Names = append(r.UI.Names, saml.Localized{Lang: lang, Text: text})
			if lang == "en" || len(r.UI.Names) == 1 {
				r.DisplayName = text
			}
			return true
		})
	if err != nil {
		return err
	}
	return eachTold(t.Logos, func() { r.UI.Logos = nil }, finding.FieldLogo,
		"WIDTHxHEIGHT=URL, such as 80x60=https://app.kestrelridge.example/logo.png", func(size, at string) bool {
			w, h, _ := strings.Cut(size, "x")
			width, err1 := strconv.Atoi(w)
			height, err2 := strconv.Atoi(h)
			if err1 != nil || err2 != nil || width < 1 || height < 1 || width > 10000 || height > 10000 ||
				!strings.HasPrefix(at, "https://") || model.CheckURL(finding.FieldLogo, at) != nil {
				return false
			}
			r.UI.Logos = append(r.UI.Logos, saml.Logo{URL: at, Width: width, Height: height})
			return true
		})
}

// eachTold reads values of the form NAME=VALUE in place of those that are there; none takes them away.
func eachTold(list []string, clear func(), field finding.Field, form string, take func(name, value string) bool) error {
	if len(list) == 0 {
		return nil
	}
	clear()
	if slices.Equal(list, []string{"none"}) {
		return nil
	}
	for _, v := range list {
		name, value, ok := strings.Cut(v, "=")
		if !ok || name == "" || value == "" || !take(name, value) {
			return finding.Errorf("%s %q is %w: write %s", field, v, ErrValue, form)
		}
	}
	return nil
}

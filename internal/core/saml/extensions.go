package saml

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/beevik/etree"

	"tressik.example/internal/core/xmlsec"
)

// nsSecurity is that of contacts for security incidents (REFEDS Security Contact Metadata Extension).
const nsSecurity = "http://refeds.org/metadata"

// ContactSecurity is the type of a contact for security incidents: in XML it is "other" with a type of its own.
const ContactSecurity = "security"

// typeSecurity is the value of remd:contactType of such a contact.
const typeSecurity = "http://refeds.org/metadata/contactType/security"

// Scope is a domain for whose names an entity may speak, as its metadata has it.
type Scope struct {
	Value   string `json:"value"`             // in lower case; a pattern as it stands
	Pattern bool   `json:"pattern,omitempty"` // it is a regular expression
	// of the element that holds it: each federation says which
	Namespace string `json:"namespace,omitempty"`
}

// Words is the scope for people: what is a pattern is called one.
func (s Scope) Words() string {
	if s.Pattern {
		return "pattern " + s.Value
	}
	return s.Value
}

// Covers reports whether a domain is within the scope. A pattern has to fit the whole of it; one that cannot be read
// fits nothing.
func (s Scope) Covers(domain string) bool {
	domain = strings.ToLower(domain)
	if !s.Pattern {
		return domain == s.Value
	}
	re, err := regexp.Compile("^(?:" + s.Value + ")$")
	return err == nil && len(s.Value) <= 500 && re.MatchString(domain)
}

// EntityAttribute is an attribute of the entity itself (Metadata Extension for Entity Attributes, section 2).
type EntityAttribute struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}

// Localized is a text in a language (RFC 5646).
type Localized struct {
	Lang string `json:"lang"`
	Text string `json:"text"`
}

// Logo is the address of a picture (Metadata Extensions for Login and Discovery User Interface, section 2.1.6). It is
// shown as text and never fetched.
type Logo struct {
	URL    string `json:"url"`
	Width  int    `json:"width"`
	Height int    `json:"height"`
}

// Interface is what a role says of itself to people (the same, section 2.1).
type Interface struct {
	// all of them; Role.DisplayName is the one that is used. None: that one alone, in English
	Names       []Localized `json:"names,omitempty"`
	Information string      `json:"informationURL,omitempty"`
	Privacy     string      `json:"privacyStatementURL,omitempty"`
	Logos       []Logo      `json:"logos,omitempty"`
}

// Service is an AttributeConsumingService (SAML Metadata, section 2.4.4.1): one way to use an app, with its own wishes.
type Service struct {
	Index   int      `json:"index"`
	Default bool     `json:"default,omitempty"`
	Name    string   `json:"name,omitempty"`
	Wanted  []Wanted `json:"wantedAttributes,omitempty"`
}

// Wishes are all attributes that an app wants, whichever of its services is asked for: those of the default one as they
// are, then what only others want, as what is not required, since not every sign-in asks for them.
func (r *Role) Wishes() []Wanted {
	if r == nil {
		return nil
	}
	out := slices.Clip(r.Wanted)
	for _, s := range r.Services {
		for _, w := range s.Wanted {
			if !slices.ContainsFunc(out, func(x Wanted) bool { return x.Name == w.Name && x.Format == w.Format }) {
				w.Required = false
				out = append(out, w)
			}
		}
	}
	return out
}

// Label is the index and the name of a service.
func (s *Service) Label() string { return strings.TrimSpace(strconv.Itoa(s.Index) + " " + s.Name) }

// Takes reports whether an attribute is one of those that the service wishes. One that wishes nothing takes all.
func (s *Service) Takes(a Attribute) bool {
	return len(s.Wanted) == 0 || slices.ContainsFunc(s.Wanted, func(w Wanted) bool { return Satisfies(w, a) })
}

// ServiceWords says which services the app's metadata has, by their indexes.
func (r *Role) ServiceWords() string {
	if r == nil {
		return "none: it has no SAML side"
	}
	var list []string
	for _, s := range r.Services {
		list = append(list, strconv.Itoa(s.Index))
	}
	switch {
	case len(list) > 0:
		return strings.Join(list, " or ")
	case len(r.Wanted) > 0:
		return "1"
	}
	return "none: its metadata has no AttributeConsumingService"
}

// ServiceOf returns the service that an AttributeConsumingServiceIndex names, or nil: where the app has none of that
// index, and for "", which asks for no certain one.
func (r *Role) ServiceOf(index string) *Service {
	n, err := strconv.Atoi(index)
	if r == nil || err != nil {
		return nil
	}
	return r.ServiceAt(n)
}

// ServiceAt returns the service with an index, or nil.
func (r *Role) ServiceAt(index int) *Service {
	for i := range r.Services {
		if r.Services[i].Index == index {
			return &r.Services[i]
		}
	}
	if len(r.Services) == 0 && len(r.Wanted) > 0 && index == 1 {
		return &Service{Index: 1, Default: true, Name: r.DisplayName, Wanted: r.Wanted}
	}
	return nil
}

// AllScopes are the scopes of an entity and of a role of it, each once.
func (e *Entity) AllScopes(r *Role) []Scope {
	out := slices.Clone(e.Scopes)
	if r != nil {
		for _, s := range r.Scopes {
			if !slices.Contains(out, s) {
				out = append(out, s)
			}
		}
	}
	return out
}

// readScopes reads the scopes among extensions. Each federation may have a namespace of its own for them.
func readScopes(ext *etree.Element) (out []Scope) {
	if ext == nil {
		return nil
	}
	for _, c := range ext.ChildElements() {
		ns := xmlsec.Namespace(c)
		if c.Tag != "Scope" || ns == NSUI || ns == nsEntityAttributes || ns == nsRegistration {
			continue
		}
		s := Scope{Value: xmlsec.Text(c), Pattern: boolAttr(c, "regexp"), Namespace: ns}
		if !s.Pattern {
			s.Value = strings.ToLower(s.Value)
		}
		if s.Value != "" && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// readExtensions reads what an entity says of itself: its scopes, its attributes, who registered it.
func (e *Entity) readExtensions(el *etree.Element) {
	e.Extended = true
	ext := xmlsec.Child(el, NSMetadata, "Extensions")
	if ext == nil {
		return
	}
	e.Scopes = readScopes(ext)
	if i := xmlsec.Child(ext, nsRegistration, "RegistrationInfo"); i != nil {
		e.Registrar = xmlsec.Attr(i, "registrationAuthority")
	}
	for _, c := range xmlsec.Children(ext, nsEntityAttributes, "EntityAttributes") {
		for _, a := range xmlsec.Children(c, NSAssertion, "Attribute") {
			x := EntityAttribute{Name: xmlsec.Attr(a, "Name"), Values: []string{}}
			for _, v := range xmlsec.Children(a, NSAssertion, "AttributeValue") {
				x.Values = append(x.Values, xmlsec.Text(v))
			}
			e.Attributes = append(e.Attributes, x)
		}
	}
}

// readExtensions reads what a role says of itself: its scopes, and what it shows to people.
func (r *Role) readExtensions(el *etree.Element) {
	ext := xmlsec.Child(el, NSMetadata, "Extensions")
	if ext == nil {
		return
	}
	r.Scopes = readScopes(ext)
	ui := xmlsec.Child(ext, NSUI, "UIInfo")
	if ui == nil {
		return
	}
	r.UI.Information, r.UI.Privacy = localized(ui, "InformationURL"), localized(ui, "PrivacyStatementURL")
	for _, c := range xmlsec.Children(ui, NSUI, "DisplayName") {
		r.UI.Names = append(r.UI.Names, Localized{langOf(c), xmlsec.Text(c)})
	}
	if len(r.UI.Names) == 1 && r.UI.Names[0].Lang == "en" {
		r.UI.Names = nil // as DisplayName is written
	}
	for _, c := range xmlsec.Children(ui, NSUI, "Logo") {
		w, _ := strconv.Atoi(xmlsec.Attr(c, "width"))
		h, _ := strconv.Atoi(xmlsec.Attr(c, "height"))
		r.UI.Logos = append(r.UI.Logos, Logo{xmlsec.Text(c), w, h})
	}
}

func langOf(el *etree.Element) string {
	for _, a := range el.Attr {
		if a.Space == "xml" && a.Key == "lang" {
			return a.Value
		}
	}
	return ""
}

// writeScopes writes scopes among extensions.
func writeScopes(ext *etree.Element, list []Scope) {
	for _, s := range list {
		xmlsec.AddText(ext, "scope:Scope", s.Value, "xmlns:scope", s.Namespace, "regexp", strconv.FormatBool(s.Pattern))
	}
}

// writeExtensions writes what an entity says of itself.
func (e *Entity) writeExtensions(root *etree.Element) {
	if e.Registrar == "" && len(e.Attributes)+len(e.Scopes) == 0 {
		return
	}
	ext := xmlsec.Add(root, "md:Extensions")
	if e.Registrar != "" {
		xmlsec.Add(ext, "mdrpi:RegistrationInfo", "xmlns:mdrpi", nsRegistration, "registrationAuthority", e.Registrar)
	}
	if len(e.Attributes) > 0 {
		list := xmlsec.Add(ext, "mdattr:EntityAttributes", "xmlns:mdattr", nsEntityAttributes, "xmlns:saml",
			NSAssertion)
		for _, a := range e.Attributes {
			x := xmlsec.Add(list, "saml:Attribute", "Name", a.Name, "NameFormat", NameFormatURI)
			for _, v := range a.Values {
				xmlsec.AddText(x, "saml:AttributeValue", v)
			}
		}
	}
	writeScopes(ext, e.Scopes)
}

// names are those of a role for people, each in its language.
func (r *Role) names() []Localized {
	if len(r.UI.Names) > 0 || r.DisplayName == "" {
		return r.UI.Names
	}
	return []Localized{{"en", r.DisplayName}}
}

// writeExtensions writes what a role says of itself. The order within UIInfo is free (section 2.1).
func (r *Role) writeExtensions(el *etree.Element) {
	names := r.names()
	shown := len(names)+len(r.UI.Logos) > 0 || r.UI.Information+r.UI.Privacy != ""
	if r.Start == "" && !shown && len(r.Scopes) == 0 {
		return
	}
	ext := xmlsec.Add(el, "md:Extensions")
	writeScopes(ext, r.Scopes)
	if shown {
		ui := xmlsec.Add(ext, "mdui:UIInfo", "xmlns:mdui", NSUI)
		for _, n := range names {
			xmlsec.AddText(ui, "mdui:DisplayName", n.Text, "xml:lang", n.Lang)
		}
		for _, l := range r.UI.Logos {
			xmlsec.AddText(ui, "mdui:Logo", l.URL, "height", strconv.Itoa(l.Height), "width", strconv.Itoa(l.Width))
		}
		if r.UI.Information != "" {
			xmlsec.AddText(ui, "mdui:InformationURL", r.UI.Information, "xml:lang", "en")
		}
		if r.UI.Privacy != "" {
			xmlsec.AddText(ui, "mdui:PrivacyStatementURL", r.UI.Privacy, "xml:lang", "en")
		}
	}
	if r.Start != "" {
		xmlsec.Add(ext, "init:RequestInitiator", "xmlns:init", NSInit, "Binding", NSInit, "Location", r.Start)
	}
}

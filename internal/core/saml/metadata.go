package saml

import (
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/span"
	"tressik.example/internal/core/xmlsec"
)

// Errors of reading metadata that callers test for.
var (
	ErrNotMetadata   = errors.New("not SAML metadata")
	ErrManyEntities  = errors.New("several entities")
	ErrNoSuchEntity  = errors.New("no such entity")
	ErrDuplicate     = errors.New("entity ID twice")
	ErrNoEntityID    = errors.New("entity without an entityID")
	ErrRoleMissing   = errors.New("role missing")
	ErrBadTimeFormat = errors.New("not an xs:dateTime")
)

// Entity is one EntityDescriptor (SAML Metadata, section 2.3.2), as far as federating needs it.
type Entity struct {
	ID            string        `json:"entityID"`
	ValidUntil    *time.Time    `json:"validUntil,omitempty"`
	CacheDuration string        `json:"cacheDuration,omitempty"`
	IDP           *Role         `json:"identityProvider,omitempty"`
	SP            *Role         `json:"serviceProvider,omitempty"`
	Organization  *Organization `json:"organization,omitempty"`
	Contacts      []Contact     `json:"contacts,omitempty"`

	Scopes     []Scope           `json:"scopes,omitempty"`
	Attributes []EntityAttribute `json:"entityAttributes,omitempty"`
	Registrar  string            `json:"registrationAuthority,omitempty"`
	// roles that are not read, since they are of other protocols or name none
	Unread []UnreadRole `json:"unreadRoles,omitempty"`
	// what is in extensions was read; an entity that was read before that says nothing of them
	Extended bool `json:"extended,omitempty"`
}

// UnreadRole is a descriptor that is not read: by its protocolSupportEnumeration it is not of SAML 2.0.
type UnreadRole struct {
	Descriptor string   `json:"descriptor"`
	Protocols  []string `json:"protocols,omitempty"` // none: it names none, which the schema does not allow
}

func (u UnreadRole) String() string {
	if len(u.Protocols) == 0 {
		return u.Descriptor + ", which names no protocol"
	}
	return u.Descriptor + " for " + strings.Join(u.Protocols, ", ")
}

// Role is an IDPSSODescriptor or SPSSODescriptor (sections 2.4.3 and 2.4.4).
type Role struct {
	Protocols     []string   `json:"protocols,omitempty"`
	Keys          []Key      `json:"keys,omitempty"`
	NameIDFormats []string   `json:"nameIDFormats,omitempty"`
	SSO           []Endpoint `json:"singleSignOn,omitempty"`
	SLO           []Endpoint `json:"singleLogout,omitempty"`
	ACS           []Endpoint `json:"assertionConsumer,omitempty"`
	Wanted        []Wanted   `json:"wantedAttributes,omitempty"`
	DisplayName   string     `json:"displayName,omitempty"`
	// request initiation (SSO Request Initiation Protocol)
	Start string `json:"startURL,omitempty"`
	// app: where it sends people once they are signed out
	SignedOut             string     `json:"signedOutURL,omitempty"`
	WantRequestsSigned    bool       `json:"wantAuthnRequestsSigned"`
	RequestsSigned        bool       `json:"authnRequestsSigned"`
	WantAssertionsSigned  bool       `json:"wantAssertionsSigned"`
	ErrorURL              string     `json:"errorURL,omitempty"`
	ValidUntil            *time.Time `json:"validUntil,omitempty"` // of the role itself
	OtherProtocolsIgnored int        `json:"otherProtocolsIgnored,omitempty"`
	MoreOfTheKind         int        `json:"moreOfTheKind,omitempty"` // further ones of this role, not read

	Scopes []Scope   `json:"scopes,omitempty"`
	UI     Interface `json:"ui,omitzero"`
	// all ways to use an app; Wanted is what the default one wants. None: that one alone, with the index 1
	Services []Service `json:"services,omitempty"`
}

// Key is a KeyDescriptor (section 2.4.1.1). Certificate is base64 DER; Use is signing, encryption, or "" for both.
type Key struct {
	Use         string   `json:"use"`
	Certificate string   `json:"certificate"`
	Methods     []string `json:"encryptionMethods,omitempty"`
	Problem     string   `json:"problem,omitempty"` // why the certificate cannot be read
}

// EncryptionMethods are the algorithms that own parties publish for assertions that are encrypted to them, the best
// first.
func EncryptionMethods() []string {
	return []string{xmlsec.AES256GCM, xmlsec.AES128GCM, xmlsec.RSAOAEP}
}

// X509 parses the certificate.
func (k Key) X509() (*x509.Certificate, error) {
	c, _, err := parsed.certificate(k.Certificate)
	return c, err
}

// parsed keeps the certificates that were parsed last, by their text: a key is read, and then judged by what its
// certificate says.
var parsed certificates

type certificates struct {
	sync.Mutex
	now, before map[string]written
}

// written is a certificate with its base64 as it is kept: without white space.
type written struct {
	*x509.Certificate
	text string
}

// certificatesKept bounds each of the two generations.
const certificatesKept = 32

// certificate parses a certificate, and writes it as it is kept.
func (c *certificates) certificate(text string) (*x509.Certificate, string, error) {
	c.Lock()
	x, ok := c.now[text]
	if !ok {
		x, ok = c.before[text]
	}
	c.Unlock()
	if ok {
		return x.Certificate, x.text, nil
	}
	cert, err := keys.ParseCertificate([]byte(text))
	if err != nil {
		return nil, "", err
	}
	x = written{cert, base64.StdEncoding.EncodeToString(cert.Raw)}
	c.Lock()
	defer c.Unlock()
	if len(c.now) >= certificatesKept {
		c.before, c.now = c.now, nil
	}
	if c.now == nil {
		c.now = make(map[string]written, certificatesKept)
	}
	c.now[strings.Clone(text)] = x // a part of a document would keep all of it
	return cert, x.text, nil
}

// Endpoint is an EndpointType or IndexedEndpointType (sections 2.2.2 and 2.2.3).
type Endpoint struct {
	Binding          string `json:"binding"`
	Location         string `json:"location"`
	ResponseLocation string `json:"responseLocation,omitempty"` // where responses go, if not there (section 2.2.2)
	Index            int    `json:"index,omitempty"`
	Default          bool   `json:"default,omitempty"`
	Unnumbered       bool   `json:"unnumbered,omitempty"` // it has no index, where the schema asks for one
}

// Wanted is a RequestedAttribute (section 2.4.4.2).
type Wanted struct {
	Name     string `json:"name"`
	Format   string `json:"nameFormat,omitempty"`
	Friendly string `json:"friendlyName,omitempty"`
	Required bool   `json:"required"`
}

// Label returns the friendly name of the attribute, else its name.
func (w Wanted) Label() string {
	if w.Friendly != "" {
		return w.Friendly
	}
	return w.Name
}

// Organization is section 2.3.2.1.
type Organization struct {
	Name        string `json:"name"`
	DisplayName string `json:"displayName,omitempty"`
	URL         string `json:"url,omitempty"`
}

// Contact is section 2.3.2.2.
type Contact struct {
	Type  string   `json:"type"`
	Name  string   `json:"name,omitempty"`
	Email []string `json:"email,omitempty"`
}

// SigningKeys returns the public keys of the role's readable signing certificates, with the certificates themselves.
func (r *Role) SigningKeys() (pub []crypto.PublicKey, certs []*x509.Certificate) {
	for _, k := range r.Keys {
		if k.Use != "" && k.Use != "signing" {
			continue
		}
		if c, err := k.X509(); err == nil {
			pub = append(pub, c.PublicKey)
			certs = append(certs, c)
		}
	}
	return pub, certs
}

// EncryptionKey returns the first readable encryption certificate and the block cipher to use with it, or nil.
func (r *Role) EncryptionKey() (*x509.Certificate, string) {
	for _, want := range []string{"encryption", ""} {
		for _, k := range r.Keys {
			if k.Use != want {
				continue
			}
			c, err := k.X509()
			if err != nil {
				continue
			}
			for _, m := range k.Methods {
				switch m {
				case xmlsec.AES128GCM, xmlsec.AES256GCM, xmlsec.AES128CBC, xmlsec.AES256CBC:
					return c, m
				}
			}
			return c, ""
		}
	}
	return nil, ""
}

// EndpointFor returns the endpoint that will be used: the default, else the first, among those with a usable binding.
func EndpointFor(list []Endpoint, bindings ...string) (Endpoint, bool) {
	for _, b := range bindings {
		var first *Endpoint
		for i := range list {
			if list[i].Binding != b {
				continue
			}
			if list[i].Default {
				return list[i], true
			}
			if first == nil {
				first = &list[i]
			}
		}
		if first != nil {
			return *first, true
		}
	}
	return Endpoint{}, false
}

// Document is a metadata document: one entity or an aggregate of many.
type Document struct {
	Root       *etree.Element
	Aggregate  bool
	Name       string
	ValidUntil *time.Time
	entities   []*etree.Element
	byID       map[string][]*etree.Element
}

// ReadDocument takes parsed XML as metadata. Errors: ErrNotMetadata.
func ReadDocument(doc *etree.Document) (*Document, error) {
	root := doc.Root()
	d := &Document{Root: root}
	switch {
	case xmlsec.Is(root, NSMetadata, "EntityDescriptor"):
		d.entities = []*etree.Element{root}
	case xmlsec.Is(root, NSMetadata, "EntitiesDescriptor"):
		d.Aggregate = true
		d.Name = xmlsec.Attr(root, "Name")
		t, err := readTime(root, "validUntil")
		if err != nil {
			return nil, err
		}
		d.ValidUntil = t
		collect(root, &d.entities)
	default:
		return nil, fmt.Errorf("%w: the root is <%s>%s, where EntityDescriptor or EntitiesDescriptor belongs",
			ErrNotMetadata, root.FullTag(), inNS(xmlsec.Namespace(root)))
	}
	d.byID = make(map[string][]*etree.Element, len(d.entities))
	for _, e := range d.entities {
		id := xmlsec.Attr(e, "entityID")
		d.byID[id] = append(d.byID[id], e)
	}
	return d, nil
}

func inNS(ns string) string {
	if ns == "" {
		return " without a namespace"
	}
	return " in the namespace " + ns
}

func collect(el *etree.Element, out *[]*etree.Element) {
	for _, c := range el.ChildElements() {
		switch {
		case xmlsec.Is(c, NSMetadata, "EntityDescriptor"):
			*out = append(*out, c)
		case xmlsec.Is(c, NSMetadata, "EntitiesDescriptor"):
			collect(c, out)
		}
	}
}

// IDs lists the entity IDs in document order.
func (d *Document) IDs() []string {
	out := make([]string, len(d.entities))
	for i, e := range d.entities {
		out[i] = xmlsec.Attr(e, "entityID")
	}
	return out
}

// Entity reads the entity with the ID; "" means the only one. Errors: ErrManyEntities, ErrNoSuchEntity, ErrDuplicate,
// ErrNoEntityID.
func (d *Document) Entity(id string) (*Entity, error) {
	found := d.entities
	if id != "" {
		found = d.byID[id]
	}
	switch {
	case len(found) == 0:
		return nil, fmt.Errorf("%w: %q is not in the document", ErrNoSuchEntity, id)
	case len(found) > 1 && id == "":
		return nil, finding.Errorf("%w: the document holds %d; say which with %s", ErrManyEntities, len(found),
			finding.FieldEntity)
	case len(found) > 1:
		return nil, fmt.Errorf("%w: %s stands in the document more than once", ErrDuplicate, id)
	}
	return EntityOf(found[0])
}

// earlier returns the earlier of two ends; nil is no end.
func earlier(a, b *time.Time) *time.Time {
	if a == nil || b != nil && b.Before(*a) {
		return b
	}
	return a
}

// Until returns until when what the entity says of a role may be trusted: the earliest of the ends of the role, the
// entity and the groups that it was read from; nil where none has an end (SAML Metadata, sections 2.3.1, 2.3.2 and
// 2.4.1).
func (e *Entity) Until(r *Role) *time.Time {
	if r == nil {
		return e.ValidUntil
	}
	return earlier(e.ValidUntil, r.ValidUntil)
}

// Repeated lists entity IDs that stand in the document more than once, in order.
func (d *Document) Repeated() []string {
	var out []string
	for _, id := range d.IDs() {
		if len(d.byID[id]) > 1 && !slices.Contains(out, id) {
			out = append(out, id)
		}
	}
	return out
}

// HoldsPrivateKey reports whether a private key stands anywhere in XML, in PEM or as base64 of DER: such a document
// must never be kept.
func HoldsPrivateKey(root *etree.Element) bool {
	found := false
	xmlsec.Walk(root, func(el *etree.Element) bool {
		for _, t := range el.Child {
			switch c := t.(type) {
			case *etree.CharData:
				found = found || privateText(c.Data)
			case *etree.Comment:
				found = found || privateText(c.Data)
			}
		}
		return !found
	})
	return found
}

// privateText reports whether text is a private key: PEM says so, and DER is a sequence that begins with a small
// number, its version (RFC 5208, section 5; RFC 8017, appendix A.1.2; RFC 5915, section 3).
func privateText(s string) bool {
	if strings.Contains(s, "PRIVATE KEY") {
		return true
	}
	s = strings.TrimSpace(s)
	if len(s) < 64 || s[0] != 'M' {
		return false
	}
	b, err := base64.StdEncoding.DecodeString(s[:16])
	if err != nil || b[0] != 0x30 {
		return false
	}
	head := 2
	if b[1] > 0x80 {
		head += int(b[1] - 0x80)
	}
	return head+2 < len(b) && b[head] == 0x02 && b[head+1] == 1
}

func readTime(el *etree.Element, attr string) (*time.Time, error) {
	v := xmlsec.Attr(el, attr)
	if v == "" {
		return nil, nil
	}
	t, err := ParseTime(v)
	if err != nil {
		return nil, fmt.Errorf("%s of <%s>: %w", attr, el.Tag, err)
	}
	return &t, nil
}

// ParseTime reads an xs:dateTime as SAML uses it (SAML Core, section 1.3.3): UTC, with or without fractions.
func ParseTime(v string) (time.Time, error) {
	v = strings.TrimSpace(v)
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999"} {
		if t, err := time.Parse(layout, v); err == nil {
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%w: %q; it looks like 2031-03-04T09:00:00Z", ErrBadTimeFormat, v)
}

func readEntity(el *etree.Element) (*Entity, error) {
	e := &Entity{ID: xmlsec.Attr(el, "entityID"), CacheDuration: xmlsec.Attr(el, "cacheDuration")}
	if strings.TrimSpace(e.ID) == "" {
		return nil, ErrNoEntityID
	}
	err := Shape(el)
	if err != nil {
		return nil, err
	}
	if e.ValidUntil, err = readTime(el, "validUntil"); err != nil {
		return nil, err
	}
	if e.IDP, err = readRole(el, "IDPSSODescriptor"); err != nil {
		return nil, err
	}
	if e.SP, err = readRole(el, "SPSSODescriptor"); err != nil {
		return nil, err
	}
	if e.IDP == nil {
		e.unread(el, "IDPSSODescriptor")
	}
	if e.SP == nil {
		e.unread(el, "SPSSODescriptor")
	}
	if o := xmlsec.Child(el, NSMetadata, "Organization"); o != nil {
		e.Organization = &Organization{
			Name:        localized(o, "OrganizationName"),
			DisplayName: localized(o, "OrganizationDisplayName"),
			URL:         localized(o, "OrganizationURL"),
		}
	}
	for _, c := range xmlsec.Children(el, NSMetadata, "ContactPerson") {
		e.Contacts = append(e.Contacts, readContact(c))
	}
	e.readExtensions(el)
	return e, nil
}

// unread notes the descriptors of a role none of which is read.
func (e *Entity) unread(el *etree.Element, tag string) {
	for _, c := range xmlsec.Children(el, NSMetadata, tag) {
		e.Unread = append(e.Unread, UnreadRole{tag, strings.Fields(xmlsec.Attr(c, "protocolSupportEnumeration"))})
	}
}

// readContact reads a ContactPerson (section 2.3.2.2).
func readContact(c *etree.Element) Contact {
	k := Contact{Type: xmlsec.Attr(c, "contactType")}
	if xmlsec.AttrNS(c, nsSecurity, "contactType") == typeSecurity {
		k.Type = ContactSecurity
	}
	k.Name = strings.TrimSpace(xmlsec.Text(xmlsec.Child(c, NSMetadata, "GivenName")) + " " +
		xmlsec.Text(xmlsec.Child(c, NSMetadata, "SurName")))
	for _, m := range xmlsec.Children(c, NSMetadata, "EmailAddress") {
		k.Email = append(k.Email, strings.TrimPrefix(xmlsec.Text(m), "mailto:"))
	}
	return k
}

// localized returns the English text of a localized element, else the first.
func localized(el *etree.Element, tag string) string {
	first := ""
	for _, c := range el.ChildElements() {
		if c.Tag != tag {
			continue
		}
		for _, a := range c.Attr {
			if a.Space == "xml" && a.Key == "lang" && a.Value == "en" {
				return xmlsec.Text(c)
			}
		}
		if first == "" {
			first = xmlsec.Text(c)
		}
	}
	return first
}

func readRole(entity *etree.Element, tag string) (*Role, error) {
	var el *etree.Element
	others, more := 0, 0
	for _, c := range xmlsec.Children(entity, NSMetadata, tag) {
		if !strings.Contains(" "+xmlsec.Attr(c, "protocolSupportEnumeration")+" ", " "+NSProtocol+" ") {
			others++
			continue
		}
		if el != nil {
			more++
			continue
		}
		el = c
	}
	if el == nil {
		return nil, nil
	}
	until, err := readTime(el, "validUntil")
	if err != nil {
		return nil, err
	}
	r := &Role{
		Protocols:             strings.Fields(xmlsec.Attr(el, "protocolSupportEnumeration")),
		WantRequestsSigned:    boolAttr(el, "WantAuthnRequestsSigned"),
		RequestsSigned:        boolAttr(el, "AuthnRequestsSigned"),
		WantAssertionsSigned:  boolAttr(el, "WantAssertionsSigned"),
		ErrorURL:              xmlsec.Attr(el, "errorURL"),
		SSO:                   readEndpoints(el, "SingleSignOnService"),
		SLO:                   readEndpoints(el, "SingleLogoutService"),
		ACS:                   readEndpoints(el, "AssertionConsumerService"),
		ValidUntil:            until,
		OtherProtocolsIgnored: others,
		MoreOfTheKind:         more,
	}
	for _, k := range xmlsec.Children(el, NSMetadata, "KeyDescriptor") {
		r.Keys = append(r.Keys, readKeys(k)...)
	}
	for _, f := range xmlsec.Children(el, NSMetadata, "NameIDFormat") {
		r.NameIDFormats = append(r.NameIDFormats, strings.TrimSpace(xmlsec.Text(f)))
	}
	if ext := xmlsec.Child(el, NSMetadata, "Extensions"); ext != nil {
		if i := xmlsec.Child(ext, NSInit, "RequestInitiator"); i != nil {
			r.Start = xmlsec.Attr(i, "Location")
		}
		if ui := xmlsec.Child(ext, NSUI, "UIInfo"); ui != nil {
			r.DisplayName = localized(ui, "DisplayName")
		}
	}
	r.readExtensions(el)
	r.readWanted(el)
	return r, nil
}

// readWanted reads the requested attributes of the default AttributeConsumingService, else of the first.
func (r *Role) readWanted(el *etree.Element) {
	services := xmlsec.Children(el, NSMetadata, "AttributeConsumingService")
	if len(services) == 0 {
		return
	}
	use := services[0]
	for _, s := range services {
		if boolAttr(s, "isDefault") {
			use = s
		}
	}
	if r.DisplayName == "" {
		r.DisplayName = localized(use, "ServiceName")
	}
	r.Wanted = wantedBy(use)
	for _, s := range services {
		n, _ := strconv.Atoi(strings.TrimSpace(xmlsec.Attr(s, "index")))
		r.Services = append(r.Services, Service{Index: n, Default: s == use, Name: localized(s, "ServiceName"),
			Wanted: wantedBy(s)})
	}
	if len(r.Services) == 1 && r.Services[0].Index == 1 {
		r.Services = nil // as the one that is written where nothing else is said
	}
}

// wantedBy are the requested attributes of an AttributeConsumingService.
func wantedBy(service *etree.Element) (out []Wanted) {
	for _, a := range xmlsec.Children(service, NSMetadata, "RequestedAttribute") {
		out = append(out, Wanted{Name: xmlsec.Attr(a, "Name"), Format: xmlsec.Attr(a, "NameFormat"),
			Friendly: xmlsec.Attr(a, "FriendlyName"), Required: boolAttr(a, "isRequired")})
	}
	return out
}

func boolAttr(el *etree.Element, key string) bool {
	v := strings.TrimSpace(xmlsec.Attr(el, key))
	return v == "true" || v == "1"
}

func readEndpoints(el *etree.Element, tag string) []Endpoint {
	var out []Endpoint
	for _, c := range xmlsec.Children(el, NSMetadata, tag) {
		n, _ := strconv.Atoi(strings.TrimSpace(xmlsec.Attr(c, "index")))
		out = append(out, Endpoint{Binding: strings.TrimSpace(xmlsec.Attr(c, "Binding")),
			Location:         strings.TrimSpace(xmlsec.Attr(c, "Location")),
			ResponseLocation: strings.TrimSpace(xmlsec.Attr(c, "ResponseLocation")), Index: n,
			Default:    boolAttr(c, "isDefault"),
			Unnumbered: tag == "AssertionConsumerService" && !xmlsec.HasAttr(c, "index")})
	}
	return out
}

func readKeys(el *etree.Element) []Key {
	use := xmlsec.Attr(el, "use")
	var methods []string
	for _, m := range xmlsec.Children(el, NSMetadata, "EncryptionMethod") {
		methods = append(methods, xmlsec.Attr(m, "Algorithm"))
	}
	var out []Key
	for _, d := range xmlsec.Children(xmlsec.Child(el, xmlsec.NS, "KeyInfo"), xmlsec.NS, "X509Data") {
		// Of several the first is the key's own; the others are its chain.
		if c := xmlsec.Child(d, xmlsec.NS, "X509Certificate"); c != nil {
			k := Key{Use: use, Methods: methods}
			raw := xmlsec.Text(c)
			_, text, err := parsed.certificate(raw)
			if err == nil && strings.Contains(raw, "-----BEGIN") {
				err = fmt.Errorf("%w in base64 alone: it is PEM, which XML Signature, section 4.5.4, does not have",
					keys.ErrNoCertificate)
			}
			if k.Certificate = text; err != nil {
				k.Problem, k.Certificate = err.Error(), ""
				if !errors.Is(err, keys.ErrPrivateKey) { // which is never kept or shown
					k.Certificate = strings.Join(strings.Fields(raw), "")
				}
			}
			out = append(out, k)
		}
	}
	if len(out) == 0 {
		info, problem := xmlsec.Child(el, xmlsec.NS, "KeyInfo"), "it holds no X509Certificate"
		switch {
		case xmlsec.Child(info, xmlsec.NS, "KeyValue") != nil:
			problem = "it gives the key by value alone (KeyValue), without a certificate"
		case xmlsec.Child(info, xmlsec.NS, "KeyName") != nil:
			problem = "it gives only the name of a key (KeyName)"
		}
		out = append(out, Key{Use: use, Methods: methods, Problem: problem})
	}
	return out
}

// Clone returns a deep copy.
func (e *Entity) Clone() (*Entity, error) {
	b, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	c := &Entity{}
	return c, json.Unmarshal(b, c)
}

// ErrDuration means that text is no xs:duration of at least a second.
var ErrDuration = errors.New("no duration such as PT6H or P1D")

// Duration reads an xs:duration of days, hours, minutes and seconds, as cacheDuration has it. Errors: ErrDuration.
func Duration(s string) (time.Duration, error) {
	d, err := span.ISO(s)
	if err != nil || d < time.Second || d > 3650*24*time.Hour || strings.Contains(s, "W") { // xs:duration has no weeks
		return 0, fmt.Errorf("%q is %w", s, ErrDuration)
	}
	return d, nil
}

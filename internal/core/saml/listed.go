package saml

import (
	"encoding/base64"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/xmlsec"
)

// Namespaces of what federations add to metadata.
const (
	nsEntityAttributes = "urn:oasis:names:tc:SAML:metadata:attribute"
	nsRegistration     = "urn:oasis:names:tc:SAML:metadata:rpi"
)

// Listed is what an aggregate says of one entity, as far as people look for entities by it.
type Listed struct {
	EntityID   string     `json:"entityID"`
	Roles      []string   `json:"roles"` // names of the role descriptors, as the standard has them
	Names      []string   `json:"names,omitempty"`
	Domains    []string   `json:"domains,omitempty"`    // hosts of the endpoints
	Scopes     []string   `json:"scopes,omitempty"`     // domains for which it claims to speak
	Patterns   []string   `json:"patterns,omitempty"`   // scopes that are regular expressions
	Categories []string   `json:"categories,omitempty"` // what it is (RFC 8409, section 3)
	Supports   []string   `json:"supports,omitempty"`   // categories to whose members it releases (RFC 8409, section 4)
	Assurance  []string   `json:"assurance,omitempty"`  // profiles that it is certified for
	Identifier []string   `json:"identifier,omitempty"` // which subject identifier it wants
	Attributes []string   `json:"attributes,omitempty"` // values of other entity attributes
	Contacts   []Contact  `json:"contacts,omitempty"`
	Authority  string     `json:"registrationAuthority,omitempty"`
	ValidUntil *time.Time `json:"validUntil,omitempty"` // of the entity and the groups around it
	Ends       []End      `json:"ends,omitempty"`       // validUntil of what is in the document element
	Signed     bool       `json:"signed,omitempty"`     // it carries a signature of its own, which was not looked at
	Problems   []string   `json:"problems,omitempty"`   // why it cannot be used, or not wholly
	Doubts     []string   `json:"doubts,omitempty"`     // why it should not be signed and published as it is
	Line       int        `json:"line"`
	Offset     int64      `json:"offset"` // bytes in front of it, line ends as XML has them
	Length     int        `json:"length"`
	Raw        string     `json:"-"` // the entity as it stands; a part of what is read, and not to be kept
}

// End is until when something around or in an entity may be trusted (SAML Metadata, sections 2.3.1, 2.3.2 and 2.4.1).
type End struct {
	Of         string    `json:"of"` // its group by name, the entity, or a role descriptor
	ValidUntil time.Time `json:"validUntil"`
}

// Lapse adds to the problems of an entity what of it has run out at a time, each once. The document element's own end
// is judged with the document.
func (l *Listed) Lapse(now time.Time) {
	for _, e := range l.Ends {
		if !e.ValidUntil.After(now) {
			add(&l.Problems, e.Of+" ran out at "+FormatTime(e.ValidUntil)+" (validUntil)")
		}
	}
}

// ends keeps until when an element may be trusted.
func (l *Listed) ends(of string, t *time.Time) {
	if t != nil {
		l.Ends = append(l.Ends, End{of, *t})
	}
}

// ListEntity reads what people look for out of an EntityDescriptor that stands inside its groups. What cannot be read
// is named among its problems (SAML Metadata, section 2.3.2; Metadata Extensions for Login and Discovery User
// Interface; Metadata Extension for Entity Attributes; Metadata Extensions for Registration and Publication
// Information).
func ListEntity(el *etree.Element) Listed {
	l := Listed{EntityID: strings.Clone(strings.TrimSpace(xmlsec.Attr(el, "entityID"))), Roles: []string{}}
	if l.EntityID == "" {
		l.Problems = append(l.Problems, "it has no entityID")
	}
	for up := el; up != nil; up = up.Parent() {
		t, err := readTime(up, "validUntil")
		if err != nil {
			l.Problems = append(l.Problems, err.Error())
			continue
		}
		l.ValidUntil = earlier(l.ValidUntil, t)
		switch outer := up.Parent(); {
		case outer == nil || outer.Tag == "": // the document element
		case up == el:
			l.ends("the entity", t)
		default:
			l.ends(strings.TrimSpace("its group "+xmlsec.Attr(up, "Name")), t)
		}
	}
	for c := range xmlsec.Elements(el) {
		switch ns := xmlsec.Namespace(c); {
		case ns == xmlsec.NS && c.Tag == "Signature":
			l.Signed = true
		case ns != NSMetadata:
		case c.Tag == "Extensions":
			l.extensions(c)
		case c.Tag == "Organization":
			l.texts(c, "OrganizationName", "OrganizationDisplayName")
		case c.Tag == "ContactPerson":
			l.contact(readContact(c))
		case strings.HasSuffix(c.Tag, "Descriptor"):
			l.role(c)
		}
	}
	if len(l.Roles) == 0 {
		l.Problems = append(l.Problems, "it has no role")
	}
	return l
}

// role reads a role descriptor (section 2.4).
func (l *Listed) role(el *etree.Element) {
	kind := el.Tag
	if kind == "RoleDescriptor" {
		if t := xmlsec.AttrNS(el, "http://www.w3.org/2001/XMLSchema-instance", "type"); t != "" {
			kind = t[strings.IndexByte(t, ':')+1:]
		}
	}
	add(&l.Roles, kind)
	t, err := readTime(el, "validUntil")
	if err != nil {
		l.Problems = append(l.Problems, err.Error())
	}
	l.ends("its "+kind, t)
	for c := range xmlsec.Elements(el) {
		switch {
		case c.Tag == "Extensions":
			l.extensions(c)
		case c.Tag == "KeyDescriptor":
			l.keys(c, kind)
		case c.Tag == "AttributeConsumingService":
			l.texts(c, "ServiceName")
		default:
			if at := xmlsec.Attr(c, "Location"); at != "" {
				l.host(at, c.Tag)
			}
		}
	}
}

// keys looks whether a certificate is there and can be decoded. Whether it is one is judged when the entity is used.
func (l *Listed) keys(el *etree.Element, role string) {
	for d := range xmlsec.All(xmlsec.Child(el, xmlsec.NS, "KeyInfo"), xmlsec.NS, "X509Data") {
		c := xmlsec.Child(d, xmlsec.NS, "X509Certificate")
		if c != nil && !derSequence(xmlsec.Value(c)) {
			l.Problems = append(l.Problems, "a certificate of its "+role+" cannot be read")
		}
	}
}

// derSequence reports whether base64 text is one DER sequence from its first octet to its last, by its length.
func derSequence(s string) bool {
	s = strings.TrimSpace(s)
	octets := 0
	for i := range len(s) {
		c := sextets[s[i]]
		if c == 0 {
			return false
		}
		octets += int(c & 1)
	}
	pad := 0
	for ; pad < 2 && strings.HasSuffix(s, "="); pad++ {
		s = s[:len(s)-1]
	}
	if octets%4 != 0 || octets < 24 || strings.Contains(s, "=") || strings.ContainsAny(s[:8], " \n\t\r") {
		return false
	}
	octets = octets/4*3 - pad
	head, err := base64.StdEncoding.DecodeString(s[:8])
	if err != nil || head[0] != 0x30 {
		return false
	}
	long := int(head[1]) - 0x80 // octets of the length
	if long < 0 {
		return octets == 2+int(head[1])
	}
	if long < 1 || long > 3 {
		return false
	}
	n := 0
	for _, c := range head[2 : 2+long] {
		n = n<<8 | int(c)
	}
	return octets == 2+long+n
}

// sextets says of each octet whether it may stand in base64 text: not 0 if it may, and odd if it counts.
var sextets = func() (t [256]byte) {
	for _, c := range "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/=" {
		t[c] = 1
	}
	for _, c := range " \n\t\r" {
		t[c] = 2
	}
	return t
}()

func (l *Listed) extensions(el *etree.Element) {
	for c := range xmlsec.Elements(el) {
		switch xmlsec.Namespace(c) {
		case NSUI:
			if c.Tag == "UIInfo" {
				l.texts(c, "DisplayName")
			}
		case nsEntityAttributes:
			for a := range xmlsec.Elements(c) {
				to := l.attribute(xmlsec.Attr(a, "Name"))
				for v := range xmlsec.All(a, NSAssertion, "AttributeValue") {
					add(to, xmlsec.Text(v))
				}
			}
		case nsRegistration:
			if c.Tag == "RegistrationInfo" {
				l.Authority = strings.Clone(xmlsec.Attr(c, "registrationAuthority"))
			}
		default: // each federation has its own namespace for the domains that an entity may speak for
			if c.Tag != "Scope" {
				continue
			}
			if v := xmlsec.Attr(c, "regexp"); v == "true" || v == "1" {
				add(&l.Patterns, xmlsec.Text(c))
			} else {
				add(&l.Scopes, strings.ToLower(xmlsec.Text(c)))
			}
		}
	}
}

// attribute is where the values of an entity attribute are listed, by its name (RFC 8409; SAML V2.0 Identity Assurance
// Profiles, section 3; SAML V2.0 Subject Identifier Attributes Profile, section 3.3), of which federations have some
// under an authority of their own.
func (l *Listed) attribute(name string) *[]string {
	switch name[strings.LastIndexAny(name, "/:")+1:] {
	case "entity-category":
		return &l.Categories
	case "entity-category-support":
		return &l.Supports
	case "assurance-certification":
		return &l.Assurance
	}
	if strings.HasSuffix(name, "subject-id:req") {
		return &l.Identifier
	}
	return &l.Attributes
}

// texts takes what stands in some children, in each language.
func (l *Listed) texts(el *etree.Element, tags ...string) {
	for c := range xmlsec.Elements(el) {
		if slices.Contains(tags, c.Tag) {
			add(&l.Names, xmlsec.Text(c))
		}
	}
}

func (l *Listed) host(at, tag string) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(at), "https://")
	if ok {
		end := strings.IndexAny(rest, "/?#")
		if end < 0 {
			end = len(rest)
		}
		if h := rest[:end]; h != "" && !strings.ContainsAny(h, "@:%[") {
			add(&l.Domains, strings.ToLower(h))
			return
		}
	}
	u, err := url.Parse(strings.TrimSpace(at))
	if err != nil || u.Scheme == "" {
		l.Problems = append(l.Problems, "the address of its "+tag+" is none: "+at)
		return
	}
	if h := u.Hostname(); h != "" {
		add(&l.Domains, strings.ToLower(h))
	}
}

func (l *Listed) contact(c Contact) {
	c.Type, c.Name = strings.Clone(c.Type), strings.Clone(c.Name)
	for i := range c.Email {
		c.Email[i] = strings.Clone(c.Email[i])
	}
	l.Contacts = append(l.Contacts, c)
}

// add keeps each value once.
func add(to *[]string, v string) {
	if v != "" && !slices.Contains(*to, v) {
		*to = append(*to, strings.Clone(v)) // what it is a part of does not stay
	}
}

// Sought says which entities somebody looks for. Each part that is given has to fit; letters' case does not count.
type Sought struct {
	Words    []string // each stands somewhere in what is listed
	EntityID string   // exactly
	Name     string   // part of a name
	Domain   string   // a host at or under it
	Scope    string   // a domain for which it claims to speak
	Role     string   // provider, app, or the name of a role descriptor
	// values of entity attributes, or the end of one behind a /
	Category, Supports, Assurance, Identifier string
	Contact                                   string // part of a contact's name or address
	Authority                                 string // exactly
	Broken                                    bool   // those with problems or doubts
}

// Any reports whether everything is sought.
func (s Sought) Any() bool { return len(s.Words) == 0 && s.Narrow() == 0 }

// BrokenAlone reports whether all that are broken are sought, whatever else they are: none is then good news.
func (s Sought) BrokenAlone() bool { return s.Broken && len(s.Words) == 0 && s.Narrow() == 1 }

// Narrow counts the parts that are given beside words.
func (s Sought) Narrow() int {
	n := 0
	for _, v := range []string{s.EntityID, s.Name, s.Domain, s.Scope, s.Role, s.Category, s.Supports,
		s.Assurance, s.Identifier, s.Contact, s.Authority} {
		if v != "" {
			n++
		}
	}
	if s.Broken {
		n++
	}
	return n
}

// RoleByWord returns the name of the role descriptor that a word means; SAML Metadata, section 2.4, has them.
func RoleByWord(word string) string {
	switch strings.ToLower(word) {
	case "provider":
		return "IDPSSODescriptor"
	case "app":
		return "SPSSODescriptor"
	}
	return word
}

// Fits reports whether an entity is one of those.
func (s Sought) Fits(l *Listed) bool {
	has := func(list []string, fits func(string) bool) bool { return slices.ContainsFunc(list, fits) }
	part := func(p string) func(string) bool {
		p = strings.ToLower(p)
		return func(v string) bool { return strings.Contains(strings.ToLower(v), p) }
	}
	contact := func(p string) bool {
		in := part(p)
		return slices.ContainsFunc(l.Contacts, func(c Contact) bool { return in(c.Name) || has(c.Email, in) })
	}
	for _, w := range s.Words {
		if in := part(w); !in(l.EntityID) && !has(l.Names, in) && !has(l.Domains, in) && !has(l.Scopes, in) &&
			!has(l.told(), in) && !has(l.Roles, in) && !contact(w) && !in(l.Authority) {
			return false
		}
	}
	same := func(v string) func(string) bool { return func(w string) bool { return strings.EqualFold(v, w) } }
	return (s.EntityID == "" || l.EntityID == s.EntityID) &&
		(s.Name == "" || has(l.Names, part(s.Name))) &&
		(s.Domain == "" || l.domain(strings.ToLower(s.Domain))) &&
		(s.Role == "" || has(l.Roles, same(RoleByWord(s.Role)))) &&
		(s.Scope == "" || l.scope(strings.ToLower(s.Scope))) &&
		(s.Category == "" || has(l.Categories, ends(s.Category))) &&
		(s.Supports == "" || has(l.Supports, ends(s.Supports))) &&
		(s.Assurance == "" || has(l.Assurance, ends(s.Assurance))) &&
		(s.Identifier == "" || has(l.Identifier, ends(s.Identifier))) &&
		(s.Contact == "" || contact(s.Contact)) &&
		(s.Authority == "" || l.Authority == s.Authority) &&
		(!s.Broken || len(l.Problems) > 0 || len(l.Doubts) > 0)
}

// ends fits a value, or what stands behind its last /.
func ends(p string) func(string) bool {
	return func(v string) bool {
		return strings.EqualFold(v, p) || strings.HasSuffix(strings.ToLower(v), "/"+strings.ToLower(p))
	}
}

// told are the values of its entity attributes.
func (l *Listed) told() []string {
	return slices.Concat(l.Categories, l.Supports, l.Assurance, l.Identifier, l.Attributes)
}

// domain reports whether the entity is at a domain, or below it. For what it claims to speak is another question.
func (l *Listed) domain(d string) bool {
	return slices.ContainsFunc(l.Domains, func(h string) bool { return h == d || strings.HasSuffix(h, "."+d) })
}

// scope reports whether the entity claims to speak for a domain.
func (l *Listed) scope(d string) bool {
	if slices.Contains(l.Scopes, d) {
		return true
	}
	for _, p := range l.Patterns {
		if re, err := regexp.Compile("^(?:" + p + ")$"); err == nil && len(p) < 1024 && re.MatchString(d) {
			return true
		}
	}
	return false
}

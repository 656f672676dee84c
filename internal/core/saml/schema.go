package saml

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
)

// ErrSchema means that an element is not as the schemas of SAML 2.0 have it: one thing too many or missing, a value
// that is none of its type. What is read of such a message depends on who reads it, so nothing of it is.
var ErrSchema = errors.New("not as the schema of SAML 2.0 has it")

// model is what the schema says of an element, as far as more than one reading of it would be possible.
type model struct {
	children []particle
	open     bool     // other children may be there as well
	text     bool     // holds text alone
	needs    []string // attributes that must be there
	booleans []string // attributes of xs:boolean
	numbers  []string // attributes of xs:unsignedShort
}

// particle is one choice among the children of an element.
type particle struct {
	names []string // of which one stands there, with the namespace's prefix
	least int
	most  int // 0: any number
}

// schema are the elements that are read, by prefix and local name (saml-schema-protocol-2.0.xsd,
// saml-schema-assertion-2.0.xsd, saml-schema-metadata-2.0.xsd).
var schema = sync.OnceValue(func() map[string]*model {
	one := func(names ...string) particle { return particle{names, 1, 1} }
	maybe := func(names ...string) particle { return particle{names, 0, 1} }
	many := func(names ...string) particle { return particle{names, 0, 0} }
	some := func(names ...string) particle { return particle{names, 1, 0} }
	request := []particle{maybe("saml:Issuer"), maybe("ds:Signature"), maybe("samlp:Extensions")}
	response := append(slices.Clone(request), one("samlp:Status"))
	with := func(head []particle, more ...particle) []particle { return append(slices.Clone(head), more...) }
	identifier := []string{"saml:BaseID", "saml:NameID", "saml:EncryptedID"}
	role := []particle{maybe("ds:Signature"), maybe("md:Extensions"), maybe("md:Organization")}
	out := map[string]*model{
		"samlp:AuthnRequest": {children: with(request, maybe("saml:Subject"), maybe("samlp:NameIDPolicy"),
			maybe("saml:Conditions"), maybe("samlp:RequestedAuthnContext"), maybe("samlp:Scoping")),
			booleans: []string{"ForceAuthn", "IsPassive"},
			numbers:  []string{"AssertionConsumerServiceIndex", "AttributeConsumingServiceIndex"}},
		"samlp:NameIDPolicy": {booleans: []string{"AllowCreate"}},
		"samlp:RequestedAuthnContext": {children: []particle{many("saml:AuthnContextClassRef"),
			many("saml:AuthnContextDeclRef")}},
		"samlp:Scoping":        {children: []particle{maybe("samlp:IDPList"), many("samlp:RequesterID")}},
		"samlp:IDPList":        {children: []particle{some("samlp:IDPEntry"), maybe("samlp:GetComplete")}},
		"samlp:LogoutRequest":  {children: with(request, one(identifier...), many("samlp:SessionIndex"))},
		"samlp:LogoutResponse": {children: response},
		"samlp:Response":       {children: with(response, many("saml:Assertion", "saml:EncryptedAssertion"))},
		"samlp:Status": {children: []particle{one("samlp:StatusCode"), maybe("samlp:StatusMessage"),
			maybe("samlp:StatusDetail")}},
		"samlp:StatusCode": {children: []particle{maybe("samlp:StatusCode")}, needs: []string{"Value"}},
		"samlp:IDPEntry":   {open: true, needs: []string{"ProviderID"}},
		"saml:Assertion": {children: []particle{one("saml:Issuer"), maybe("ds:Signature"), maybe("saml:Subject"),
			maybe("saml:Conditions"), maybe("saml:Advice"), many("saml:Statement", "saml:AuthnStatement",
				"saml:AuthzDecisionStatement", "saml:AttributeStatement")}},
		"saml:Subject": {children: []particle{maybe(identifier...), many("saml:SubjectConfirmation")}},
		"saml:SubjectConfirmation": {children: []particle{maybe(identifier...),
			maybe("saml:SubjectConfirmationData")}, needs: []string{"Method"}},
		"saml:AudienceRestriction": {children: []particle{some("saml:Audience")}},
		"saml:AuthnStatement": {children: []particle{maybe("saml:SubjectLocality"), one("saml:AuthnContext")},
			needs: []string{"AuthnInstant"}},
		"saml:AuthnContext": {children: []particle{maybe("saml:AuthnContextClassRef"),
			maybe("saml:AuthnContextDecl", "saml:AuthnContextDeclRef"), many("saml:AuthenticatingAuthority")}},
		"saml:AttributeStatement": {children: []particle{some("saml:Attribute", "saml:EncryptedAttribute")}},
		"saml:Attribute":          {children: []particle{many("saml:AttributeValue")}, needs: []string{"Name"}},
		"md:EntityDescriptor": {open: true, children: []particle{maybe("ds:Signature"), maybe("md:Extensions"),
			maybe("md:Organization"), maybe("md:AffiliationDescriptor")}},
		"md:IDPSSODescriptor": {open: true, children: role, booleans: []string{"WantAuthnRequestsSigned"}},
		"md:SPSSODescriptor": {open: true, children: role, booleans: []string{"AuthnRequestsSigned",
			"WantAssertionsSigned"}},
		"md:KeyDescriptor":            {open: true, children: []particle{maybe("ds:KeyInfo")}},
		"saml:Conditions":             {open: true},
		"md:AssertionConsumerService": {open: true, booleans: []string{"isDefault"}, numbers: []string{"index"}},
		"md:ArtifactResolutionService": {open: true, booleans: []string{"isDefault"},
			numbers: []string{"index"}},
		"md:AttributeConsumingService": {open: true, booleans: []string{"isDefault"}, numbers: []string{"index"}},
		"md:RequestedAttribute":        {open: true, needs: []string{"Name"}, booleans: []string{"isRequired"}},
	}
	for _, name := range []string{"saml:Issuer", "saml:NameID", "saml:Audience", "saml:AuthnContextClassRef",
		"saml:AuthnContextDeclRef", "saml:AuthenticatingAuthority", "samlp:SessionIndex", "samlp:StatusMessage",
		"samlp:RequesterID", "md:NameIDFormat"} {
		out[name] = &model{text: true}
	}
	return out
})

// prefixOf is the prefix under which the schema has a namespace; "" for one that it says nothing of.
func prefixOf(ns string) string {
	switch ns {
	case NSProtocol:
		return "samlp:"
	case NSAssertion:
		return "saml:"
	case NSMetadata:
		return "md:"
	case xmlsec.NS:
		return "ds:"
	}
	return ""
}

// Shape holds an element, and what is below it, against the schemas of SAML 2.0: how often each child stands there,
// that values of a type are of it, that names hold text alone. What stands in Extensions, Advice, StatusDetail, a
// signature, the data of a confirmation or the value of an attribute may be anything. Errors: ErrSchema, with the
// element.
func Shape(el *etree.Element) error {
	name := prefixOf(xmlsec.Namespace(el)) + el.Tag
	m := schema()[name]
	if m == nil {
		return nil
	}
	bad := func(format string, args ...any) error {
		return fmt.Errorf("<%s> is %w: %s", el.FullTag(), ErrSchema, fmt.Sprintf(format, args...))
	}
	for _, a := range m.needs {
		if !xmlsec.HasAttr(el, a) {
			return bad("its %s is missing", a)
		}
	}
	for _, a := range m.booleans {
		if v := strings.TrimSpace(xmlsec.Attr(el, a)); xmlsec.HasAttr(el, a) &&
			!slices.Contains([]string{"true", "false", "1", "0"}, v) {
			return bad("its %s is %q, and true, false, 1 or 0 is a boolean", a, v)
		}
	}
	for _, a := range m.numbers {
		v := strings.TrimSpace(xmlsec.Attr(el, a))
		if _, err := strconv.ParseUint(v, 10, 16); xmlsec.HasAttr(el, a) && err != nil {
			return bad("its %s is %q, and a number from 0 to 65535 belongs there", a, v)
		}
	}
	count := make([]int, len(m.children))
	for c := range xmlsec.Elements(el) {
		if m.text {
			return bad("an element, <%s>, stands in it, and it holds text alone", c.FullTag())
		}
		p := prefixOf(xmlsec.Namespace(c))
		i := slices.IndexFunc(m.children, func(x particle) bool { return slices.Contains(x.names, p+c.Tag) })
		switch {
		case i >= 0:
			if count[i]++; m.children[i].most > 0 && count[i] > m.children[i].most {
				return bad("%s stands there %d times, and once is allowed", choice(m.children[i].names), count[i])
			}
		case !m.open:
			return bad("<%s> does not belong into it", c.FullTag())
		}
		if p != "" && p != "ds:" {
			if err := Shape(c); err != nil {
				return err
			}
		}
	}
	for i, x := range m.children {
		if count[i] < x.least {
			return bad("%s is missing", choice(x.names))
		}
	}
	return nil
}

// choice names elements one of which is meant.
func choice(names []string) string {
	var out []string
	for _, n := range names {
		_, local, _ := strings.Cut(n, ":")
		out = append(out, "<"+local+">")
	}
	return strings.Join(out, " or ")
}

// Unread is the finding of a message that cannot be read as what it is: of an error of the readers of this package.
func Unread(el *etree.Element, err error, side finding.Side) finding.Finding {
	shape, when, section := finding.SAMLShape, finding.SAMLTime, "SAML Core 3.2.2"
	switch el.Tag {
	case "AuthnRequest":
		shape, when, section = finding.RequestShape, finding.RequestTime, "SAML Core 3.4.1"
	case "LogoutRequest":
		shape, when, section = finding.LogoutShape, finding.LogoutTime, "SAML Core 3.7.1"
	case "LogoutResponse":
		shape, when, section = finding.LogoutShape, finding.LogoutTime, "SAML Core 3.7.2"
	case "Assertion":
		section = "SAML Core 2.3.3"
	}
	f := finding.Finding{ID: shape, Level: finding.Error, Check: el.Tag, Saw: err.Error(),
		Expected: "a SAML 2.0 " + el.Tag, Side: side, Ref: section,
		Fix: finding.Do("have the sender write it as the schema of SAML 2.0 has it")}
	switch {
	case errors.Is(err, ErrBadTimeFormat):
		f.ID, f.Check, f.Ref = when, "time of the message", "SAML Core 1.3.3"
		f.Expected, f.Fix = "an xs:dateTime in UTC", finding.Do("send times in UTC, such as 2031-03-04T09:00:00Z")
	case !errors.Is(err, ErrSchema):
		f.Fix = finding.Do("send what this endpoint is for")
	}
	return f
}

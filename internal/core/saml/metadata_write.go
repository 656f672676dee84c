package saml

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/xmlsec"
)

// WriteOptions says how metadata is written.
type WriteOptions struct {
	ID         string         // ID of the document, needed for signing
	ValidUntil *time.Time     // nil: none
	Signer     *xmlsec.Signer // nil: unsigned
}

// WriteMetadata writes an entity as an EntityDescriptor document, signed if a signer is given. Errors:
// xmlsec.ErrCarries.
func WriteMetadata(e *Entity, o WriteOptions) ([]byte, error) {
	root := xmlsec.New("md:EntityDescriptor", "xmlns:md", NSMetadata, "xmlns:ds", xmlsec.NS, "ID", o.ID,
		"entityID", e.ID)
	if o.ValidUntil != nil {
		root.CreateAttr("validUntil", FormatTime(*o.ValidUntil))
	}
	if e.CacheDuration != "" {
		root.CreateAttr("cacheDuration", e.CacheDuration)
	}
	e.writeExtensions(root)
	if e.IDP != nil {
		writeIDP(root, e.IDP)
	}
	if e.SP != nil {
		writeSP(root, e.SP)
	}
	if g := e.Organization; g != nil {
		o := xmlsec.Add(root, "md:Organization")
		display := g.DisplayName
		if display == "" {
			display = g.Name
		}
		xmlsec.AddText(o, "md:OrganizationName", g.Name, "xml:lang", "en")
		xmlsec.AddText(o, "md:OrganizationDisplayName", display, "xml:lang", "en")
		xmlsec.AddText(o, "md:OrganizationURL", g.URL, "xml:lang", "en")
	}
	for _, c := range e.Contacts {
		kind := c.Type
		if kind == ContactSecurity {
			kind = "other"
		}
		k := xmlsec.Add(root, "md:ContactPerson", "contactType", kind)
		if c.Type == ContactSecurity {
			k.CreateAttr("xmlns:remd", nsSecurity)
			k.CreateAttr("remd:contactType", typeSecurity)
		}
		if c.Name != "" {
			xmlsec.AddText(k, "md:GivenName", c.Name)
		}
		for _, m := range c.Email {
			xmlsec.AddText(k, "md:EmailAddress", "mailto:"+m)
		}
	}
	doc := etree.NewDocument()
	doc.SetRoot(root)
	indent(root, 0)
	if err := xmlsec.CarriesAll(root); err != nil {
		return nil, fmt.Errorf("metadata of %q cannot be written: %w", e.ID, err)
	}
	if o.Signer != nil {
		if err := o.Signer.Sign(root, nil); err != nil {
			return nil, err
		}
	}
	out := append([]byte(`<?xml version="1.0" encoding="UTF-8"?>`+"\n"), xmlsec.Serialize(root)...)
	return append(out, '\n'), nil
}

// indent puts line breaks between elements, before signing, so that people can read the file.
func indent(el *etree.Element, depth int) {
	kids := el.ChildElements()
	if len(kids) == 0 {
		return
	}
	for _, k := range kids {
		el.InsertChildAt(k.Index(), etree.NewText("\n"+strings.Repeat("  ", depth+1)))
		indent(k, depth+1)
	}
	el.AddChild(etree.NewText("\n" + strings.Repeat("  ", depth)))
}

func writeBool(el *etree.Element, key string, v bool) {
	el.CreateAttr(key, strconv.FormatBool(v))
}

func writeRole(el *etree.Element, r *Role) {
	el.CreateAttr("protocolSupportEnumeration", NSProtocol)
	if r.ErrorURL != "" {
		el.CreateAttr("errorURL", r.ErrorURL)
	}
	r.writeExtensions(el)
	for _, k := range r.Keys {
		if k.Certificate == "" {
			continue
		}
		d := xmlsec.Add(el, "md:KeyDescriptor", "use", k.Use)
		x := xmlsec.Add(xmlsec.Add(d, "ds:KeyInfo"), "ds:X509Data")
		xmlsec.AddText(x, "ds:X509Certificate", k.Certificate)
		for _, m := range k.Methods {
			xmlsec.Add(d, "md:EncryptionMethod", "Algorithm", m)
		}
	}
	for _, e := range r.SLO {
		xmlsec.Add(el, "md:SingleLogoutService", "Binding", e.Binding, "Location", e.Location,
			"ResponseLocation", e.ResponseLocation)
	}
	for _, f := range r.NameIDFormats {
		xmlsec.AddText(el, "md:NameIDFormat", f)
	}
}

func writeIDP(root *etree.Element, r *Role) {
	el := xmlsec.Add(root, "md:IDPSSODescriptor")
	writeBool(el, "WantAuthnRequestsSigned", r.WantRequestsSigned)
	writeRole(el, r)
	for _, e := range r.SSO {
		xmlsec.Add(el, "md:SingleSignOnService", "Binding", e.Binding, "Location", e.Location)
	}
}

func writeSP(root *etree.Element, r *Role) {
	el := xmlsec.Add(root, "md:SPSSODescriptor")
	writeBool(el, "AuthnRequestsSigned", r.RequestsSigned)
	writeBool(el, "WantAssertionsSigned", r.WantAssertionsSigned)
	writeRole(el, r)
	for _, e := range r.ACS {
		a := xmlsec.Add(el, "md:AssertionConsumerService", "Binding", e.Binding, "Location", e.Location)
		a.CreateAttr("index", strconv.Itoa(e.Index))
		if e.Default {
			writeBool(a, "isDefault", true)
		}
	}
	list := r.Services
	if len(r.Wanted) > 0 && len(list) == 0 {
		list = []Service{{Index: 1, Wanted: r.Wanted}}
	}
	for _, x := range list {
		s := xmlsec.Add(el, "md:AttributeConsumingService", "index", strconv.Itoa(x.Index))
		if len(list) > 1 && x.Default {
			writeBool(s, "isDefault", true)
		}
		name := x.Name
		if name == "" {
			name = r.DisplayName
		}
		if name == "" {
			name = "Sign-in"
		}
		xmlsec.AddText(s, "md:ServiceName", name, "xml:lang", "en")
		for _, w := range x.Wanted {
			a := xmlsec.Add(s, "md:RequestedAttribute", "Name", w.Name, "NameFormat", w.Format, "FriendlyName",
				w.Friendly)
			if w.Required {
				writeBool(a, "isRequired", true)
			}
		}
	}
}

// FormatTime writes a time as SAML does: UTC, whole seconds, Z.
func FormatTime(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05Z") }

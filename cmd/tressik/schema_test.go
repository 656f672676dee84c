package main

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/beevik/etree"

	md "tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// elementModel is an element of SAML Metadata 2.0 as the standard's chapter 2 has it: its children in order, as a
// pattern over their names with a blank behind each, and its attributes, those with ! required.
type elementModel struct{ children, attrs string }

const (
	// RoleDescriptor (2.4.1) and SSODescriptor (2.4.2), which the roles extend.
	role = `(ds:Signature )?(md:Extensions )?(md:KeyDescriptor )*(md:Organization )?(md:ContactPerson )*`
	sso  = role + `(md:ArtifactResolutionService )*(md:SingleLogoutService )*(md:ManageNameIDService )*` +
		`(md:NameIDFormat )*`
	roleAre = "ID validUntil cacheDuration protocolSupportEnumeration! errorURL"
	roles   = `(md:RoleDescriptor |md:IDPSSODescriptor |md:SPSSODescriptor |md:AuthnAuthorityDescriptor |` +
		`md:AttributeAuthorityDescriptor |md:PDPDescriptor )`
	endpoint = "Binding! Location! ResponseLocation"
	indexed  = endpoint + " index! isDefault"
)

func models() map[string]elementModel {
	return map[string]elementModel{
		"md:EntitiesDescriptor": {`(ds:Signature )?(md:Extensions )?(md:EntityDescriptor |md:EntitiesDescriptor )+`,
			"validUntil cacheDuration ID Name"}, // 2.3.1
		"md:EntityDescriptor": {`(ds:Signature )?(md:Extensions )?(` + roles +
			`+|md:AffiliationDescriptor )(md:Organization )?` +
			`(md:ContactPerson )*(md:AdditionalMetadataLocation )*`, "entityID! validUntil cacheDuration ID"}, // 2.3.2
		// 2.3.2.1
		"md:Organization": {`(md:Extensions )?(md:OrganizationName )+(md:OrganizationDisplayName )+` +
			`(md:OrganizationURL )+`,
			""},
		"md:ContactPerson": {`(md:Extensions )?(md:Company )?(md:GivenName )?(md:SurName )?(md:EmailAddress )*` +
			`(md:TelephoneNumber )*`,
			"contactType!"}, // 2.3.2.2
		"md:KeyDescriptor":    {`ds:KeyInfo (md:EncryptionMethod )*`, "use"}, // 2.4.1.1
		"md:EncryptionMethod": {`(xenc:KeySize )?(xenc:OAEPparams )?(ds:DigestMethod )?`, "Algorithm!"},
		"md:IDPSSODescriptor": {sso +
			`(md:SingleSignOnService )+(md:NameIDMappingService )*(md:AssertionIDRequestService )*` +
			`(md:AttributeProfile )*(saml:Attribute )*`, roleAre + " WantAuthnRequestsSigned"}, // 2.4.3
		"md:SPSSODescriptor": {sso + `(md:AssertionConsumerService )+(md:AttributeConsumingService )*`,
			roleAre + " AuthnRequestsSigned WantAssertionsSigned"}, // 2.4.4
		// 2.4.4.1
		"md:AttributeConsumingService": {`(md:ServiceName )+(md:ServiceDescription )*(md:RequestedAttribute )+`,
			"index! isDefault"},
		// 2.4.4.2
		"md:RequestedAttribute":  {`(saml:AttributeValue )*`, "Name! NameFormat FriendlyName isRequired"},
		"md:SingleSignOnService": {"", endpoint}, "md:SingleLogoutService": {"", endpoint},
		"md:AssertionConsumerService": {"", indexed}, "md:ArtifactResolutionService": {"", indexed},
		"md:NameIDFormat": {}, "md:GivenName": {}, "md:SurName": {}, "md:EmailAddress": {},
		"md:OrganizationName": {"", "xml:lang!"}, "md:OrganizationDisplayName": {"",
			"xml:lang!"}, "md:OrganizationURL": {"", "xml:lang!"},
		"md:ServiceName":        {"", "xml:lang!"},
		"mdui:UIInfo":           {`(mdui:[A-Za-z]+ )*`, ""}, // MDUI 2.1
		"mdui:DisplayName":      {"", "xml:lang!"},          // 2.1.2
		"init:RequestInitiator": {"", endpoint},             // Service Provider Request Initiation Protocol 2.4
		"ds:KeyInfo":            {`(ds:[A-Za-z0-9]+ )+`, "Id"}, "ds:X509Data": {`(ds:[A-Za-z0-9]+ )+`, ""},
		"ds:X509Certificate": {},
	}
}

// value is what the values of an attribute look like.
func value(name string) *regexp.Regexp {
	switch name {
	case "WantAuthnRequestsSigned", "AuthnRequestsSigned", "WantAssertionsSigned", "isDefault", "isRequired":
		return regexp.MustCompile(`^(true|false|0|1)$`)
	case "validUntil": // SAML Core 1.3.3: UTC
		return regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z$`)
	case "cacheDuration":
		return regexp.MustCompile(`^P(\d+D)?(T(\d+H)?(\d+M)?(\d+S)?)?$`)
	case "ID": // an NCName
		return regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_.-]*$`)
	case "index": // an unsignedShort
		return regexp.MustCompile(`^\d{1,5}$`)
	case "use":
		return regexp.MustCompile(`^(signing|encryption)$`)
	case "contactType":
		return regexp.MustCompile(`^(technical|support|administrative|billing|other)$`)
	case "entityID": // SAML Core 8.3.6
		return regexp.MustCompile(`^[a-z][a-z0-9+.-]*:\S{1,1000}$`)
	case "Binding", "Location", "ResponseLocation", "NameFormat", "Algorithm", "errorURL":
		return regexp.MustCompile(`^[a-z][a-z0-9+.-]*:\S+$`)
	case "protocolSupportEnumeration":
		return regexp.MustCompile(`^\S+( \S+)*$`)
	}
	return regexp.MustCompile(`.`)
}

// breaches says where a metadata document is not as the standard has it.
func breaches(t *testing.T, text string) []string {
	t.Helper()
	doc, err := xmlsec.Parse([]byte(text), xmlsec.MetadataLimits())
	if err != nil {
		return []string{err.Error()}
	}
	var out []string
	say := func(el *etree.Element, format string, args ...any) {
		out = append(out, el.GetPath()+": "+fmt.Sprintf(format, args...))
	}
	prefixes := map[string]string{md.NSMetadata: "md:", xmlsec.NS: "ds:", md.NSUI: "mdui:", md.NSInit: "init:",
		md.NSAssertion: "saml:",
		xmlsec.EncNS:   "xenc:"}
	name := func(el *etree.Element) string {
		if p, ok := prefixes[xmlsec.Namespace(el)]; ok {
			return p + el.Tag
		}
		return "?:" + el.Tag
	}
	all := models()
	var look func(el *etree.Element)
	look = func(el *etree.Element) {
		n := name(el)
		if n == "ds:Signature" {
			return // xmlsec1 judges it
		}
		var children strings.Builder
		for _, c := range el.ChildElements() {
			children.WriteString(name(c) + " ")
		}
		if n == "md:Extensions" { // 2.2.1: at least one, none of the standard's own namespace
			if children.Len() == 0 || strings.Contains(" "+children.String(), " md:") {
				say(el, "holds %q", children.String())
			}
		} else if m, known := all[n]; !known {
			say(el, "no such element")
		} else {
			if !regexp.MustCompile("^(?:" + m.children + ")$").MatchString(children.String()) {
				say(el, "holds %s, not %s", children.String(), m.children)
			}
			attrs(el, m, say)
		}
		seen := map[string]bool{}
		for _, c := range el.ChildElements() {
			if i := c.SelectAttrValue("index", ""); i != "" { // 2.2.3: each index once for each kind
				if seen[name(c)+i] {
					say(c, "index %s twice", i)
				}
				seen[name(c)+i] = true
			}
			if len(c.ChildElements()) == 0 && strings.HasSuffix(name(c), "Name") && strings.TrimSpace(c.Text()) == "" {
				say(c, "is empty")
			}
			look(c)
		}
	}
	look(doc.Root())
	return out
}

func attrs(el *etree.Element, m elementModel, say func(*etree.Element, string, ...any)) {
	known := strings.Fields(m.attrs)
	for _, a := range el.Attr {
		key := a.FullKey()
		if a.Space == "xmlns" || key == "xmlns" || a.Space != "" && a.Space != "xml" {
			continue
		}
		if !slices.Contains(known, key) && !slices.Contains(known, key+"!") {
			say(el, "no attribute %s", key)
		}
		if !value(key).MatchString(a.Value) {
			say(el, "%s is %q", key, a.Value)
		}
	}
	for _, k := range known {
		if k, must := strings.CutSuffix(k, "!"); must && el.SelectAttr(k) == nil {
			say(el, "lacks %s", k)
		}
	}
}

// TestMetadataKeepsTheSchema writes metadata of parties of all kinds, signed and not, and holds each against the
// standard's order and number of elements; a signed one xmlsec1 verifies too.
func TestMetadataKeepsTheSchema(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	d.ok("app", "add", "glass-log", "--own", "--at", "https://glass.kestrelridge.example", "--encrypted", "--wants",
		"mail!,displayName",
		"--logout", "https://glass.kestrelridge.example/out", "--logout", "post=https://glass.kestrelridge.example/out",
		"--nameid-format", "persistent,transient", "--start", "https://glass.kestrelridge.example/start", "--title",
		"Glass & <Log>")
	d.ok("app", "add", "bare", "--entity-id", "urn:x-bare:app", "--acs", "https://bare.kestrelridge.example/acs",
		"--acs",
		"https://bare.kestrelridge.example/acs2")
	d.fails(3, []string{"hand added"}, "provider", "add", "hand", "--entity-id", "https://hand.kestrelridge.example",
		"--sso", "https://hand.kestrelridge.example/sso",
		"--sso", "post=https://hand.kestrelridge.example/sso", "--logout", "https://hand.kestrelridge.example/out")
	d.ok("key", "announce", "ridge")
	own := map[string]bool{"ridge": true, "glass-log": true}
	for _, p := range []string{"ridge", "glass-log", "bare", "hand", "nightlog", "plate-archive", "southmere"} {
		text := d.ok("metadata", "write", p)
		for _, b := range breaches(t, text) {
			t.Errorf("%s: %s", p, b)
		}
		if again := d.ok("metadata", "write", p); strings.Contains(text, "ID=") && len(again) != len(text) ||
			unnamed(again) != unnamed(text) {
			t.Errorf("%s is not written the same twice", p)
		}
		if !own[p] {
			continue
		}
		d.ok("metadata", "write", p, "--sign", "--out", p+".xml", "--force")
		for _, b := range breaches(t, d.read(p+".xml")) {
			t.Errorf("signed %s: %s", p, b)
		}
		d.ok("key", "export", p, d.ring(p, "signing")["active"], "--out", p+".pem")
		if err := d.xmlsecVerifies(p+".xml", p+".pem", "EntityDescriptor"); err != nil {
			t.Errorf("%s: %v", p, err)
		}
	}
	d.ok("publish", "site", "--as", "ridge")
	err := filepath.WalkDir(d.path("site"), func(at string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := os.ReadFile(at)
		if err != nil || !strings.HasPrefix(string(b), "<?xml") {
			return err
		}
		for _, x := range breaches(t, string(b)) {
			t.Errorf("%s: %s", at, x)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// unnamed is a document without its random ID.
func unnamed(text string) string { return regexp.MustCompile(` ID="[^"]*"`).ReplaceAllString(text, "") }

// TestSchemaCheckSees breaks a document in each way that the check is for.
func TestSchemaCheckSees(t *testing.T) {
	t.Parallel()
	d := demoed(t)
	good := d.ok("metadata", "write", "ridge")
	if b := breaches(t, good); len(b) > 0 {
		t.Fatal(b)
	}
	for _, edit := range [][2]string{
		{`entityID=`, `entity=`}, {`<md:Organization>`, `<md:Organization><md:Extensions/>`}, {`md:SingleSignOnService`,
			`md:ArtifactResolutionService`},
		{`use="signing"`, `use="sealing"`}, {`Z"`, `"`},
		{`WantAuthnRequestsSigned="false"`, `WantAuthnRequestsSigned="no"`},
		{`</md:IDPSSODescriptor>`, `<md:NameIDFormat>x</md:NameIDFormat></md:IDPSSODescriptor>`},
		{` xml:lang="en"`, ``},
		{`</md:EntityDescriptor>`, `<md:Surprise/></md:EntityDescriptor>`}, {`</md:EntityDescriptor>`,
			`<md:ContactPerson/></md:EntityDescriptor>`},
	} {
		bad := strings.ReplaceAll(good, edit[0], edit[1])
		if bad == good {
			t.Errorf("%s is not in it", edit[0])
		} else if len(breaches(t, bad)) == 0 {
			t.Errorf("%s in place of %s is not seen", edit[1], edit[0])
		}
	}
}

package saml

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/beevik/etree"

	"tressik.example/internal/core/xmlsec"
)

const aggregate = `<md:EntitiesDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata"
  xmlns:ds="http://www.w3.org/2000/09/xmldsig#" xmlns:saml="urn:oasis:names:tc:SAML:2.0:assertion"
  ID="_all" Name="https://southmere.example/all" validUntil="2031-04-01T00:00:00Z" cacheDuration="PT6H">
 <md:EntitiesDescriptor validUntil="2031-03-20T00:00:00Z">
  <md:EntityDescriptor entityID="https://login.kestrelridge.example">
   <md:Extensions>
    <rpi:RegistrationInfo xmlns:rpi="urn:oasis:names:tc:SAML:metadata:rpi"
      registrationAuthority="https://southmere.example"/>
    <mdattr:EntityAttributes xmlns:mdattr="urn:oasis:names:tc:SAML:metadata:attribute"><saml:Attribute
      Name="http://macedir.org/entity-category">
     <saml:AttributeValue>https://category.example/research</saml:AttributeValue></saml:Attribute>
       </mdattr:EntityAttributes>
   </md:Extensions>
   <md:IDPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">
    <md:Extensions><s:Scope xmlns:s="urn:example:scope">KestrelRidge.example</s:Scope>
     <s:Scope xmlns:s="urn:example:scope" regexp="true">[a-z]+\.ridge\.example</s:Scope>
     <mdui:UIInfo xmlns:mdui="urn:oasis:names:tc:SAML:metadata:ui"><mdui:DisplayName
       xml:lang="en">The Ridge</mdui:DisplayName>
     </mdui:UIInfo></md:Extensions>
    <md:KeyDescriptor><ds:KeyInfo><ds:X509Data><ds:X509Certificate>%s</ds:X509Certificate></ds:X509Data>
      </ds:KeyInfo></md:KeyDescriptor>
    <md:SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"
      Location="https://Login.Kestrelridge.example/sso"/>
   </md:IDPSSODescriptor>
   <md:Organization><md:OrganizationName xml:lang="en">Kestrel Ridge</md:OrganizationName></md:Organization>
   <md:ContactPerson contactType="technical"><md:GivenName>Tove</md:GivenName>
    <md:EmailAddress>mailto:ops@kestrelridge.example</md:EmailAddress></md:ContactPerson>
  </md:EntityDescriptor>
 </md:EntitiesDescriptor>
 <md:EntityDescriptor entityID="https://nightlog.kestrelridge.example" validUntil="soon">
  <ds:Signature/>
  <md:SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">
   <md:KeyDescriptor><ds:KeyInfo><ds:X509Data><ds:X509Certificate>MIIB</ds:X509Certificate></ds:X509Data>
     </ds:KeyInfo></md:KeyDescriptor>
   <md:AssertionConsumerService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"
     Location="http://[::1]:8080/acs" index="0"/>
   <md:AttributeConsumingService index="0"><md:ServiceName xml:lang="en">Night log</md:ServiceName>
     </md:AttributeConsumingService>
  </md:SPSSODescriptor>
 </md:EntityDescriptor>
 <md:EntityDescriptor entityID="https://nightlog.kestrelridge.example">
  <md:RoleDescriptor xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type="q:Query">
   <md:Service Location="nowhere"/></md:RoleDescriptor>
 </md:EntityDescriptor>
 <md:EntityDescriptor/>
</md:EntitiesDescriptor>`

// surveyed reads the aggregate.
func surveyed(t *testing.T) (*Survey, []Listed) {
	t.Helper()
	var list []Listed
	s, err := Surveying{Each: func(l Listed, el *etree.Element) error {
		if !xmlsec.Is(el, NSMetadata, "EntityDescriptor") {
			t.Errorf("%s at line %d", el.FullTag(), l.Line)
		}
		list = append(list, l)
		return nil
	}}.Read(t.Context(), strings.NewReader(fmt.Sprintf(aggregate, entity().SP.Keys[0].Certificate)))
	if err != nil {
		t.Fatal(err)
	}
	return s, list
}

func TestSurvey(t *testing.T) {
	s, list := surveyed(t)
	if !s.Aggregate || s.Signed || s.ID != "_all" || s.Name != "https://southmere.example/all" || s.Groups != 1 ||
		s.Entities != 4 || s.CacheDuration != "PT6H" || s.ValidUntil == nil || !s.AsItStands || s.Method != "" {
		t.Errorf("%+v", s)
	}
	if s.Roles["IDPSSODescriptor"] != 1 || s.Roles["SPSSODescriptor"] != 1 || s.Roles["Query"] != 1 {
		t.Errorf("roles: %v", s.Roles)
	}
	ridge := list[0]
	for what, got := range map[string][]string{"login.kestrelridge.example": ridge.Domains,
		"kestrelridge.example":   ridge.Scopes,
		`[a-z]+\.ridge\.example`: ridge.Patterns, "The Ridge": ridge.Names, "Kestrel Ridge": ridge.Names,
		"https://category.example/research": ridge.Categories, "IDPSSODescriptor": ridge.Roles} {
		if !slices.Contains(got, what) {
			t.Errorf("%s is not among %v", what, got)
		}
	}
	if ridge.Authority != "https://southmere.example" || len(ridge.Contacts) != 1 || len(ridge.Problems) > 0 ||
		ridge.Signed ||
		ridge.ValidUntil.Format("2006-01-02") != "2031-03-20" {
		t.Errorf("%+v", ridge)
	}
	for i, want := range []string{"", "validUntil;cannot be read", "more than once;the address of its Service is none",
		"it has no entityID;it has no role"} {
		said := strings.Join(list[i].Problems, "; ")
		for _, w := range strings.Split(want, ";") {
			if !strings.Contains(said, w) || want == "" && said != "" {
				t.Errorf("entity %d: %q lacks %q", i+1, said, w)
			}
		}
	}
	if !list[1].Signed || !slices.Contains(list[1].Domains, "::1") {
		t.Errorf("%+v", list[1])
	}
}

func TestSought(t *testing.T) {
	_, list := surveyed(t)
	for _, c := range []struct {
		s    Sought
		want string // numbers of the entities that fit
	}{
		{Sought{}, "1234"}, {Sought{Words: []string{"RIDGE"}}, "123"}, {Sought{Words: []string{"ridge", "tove"}}, "1"},
		{Sought{Words: []string{"lost"}}, ""}, {Sought{EntityID: "https://login.kestrelridge.example"}, "1"},
		{Sought{Name: "night"}, "2"}, {Sought{Domain: "kestrelridge.example"}, "1"},
		{Sought{Domain: "a.ridge.example"}, ""}, {Sought{Scope: "a.ridge.example"}, "1"},
		{Sought{Scope: "kestrelridge.example"}, "1"}, {Sought{Scope: "login.kestrelridge.example"}, ""},
		{Sought{Domain: "ridge.example"}, ""}, {Sought{Role: "provider"}, "1"}, {Sought{Role: "app"}, "2"},
		{Sought{Role: "query"}, "3"}, {Sought{Category: "research"}, "1"}, {Sought{Category: "search"}, ""},
		{Sought{Contact: "ops@"}, "1"}, {Sought{Authority: "https://southmere.example"}, "1"},
		{Sought{Broken: true}, "234"},
		{Sought{Broken: true, Role: "provider"}, ""},
	} {
		got := ""
		for i := range list {
			if c.s.Fits(&list[i]) {
				got += fmt.Sprint(i + 1)
			}
		}
		if got != c.want {
			t.Errorf("%+v: %s, want %s", c.s, got, c.want)
		}
	}
	if !(Sought{}).Any() || (Sought{Broken: true}).Any() || (Sought{Role: "app", Name: "x"}).Narrow() != 2 {
		t.Error("how narrow a search is")
	}
}

// TestSurveysThatEnd reads what is no metadata, one entity alone, a document that is not signed, and stops on the way.
func TestSurveysThatEnd(t *testing.T) {
	text := fmt.Sprintf(aggregate, "")
	if _, err := (Surveying{}).Read(t.Context(), strings.NewReader("<x/>")); !errors.Is(err, ErrNotMetadata) {
		t.Errorf("no metadata: %v", err)
	}
	one, err := WriteMetadata(entity(), WriteOptions{ID: "_m"})
	if err != nil {
		t.Fatal(err)
	}
	s, err := (Surveying{}).Read(t.Context(), strings.NewReader(string(one)))
	if err != nil || s.Aggregate || s.Entities != 1 {
		t.Errorf("one entity: %+v, %v", s, err)
	}
	if _, err := (Surveying{Key: policyKeys()[0]}).Read(t.Context(), strings.NewReader(text)); !Refused(err) {
		t.Errorf("it is not signed: %v", err)
	}
	stop := errors.New("enough")
	s, err = Surveying{Each: func(Listed, *etree.Element) error { return stop }}.Read(t.Context(),
		strings.NewReader(text))
	if !errors.Is(err, stop) || s.Entities != 1 {
		t.Errorf("stopped: %+v, %v", s, err)
	}
	if _, err := (Surveying{Most: 100}).Read(t.Context(), strings.NewReader(text)); err == nil {
		t.Error("more bytes than may be")
	}
	bad := strings.Replace(text, `validUntil="2031-04-01T00:00:00Z"`, `validUntil="soon"`, 1)
	if _, err := (Surveying{}).Read(t.Context(), strings.NewReader(bad)); err == nil {
		t.Error("a validity that is none")
	}
}

func TestEntityInsideItsGroups(t *testing.T) {
	doc := etree.NewDocument()
	if err := doc.ReadFromString(fmt.Sprintf(aggregate, "")); err != nil {
		t.Fatal(err)
	}
	found := doc.FindElements("//EntityDescriptor")
	by := func(id string) *etree.Element {
		return found[slices.IndexFunc(found, func(el *etree.Element) bool { return xmlsec.Attr(el, "entityID") == id })]
	}
	ent, err := EntityOf(by("https://login.kestrelridge.example"))
	if err != nil || ent.ID != "https://login.kestrelridge.example" ||
		ent.ValidUntil.Format("2006-01-02") != "2031-03-20" {
		t.Errorf("%+v, %v", ent, err)
	}
	if _, err := EntityOf(by("")); !errors.Is(err, ErrNoEntityID) {
		t.Errorf("without an ID: %v", err)
	}
	// A certificate is one DER sequence.
	for text, want := range map[string]bool{"": false, "MIIB": false, "!!!!": false, "AAAA": false,
		"MBYEFAAAAAAAAAAAAAAAAAAAAAAAAAAA": true, "MBYEFAAAAAAAAAAAAAAAAAAAAAAAAAA=": false,
		"MBUEFAAAAAAAAAAAAAAAAAAAAAAAAAA=": true} {
		if got := derSequence(text); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
}

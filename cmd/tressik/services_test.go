package main

import (
	"slices"
	"testing"
)

// services is the metadata of an app with two ways to use it, each with wishes of its own.
const services = `<md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata"
  entityID="https://plates.kestrelridge.example/saml">
  <md:SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">
    <md:AssertionConsumerService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" index="1"
      Location="https://plates.kestrelridge.example/acs"/>
    <md:AttributeConsumingService index="1" isDefault="true">
      <md:ServiceName xml:lang="en">Log</md:ServiceName>
      <md:RequestedAttribute Name="mail" isRequired="true"/>
    </md:AttributeConsumingService>
    <md:AttributeConsumingService index="4">
      <md:ServiceName xml:lang="en">Archive</md:ServiceName>
      <md:RequestedAttribute Name="displayName"/>
      <md:RequestedAttribute Name="givenName" isRequired="true"/>
    </md:AttributeConsumingService>
  </md:SPSSODescriptor>
</md:EntityDescriptor>`

// TestServicesOfAnApp has an app ask for a service of its own by the index: it gets of what the rules release what that
// service wishes, and is judged by what that one requires. Without an index all is released that the rules say.
func TestServicesOfAnApp(t *testing.T) {
	t.Parallel()
	d := observatory(t)
	d.write("two.xml", services)
	d.ok("app", "add", "plates", "--metadata", "two.xml")
	d.run("federate", "plates", "--with", "ridge", "--admits", "group:observers")
	// each is named as the service that wishes it reads it
	d.fails(0, []string{"displayName", "unspecified", "where the app asks for the service 4 Archive"}, "claims", "set",
		"plates@ridge", "mail=person.mail", "displayName=person.givenName")
	d.fails(0, []string{"required attribute givenName, where the app asks for the service 4 Archive"}, "check",
		"plates@ridge")

	sent := func(service ...string) []string {
		t.Helper()
		var got []struct {
			Verdict string
			Claims  map[string][]string
		}
		d.json(&got, append([]string{"rehearse", "plates@ridge", "--as", "mira"}, service...)...)
		out := []string{got[0].Verdict}
		for name := range got[0].Claims {
			out = append(out, name)
		}
		slices.Sort(out)
		return out
	}
	if got := sent(); !slices.Equal(got, []string{"accepted", "displayName", "mail"}) {
		t.Errorf("without an index: %v", got)
	}
	if got := sent("--suppose", "service=1"); !slices.Equal(got, []string{"accepted", "mail"}) {
		t.Errorf("the default one by its index: %v", got)
	}
	if got := sent("--suppose", "service=4"); !slices.Equal(got, []string{"displayName", "refused"}) {
		t.Errorf("the archive, without what it requires: %v", got)
	}
	d.ok("claims", "set", "plates@ridge", "givenName=person.givenName")
	if got := sent("--suppose", "service=4"); !slices.Equal(got, []string{"accepted", "displayName", "givenName"}) {
		t.Errorf("the archive: %v", got)
	}
	d.fails(3, []string{"AttributeConsumingServiceIndex: 3", "1 or 4"}, "rehearse", "plates@ridge", "--as", "mira",
		"--suppose", "service=3")
	d.fails(2, []string{"service=x"}, "rehearse", "plates@ridge", "--as", "mira", "--suppose", "service=x")

	var p struct {
		Attributes []struct{ Name string }
		Withheld   []string
	}
	d.json(&p, "claims", "preview", "plates@ridge", "--as", "mira", "--service", "4")
	if len(p.Attributes) != 2 || !slices.Equal(p.Withheld, []string{"mail"}) {
		t.Errorf("previewed: %+v", p)
	}
	d.fails(2, []string{"--service 3", "the services of plates: 1 or 4"}, "claims", "preview", "plates@ridge", "--as",
		"mira", "--service", "3")

	// a response is judged by the service that was asked for, and where that is not known it is said
	d.ok("rehearse", "plates@ridge", "--as", "mira", "--suppose", "service=4", "--keep", "kept")
	response := d.path("kept/02-plates@ridge-response.txt")
	request := d.path("kept/01-plates@ridge-request.txt")
	d.fails(0, []string{"4 Archive"}, "inspect", request, "--trust", "plates@ridge", "--every-check")
	d.fails(0, []string{"ACCEPTED", "as the trust releases them"}, "inspect", response, "--trust", "plates@ridge",
		"--service", "4", "--as", "mira", "--every-check")
	d.fails(3, []string{"required attribute mail", "which service of the app was asked for"}, "inspect", response,
		"--trust", "plates@ridge")
	d.fails(2, []string{"--service 9"}, "inspect", response, "--trust", "plates@ridge", "--service", "9")
}

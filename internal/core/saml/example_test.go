package saml_test

import (
	"context"
	"fmt"
	"strings"

	"github.com/beevik/etree"

	"tressik.example/internal/core/saml"
)

// A metadata document of any size is read in one pass, one entity at a time.
func ExampleSurveying_Read() {
	const text = `<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata"
  entityID="https://nightlog.kestrelridge.example">
<SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol"/></EntityDescriptor>`
	look := saml.Surveying{Each: func(l saml.Listed, _ *etree.Element) error {
		fmt.Println(l.EntityID, l.Roles)
		return nil
	}}
	s, err := look.Read(context.Background(), strings.NewReader(text))
	fmt.Println(s.Entities, s.Aggregate, err)
	// Output:
	// https://nightlog.kestrelridge.example [SPSSODescriptor]
	// 1 false <nil>
}

package saml

import (
	"context"
	"slices"
	"strings"
	"testing"
)

// TestCutting cuts entities out of aggregates: each comes in the start tags of its groups, and reads as it did there.
func TestCutting(t *testing.T) {
	const entity = `<m:EntityDescriptor entityID="https://%.example"><x:y xmlns:x="urn:x"> &amp; </x:y>` +
		`</m:EntityDescriptor>`
	of := func(id string) string { return strings.Replace(entity, "%", id, 1) }
	const ns = ` xmlns:m="urn:oasis:names:tc:SAML:2.0:metadata"`
	doc := `<?xml version="1.0"?><!-- first --><m:EntitiesDescriptor` + ns + ` ID="_1" >` + of("a") +
		`<m:EntitiesDescriptor/><m:EntitiesDescriptor validUntil="2031-04-01T00:00:00Z">text` + of("b") +
		`<m:EntitiesDescriptor Name="x">` + of("c") + `</m:EntitiesDescriptor>` + of("b") +
		`</m:EntitiesDescriptor>` + of("d") + `</m:EntitiesDescriptor>`
	want := []string{"https://a.example", "https://b.example", "https://c.example", "https://d.example"}
	o := Cutting{Want: func(id string) bool { return slices.Contains(want, id) }}
	c, err := o.Read(context.Background(), strings.NewReader(doc))
	if err != nil || len(c.IDs) != 5 || c.Times["https://b.example"] != 2 || c.Private || c.Key != -1 ||
		c.Refused != nil {
		t.Fatalf("%+v, %v", c, err)
	}
	root, end := `<m:EntitiesDescriptor`+ns+` ID="_1" >`, `</m:EntitiesDescriptor>`
	for id, is := range map[string]string{"a": root + of("a") + end, "d": root + of("d") + end,
		"c": root + `<m:EntitiesDescriptor validUntil="2031-04-01T00:00:00Z"><m:EntitiesDescriptor Name="x">` +
			of("c") + end + end + end} {
		if got := string(c.Parts["https://"+id+".example"]); got != is {
			t.Errorf("of %s is cut out\n%s\nand not\n%s", id, got, is)
		}
	}
	one, err := o.Read(context.Background(), strings.NewReader(string(c.Parts["https://c.example"])))
	if err != nil || !slices.Equal(one.IDs, []string{"https://c.example"}) {
		t.Errorf("what is cut out: %+v, %v", one, err)
	}
	for _, bad := range []string{doc[:len(doc)-30], strings.Replace(doc, "&amp;", "&bad;", 1), doc + "<x/>"} {
		if _, err := o.Read(context.Background(), strings.NewReader(bad)); err == nil {
			t.Errorf("read: %s", bad)
		}
	}
	private := strings.Replace(doc, "text", "BEGIN PRIVATE KEY", 1)
	if c, err := o.Read(context.Background(), strings.NewReader(private)); err != nil || !c.Private {
		t.Errorf("a private key beside: %+v, %v", c, err)
	}
}

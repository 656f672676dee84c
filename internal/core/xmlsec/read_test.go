package xmlsec

import (
	"bytes"
	"errors"
	"strings"
	"testing"

	dsig "github.com/russellhaering/goxmldsig"
)

var small = Limits{Bytes: 4096, Depth: 8}

func TestParseRefuses(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, in string
		want     error
	}{
		{"empty", "  \n", ErrEmpty},
		{"html", "<!DOCTYPE html><html></html>", ErrHTML},
		{"html without doctype", "<HTML><body/></HTML>", ErrHTML},
		{"doctype", `<!DOCTYPE a SYSTEM "x"><a/>`, ErrDTD},
		{"entity bomb", `<!DOCTYPE a [<!ENTITY x "y"><!ENTITY z "&x;&x;">]><a>&z;</a>`, ErrDTD},
		{"markup declaration inside", `<a><!ELEMENT b ANY></a>`, ErrDTD},
		{"undefined entity", `<a>&nbsp;</a>`, ErrEntity},
		{"character out of range", `<a>&#0;</a>`, ErrEntity},
		{"bare ampersand", `<a>a & b</a>`, ErrMalformed},
		{"truncated in element", `<a><b>`, ErrTruncated},
		{"truncated in tag", `<a b="c"`, ErrTruncated},
		{"truncated in value", `<a b="c`, ErrTruncated},
		{"truncated in comment", `<a><!-- x`, ErrTruncated},
		{"wrong end tag", `<a><b></a></b>`, ErrMalformed},
		{"end tag first", "</a>", ErrMalformed},
		{"two roots", `<a/><b/>`, ErrMalformed},
		{"text before", `x<a/>`, ErrMalformed},
		{"text after", `<a/>x`, ErrMalformed},
		{"processing instruction inside", `<a><?x y?></a>`, ErrMalformed},
		{"unbound prefix", `<p:a/>`, ErrMalformed},
		{"unbound attribute prefix", `<a p:b="c"/>`, ErrMalformed},
		{"two colons", `<a:b:c xmlns:a="u"/>`, ErrMalformed},
		{"empty prefix", `<:a/>`, ErrMalformed},
		{"empty local name", `<a: xmlns:a="u"/>`, ErrMalformed},
		{"attribute twice", `<a b="1" b="2"/>`, ErrMalformed},
		{"attribute twice by namespace", `<a xmlns:p="u" xmlns:q="u" p:b="1" q:b="2"/>`, ErrMalformed},
		{"attribute without quotes", `<a b=c/>`, ErrMalformed},
		{"attributes run together", `<a b="1"c="2"/>`, ErrMalformed},
		{"less-than in value", `<a b="<"/>`, ErrMalformed},
		{"control character", "<a>\x01</a>", ErrMalformed},
		{"not UTF-8", "<a>\xff</a>", ErrMalformed},
		{"cdata end in text", `<a>]]></a>`, ErrMalformed},
		{"reserved prefix", `<a xmlns:xmlns="u"/>`, ErrMalformed},
		{"undeclared prefix by empty name", `<a xmlns:p=""/>`, ErrMalformed},
		{"duplicate ID", `<a ID="x"><b ID="x"/></a>`, ErrDuplicateID},
		{"duplicate ID in other spelling", `<a ID="x"><b Id="x"/></a>`, ErrDuplicateID},
		{"too deep", strings.Repeat("<a>", 9) + strings.Repeat("</a>", 9), ErrTooDeep},
		{"too large", "<a>" + strings.Repeat("x", 5000) + "</a>", ErrTooLarge},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Parse([]byte(c.in), small)
			if !errors.Is(err, c.want) {
				t.Fatalf("got %v, want %v", err, c.want)
			}
			var re *ReadError
			if !errors.As(err, &re) {
				t.Fatalf("%v is no ReadError", err)
			}
		})
	}
}

func TestParseSaysWhere(t *testing.T) {
	t.Parallel()
	_, err := Parse([]byte("<a>\n  <b>\n  <c></b>\n</a>"), small)
	var re *ReadError
	if !errors.As(err, &re) || re.Line != 3 {
		t.Fatalf("got %v, want an error on line 3", err)
	}
}

func TestTextIsNotSplit(t *testing.T) {
	t.Parallel()
	for _, in := range []string{
		`<a>admin@kestrelridge.example<!-- x -->.evil.example</a>`,
		`<a>admin@kestrelridge.example<![CDATA[.evil]]>.example</a>`,
		`<a>admin@kestrelridge.example&#46;evil.<!---->example</a>`,
	} {
		doc, err := Parse([]byte(in), small)
		if err != nil {
			t.Fatal(err)
		}
		if got := Text(doc.Root()); got != "admin@kestrelridge.example.evil.example" {
			t.Errorf("%s: the text is %q", in, got)
		}
	}
}

func TestEncodings(t *testing.T) {
	t.Parallel()
	utf16 := []byte{0xFF, 0xFE}
	for _, c := range "<a>é</a>" {
		utf16 = append(utf16, byte(c), byte(c>>8))
	}
	for name, in := range map[string][]byte{
		"utf-16": utf16, "bom": []byte("\xEF\xBB\xBF<a>é</a>"),
		"latin-1": []byte("<?xml version='1.0' encoding='ISO-8859-1'?><a>\xe9</a>"),
	} {
		doc, err := Parse(in, small)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if Text(doc.Root()) != "é" {
			t.Errorf("%s: %q", name, Text(doc.Root()))
		}
	}
}

// canonicalSamples are documents on which exclusive canonicalization is compared with another implementation.
var canonicalSamples = []string{
	`<a/>`,
	`<a xmlns="u"><b xmlns=""><c xmlns="u"/></b></a>`,
	`<p:a xmlns:p="u" xmlns:q="v" q:z="1" y="2" p:x="3"><q:b/><p:c xmlns:p="w" p:d="é&#xD;&#x9;"/></p:a>`,
	`<a b='"&lt;&#10;' c="'"> text &amp; &gt; <![CDATA[<raw>]]><!-- gone --> </a>`,
	`<r xmlns:x="http://x" xmlns:y="http://y"><x:a><y:b x:k="v"><x:c/></y:b></x:a><y:d/></r>`,
}

func TestExclusiveCanonicalization(t *testing.T) {
	t.Parallel()
	for _, in := range canonicalSamples {
		doc, err := Parse([]byte(in), small)
		if err != nil {
			t.Fatal(err)
		}
		ours, err := Canonicalize(doc.Root(), ExcC14N, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		theirs, err := dsig.MakeC14N10ExclusiveCanonicalizerWithPrefixList("").Canonicalize(doc.Root().Copy())
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(ours, theirs) {
			t.Errorf("%s\nours   %s\ntheirs %s", in, ours, theirs)
		}
	}
	if _, err := Canonicalize(nil, "urn:none", "", nil); err == nil {
		t.Error("an unknown algorithm passed")
	}
}

// FuzzParse holds that whatever is accepted has one reading: written canonically and read again it is the same.
func FuzzParse(f *testing.F) {
	for _, s := range canonicalSamples {
		f.Add([]byte(s))
	}
	f.Add([]byte(`<?xml version="1.0"?><!-- c --><a ID="1">&#x41;</a>`))
	f.Fuzz(func(t *testing.T, in []byte) {
		doc, err := Parse(in, small)
		if err != nil {
			return
		}
		once := Serialize(doc.Root())
		again, err := Parse(once, Limits{Bytes: 1 << 20, Depth: 8})
		if err != nil {
			t.Fatalf("%q was accepted, its canonical form %q is not: %v", in, once, err)
		}
		if twice := Serialize(again.Root()); !bytes.Equal(once, twice) {
			t.Fatalf("%q changes on the way: %q, %q", in, once, twice)
		}
	})
}

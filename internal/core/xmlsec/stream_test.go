package xmlsec

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/beevik/etree"
	dsig "github.com/russellhaering/goxmldsig"

	"tressik.example/internal/testkit/peer"
)

const nsMD = "urn:oasis:names:tc:SAML:2.0:metadata"

func streamOf(b []byte, window int) *Stream {
	s := NewStream(bytes.NewReader(b), nsMD, "EntitiesDescriptor",
		StreamLimits{Bytes: 4 << 20, Part: 4 << 20, Depth: 64})
	s.window = window
	return s
}

// read puts the parts of a document together: their canonical form, the bytes of all, and the elements handed out.
func (d *passDigest) all(s *Stream) (raw string, parts []Part, err error) {
	var to bytes.Buffer
	d.h = hashTo{&to}
	for {
		p, err := s.Next()
		if err == io.EOF {
			d.b = to.Bytes()
			return raw, parts, nil
		}
		if err != nil {
			return raw, parts, err
		}
		d.write(p)
		raw += p.Raw
		parts = append(parts, p)
	}
}

// hashTo keeps what would be digested.
type hashTo struct{ *bytes.Buffer }

func (h hashTo) Sum(b []byte) []byte { return append(b, h.Bytes()...) }
func (h hashTo) Size() int           { return 0 }
func (h hashTo) BlockSize() int      { return 1 }

// alike holds a stream against Parse on the same bytes: the same verdict, the same canonical form of each kind, and
// the same verdict over a signature.
func alike(t *testing.T, b []byte, window int, keys ...crypto.PublicKey) {
	t.Helper()
	doc, perr := Parse(b, Limits{Bytes: 4 << 20, Depth: 64})
	for _, every := range []bool{false, true} {
		d := &passDigest{w: excWriter{every: every}}
		_, _, serr := d.all(streamOf(b, window))
		if (perr == nil) != (serr == nil) {
			t.Fatalf("window %d: Parse says %v, the stream says %v", window, perr, serr)
		}
		if perr != nil {
			var re *ReadError
			if !errors.As(serr, &re) {
				t.Fatalf("window %d: %v is no *ReadError", window, serr)
			}
			continue
		}
		alg := ExcC14N
		if every {
			alg = C14N10
		}
		want, err := Canonicalize(doc.Root(), alg, "", nil)
		if err != nil {
			continue // a document that the module cannot canonicalize
		}
		if got := string(d.b); got != string(want) {
			t.Fatalf("window %d, %s:\n got %q\nwant %q", window, alg, got, want)
		}
	}
	if perr != nil {
		return
	}
	_, verr := Verify(doc.Root(), Policy{Keys: keys})
	_, serr := VerifyStream(context.Background(), streamOf(b, window), Policy{Keys: keys},
		func(Part) error { return nil })
	if serr == nil && verr != nil {
		t.Fatalf("window %d: the stream accepts what Verify refuses: %v", window, verr)
	}
	if verr == nil && serr != nil && !first(doc.Root()) {
		return // the stream wants the Signature in front of the other elements
	}
	if (verr == nil) != (serr == nil) {
		t.Fatalf("window %d: Verify says %v, the stream says %v", window, verr, serr)
	}
}

// first reports whether the Signature is the first child element.
func first(el *etree.Element) bool {
	kids := el.ChildElements()
	return len(kids) > 0 && Is(kids[0], NS, "Signature")
}

func documents() []string {
	group := func(in string) string {
		return `<md:EntitiesDescriptor xmlns:md="` + nsMD + `" ID="g">` + in + `</md:EntitiesDescriptor>`
	}
	return []string{
		"", " ", "<", "<a", "<a>", "<a/>", "<a></a>", "<a/><b/>", "<a/>text", "text<a/>", "</a>",
		"<?xml version='1.0'?>",
		"<?xml version='1.0'?>\r\n<!-- x --><?pi?><a>\r\n</a>\r\n<!-- y -->\n<?pi?>", "<!DOCTYPE a><a/>",
		"<html></html>",
		"\xEF\xBB\xBF<a>\xC3\xA4</a>", "<a>\xFF</a>", "<a>\xEF\xBF\xBE</a>", "<a>&#1;</a>", "<a>&#65;&amp;&lt;</a>",
		"<a>&nope;</a>",
		"\xFF\xFE<\x00a\x00/\x00>\x00", "<?xml version='1.0' encoding='ISO-8859-1'?><a>\xE4</a>", "<a>]]></a>",
		group(""), group(" "), `<EntitiesDescriptor xmlns="` + nsMD + `"/>`, group("<md:EntityDescriptor/>"),
		group("<!-- remark --> <md:EntityDescriptor><![CDATA[<x>&]]>y</md:EntityDescriptor> \n text"),
		group(`<md:EntitiesDescriptor xmlns:a="urn:a"><a:b/><md:EntitiesDescriptor/></md:EntitiesDescriptor>` +
			`<c xmlns="urn:c" xmlns:z="urn:z" z:q="1" b="2" a="3"><d xmlns=""/></c>`),
		group(`<EntitiesDescriptor xmlns="urn:other"><x ID="1"/></EntitiesDescriptor><y ID="1"/>`),
		group(`<EntitiesDescriptor xmlns="urn:other"><x ID="1"/></EntitiesDescriptor><y ID="2"/>`),
		group(`<md:EntityDescriptor ID="1"/><md:EntityDescriptor ID="1"/>`), group(`<md:EntityDescriptor ID="g"/>`),
		group(`<x:y/>`), group("<?pi?>"), group("<!ELEMENT a>"), group("<a></b>"), group("<a>"), group("</a>") + "x",
		group(strings.Repeat("<a>", 70) + strings.Repeat("</a>", 70)), group("<a b='1' b='2'/>"), group("<a b=1/>"),
		group(`<a xml:id="q">` + strings.Repeat("long text ", 400) + `</a>` + strings.Repeat(" ", 3000) + `<b c="` +
			strings.Repeat("x", 2000) + `"/>`),
	}
}

// TestStreamReadsAsParse: through windows of any size, what one refuses the other refuses, and they write the same.
func TestStreamReadsAsParse(t *testing.T) {
	t.Parallel()
	for _, d := range documents() {
		for _, window := range []int{1, 2, 3, 7, 16, 64, 1 << 20} {
			alike(t, []byte(d), window)
		}
	}
}

// TestStreamGivesBackTheBytes: the parts are the document from the document element on, each where it says.
func TestStreamGivesBackTheBytes(t *testing.T) {
	t.Parallel()
	doc := `<md:EntitiesDescriptor xmlns:md="` + nsMD +
		"\">\n <a/>\n\n <md:EntitiesDescriptor><b>x</b></md:EntitiesDescriptor>" +
		"<!-- y --><md:EntitiesDescriptor/>\n</md:EntitiesDescriptor>"
	for _, window := range []int{1, 5, 1 << 20} {
		s := streamOf([]byte("<?xml version='1.0'?>\n"+doc), window)
		raw, parts, err := (&passDigest{}).all(s)
		if err != nil || raw != doc {
			t.Fatalf("window %d: %q, %v", window, raw, err)
		}
		for _, p := range parts {
			whole := "<?xml version='1.0'?>\n" + doc
			if whole[p.Offset:p.Offset+int64(len(p.Raw))] != p.Raw {
				t.Errorf("%q is not at %d", p.Raw, p.Offset)
			}
			if line := 1 + strings.Count(whole[:p.Offset], "\n"); p.Line != line {
				t.Errorf("%q stands in line %d, not %d", p.Raw, line, p.Line)
			}
		}
		if !s.AsItStands() {
			t.Error("the offsets are those of the file")
		}
	}
	s := streamOf([]byte("<a>\r\n</a>"), 3)
	if _, _, err := (&passDigest{}).all(s); err != nil || s.AsItStands() {
		t.Error("with other line ends the offsets are not those of the file", err)
	}
}

// TestStreamBounds: what is larger than it may be is refused before it is all read; an error beneath comes up.
func TestStreamBounds(t *testing.T) {
	t.Parallel()
	endless := func(head string) io.Reader { return io.MultiReader(strings.NewReader(head), zeros{}) }
	for _, c := range []struct {
		name string
		r    io.Reader
		lim  StreamLimits
		want error
	}{
		{"a part", endless("<a>"), StreamLimits{Part: 3 << 20, Depth: 4}, ErrTooLarge},
		{"the document", endless("<a>"), StreamLimits{Bytes: 3 << 20, Part: 64 << 20, Depth: 4}, ErrTooLarge},
		{"text behind the end", endless("<a/>"), StreamLimits{Part: 3 << 20, Depth: 4}, ErrTooLarge},
		{"an error of the reader", iotest.TimeoutReader(iotest.OneByteReader(strings.NewReader("<a></a>"))),
			StreamLimits{Part: 1 << 20, Depth: 4}, iotest.ErrTimeout},
	} {
		s := NewStream(c.r, nsMD, "EntitiesDescriptor", c.lim)
		var err error
		for err == nil {
			_, err = s.Next()
		}
		if !errors.Is(err, c.want) {
			t.Errorf("%s: %v", c.name, err)
		}
		if _, again := s.Next(); again != err {
			t.Errorf("%s: an error is final: %v", c.name, again)
		}
	}
}

// zeros are spaces without an end.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = ' '
	}
	return len(p), nil
}

func signedGroup(t testing.TB, id identity, in string) []byte {
	t.Helper()
	plain := []byte(`<md:EntitiesDescriptor xmlns:md="` + nsMD + `" xmlns:u="urn:unused" ID="_g" Name="all">` + in +
		`</md:EntitiesDescriptor>`)
	var out bytes.Buffer
	r := Rewrite{Signer: &Signer{Key: id.key, Certificate: id.cert, Rand: rand.Reader}}
	if err := r.Write(context.Background(), func() (*Stream, error) { return streamOf(plain, 64), nil },
		&out); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

const twoEntities = "\n  <!-- one --><md:EntityDescriptor ID=\"_1\" entityID=\"https://a.example\"><md:Extensions " +
	"xml:lang='en'>" +
	"a &amp; b</md:Extensions></md:EntityDescriptor>\n  <md:EntitiesDescriptor ID=\"_n\"><md:EntityDescriptor " +
	"entityID=\"b\"/></md:EntitiesDescriptor>\n"

// TestPeersAgreeOnStreams: what a stream signs xmlsec1 and the XML signature module verify, and what xmlsec1 signs, in
// each canonicalization, a stream verifies; whichever octet of the content is changed, each refuses.
func TestPeersAgreeOnStreams(t *testing.T) {
	t.Parallel()
	xmlsec1 := peer.Need(t, "xmlsec1")
	id := newIdentity(t, rsaKey(t))
	dir := t.TempDir()
	verify := func(b []byte) (ours, theirs, module error) {
		file := filepath.Join(dir, "d.xml")
		write(t, file, b)
		theirs = tryRun(xmlsec1, "--verify", "--id-attr:ID", nsMD+":EntitiesDescriptor", "--pubkey-cert-pem",
			id.pemFile, file)
		_, ours = VerifyStream(context.Background(), streamOf(b, 32), Policy{Keys: []crypto.PublicKey{id.key.Public()}},
			func(Part) error { return nil })
		doc := etree.NewDocument()
		if module = doc.ReadFromBytes(b); module == nil {
			store := dsig.MemoryX509CertificateStore{Roots: []*x509.Certificate{id.cert}}
			_, module = dsig.NewDefaultValidationContext(&store).Validate(doc.Root())
		}
		return ours, theirs, module
	}
	ours := signedGroup(t, id, twoEntities)
	if a, b, c := verify(ours); a != nil || b != nil || c != nil {
		t.Fatalf("signed by a stream: %v, xmlsec1 %v, module %v\n%s", a, b, c, ours)
	}
	from := bytes.Index(ours, []byte("</ds:Signature>")) + len("</ds:Signature>")
	for i := from; i < len(ours)-1; i++ {
		b := bytes.Clone(ours)
		b[i] ^= 1
		a, x, _ := verify1(t, b, verify)
		if a == nil || x == nil {
			if (a == nil) != (x == nil) {
				t.Errorf("octet %d, %q: stream %v, xmlsec1 %v", i, b[i-3:i+4], a, x)
			}
		}
	}
	for _, alg := range []string{ExcC14N, ExcC14NComments, C14N10, C14N10Comments, C14N11} {
		for _, prefixes := range []string{"", "u #default"} {
			if prefixes != "" && !strings.HasPrefix(alg, "http://www.w3.org/2001/10/") {
				continue
			}
			b := signedByPeer(t, xmlsec1, id, alg, prefixes)
			if a, x, _ := verify(b); a != nil || x != nil {
				t.Errorf("%s %q: stream %v, xmlsec1 %v\n%s", alg, prefixes, a, x, b)
			}
		}
	}
}

// verify1 spares xmlsec1 what the stream refuses as XML.
func verify1(t *testing.T, b []byte, verify func([]byte) (error, error, error)) (ours, theirs, module error) {
	t.Helper()
	if _, err := Parse(b, MetadataLimits()); err != nil {
		return err, err, err
	}
	return verify(b)
}

func tryRun(name string, args ...string) error {
	if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

func signedByPeer(t *testing.T, xmlsec1 string, id identity, alg, prefixes string) []byte {
	t.Helper()
	list := ""
	if prefixes != "" {
		list = `<ec:InclusiveNamespaces xmlns:ec="http://www.w3.org/2001/10/xml-exc-c14n#" PrefixList="` +
			prefixes + `"/>`
	}
	template := `<md:EntitiesDescriptor xmlns:md="` + nsMD +
		`" xmlns:u="urn:unused" xmlns="urn:default" ID="_g" Name="all">
<ds:Signature xmlns:ds="` + NS + `"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="` + alg + `"/>
<ds:SignatureMethod Algorithm="http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"/><ds:Reference URI="#_g">` +
		`<ds:Transforms>
<ds:Transform Algorithm="` + enveloped + `"/><ds:Transform Algorithm="` + alg + `">` + list +
		`</ds:Transform></ds:Transforms>
<ds:DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/><ds:DigestValue/></ds:Reference></ds:SignedInfo>
<ds:SignatureValue/></ds:Signature>` + twoEntities + `<x><y xmlns=""/></x></md:EntitiesDescriptor>`
	in, out := filepath.Join(t.TempDir(), "in.xml"), filepath.Join(t.TempDir(), "out.xml")
	write(t, in, []byte(template))
	run(t, xmlsec1, "--sign", "--id-attr:ID", nsMD+":EntitiesDescriptor", "--privkey-pem", id.keyFile, "--output", out,
		in)
	b, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestStreamRefusesWrappings: in whatever place a signed aggregate is kept, beside or around a forged one, a stream
// refuses the whole, and so does the reader of trees.
func TestStreamRefusesWrappings(t *testing.T) {
	t.Parallel()
	id := newIdentity(t, rsaKey(t))
	policy := Policy{Keys: []crypto.PublicKey{id.key.Public()}}
	genuine := string(signedGroup(t, id, twoEntities))
	_, genuine, _ = strings.Cut(genuine, "?>\n")
	genuine = strings.TrimSpace(genuine)
	begin, end := strings.Index(genuine, "<ds:Signature "), strings.Index(genuine,
		"</ds:Signature>")+len("</ds:Signature>")
	sig, bare := genuine[begin:end], genuine[:begin]+genuine[end:]
	const evil = `<md:EntityDescriptor entityID="https://evil.example"/>`
	around := func(id, in string) string {
		return `<md:EntitiesDescriptor xmlns:md="` + nsMD + `" ID="` + id + `">` + in + `</md:EntitiesDescriptor>`
	}
	in := func(s, what, with string) string {
		if !strings.Contains(s, what) {
			t.Fatalf("%q is not in it", what)
		}
		return strings.Replace(s, what, with, 1)
	}
	object := in(sig, "</ds:Signature>", "<ds:Object>"+bare+"</ds:Object></ds:Signature>")
	for name, c := range map[string]struct {
		doc    string
		reason Reason // "" where it is no XML that is read
	}{
		"inside a forged group":       {around("_e", evil+genuine), NoSignature},
		"in front of a forged entity": {around("_e", genuine+evil), NoSignature},
		"in Extensions": {around("_e", "<md:Extensions>"+genuine+"</md:Extensions>"+evil),
			NoSignature},
		"signature on the forged group":       {around("_e", sig+evil), BadReference},
		"the same, the ID copied":             {around("_g", sig+evil), Changed},
		"the same, the genuine one in Object": {around("_e", object+evil), BadReference},
		"Object, and the ID copied":           {around("_g", object+evil), ""},
		"the same, the genuine one behind":    {around("_e", sig+evil+bare), BadReference},
		"ID under another attribute name": {in(around("_e", sig+evil+bare), ` ID="_e"`, ` Id="_e" ID="_e2"`),
			BadReference},
		"xml:id in place of ID": {in(around("_e", sig+evil), ` ID="_e"`, ` xml:id="_g"`), BadReference},
		"an entity added": {in(genuine, "</md:EntitiesDescriptor>\n</md",
			evil+"</md:EntitiesDescriptor>\n</md"), Changed},
		"an entity added in front": {in(genuine, sig, evil+sig), BadShape},
		"inside its own signature": {in(genuine, "</ds:Signature>",
			"<ds:Object>"+evil+"</ds:Object></ds:Signature>"), BadReference},
		"inside the signature, of another kind": {in(genuine, "</ds:Signature>", evil+"</ds:Signature>"), BadShape},
		"an encrypted element with it": {around("_e",
			`<xenc:EncryptedData xmlns:xenc="`+EncNS+`">`+genuine+`</xenc:EncryptedData>`+evil), NoSignature},
		"two signatures": {in(genuine, sig, sig+in(sig, "<ds:SignedInfo>", "<ds:SignedInfo> ")),
			BadShape},
		"a second one behind": {in(genuine, "\n</md:EntitiesDescriptor>",
			"\n"+sig+"</md:EntitiesDescriptor>"), BadShape},
		"several references": {in(genuine, "</ds:Reference>",
			`</ds:Reference><ds:Reference URI="#_1"></ds:Reference>`), BadReference},
		"an empty reference":      {in(genuine, `URI="#_g"`, `URI=""`), BadReference},
		"a reference without URI": {in(genuine, ` URI="#_g"`, ``), BadReference},
		"another transform": {in(genuine, `<ds:Transform Algorithm="`+ExcC14N+`">`,
			`<ds:Transform Algorithm="http://www.w3.org/TR/1999/REC-xslt-19991116">`), BadAlgorithm},
		"no enveloped-signature transform": {in(genuine, `<ds:Transform Algorithm="`+enveloped+`"></ds:Transform>`, ``),
			BadReference},
		"another digest method": {in(genuine, "xmlenc#sha256", "xmldsig-more#md5"), BadAlgorithm},
		"an HMAC": {in(genuine, "xmldsig-more#rsa-sha256", "xmldsig-more#hmac-sha256"),
			BadAlgorithm},
		"the ID twice": {in(genuine, `ID="_1"`, `ID="_g"`), ""},
		"no signature": {bare, NoSignature},
	} {
		given := 0
		_, err := VerifyStream(context.Background(), streamOf([]byte(c.doc), 128), policy,
			func(Part) error { given++; return nil })
		var se *SignatureError
		var re *ReadError
		switch {
		case err == nil:
			t.Errorf("%s: accepted", name)
		case c.reason == "" && !errors.As(err, &re), c.reason != "" && (!errors.As(err, &se) || se.Reason != c.reason):
			t.Errorf("%s: %v, not for %q", name, err, c.reason)
		}
		if doc, err := Parse([]byte(c.doc), MetadataLimits()); err == nil {
			if _, err := Verify(doc.Root(), policy); err == nil && name != "an entity added in front" {
				t.Errorf("%s: accepted by Verify", name)
			}
		}
	}
	if _, err := VerifyStream(context.Background(), streamOf([]byte(genuine), 128), policy,
		func(Part) error { return nil }); err != nil {
		t.Errorf("the genuine one: %v", err)
	}
}

// TestRewriteKeepsTheBytes: what stays is as it was, what goes takes its white space along, and an old signature goes.
func TestRewriteKeepsTheBytes(t *testing.T) {
	t.Parallel()
	id := newIdentity(t, rsaKey(t))
	signed := signedGroup(t, id, twoEntities)
	var out bytes.Buffer
	r := Rewrite{Root: func(el *etree.Element) { el.CreateAttr("ID", "_new") },
		Keep: func(p Part) bool { return Attr(p.Element, "ID") != "_1" }}
	if err := r.Write(context.Background(), func() (*Stream, error) { return streamOf(signed, 16), nil },
		&out); err != nil {
		t.Fatal(err)
	}
	want := `<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<md:EntitiesDescriptor xmlns:md="` + nsMD +
		`" xmlns:u="urn:unused" ID="_new" Name="all">` + "\n  <!-- one --><md:EntitiesDescriptor ID=\"_n\">" +
		"<md:EntityDescriptor entityID=\"b\"/></md:EntitiesDescriptor>\n</md:EntitiesDescriptor>\n"
	if out.String() != want {
		t.Errorf("got  %q\nwant %q", out.String(), want)
	}
	err := r.Write(context.Background(), func() (*Stream, error) { return streamOf([]byte("<a/>"), 16), nil },
		io.Discard)
	if !errors.Is(err, ErrNoGroup) {
		t.Errorf("no group: %v", err)
	}
}

// FuzzStream holds a stream against Parse and Verify on any bytes.
func FuzzStream(f *testing.F) {
	for _, d := range documents() {
		f.Add([]byte(d), uint8(5))
	}
	id := newIdentity(f, rsaKey(f))
	f.Add(signedGroup(f, id, twoEntities), uint8(200))
	f.Fuzz(func(t *testing.T, b []byte, window uint8) {
		alike(t, b, int(window)+1, id.key.Public())
	})
}

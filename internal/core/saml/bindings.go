package saml

import (
	"bytes"
	"compress/flate"
	"encoding/base64"
	"errors"
	"fmt"
	"html"
	"io"
	"net/url"
	"strings"
	"sync"

	"github.com/beevik/etree"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/xmlsec"
)

// Errors of taking a message out of its binding.
var (
	ErrNoMessage  = errors.New("neither SAMLRequest nor SAMLResponse")
	ErrBadBase64  = errors.New("invalid base64")
	ErrBadDeflate = errors.New("invalid DEFLATE data")
	ErrEncoding   = errors.New("an encoding that is not known")
)

// encodingDeflate is the one encoding of the Redirect binding (section 3.4.4.1).
const encodingDeflate = "urn:oasis:names:tc:SAML:2.0:bindings:URL-Encoding:DEFLATE"

// looksXML reports whether bytes begin as XML does.
func looksXML(b []byte) bool {
	return bytes.HasPrefix(bytes.TrimSpace(bytes.TrimPrefix(b, []byte{0xEF, 0xBB, 0xBF})), []byte("<"))
}

// Carried is a message taken out of a binding (SAML Bindings, sections 3.4 and 3.5).
type Carried struct {
	Parameter  string // SAMLRequest or SAMLResponse
	Binding    string // "" where it is not known by which one it came
	Deflated   bool   // it was compressed; whether that is right is its binding's to say
	Wrapped    bool   // it stood in the header and the checksum of zlib, which no binding has
	XML        []byte
	RelayState string
	SigAlg     string // Redirect only
	Signature  []byte // Redirect only; nil if unsigned
	Octets     []byte // Redirect only: what the signature covers
}

// Root is the local name of the message's root element, such as AuthnRequest; "" where it is no XML.
func (c *Carried) Root() string {
	b := c.XML
	for {
		i := bytes.IndexByte(b, '<')
		if i < 0 || i+1 >= len(b) {
			return ""
		}
		if b = b[i+1:]; b[0] != '?' && b[0] != '!' {
			break
		}
	}
	name := b
	if i := bytes.IndexAny(b, " \t\r\n/>"); i >= 0 {
		name = b[:i]
	}
	return string(name[bytes.IndexByte(name, ':')+1:])
}

// inflaters and deflaters keep decompressors and compressors for reuse: making one takes half as long as an RSA
// signature.
var inflaters = sync.Pool{New: func() any { return flate.NewReader(bytes.NewReader(nil)) }}

var deflaters = sync.Pool{New: func() any {
	w, err := flate.NewWriter(io.Discard, flate.BestSpeed)
	if err != nil {
		panic(err) // the level is a constant that flate knows
	}
	return w
}}

// EncodeRedirect puts a message into the query of a URL, DEFLATE encoded, signed if a signer is given (section 3.4.4).
func EncodeRedirect(location, parameter string, xml []byte, relayState string, s *xmlsec.Signer) (string, error) {
	var z bytes.Buffer
	w := deflaters.Get().(*flate.Writer)
	defer deflaters.Put(w)
	w.Reset(&z)
	if _, err := w.Write(xml); err != nil {
		return "", err
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	q := parameter + "=" + url.QueryEscape(base64.StdEncoding.EncodeToString(z.Bytes()))
	if relayState != "" {
		q += "&RelayState=" + url.QueryEscape(relayState)
	}
	if s != nil {
		method, err := xmlsec.MethodFor(s.Key.Public())
		if err != nil {
			return "", err
		}
		q += "&SigAlg=" + url.QueryEscape(method)
		sig, err := xmlsec.SignOctets(s.Rand, s.Key, method, []byte(q))
		if err != nil {
			return "", err
		}
		q += "&Signature=" + url.QueryEscape(base64.StdEncoding.EncodeToString(sig))
	}
	sep := "?"
	if strings.Contains(location, "?") {
		sep = "&"
	}
	return location + sep + q, nil
}

// DecodeRedirect takes a message out of a raw query. The octets a signature covers are taken as they stand, not encoded
// again (section 3.4.4.1). Errors: ErrNoMessage, ErrBadBase64, ErrBadDeflate, ErrEncoding.
func DecodeRedirect(rawQuery string) (*Carried, error) {
	raw := map[string]string{}
	for _, pair := range strings.Split(rawQuery, "&") {
		k, v, _ := strings.Cut(pair, "=")
		switch k {
		case "SAMLRequest", "SAMLResponse", "RelayState", "SigAlg", "Signature", "SAMLEncoding":
			if _, twice := raw[k]; twice {
				return nil, fmt.Errorf("%s stands in the query twice", k)
			}
			raw[k] = v
		}
	}
	c := &Carried{Binding: BindingRedirect, Parameter: "SAMLRequest"}
	if _, ok := raw["SAMLRequest"]; !ok {
		c.Parameter = "SAMLResponse"
	} else if _, both := raw["SAMLResponse"]; both {
		return nil, errors.New("SAMLRequest and SAMLResponse stand in one query")
	}
	enc, ok := raw[c.Parameter]
	if !ok {
		return nil, ErrNoMessage
	}
	text, err := url.QueryUnescape(enc)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.Parameter, err)
	}
	z, err := decode64(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", c.Parameter, err)
	}
	switch x, wrapped, err := Inflate(z); {
	case err == nil:
		c.XML, c.Deflated, c.Wrapped = x, true, wrapped
	case looksXML(z): // read all the same, so that it can be said what is wrong with it
		c.XML = z
	default:
		return nil, fmt.Errorf("%s: %w", c.Parameter, err)
	}
	if how, err := url.QueryUnescape(raw["SAMLEncoding"]); err != nil || how != "" && how != encodingDeflate {
		return nil, fmt.Errorf("SAMLEncoding: %w: %s", ErrEncoding, how)
	}
	if c.RelayState, err = url.QueryUnescape(raw["RelayState"]); err != nil {
		return nil, fmt.Errorf("RelayState: %w", err)
	}
	if s, ok := raw["Signature"]; ok {
		if c.SigAlg, err = url.QueryUnescape(raw["SigAlg"]); err != nil {
			return nil, fmt.Errorf("SigAlg: %w", err)
		}
		text, err := url.QueryUnescape(s)
		if err != nil {
			return nil, fmt.Errorf("Signature: %w", err)
		}
		if c.Signature, err = decode64(text); err != nil {
			return nil, fmt.Errorf("Signature: %w", err)
		}
		o := c.Parameter + "=" + enc
		if rs, ok := raw["RelayState"]; ok {
			o += "&RelayState=" + rs
		}
		c.Octets = []byte(o + "&SigAlg=" + raw["SigAlg"])
	}
	return c, nil
}

// Inflate undoes DEFLATE, up to the size of a message. wrapped says that it stood between the header and the checksum
// of zlib (RFC 1950), which no binding has: what many languages call compression writes them. Errors: ErrBadDeflate.
func Inflate(z []byte) (out []byte, wrapped bool, err error) {
	if out, err = inflate(z); err == nil {
		return out, false, nil
	}
	if len(z) > 2 && z[0]&0x0f == 8 && (int(z[0])<<8|int(z[1]))%31 == 0 {
		if x, err := inflate(z[2:]); err == nil {
			return x, true, nil
		}
	}
	return nil, false, err
}

func inflate(z []byte) ([]byte, error) {
	r := inflaters.Get().(io.ReadCloser)
	defer inflaters.Put(r)
	if err := r.(flate.Resetter).Reset(bytes.NewReader(z), nil); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrBadDeflate, err)
	}
	var out bytes.Buffer
	out.Grow(4 * len(z))
	if _, err := out.ReadFrom(io.LimitReader(r, int64(xmlsec.MessageLimits().Bytes)+1)); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrBadDeflate, err)
	}
	return out.Bytes(), nil
}

// DecodePOST takes a message out of a form (section 3.5.4).
func DecodePOST(form url.Values) (*Carried, error) {
	for _, k := range []string{"SAMLResponse", "SAMLRequest", "RelayState"} {
		if len(form[k]) > 1 {
			return nil, fmt.Errorf("%s stands in the form %d times", k, len(form[k]))
		}
	}
	c := &Carried{Binding: BindingPOST, RelayState: form.Get("RelayState"), Parameter: "SAMLResponse"}
	text := form.Get("SAMLResponse")
	if r := form.Get("SAMLRequest"); form.Has("SAMLRequest") {
		if form.Has("SAMLResponse") {
			return nil, errors.New("SAMLRequest and SAMLResponse stand in one form")
		}
		c.Parameter, text = "SAMLRequest", r
	}
	if text == "" {
		return nil, ErrNoMessage
	}
	var err error
	if c.XML, err = decode64(text); err != nil {
		return nil, fmt.Errorf("%s: %w", c.Parameter, err)
	}
	if !looksXML(c.XML) { // libraries that compress for the one binding often do for the other
		if x, wrapped, err := Inflate(c.XML); err == nil && looksXML(x) {
			c.XML, c.Deflated, c.Wrapped = x, true, wrapped
		}
	}
	return c, nil
}

// judgeCarriage judges whether a message came in the parameter and the encoding that its binding gives it (sections
// 3.4.4 and 3.5.4). It returns what cannot be known; "" where all is.
func judgeCarriage(out *finding.List, c *Carried, el *etree.Element, side finding.Side) (unknown string) {
	if c == nil {
		return ""
	}
	fail := func(check, saw, expected, fix, ref string) {
		out.Add(finding.Finding{ID: finding.SAMLEncoding, Level: finding.Error, Check: check, Saw: saw,
			Expected: expected, Side: side, Fix: finding.Do(fix), Ref: ref})
	}
	want := "SAMLResponse"
	if strings.HasSuffix(el.Tag, "Request") {
		want = "SAMLRequest"
	}
	if c.Parameter != "" && c.Parameter != want {
		fail("parameter", "<"+el.Tag+"> in "+c.Parameter, want, "send it in the parameter "+want,
			"SAML Bindings 3.4.4 and 3.5.4")
	}
	switch {
	case c.Wrapped && c.Binding != BindingPOST:
		fail("encoding", "compressed with the header of zlib", "DEFLATE alone, then base64",
			"have the sender leave the header and the checksum out (raw DEFLATE)", "SAML Bindings 3.4.4.1")
	case c.Binding == BindingPOST && c.Deflated:
		fail("encoding", "compressed (DEFLATE), in a form", "base64 of the XML as it is",
			"switch off compression for HTTP-POST at the sender: many libraries compress unless they are told, and "+
				"only HTTP-Redirect does", "SAML Bindings 3.5.4")
	case c.Binding == BindingRedirect && !c.Deflated:
		fail("encoding", "base64 without compression, in a URL", "DEFLATE, then base64",
			"have the sender compress what goes by HTTP-Redirect, or send it by HTTP-POST", "SAML Bindings 3.4.4.1")
	case c.Binding == "" && c.Deflated && el.Tag == "Response":
		fail("encoding", "compressed (DEFLATE)", "base64 of the XML, in a form",
			"switch off compression for HTTP-POST at the sender; no response comes by HTTP-Redirect",
			"SAML Bindings 3.5.4")
	case c.Binding == "" && c.Deflated:
		unknown = "whether it came by HTTP-Redirect: in a form it must not be compressed"
	}
	if c.Binding == BindingRedirect && xmlsec.Child(el, xmlsec.NS, "Signature") != nil {
		fail("signature", "in the XML, of a message in a URL", "in the query (SigAlg, Signature)",
			"have the sender sign the query; what is inside is not verified there", "SAML Bindings 3.4.4.1")
	}
	return unknown
}

func decode64(s string) ([]byte, error) {
	if strings.ContainsAny(s, " \r\n\t") {
		s = strings.Join(strings.Fields(s), "")
	}
	b, err := base64.StdEncoding.DecodeString(s)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrBadBase64, err)
	}
	return b, nil
}

// PostScript is the one script of a POST binding page; its hash goes into the content security policy.
const PostScript = `document.forms[0].submit()`

// PostPage returns the page that posts a message to a location (section 3.5.4). Every value is escaped; base64 has
// nothing to escape.
func PostPage(location, parameter string, xml []byte, relayState string) []byte {
	b := make([]byte, 0, 1024+len(location)+len(relayState)+base64.StdEncoding.EncodedLen(len(xml)))
	b = append(b, `<!DOCTYPE html>
<html lang="en"><head><meta charset="utf-8"><title>Passing on</title></head>
<body><form method="post" action="`...)
	b = append(b, html.EscapeString(location)...)
	b = append(b, `"><input type="hidden" name="`+html.EscapeString(parameter)+`" value="`...)
	b = base64.StdEncoding.AppendEncode(b, xml)
	b = append(b, `">`...)
	if relayState != "" {
		b = append(b, `<input type="hidden" name="RelayState" value="`+html.EscapeString(relayState)+`">`...)
	}
	return append(b, `<noscript><p>Scripts are off.</p></noscript><button>Continue</button></form>
<script>`+PostScript+`</script></body></html>
`...)
}

// VerifyRedirect checks the signature of a Redirect binding with the keys of the sender. Every failure is a
// *xmlsec.SignatureError.
func (c *Carried) VerifyRedirect(p xmlsec.Policy) error {
	if c.Signature == nil {
		return &xmlsec.SignatureError{Reason: xmlsec.NoSignature, Detail: "the query carries no Signature"}
	}
	var last error = &xmlsec.SignatureError{Reason: xmlsec.NoKey, Detail: "no key is known to verify it with"}
	for _, k := range p.Keys {
		if last = xmlsec.VerifyOctets(k, c.SigAlg, c.Octets, c.Signature, p.AllowSHA1); last == nil {
			return nil
		}
	}
	return last
}

// Decode64 reads base64 as it is found in messages: padded, white space anywhere. Errors: ErrBadBase64.
func Decode64(s string) ([]byte, error) { return decode64(s) }

// Decode64URL reads base64url without padding (RFC 7515, section 2).
func Decode64URL(s string) ([]byte, error) { return base64.RawURLEncoding.DecodeString(s) }

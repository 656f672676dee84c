package xmlsec

import (
	"bytes"
	"crypto"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"github.com/beevik/etree"
)

// Reason says why a signature is refused.
type Reason string

// The reasons for which a signature is refused.
const (
	NoSignature   Reason = "missing"   // the element carries no signature
	BadShape      Reason = "shape"     // the Signature element is not as XML Signature and SAML Core 5.4 want it
	BadReference  Reason = "covers"    // it covers something else than the element that carries it
	BadAlgorithm  Reason = "algorithm" // unknown algorithm or transform
	WeakAlgorithm Reason = "weak"      // SHA-1 or a short key
	WrongKey      Reason = "key"       // made with another key, or its SignedInfo was changed
	Changed       Reason = "changed"   // the content differs from what was signed
	NoKey         Reason = "nokey"     // no key is known to verify it with
)

// Reasons lists the reasons for which a signature is refused.
func Reasons() []Reason {
	return []Reason{NoSignature, BadShape, BadReference, BadAlgorithm, WeakAlgorithm, WrongKey, Changed, NoKey}
}

// SignatureError is the reason and detail of a refused signature.
type SignatureError struct {
	Reason Reason
	Detail string
}

func (e *SignatureError) Error() string { return "signature refused: " + e.Detail }

func sigErr(r Reason, format string, args ...any) *SignatureError {
	return &SignatureError{Reason: r, Detail: fmt.Sprintf(format, args...)}
}

// Policy is what a verifier accepts. Keys come from the ledger, never from the message.
type Policy struct {
	Keys      []crypto.PublicKey
	AllowSHA1 bool
}

// Verified is the outcome of a good signature.
type Verified struct {
	Key    int    // index of the key in the policy
	Method string // signature method identifier
	SHA1   bool   // SHA-1 stands in the signature method or the digest
}

// SignatureOf returns the Signature child of an element, or nil. More than one is an error of reason BadShape.
func SignatureOf(el *etree.Element) (*etree.Element, error) {
	sigs := Children(el, NS, "Signature")
	switch len(sigs) {
	case 0:
		return nil, nil
	case 1:
		return sigs[0], nil
	}
	return nil, sigErr(BadShape, "%d signatures stand in <%s>; one is allowed", len(sigs), el.Tag)
}

// Verify checks the enveloped signature that the element carries as its own child: one Reference, to that very element,
// with no transform but enveloped-signature and a canonicalization, and no Object. After it returns without an error,
// exactly this element without its Signature child may be read. Every failure is a *SignatureError.
func Verify(el *etree.Element, p Policy) (Verified, error) {
	var v Verified
	sig, err := SignatureOf(el)
	if err != nil {
		return v, err
	}
	if sig == nil {
		return v, sigErr(NoSignature, "<%s> carries no signature", el.Tag)
	}
	x, err := examine(el, sig, p)
	if err != nil {
		return x.found, err
	}
	h := x.hash.New()
	if err := digestOver(h, el, x.algorithm, x.prefixes, sig); err != nil {
		return x.found, sigErr(BadAlgorithm, "%v", err)
	}
	return x.check(el, h.Sum(nil), p)
}

// examined is what a Signature says of itself, before anything of it holds.
type examined struct {
	found               Verified
	info, c14n          *etree.Element
	value, digest       []byte
	method              method
	hash                crypto.Hash
	algorithm, prefixes string // canonicalization of the content, without comments
}

// examine takes the Signature of an element apart and refuses one that could not hold whatever its content.
func examine(el, sig *etree.Element, p Policy) (x examined, err error) {
	if x.info, x.value, err = shape(sig); err != nil {
		return x, err
	}
	x.c14n = Child(x.info, NS, "CanonicalizationMethod")
	x.found.Method = Attr(Child(x.info, NS, "SignatureMethod"), "Algorithm")
	var ok bool
	if x.method, ok = methodOf(x.found.Method); !ok {
		return x, sigErr(BadAlgorithm, "signature method %q is not accepted", x.found.Method)
	}
	ref, err := reference(el, x.info)
	if err != nil {
		return x, err
	}
	digestID := Attr(Child(ref, NS, "DigestMethod"), "Algorithm")
	if x.hash, ok = digestOf(digestID); !ok {
		return x, sigErr(BadAlgorithm, "digest method %q is not accepted", digestID)
	}
	x.found.SHA1 = x.method.hash == crypto.SHA1 || x.hash == crypto.SHA1
	if x.found.SHA1 && !p.AllowSHA1 {
		return x, sigErr(WeakAlgorithm, "it uses SHA-1 (%s, %s)", short(x.found.Method), short(digestID))
	}
	alg, prefixes, err := transforms(ref)
	if err != nil {
		return x, err
	}
	// A same-document reference holds no comments, whatever the canonicalization (XML Signature 1.1, section 4.4.3.3).
	x.algorithm, x.prefixes = withoutComments(alg), prefixes
	x.digest, err = decode64(Text(Child(ref, NS, "DigestValue")))
	if err != nil || len(x.digest) == 0 {
		return x, sigErr(BadShape, "DigestValue is not base64")
	}
	return x, nil
}

// check compares the digest of the content with the signed one, and verifies the signature.
func (x *examined) check(el *etree.Element, digest []byte, p Policy) (Verified, error) {
	if !bytes.Equal(digest, x.digest) {
		return x.found, sigErr(Changed, "the content of <%s> is not what was signed (digest differs)", el.Tag)
	}
	h := x.method.hash.New()
	if err := digestOver(h, x.info, Attr(x.c14n, "Algorithm"), inclusivePrefixes(x.c14n), nil); err != nil {
		return x.found, sigErr(BadAlgorithm, "%v", err)
	}
	if len(p.Keys) == 0 {
		return x.found, sigErr(NoKey, "no key is known to verify it with")
	}
	sum := h.Sum(nil)
	var last error
	for i, key := range p.Keys {
		if last = verifySum(key, x.method, sum, x.value); last == nil {
			x.found.Key = i
			return x.found, nil
		}
	}
	return x.found, last
}

// shape takes a Signature apart and refuses whatever XML Signature allows but SAML does not need.
func shape(sig *etree.Element) (info *etree.Element, value []byte, err error) {
	if count(sig, "Object") > 0 {
		return nil, nil, sigErr(BadReference, "the signature carries an Object, in which content can hide")
	}
	if err := holds(sig, "SignedInfo", "SignatureValue", "KeyInfo"); err != nil {
		return nil, nil, err
	}
	if count(sig, "SignedInfo") != 1 || count(sig, "SignatureValue") != 1 || count(sig, "KeyInfo") > 1 {
		return nil, nil, sigErr(BadShape, "it must have one SignedInfo, one SignatureValue and at most one KeyInfo")
	}
	info = Child(sig, NS, "SignedInfo")
	if err := holds(info, "CanonicalizationMethod", "SignatureMethod", "Reference"); err != nil {
		return nil, nil, err
	}
	for _, n := range [...]string{"CanonicalizationMethod", "SignatureMethod", "Reference"} {
		if got := count(info, n); got != 1 {
			return nil, nil, sigErr(BadReference, "SignedInfo has %d %s elements; exactly one is accepted", got, n)
		}
	}
	value, derr := decode64(Text(Child(sig, NS, "SignatureValue")))
	if derr != nil || len(value) == 0 {
		return nil, nil, sigErr(BadShape, "SignatureValue is not base64")
	}
	return info, value, nil
}

// holds refuses children of an element of a signature that its schema does not have.
func holds(el *etree.Element, names ...string) error {
	for c := range Elements(el) {
		if Namespace(c) != NS || !slices.Contains(names, c.Tag) {
			return sigErr(BadShape, "<%s> does not belong into <%s> of a signature", c.FullTag(), el.Tag)
		}
	}
	return nil
}

// count is how many children with a local name of XML Signature an element has.
func count(el *etree.Element, local string) int {
	n := 0
	for range All(el, NS, local) {
		n++
	}
	return n
}

// reference returns the one Reference, which must point at the element that carries the signature.
func reference(el, info *etree.Element) (*etree.Element, error) {
	ref := Child(info, NS, "Reference")
	if !HasAttr(ref, "URI") {
		return nil, sigErr(BadReference, "its Reference has no URI")
	}
	uri, id := Attr(ref, "URI"), Attr(el, "ID")
	switch {
	case uri == "":
		return nil, sigErr(BadReference, "its Reference means the whole document; SAML wants the ID of <%s>", el.Tag)
	case id == "" || uri != "#"+id:
		return nil, sigErr(BadReference, "it covers %q, and the element that carries it is %q", uri, "#"+id)
	}
	if err := holds(ref, "Transforms", "DigestMethod", "DigestValue"); err != nil {
		return nil, err
	}
	for _, n := range [...]string{"Transforms", "DigestMethod", "DigestValue"} {
		if count(ref, n) != 1 {
			return nil, sigErr(BadShape, "its Reference must have one %s", n)
		}
	}
	return ref, nil
}

// transforms returns the canonicalization of a Reference (SAML Core, section 5.4.4).
func transforms(ref *etree.Element) (algorithm, prefixes string, err error) {
	algorithm = C14N10 // XML Signature, section 4.4.3.2: the default
	sawEnveloped, sawC14N := false, false
	for t := range Elements(Child(ref, NS, "Transforms")) {
		a := Attr(t, "Algorithm")
		switch {
		case !Is(t, NS, "Transform"):
			return "", "", sigErr(BadShape, "<%s> among the transforms", t.FullTag())
		case a == enveloped && !sawEnveloped && !sawC14N:
			sawEnveloped = true
		case (a == ExcC14N || a == ExcC14NComments || a == C14N10 || a == C14N10Comments || a == C14N11 ||
			a == C14N11Comments) && !sawC14N:
			sawC14N = true
			algorithm, prefixes = a, inclusivePrefixes(t)
		default:
			return "", "", sigErr(BadAlgorithm, "transform %q is not accepted here", a)
		}
	}
	if !sawEnveloped {
		return "", "", sigErr(BadReference, "the enveloped-signature transform is missing")
	}
	return algorithm, prefixes, nil
}

// withoutComments is the variant of a canonicalization that leaves comments out.
func withoutComments(alg string) string {
	switch alg {
	case ExcC14NComments:
		return ExcC14N
	case C14N10Comments:
		return C14N10
	case C14N11Comments:
		return C14N11
	}
	return alg
}

func inclusivePrefixes(el *etree.Element) string {
	return Attr(Child(el, "http://www.w3.org/2001/10/xml-exc-c14n#", "InclusiveNamespaces"), "PrefixList")
}

func decode64(s string) ([]byte, error) {
	if strings.ContainsAny(s, " \t\n") {
		s = strings.Join(strings.Fields(s), "")
	}
	return base64.StdEncoding.DecodeString(s)
}

// short returns the part of an algorithm identifier behind the last # or /.
func short(id string) string {
	if i := strings.LastIndexAny(id, "#/"); i >= 0 {
		return id[i+1:]
	}
	return id
}

// ShortAlgorithm returns the readable end of an algorithm identifier, such as "rsa-sha256".
func ShortAlgorithm(id string) string { return short(strings.TrimSuffix(id, "#")) }

package xmlsec

import (
	"crypto/rand"
	"crypto/rsa"
	"sync"
	"testing"

	"github.com/beevik/etree"
)

var fuzzKey = sync.OnceValue(func() *rsa.PrivateKey {
	k, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	return k
})

// FuzzFragment reads decrypted content: what comes out is one element that serializes to what reads the same.
func FuzzFragment(f *testing.F) {
	f.Add([]byte(`<saml:Assertion ID="_1"><saml:Issuer>x</saml:Issuer></saml:Assertion>`))
	f.Add([]byte(`<a xmlns="urn:x"/><b/>`))
	f.Add([]byte("\xff<a>"))
	f.Add([]byte(`<!DOCTYPE a><a>&b;</a>`))
	scope := map[string]string{"saml": "urn:oasis:names:tc:SAML:2.0:assertion"}
	f.Fuzz(func(t *testing.T, b []byte) {
		el, err := ParseFragment(b, Limits{Bytes: 64 << 10, Depth: 32}, scope)
		if err != nil {
			return
		}
		if el == nil || el.Tag == "" {
			t.Fatal("no error and no element")
		}
		_ = Serialize(el)
	})
}

// FuzzDecrypt decrypts whatever an EncryptedData holds: one error, and no panic.
func FuzzDecrypt(f *testing.F) {
	f.Add(AES256GCM, RSAOAEP, "AAAA", "AAAA")
	f.Add(AES128CBC, RSAOAEP11, "", "=")
	f.Add("x", "y", "z", "w")
	f.Fuzz(func(t *testing.T, content, transport, key, sealed string) {
		data := New("xenc:EncryptedData", "xmlns:xenc", EncNS)
		Add(data, "xenc:EncryptionMethod", "Algorithm", content)
		ek := Add(Add(data, "ds:KeyInfo", "xmlns:ds", NS), "xenc:EncryptedKey")
		Add(ek, "xenc:EncryptionMethod", "Algorithm", transport)
		AddText(Add(ek, "xenc:CipherData"), "xenc:CipherValue", key)
		AddText(Add(data, "xenc:CipherData"), "xenc:CipherValue", sealed)
		etree.NewDocument().SetRoot(data)
		if el, err := Decrypt(data, []*rsa.PrivateKey{fuzzKey()}); err == nil {
			t.Fatalf("something that nobody encrypted came out: %v", el)
		}
	})
}

package xmlsec

import (
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"

	"github.com/beevik/etree"
)

// XML Encryption 1.1 identifiers.
const (
	EncNS       = "http://www.w3.org/2001/04/xmlenc#"
	Enc11NS     = "http://www.w3.org/2009/xmlenc11#"
	AES128CBC   = EncNS + "aes128-cbc"
	AES256CBC   = EncNS + "aes256-cbc"
	AES128GCM   = Enc11NS + "aes128-gcm"
	AES256GCM   = Enc11NS + "aes256-gcm"
	RSAOAEP     = EncNS + "rsa-oaep-mgf1p" // mask generation with SHA-1, the form every implementation reads
	RSAOAEP11   = Enc11NS + "rsa-oaep"
	elementType = EncNS + "Element"
)

// ErrDecrypt is the one error for content that does not decrypt: which step failed is not told (padding oracles).
var ErrDecrypt = errors.New("it does not decrypt")

// ErrEncryptionAlgorithm is for an algorithm outside the accepted ones.
var ErrEncryptionAlgorithm = errors.New("encryption algorithm not accepted")

// ErrNoRecipientKey means that no private key is there to decrypt with.
var ErrNoRecipientKey = errors.New("no private key to decrypt with")

// Encrypt returns an EncryptedData element (XML Encryption 1.1, section 3.4) that holds the element, encrypted to the
// certificate's RSA key with RSA-OAEP. algorithm is one of the AES identifiers; "" means AES-256-GCM.
func Encrypt(rand io.Reader, el *etree.Element, to *x509.Certificate, algorithm string) (*etree.Element, error) {
	pub, ok := to.PublicKey.(*rsa.PublicKey)
	if !ok {
		return nil, fmt.Errorf("the encryption certificate has a key of type %T; RSA is needed", to.PublicKey)
	}
	if algorithm == "" {
		algorithm = AES256GCM
	}
	size, gcm, ok := cipherOf(algorithm)
	if !ok {
		return nil, fmt.Errorf("%w: %q", ErrEncryptionAlgorithm, algorithm)
	}
	key := make([]byte, size)
	if _, err := io.ReadFull(rand, key); err != nil {
		return nil, err
	}
	sealed, err := seal(rand, key, gcm, Serialize(el))
	if err != nil {
		return nil, err
	}
	wrapped, err := rsa.EncryptOAEP(sha1.New(), rand, pub, key, nil)
	if err != nil {
		return nil, fmt.Errorf("encrypting the content key: %w", err)
	}
	data := New("xenc:EncryptedData", "xmlns:xenc", EncNS, "Type", elementType)
	Add(data, "xenc:EncryptionMethod", "Algorithm", algorithm)
	info := Add(data, "ds:KeyInfo", "xmlns:ds", NS)
	ek := Add(info, "xenc:EncryptedKey")
	em := Add(ek, "xenc:EncryptionMethod", "Algorithm", RSAOAEP)
	Add(em, "ds:DigestMethod", "Algorithm", digestSHA1)
	AddText(Add(ek, "xenc:CipherData"), "xenc:CipherValue", base64.StdEncoding.EncodeToString(wrapped))
	AddText(Add(data, "xenc:CipherData"), "xenc:CipherValue", base64.StdEncoding.EncodeToString(sealed))
	return data, nil
}

// Decrypt returns the element inside an EncryptedData, trying each EncryptedKey with each private key. The
// EncryptedKeys stand in its KeyInfo or beside it (SAML Core, section 2.3.4); those for others are passed over.
// Whatever fails once the algorithm of the content is known is ErrDecrypt: which step it was is not told. Errors:
// ErrDecrypt, ErrEncryptionAlgorithm, ErrNoRecipientKey.
func Decrypt(data *etree.Element, keys []*rsa.PrivateKey) (*etree.Element, error) {
	if len(keys) == 0 {
		return nil, ErrNoRecipientKey
	}
	alg := Attr(Child(data, EncNS, "EncryptionMethod"), "Algorithm")
	size, gcm, ok := cipherOf(alg)
	if !ok {
		return nil, fmt.Errorf("%w: %q", ErrEncryptionAlgorithm, alg)
	}
	eks := Children(Child(data, NS, "KeyInfo"), EncNS, "EncryptedKey")
	if p := data.Parent(); p != nil {
		eks = append(eks, Children(p, EncNS, "EncryptedKey")...)
	}
	if len(eks) == 0 || len(eks) > 16 {
		return nil, ErrDecrypt
	}
	sealed, err := decode64(Text(Path(data, EncNS, "CipherData", "CipherValue")))
	if err != nil {
		return nil, ErrDecrypt
	}
	var unknown error // of the transports, where none is known
	for _, ek := range eks {
		h, mgf, label, err := oaep(ek)
		if err != nil {
			unknown = err
			continue
		}
		wrapped, err := decode64(Text(Path(ek, EncNS, "CipherData", "CipherValue")))
		if err != nil {
			continue
		}
		for _, k := range keys {
			key, err := k.Decrypt(nil, wrapped, &rsa.OAEPOptions{Hash: h, MGFHash: mgf, Label: label})
			if err != nil || len(key) != size {
				continue
			}
			plain, err := unseal(key, gcm, sealed)
			if err != nil {
				continue
			}
			if el, err := ParseFragment(plain, MessageLimits(), Scope(data)); err == nil {
				return el, nil
			}
		}
	}
	if unknown != nil && len(eks) == 1 {
		return nil, unknown
	}
	return nil, ErrDecrypt
}

func cipherOf(alg string) (keySize int, gcm, ok bool) {
	switch alg {
	case AES128CBC:
		return 16, false, true
	case AES256CBC:
		return 32, false, true
	case AES128GCM:
		return 16, true, true
	case AES256GCM:
		return 32, true, true
	}
	return 0, false, false
}

// oaep reads the parameters of RSA-OAEP (XML Encryption 1.1, section 5.5.2).
func oaep(ek *etree.Element) (h, mgf crypto.Hash, label []byte, err error) {
	em := Child(ek, EncNS, "EncryptionMethod")
	alg := Attr(em, "Algorithm")
	h, mgf = crypto.SHA1, crypto.SHA1
	if d := Child(em, NS, "DigestMethod"); d != nil {
		var ok bool
		if h, ok = digestOf(Attr(d, "Algorithm")); !ok {
			return 0, 0, nil, fmt.Errorf("%w: OAEP digest %q", ErrEncryptionAlgorithm, Attr(d, "Algorithm"))
		}
	}
	switch alg {
	case RSAOAEP:
	case RSAOAEP11:
		if m := Child(em, Enc11NS, "MGF"); m != nil {
			switch Attr(m, "Algorithm") {
			case Enc11NS + "mgf1sha1":
			case Enc11NS + "mgf1sha256":
				mgf = crypto.SHA256
			case Enc11NS + "mgf1sha384":
				mgf = crypto.SHA384
			case Enc11NS + "mgf1sha512":
				mgf = crypto.SHA512
			default:
				return 0, 0, nil, fmt.Errorf("%w: mask generation %q", ErrEncryptionAlgorithm, Attr(m, "Algorithm"))
			}
		}
	default:
		return 0, 0, nil, fmt.Errorf("%w: key transport %q", ErrEncryptionAlgorithm, alg)
	}
	if p := Child(em, EncNS, "OAEPparams"); p != nil {
		if label, err = decode64(Text(p)); err != nil {
			return 0, 0, nil, ErrDecrypt
		}
	}
	return h, mgf, label, nil
}

func seal(rand io.Reader, key []byte, gcm bool, plain []byte) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if gcm {
		nonce := make([]byte, 12)
		if _, err := io.ReadFull(rand, nonce); err != nil {
			return nil, err
		}
		a, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		return a.Seal(nonce, nonce, plain, nil), nil
	}
	pad := aes.BlockSize - len(plain)%aes.BlockSize
	buf := make([]byte, aes.BlockSize+len(plain)+pad)
	if _, err := io.ReadFull(rand, buf[:aes.BlockSize]); err != nil {
		return nil, err
	}
	copy(buf[aes.BlockSize:], plain)
	buf[len(buf)-1] = byte(pad)
	cipher.NewCBCEncrypter(block, buf[:aes.BlockSize]).CryptBlocks(buf[aes.BlockSize:], buf[aes.BlockSize:])
	return buf, nil
}

func unseal(key []byte, gcm bool, sealed []byte) ([]byte, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if gcm {
		a, err := cipher.NewGCM(block)
		if err != nil || len(sealed) < 12+16 {
			return nil, ErrDecrypt
		}
		return a.Open(nil, sealed[:12], sealed[12:], nil)
	}
	n := len(sealed)
	if n < 2*aes.BlockSize || n%aes.BlockSize != 0 {
		return nil, ErrDecrypt
	}
	out := make([]byte, n-aes.BlockSize)
	cipher.NewCBCDecrypter(block, sealed[:aes.BlockSize]).CryptBlocks(out, sealed[aes.BlockSize:])
	pad := int(out[len(out)-1])
	if pad == 0 || pad > aes.BlockSize {
		return nil, ErrDecrypt
	}
	return out[:len(out)-pad], nil
}

package command

import (
	"bytes"
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"

	"filippo.io/age"
	"software.sslmate.com/src/go-pkcs12"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/keyring"
)

// certificates reads the certificate of a key with the chain above it.
func (a *App) certificates(flag, path string) (own *x509.Certificate, above []*x509.Certificate, err error) {
	b, err := a.readFile(flag, path)
	if err != nil || b == nil {
		return nil, nil, err
	}
	own, above, err = keys.ParseChain(b)
	if errors.Is(err, keys.ErrChain) {
		return nil, nil, fmt.Errorf("%s: %s: %w; put the key's own certificate first, then that of its "+
			"authority, then "+
			"the one above it", flag, path, err)
	}
	if err != nil {
		_, err = a.certificate(flag, path) // which says what is wrong with a single one
	}
	return own, above, err
}

// password reads the first line of a file, or asks for a password on the terminal where no file is named.
func (a *App) password(path string) (string, error) {
	if f := a.keyboard(); path == "" && f != nil {
		return a.askHidden(f, "Password: ")
	}
	b, err := a.readFile("--password-file", path)
	if err != nil {
		return "", err
	}
	line, _, _ := strings.Cut(string(b), "\n")
	return strings.TrimSuffix(line, "\r"), nil
}

// privateKey reads the file of a --key, with the password of a --password-file where it is under one; nil without a
// file.
func (a *App) privateKey(path, passwordFile string) (crypto.Signer, error) {
	b, err := a.readFile("--key", path)
	if b == nil || err != nil {
		return nil, err
	}
	key, err := keys.ParsePrivate(b)
	if errors.Is(err, keys.ErrLocked) && (passwordFile != "" || a.canAsk()) {
		var word string
		if word, err = a.password(passwordFile); err != nil {
			return nil, err
		}
		key, err = keys.ParseLocked(b, []byte(word))
	}
	switch {
	case errors.Is(err, keys.ErrLocked), errors.Is(err, keys.ErrWrongPassword):
		return nil, fmt.Errorf("--key: %s: %w; put it into the first line of --password-file", path, err)
	case err != nil:
		return nil, fmt.Errorf("--key: %s: %w; give an RSA, ECDSA P-256 or P-384 "+
			"private key in PEM: PKCS #8, PKCS #1 or SEC 1", path, err)
	}
	return key, nil
}

// pkcs12Key reads the one key of a PKCS #12 file, with its certificate and the chain above it.
func (a *App) pkcs12Key(path, passwordFile string) (key crypto.Signer, own *x509.Certificate, above []*x509.Certificate,
	err error) {
	b, err := a.readFile("--pkcs12", path)
	if err != nil {
		return nil, nil, nil, err
	}
	word, err := a.password(passwordFile)
	if err != nil {
		return nil, nil, nil, err
	}
	any, own, others, err := pkcs12.DecodeChain(b, word)
	switch {
	case errors.Is(err, pkcs12.ErrIncorrectPassword):
		return nil, nil, nil, fmt.Errorf("--pkcs12: %s: the password is wrong; put it into the first line of "+
			"--password-file", path)
	case err != nil:
		return nil, nil, nil, fmt.Errorf("--pkcs12: %s: %w", path, err)
	}
	key, ok := any.(crypto.Signer)
	if !ok {
		return nil, nil, nil, fmt.Errorf("--pkcs12: %s: a key of type %T does not sign", path, any)
	}
	return key, own, keys.Above(own, others), nil
}

// privateFile is where a private half goes, and how it is kept from others: under a password, or for an age recipient.
type privateFile struct{ path, word, to string }

// exportPrivate writes a key with its private half, for its owner's eyes alone.
func (a *App) exportPrivate(d *desk.Desk, r *keyring.Ring, k *federation.OwnKey, f privateFile) error {
	if f.path == "" || (f.word == "") == (f.to == "") {
		return usageError{errors.New("--private needs --out FILE, and either --password-file FILE (PKCS #12) or --to " +
			"RECIPIENT (age): a private half is written into a file alone, and never in the clear")}
	}
	private, err := keyKeeper(d).Private(r.Party.Name, k)
	if err != nil {
		return err
	}
	var b []byte
	whoever := "whoever has it and the password signs as "
	if f.to != "" {
		b, err = forRecipient(private, f.to)
		whoever = "whoever holds the identity of that recipient signs as "
	} else {
		b, err = a.pkcs12(private, k, f.word)
	}
	if err != nil {
		return err
	}
	if err := a.mayReplace(f.path); err != nil {
		return err
	}
	if err := writeWith(f.path, b, 0o600); err != nil {
		return err
	}
	return a.print(format.Page{Data: layout.KeyData(r, k), Blocks: []format.Block{{Lines: []string{fmt.Sprintf(
		"key %s of %s written to %s with its private half: %s%s", k.ID, r.Party.Name, f.path, whoever,
		r.Party.Name)}}}})
}

// pkcs12 writes a key with its certificate and the chain above it as PKCS #12.
func (a *App) pkcs12(private crypto.Signer, k *federation.OwnKey, passwordFile string) ([]byte, error) {
	word, err := a.password(passwordFile)
	if err != nil {
		return nil, err
	}
	if len(word) < 12 {
		return nil, usageError{fmt.Errorf("the password in %s has %d characters; use at least 12", passwordFile,
			len(word))}
	}
	b, err := pkcs12.Modern.Encode(private, k.Certificate, k.Chain, word)
	if err != nil {
		return nil, fmt.Errorf("writing PKCS #12: %w", err)
	}
	return b, nil
}

// forRecipient writes a key as PKCS #8 in PEM, encrypted to an age recipient.
func forRecipient(private crypto.Signer, to string) ([]byte, error) {
	list, err := age.ParseRecipients(strings.NewReader(to))
	if err != nil || len(list) != 1 {
		return nil, usageError{fmt.Errorf("--to %q is no age recipient; it looks like age1 and 58 more letters and "+
			"digits",
			to)}
	}
	plain, err := keys.MarshalPrivate(private)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w, err := age.Encrypt(&out, list...)
	if err == nil {
		_, err = w.Write(plain)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("encrypting: %w", err)
	}
	return out.Bytes(), nil
}

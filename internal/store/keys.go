package store

import (
	"crypto"
	"crypto/x509"
	"fmt"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/keys"
)

// AddKey stores a private key of an own party sealed in the ledger, at a place, with the certificates of the
// authorities above its own.
func (tx *Tx) AddKey(party, use, place string, key crypto.Signer, cert *x509.Certificate,
	chain ...*x509.Certificate) error {
	pem, err := keys.MarshalPrivate(key)
	if err != nil {
		return err
	}
	sealed, err := tx.seal(pem)
	if err != nil {
		return fmt.Errorf("sealing the key: %w", err)
	}
	now, announced := text(tx.l.Now()), ""
	if place == federation.Announced {
		announced = now
	}
	_, err = tx.tx.Exec("INSERT INTO keys (party, use, place, certificate, sealed, since, announced, chain) VALUES "+
		"(?, ?, ?, ?, ?, ?, ?, ?)",
		party, use, place, cert.Raw, sealed, now, announced, joined(chain))
	if err != nil {
		return err
	}
	return tx.note("key.add", party, "", nil, map[string]string{"key": federation.KeyID(cert.PublicKey), "use": use,
		"place": place, "certificate": cert.Subject.String(), "notAfter": cert.NotAfter.UTC().Format(time.RFC3339)})
}

// Keys lists the keys of an own party without their private halves, in the order in which they were made.
func (l *Ledger) Keys(party string) ([]federation.OwnKey, error) {
	rows, err := l.db.Query("SELECT use, place, certificate, since, announced, chain FROM keys WHERE party = ? ORDER "+
		"BY id", party)
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	var out []federation.OwnKey
	for rows.Next() {
		var k federation.OwnKey
		var der, chain []byte
		var since, announced string
		if err := rows.Scan(&k.Use, &k.Place, &der, &since, &announced, &chain); err != nil {
			return nil, err
		}
		if k.Certificate, err = x509.ParseCertificate(der); err != nil {
			return nil, fmt.Errorf("a certificate of %s: %w", party, err)
		}
		if k.Chain, err = x509.ParseCertificates(chain); err != nil {
			return nil, fmt.Errorf("the chain of a certificate of %s: %w", party, err)
		}
		k.ID, k.Since, k.Announced = federation.KeyID(k.Certificate.PublicKey), moment(since), moment(announced)
		out = append(out, k)
	}
	return out, translated(rows.Err())
}

// PrivateKey opens one key of an own party. Errors: ErrNotFound, ErrSealKey.
func (l *Ledger) PrivateKey(party string, k *federation.OwnKey) (crypto.Signer, error) {
	key, _, err := l.sealedKey("SELECT certificate, sealed FROM keys WHERE party = ? AND certificate = ?", party,
		k.Certificate.Raw)
	return key, err
}

// PlaceKey puts a key of an own party at another place.
func (tx *Tx) PlaceKey(party string, k *federation.OwnKey, place string) error {
	announced := ""
	if place == federation.Announced {
		announced = text(tx.l.Now())
	}
	_, err := tx.tx.Exec(`UPDATE keys SET place = ?, since = ?, announced = CASE WHEN ? = '' THEN announced ELSE ? END
		WHERE party = ? AND certificate = ?`, place, text(tx.l.Now()), announced, announced, party, k.Certificate.Raw)
	if err != nil {
		return err
	}
	return tx.note("key.place", party, "", map[string]string{"key": k.ID, "place": k.Place},
		map[string]string{"key": k.ID, "place": place})
}

// RemoveKey takes a key of an own party away for good.
func (tx *Tx) RemoveKey(party string, k *federation.OwnKey) error {
	if _, err := tx.tx.Exec("DELETE FROM keys WHERE party = ? AND certificate = ?", party, k.Certificate.Raw); err != nil {
		return err
	}
	return tx.note("key.remove", party, "", map[string]string{"key": k.ID, "use": k.Use, "place": k.Place}, nil)
}

// Recertify gives a key of an own party another certificate, with the chain above it.
func (tx *Tx) Recertify(party string, k *federation.OwnKey, cert *x509.Certificate, chain []*x509.Certificate) error {
	_, err := tx.tx.Exec("UPDATE keys SET certificate = ?, chain = ? WHERE party = ? AND certificate = ?", cert.Raw,
		joined(chain),
		party, k.Certificate.Raw)
	if err != nil {
		return err
	}
	return tx.note("key.certify", party, "", map[string]string{"key": k.ID,
		"certificate": keys.Fingerprint(k.Certificate)},
		map[string]string{"key": k.ID, "certificate": keys.Fingerprint(cert)})
}

// joined writes certificates one behind another, as x509.ParseCertificates reads them.
func joined(chain []*x509.Certificate) []byte {
	out := []byte{}
	for _, c := range chain {
		out = append(out, c.Raw...)
	}
	return out
}

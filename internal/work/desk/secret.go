package desk

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/near"
	"tressik.example/internal/model"
)

// HashSecret is what is kept of a client secret.
func HashSecret(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// AddSecret makes a client secret of 256 random bits. The secret itself is returned once and not kept.
func (d *Desk) AddSecret(name string, life time.Duration,
	note string) (*federation.Secret, string, finding.List, error) {
	return d.newSecret(name, life, note, "")
}

// newSecret makes a secret; renews is the ID of the one whose place it takes, "" for none.
func (d *Desk) newSecret(name string, life time.Duration, note, renews string) (*federation.Secret, string,
	finding.List, error) {
	t, app, provider, err := d.OIDCTrust(name)
	if err != nil {
		return nil, "", nil, err
	}
	c := app.ClientSide()
	switch {
	case t.Standing == federation.Ended:
		return nil, "", nil, fmt.Errorf("%s %w", name, ErrEnded)
	case c == nil:
		return nil, "", nil, fmt.Errorf("%s has no client side any more", app.Name)
	case !provider.Own:
		return nil, "", nil, fmt.Errorf("%s is foreign: it issues the secrets of its clients; ask its owner",
			provider.Name)
	case c.Kind.Public():
		return nil, "", nil,
			fmt.Errorf("%s is a %s client, which can keep no secret: whoever has the app has it. It needs none, PKCE "+
				"protects its codes", app.Name, c.Kind)
	}
	if len(note) > 200 || strings.ContainsAny(note, "\r\n\t") {
		return nil, "", nil, finding.Errorf("%s is %w: one line of at most 200 characters", finding.FieldNote, ErrValue)
	}
	found := federation.JudgeSecretLife(life)
	if found.Failed() {
		return nil, "", nil, finding.Errorf("%s %s is %w: a secret lasts at most 400 days", finding.FieldLasts,
			federation.SpanWords(life), ErrValue)
	}
	b := make([]byte, 32+5)
	if _, err := io.ReadFull(d.Rand, b); err != nil {
		return nil, "", nil, err
	}
	secret := base64.RawURLEncoding.EncodeToString(b[:32])
	now := d.Now().UTC().Truncate(time.Second)
	s := &federation.Secret{ID: "s-" + hex.EncodeToString(b[32:]), Trust: name, Hash: HashSecret(secret),
		EndsIn: secret[len(secret)-4:], Note: note, Added: now, Expires: now.Add(life), Renews: renews}
	return s, secret, found, d.Change(func(tx *model.Edit) error { return tx.AddSecret(s) })
}

// RetireSecret makes a secret invalid. last reports whether it was the last valid one.
func (d *Desk) RetireSecret(name, id string, dry bool) (s *federation.Secret, last bool, err error) {
	t, _, _, err := d.OIDCTrust(name)
	if err != nil {
		return nil, false, err
	}
	all, err := d.View.Secrets(name)
	if err != nil {
		return nil, false, err
	}
	var ids []string
	valid := 0
	for i := range all {
		ids = append(ids, all[i].ID)
		if all[i].ID == id {
			s = &all[i]
		} else if all[i].Standing(d.Now()) == "valid" {
			valid++
		}
	}
	if s == nil {
		return nil, false, &UnknownError{What: "secret of " + name, Name: id, Near: near.Names(id, ids),
			Add: "see `tressik secret list " + name + "`"}
	}
	if s.Retired != nil {
		return nil, false, fmt.Errorf("the secret %s is retired already, since %s", id,
			s.Retired.Format("2006-01-02 15:04 UTC"))
	}
	last = valid == 0 && t.OIDCTerms().JWKS == ""
	if dry {
		return s, last, nil
	}
	return s, last, d.Change(func(tx *model.Edit) error { return tx.RetireSecret(s) })
}

// Valid tells which secrets are valid at a time.
func Valid(now time.Time) func(federation.Secret) bool {
	return func(s federation.Secret) bool { return s.Standing(now) == "valid" }
}

package store

import (
	"errors"
	"fmt"
	"time"

	"tressik.example/internal/core/federation"
)

func text(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

func moment(s string) time.Time {
	t, _ := time.Parse(time.RFC3339, s) // "" is the zero time
	return t
}

// Secrets lists the secrets of a trust, oldest first; "" lists those of all trusts.
func (l *Ledger) Secrets(trust string) ([]federation.Secret, error) {
	rows, err := ofTrust(l, `SELECT id, trust, hash, hint, note, added, expires, retired, used FROM secrets`, trust,
		"added, rowid")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := []federation.Secret{}
	for rows.Next() {
		var s federation.Secret
		var added, expires, retired, used string
		if err := rows.Scan(&s.ID, &s.Trust, &s.Hash, &s.EndsIn, &s.Note, &added, &expires, &retired, &used); err != nil {
			return nil, translated(err)
		}
		s.Added, s.Expires = moment(added), moment(expires)
		if retired != "" {
			t := moment(retired)
			s.Retired = &t
		}
		if used != "" {
			t := moment(used)
			s.Used = &t
		}
		out = append(out, s)
	}
	return out, translated(rows.Err())
}

// AddSecret keeps what is to be known of a new secret.
func (tx *Tx) AddSecret(s *federation.Secret) error {
	if _, err := tx.tx.Exec("INSERT INTO secrets VALUES (?, ?, ?, ?, ?, ?, ?, '', '')", s.ID, s.Trust, s.Hash, s.EndsIn,
		s.Note, text(s.Added), text(s.Expires)); err != nil {
		return err
	}
	return tx.note("secret.add", "", s.Trust, nil, s)
}

// RetireSecret makes a secret invalid from now on.
func (tx *Tx) RetireSecret(s *federation.Secret) error {
	res, err := tx.tx.Exec("UPDATE secrets SET retired = ? WHERE id = ? AND retired = ''", text(tx.l.Now()), s.ID)
	if err := onlyOne(res, err, s.ID); err != nil {
		return err
	}
	return tx.note("secret.retire", "", s.Trust, nil, map[string]string{"id": s.ID, "endsIn": s.EndsIn})
}

// Consents lists the consents of a trust; "" lists those of all trusts.
func (l *Ledger) Consents(trust string) ([]federation.Consent, error) {
	rows, err := ofTrust(l, "SELECT trust, api, name, how, person, standing, by, admin, at FROM consents", trust,
		"trust, api, name, how, person")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	out := []federation.Consent{}
	for rows.Next() {
		var c federation.Consent
		var at string
		if err := rows.Scan(&c.Trust, &c.API, &c.Name, &c.As, &c.For, &c.Standing, &c.By, &c.Admin, &at); err != nil {
			return nil, translated(err)
		}
		c.At = moment(at)
		out = append(out, c)
	}
	return out, translated(rows.Err())
}

// PutConsents keeps consents of one trust, each in place of what was there for the same permission and person.
func (tx *Tx) PutConsents(action string, list []federation.Consent) error {
	for i := range list {
		c := &list[i]
		if _, err := tx.tx.Exec(`INSERT INTO consents SELECT ?, ?, ?, ?, ?, ?, ?, ?, ?
			WHERE EXISTS (SELECT 1 FROM trusts WHERE name = ?)
			ON CONFLICT (trust, api, name, how, person) DO UPDATE
			SET standing = excluded.standing, by = excluded.by, admin = excluded.admin, at = excluded.at`,
			c.Trust, c.API, c.Name, c.As, c.For, c.Standing, c.By, c.Admin, text(c.At), c.Trust); err != nil {
			return err
		}
		if err := tx.note(action, "", c.Trust, nil, c); err != nil {
			return err
		}
	}
	return nil
}

// SettleRequests takes away the requests that a consent for everyone, or for the person, has met.
func (tx *Tx) SettleRequests(c *federation.Consent) error {
	_, err := tx.tx.Exec(`DELETE FROM consents WHERE trust = ? AND api = ? AND name = ? AND how = ?
		AND standing = 'requested' AND ? IN ('', person)`,
		c.Trust, c.API, c.Name, c.As, c.For)
	return err
}

// ForgetAsk takes away the consents and uses of a permission that is no longer asked for.
func (tx *Tx) ForgetAsk(trust string, a federation.Ask) error {
	for _, table := range []string{"consents", "uses"} {
		if _, err := tx.tx.Exec("DELETE FROM "+table+" WHERE trust = ? AND api = ? AND name = ? AND how = ?", trust, a.API,
			a.Name, a.As); err != nil {
			return err
		}
	}
	return nil
}

// Uses lists what was seen of the permissions of a trust; "" lists those of all trusts.
func (l *Ledger) Uses(trust string) ([]federation.Use, error) {
	rows, err := ofTrust(l, "SELECT trust, api, name, how, issued, presented FROM uses", trust, "trust, api, name, how")
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	var out []federation.Use
	for rows.Next() {
		var u federation.Use
		var issued, presented string
		if err := rows.Scan(&u.Trust, &u.API, &u.Name, &u.As, &issued, &presented); err != nil {
			return nil, translated(err)
		}
		u.Issued, u.Presented = moment(issued), moment(presented)
		out = append(out, u)
	}
	return out, translated(rows.Err())
}

// Sightings are what a stage saw since the last time: uses of permissions, and secrets by ID with the time of their
// use.
type Sightings struct {
	Uses    []federation.Use
	Secrets map[string]time.Time
}

// Saw keeps sightings. They are readings, not changes that somebody made, so the journal does not have them.
func (tx *Tx) Saw(s Sightings) error {
	for _, u := range s.Uses {
		_, err := tx.tx.Exec(`INSERT INTO uses SELECT ?, ?, ?, ?, ?, ? WHERE EXISTS (SELECT 1 FROM trusts WHERE name = ?)
			ON CONFLICT (trust, api, name, how) DO UPDATE
			SET issued = max(issued, excluded.issued), presented = max(presented, excluded.presented)`,
			u.Trust, u.API, u.Name, u.As, text(u.Issued), text(u.Presented), u.Trust)
		if err != nil {
			return err
		}
	}
	for id, at := range s.Secrets {
		if _, err := tx.tx.Exec("UPDATE secrets SET used = max(used, ?) WHERE id = ?", text(at), id); err != nil {
			return err
		}
	}
	return nil
}

// APIs lists the apps that have an api side, by name.
func (l *Ledger) APIs() (map[string]*federation.Party, error) {
	all, err := loadAll(l, func(p *federation.Party, v int64) { p.Version = v },
		"SELECT doc, version FROM parties WHERE json_extract(doc, '$.api.audience') IS NOT NULL AND +kind = ?",
		string(federation.App)) // by its index: there are few among many apps
	if err != nil {
		return nil, err
	}
	out := map[string]*federation.Party{}
	for i := range all {
		out[all[i].Name] = &all[i]
	}
	return out, nil
}

// uniqueness says of a broken constraint of the parties what must be unique.
func (tx *Tx) uniqueness(p *federation.Party, err error) error {
	for _, c := range []struct{ what, query, value string }{
		{"entity ID", "SELECT name FROM parties WHERE kind = ? AND entity = ? AND name <> ?", p.Entity.ID},
		{"audience", "SELECT name FROM parties WHERE kind = ? AND json_extract(doc, '$.api.audience') = ? AND name <> ?",
			audience(p)},
		{"issuer",
			"SELECT name FROM parties WHERE kind = ? AND json_extract(doc, '$.openid.discovery.issuer') = ? AND name <> ?",
			issuer(p)},
	} {
		var other string
		if c.value != "" && tx.tx.QueryRow(c.query, string(p.Kind), c.value, p.Name).Scan(&other) == nil {
			return fmt.Errorf("the %s %s is %w: %s has it", c.what, c.value, ErrExists, other)
		}
	}
	return errors.Join(ErrExists, err)
}

func audience(p *federation.Party) string {
	if p.API == nil {
		return ""
	}
	return p.API.Audience
}

func issuer(p *federation.Party) string {
	if p.OpenID == nil {
		return ""
	}
	return p.OpenID.Discovery.Issuer
}

// identity is what the table keeps unique for a party: its entity ID, or a stand-in of its name where it has none.
func identity(p *federation.Party) string {
	if p.Entity.ID != "" {
		return p.Entity.ID
	}
	return "name:" + p.Name
}

// Consented keeps consents, each journaled by what it is, and settles the requests that they answer.
func (tx *Tx) Consented(list []federation.Consent) error {
	actions := map[string]string{federation.Consented: "consent.give", federation.Withdrawn: "consent.withdraw",
		federation.Requested: "consent.request"}
	for i := range list {
		if list[i].Standing == federation.Consented {
			if err := tx.SettleRequests(&list[i]); err != nil {
				return err
			}
		}
		if err := tx.PutConsents(actions[list[i].Standing], list[i:i+1]); err != nil {
			return err
		}
	}
	return nil
}

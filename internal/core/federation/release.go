package federation

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"time"

	"admin.tressik.example/internal/core/claims"
	"admin.tressik.example/internal/core/finding"
	"admin.tressik.example/internal/core/people"
	"admin.tressik.example/internal/core/saml"
)

// Releaser works out what a trust sends for a person.
type Releaser struct {
	trust   *Trust
	appID   string
	salt    []byte
	rules   *claims.Release
	subject *claims.Program
	rand    io.Reader
}

// NewReleaser compiles the claims of a trust. salt is the trust's secret for pseudonyms.
func NewReleaser(e *claims.Engine, t *Trust, app *Party, salt []byte, rand io.Reader) (*Releaser, error) {
	rules, err := e.Prepare(t.Rules)
	if err != nil {
		return nil, err
	}
	r := &Releaser{trust: t, appID: app.Entity.ID, salt: salt, rules: rules, rand: rand}
	if expr := t.SubjectExpression(); expr != "" {
		if r.subject, err = e.Compile(expr); err != nil {
			return nil, fmt.Errorf("subject: %w", err)
		}
	}
	return r, nil
}

// Subject returns the name identifier for a person (SAML Core, section 8.3).
func (r *Releaser) Subject(p *people.Person) (saml.Subject, error) {
	s := saml.Subject{Format: r.trust.SubjectFormat}
	switch {
	case r.subject != nil:
		v, err := r.subject.Evaluate(p)
		if err == nil && len(v) != 1 {
			err = fmt.Errorf("it yields %d values where one is needed", len(v))
		}
		if err != nil {
			return s, fmt.Errorf("no subject for %s from %s: %w", p.ID, r.trust.SubjectExpression(), err)
		}
		s.Value = v[0]
	case r.trust.SubjectFormat == saml.FormatTransient:
		id, err := RandomID(r.rand)
		if err != nil {
			return s, err
		}
		s.Value = id
	default:
		m := hmac.New(sha256.New, r.salt)
		io.WriteString(m, p.ID+"\x00"+r.appID)
		s.Value = hex.EncodeToString(m.Sum(nil)[:20])
	}
	return s, nil
}

// Attributes returns what is released for a person, and the rules that release nothing with the reason.
func (r *Releaser) Attributes(p *people.Person) ([]saml.Attribute, []claims.Gap) {
	return r.rules.For(p)
}

// RandomID makes an ID of 160 random bits that is an xs:ID (SAML Core, section 1.3.4).
func RandomID(rand io.Reader) (string, error) {
	b := make([]byte, 20)
	if _, err := io.ReadFull(rand, b); err != nil {
		return "", fmt.Errorf("reading randomness: %w", err)
	}
	return "_" + hex.EncodeToString(b), nil
}

// Expectation is what the app of a trust expects of a response, from the ledger alone.
func Expectation(t *Trust, app, provider *Party, now time.Time) saml.Expect {
	e := saml.Expect{App: app.Entity.ID, Provider: provider.Entity.ID, AllowUnsolicited: t.Unsolicited, AllowSHA1: t.AllowSHA1, Trust: t.Name,
		WantEncrypted: t.Encrypts, RefusePlain: t.PlainRefused, Contexts: t.Contexts(), Now: now, Skew: saml.DefaultSkew}
	if sp := app.Entity.SP; sp != nil {
		e.WantAssertionsSigned = sp.WantAssertionsSigned
		e.Wanted = sp.Wanted
		for _, a := range sp.ACS {
			if a.Binding == saml.BindingPOST {
				e.ACS = append(e.ACS, a.Location)
			}
		}
	}
	if idp := provider.Entity.IDP; idp != nil {
		e.Keys, _ = idp.SigningKeys()
	}
	return e
}

// JudgeClaims says of wanted attributes which a person would get and which not.
func JudgeClaims(t *Trust, app *Party, got []saml.Attribute) finding.List {
	if app.Entity.SP == nil {
		return nil
	}
	return saml.JudgeWanted(app.Entity.SP.Wanted, got, t.Name)
}

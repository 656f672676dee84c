package handoff

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/span"
	"tressik.example/internal/core/xmlsec"
)

// Compare puts both sides of a trust beside each other, and what the claims release.
func (d *Maker) Compare(t *federation.Trust, app, provider *federation.Party) (finding.List, error) {
	v, err := d.view(t, app, provider)
	if err != nil {
		return nil, err
	}
	return d.Judge(v)
}

// Judge is all that there is to say of a trust as it stands: both sides beside each other, whom it admits, and who of
// them would be turned away for want of a subject. Every command that judges a trust asks it.
func (d *Maker) Judge(v *View) (finding.List, error) {
	out := Of(v.Trust).Compare(v)
	out = append(out, v.Trust.Admission().Judge(v.Crowd)...)
	err := judgeSubjects(&out, v)
	return out, errors.Join(err, v.Crowd.Err())
}

// judgeSubjects finds the admitted people who have no value for the subject: they would be turned away at the sign-in.
func judgeSubjects(out *finding.List, v *View) error {
	t := v.Trust
	expr := t.SubjectExpression()
	if expr == "" || t.Standing == federation.Ended || t.Terms.Machine(v.App) {
		return nil
	}
	rel, err := v.Releaser()
	var broken *claims.CompileError
	switch {
	case errors.As(err, &broken):
		return nil // that is told where the expression is set
	case err != nil:
		return err
	}
	admitted, who := 0, t.Admission()
	var without []string
	everybody := v.Crowd.All()
	for i := range everybody {
		p := &everybody[i]
		if who.Refuses(p, v.Consents) != nil {
			continue
		}
		admitted++
		if _, err := rel.Subject(p); err != nil {
			without = append(without, p.ID)
		}
	}
	switch {
	case admitted == 0:
	case len(without) == 0:
		out.Pass(finding.ClaimsSubject, "subject", fmt.Sprintf("%s has a value for each of %d", expr, admitted))
	default:
		pseudonym := []string{"claims", "set", t.Name, "--subject-format", "persistent"}
		if t.Subject != "" {
			pseudonym = append(pseudonym, "--subject", "")
		}
		who := strings.Join(without[:min(3, len(without))], ", ")
		if len(without) > 3 {
			who += fmt.Sprintf(" and %d more", len(without)-3)
		}
		out.Add(finding.Finding{ID: finding.ClaimsSubject, Level: finding.Warning, Check: "subject",
			Saw: fmt.Sprintf("%d of %d who may sign in have no single value for %s: %s", len(without), admitted,
				expr, who),
			Expected: "one value for everybody who may sign in", Side: finding.Ledger, Ref: "SAML Core 8.3",
			Fix: finding.Do("enter the value where people are kept, and load them again").
				Or(finding.Run(pseudonym...))})
	}
	return nil
}

// Compared returns a trust, its parties, and both sides compared.
func (d *Maker) Compared(name string) (t *federation.Trust, app, provider *federation.Party, found finding.List,
	err error) {
	v, found, err := d.judged(name)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	return v.Trust, v.App, v.Provider, found, nil
}

// judged is a trust as the ledger has it, with all that there is to say of it.
func (d *Maker) judged(name string) (*View, finding.List, error) {
	t, app, provider, err := d.Trust(name)
	if err != nil {
		return nil, nil, err
	}
	v, err := d.view(t, app, provider)
	if err != nil {
		return nil, nil, err
	}
	found, err := d.Judge(v)
	return v, found, err
}

// Writing says how metadata is written.
type Writing struct {
	Sign  bool
	Life  time.Duration // until validUntil; 0 is until the first certificate in it ends, at most 400 days
	Cache string        // xs:duration of cacheDuration; "" is a day, or a quarter of a life that is shorter than four
}

// until is the end of the validity of metadata that is written now.
func (d *Maker) until(p *federation.Party, life time.Duration) *time.Time {
	until := d.Now().Add(life).UTC()
	if life > 0 {
		return &until
	}
	until = d.Now().AddDate(0, 0, 400).UTC()
	for _, k := range p.Role().Keys {
		if c, err := k.X509(); err == nil && c.NotAfter.Before(until) && c.NotAfter.After(d.Now()) {
			until = c.NotAfter.UTC()
		}
	}
	return &until
}

// Metadata returns the metadata of a party: of an own one written anew, signed if asked for; of a foreign one the bytes
// as received; of one entered by hand written from its values.
func (d *Maker) Metadata(p *federation.Party, how Writing) ([]byte, error) {
	sign := how.Sign
	if p.Role() == nil {
		return nil,
			fmt.Errorf("%s has no SAML side, and so no SAML metadata; for what the other side of a trust needs see "+
				"`tressik handoff TRUST --for app|provider`", p.Name)
	}
	if !p.Own {
		raw, err := d.View.Raw(p.Name)
		if err != nil {
			return nil, err
		}
		if raw != nil {
			if sign {
				return nil, fmt.Errorf("%s is foreign: only its owner signs its metadata", p.Name)
			}
			return raw, nil
		}
		if sign {
			return nil, fmt.Errorf("%s is foreign: Tressik has no key of it to sign with", p.Name)
		}
	}
	id, err := federation.RandomID(d.Rand)
	if err != nil {
		return nil, err
	}
	o := saml.WriteOptions{ID: id, ValidUntil: d.until(p, how.Life)}
	e := p.Entity
	if e.CacheDuration = how.Cache; e.CacheDuration == "" {
		e.CacheDuration = span.Format(max(time.Second, min(24*time.Hour, o.ValidUntil.Sub(d.Now())/4)))
	}
	if sign {
		k, err := d.Key(p.Name, federation.ForSigning)
		if err != nil {
			return nil, fmt.Errorf("the signing key of %s: %w", p.Name, err)
		}
		o.Signer = &xmlsec.Signer{Key: k.Key, Certificate: k.Certificate, Rand: d.Rand}
	}
	return saml.WriteMetadata(&e, o)
}

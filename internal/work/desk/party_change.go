package desk

import (
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/model"
)

// ChangeParty reads a party's metadata again or changes single values. Where that changes what the other side of a
// trust must know, the trust is to be handed over and rehearsed again; the names of such trusts are returned. Errors:
// model.ErrChanged and those of AddParty.
func (d *Desk) ChangeParty(in PartyInput) (*federation.Party, finding.List, []string, error) {
	old, err := d.Party(in.Kind, in.Name)
	if err != nil {
		return nil, nil, nil, err
	}
	p, found, err := d.changed(old, in)
	if err != nil {
		return nil, found, nil, err
	}
	if in.Raw != nil || in.OpenID != nil {
		signed := in.Raw != nil && in.OpenID == nil && p.Signer != "" && p.Signer == old.Signer
		if list := federation.Differences(old, p); federation.TouchTrust(list) && !in.Accept && !signed {
			return p, found, nil, &WaitsError{old.Kind, old.Name, list}
		}
	}
	stale, err := d.staleTrusts(old, p)
	if err != nil {
		return nil, nil, nil, err
	}
	read := in.Raw != nil || in.OpenID != nil || in.Version != nil
	var names []string
	err = d.Change(func(tx *model.Edit) error {
		if err := tx.PutParty(old, p, in.Raw, in.Raw == nil && !in.restoresSAML()); err != nil {
			return err
		}
		if read {
			if err := tx.Unread(p.Name); err != nil {
				return err
			}
		}
		for _, s := range stale {
			if err := tx.PutTrust(s[0], s[1], "trust.party-changed"); err != nil {
				return err
			}
			names = append(names, s[0].Name)
		}
		return nil
	})
	return p, found, names, err
}

// restoresSAML reports whether a version is put back that has a SAML side.
func (in *PartyInput) restoresSAML() bool { return in.Version != nil && in.Version.Party.Role() != nil }

// WaitsError means that what a party publishes now touches trust, and nobody said that it may: nothing was changed.
type WaitsError struct {
	Kind        federation.Kind
	Party       string
	Differences []federation.Difference
}

func (e *WaitsError) Error() string {
	s := "what " + e.Party + " publishes now touches trust, and nothing was changed:"
	for _, d := range e.Differences {
		mark := "\n  "
		if d.Trust {
			mark = "\n! "
		}
		s += mark + d.Words()
	}
	return s + "\nAsk its owner on another way whether this is right; `tressik " + string(e.Kind) + " change " +
		e.Party + " --metadata SOURCE --accept` takes it then"
}

// setSigner notes who signed a party's metadata.
func setSigner(p *federation.Party, by *x509.Certificate) {
	p.Signed, p.Signer = "", ""
	if by != nil {
		p.Signed, p.Signer = keys.Fingerprint(by), base64.StdEncoding.EncodeToString(by.Raw)
	}
}

// staleTrusts returns the trusts that a change of a party concerns, as they are and as they are to be.
func (d *Desk) staleTrusts(old, p *federation.Party) ([][2]*federation.Trust, error) {
	all, err := d.TrustsOf(p.Name)
	if err != nil {
		return nil, err
	}
	var out [][2]*federation.Trust
	for i := range all {
		was := &all[i]
		if was.Standing == federation.Ended {
			continue
		}
		other := was.App
		if was.App == p.Name {
			other = was.Provider
		}
		t := was.Clone()
		o, err := d.View.Party(other)
		if err != nil {
			return nil, err
		}
		if t.PartyChanged(d.Now(), old, p, o) {
			out = append(out, [2]*federation.Trust{was, t})
		}
	}
	return out, nil
}

// changed returns the party as it is to be, judged.
func (d *Desk) changed(old *federation.Party, in PartyInput) (*federation.Party, finding.List, error) {
	p := *old
	if old.Own && in.Raw != nil {
		return nil, nil,
			fmt.Errorf("%s is Tressik's own: its metadata is written here, not read; see `tressik "+
				"metadata write %s`", p.Name,
				p.Name)
	}
	switch {
	case in.Version != nil: // a side that came later stays
		if in.restoresSAML() {
			p.Entity = in.Version.Party.Entity
		}
		if in.Version.Party.OpenID != nil {
			p.OpenID = in.Version.Party.OpenID
		}
	case in.Raw != nil:
		signer := in.SignedBy
		if signer == nil && old.Signer != "" && !in.Accept { // the signer that is known has to have signed it again
			var err error
			if signer, err = keys.ParseCertificate([]byte(old.Signer)); err != nil {
				return nil, nil, fmt.Errorf("the known signer of %s: %w", old.Name, err)
			}
		}
		entity := in.Entity
		e, err := ReadEntity(in.Raw, entity, signer)
		if err != nil && entity == "" && errors.Is(err, saml.ErrManyEntities) {
			e, err = ReadEntity(in.Raw, old.Entity.ID, signer)
		}
		if err != nil && signer != in.SignedBy {
			return nil, nil, finding.Errorf("metadata from %s: %w. That signer is known from before; name another "+
				"with %s FILE, or take it without a signature with %s, when its owner says so", in.Source, err,
				finding.FieldSignedBy, finding.FieldAccept)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("metadata from %s: %w", in.Source, err)
		}
		p.Entity, p.Source, p.TLS = *e, in.Source, in.TLS
		setSigner(&p, signer)
	}
	if in.Title != "" {
		p.Title = in.Title
	}
	if in.Hand != nil {
		cp, err := p.Entity.Clone()
		if err != nil {
			return nil, nil, err
		}
		p.Entity = *cp
		if err := applyHand(&p.Entity, in.Kind, in.Hand); err != nil {
			return nil, nil, err
		}
	}
	found, err := d.judged(&p, in)
	if err != nil {
		return nil, found, err
	}
	return &p, found, nil
}

// judged puts the sides that are not SAML into a party and judges all of them.
func (d *Desk) judged(p *federation.Party, in PartyInput) (finding.List, error) {
	if !in.Reads.IsZero() {
		m, err := p.Reads.Change(in.Reads)
		if err != nil {
			return nil, err
		}
		p.Reads = m
	}
	more, err := d.sides(p, in)
	if err != nil {
		return nil, err
	}
	if p.Role() == nil && len(p.Sides()) > 0 && in.Raw == nil && in.Hand == nil {
		return more, nil
	}
	found := saml.JudgeEntity(&p.Entity, in.Kind.Side(), d.Now())
	if err := roleError(p, found); err != nil {
		return found, err
	}
	return append(found, more...), nil
}

// RemoveParty removes a party that no trust uses. Errors: model.ErrInUse.
func (d *Desk) RemoveParty(kind federation.Kind, name string) error {
	p, err := d.Party(kind, name)
	if err != nil {
		return err
	}
	asking, err := d.AskingFor(name, "")
	if err != nil {
		return err
	}
	if len(asking) > 0 {
		return fmt.Errorf("%s is %w: its permissions are asked for by %s; drop those first with `tressik "+
			"permission drop`",
			name, model.ErrInUse, strings.Join(asking, ", "))
	}
	return d.Change(func(tx *model.Edit) error { return tx.RemoveParty(p) })
}

// Would is a party as a change would have it, judged. Nothing is kept. Errors: those of ChangeParty.
func (d *Desk) Would(old *federation.Party, in PartyInput) (*federation.Party, finding.List, error) {
	return d.changed(old, in)
}

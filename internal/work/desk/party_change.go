package desk

import (
	"bytes"
	"crypto/x509"
	"encoding/base64"
	"encoding/xml"
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
		signed := in.Raw != nil && in.OpenID == nil && p.Signer != "" && (p.Signer == old.Signer ||
			p.Signer == old.NextSigner || signsItself(old))
		was, err := d.before(old)
		if err != nil {
			return nil, nil, nil, err
		}
		if list := federation.Differences(was, p); federation.TouchTrust(list, signed) && !in.Accept {
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

// InGroup reports whether a document holds groups of entities.
func InGroup(raw []byte) bool {
	d := xml.NewDecoder(bytes.NewReader(raw))
	for {
		t, err := d.RawToken()
		if err != nil {
			return false
		}
		if el, ok := t.(xml.StartElement); ok {
			return el.Name.Local == "EntitiesDescriptor"
		}
	}
}

// Left notes that a party is in the registry no more from which it was read, or is back, with each trust that has not
// ended. It returns the trusts for which that is new.
func (d *Desk) Left(party string, gone bool) (names []string, err error) {
	all, err := d.TrustsOf(party)
	if err != nil {
		return nil, err
	}
	err = d.Change(func(tx *model.Edit) error {
		names = nil
		for i := range all {
			t := all[i].Clone()
			if t.Standing == federation.Ended || !t.Leave(party, d.Now(), gone) {
				continue
			}
			action := "trust.party-left"
			if !gone {
				action = "trust.party-back"
			}
			if err := tx.PutTrust(&all[i], t, action); err != nil {
				return err
			}
			names = append(names, t.Name)
		}
		return nil
	})
	return names, err
}

// before is a party as it was read last, with what its metadata said beside the protocol: one that was read before such
// things were kept is read once more, out of what is kept of it.
func (d *Desk) before(old *federation.Party) (*federation.Party, error) {
	if old.Own || old.Entity.Extended || old.Entity.ID == "" {
		return old, nil
	}
	raw, err := d.View.Raw(old.Name)
	if err != nil || raw == nil {
		return old, err
	}
	e, err := ReadEntity(raw, old.Entity.ID, nil)
	if err != nil {
		return old, nil // it was entered by hand since, or is kept in part: nothing is known of them
	}
	was := *old
	c, err := old.Entity.Clone()
	if err != nil {
		return nil, err
	}
	c.Scopes, c.Attributes, c.Registrar, c.Extended = e.Scopes, e.Attributes, e.Registrar, true
	for _, r := range [][2]*saml.Role{{c.IDP, e.IDP}, {c.SP, e.SP}} {
		if r[0] != nil && r[1] != nil {
			r[0].Scopes, r[0].UI, r[0].Services = r[1].Scopes, r[1].UI, r[1].Services
		}
	}
	was.Entity = *c
	return &was, nil
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
		signers, err := Signers(in.SignedBy), error(nil)
		if signers == nil { // one that is known has to have signed it again
			if signers, err = SignersOf(old); err != nil {
				return nil, nil, err
			}
		}
		e, by, err := in.Received.read(in.Entity, signers)
		if in.Accept && in.SignedBy == nil && saml.Refused(err) { // somebody says that another one may sign, or nobody
			signers = nil
			e, by, err = in.Received.read(in.Entity, nil)
		}
		if err != nil && in.Entity == "" && errors.Is(err, saml.ErrManyEntities) {
			e, by, err = in.Received.read(old.Entity.ID, signers)
		}
		switch {
		case err == nil && in.Entity == "" && e.ID != old.Entity.ID && old.Entity.ID != "" && InGroup(in.Raw):
			// of a group in which one other is left
			err = fmt.Errorf("%w: %s is not in the document any more", saml.ErrNoSuchEntity, old.Entity.ID)
			return nil, nil, fmt.Errorf("metadata from %s: %w", in.Source, err)
		case err != nil && errors.Is(err, saml.ErrNoSuchEntity):
			return nil, nil, fmt.Errorf("metadata from %s: %w", in.Source, err)
		case err != nil && in.SignedBy == nil && len(signers) > 0:
			return nil, nil, finding.Errorf("metadata from %s: %w. That signer is known from before; name another "+
				"with %s FILE, or take it without a signature with %s, when its owner says so", in.Source, err,
				finding.FieldSignedBy, finding.FieldAccept)
		}
		if err != nil {
			return nil, nil, fmt.Errorf("metadata from %s: %w", in.Source, err)
		}
		p.Entity, p.Source, p.TLS = *e, in.Source, in.TLS
		setSigner(&p, by)
		if p.Signer != "" &&
			p.Signer == old.NextSigner { // the other one goes on being known, until somebody says that it is not
			p.NextSigner = old.Signer
		}
	}
	switch {
	case in.NextSignerEnds:
		p.NextSigner = ""
	case in.NextSigner != nil && p.Signer == "":
		return nil, nil, finding.Errorf("%s goes with a signer that is known: name that with %s",
			finding.FieldNextSigner, finding.FieldSignedBy)
	case in.NextSigner != nil:
		p.NextSigner = base64.StdEncoding.EncodeToString(in.NextSigner.Raw)
	}
	if in.Title != "" {
		if err := model.CheckLine(finding.FieldTitle, in.Title); err != nil {
			return nil, nil, err
		}
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
	if err := written(&p, in); err != nil && written(old, in) == nil { // one bad text is mended before another
		return nil, nil, err
	}
	found, err := d.judged(&p, in)
	if err != nil {
		return nil, found, err
	}
	return &p, found, nil
}

// written reports what of an entity that was entered no metadata can say. What was received is XML. Errors:
// xmlsec.ErrCarries.
func written(p *federation.Party, in PartyInput) error {
	if in.Hand == nil && !p.Own {
		return nil
	}
	_, err := saml.WriteMetadata(&p.Entity, saml.WriteOptions{})
	return err
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

package desk

import (
	"bytes"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/beevik/etree"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/model"
)

// PartyInput is what is said of a party when it is added or changed. Raw metadata, own, or values by hand.
type PartyInput struct {
	Kind  federation.Kind
	Name  string
	Title string

	Received // its metadata
	Source   string
	Entity   string // which entity of an aggregate
	SignedBy *x509.Certificate
	// the certificate of another signer that is known beside, so that a registry can change its key; Ends says that
	// there is none any more
	NextSigner     *x509.Certificate
	NextSignerEnds bool
	TLS            federation.Server   // how the server of the source is known
	Accept         bool                // what touches trust may change
	Version        *federation.Version // what it published before, to be put back; Raw is that of it

	Own     bool
	At      string
	KeyKind string
	Seal    bool // own app: with an encryption key as well

	Hand *Hand

	From   []string                // foreign: addresses from which it fetches; "none" takes them away
	Client *ClientInput            // app
	API    string                  // app: audience of its api side
	Reads  federation.MappingInput // app: which received name fills which field of its accounts
	OpenID *OpenIDInput            // foreign provider
	Admins string                  // provider: group:NAME whose members may consent for everyone
	// AgreedBy is, of an own provider, how many administrators agree to what lies past a registrar's bounds; 0 leaves
	// it
	AgreedBy int
}

// Hand holds values entered by hand, for a side that has no metadata. Nil slices and empty texts leave things as they
// are.
type Hand struct {
	EntityID string
	ACS      []string // app
	SSO      []string // provider, by Redirect unless prefixed post=
	Formats  []string
	Signing  *x509.Certificate
	Sealing  *x509.Certificate
	Wants    []string // attribute names, required ones with a ! behind
	Start    string
	// SignedOut is the page of an app for people who signed out; "none" takes it away
	SignedOut string
	Logout    []string // by Redirect unless prefixed post=; "none" takes all away
	Signed    *bool    // app: signs its requests; provider: wants them signed
	Wanted    *bool    // app: wants assertions signed
	Told      Told
}

// ErrPrivateInside means that metadata holds a private key. It is not kept, and the key is no secret any more.
var ErrPrivateInside = errors.New("it holds a private key, and is not kept; tell its owner to replace that key, " +
	"since whoever has the file can sign with it, and to send metadata with the certificate alone")

// ReadEntity reads one entity out of raw metadata and verifies its signature with the certificate, if one is given.
func ReadEntity(raw []byte, entity string, signedBy *x509.Certificate) (*saml.Entity, error) {
	if len(raw) > large {
		return readFromLarge(raw, entity, signedBy)
	}
	doc, err := xmlsec.Parse(raw, xmlsec.MetadataLimits())
	if err != nil {
		return nil, Hint(err)
	}
	if saml.HoldsPrivateKey(doc.Root()) {
		return nil, ErrPrivateInside
	}
	md, err := saml.ReadDocument(doc)
	if err != nil {
		return nil, err
	}
	if signedBy != nil {
		if _, err := xmlsec.Verify(md.Root, xmlsec.Policy{Keys: []crypto.PublicKey{signedBy.PublicKey}}); err != nil {
			return nil, fmt.Errorf("the metadata is not signed with the key of %s: %w", keys.Fingerprint(signedBy), err)
		}
	}
	e, err := md.Entity(entity)
	if err != nil && (errors.Is(err, saml.ErrManyEntities) || errors.Is(err, saml.ErrNoSuchEntity)) {
		return nil, entityHint(md.IDs(), entity, err)
	}
	return e, err
}

// large is the size from which a document is read one entity at a time, not as a tree.
const large = 1 << 20

// readFromLarge reads one entity out of an aggregate in one pass.
func readFromLarge(raw []byte, entity string, signedBy *x509.Certificate) (*saml.Entity, error) {
	if bytes.Contains(raw, []byte("PRIVATE KEY")) {
		return nil, ErrPrivateInside
	}
	var one *saml.Entity
	var ids []string
	n := 0
	o := saml.Surveying{Most: int64(xmlsec.MetadataLimits().Bytes), Each: func(l saml.Listed, el *etree.Element) error {
		ids = append(ids, l.EntityID)
		if entity != "" && l.EntityID != entity {
			return nil
		}
		if n++; n > 1 {
			return nil
		}
		if saml.HoldsPrivateKey(el) {
			return ErrPrivateInside
		}
		e, err := saml.EntityOf(el)
		if err == nil {
			one, err = e.Clone() // what it was read from does not stay
		}
		return err
	}}
	if signedBy != nil {
		o.Key = signedBy.PublicKey
	}
	_, err := o.Read(context.Background(), bytes.NewReader(raw)) // what is in memory is not waited for
	switch {
	case saml.Refused(err):
		return nil, fmt.Errorf("the metadata is not signed with the key of %s: %w", keys.Fingerprint(signedBy), err)
	case err != nil:
		return nil, Hint(err)
	case n == 0:
		return nil, entityHint(ids, entity, fmt.Errorf("%w: %q is not in the document", saml.ErrNoSuchEntity, entity))
	case n > 1 && entity == "":
		return nil, entityHint(ids, entity,
			finding.Errorf("%w: the document holds %d; say which with %s", saml.ErrManyEntities, n,
				finding.FieldEntity))
	case n > 1:
		return nil, fmt.Errorf("%w: %s stands in the document more than once", saml.ErrDuplicate, entity)
	}
	return one, nil
}

// Hint adds to an error of reading a document what to do about it.
func Hint(err error) error {
	if errors.Is(err, xmlsec.ErrHTML) {
		return fmt.Errorf("%w; open the address in a browser and look where the metadata really is", err)
	}
	if errors.Is(err, xmlsec.ErrTruncated) {
		return fmt.Errorf("%w; fetch the document again, a part of it is missing", err)
	}
	return err
}

func entityHint(ids []string, entity string, err error) error {
	if entity != "" {
		u := &UnknownError{What: "entity in the metadata", Name: entity, Err: err}
		if len(ids) <= 5000 {
			u.Near = near.Names(entity, ids)
		}
		if len(u.Near) == 0 {
			u.Add = fmt.Sprintf("it holds %d, such as %s", len(ids), strings.Join(ids[:min(3, len(ids))], ", "))
		}
		return u
	}
	return fmt.Errorf("%w; such as %s", err, strings.Join(ids[:min(3, len(ids))], ", "))
}

// AddParty adds a party and judges it. A party without the role it is added for is refused. Errors: model.ErrExists,
// federation.ErrName, those of reading metadata.
func (d *Desk) AddParty(in PartyInput) (*federation.Party, finding.List, error) {
	if err := federation.CheckName(in.Name); err != nil {
		return nil, nil, err
	}
	if in.Title != "" {
		if err := model.CheckLine(finding.FieldTitle, in.Title); err != nil {
			return nil, nil, err
		}
	}
	p := &federation.Party{Name: in.Name, Kind: in.Kind, Title: in.Title, Own: in.Own, Source: in.Source,
		TLS: in.TLS}
	var made []madeKey
	switch {
	case in.Own:
		at, err := checkAt(in.At)
		if err != nil {
			return nil, nil, err
		}
		p.At = at
		p.Entity = federation.OwnEntity(in.Kind, at, in.Title, d.organization(at))
		if made, err = d.makeKeys(p, in); err != nil {
			return nil, nil, err
		}
		if in.Hand != nil {
			if err := applyHand(&p.Entity, in.Kind, in.Hand); err != nil {
				return nil, nil, err
			}
		}
	case in.Raw != nil:
		e, _, err := in.Received.read(in.Entity, Signers(in.SignedBy))
		if err != nil {
			return nil, nil, fmt.Errorf("metadata from %s: %w", in.Source, err)
		}
		p.Entity = *e
		setSigner(p, in.SignedBy)
		if in.Hand != nil {
			if err := applyHand(&p.Entity, in.Kind, in.Hand); err != nil {
				return nil, nil, err
			}
		}
	case in.Hand != nil:
		p.Source = "entered by hand"
		if err := applyHand(&p.Entity, in.Kind, in.Hand); err != nil {
			return nil, nil, err
		}
	case in.Client != nil || in.API != "":
		p.Source = "entered by hand"
	case in.OpenID != nil:
		p.Source = in.OpenID.Source
	default:
		return nil, nil,
			finding.Errorf("nothing is said about %s: give its metadata with %s SOURCE, its values by "+
				"hand, or %s %s URL", in.Name, finding.FieldMetadata, finding.FieldOwn, finding.FieldAt)
	}
	if err := written(p, in); err != nil {
		return nil, nil, err
	}
	found, err := d.judged(p, in)
	if err != nil {
		return nil, found, err
	}
	err = d.Change(func(tx *model.Edit) error {
		if err := tx.AddParty(p, in.Raw); err != nil {
			return err
		}
		for _, k := range made {
			if err := tx.AddKey(p.Name, k.use, federation.Active, k.key, k.cert); err != nil {
				return err
			}
		}
		return nil
	})
	return p, found, err
}

func roleError(p *federation.Party, found finding.List) error {
	if p.Role() != nil {
		return nil
	}
	for _, f := range found {
		if f.ID == finding.MetadataRole && f.Level == finding.Error {
			err := fmt.Errorf("%s has %s where %s is needed; %s", p.Entity.ID, f.Saw, f.Expected, f.Fix.Do)
			other := federation.Provider
			if p.Kind == federation.Provider {
				other = federation.App
			}
			if p.Entity.IDP == nil && p.Entity.SP == nil { // it is of the other kind as little
				return err
			}
			return finding.Advise(err, finding.Run(string(other), "add", p.Name, "--metadata", p.Source))
		}
	}
	return fmt.Errorf("%s has no SAML 2.0 role for %s", p.Entity.ID, p.Kind)
}

func checkAt(at string) (string, error) {
	u, err := url.Parse(at)
	if at == "" || err != nil || u.Host == "" || u.Scheme != "https" && !(u.Scheme == "http" &&
		judge.IsLoopback(u.Hostname())) ||
		u.RawQuery != "" || u.Fragment != "" {
		return "",
			finding.Errorf("%s %q is %w: an own party needs an https: address without query, such as "+
				"https://login.kestrelridge.example", finding.FieldAt, at, ErrValue)
	}
	return strings.TrimSuffix(at, "/"), nil
}

func (d *Desk) organization(at string) *saml.Organization {
	org := d.Org()
	if org == "" {
		return nil
	}
	u, _ := url.Parse(at)
	return &saml.Organization{Name: org, DisplayName: org, URL: u.Scheme + "://" + u.Host + "/"}
}

type madeKey struct {
	use  string
	key  crypto.Signer
	cert *x509.Certificate
}

// makeKeys makes the keys of an own party and puts their certificates into its entity.
func (d *Desk) makeKeys(p *federation.Party, in PartyInput) ([]madeKey, error) {
	uses := []string{"signing"}
	if in.Seal {
		uses = append(uses, "encryption")
	}
	if in.Kind == federation.Provider {
		uses = append(uses, federation.ForTokens)
	}
	var out []madeKey
	for _, use := range uses {
		kind := in.KeyKind
		switch {
		case use == "encryption" && !strings.HasPrefix(kind, "rsa"), use == federation.ForTokens &&
			!strings.HasPrefix(kind, "rsa"):
			kind = "rsa-2048"
		case use == federation.ForTokens: // RS256 is what every client can verify, and this is quick to sign with
			kind = "ecdsa-p256"
		}
		key, err := keys.Generate(d.Rand, kind)
		if err != nil {
			return nil, err
		}
		host, _ := url.Parse(p.At)
		cert, err := keys.SelfSign(d.Rand, key, host.Hostname()+" "+use, d.Org(), d.Now(), 3*365*24*time.Hour)
		if err != nil {
			return nil, err
		}
		out = append(out, madeKey{use, key, cert})
		k := saml.Key{Use: use, Certificate: base64.StdEncoding.EncodeToString(cert.Raw)}
		if use == federation.ForTokens {
			k.Use = "signing"
			p.TokenKeys = append(p.TokenKeys, k)
			continue
		}
		if use == "encryption" {
			k.Methods = saml.EncryptionMethods()
		}
		p.Role().Keys = append(p.Role().Keys, k)
	}
	return out, nil
}

// applyHand puts values entered by hand into an entity.
func applyHand(e *saml.Entity, kind federation.Kind, h *Hand) error {
	if h.EntityID != "" {
		e.ID = h.EntityID
	}
	if e.ID == "" {
		return finding.Errorf("the entity ID is missing; give it with %s, exactly as the other side writes it",
			finding.FieldEntityID)
	}
	r := e.SP
	if kind == federation.Provider {
		r = e.IDP
	}
	if r == nil {
		r = &saml.Role{Protocols: []string{saml.NSProtocol}}
	}
	if err := handEndpoints(r, kind, h); err != nil {
		return err
	}
	if err := h.Told.apply(e, r); err != nil {
		return err
	}
	if len(h.Formats) > 0 {
		r.NameIDFormats = nil
		for _, f := range h.Formats {
			v, ok := saml.FormatByWord(f)
			if !ok {
				return fmt.Errorf("name identifier format %q is %w; write persistent, transient, email, "+
					"unspecified or a "+
					"whole identifier", f, ErrValue)
			}
			r.NameIDFormats = append(r.NameIDFormats, v)
		}
	}
	setKey(r, "signing", h.Signing)
	setKey(r, "encryption", h.Sealing)
	if h.Start != "" {
		if err := model.CheckURL(finding.FieldStart, h.Start); err != nil {
			return err
		}
		r.Start = h.Start
	}
	switch {
	case h.SignedOut == "none":
		r.SignedOut = ""
	case h.SignedOut != "":
		if err := model.CheckURL(finding.FieldSignedOut, h.SignedOut); err != nil {
			return err
		}
		r.SignedOut = h.SignedOut
	}
	if h.Signed != nil && kind == federation.App {
		r.RequestsSigned = *h.Signed
	} else if h.Signed != nil {
		r.WantRequestsSigned = *h.Signed
	}
	if h.Wanted != nil {
		r.WantAssertionsSigned = *h.Wanted
	}
	if len(h.Wants) > 0 {
		r.Wanted, r.Services = nil, nil
		for _, w := range h.Wants {
			name, required := strings.CutSuffix(w, "!")
			want := saml.Wanted{Name: name, Required: required, Format: saml.NameFormatBasic}
			if strings.HasPrefix(name, "urn:") {
				want.Format = saml.NameFormatURI
			}
			r.Wanted = append(r.Wanted, want)
		}
	}
	if kind == federation.Provider {
		e.IDP = r
	} else {
		e.SP = r
	}
	return nil
}

func handEndpoints(r *saml.Role, kind federation.Kind, h *Hand) error {
	if len(h.ACS) > 0 {
		r.ACS = nil
		for i, loc := range h.ACS {
			if err := model.CheckURL(finding.FieldACS, loc); err != nil {
				return err
			}
			r.ACS = append(r.ACS, saml.Endpoint{Binding: saml.BindingPOST, Location: loc, Index: i + 1,
				Default: i == 0})
		}
	}
	var err error
	if len(h.SSO) > 0 {
		if r.SSO, err = boundEndpoints(finding.FieldSSO, h.SSO); err != nil {
			return err
		}
	}
	if len(h.Logout) == 1 && h.Logout[0] == "none" {
		r.SLO = nil
	} else if len(h.Logout) > 0 {
		if r.SLO, err = boundEndpoints(finding.FieldLogout, h.Logout); err != nil {
			return err
		}
	}
	if kind == federation.App && len(r.ACS) == 0 {
		return finding.Errorf("the assertion consumer service URL is missing; give it with %s", finding.FieldACS)
	}
	if kind == federation.Provider && len(r.SSO) == 0 {
		return finding.Errorf("the sign-in URL is missing; give it with %s", finding.FieldSSO)
	}
	return nil
}

// boundEndpoints reads endpoints as URL, redirect=URL or post=URL.
func boundEndpoints(field finding.Field, list []string) ([]saml.Endpoint, error) {
	var out []saml.Endpoint
	for _, v := range list {
		word, loc, ok := strings.Cut(v, "=")
		b := saml.BindingRedirect
		if ok && (word == "post" || word == "redirect") {
			b, _ = saml.BindingByWord(word)
		} else {
			loc = v
		}
		if err := model.CheckURL(field, loc); err != nil {
			return nil, err
		}
		out = append(out, saml.Endpoint{Binding: b, Location: loc})
	}
	return out, nil
}

func setKey(r *saml.Role, use string, c *x509.Certificate) {
	if c == nil {
		return
	}
	kept := r.Keys[:0:0]
	for _, k := range r.Keys {
		if k.Use != use {
			kept = append(kept, k)
		}
	}
	r.Keys = append(kept, saml.Key{Use: use, Certificate: base64.StdEncoding.EncodeToString(c.Raw)})
}

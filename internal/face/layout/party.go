package layout

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/format"
)

// Party explains a party.
func Party(p *federation.Party, fs finding.List, trusts []federation.Trust, now time.Time) []format.Block {
	kept := "foreign: known by what it published"
	if p.Own {
		kept = "own: Tressik keeps its keys and writes its metadata"
	}
	var used []string
	var steps []string
	for _, t := range trusts {
		if t.App != p.Name && t.Provider != p.Name {
			continue
		}
		used = append(used, t.Name+" ("+string(t.Standing)+")")
		if t.Standing == federation.Drafted || t.Standing == federation.Exchanged {
			steps = append(steps, format.Remedy(finding.Run("next", t.Name)))
		}
	}
	top := [][2]string{{"trusts", cmp.Or(strings.Join(used, ", "), "none")}}
	switch {
	case len(used) > 0 || p.Kind == federation.Provider:
	case p.Role() != nil:
		steps = []string{format.Remedy(finding.Run("federate", p.Name, "--with", "PROVIDER"))}
	case p.Client != nil:
		steps = []string{format.Remedy(finding.Run("federate", p.Name, "--with", "PROVIDER", "--over", "oidc"))}
	}
	if n := len(steps); n > 3 {
		steps = append(steps[:3], fmt.Sprintf("and %d trusts more: %s", n-3,
			format.Remedy(finding.Run("trust", "list"))))
	}
	open := fs.Without(finding.Pass)
	if len(open) == 0 {
		top = append(top, [2]string{"issues",
			"none found; " + format.Count(len(fs), "check") + " passed"})
	}
	blocks := []format.Block{{Title: fmt.Sprintf("%s %s", p.Kind, p.Name), Fields: top}}
	if len(open) > 0 {
		blocks = append(blocks, format.Block{Title: "Issues", Findings: open})
	}
	if len(steps) > 0 {
		b := format.Block{Title: "Next"}
		for _, s := range steps {
			b.Lines = append(b.Lines, "  "+s)
		}
		blocks = append(blocks, b)
	}
	head := [][2]string{{"sides", strings.Join(p.Sides(), ", ")}, {"kept", kept}}
	if p.Entity.ID != "" {
		head = append([][2]string{{"entity ID", p.Entity.ID}}, head...)
	}
	if p.Title != "" {
		head = append(head, [2]string{"title", p.Title})
	}
	if p.At != "" {
		head = append(head, [2]string{"address", p.At})
	}
	if p.Source != "" {
		head = append(head, [2]string{"source", p.Source})
	}
	if p.Signed != "" {
		head = append(head, [2]string{"metadata signed by", p.Signed})
	}
	if c, err := keys.ParseCertificate([]byte(p.NextSigner)); p.NextSigner != "" && err == nil {
		head = append(head, [2]string{"or by", keys.Fingerprint(c)})
	}
	if p.Entity.ValidUntil != nil {
		head = append(head, [2]string{"valid until", format.When(*p.Entity.ValidUntil, now)})
	}
	if p.Kind == federation.Provider && p.Own {
		head = append(head, [2]string{"may consent for everyone", adminWords(p)})
		if p.Needs() > 1 {
			head = append(head, [2]string{"past a registrar's bounds", fmt.Sprintf("%d of them agree", p.Needs())})
		}
	}
	if len(p.From) > 0 {
		head = append(head, [2]string{"fetches from", strings.Join(p.From, ", ")})
	}
	head = append(head, [2]string{"added", format.When(p.Added, now)})
	blocks = append(blocks, format.Block{Title: "What it is", Fields: head})
	if r := p.Role(); r != nil {
		blocks = append(blocks, endpointBlock(p, r), keyBlock(p, r, now), wishes(p, r))
		if len(r.Wanted) > 0 {
			blocks = append(blocks, wanted(r))
		}
		blocks = append(blocks, told(p, r)...)
	}
	blocks = append(blocks, openIDBlocks(p)...)
	blocks = append(blocks, clientBlocks(p, trusts)...)
	return append(blocks, contacts(p)...)
}

func wanted(r *saml.Role) format.Block {
	b := format.Block{Title: "Wanted attributes", Head: []string{"Attribute", "Need", "Name in the message",
		"Name format"}}
	for _, w := range r.Wanted {
		need := "optional"
		if w.Required {
			need = "required"
		}
		b.Rows = append(b.Rows, []string{w.Label(), need, w.Name, saml.ShortName(w.Format)})
	}
	return b
}

func endpointBlock(p *federation.Party, r *saml.Role) format.Block {
	b := format.Block{Title: "Endpoints", Head: []string{"Service", "Binding", "Location", "Used"}}
	use, _ := saml.EndpointFor(r.SSO, saml.BindingRedirect, saml.BindingPOST)
	if p.Kind == federation.App {
		use, _ = saml.EndpointFor(r.ACS, saml.BindingPOST)
	}
	for _, s := range []struct {
		name string
		list []saml.Endpoint
	}{{"sign-on", r.SSO}, {"assertion consumer", r.ACS}, {"logout", r.SLO}} {
		for _, e := range s.list {
			mark := ""
			if e == use {
				mark = "yes"
			}
			b.Rows = append(b.Rows, []string{s.name, saml.ShortName(e.Binding), e.Location, mark})
		}
	}
	if r.Start != "" {
		b.Rows = append(b.Rows, []string{"start link", "", r.Start, ""})
	}
	if r.SignedOut != "" {
		b.Rows = append(b.Rows, []string{"signed out", "", r.SignedOut, ""})
	}
	return b
}

func keyBlock(p *federation.Party, r *saml.Role, now time.Time) format.Block {
	b := format.Block{Title: "Certificates"}
	for _, k := range r.Keys {
		use := k.Use
		if use == "" {
			use = "signing and encryption"
		}
		c, err := k.X509()
		if err != nil {
			b.Fields = append(b.Fields, [2]string{use, "cannot be read: " + k.Problem})
			continue
		}
		b.Fields = append(b.Fields, [2]string{use,
			keys.Describe(c.PublicKey) + ", expires " + format.When(c.NotAfter, now)},
			[2]string{"  subject", c.Subject.String()}, [2]string{"  SHA-256", keys.Fingerprint(c)})
	}
	for _, k := range p.TokenKeys {
		if c, err := k.X509(); err == nil {
			if id, err := oidc.KeyID(c.PublicKey); err == nil {
				b.Fields = append(b.Fields, [2]string{"tokens alone", keys.Describe(c.PublicKey) + ", kid " + id})
			}
		}
	}
	if len(b.Fields) == 0 {
		b.Lines = []string{"  none"}
	}
	return b
}

func wishes(p *federation.Party, r *saml.Role) format.Block {
	formats := make([]string, len(r.NameIDFormats))
	for i, f := range r.NameIDFormats {
		formats[i] = saml.ShortName(f)
	}
	if len(formats) == 0 {
		formats = []string{"none named: any"}
	}
	b := format.Block{Title: "Terms", Fields: [][2]string{{"name identifier formats", strings.Join(formats, ", ")}}}
	if p.Kind == federation.Provider {
		b.Fields = append(b.Fields, [2]string{"wants requests signed", yesNo(r.WantRequestsSigned)})
	} else {
		b.Fields = append(b.Fields, [2]string{"signs its requests", yesNo(r.RequestsSigned)},
			[2]string{"wants assertions signed", yesNo(r.WantAssertionsSigned)})
	}
	return b
}

func yesNo(v bool) string {
	if v {
		return "yes"
	}
	return "no"
}

func contacts(p *federation.Party) []format.Block {
	var fs [][2]string
	if o := p.Entity.Organization; o != nil {
		fs = append(fs, [2]string{"organisation", strings.TrimSpace(o.Name + "  " + o.URL)})
	}
	for _, c := range p.Entity.Contacts {
		fs = append(fs, [2]string{c.Type + " contact", strings.TrimSpace(c.Name + "  " + strings.Join(c.Email, ", "))})
	}
	if fs == nil {
		return nil
	}
	return []format.Block{{Title: "Organisation and contacts", Fields: fs}}
}

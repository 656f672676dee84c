package layout

import (
	"fmt"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/format"
)

// told is what a party's metadata says beside the protocol.
func told(p *federation.Party, r *saml.Role) []format.Block {
	var f [][2]string
	add := func(name, value string) {
		if value != "" {
			f = append(f, [2]string{name, value})
		}
	}
	add("registered by", p.Entity.Registrar)
	var scopes []string
	for _, s := range p.Entity.AllScopes(r) {
		scopes = append(scopes, s.Words())
	}
	add("speaks for", strings.Join(scopes, ", "))
	for _, n := range r.UI.Names {
		add("name ("+n.Lang+")", n.Text)
	}
	add("about it", r.UI.Information)
	add("privacy statement", r.UI.Privacy)
	add("where errors are told", r.ErrorURL)
	for _, l := range r.UI.Logos {
		add("logo", fmt.Sprintf("%s, %d × %d", l.URL, l.Width, l.Height))
	}
	for _, a := range p.Entity.Attributes {
		for _, v := range a.Values {
			add("entity attribute", a.Name+" = "+v)
		}
	}
	var out []format.Block
	if f != nil {
		out = append(out, format.Block{Title: "What its metadata says of it", Fields: f})
	}
	if len(r.Services) == 0 {
		return out
	}
	b := format.Block{Title: "Services", Head: []string{"Index", "Name", "Wants"}}
	for _, s := range r.Services {
		var wants []string
		for _, w := range s.Wanted {
			wants = append(wants, w.Label())
		}
		name := s.Name
		if s.Default {
			name = strings.TrimSpace(name + " (the default)")
		}
		b.Rows = append(b.Rows, []string{fmt.Sprint(s.Index), name, strings.Join(wants, ", ")})
	}
	return append(out, b)
}

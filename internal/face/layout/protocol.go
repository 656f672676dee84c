// Package layout lays results out for people: one function for each kind of result. The view writes what it returns.
package layout

import (
	"strings"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
)

// protocol lays out what a trust says over its protocol. Each implementation lies in a file of its own.
type protocol interface {
	// terms are the protocol's own terms.
	terms(d *desk.Desk) ([]format.Block, error)
	// head names the sides of the trust.
	head(app, provider *federation.Party) trustHead
	// more is what there is besides the terms; it goes into the data as well.
	more(d *desk.Desk, data *TrustData) ([]format.Block, error)
	// rules are the claims that are set.
	rules() format.Block
}

// trustHead is what the head of a trust says before its standing with the sides, and after it.
type trustHead struct{ before, after [][2]string }

// protocolOf is how a trust is laid out: the one place of this package where its protocol is chosen.
func protocolOf(t *federation.Trust) protocol {
	if t.Over() == federation.OverOIDC {
		return overOIDC{t}
	}
	return overSAML{t}
}

// Terms lays out the terms of a trust.
func Terms(d *desk.Desk, t *federation.Trust) ([]format.Block, error) { return protocolOf(t).terms(d) }

// ruleWords is where a claim comes from.
func ruleWords(r claims.Rule) string {
	s := claims.Masked(r.Expression)
	if r.Roles != nil {
		rows := make([]string, len(r.Roles.Of))
		for i, x := range r.Roles.Of {
			rows[i] = x.Group + "=" + x.Role
		}
		s = "roles (" + r.Roles.Several + "): " + strings.Join(rows, ", ")
		if r.Roles.Default != "" {
			s += ", else " + r.Roles.Default
		}
	}
	if r.When != "" {
		s += " when " + r.When
	}
	if r.Single {
		s += ", one value"
	}
	return s
}

// Rules lays out the claims that are set for a trust.
func Rules(t *federation.Trust) format.Block { return protocolOf(t).rules() }

package cli

import (
	"tressik.example/internal/core/federation"
	"tressik.example/internal/desk"
	"tressik.example/internal/view"
)

// report lays out what a trust says over its protocol. Each implementation lies in a file of its own.
type report interface {
	// terms are the protocol's own terms.
	terms(d *desk.Desk) ([]view.Block, error)
	// head names the sides of the trust.
	head(app, provider *federation.Party) trustHead
	// more is what there is besides the terms; it goes into the data as well.
	more(d *desk.Desk, data *trustData) ([]view.Block, error)
	// rules are the claims that are set.
	rules() view.Block
}

// trustHead is what the head of a trust says before its standing with the sides, and after it.
type trustHead struct{ before, after [][2]string }

// reportOf is how a trust is laid out: the one place of the command line where its protocol is chosen.
func (a *App) reportOf(t *federation.Trust) report {
	if t.Over() == federation.OverOIDC {
		return reportOIDC{a, t}
	}
	return reportSAML{t}
}

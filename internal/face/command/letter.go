package command

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/handoff"
)

// letterFlag adds the flag that reads what another ledger wrote for a side of a trust.
func letterFlag(c *cobra.Command, path *string) {
	c.Flags().StringVar(path, "handoff", "",
		"file that another ledger wrote with `tressik handoff --out`: NAME-handoff.json")
}

// letter reads what another ledger wrote for a side; side "" takes either.
func (a *App) letter(path, side string) (*handoff.Letter, error) {
	b, err := a.readFile("--handoff", path)
	if err != nil {
		return nil, err
	}
	l, err := handoff.ReadLetter(b, side)
	if err != nil {
		return nil, fmt.Errorf("--handoff %s: %w", path, err)
	}
	return l, nil
}

// lettered fills in what a party is from a letter of another ledger.
func (a *App) lettered(in *desk.PartyInput, path string) error {
	if path == "" {
		return nil
	}
	if in.Raw != nil || in.Hand != nil || in.Client != nil || in.OpenID != nil || in.Own {
		return usageError{errors.New("--handoff says all that the other side is; it goes with no other source")}
	}
	side := map[federation.Kind]string{federation.Provider: "app", federation.App: "provider"}[in.Kind]
	l, err := a.letter(path, side)
	if err != nil {
		return err
	}
	if in.Title == "" {
		in.Title = l.Title
	}
	if l.Metadata != "" {
		in.Raw, in.Source = []byte(l.Metadata), path
	}
	if l.Discovery != nil {
		in.OpenID = &desk.OpenIDInput{Discovery: l.Discovery, JWKS: l.Keys, Source: path}
	}
	if c := l.Client; c != nil && in.Kind == federation.App {
		in.Client = &desk.ClientInput{Kind: c.Kind, Redirects: c.Redirects, AfterSignOut: c.AfterSignOut}
		if strings.Contains(l.Contact, "@") {
			in.Client.Contact = l.Contact
		}
	}
	a.say("%s is what %s wrote of %s, for %s", path, l.From, l.Party, l.Trust)
	return nil
}

// asks has a client ask for what a letter says that it is registered for. Of another ledger's APIs the provider's own
// ledger knows by other names: there OpenID's own scopes alone are taken, and the others left to its administrator.
func asks(d *desk.Desk, trust string, l *handoff.Letter) error {
	c := l.Client
	for _, as := range []string{federation.AsUser, federation.AsSelf} {
		list := c.Scopes
		if as == federation.AsSelf {
			list = c.Itself
		}
		if l.For == "provider" {
			list = slices.DeleteFunc(slices.Clone(list), func(s string) bool {
				_, own := oidc.Standard(s)
				return !own
			})
		}
		if len(list) > 0 {
			if _, err := d.Ask(trust, list, as, nil); err != nil {
				return err
			}
		}
	}
	return nil
}

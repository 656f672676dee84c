package command

import (
	"errors"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

// present is what is told where what was to be made is there already.
type present struct {
	Name    string `json:"name"`
	Present bool   `json:"wasThere"`
}

// repeats gives a command that makes something an --if-missing, so that a script can run it again: where what it would
// make is there already it says so, changes nothing, and ends with 0. there names that, or "".
func (a *App) repeats(c *cobra.Command, there func(d *desk.Desk, got []string) (string, error)) *cobra.Command {
	var missing bool
	run := c.RunE
	c.Flags().BoolVar(&missing, "if-missing", false, "do nothing where it is there already, and end with 0")
	c.RunE = func(cmd *cobra.Command, got []string) error {
		if !missing {
			return run(cmd, got)
		}
		d, err := a.desk()
		if err != nil {
			return err
		}
		name, err := there(d, got)
		if err != nil {
			return err
		}
		if name == "" {
			return run(cmd, got)
		}
		return a.present(name)
	}
	return c
}

func (a *App) present(name string) error {
	return a.print(format.Page{Data: present{name, true}, Blocks: []format.Block{{Lines: []string{
		name + " is there already; nothing was changed (--if-missing)"}}}})
}

// exists is the name where reading it finds something.
func exists(name string, err error) (string, error) {
	if errors.Is(err, model.ErrNotFound) {
		return "", nil
	}
	return name, err
}

// partyThere tells whether there is a party of a kind.
func partyThere(kind federation.Kind) func(*desk.Desk, []string) (string, error) {
	return func(d *desk.Desk, got []string) (string, error) {
		p, err := d.View.Party(got[0])
		if err == nil && p.Kind != kind {
			return "", nil // the command itself says what is wrong
		}
		return exists(string(kind)+" "+got[0], err)
	}
}

// trustThere tells whether a trust is there that has not ended; with names the flag that has its provider.
func trustThere(with *string) func(*desk.Desk, []string) (string, error) {
	return func(d *desk.Desk, got []string) (string, error) {
		name := got[0] + "@" + *with
		t, err := d.View.Trust(name)
		if err == nil && t.Standing == federation.Ended {
			return "", nil
		}
		return exists("trust "+name, err)
	}
}

// secretThere tells whether a client has a secret that is valid.
func secretThere(d *desk.Desk, got []string) (string, error) {
	list, err := d.Secrets(got[0])
	for _, s := range list {
		if desk.Valid(d.Now())(s) {
			return "secret " + s.ID + " of " + got[0], nil
		}
	}
	return "", err
}

// registrarThere tells whether there is a registrar.
func registrarThere(d *desk.Desk, got []string) (string, error) {
	list, err := d.Registrars()
	for i := range list {
		if list[i].Registrar.Name == got[0] {
			return "registrar " + got[0], nil
		}
	}
	return "", err
}

// sourceThere tells whether there is a source of people.
func sourceThere(d *desk.Desk, got []string) (string, error) {
	list, err := d.Sources()
	for i := range list {
		if list[i].Name == got[0] {
			return "source of people " + got[0], nil
		}
	}
	return "", err
}

// ledgerThere reports whether there is something where the ledger would be made.
func (a *App) ledgerThere() bool {
	return engine.There(a.run, a.ledgerPath())
}

package command

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"tressik.example/internal/face/format"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/outside/reach"
)

func (a *App) versionCmd() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Name the version, the commit and the Go that built it", Args: args(),
		Example: "  tressik version",
		RunE: func(*cobra.Command, []string) error {
			b := a.Build
			return a.print(format.Page{Data: buildData{b.Commit, b.Go, b.Version},
				Blocks: []format.Block{{Lines: []string{fmt.Sprintf("tressik %s, commit %s, %s", b.Version, b.Commit,
					b.Go)}}}})
		}}
}

func (a *App) initCmd() *cobra.Command {
	var org string
	var missing bool
	c := &cobra.Command{Use: "init --org NAME", Short: "Make the ledger and its ledger key", Args: args(),
		Long: `Make the ledger, in which everything is kept, and the ledger key, with which private keys are encrypted
in it. Both are files that only you can read. Keep a copy of the ledger key apart from copies of the
ledger: without it the private keys are lost.`,
		Example: `  # in a new folder, such as that of ` + "`tressik demo --files`" + `:
  tressik init --org "Kestrel Ridge Observatory"`,
		RunE: func(*cobra.Command, []string) error {
			if org == "" {
				return usageError{fmt.Errorf(`--org is missing; name your organisation, such as ` +
					`--org "Kestrel Ridge Observatory"`)}
			}
			if missing && a.ledgerThere() {
				if _, err := a.desk(); err != nil {
					return err
				}
				return a.present("the ledger " + a.opened.Place())
			}
			o, err := a.options()
			if err != nil {
				return err
			}
			l, err := engine.Create(a.run, a.ledgerPath(), org, o)
			if err != nil {
				return err
			}
			a.opened = l
			path, _ := engine.Absolute(l.Place())
			key, _ := filepath.Abs(l.SealKey())
			return a.print(format.Page{Data: ledgerData{path, org, key},
				Blocks: []format.Block{{Fields: [][2]string{{"ledger", path}, {"ledger key", key},
					{"organisation", org}}},
					{Lines: []string{"Next: read a provider's metadata with `tressik provider add NAME --metadata " +
						"SOURCE`,",
						"or make one of your own with `tressik provider add NAME --own --at https://…`."}}}})
		}}
	c.Flags().BoolVar(&missing, "if-missing", false, "do nothing where it is there already, and end with 0")
	c.Flags().StringVar(&org, "org", "", "name of the organisation")
	return c
}

func (a *App) readFile(flag, path string) ([]byte, error) {
	if path == "" {
		return nil, nil
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", flag, reach.FileError(path, err))
	}
	return b, nil
}

// buildData is what is told of the program.
type buildData struct {
	Commit  string `json:"commit"`
	Go      string `json:"go"`
	Version string `json:"version"`
}

// ledgerData is what is told of a ledger that was made: where it lies, and the key that opens its private keys.
type ledgerData struct {
	Ledger       string `json:"ledger"`
	Organisation string `json:"organisation"`
	SealKey      string `json:"ledgerKey"`
}

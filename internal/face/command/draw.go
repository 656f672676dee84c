package command

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/sequence"
	"tressik.example/internal/face/format"
)

// onTerminal is where a drawing goes that is written to no file.
const onTerminal = "here"

// drawFlag gives a command --draw: the sign-in as a drawing, here or in a file.
func drawFlag(c *cobra.Command, to *string) {
	c.Flags().StringVar(to, "draw", "",
		"draw who sent what to whom, with each verdict: here, or as SVG into a file (--draw=FILE.svg)")
	c.Flags().Lookup("draw").NoOptDefVal = onTerminal
}

// mayDraw refuses where a drawing cannot go, before anything is done.
func (a *App) mayDraw(to string) error {
	switch {
	case to == "" || to == onTerminal && a.format == "table":
		return nil
	case to == onTerminal:
		return usageError{errors.New("--draw draws for people; with --format write it into a file: --draw=FILE.svg")}
	case !strings.HasSuffix(to, ".svg"):
		return usageError{fmt.Errorf("--draw=%s: write a file that ends in .svg, or --draw alone", to)}
	}
	if fi, err := os.Stat(filepath.Dir(to)); err != nil || !fi.IsDir() { // before a sign-in is run for nothing
		return fmt.Errorf("--draw=%s: there is no folder %s; make it first", to, filepath.Dir(to))
	}
	return a.mayReplace(to)
}

// draw draws what passed.
func (a *App) draw(to string, d *sequence.Drawing) error {
	if to == "" || d.Empty() {
		return nil
	}
	if to != onTerminal {
		if err := writeWith(to, []byte(d.SVG(true, a.masking())), 0o600); err != nil {
			return err
		}
		a.say("wrote %s", to)
		return nil
	}
	p := a.printer()
	lines := d.Text(p.Columns(), p.Clean)
	if lines == nil {
		a.note("there is no room to draw %s here: make the terminal wider, or write --draw=FILE.svg",
			format.Count(len(d.Lanes), "lane"))
		return nil
	}
	fmt.Fprintln(a.Out)
	for i, l := range lines {
		switch l.Verdict {
		case sequence.Passed:
			l.Arrow = p.Good(l.Arrow)
		case sequence.Refused:
			l.Arrow = p.Bad(l.Arrow)
		}
		if i == 0 {
			fmt.Fprintln(a.Out, p.Bold(l.Before)) // the names of the lanes
			continue
		}
		fmt.Fprintln(a.Out, p.Dim(l.Before)+l.Arrow+p.Dim(l.After))
	}
	for _, r := range d.Reasons() {
		fmt.Fprintln(a.Out, p.Wrapped("  "+r))
	}
	return nil
}

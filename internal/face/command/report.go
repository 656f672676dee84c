package command

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/face/format"
	"tressik.example/internal/face/report"
	"tressik.example/internal/work/due"
)

func (a *App) reportCmd() *cobra.Command {
	var out, since string
	var dry bool
	c := &cobra.Command{Use: "report [TRUST] --out FILE", Short: "Write one page about everything, or about one trust",
		Args: args("[TRUST]"),
		Long: `Write a page to read, to print and to hand over: a map of trusts with their standing, what they rest on
and how they are; a time line of what runs out; who can do what; findings by weight; what changed since the last
report, or since --since. With a TRUST it is the hand-over page of that one. A file that ends in .md gets Markdown,
every other one HTML that needs nothing beside it; - is standard output.`,
		Example: `  tressik report --out report.html
  tressik report nightlog@ridge --out nightlog.html
  tressik report --out -`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			if out == "" {
				return usageError{fmt.Errorf("--out is missing; write --out report.html, report.md, or - for " +
					"standard output")}
			}
			from, err := a.past("--since", since)
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			m := &report.Maker{Checker: a.checker(d, 30*24*time.Hour, 90*24*time.Hour),
				Due: &due.Finder{Book: d.Book, Keeper: keyKeeper(d)}}
			data, err := m.Gather(cmd.Context(), from, got...)
			if err != nil {
				return err
			}
			data.Mask = a.hides
			text, err := a.written(m, data, got, strings.HasSuffix(out, ".md"))
			if err != nil {
				return err
			}
			if out == "-" {
				_, err = unmasked(a.Out).Write(text)
				return err
			}
			if err := errors.Join(a.mayReplace(out), a.run.Err()); err != nil {
				return err
			}
			a.goesOn() // that it was told is noted where it is written
			if err := writeWith(out, text, 0o600); err != nil {
				return err
			}
			if len(got) == 0 && !dry && since == "" {
				if err := a.change(d, func() error { return m.Told(data) }); err != nil {
					return err
				}
			}
			trusts, dates, changes := len(data.Edges), len(data.Due), len(data.Changes)
			if len(got) == 1 {
				trusts, dates, changes = data.Of(got[0])
			}
			return a.print(format.Page{Data: reportData{changes, dates, out, trusts},
				Blocks: []format.Block{{Lines: []string{fmt.Sprintf("%s written: %s, %s, %s since the last report", out,
					format.Count(trusts, "trust"), format.Count(dates, "date"), format.Count(changes, "change"))}}}})
		}}
	c.Flags().StringVar(&out, "out", "", "file to write: .html, .md, or - for standard output")
	c.Flags().StringVar(&since, "since", "",
		"say what changed since this day, in place of since the last report: 2031-03-01")
	c.Flags().BoolVar(&dry, "dry-run", false, "do not note that a report was made")
	return c
}

// written is the report, or the page of a trust, in the form that the file asks for.
func (a *App) written(m *report.Maker, data *report.Data, got []string, markdown bool) ([]byte, error) {
	var b bytes.Buffer
	p := format.Printer{W: &b, Format: "markdown", Mask: a.hides}
	if len(got) == 1 {
		o, err := m.One(data, got[0])
		if err != nil {
			return nil, err
		}
		if markdown {
			err = p.Print(format.Page{Blocks: o.Blocks()})
		} else {
			err = o.HTML(&b, data)
		}
		return b.Bytes(), err
	}
	var err error
	if markdown {
		err = p.Print(format.Page{Blocks: data.Blocks()})
	} else {
		err = data.HTML(&b)
	}
	return b.Bytes(), err
}

// reportData is what is told of a report that was written.
type reportData struct {
	Changes int    `json:"changes"`
	Dates   int    `json:"dates"`
	File    string `json:"file"`
	Trusts  int    `json:"trusts"`
}

package command

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/face/format"
	"tressik.example/internal/ledger/engine"
)

func (a *App) demoCmd() *cobra.Command {
	var dir string
	var full, files bool
	c := &cobra.Command{Use: "demo", Short: "Build the demo organisation and run the full example", Args: args(),
		Long: `Make the ledger of a made-up observatory in a folder of its own and go through the whole work on it:
get to know the parties, federate, hand over, map claims, rehearse, and see a sign-in fail with the remedy. It is told
in short, each command as you would type it; --full shows all that they say, and goes on with two organisations that
federate with each other over HTTPS on this machine, probe and watch each other. The ledger stays for you to play on.
With --files only the files are made that the examples of the manual read: people, accounts, and what the other sides
publish; the ledger is yours to make.`,
		Example: "  tressik demo --dir tressik-demo\n  tressik demo --files --dir walk",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := os.Mkdir(dir, 0o755); err != nil {
				if errors.Is(err, os.ErrExist) {
					return fmt.Errorf("the folder %s is there already; choose another with --dir, or remove it", dir)
				}
				return fmt.Errorf("making the demo's folder: %w", err)
			}
			now, err := a.now()
			if err != nil {
				return err
			}
			if err := demoFiles(dir, now()); err != nil {
				os.RemoveAll(dir) // made just now, by this command
				return err
			}
			if files {
				return a.print(format.Page{Data: demoData{dir},
					Blocks: []format.Block{{Lines: []string{
						"the files of the demo organisation are in " + dir,
						"Go there, and begin with `tressik init --org \"Kestrel Ridge Observatory\"`."}}}})
			}
			err = a.demo(cmd.Context(), dir, full)
			if a.stopped.Err() != nil && err != nil {
				os.RemoveAll(dir) // half a story is none
			}
			return err
		}}
	c.Flags().BoolVar(&files, "files", false, "make the files alone, without a ledger")
	c.Flags().BoolVar(&full, "full", false, "tell all: each command with everything it says")
	c.Flags().StringVar(&dir, "dir", "tressik-demo", "folder to make")
	return c
}

// demo runs the story: each command as it would be typed, on the ledger in the folder. In short it shows of most
// commands only the part that a chapter is about, or nothing but that they were run.
func (a *App) demo(ctx context.Context, dir string, full bool) error {
	here, err := os.Getwd()
	if err != nil {
		return err
	}
	if err := os.Chdir(dir); err != nil {
		return err
	}
	defer os.Chdir(here)
	p := a.printer()
	quiet := 0
	rest := func() {
		if quiet > 0 {
			fmt.Fprintln(a.Out, p.Dim("  … and "+format.Count(quiet, "command")+" more"))
		}
		quiet = 0
	}
	story := demoStory()
	if full {
		story = append(story, demoPipeline()...)
	}
	for _, s := range story {
		if err := ctx.Err(); err != nil {
			return err
		}
		if s.say != "" {
			rest()
			fmt.Fprintf(a.Out, "\n%s\n", p.Dim(p.Indented("# ", s.say)))
		}
		if full {
			fmt.Fprintln(a.Out)
		}
		if s.show != unsaid || full {
			rest()
			fmt.Fprintln(a.Out, p.Bold("$ "+format.Command(s.args)))
		} else {
			quiet++
		}
		if err := a.demoStep(ctx, s, full, p.Color); err != nil {
			return err
		}
	}
	rest()
	if full {
		if err := a.demoTwo(ctx); err != nil {
			return err
		}
	}
	named := ""
	if engine.Remote(a.ledger) {
		named = "\n  export TRESSIK_LEDGER='" + format.Safe(a.ledger) + "'"
	}
	fmt.Fprintf(a.Out, "\n%s\n", p.Bold("The ledger stays in "+dir+" for you to play on:"))
	fmt.Fprintf(a.Out, `  cd %s%s
  tressik trust show nightlog@ridge                          # where a trust stands, and what is next
  tressik claims set nightlog@southmere mail=person.mail     # the remedy
  tressik rehearse nightlog@southmere --as petra
  tressik stage                                              # then open its address in a browser
`, dir, named)
	if !full {
		fmt.Fprintln(a.Out, "The whole story, each command with all it says: tressik demo --full --dir another-folder")
	}
	return nil
}

// demoStep runs one command of the story and shows of it what the step says. What went otherwise than it should is
// shown whole.
func (a *App) demoStep(ctx context.Context, s demoStep, full, color bool) error {
	env := func(k string) string {
		if k == "TRESSIK_LEDGER" && engine.Remote(a.ledger) { // a database that was named for it
			return a.ledger
		}
		if strings.HasPrefix(k, "TRESSIK_LEDGER") || k == "TRESSIK_SEAL_KEY" {
			return ""
		}
		return a.Env(k)
	}
	var said bytes.Buffer
	sub := &App{In: a.In, Out: &said, Err: &said, Env: env, Build: a.Build, color: color}
	if full {
		sub.Out, sub.Err = a.Out, a.Err
	}
	got := sub.Run(ctx, s.args)
	text := said.String()
	if got == s.exit && !full {
		text = s.show.of(text)
	}
	if _, err := io.WriteString(a.Out, text); err != nil {
		return err
	}
	if got != s.exit {
		return fmt.Errorf("the demo stopped: `tressik %s` ended with %d where %d was expected",
			format.Words(s.args), got, s.exit)
	}
	return nil
}

// demoData is what is told of the demo's files: the folder in which they lie.
type demoData struct {
	Folder string `json:"folder"`
}

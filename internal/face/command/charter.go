package command

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"
	"github.com/spf13/cobra"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage"
	"tressik.example/internal/work/charter"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/expect"
)

func (a *App) charterCmd() *cobra.Command {
	c := &cobra.Command{Use: "charter", Short: "Declare a federation in a file: write it, compare it, enact it",
		Long: `A charter declares in a file what is to stand: parties, clients, permissions, trusts with their terms
and claims, routes and expectations. It is compared with the ledger and enacted as one change; enacting it again does
nothing. What it does not name stays as it is. No secret stands in it, and nobody consents by it.`}
	c.AddCommand(a.charterWrite(), a.charterCompare(), a.charterEnact(), a.charterTry(), a.charterSchema())
	return c
}

func (a *App) charterWrite() *cobra.Command {
	var out string
	var inline bool
	c := &cobra.Command{Use: "write [TRUST…]", Short: "Write what stands in the ledger as a charter",
		Args: args("[TRUST…]"),
		Long: `Write what stands in the ledger as a charter, in YAML: everything, or the trusts that are named, with
their parties and the APIs that they ask. What foreign parties published is named by where it was read from, or with
--inline put into the charter itself. Comparing what was written with the same ledger says that there is no
difference.`,
		Example: `  tressik charter write --out now.yaml
  tressik charter write nightlog@ridge`,
		ValidArgsFunction: a.names("trust", 0),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			w := &charter.Writer{View: d.View, Inline: inline, Rel: func(path string) string {
				if rel, err := filepath.Rel(filepath.Dir(out), path); err == nil && out != "" && out != "-" {
					return filepath.ToSlash(rel)
				}
				return path
			}}
			c, err := w.All()
			if len(got) > 0 {
				c, err = w.Of(d.Book, got)
			}
			if err != nil {
				return err
			}
			b, err := c.Marshal()
			if err != nil {
				return err
			}
			return a.output(out, b)
		})}
	c.Flags().StringVar(&out, "out", "", "file to write, in place of standard output")
	c.Flags().BoolVar(&inline, "inline", false, "put what foreign parties published into the charter itself")
	return c
}

// charterFlags are those of the commands that read a charter.
type charterFlags struct {
	values   string
	takeAway bool
}

func (f *charterFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.values, "values", "", "file with the values of an environment: a text for each ${NAME}")
	c.Flags().BoolVar(&f.takeAway, "take-away", false,
		"what the charter does not declare goes, where it says what there is")
}

// enactor reads a charter and all that it refers to.
func (a *App) enactor(ctx context.Context, d *desk.Desk, path string, in *charterFlags) (*charter.Enactor, error) {
	debug.SetGCPercent(stage.GCPercent) // a whole federation is made and thrown away at once
	text, err := reach.Read(ctx, path, reach.Options{Max: charter.Max + 1, Stdin: a.In})
	if err != nil {
		return nil, err
	}
	f, err := a.charterFile(path, text, in.values)
	if err != nil {
		return nil, err
	}
	if dir := filepath.Dir(path); path != "-" && dir != "." {
		f.Rebase(func(p string) string {
			if filepath.IsAbs(p) {
				return p
			}
			return filepath.Join(dir, p)
		})
	}
	k := &charter.Enactor{Desk: d, File: f, Read: map[string][]byte{}, People: map[string]*people.Directory{},
		TakeAway: in.takeAway}
	for _, r := range f.Refs() {
		if err := a.refer(ctx, k, &r); err != nil {
			return nil, fmt.Errorf("%s: %w", path, f.At(&r, err))
		}
	}
	fresh, err := f.Sources(d.View, k.Read)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	for i := range fresh {
		if k.People[fresh[i].Name], err = a.sources(d).Fetch(ctx, &fresh[i]); err != nil {
			return nil, fmt.Errorf("%s: people of %s: %w", path, fresh[i].Name, err)
		}
	}
	return k, nil
}

// charterFile reads the text of a charter with the values of an environment.
func (a *App) charterFile(path string, text []byte, valuesFile string) (*charter.File, error) {
	values := map[string]string{}
	if valuesFile != "" {
		b, err := a.readFile("--values", valuesFile)
		if err != nil {
			return nil, err
		}
		if values, err = charter.ReadValues(b); err != nil {
			return nil, fmt.Errorf("%s: %w", valuesFile, err)
		}
	}
	f, err := charter.Read(text, values)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return f, nil
}

// refer reads what a charter refers to.
func (a *App) refer(ctx context.Context, k *charter.Enactor, r *charter.Ref) (err error) {
	o := reach.Options{CA: k.Read[r.CA], Pin: r.Pin, Stdin: strings.NewReader("")}
	get := func(max int64) ([]byte, error) {
		if r.Text() {
			return []byte(r.From), nil
		}
		o.Max = max
		return reach.Read(ctx, r.From, o)
	}
	switch r.Kind {
	case charter.RefMetadata:
		k.Read[r.Path], err = get(int64(xmlsec.MetadataLimits().Bytes))
	case charter.RefDiscovery:
		p := &reach.Published{Source: reach.Shown(r.From)}
		if p.Discovery, err = get(oidc.MaxDiscovery); err == nil && r.Keys != "" {
			err = p.Keys(ctx, o)
			k.Read[r.Keys] = p.JWKS
		}
		k.Read[r.Path] = p.Discovery
	case charter.RefIssuer:
		p, err := reach.OpenID(ctx, r.From, o)
		if err != nil {
			return err
		}
		k.Read[r.Path] = p.Discovery
		k.Read[strings.TrimSuffix(r.Path, ".discovery")+".jwks"] = p.JWKS
	case charter.RefKeys:
		k.Read[r.Path], err = get(oidc.MaxKeys)
	case charter.RefPeople:
		k.Read[r.Path], err = get(1 << 30)
	default:
		k.Read[r.Path], err = get(1 << 20)
	}
	return err
}

func (a *App) charterCompare() *cobra.Command {
	var in charterFlags
	c := &cobra.Command{Use: "compare FILE", Short: "Show how the ledger and a charter differ, and what enacting costs",
		Args: args("FILE"),
		Long: `Show what enacting a charter would change: what is added, changed and not declared, field by field, which
evidence it takes back, which side has to be given what it needs again and which permission waits for somebody. It ends
with exit status 0 where nothing differs and 3 where something does. With --format json it writes what charter enact
--compared takes.`,
		Example: `  tressik charter compare observatory.yaml
  tressik charter compare observatory.yaml --format json`,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			k, err := a.enactor(a.run, d, got[0], &in)
			if err != nil {
				return err
			}
			cmp, err := k.Compare()
			if err != nil {
				return fmt.Errorf("%s: %w", got[0], err)
			}
			if err := a.print(format.Page{Data: cmp, Blocks: layout.Comparison(cmp, a.every)}); err != nil ||
				cmp.Equal {
				return err
			}
			return ErrFound
		})}
	in.add(c)
	return c
}

func (a *App) charterEnact() *cobra.Command {
	var in charterFlags
	var accept bool
	var compared string
	c := &cobra.Command{Use: "enact FILE", Short: "Make true what a charter declares, as one change",
		Args: args("FILE"),
		Long: `Make true what a charter declares, all of it as one change, or nothing. Running it again does nothing,
and nothing is taken away without --take-away. It ends with what people have to do afterwards: agree, hand over,
rehearse. With --compared it does exactly what somebody looked at, or refuses because the ledger is another one by
now. A secret that the charter declares is made where the client has none that is valid, and goes into its file or to
its command.`,
		Example: `  tressik charter enact observatory.yaml
  tressik charter enact observatory.yaml --take-away --yes`,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			digest, err := a.compared(compared)
			if err != nil {
				return err
			}
			k, err := a.enactor(a.run, d, got[0], &in)
			if err != nil {
				return err
			}
			k.Accept = accept
			if in.takeAway {
				if err := a.taking(k); err != nil {
					return err
				}
			}
			c, err := a.enact(a.run, k, digest)
			if errors.Is(err, charter.ErrMoved) {
				return fmt.Errorf("%w in %s; nothing was changed. Compare it anew with `tressik "+
					"charter compare %s`", err,
					compared, got[0])
			}
			if err != nil {
				return fmt.Errorf("%s: %w", got[0], err)
			}
			if err := a.keepPlace(d, got[0], in.values); err != nil {
				return err
			}
			steps, err := c.Next(d)
			if err != nil {
				return err
			}
			blocks := layout.Comparison(c, a.every)
			if len(steps) > 0 {
				blocks = append(blocks, layout.Steps(steps))
			}
			return a.print(format.Page{Data: enacted{c, steps}, Blocks: blocks})
		})}
	in.add(c)
	f := c.Flags()
	f.BoolVar(&accept, "accept", false, "take differences in what foreign parties publish that touch trust")
	f.StringVar(&compared, "compared", "",
		"file that charter compare --format json wrote: do that, or nothing")
	return c
}

// keepPlace keeps where a charter lies that was enacted, so that a check finds what drifts from it.
func (a *App) keepPlace(d *desk.Desk, path, values string) error {
	place := desk.CharterPlace{}
	for _, x := range []struct {
		to   *string
		path string
	}{{&place.File, path}, {&place.Values, values}} {
		if x.path == "" || x.path == "-" {
			continue
		}
		abs, err := filepath.Abs(x.path)
		if err != nil {
			return err
		}
		*x.to = abs
	}
	if place.File == "" {
		return nil
	}
	return a.change(d, func() error { return d.KeepCharterPlace(place) })
}

// drift says how the ledger has drifted from the charter that was enacted last. A charter that refers to addresses is
// compared by charter compare alone: a check asks no network.
func (a *App) drift(d *desk.Desk) (finding.List, error) {
	place, err := d.CharterPlace()
	if err != nil || place.File == "" {
		return nil, err
	}
	text, err := os.ReadFile(place.File)
	if err != nil {
		err = reach.FileError(place.File, err)
	}
	var k *charter.Enactor
	var c *charter.Comparison
	if err == nil {
		var f *charter.File
		if f, err = a.charterFile(place.File, text, place.Values); err == nil && !f.Offline() {
			return nil, nil
		}
		if err == nil {
			k, err = a.enactor(a.run, d, place.File, &charterFlags{values: place.Values})
		}
	}
	if err == nil {
		c, err = k.Compare()
	}
	if err != nil {
		return finding.List{{ID: finding.CharterUnread, Level: finding.Warning, Check: "charter " + place.File,
			Saw: words(err), Expected: "the charter that was enacted last", Side: finding.Ledger,
			Fix: finding.Do("put it back, or enact the one that holds now").
				Then(finding.Run("charter", "enact", "FILE"))}}, nil
	}
	return c.Drift(place.File), nil
}

// enacted is what is told of a charter that was enacted.
type enacted struct {
	*charter.Comparison
	Next []charter.Step `json:"next"`
}

// compared reads the digest of a comparison that somebody looked at.
func (a *App) compared(path string) (string, error) {
	if path == "" {
		return "", nil
	}
	b, err := a.readFile("--compared", path)
	if err != nil {
		return "", err
	}
	var c charter.Comparison
	if err := json.Unmarshal(b, &c); err != nil || len(c.Digest) != 64 {
		return "", fmt.Errorf("--compared: %s is not what `tressik charter compare FILE --format json` writes", path)
	}
	return c.Digest, nil
}

// taking asks before something is taken away.
func (a *App) taking(k *charter.Enactor) error {
	gentle := *k
	gentle.TakeAway = false
	c, err := gentle.Compare()
	if err != nil || len(c.Undeclared) == 0 {
		return err
	}
	return a.confirm(fmt.Sprintf("Take away %s that the charter does not declare?",
		format.Count(len(c.Undeclared), "thing")))
}

// enact makes a charter true, and brings the secrets that it declares where they belong.
func (a *App) enact(ctx context.Context, k *charter.Enactor, digest string) (*charter.Comparison, error) {
	files := map[string]*secretFile{}
	for name, t := range k.File.Trusts {
		if t.Secret == nil || t.Secret.Out == "" {
			continue
		}
		if have, err := k.Secrets(name); err != nil {
			return nil, err
		} else if slices.ContainsFunc(have, desk.Valid(k.Now())) {
			continue
		}
		w, err := a.newSecretFile(t.Secret.Out)
		if err != nil {
			return nil, k.File.At(&charter.Ref{Path: "trusts." + name + ".secret"}, err)
		}
		files[name] = w
	}
	var made []charter.Made
	c, err := changed(a, k.Desk, func() (c *charter.Comparison, err error) {
		c, made, err = k.Run(digest)
		return c, err
	})
	if err != nil || a.dry {
		made = nil
	}
	var errs []error
	for _, m := range made {
		w := files[m.Trust]
		delete(files, m.Trust)
		how := func() error { return feed(ctx, m.Secret.Into, m.Value) }
		if w != nil {
			how = func() error { return w.keep(m.Value) }
		}
		errs = append(errs, a.lost(k.Desk, m.Trust, m.ID, how()))
	}
	for _, w := range files {
		w.discard()
	}
	if err != nil {
		return nil, err
	}
	c.Enacted = true
	return c, errors.Join(errs...)
}

// feed hands a secret to a command, on its standard input.
func feed(ctx context.Context, command, secret string, env ...string) error {
	c := exec.CommandContext(ctx, "/bin/sh", "-c", command)
	c.Stdin, c.Stderr, c.Env = strings.NewReader(secret+"\n"), os.Stderr, append(os.Environ(), env...)
	if err := c.Run(); err != nil {
		return fmt.Errorf("the command that takes the secret, %q: %w", command, err)
	}
	return nil
}

func (a *App) charterTry() *cobra.Command {
	var in charterFlags
	var junit, sarif string
	var every bool
	c := &cobra.Command{Use: "try FILE", Short: "Rehearse what a charter declares, before anything is changed",
		Args: args("FILE"),
		Long: `Enact a charter on a copy of the ledger of which nothing is kept, and rehearse there what is expected of
the trusts that it declares. Where nothing is expected of a trust, the first who is admitted is to get in. With --expect
that is done of all the trusts of which the ledger expects something: a changed provider or group reaches them as well.
It ends with exit status 3 where something does not hold.`,
		Example: `  tressik charter try observatory.yaml
  tressik charter try observatory.yaml --junit charter.xml`,
		RunE: a.with(func(d *desk.Desk, got []string) error {
			k, err := a.enactor(a.run, d, got[0], &in)
			if err != nil {
				return err
			}
			list, untried, err := k.Trial(a.run, every)
			if err != nil {
				return fmt.Errorf("%s: %w", got[0], err)
			}
			if junit != "" {
				if err := a.writeJUnit(junit, d, layout.OutcomeCases(list)); err != nil {
					return err
				}
			}
			if sarif != "" {
				if err := a.writeSARIF(sarif, layout.OutcomeResults(list)); err != nil {
					return err
				}
			}
			for _, name := range untried {
				a.note("note: %s was not tried: it admits nobody in this ledger, and nothing is expected of it", name)
			}
			if err := a.print(layout.Outcomes(list, "with the charter, tried on a copy")); err != nil {
				return err
			}
			if slices.ContainsFunc(list, func(x expect.Outcome) bool { return !x.Holds }) {
				return ErrFound
			}
			return nil
		})}
	in.add(c)
	c.Flags().BoolVar(&every, "expect", false,
		"also check what is expected of trusts that the charter does not declare")
	c.Flags().StringVar(&junit, "junit", "", "also write a JUnit XML file for CI")
	c.Flags().StringVar(&sarif, "sarif", "", "also write a SARIF file")
	return c
}

func (a *App) charterSchema() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "schema", Short: "Write the JSON Schema of a charter, for editors and CI", Args: args(),
		Example: "  tressik charter schema --out charter.schema.json",
		RunE: func(*cobra.Command, []string) error {
			r := jsonschema.Reflector{FieldNameTag: "yaml"}
			s := r.Reflect(&charter.Charter{})
			s.ID, s.Title = "", charter.Kind
			b, err := json.MarshalIndent(s, "", "  ")
			if err != nil {
				return err
			}
			return a.output(out, append(b, '\n'))
		}}
	c.Flags().StringVar(&out, "out", "", "file to write, in place of standard output")
	return c
}

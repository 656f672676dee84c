package command

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
	"github.com/spf13/pflag"

	"tressik.example/docs"
	"tressik.example/internal/core/near"
	"tressik.example/internal/face/contract"
	"tressik.example/internal/face/format"
	"tressik.example/internal/model"
)

// docsCmd writes the manual out of the commands themselves.
func (a *App) docsCmd() *cobra.Command {
	var man, markdown, schema string
	c := &cobra.Command{Use: "docs [DOCUMENT]", Args: args("[DOCUMENT]"),
		Short: "Show a document such as the guide; write man pages, a reference or schemas",
		Long: `Show a document that comes with the program; without a name, which there are. Or write the manual out
of the commands themselves, into a folder: a man page for each command (section 1), a reference in Markdown with a page
for each noun and each journey, or a JSON Schema for each command's result, as --format json and yaml write it. A file
that is there already is written over only where you say so.`,
		Example: "  tressik docs\n  tressik docs guide\n  tressik docs --man man\n" +
			"  tressik docs --markdown reference\n  tressik docs --schema schema",
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			var out []string
			for _, d := range documents() {
				out = append(out, d[0]+"\t"+d[1])
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, got []string) error {
			dir, write := "", a.referencePages
			for _, x := range []struct {
				dir   string
				write func(*cobra.Command, string) (int, error)
			}{{man, a.manPages}, {markdown, a.referencePages}, {schema, a.schemas}} {
				switch {
				case x.dir == "":
				case dir != "" || len(got) > 0:
					return usageError{errors.New("choose one of a document, --man DIR, --markdown DIR and " +
						"--schema DIR")}
				default:
					dir, write = x.dir, x.write
				}
			}
			if dir == "" {
				return a.showDocument(got)
			}
			if fi, err := os.Stat(dir); err == nil && !fi.IsDir() {
				return fmt.Errorf("%s is a file; name a folder, which may be a new one", dir)
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return fmt.Errorf("the folder %s cannot be made: %w", dir, err)
			}
			n, err := write(cmd.Root(), dir)
			if err != nil {
				return err
			}
			a.say("wrote %s into %s", format.Count(n, "file"), dir)
			return nil
		}}
	c.Flags().StringVar(&man, "man", "", "folder for man pages")
	c.Flags().StringVar(&schema, "schema", "", "folder for JSON Schemas of what commands tell programs")
	c.Flags().StringVar(&markdown, "markdown", "", "folder for a reference in Markdown")
	return c
}

// documents are those that come with the program, each with what it is about.
func documents() [][2]string {
	return [][2]string{{"guide", "your first app, in the order of the work"}, {"concepts", "each word in a sentence"},
		{"operate", "nights and mornings, keys, publishing, directories"},
		{"ledger", "where it lies, backup, PostgreSQL, roles, keys"},
		{"automate", "a federation in a file, registrars, tressik serve"},
		{"findings", "what each finding means, by its ID"},
		{"conformance", "which sentence of which standard is where"},
		{"threat-model", "what is protected, from whom, by what"}}
}

// showDocument writes a document as it is, or says which there are.
func (a *App) showDocument(got []string) error {
	all := documents()
	if len(got) == 0 {
		b := format.Block{Head: []string{"Document", "What it is about"}, Noun: "document"}
		list := []documentTold{}
		for _, d := range all {
			list = append(list, documentTold{d[0], d[1]})
			b.Rows = append(b.Rows, []string{d[0], d[1]})
		}
		return a.print(format.Page{Data: list, Blocks: []format.Block{b, {Lines: []string{
			"`tressik docs NAME` shows one; `tressik docs --man DIR` and its like write the manual."}}}})
	}
	if !slices.ContainsFunc(all, func(d [2]string) bool { return d[0] == got[0] }) {
		var names []string
		for _, d := range all {
			names = append(names, d[0])
		}
		return &model.UnknownError{What: "document", Name: got[0], Near: near.Names(got[0], names),
			Add: "see `tressik docs`"}
	}
	if a.format != "table" {
		return usageError{errors.New("--format is of no use for a document, which has a form of its own; leave it out")}
	}
	b, err := docs.Files.ReadFile(got[0] + ".md")
	if err != nil {
		return err
	}
	_, err = a.Out.Write(b)
	return err
}

// documentTold is what is told of a document.
type documentTold struct {
	Name  string `json:"name"`
	About string `json:"about"`
}

// manPages writes a man page for each command. They bear no date, so that the same program writes the same pages.
func (a *App) manPages(root *cobra.Command, dir string) (int, error) {
	n := 0
	var each func(*cobra.Command) error
	each = func(c *cobra.Command) error {
		for _, s := range c.Commands() {
			if s.IsAvailableCommand() {
				if err := each(s); err != nil {
					return err
				}
			}
		}
		c.DisableAutoGenTag = true
		var page bytes.Buffer
		h := &doc.GenManHeader{Title: strings.ToUpper(strings.ReplaceAll(c.CommandPath(), " ", "-")), Section: "1",
			Source: "Tressik " + a.Build.Version, Manual: "Tressik"}
		if err := doc.GenMan(c, h, &page); err != nil {
			return err
		}
		n++
		lines := strings.SplitN(page.String(), "\n", 3) // the library's own date goes
		for i, l := range lines {
			if strings.HasPrefix(l, ".TH ") {
				lines[i] = fmt.Sprintf(".TH %q %q \"\" %q %q", h.Title, h.Section, h.Source, h.Manual)
			}
		}
		return a.page(filepath.Join(dir, strings.ReplaceAll(c.CommandPath(), " ", "-")+".1"), strings.Join(lines, "\n"))
	}
	return n, each(root)
}

// referencePages writes a page for each command below the program, with those below it, and one that lists them.
func (a *App) referencePages(root *cobra.Command, dir string) (int, error) {
	var index strings.Builder
	index.WriteString("# Reference\n\nWritten by `tressik docs --markdown`, out of the commands themselves.\n")
	n := 1
	for _, g := range append(slices.Clone(root.Groups()), &cobra.Group{Title: "Other commands"}) {
		index.WriteString("\n## " + g.Title + "\n\n")
		for _, c := range root.Commands() {
			if c.GroupID != g.ID || !c.IsAvailableCommand() {
				continue
			}
			index.WriteString(fmt.Sprintf("- [%s](%[1]s.md): %s\n", c.Name(), c.Short))
			var page strings.Builder
			reference(&page, c, 1)
			if err := a.page(filepath.Join(dir, c.Name()+".md"), page.String()); err != nil {
				return n, err
			}
			n++
		}
	}
	index.WriteString("\n## Flags of every command\n\n" + flagTable(root.PersistentFlags()))
	return n, a.page(filepath.Join(dir, "README.md"), index.String())
}

// page writes a page of the manual, over one that is there only where that was said.
func (a *App) page(path, text string) error {
	if err := a.mayReplace(path); err != nil {
		return err
	}
	return writeWith(path, []byte(text), 0o644)
}

// reference writes a command and those below it, under headings of a level.
func reference(out *strings.Builder, c *cobra.Command, level int) {
	fmt.Fprintf(out, "%s %s\n\n%s.\n", strings.Repeat("#", level), c.CommandPath(), c.Short)
	if c.Long != "" {
		out.WriteString("\n" + format.Paragraphs(c.Long, 120) + "\n")
	}
	if c.Runnable() && !c.HasAvailableSubCommands() {
		c.InheritedFlags() // which are among those that its line speaks of
		out.WriteString("\n    " + c.UseLine() + "\n")
	}
	if c.Example != "" {
		out.WriteString("\n```sh\n" + strings.TrimRight(dedent(c.Example), "\n") + "\n```\n")
	}
	if t := flagTable(c.NonInheritedFlags()); t != "" {
		out.WriteString("\n" + t)
	}
	for _, s := range c.Commands() {
		if s.IsAvailableCommand() {
			out.WriteString("\n")
			reference(out, s, min(level+1, 4))
		}
	}
}

func dedent(s string) string { return strings.ReplaceAll("\n"+s, "\n  ", "\n")[1:] }

// flagTable lists flags with what they take and what they are for.
func flagTable(f *pflag.FlagSet) string {
	var out strings.Builder
	f.VisitAll(func(x *pflag.Flag) {
		if x.Hidden || x.Name == "help" {
			return
		}
		if out.Len() == 0 {
			out.WriteString("| flag | what for |\n|---|---|\n")
		}
		kind := map[string]string{"bool": "", "stringArray": " …", "stringSlice": " …,…"}
		word, is := kind[x.Value.Type()]
		if !is {
			word = " …"
		}
		text := strings.ReplaceAll(strings.ReplaceAll(x.Usage, "|", "\\|"), "\n", " ")
		if d := x.DefValue; d != "" && d != "false" && d != "[]" && d != "0" {
			text += " (else " + d + ")"
		}
		fmt.Fprintf(&out, "| `--%s%s` | %s |\n", x.Name, word, text)
	})
	return out.String()
}

// schemas writes a JSON Schema for the result of each command, and one for errors.
func (a *App) schemas(root *cobra.Command, dir string) (int, error) {
	const at = "https://tressik.example/schema/"
	n := 0
	put := func(file, title string, types ...reflect.Type) error {
		n++
		b, err := contract.WriteSchema(contract.Schema(at+file, title, types...))
		if err != nil {
			return err
		}
		return a.page(filepath.Join(dir, file), string(b))
	}
	if err := put("error.schema.json", "What went wrong, on standard error",
		reflect.TypeFor[problemTold]()); err != nil {
		return n, err
	}
	all := results()
	for _, path := range slices.Sorted(maps.Keys(all)) {
		c, rest, err := root.Find(strings.Fields(path))
		if err != nil || len(rest) > 0 {
			return n, fmt.Errorf("there is no command %s", path) // a mistake in the table of results
		}
		if err := put(strings.ReplaceAll(path, " ", "-")+".schema.json", "tressik "+path+": "+c.Short,
			all[path]...); err != nil {
			return n, err
		}
	}
	return n, nil
}

package command

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tressik.example/internal/face/format"
)

// firstScreen is what the program's name alone says: what it is, how to begin, and where the rest is.
func firstScreen() format.Page {
	what := "Tressik federates apps with identity providers: it keeps both sides in one ledger, compares them before " +
		"anyone signs in, and proves each sign-in before people depend on it."
	begin := format.Block{Title: "To begin with", Fields: [][2]string{
		{"tressik demo", "build a made-up organisation to try things on, and tell its story"},
		{"tressik init", "make a ledger of your own"},
		{"tressik provider add", "get to know an identity provider: from its metadata, issuer or host name"},
		{"tressik app add", "get to know an application"},
		{"tressik federate", "make the trust between the two, and compare both sides"},
		{"tressik next", "what is done, what is left, and the command for the next step"}}}
	return format.Page{Blocks: []format.Block{{Lines: []string{what}}, begin,
		{Lines: []string{"All commands, in the order of the work: `tressik --help`"}}}}
}

// layOutHelp has help texts fit the terminal, and flags stand in the order in which commands have them.
func (a *App) layOutHelp(c *cobra.Command) {
	var each func(*cobra.Command)
	each = func(c *cobra.Command) {
		c.Flags().SortFlags, c.PersistentFlags().SortFlags = false, false
		for _, s := range c.Commands() {
			each(s)
		}
	}
	each(c)
	c.SetUsageFunc(func(cmd *cobra.Command) error {
		_, err := fmt.Fprint(cmd.OutOrStdout(), a.usageOf(cmd))
		return err
	})
	c.SetHelpFunc(func(cmd *cobra.Command, got []string) {
		_, rest, err := cmd.Root().Find(got) // of what is not there, there is no help
		if err == nil && len(rest) > 0 && !strings.HasPrefix(rest[0], "-") && cmd.HasSubCommands() &&
			cmd.Annotations[takesNames] == "" {
			a.noHelp = unknownVerb(cmd, rest[0])
			return
		}
		text := format.Paragraphs(cmp.Or(cmd.Long, cmd.Short), min(a.printer().Columns(), format.Width))
		fmt.Fprint(cmd.OutOrStdout(), text+"\n\n"+a.usageOf(cmd)) // what cannot be written is remembered by the output
	})
}

// usageOf is how a command is written: its line, examples, the commands below it, and its flags.
func (a *App) usageOf(cmd *cobra.Command) string {
	var parts []string
	part := func(title, text string) {
		if text = strings.TrimRight(text, "\n "); text != "" {
			parts = append(parts, title+":\n"+text)
		}
	}
	var lines string
	if cmd.Runnable() && cmd.HasParent() {
		lines = "  " + cmd.UseLine() + "\n"
	}
	if cmd.HasAvailableSubCommands() {
		lines += "  " + cmd.CommandPath() + " [command]\n"
	}
	part("Usage", lines)
	part("Examples", cmd.Example)
	list := slices.DeleteFunc(slices.Clone(cmd.Commands()), func(s *cobra.Command) bool {
		return !s.IsAvailableCommand() && s.Name() != "help"
	})
	for _, g := range append(slices.Clone(cmd.Groups()), &cobra.Group{Title: map[bool]string{true: "Other commands",
		false: "Commands"}[len(cmd.Groups()) > 0]}) {
		part(strings.TrimSuffix(g.Title, ":"), a.commandsOf(list, g.ID))
	}
	for _, g := range flagGroups(cmd.LocalFlags()) {
		part(g.title, a.flagsOf(g.flags))
	}
	part("Global flags", a.flagsOf(cmd.InheritedFlags()))
	if cmd.HasAvailableSubCommands() {
		parts = append(parts, "Use `"+cmd.CommandPath()+" [command] --help` for more about a command.")
	}
	return strings.Join(parts, "\n\n") + "\n"
}

// commandsOf lists the commands of a group with what they do, as a table that fits.
func (a *App) commandsOf(list []*cobra.Command, group string) string {
	wide := 0
	for _, s := range list {
		wide = max(wide, len(s.Name()))
	}
	var out strings.Builder
	for _, s := range list {
		if s.GroupID != group {
			continue
		}
		head := fmt.Sprintf("  %-*s  ", wide, s.Name())
		text := a.printer().Indented(strings.Repeat(" ", len(head)), s.Short)
		out.WriteString(head + strings.TrimLeft(text, " ") + "\n")
	}
	return out.String()
}

// kinds are the words that flags begin their description with, and what those that do are called, in their order.
func kindsOfFlags() [][2]string {
	return [][2]string{{"", "Flags"}, {"own", "Of own parties"}, {"foreign", "Of foreign parties"},
		{"SAML", "Over SAML"}, {"OpenID", "Over OpenID Connect"}, {"client", "Of the client side"},
		{"api side", "Of the API side"}, {"with", "With another flag"}}
}

var kindOfFlag = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(own|foreign|SAML|OpenID|client|api side)(?:, ([^:]*))?: `)
})

type flagGroup struct {
	title string
	flags *pflag.FlagSet
}

// flagGroups parts the flags of a command by what they are about: those that are for everything first, in the order in
// which the command has them, which is what is usual first.
func flagGroups(all *pflag.FlagSet) (out []flagGroup) {
	by := map[string]*pflag.FlagSet{}
	all.VisitAll(func(f *pflag.Flag) {
		if f.Hidden {
			return
		}
		kind, x := "", *f
		switch m := kindOfFlag().FindStringSubmatch(f.Usage); {
		case m != nil:
			kind, x.Usage = m[1], f.Usage[len(m[0]):]
			if m[2] != "" {
				x.Usage = m[2] + ": " + x.Usage
			}
		case strings.HasPrefix(f.Usage, "with --"):
			kind = "with"
		}
		if by[kind] == nil {
			by[kind] = pflag.NewFlagSet(kind, pflag.ContinueOnError)
			by[kind].SortFlags = false
		}
		by[kind].AddFlag(&x)
	})
	for _, k := range kindsOfFlags() {
		if set := by[k[0]]; set != nil {
			out = append(out, flagGroup{k[1], set})
		}
	}
	return out
}

// flagsOf lists flags with what they are for, as wide as the page.
func (a *App) flagsOf(f *pflag.FlagSet) string {
	head := func(x *pflag.Flag) string {
		s := "      --" + x.Name
		if x.Shorthand != "" {
			s = "  -" + x.Shorthand + ", --" + x.Name
		}
		switch {
		case x.NoOptDefVal != "" && x.Value.Type() != "bool":
			s += "[=…]"
		case x.Value.Type() == "int":
			s += " N"
		case x.Value.Type() == "span":
			s += " SPAN"
		case x.Value.Type() != "bool":
			s += " …"
		}
		return s
	}
	wide := 0
	f.VisitAll(func(x *pflag.Flag) {
		if !x.Hidden {
			wide = max(wide, utf8.RuneCountInString(head(x)))
		}
	})
	wide = min(wide, 34, max(20, a.printer().Columns()-36)) // the longest word has room beside
	var out strings.Builder
	f.VisitAll(func(x *pflag.Flag) {
		if x.Hidden {
			return
		}
		text := x.Usage
		if d := x.DefValue; !slices.Contains([]string{"", "false", "[]", "0"}, d) {
			text += " (else " + d + ")"
		}
		h := head(x)
		body := a.printer().Indented(strings.Repeat(" ", wide+3), text)
		if n := utf8.RuneCountInString(h); n <= wide {
			body = h + strings.Repeat(" ", wide-n+3) + strings.TrimLeft(body, " ")
		} else {
			body = h + "\n" + body
		}
		out.WriteString(body + "\n")
	})
	return out.String()
}

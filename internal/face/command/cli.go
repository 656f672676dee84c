// Package command holds the commands: flags in, a view out. It decides nothing.
package command

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"os/user"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/near"
	"tressik.example/internal/core/redact"
	"tressik.example/internal/face/format"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/seal"
	"tressik.example/internal/model"
	"tressik.example/internal/work/charter"
	"tressik.example/internal/work/desk"
)

// Exit statuses.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitFound  = 3
)

// ErrFound means that the command did its work and something was found wanting. It is not printed.
var ErrFound = errors.New("something was found wanting")

// usageError is for a command line that is wrong.
type usageError struct{ err error }

func (e usageError) Error() string { return e.err.Error() }
func (e usageError) Unwrap() error { return e.err }

// App carries what the commands share.
type App struct {
	In       io.Reader
	Out, Err io.Writer
	Env      func(string) string
	Build    Build

	ledger, actor, format string
	yes, every, force     bool
	redact                bool
	mask                  *redact.Mask
	hides                 func(string) string // what mask does, for several at once; nil where nothing is masked
	color                 bool
	run                   context.Context // of the command that runs
	stopped               context.Context // is done when the command was interrupted
	opened                ledger.Ledger
	// what stands in the ledger, at the moment when the command began or last changed it
	book   *model.Book
	end    func() error    // of that moment
	hands  bool            // it made secrets, and hands them out
	into   []string        // files and folders into which it writes them
	left   []model.Handing // what others made that were killed before they handed it out
	trial  bool            // the book is tried on, and nothing of it is kept
	dry    bool            // what changes is shown and not kept
	quiet  bool            // nothing is said of what was done
	width  int             // columns of a page, as they were said
	colors string          // auto, always, never
	// forProgram says that a program reads the answers, and so the errors
	forProgram bool
	typed      [][2]string // flags by the names that they had before, with those they have
	noHelp     error       // that there is no help of what was named
	// the registrar as which the command is run, and of a client that it made the registration
	registrarFile string
	by            *model.Registrar
	reg           *model.Registration
	told          *told // what is said once, such as which evidence a change takes back
}

// Build says what program this is.
type Build struct{ Version, Commit, Go string }

// Run runs the program and returns its exit status. Where ctx is done the command was interrupted: it stops at the
// next place where that leaves nothing half done.
func (a *App) Run(ctx context.Context, args []string) int {
	a.told = &told{}
	out := &output{w: a.Out}
	a.Out, a.run, a.stopped = out, ctx, ctx
	a.In = &input{a.In, ctx}
	root := a.root()
	asks := []string{cobra.ShellCompRequestCmd, cobra.ShellCompNoDescRequestCmd}
	if len(args) > 0 && slices.Contains(asks, args[0]) {
		a.completed(root)
	}
	a.forProgram = wantsJSON(args)
	root.SetArgs(args)
	root.SetIn(a.In)
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	err := root.ExecuteContext(ctx)
	for _, w := range []io.Writer{a.Out, a.Err} {
		if m, ok := w.(*masked); ok {
			m.flush()
		}
	}
	if err == nil {
		err = a.noHelp
	}
	if cerr := a.close(); err == nil && cerr != nil {
		err = cerr
	}
	if out.err != nil && (err == nil || errors.Is(err, ErrFound)) {
		err = out.err
	}
	var usage usageError
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, ErrFound):
		return exitFound
	case ctx.Err() != nil:
		return a.failed(errInterrupted, Interrupted)
	case errors.Is(err, syscall.EPIPE): // whoever read has read enough
		return exitFailed
	case errors.Is(err, os.ErrClosed), errors.Is(err, syscall.EBADF):
		fmt.Fprintln(a.Err, "tressik: standard output was closed before everything was written")
		return exitFailed
	case errors.As(err, &usage), isWrongValue(err):
		return a.failed(err, exitUsage)
	}
	return a.failed(err, exitFailed)
}

// output remembers that standard output could not be written, so that no command can end as if all had been said.
type output struct {
	w   io.Writer
	err error
}

func (o *output) Write(b []byte) (int, error) {
	n, err := o.w.Write(b)
	if err != nil && o.err == nil {
		o.err = err
	}
	return n, err
}

// flagError says of a flag's value what would do, in place of how it was parsed; and of a flag that is not known which
// ones are near.
func flagError(c *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	if errors.As(err, &unknown) {
		return usageError{unknownFlag(c, unknown.GetSpecifiedName())}
	}
	var none *pflag.ValueRequiredError
	if errors.As(err, &none) {
		f := none.GetFlag()
		return usageError{fmt.Errorf("--%s needs a value: write what is asked for, %s", f.Name, f.Usage)}
	}
	var bad *pflag.InvalidValueError
	if errors.As(err, &bad) {
		f := bad.GetFlag()
		want := map[string]string{"int": "a whole number", "bool": "true or false",
			"span": "a span of time such as 90s, 10m or 8h"}
		if w := want[f.Value.Type()]; w != "" {
			return usageError{fmt.Errorf("--%s %q is no value for it: write %s (%s)", f.Name, bad.GetValue(), w,
				f.Usage)}
		}
	}
	return usageError{err}
}

// isWrongValue tells errors about a value that was given by a flag and that no ledger would take: the command was used
// wrongly.
func isWrongValue(err error) bool {
	among := func(list ...error) bool {
		return slices.ContainsFunc(list, func(is error) bool { return errors.Is(err, is) })
	}
	switch {
	case among(charter.ErrCharter, ErrElsewhere):
		return false // the value stands in a file, or came from somebody else
	case among(keys.ErrUnknownKeyKind, federation.ErrAdmits):
		return true
	}
	return len(finding.FieldsOf(err)) > 0 &&
		among(federation.ErrValue, model.ErrValue, judge.ErrDomain, federation.ErrRegistrar, federation.ErrMapping)
}

// ErrElsewhere means that what went wrong came from the other side, and not from whoever runs the command.
var ErrElsewhere = errors.New("what it answered cannot be kept")

// flagOf is the flag by which a field is given: that of its name.
func flagOf(f finding.Field) string { return "--" + string(f) }

// words is the text of an error, with the flags of the fields that it names.
func words(err error) string { return finding.Say(err, flagOf) }

func explain(err error) string {
	s := words(err)
	var advised *finding.Advised
	if errors.As(err, &advised) {
		s += "; " + format.Remedy(advised.Fix)
	}
	switch {
	case errors.Is(err, ledger.ErrNoLedger):
		s += "; make one with `tressik init --org NAME`, or name one with --ledger or TRESSIK_LEDGER"
	case errors.Is(err, ledger.ErrNewer):
		s += "; use a newer Tressik"
	case errors.Is(err, model.ErrCopy):
		s += "; name a file that `tressik ledger backup` wrote, as it wrote it"
	case errors.Is(err, syscall.ENOSPC):
		s += "; make room and run the command again; the ledger is as it was"
	case errors.Is(err, os.ErrPermission):
		s += "; change the permissions or choose another place"
	}
	return s
}

func (a *App) root() *cobra.Command {
	cobra.EnableCommandSorting = false // in the order of the work, not of the alphabet
	c := &cobra.Command{
		Use:   "tressik",
		Short: "Federate apps with identity providers, and prove each sign-in before people depend on it",
		Long: `Tressik keeps both sides of every federation in one ledger, carries metadata, certificates,
claims and client registrations between them, compares both sides before anyone signs in, and rehearses
the sign-in end to end.

Start with ` + "`tressik demo`" + ` to see the whole story on made-up data, or with ` + "`tressik init`" + `.`,
		SilenceErrors: true, SilenceUsage: true, Version: a.Build.Version, Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, got []string) error {
			if len(got) > 0 {
				return unknownVerb(cmd, got[0])
			}
			p := firstScreen()
			if a.format != "table" {
				return usageError{errors.New("--format is for the commands: name one, such as `tressik trust list`")}
			}
			return a.print(p)
		},
		PersistentPreRunE: func(cmd *cobra.Command, got []string) error {
			if cmd.Annotations[lasts] != "" { // what it saw until then is kept
				a.run = context.WithoutCancel(a.run)
				cmd.SetContext(a.run)
			}
			switch {
			case a.width != 0 && (a.width < format.Narrowest || a.width > format.Widest):
				return usageError{fmt.Errorf("--width %d: write %d to %d", a.width, format.Narrowest, format.Widest)}
			case !slices.Contains([]string{"auto", "always", "never"}, a.colors):
				return usageError{fmt.Errorf("--color %q: write auto, always or never", a.colors)}
			}
			if !slices.Contains(format.Formats(), a.format) {
				return usageError{fmt.Errorf("--format %q is not known; choose one of %s", a.format,
					strings.Join(format.Formats(), ", "))}
			}
			return errors.Join(noForm(cmd), a.toStdout(cmd), a.redacted(), a.asRegistrar(cmd, got))
		},
	}
	c.SetFlagErrorFunc(flagError)
	f := c.PersistentFlags()
	f.StringVar(&a.ledger, "ledger", "", "the ledger: a file, or postgres://… (else TRESSIK_LEDGER, else "+
		"tressik.ledger here)")
	f.StringVar(&a.actor, "actor", "", "who acts, for the journal (else TRESSIK_ACTOR, else the system's user)")
	f.StringVar(&a.registrarFile, "registrar", "",
		"file with a registrar's token, as which the command is run (else TRESSIK_REGISTRAR)")
	f.StringVar(&a.format, "format", "table", "output: "+strings.Join(format.Formats(), ", "))
	f.BoolVar(&a.quiet, "quiet", false,
		"say nothing of what was done: the exit status tells, and errors are said; other forms than table are written")
	f.IntVar(&a.width, "width", 0, "columns of a page, 60 to 400 (else those of the terminal; 100 into a pipe)")
	f.StringVar(&a.colors, "color", "auto", "colour: auto (on a terminal, without NO_COLOR), always or never")
	f.BoolVar(&a.every, "every-check", false, "show each check that passed, not only how many")
	f.BoolVar(&a.redact, "redact", false,
		"show no secrets, tokens, names and addresses of people: words stand for them")
	f.BoolVar(&a.force, "force", false, "write over files that are there already")
	f.BoolVar(&a.yes, "yes", false, "answer yes where a question would be asked")
	must(c.RegisterFlagCompletionFunc("color", cobra.FixedCompletions([]string{"auto\ton a terminal", "always",
		"never"},
		cobra.ShellCompDirectiveNoFileComp)))
	must(c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(format.Formats(),
		cobra.ShellCompDirectiveNoFileComp)))
	for _, g := range []struct {
		title string
		list  []*cobra.Command
	}{ // in the order of the work
		{"Set up", []*cobra.Command{a.initCmd(), a.demoCmd(), a.partyCmd("provider"), a.partyCmd("app"),
			a.metadataCmd(),
			a.peopleCmd()}},
		{"Federate", []*cobra.Command{a.federateCmd(), a.trustCmd(), a.handoffCmd(), a.nextCmd(), a.claimsCmd(),
			a.accountsCmd(), a.routeCmd(), a.arrivalCmd()}},
		{"Clients, permissions, consent", []*cobra.Command{a.permissionCmd(), a.consentCmd(), a.secretCmd(),
			a.tokenCmd()}},
		{"Prove", []*cobra.Command{a.rehearseCmd(), a.probeCmd(), lasting(a.watchCmd()), a.inspectCmd(), a.proofCmd(),
			a.expectCmd(),
			lasting(a.stageCmd())}},
		{"Go live, and keep watch", []*cobra.Command{a.cutoverCmd(), a.checkCmd(), a.dueCmd(), a.keyCmd(),
			a.reportCmd(),
			a.publishCmd()}},
		{"Automate, and look back", []*cobra.Command{a.charterCmd(), a.registrarCmd(), lasting(a.serveCmd()),
			a.journalCmd(), a.ledgerCmd()}},
	} {
		c.AddGroup(&cobra.Group{ID: g.title, Title: g.title})
		for _, x := range g.list {
			x.GroupID = g.title
			c.AddCommand(x)
		}
	}
	c.AddCommand(a.versionCmd(), a.docsCmd())
	c.SetHelpCommand(helpCmd())
	a.renamed(c)
	a.layOutHelp(c)
	c.SuggestionsMinimumDistance = 2
	c.SetVersionTemplate("tressik {{.Version}}\n")
	strict(c)
	return c
}

// helpCmd shows the help of a command, and refuses one that is not there.
func helpCmd() *cobra.Command {
	return &cobra.Command{Use: "help [COMMAND…]", Short: "Help about any command",
		Example: "  tressik help trust show",
		ValidArgsFunction: func(c *cobra.Command, got []string, _ string) ([]string, cobra.ShellCompDirective) {
			of, _, err := c.Root().Find(got)
			var out []string
			if err == nil {
				for _, s := range of.Commands() {
					if s.IsAvailableCommand() {
						out = append(out, s.Name()+"\t"+s.Short)
					}
				}
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, got []string) error {
			of := c.Root()
			for _, word := range got {
				i := slices.IndexFunc(of.Commands(), func(s *cobra.Command) bool {
					return s.Name() == word || s.HasAlias(word)
				})
				if i < 0 {
					return unknownVerb(of, word)
				}
				of = of.Commands()[i]
			}
			of.InitDefaultHelpFlag()
			return helpOr(noTable(c), of)
		}}
}

// takesNames marks a command that has verbs below it, and takes names beside them.
const takesNames = "takes names"

// strict makes a noun without a known verb a usage error with near verbs.
func strict(c *cobra.Command) {
	for _, s := range c.Commands() {
		if s.HasSubCommands() && s.RunE != nil && s.Annotations[takesNames] == "" {
			inner := s.RunE
			s.Args = cobra.ArbitraryArgs
			s.RunE = func(cmd *cobra.Command, args []string) error {
				if len(args) > 0 {
					return unknownVerb(cmd, args[0])
				}
				return inner(cmd, args)
			}
		} else if s.HasSubCommands() && s.RunE == nil {
			s.Args = cobra.ArbitraryArgs
			s.RunE = func(cmd *cobra.Command, args []string) error {
				if len(args) == 0 {
					return helpOr(noTable(cmd), cmd)
				}
				return unknownVerb(cmd, args[0])
			}
			s.SuggestionsMinimumDistance = 2
		}
		strict(s)
	}
}

func unknownVerb(cmd *cobra.Command, verb string) error {
	u := &unknownWord{msg: fmt.Sprintf("unknown command %q for %q", verb, cmd.CommandPath()), value: verb,
		near: cmd.SuggestionsFor(verb)}
	for _, s := range cmd.Commands() { // what others call the same deed
		if slices.Contains(usual()[verb], s.Name()) && !slices.Contains(u.near, s.Name()) {
			u.near = append(u.near, s.Name())
		}
	}
	if len(u.near) == 0 {
		u.msg += "; see `" + cmd.CommandPath() + " --help`"
	}
	return usageError{u}
}

// usual are words for deeds that people know from other programs, and what they are here.
func usual() map[string][]string {
	gone, made, seen := []string{"remove", "end", "retire", "withdraw", "drop"},
		[]string{"add", "make", "load", "give", "announce", "ask", "publish"}, []string{"show", "list"}
	return map[string][]string{"delete": gone, "rm": gone, "del": gone, "destroy": gone, "revoke": gone, "unset": gone,
		"create": made, "new": made, "make": made, "import": append([]string{"load"}, made...), "grant": made,
		"get": seen, "describe": seen, "view": seen, "info": seen, "cat": seen, "ls": {"list"}, "search": {"find",
			"list"},
		"update": {"change", "set"}, "edit": {"change", "set"}, "modify": {"change", "set"}, "set": {"change"},
		"test": {"rehearse", "check", "expect"}, "validate": {"check", "verify"}, "verify": {"check"},
		"apply": {"enact"}, "diff": {"compare"}, "login": {"rehearse", "watch"}, "run": {"rehearse"}}
}

func unknownFlag(c *cobra.Command, name string) error {
	u := &unknownWord{msg: "unknown flag: --" + name + " of " + c.CommandPath(), value: "--" + name}
	if len(name) == 1 {
		u.msg, u.value = "unknown flag: -"+name+" of "+c.CommandPath(), "-"+name
	}
	var names []string
	c.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	for _, n := range near.Names(name, names) {
		u.near = append(u.near, "--"+n)
	}
	if len(u.near) == 0 {
		u.msg += "; see `" + c.CommandPath() + " --help`"
	}
	return u
}

// unknownWord is a word of the command line that is not known, with those that are near.
type unknownWord struct {
	msg, value string
	near       []string
}

func (u *unknownWord) Error() string {
	if len(u.near) > 0 {
		return u.msg + "; did you mean " + strings.Join(u.near, " or ") + "?"
	}
	return u.msg
}

func must(err error) {
	if err != nil {
		panic(err) // a mistake in this package: a flag of another name
	}
}

// args checks the number of arguments and says what they are.
func args(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, got []string) error {
		need, many := 0, false
		for _, n := range names {
			if !strings.HasPrefix(n, "[") {
				need++
			}
			many = many || strings.HasSuffix(strings.TrimSuffix(n, "]"), "…")
		}
		if len(got) < need {
			return usageError{fmt.Errorf("%s is missing; write: %s", names[len(got)], cmd.UseLine())}
		}
		for i, v := range got {
			if strings.TrimSpace(v) == "" {
				return usageError{fmt.Errorf("%s is empty; write: %s", strings.Trim(names[min(i, len(names)-1)], "[]…"),
					cmd.UseLine())}
			}
		}
		if len(got) > len(names) && !many {
			return usageError{fmt.Errorf("unexpected argument %q; write: %s", got[len(names)], cmd.UseLine())}
		}
		return nil
	}
}

func (a *App) now() (func() time.Time, error) {
	v := a.Env("TRESSIK_NOW")
	if v == "" {
		return func() time.Time { return time.Now().UTC() }, nil
	}
	t, err := time.Parse(time.RFC3339, v)
	if err != nil {
		return nil, usageError{fmt.Errorf("TRESSIK_NOW %q is no time; write it as 2031-03-04T09:00:00Z", v)}
	}
	return func() time.Time { return t.UTC() }, nil
}

func (a *App) ledgerPath() string {
	switch {
	case a.ledger != "":
		return a.ledger
	case a.Env("TRESSIK_LEDGER") != "":
		return a.Env("TRESSIK_LEDGER")
	}
	return "tressik.ledger"
}

// ledgerKey is the file of the ledger key, where it is named; the name that the variable had before is read for one
// version more.
func (a *App) ledgerKey() string {
	if v := a.Env("TRESSIK_LEDGER_KEY"); v != "" {
		return v
	}
	return a.Env("TRESSIK_SEAL_KEY")
}

// passphrase is that of the ledger key in a file: out of a file of its own, or asked for at the terminal.
func (a *App) passphrase(path string) (string, error) {
	if file := a.Env("TRESSIK_LEDGER_PASSPHRASE_FILE"); file != "" {
		b, err := seal.ReadSecret(file)
		if err != nil {
			return "", fmt.Errorf("TRESSIK_LEDGER_PASSPHRASE_FILE: %w", err)
		}
		line, _, _ := strings.Cut(string(b), "\n")
		return strings.TrimSuffix(line, "\r"), nil
	}
	f := a.keyboard()
	if f == nil {
		return "", fmt.Errorf("%w: %s: %w; run the command at a terminal, or name a file with the passphrase with "+
			"TRESSIK_LEDGER_PASSPHRASE_FILE", seal.ErrSealKey, path, seal.ErrLocked)
	}
	return a.askHidden(f, "Passphrase of "+path+": ")
}

// askHidden asks for something at the terminal that is not shown.
func (a *App) askHidden(f *os.File, words string) (string, error) {
	fmt.Fprint(a.Err, words)
	word, err := a.readPassword(f)
	fmt.Fprintln(a.Err)
	return word, err
}

func (a *App) options() (ledger.Options, error) {
	now, err := a.now()
	if err != nil {
		return ledger.Options{}, err
	}
	actor := a.actor
	if actor == "" {
		actor = a.Env("TRESSIK_ACTOR")
	}
	if actor == "" {
		if u, err := user.Current(); err == nil {
			actor = u.Username
		} else {
			actor = "unknown"
		}
	}
	if err := unproven(actor, a.by); err != nil && a.registrarFile+a.Env("TRESSIK_REGISTRAR") == "" {
		return ledger.Options{}, err
	}
	return ledger.Options{Env: model.Env{Actor: actor, Now: now, Rand: rand.Reader},
		SealKey: a.ledgerKey(), Passphrase: a.passphrase, Say: func(words string) { a.say("%s", words) }}, nil
}

// with makes a command's function out of one that works on the ledger.
func (a *App) with(f func(d *desk.Desk, args []string) error) func(*cobra.Command, []string) error {
	return func(_ *cobra.Command, args []string) error {
		d, err := a.desk()
		if err != nil {
			return err
		}
		return f(d, args)
	}
}

// print writes a page to standard output.
// withPeople opens the ledger for a command that looks at people: directories are asked again where that is due.
func (a *App) withPeople(f func(d *desk.Desk, args []string) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, got []string) error {
		d, err := a.desk()
		if err != nil {
			return err
		}
		a.freshen(cmd.Context(), d)
		return f(d, got)
	}
}

// print writes what a command tells. What was worked out with --dry-run is told as what would be.
func (a *App) print(p format.Page) error {
	if a.quiet && a.format == "table" {
		if p.Once == "" {
			return nil
		}
		_, err := fmt.Fprintln(a.Out, p.Once)
		return err
	}
	if a.dry && a.format == "table" { // programs read what stands there; they are told on standard error
		p.Blocks = append([]format.Block{{Lines: []string{"This is how it would be; nothing was kept (--dry-run)."}}},
			p.Blocks...)
	}
	return a.printer().Print(p)
}

func (a *App) printer() *format.Printer {
	p := a.printerTo(a.Out)
	p.W = unmasked(a.Out)
	p.Format, p.Every, p.Width = a.format, a.every, a.columns()
	return p
}

// printerTo writes to somebody beside the result.
func (a *App) printerTo(w io.Writer) *format.Printer {
	return &format.Printer{W: w, Color: a.colored(w), Mask: a.hides}
}

// columns is how wide a page is: as it was said, or as the terminal is; 0 is what a pipe gets.
func (a *App) columns() int {
	if a.width > 0 {
		return a.width
	}
	if f := a.screen(a.Out); f != nil {
		if wide, _, err := term.GetSize(int(f.Fd())); err == nil {
			return wide
		}
	}
	return 0
}

func (a *App) colored(w io.Writer) bool {
	switch {
	case a.color || a.colors == "always":
		return true
	case a.colors == "never":
		return false
	}
	return a.Env("NO_COLOR") == "" && a.terminal(w)
}

// terminal reports whether what is written is looked at as it comes, on a terminal that knows colours.
func (a *App) terminal(w io.Writer) bool { return a.Env("TERM") != "dumb" && a.screen(w) != nil }

// screen is the terminal to which is written; nil where there is none.
func (a *App) screen(w io.Writer) *os.File {
	for {
		if o, wrapped := w.(*output); wrapped {
			w = o.w
			continue
		}
		if m, wrapped := w.(*masked); wrapped {
			w = m.w
			continue
		}
		break
	}
	if f, ok := w.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return f
	}
	return nil
}

// say writes what was done to standard error, unless nobody wants to hear it.
func (a *App) say(words string, args ...any) {
	if !a.quiet {
		a.note(words, args...)
	}
}

// note writes to standard error what has to be heard: what is lacking, doubtful or costs something.
func (a *App) note(words string, args ...any) {
	fmt.Fprintln(a.Err, a.wrapped(fmt.Sprintf(words, args...)))
}

// wrapped is a message as it is written to standard error: on a terminal no line is wider, elsewhere it is one.
func (a *App) wrapped(s string) string {
	f := a.screen(a.Err)
	if f == nil {
		return format.Safe(s)
	}
	p := a.printerTo(a.Err)
	if wide, _, err := term.GetSize(int(f.Fd())); err == nil {
		p.Width = wide
	}
	return p.Wrapped(s)
}

// found returns ErrFound if a finding is an error.
func found(l finding.List) error {
	if l.Failed() {
		return ErrFound
	}
	return nil
}

// confirm asks a question on the terminal; --yes answers it, and without a terminal it must be given.
func (a *App) confirm(question string) error {
	if a.yes {
		return nil
	}
	if !a.canAsk() {
		return usageError{fmt.Errorf("%s Say --yes to go on without being asked", question)}
	}
	fmt.Fprintf(a.Err, "%s [y/N] ", format.Safe(question))
	var answer string
	fmt.Fscanln(a.In, &answer)
	if answer = strings.ToLower(answer); answer != "y" && answer != "yes" {
		return errors.New("nothing was done")
	}
	return nil
}

// names completes names out of the ledger; which says of what kinds.
func (a *App) names(which string, max int) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(_ *cobra.Command, got []string, typed string) ([]string, cobra.ShellCompDirective) {
		if max > 0 && len(got) >= max {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		d, err := a.desk()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		if which == "person" {
			var out []string
			for p, err := range d.PersonsFrom(typed) {
				if err != nil || len(out) == 200 { // nobody reads more
					break
				}
				out = append(out, p.ID+"\t"+format.Safe(p.Name()))
			}
			return out, cobra.ShellCompDirectiveNoFileComp
		}
		if which == "trust" {
			trusts, _ := d.TrustNames(typed)
			return trustWords(d, trusts), cobra.ShellCompDirectiveNoFileComp
		}
		kinds := []federation.Kind{federation.Provider, federation.App}
		if which == "provider" || which == "app" {
			kinds = []federation.Kind{federation.Kind(which)}
		}
		var parties []string
		for _, kind := range kinds {
			list, _ := d.PartyNames(kind, typed)
			parties = append(parties, list...)
		}
		return partyWords(d, parties), cobra.ShellCompDirectiveNoFileComp
	}
}

package command

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/arrivals"
	"tressik.example/internal/work/desk"
)

// completer gives what may follow, each with a description behind a tab.
type completer = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

// described is so many names that each is shown with what it is; more are shown alone, since each has to be read.
const described = 300

// completed gives every flag and argument of every command a completion: values that are known with what they mean,
// files where a file is meant, and nothing where nobody can know. It is asked for where a shell completes: it takes
// longer than many commands.
func (a *App) completed(root *cobra.Command) {
	for _, c := range root.Commands() {
		if c.Name() == "completion" || c.Name() == "help" {
			continue
		}
		if c.ValidArgsFunction == nil && c.Runnable() {
			c.ValidArgsFunction = a.arguments(c)
		}
		c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
			if _, is := c.GetFlagCompletionFunc(f.Name); !is && f.Value.Type() != "bool" {
				must(c.RegisterFlagCompletionFunc(f.Name, a.values(c, f)))
			}
		})
		a.completed(c)
	}
	for _, name := range []string{"actor", "width"} {
		if root.PersistentFlags().Lookup(name) != nil {
			must(root.RegisterFlagCompletionFunc(name, cobra.NoFileCompletions))
		}
	}
}

// takesFiles tells a command whose arguments are files.
var takesFiles = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(` (FILE|SOURCE|DIR|A B)`)
})

// arguments completes the arguments of a command that has no completion of its own.
func (a *App) arguments(c *cobra.Command) completer {
	_, path, _ := strings.Cut(c.CommandPath(), " ")
	files := takesFiles().MatchString(c.Use)
	switch {
	case strings.HasPrefix(path, "registrar client "):
		return func(cmd *cobra.Command, got []string, s string) ([]string, cobra.ShellCompDirective) {
			if files && len(got) == strings.Count(c.Use, "TRUST") {
				return nil, cobra.ShellCompDirectiveDefault
			}
			return a.names("trust", 1)(cmd, got, s)
		}
	case path == "registrar retire":
		return a.listed(func(d *desk.Desk) (out []string) {
			list, _ := d.Registrars()
			for i := range list {
				out = append(out, list[i].Registrar.Name+"\tat "+list[i].Registrar.Provider)
			}
			return out
		})
	case path == "route remove", path == "route add":
		return a.listed(func(d *desk.Desk) (out []string) {
			list, _ := (&arrivals.Router{Book: d.Book}).Routes()
			for i := range list {
				out = append(out, list[i].Domain+"\tby "+list[i].Trust)
			}
			return out
		})
	case path == "expect remove":
		return a.listed(func(d *desk.Desk) (out []string) {
			list, _ := d.View.Expectations("")
			for i := range list {
				out = append(out, fmt.Sprintf("%d\t%s: %s", list[i].ID, list[i].Trust, list[i].Words()))
			}
			return out
		})
	case files:
		return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveDefault
		}
	}
	return cobra.NoFileCompletions
}

// listed completes a first argument from the ledger.
func (a *App) listed(of func(d *desk.Desk) []string) completer {
	return func(_ *cobra.Command, got []string, _ string) ([]string, cobra.ShellCompDirective) {
		d, err := a.desk()
		if err != nil || len(got) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return of(d), cobra.ShellCompDirectiveNoFileComp
	}
}

// Words of a flag's description that say what it takes.
var (
	wantsFile = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)\bfile\b|\bfolder\b|^(also write|CSV with)|PKCS #12|HTTP Archive`)
	})
	wantsOn = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`\bon or off\b|\bon, off\b`)
	})
)

// values completes a flag: by its name, by the words of its description, or with nothing.
func (a *App) values(c *cobra.Command, f *pflag.Flag) completer {
	fixed := fixedValues()[f.Name]
	switch {
	case f.Name == "encrypt":
		fixed = []string{"on", "off", "required\tthe app refuses plain ones"}
	case wantsOn().MatchString(f.Usage):
		fixed = []string{"on", "off"}
	}
	if fixed != nil {
		return cobra.FixedCompletions(fixed, cobra.ShellCompDirectiveNoFileComp)
	}
	switch f.Name {
	case "admits":
		return a.fromLedger(func(d *desk.Desk, _ []string) []string {
			return append([]string{"everyone\twhoever signs in at the provider",
				"consented\tOpenID: who agreed to what the client asks for"}, groups(d, "group:")...)
		})
	case "administrators", "pilot":
		return a.fromLedger(func(d *desk.Desk, _ []string) []string { return groups(d, "group:") })
	case "group", "groups":
		return a.fromLedger(func(d *desk.Desk, _ []string) []string { return groups(d, "") })
	case "call", "may-ask", "answered", "denied":
		return a.fromLedger(func(d *desk.Desk, _ []string) []string { return published(d) })
	case "scope":
		return a.fromLedger(func(d *desk.Desk, got []string) []string {
			if len(got) == 0 {
				return nil
			}
			t, _, _, err := d.Trust(got[0])
			if err != nil {
				return nil
			}
			var out []string
			for _, x := range t.Asks() {
				out = append(out, x.Name+"\tasked for "+map[string]string{federation.AsUser: "on behalf of a user",
					federation.AsSelf: "as itself"}[x.As])
			}
			return out
		})
	case "done", "waive":
		return a.fromLedger(a.openSteps)
	case "real":
		return a.fromLedger(func(d *desk.Desk, _ []string) (out []string) {
			for _, kind := range []federation.Kind{federation.Provider, federation.App} {
				parties, _ := d.View.Parties(kind)
				for _, p := range parties {
					if !p.Own {
						out = append(out, p.Name+"\t"+string(kind)+" "+p.Title)
					}
				}
			}
			return out
		})
	case "by":
		if c.Name() == "add" {
			return cobra.FixedCompletions(families(), cobra.ShellCompDirectiveNoFileComp)
		}
	case "strangers":
		return cobra.FixedCompletions([]string{"created\tthe app makes an account",
			"refused\tthe app lets nobody else in"},
			cobra.ShellCompDirectiveNoFileComp)
	}
	if wantsFile().MatchString(f.Usage) || f.Name == "metadata" || f.Name == "key" || f.Name == "cert" ||
		f.Name == "out" {
		return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return nil, cobra.ShellCompDirectiveDefault
		}
	}
	return cobra.NoFileCompletions
}

// fixedValues are the values that a flag takes at any command, each with what it means.
func fixedValues() map[string][]string {
	kinds := []string{"rsa-2048\twhat every app takes", "rsa-3072", "rsa-4096", "ecdsa-p256\tsmall, and fast",
		"ecdsa-p384"}
	allow := []string{"allow", "refuse"}
	return map[string][]string{
		"acting": {"user\ton behalf of a user", "self\tas itself"}, "agreed-by": {"1", "2"},
		"key-kind": kinds, "kinds": {"web", "user-agent", "native", "machine"},
		"client-auth": {"basic\tclient_secret_basic", "post\tclient_secret_post", "key\tprivate_key_jwt",
			"any\ttakes the pin away"},
		"id-token-alg": {"RS256", "ES256", "PS256", "EdDSA", "none\ttakes it away"},
		"factors":      {"password\tone factor", "both\tboth factors when asked"},
		"starts":       {"app", "provider"}, "bind": {"verified\tthey are meant", "never"},
		"known": {"updated", "kept"}, "unknown": {"created", "refused"},
		"needs":         {"admin\tonly an administrator can agree"},
		"nameid-format": {"persistent", "transient", "email", "unspecified"},
		"name-format":   {"uri", "basic", "unspecified"}, "past-bounds": {"refused", "waits\tfor an administrator"},
		"several": {"first", "all"}, "sha1": allow, "unsolicited": allow,
		"suppose": {"acs=\tanother assertion consumer service", "entity-id=\tanother entity ID",
			"clock=\tclocks that differ, +10m", "key=other\tanother signing key"},
		"schedule": {"cron", "timer\tsystemd"}, "draw": {onTerminal + "\tin this terminal"},
		"pkce": {"on", "off\twarned of each time"},
	}
}

// fromLedger completes out of the ledger; got are the arguments before.
func (a *App) fromLedger(of func(d *desk.Desk, got []string) []string) completer {
	return func(_ *cobra.Command, got []string, typed string) ([]string, cobra.ShellCompDirective) {
		d, err := a.desk()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		head := ""
		if i := strings.LastIndex(typed, ","); i >= 0 { // several with commas
			head = typed[:i+1]
		}
		var out []string
		for _, v := range of(d, got) {
			value, what, _ := strings.Cut(v, "\t")
			out = append(out, head+format.Safe(value)+"\t"+format.Safe(what))
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

// groups are those of the people, with how many are in each.
func groups(d *desk.Desk, head string) (out []string) {
	c, err := d.Crowd()
	if err != nil {
		return nil
	}
	for _, g := range c.GroupNames() {
		out = append(out, head+g+"\t"+format.Count(c.In(g), "person"))
	}
	return out
}

// published are the permissions of all APIs, with what they let a client do.
func published(d *desk.Desk) (out []string) {
	apis, err := d.APIs()
	if err != nil {
		return nil
	}
	for name, p := range apis {
		for _, x := range p.API.Permissions {
			out = append(out, name+":"+x.Name+"\t"+x.Says)
		}
	}
	slices.Sort(out)
	return out
}

// openSteps are the steps of a trust that are not done.
func (a *App) openSteps(d *desk.Desk, got []string) (out []string) {
	if len(got) == 0 {
		return nil
	}
	_, todos, err := d.Sides().Next(got[0])
	if err != nil {
		return nil
	}
	for _, x := range todos {
		if !x.Done {
			out = append(out, string(x.ID)+"\t"+x.Step)
		}
	}
	return out
}

// families are the beginnings of findings' IDs.
func families() (out []string) {
	for _, e := range finding.Catalogue() {
		f, _, _ := strings.Cut(string(e.ID), ".")
		if !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	slices.Sort(out)
	return out
}

// partyWords are names of parties, each with what it is, where they are few.
func partyWords(d *desk.Desk, names []string) []string {
	if len(names) > described {
		return names
	}
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = n
		if p, err := d.View.Party(n); err == nil {
			out[i] += "\t" + string(p.Kind) + format.Safe(" "+p.Title)
		}
	}
	return out
}

// trustWords are names of trusts, each with its standing, where they are few.
func trustWords(d *desk.Desk, names []string) []string {
	if len(names) > described {
		return names
	}
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = n
		if t, err := d.View.Trust(n); err == nil {
			out[i] += "\t" + string(t.Standing) + ", over " + t.Over()
		}
	}
	return out
}

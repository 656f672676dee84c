package command

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/charter"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/handoff"
	"tressik.example/internal/work/registrar"
)

// termFlags are the terms of a trust.
type termFlags struct {
	admits, strength, signs, encrypt, requests, unsolicited, sha1,
	force, passive, owner string
	ends, speaks []string
	reads        federation.MappingInput
	policy       policyFlags
}

func (t *termFlags) add(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&t.admits, "admits", "",
		"who may sign in: everyone, or group:NAME and person:ID (several with commas); over OpenID Connect also "+
			"consented")
	f.StringVar(&t.strength, "strength", "", "how strongly people must be authenticated: any, mfa, or context "+
		"classes that are taken, with commas from the weakest to the strongest")
	f.StringVar(&t.signs, "signs", "", "SAML: what the provider signs: assertion, response or both")
	f.StringVar(&t.encrypt, "encrypt", "",
		"SAML: whether assertions are encrypted to the app: on, off, or required: then the app refuses plain ones")
	f.StringVar(&t.requests, "sign-requests", "", "SAML: whether the app's requests must be signed: on or off")
	f.StringVar(&t.unsolicited, "unsolicited", "",
		"SAML: whether the app takes a response it did not ask for: allow or refuse")
	f.StringVar(&t.sha1, "sha1", "", "SAML: whether SHA-1 signatures pass, with a warning each time: allow or refuse")
	f.StringVar(&t.force, "force-authn", "", "SAML: whether the app asks for a fresh sign-in each time: on or off")
	f.StringVar(&t.passive, "is-passive", "", "SAML: whether the app asks for no sign-in page to be shown: on or off")
	f.StringArrayVar(&t.reads.Reads, "reads", nil, "FIELD=NAME: the name under which this provider sends what fills a "+
		"field of the app's accounts; as-app has it read as any other's")
	f.StringVar(&t.reads.Key, "account-key", "",
		"the field by which the app finds an account of this provider's people")
	f.StringVar(&t.reads.Role, "role-field", "", "the field that decides what this provider's people may do there")
	f.StringVar(&t.reads.Strangers, "strangers", "", "what becomes of this provider's people without an account: "+
		"created or refused")
	f.StringArrayVar(&t.ends, "ends", nil, "what ends at the other side and no metadata shows: WHAT=2032-03-04, "+
		"WHAT=unused:90d, or WHAT=none")
	f.StringSliceVar(&t.speaks, "speaks-for", nil, "for whom the provider may speak: domains of names, such "+
		"as southmere.example or *.southmere.example; scopes, those of its metadata; CLAIM=VALUE, a tenant that "+
		"it has to say. Others are refused; none takes it all away")
	f.StringVar(&t.owner, "owner", "", "mail address of whom to ask about the trust; none takes it away")
	t.policy.add(c)
	must(c.RegisterFlagCompletionFunc("strength", cobra.FixedCompletions([]string{"any", "mfa"},
		cobra.ShellCompDirectiveNoFileComp)))
	must(c.RegisterFlagCompletionFunc("signs", cobra.FixedCompletions([]string{"assertion", "response", "both"},
		cobra.ShellCompDirectiveNoFileComp)))
}

// isZero reports whether nothing is said.
func (t *termFlags) isZero() bool { return reflect.DeepEqual(*t, termFlags{}) }

func (t *termFlags) terms(ctx context.Context, a *App) (x desk.Terms, err error) {
	x = desk.Terms{Admits: t.admits, Strength: t.strength, Signs: t.signs, Owner: t.owner,
		Ends: t.ends, SpeaksFor: t.speaks, Reads: t.reads}
	if x.Policy, err = t.policy.terms(ctx, a); err != nil {
		return x, err
	}
	encrypt, required := t.encrypt, t.encrypt == "required"
	if required {
		encrypt = "on"
	}
	if encrypt != "" {
		x.PlainRefused = &required
	}
	for _, b := range []struct {
		flag, v string
		to      **bool
	}{{"--encrypt", encrypt, &x.Encrypts}, {"--sign-requests", t.requests, &x.SignsRequests},
		{"--unsolicited", t.unsolicited, &x.Unsolicited}, {"--sha1", t.sha1, &x.AllowSHA1},
		{"--force-authn", t.force, &x.ForceAuthn}, {"--is-passive", t.passive, &x.IsPassive}} {
		if *b.to, err = onOff(b.flag, b.v); err != nil {
			return x, err
		}
	}
	return x, nil
}

// beyondNext are the findings that no command of Tressik mends: a trust that was just made lacks much, and what the
// next step brings is nothing that went wrong.
func beyondNext(fs finding.List) finding.List {
	return slices.DeleteFunc(slices.Clone(fs), func(f finding.Finding) bool { return len(f.Fix.Commands()) > 0 })
}

func (a *App) federateCmd() *cobra.Command {
	var with, over, letter string
	var tf termFlags
	var reg registerFlags
	protocols := strings.Join(federation.Protocols(), " or ")
	c := &cobra.Command{Use: "federate APP --with PROVIDER",
		Short: "Make the trust between an app and a provider, and compare both sides", Args: args("APP"),
		Long: `Make the trust between an app and a provider. Over SAML all that follows from both metadata is filled
in. Over OpenID Connect the app's client is registered: an own provider issues the client ID; at a foreign one give
the client ID that its owner issued. An own provider can itself be the app, before a provider upstream of it. With
--handoff the protocol, the client ID and what the client asks for are read from what the other side's ledger wrote.
It ends with exit status 0 where commands bring what is still missing, and with 3 where a side has to change something
that no command can, such as a certificate that has run out.`,
		Example: `  tressik federate plate-archive --with southmere --admits group:visitors
  tressik federate dome-scheduler --with southmere --over oidc --client-id kestrel-7f3a`,
		ValidArgsFunction: a.names("", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			if with == "" {
				return usageError{errors.New("--with PROVIDER is missing")}
			}
			if !slices.Contains(federation.Protocols(), over) {
				return usageError{fmt.Errorf("--over %q is not known; write %s", over, protocols)}
			}
			x, err := tf.terms(cmd.Context(), a)
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			var l *handoff.Letter
			if letter != "" {
				if l, err = a.letter(letter, ""); err != nil {
					return err
				}
				over = l.Over
				if c := l.Client; c != nil && l.For == "app" && tf.policy.clientID == "" {
					tf.policy.clientID = c.ID
				}
				if c := l.Client; c != nil && c.Kind == string(oidc.Web) && len(c.Itself) > 0 {
					yes := true
					x.Policy.AsItself = &yes
				}
			}
			if !reg.register {
				if err := needs(cmd, "register", "initial-access-token-file", "secret-out"); err != nil {
					return err
				}
			}
			if reg.register {
				t, fs, err := a.registered(d, &reg, got[0], with, x)
				if err != nil || t == nil {
					return err
				}
				return a.federated(d, t, fs)
			}
			t, fs, err := changed2(a, d, func() (*federation.Trust, finding.List, error) {
				t, fs, err := d.Federate(over, got[0], with, tf.policy.clientID, x)
				if err == nil && l != nil && l.Client != nil {
					err = asks(d, t.Name, l)
				}
				return t, fs, err
			})
			if errors.Is(err, desk.ErrClientID) {
				return usageError{err}
			}
			if err != nil {
				return err
			}
			return a.federated(d, t, fs)
		}}
	reg.add(c)
	letterFlag(c, &letter)
	c.Flags().StringVar(&with, "with", "", "the provider")
	c.Flags().StringVar(&over, "over", "saml", "the protocol: "+protocols)
	must(c.RegisterFlagCompletionFunc("over", cobra.FixedCompletions(federation.Protocols(),
		cobra.ShellCompDirectiveNoFileComp)))
	must(c.RegisterFlagCompletionFunc("with", a.names("provider", 0)))
	tf.add(c)
	return a.repeats(c, trustThere(&with))
}

// federated shows a trust that was just made.
func (a *App) federated(d *desk.Desk, t *federation.Trust, fs finding.List) error {
	terms, err := layout.Terms(d, t)
	if err != nil {
		return err
	}
	blocks := []format.Block{{Lines: []string{fmt.Sprintf("trust %s made, standing: %s", t.Name, t.Standing)}},
		{Title: "Both sides compared", Findings: fs, Passed: true}}
	blocks = append(blocks, terms...)
	blocks = append(blocks, format.Block{Lines: []string{fmt.Sprintf("What is left to do: `tressik next %s`",
		t.Name)}})
	if err := a.print(format.Page{Data: layout.TrustData{TrustResult: desk.TrustResultOf(t), Findings: fs},
		Blocks: blocks}); err != nil {
		return err
	}
	return found(beyondNext(fs))
}

func (a *App) trustCmd() *cobra.Command {
	c := &cobra.Command{Use: "trust", Short: "List, show, change, end and remove trusts"}
	c.AddCommand(a.trustList(), a.trustShow(), a.tries(a.trustChange()), a.tries(a.trustCopy()),
		a.trustCompare(), a.trustRegistration(), a.tries(a.trustEnd()), a.tries(a.trustRemove()))
	return c
}

func (a *App) trustList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the trusts with their standing", Args: args(),
		Example: "  tressik trust list",
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			list, err := d.Trusts()
			if err != nil {
				return err
			}
			b := format.Block{Verdicts: []int{1}, Head: []string{"Trust", "Standing", "Admits", "Strength", "Over",
				"Rests on"}, Noun: "trust",
				Empty: "There is no trust yet. Make the first with `tressik federate APP --with PROVIDER`."}
			for _, t := range list {
				b.Rows = append(b.Rows, []string{t.Name, layout.StandingShort(&t), t.Admission().Short(), t.Strength,
					t.Over(), layout.ProofShort(&t, d.Now())})
			}
			return a.print(format.Page{Data: later(list, desk.TrustResultOf), Blocks: []format.Block{b}})
		})}
}

func (a *App) trustShow() *cobra.Command {
	return &cobra.Command{Use: "show TRUST", Short: "Show a trust: terms, claims, both sides compared, last rehearsal",
		Args:    args("TRUST"),
		Example: "  tressik trust show nightlog@ridge", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			t, app, provider, fs, err := d.Sides().Compared(got[0])
			if err != nil {
				return err
			}
			page, err := layout.Trust(d, t, app, provider, fs)
			if err != nil {
				return err
			}
			return a.print(page)
		})}
}

func (a *App) trustChange() *cobra.Command {
	var tf termFlags
	c := &cobra.Command{Use: "change TRUST", Short: "Change the terms of a trust", Args: args("TRUST"),
		Long: `Change what a trust allows. Over OpenID Connect each policy is enforced at the provider's endpoints,
and a refusal names the policy that refused: who is admitted, from which networks, how strongly, how long a session
and its tokens last.`,
		Example: `  tressik trust change nightlog@ridge --admits group:observers --strength mfa
  tressik trust change dome-scheduler@ridge --sign-in-from 192.0.2.0/24,2001:db8::/32 --access-token 10m
  tressik trust change frame-courier@ridge --client-key courier.pem
  tressik trust change ridge@southmere --ends "client secret=180d" --ends "authorisation=unused:90d"
  tressik trust change ridge@southmere --client-id kestrel-ridge-8b21`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			if tf.isZero() {
				return usageError{errors.New("nothing to change; give one of the terms (see --help)")}
			}
			x, err := tf.terms(cmd.Context(), a)
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			if _, err := changed(a, d,
				func() (*federation.Trust, error) { return d.ChangeTrust(got[0], x) }); err != nil {
				return err
			}
			t, _, _, fs, err := d.Sides().Compared(got[0])
			if err != nil {
				return err
			}
			terms, err := layout.Terms(d, t)
			if err != nil {
				return err
			}
			blocks := append([]format.Block{{Lines: []string{"trust " + t.Name + " changed"}}}, terms...)
			if open := fs.Without(finding.Pass); len(open) > 0 {
				blocks = append(blocks, format.Block{Title: "Findings", Findings: open})
			}
			if err := a.print(format.Page{Data: layout.TrustData{TrustResult: desk.TrustResultOf(t), Findings: fs},
				Blocks: blocks}); err != nil {
				return err
			}
			return found(fs)
		}}
	tf.add(c)
	return c
}

// leaves asks before a trust is given up, and says where it is the only way into its app.
func (a *App) leaves(d *desk.Desk, trust, question string) error {
	only, err := d.OnlyWay(trust)
	if err != nil {
		return err
	}
	if !a.dry { // then nothing is given up
		if err := a.confirm(only + question); err != nil {
			return err
		}
	}
	if only != "" {
		a.note("note: %s", strings.TrimSpace(only))
	}
	return nil
}

// goes gives up a trust by what f does. A client that was registered at its provider by the protocol is taken away
// there first, unless it is left; the trust stands where that fails. It returns what there is to say of that client.
func (a *App) goes(d *desk.Desk, trust, question string, leave bool, f func() error) (said []string, err error) {
	k := &registrar.Keeper{Desk: d}
	at, err := k.Elsewhere(trust)
	if err != nil {
		return nil, err
	}
	if at != nil && !leave {
		question += " Its client is taken away at the provider as well."
	}
	if err := a.leaves(d, trust, question); err != nil {
		return nil, err
	}
	switch {
	case at == nil:
	case leave:
		said = []string{"Its client is still registered at " + reach.Shown(at.Endpoint) + "."}
	case a.dry:
		said = []string{"Its client would be taken away at " + reach.Shown(at.Endpoint) + "."}
	default:
		if err := a.withdraw(at); err != nil {
			return nil, fmt.Errorf("nothing was changed: the client could not be taken away at its provider (%w); "+
				"--leave-registered leaves it there", err)
		}
		said = []string{"Its client is taken away at the provider."}
	}
	return said, a.change(d, func() error {
		if err := f(); err != nil || at == nil || leave {
			return err
		}
		return k.Gone(trust)
	})
}

const leaveRegistered = "leave the client registered at a provider where federate --register registered it"

func (a *App) trustEnd() *cobra.Command {
	var leave bool
	c := &cobra.Command{Use: "end TRUST", Short: "End a trust; it stays on record", Args: args("TRUST"),
		Example: "  tressik trust end nightlog@ridge --yes", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			var t *federation.Trust
			said, err := a.goes(d, got[0], "End the trust "+got[0]+"? It cannot be taken up again.", leave,
				func() (err error) { t, err = d.EndTrust(got[0]); return err })
			if err != nil {
				return err
			}
			after, err := d.After(t.Name, nil, true)
			if err != nil {
				return err
			}
			lines := append(append([]string{"trust " + t.Name + " ended"}, said...), after.Words...)
			if leave && len(said) > 0 {
				lines = append(lines, "`tressik trust registration "+t.Name+" --remove` takes it away there.")
			}
			return a.print(format.Page{Data: desk.TrustResultOf(t),
				Blocks: []format.Block{{Lines: append(lines,
					"Tell both sides to take each other out: the other side's settings are not "+
						"Tressik's to change.")}}})
		})}
	c.Flags().BoolVar(&leave, "leave-registered", false, leaveRegistered)
	return c
}

func (a *App) trustRemove() *cobra.Command {
	var leave bool
	c := &cobra.Command{Use: "remove TRUST", Short: "Take a trust out of the ledger; the journal keeps what it was",
		Args:    args("TRUST"),
		Example: "  tressik trust remove nightlog@ridge --yes", ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			after, err := d.After(got[0], nil, true)
			if err != nil {
				return err
			}
			said, err := a.goes(d, got[0], "Remove the trust "+got[0]+"?", leave,
				func() error { return d.RemoveTrust(got[0]) })
			if err != nil {
				return err
			}
			if leave && len(said) > 0 {
				said = append(said, "The token by which it is taken away is forgotten; ask its owner there.")
			}
			return a.print(format.Page{Data: desk.Removed{Name: got[0]},
				Blocks: []format.Block{{Lines: append(append([]string{"trust " + got[0] + " removed"}, said...),
					after.Words...)}}})
		})}
	c.Flags().BoolVar(&leave, "leave-registered", false, leaveRegistered)
	return c
}

func (a *App) nextCmd() *cobra.Command {
	var done, waive string
	var reason string
	c := &cobra.Command{Use: "next [TRUST]", Short: "What is done, what is left, and the command for the next step",
		Args: args("[TRUST]"),
		Long: `Show what is done and what is left for a trust, with the command for each step; for all trusts, what is
left. A step that was done elsewhere can be ticked by its number (--done), and one that need not be done waived
(--waive), each with the reason.`,
		Example: `  tressik next nightlog@ridge
  tressik next nightlog@ridge --waive watched --reason "the app has no test account"`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			if done != "" || waive != "" {
				if err := a.settleStep(d, got, done, waive, reason); err != nil {
					return err
				}
			}
			if len(got) == 0 {
				return a.nextAll(d)
			}
			t, todos, err := d.Sides().Next(got[0])
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: handoff.Left{Standing: t.Standing, Steps: todos, Trust: t.Name},
				Blocks: []format.Block{layout.Next(t, todos, d.Now())}})
		})}
	c.Flags().StringVar(&done, "done", "", "number or ID of a step that was done elsewhere")
	c.Flags().StringVar(&waive, "waive", "", "number or ID of a step that need not be done")
	c.Flags().StringVar(&reason, "reason", "", "why it is settled by hand")
	return c
}

// settleStep ticks or waives a step of a trust by its number.
func (a *App) settleStep(d *desk.Desk, got []string, done, waive string, reason string) error {
	switch {
	case len(got) == 0:
		return usageError{errors.New("name the TRUST whose step it is")}
	case done != "" && waive != "":
		return usageError{errors.New("choose one of --done and --waive")}
	case strings.TrimSpace(reason) == "":
		return usageError{errors.New("--reason is missing: say why the step is settled by hand")}
	}
	t, todos, err := d.Sides().Next(got[0])
	if err != nil {
		return err
	}
	word := done + waive
	at := slices.IndexFunc(todos, func(x handoff.Todo) bool { return string(x.ID) == word })
	if n, err := strconv.Atoi(word); err == nil {
		at = n - 1
	}
	if at < 0 || at >= len(todos) {
		return usageError{fmt.Errorf("there is no step %s of %s; see `tressik next %s`", word, t.Name, t.Name)}
	}
	x := todos[at]
	if x.Done {
		return usageError{fmt.Errorf("step %s of %s is done already: %s", word, t.Name, x.Step)}
	}
	s := &model.Settled{ID: x.ID, Step: x.Step, Waived: waive != "", Reason: reason}
	return a.change(d, func() error { return desk.SettleStep(d, t.Name, s) })
}

func (a *App) nextAll(d *desk.Desk) error {
	d.Turn(model.Remember(d.View, model.Trusts, model.Parties, model.Secrets, model.Consents, model.Uses,
		model.Accepted))
	providers, apps, trusts, err := d.AllNames()
	if err != nil {
		return err
	}
	data := []handoff.Left{}
	var blocks []format.Block
	for _, n := range trusts {
		t, todos, err := d.Sides().Next(n)
		if err != nil {
			return err
		}
		data = append(data, handoff.Left{Standing: t.Standing, Steps: todos, Trust: n})
		blocks = append(blocks, layout.NextOpen(t, todos, d.Now()))
	}
	if len(trusts) == 0 {
		steps := []string{"  open  make a trust", "          tressik federate APP --with PROVIDER"}
		if len(apps) == 0 {
			steps = append([]string{"  open  add an app", "          tressik app add NAME --metadata SOURCE"}, steps...)
		}
		if len(providers) == 0 {
			steps = append([]string{"  open  add a provider", "          tressik provider add NAME --metadata SOURCE"},
				steps...)
		}
		blocks = append(blocks, format.Block{Title: "To begin with", Lines: steps})
	}
	return a.print(format.Page{Data: data, Blocks: blocks})
}

func (a *App) trustCopy() *cobra.Command {
	var in charter.Copying
	var replace []string
	c := &cobra.Command{Use: "copy TRUST --to APP@PROVIDER", Short: "Make a trust one of another environment",
		Args: args("TRUST"),
		Long: `Make a trust of another environment out of one that was tried: its terms, claims, permissions and
expectations, and the client side of its app where the new app is not there yet, with --replace putting other texts
in the place of those that belong to the old one. The copy gets a client ID of its own; no secret, no key and
nobody's consent is carried. What would still name the old app or its hosts, or lead to this machine, is refused.`,
		Example: `  tressik trust copy dome-scheduler@ridge --to dome@ridge --replace dome-scheduler=dome \
      --replace dome.kestrelridge.example=dome-live.kestrelridge.example --replace "Dome Scheduler=Dome" --dry-run`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			in.From = got[0]
			if in.To == "" {
				return usageError{errors.New("--to is missing; write the new trust, APP@PROVIDER")}
			}
			for _, r := range replace {
				old, now, ok := strings.Cut(r, "=")
				if !ok || old == "" {
					return usageError{fmt.Errorf("--replace %q: write OLD=NEW", r)}
				}
				in.Replace = append(in.Replace, [2]string{old, now})
			}
			if _, err := d.View.Trust(in.To); err == nil {
				return fmt.Errorf("%s is there already; compare both with `tressik trust compare %s %[1]s`", in.To,
					in.From)
			}
			f, err := charter.Copy(d.Book, in)
			if err != nil {
				return err
			}
			var list *charter.Comparison
			if err := a.change(d, func() (err error) {
				list, _, err = (&charter.Enactor{Desk: d, File: f, Read: map[string][]byte{}}).Run("")
				return err
			}); err != nil {
				return err
			}
			list.Enacted = !a.dry
			steps, err := list.Next(d)
			if err != nil {
				return err
			}
			blocks := append(layout.Comparison(list, true), layout.Steps(steps))
			return a.print(format.Page{Data: enacted{list, steps}, Blocks: blocks})
		})}
	c.Flags().StringVar(&in.To, "to", "", "the new trust: APP@PROVIDER")
	c.Flags().StringArrayVar(&replace, "replace", nil, "OLD=NEW: what stands for a text of the old one in the new one")
	return c
}

func (a *App) trustCompare() *cobra.Command {
	return &cobra.Command{Use: "compare TRUST TRUST", Short: "Show in what two trusts differ, and their clients",
		Args: args("TRUST", "TRUST"), Example: "  tressik trust compare nightlog@ridge plate-archive@ridge",
		ValidArgsFunction: a.names("trust", 2),
		RunE: a.with(func(d *desk.Desk, got []string) error {
			list, err := charter.CompareTrusts(d.Book, got[0], got[1])
			if err != nil {
				return err
			}
			return a.print(layout.Beside(got[0], got[1], list))
		})}
}

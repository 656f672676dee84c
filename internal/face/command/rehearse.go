package command

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/sequence"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/model"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/cast"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/stage/rehearse"
	"tressik.example/internal/stage/server"
	"tressik.example/internal/work/desk"
)

func (a *App) rehearseCmd() *cobra.Command {
	var in rehearseFlags
	c := &cobra.Command{Use: "rehearse TRUST… --as PERSON",
		Short: "Run the sign-in as a test, and show every step and check", Args: args("TRUST…"),
		Long: `Run the real protocol end to end on a stage of its own: each message, each check, the claims that
arrive. URLs, destinations and recipients are those of the ledger. Foreign parties are played by
stand-ins. With several trusts of one provider, the later ones go on in the same browser session.

Over OpenID Connect it is discovery, authorize, sign-in, consent, code, tokens, userinfo, the API of --call,
refresh and sign-out. A machine client needs no --as: it gets a token as itself and calls its API. Consents given
in a rehearsal are not kept. The stage's client authenticates with a secret of its own; with --secret-file the
real one is tried.

Where the app's accounts are known (accounts load), it says which one the person would be taken for; with
--expect-account the sign-in is refused where that is another.

Where both sides have single logout, a rehearsal over SAML ends with it.

--suppose tries what would happen if a side differed from the ledger: acs=URL, entity-id=ID, clock=+10m,
force-authn=on and is-passive=on are the app's, key=other is the provider's; over OpenID Connect redirect=URI,
client-id=ID, secret=other, from=ADDRESS and clock=+10m are the app's. Such a rehearsal does not change the standing.
With --address alone nothing differs from the ledger, and the rehearsal counts.`,
		Example: `  tressik rehearse nightlog@ridge --as mira
  tressik rehearse nightlog@ridge plate-archive@ridge --as mira
  tressik rehearse nightlog@ridge --as mira --keep kept
  tressik rehearse nightlog@ridge --as mira --suppose clock=+10m
  tressik rehearse dome-scheduler@ridge --as mira --address 203.0.113.7 --dry-run
  tressik rehearse dome-scheduler@ridge --as mira --call telescope-api:schedule.read
  tressik rehearse frame-courier@ridge`,
		ValidArgsFunction: a.names("trust", 0),
		RunE: func(cmd *cobra.Command, got []string) error {
			if cmd.Flags().Changed("expect-account") && in.Account == "" {
				return usageError{errors.New("--expect-account is empty; write the account, as `tressik accounts " +
					"match` names it")}
			}
			return a.rehearseTrusts(&in, got)
		}}
	f := c.Flags()
	f.StringVar(&in.As, "as", "", "the person who signs in: user name or mail address")
	f.StringVar(&in.factors, "factors", "both", "what the person signs in with: password, or both factors when asked")
	f.StringVar(&in.From, "starts", "app", "where the sign-in starts: app or provider")
	f.StringVar(&in.address, "address", "", "address that the sign-in comes from, to try policies of networks")
	f.StringSliceVar(&in.from, "from", nil, "as it was called before: app, provider or an address")
	must(f.MarkHidden("from"))
	f.StringArrayVar(&in.Suppose, "suppose", nil,
		"a value that differs from the ledger: acs=URL, entity-id=ID, clock=SPAN, key=other")
	f.StringArrayVar(&in.Call, "call", nil, "OpenID: permission to call the API with, API:NAME")
	f.StringVar(&in.Scope, "scope", "", "OpenID: scopes to ask for, in place of all that the trust asks for")
	f.StringVar(&in.secretFile, "secret-file", "", "OpenID: file with the client's secret, or -; to try the real one")
	f.StringVar(&in.keep, "keep", "", "folder to keep the messages and tokens in, as they came, for tressik inspect")
	f.StringVar(&in.Account, "expect-account", "",
		"the account that the app has to take the person for, of those loaded")
	f.BoolVar(&in.refusal, "refused", false,
		"the person is to be refused by the terms of the trust; being let in is wrong")
	f.BoolVar(&in.DryRun, "dry-run", false, "keep nothing with the trust")
	drawFlag(c, &in.drawTo)
	must(c.RegisterFlagCompletionFunc("as", a.names("person", 0)))
	return c
}

// rehearseFlags are what the command line says of a rehearsal.
type rehearseFlags struct {
	play.RehearseInput
	factors, keep, secretFile, address, drawTo string
	from                                       []string
	refusal                                    bool
}

// rehearseTrusts runs rehearsals as the command line has them, with what is kept of them beside the ledger.
func (a *App) rehearseTrusts(in *rehearseFlags, trusts []string) error {
	switch in.factors {
	case "password":
	case "both":
		in.Second = true
	default:
		return usageError{fmt.Errorf("--factors %q is not known; write password or both", in.factors)}
	}
	if err := begins(&in.RehearseInput, append(in.from, in.address)); err != nil {
		return err
	}
	if err := a.mayDraw(in.drawTo); err != nil {
		return err
	}
	// before a rehearsal is run for nothing
	if fi, err := os.Stat(in.keep); in.keep != "" && err == nil && !fi.IsDir() {
		return fmt.Errorf("--keep: %s is no folder; choose another name", in.keep)
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	in.Trusts = trusts
	if in.secretFile != "" {
		if in.Secret, err = a.secretFrom(in.secretFile); err != nil {
			return err
		}
	}
	var kept keeper
	in.Hear.Message = kept.message
	drawing := sequence.New("Rehearsal of "+format.Words(trusts), trusts...)
	in.Hear.Event = func(e server.Event) {
		if e.Step == nil {
			drawing.Add(sequence.Judged{Trust: e.Trust, By: e.By, What: e.What, Sent: e.Sent, Findings: e.Findings})
		}
	}
	err = a.rehearse(d, in.RehearseInput, in.refusal)
	if err == nil || errors.Is(err, ErrFound) {
		err = errors.Join(err, a.draw(in.drawTo, drawing))
	}
	if errors.Is(err, play.ErrNobody) {
		return usageError{err}
	}
	if in.keep == "" || a.stopped.Err() != nil && err != nil {
		return err
	}
	if kerr := kept.write(in.keep, a.mayReplace); kerr != nil && (err == nil || errors.Is(err, ErrFound)) {
		return kerr
	}
	return err
}

// begins reads where a sign-in starts, and from which address.
func begins(in *play.RehearseInput, from []string) error {
	for _, w := range from {
		at, err := netip.ParseAddr(w)
		switch {
		case w == "":
		case w == "app" || w == "provider":
			in.From = w
		case err == nil && in.Address.IsValid() && in.Address != at:
			return usageError{fmt.Errorf("--address %s and %s: a sign-in comes from one address", in.Address, at)}
		case err == nil:
			in.Address = at
		default:
			return usageError{fmt.Errorf("--address %q is no address; write one such as 192.0.2.7", w)}
		}
	}
	if in.From != "app" && in.From != "provider" {
		return usageError{fmt.Errorf("--starts %q is not known; write app or provider", in.From)}
	}
	return nil
}

// keeper holds the messages of a rehearsal, numbered as they came.
type keeper struct{ names, texts []string }

func (k *keeper) message(trust, kind, text string) {
	k.names = append(k.names, fmt.Sprintf("%02d-%s-%s.txt", len(k.names)+1, trust, kind))
	k.texts = append(k.texts, text)
}

// write keeps the messages in a folder, all or none: may says whether a file may be written over.
func (k *keeper) write(dir string, may func(path string) error) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("--keep: %w", err)
	}
	for _, n := range k.names {
		if err := may(filepath.Join(dir, n)); err != nil {
			return err
		}
	}
	for i, n := range k.names { // messages carry what was said of a person
		if err := writeWith(filepath.Join(dir, n), []byte(k.texts[i]+"\n"), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// rehearse runs and shows rehearsals. It returns ErrFound if one is refused; where a refusal is expected, if one is not
// by the terms of its trust.
func (a *App) rehearse(d *desk.Desk, in play.RehearseInput, refusal bool) error {
	var live *layout.Live
	if a.format == "table" && !a.quiet {
		live = &layout.Live{P: a.printer(), W: a.Out, Every: a.every, Refusal: refusal}
		who := in.As
		if who == "" {
			who = "itself"
		}
		in.OnCast = func(c *cast.Cast) {
			for _, l := range rehearse.Unproven(c) {
				fmt.Fprintln(a.Out, live.P.Loud(live.P.Indented("!! ", l)))
			}
			for _, s := range in.Suppose {
				fmt.Fprintln(a.Out, live.P.Loud(live.P.Indented("!! ", "supposed, not in the ledger: "+s)))
			}
		}
		in.Hear.Start = func(trust string) { live.Start(trust, who) }
		also := in.Hear.Event
		in.Hear.Event = func(e server.Event) {
			live.Event(e)
			if also != nil {
				also(e)
			}
		}
	}
	list, err := a.player(d).Rehearse(in)
	if err != nil {
		return err
	}
	if live != nil {
		live.End(list)
	} else if err := a.print(format.Page{Data: list, Blocks: layout.Rehearsals(list)}); err != nil {
		return err
	}
	for _, r := range list {
		if refusal && !r.Meant() || !refusal && r.Verdict != judge.Accepted {
			return ErrFound
		}
	}
	return nil
}

func (a *App) stageCmd() *cobra.Command {
	var in stageFlags
	c := &cobra.Command{Use: "stage", Short: "Start the stand-ins and leave them running for a browser", Args: args(),
		Long: `Start the stage on this machine's loopback address and leave it running, for a real browser and for
apps under test, until Ctrl-C. Every party of every trust is played at http://127.0.0.1:PORT/NAME/ and
serves its metadata there. A foreign app whose assertion consumer service lies on this machine plays itself.
Providers are OpenID providers too, with their issuer at http://127.0.0.1:PORT/NAME, and APIs answer with
made-up records. Every change in the ledger holds here within a second. Parties sign with keys of the stage, which
the ledger keeps; with --with-real-keys own ones sign with their own. Consents that people give here are kept.

With --tls-cert and --tls-key it is served over HTTPS, as the other side of a real trust asks for: addresses are then
https://, with the name or address that the certificate is for. While a trust is watched (tressik watch), its foreign
party is not played: the real one is spoken to.`,
		Example: `  tressik stage --port 8321
  tressik stage --port 8443 --tls-cert loopback.pem --tls-key loopback.key`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := in.check(); err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			return a.stage(d, &in)
		}}
	in.add(c)
	return c
}

// notices are what every page of the stage says.
func (a *App) notices(real bool) []string {
	var out []string
	if v := a.Env("TRESSIK_NOW"); v != "" {
		out = append(out, "its clock is set to "+v+" (TRESSIK_NOW)")
	}
	if real {
		out = append(out, "own parties sign with their REAL KEYS: what they sign passes at the real other side")
	}
	return out
}

func (a *App) stage(d *desk.Desk, in *stageFlags) error {
	var mu sync.Mutex
	ctx, over := context.WithCancel(a.stopped)
	defer over()
	open, err := a.openStage(ctx, d, in, func(e server.Event) {
		mu.Lock()
		defer mu.Unlock()
		if !e.Sent {
			a.say("%s  %s", d.Now().UTC().Format("15:04:05"), layout.Event(e))
		}
	})
	if err != nil {
		return err
	}
	defer open.close()
	base, places := open.base, open.stage.Places()
	blocks := []format.Block{{Lines: []string{"The stage is open at " + base + "; Ctrl-C ends it."}}}
	for _, n := range a.notices(in.real) {
		blocks[0].Lines = append(blocks[0].Lines, "Note: "+n+".")
	}
	listed := map[string]int{}
	for _, x := range places {
		if listed[x.Kind]++; listed[x.Kind] <= mostPlaces {
			blocks = append(blocks, placeBlock(x))
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(listed)) {
		if n := listed[kind]; n > mostPlaces {
			blocks[0].Lines = append(blocks[0].Lines, fmt.Sprintf("It plays %d parties of kind %s; the first %d "+
				"are listed "+
				"here, and %s/ finds all by name.", n, kind, mostPlaces, base))
		}
	}
	if err := a.print(format.Page{Data: stageData{base, places}, Blocks: blocks}); err != nil {
		return err
	}
	select {
	case err := <-open.ended:
		return fmt.Errorf("the stage ended: %w", err)
	case <-ctx.Done():
	}
	a.say("The stage is closed.")
	return nil
}

// mostPlaces is of how many parties of a kind it is told at once where they are played.
const mostPlaces = 20

func placeBlock(x stage.Place) format.Block {
	fs := [][2]string{{"played", x.Played}}
	for _, f := range [][2]string{{"start", x.Start}, {"page", x.Page}, {"sign-on", x.SSO}, {"assertions to", x.ACS},
		{"metadata", x.Metadata}, {"issuer", x.Issuer}, {"discovery", x.Discovery}, {"client ID", x.ClientIDs},
		{"redirect URI", x.Redirect}, {"audience", x.Audience}, {"address", x.Address}} {
		if f[1] != "" {
			fs = append(fs, f)
		}
	}
	return format.Block{Title: x.Kind + " " + x.Name, Fields: fs}
}

func (a *App) player(d *desk.Desk) *play.Player {
	return &play.Player{Book: d.Book, Keep: func(f func(*model.Book) error) error {
		return a.change(d, func() error { return f(d.Book) })
	}}
}

// stageData is what is told of a stage that is open, and who is played where.
type stageData struct {
	Base    string        `json:"base"`
	Parties []stage.Place `json:"parties"`
}

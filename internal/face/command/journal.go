package command

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/contract"
	"tressik.example/internal/face/format"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/work/desk"
)

func (a *App) journalCmd() *cobra.Command {
	c := &cobra.Command{Use: "journal", Short: "Read and verify the record of every change"}
	list := a.journalList()
	c.AddCommand(list, a.journalVerify())
	// `tressik journal` alone lists.
	c.Args, c.Example = args(), "  tressik journal --last 20"
	c.RunE = list.RunE
	c.Flags().AddFlagSet(list.Flags())
	return c
}

func (a *App) journalList() *cobra.Command {
	var f model.Filter
	var since, until string
	c := &cobra.Command{Use: "list", Short: "List changes: when, who, what, and the fields before and after",
		Args:    args(),
		Example: "  tressik journal list --trust nightlog@ridge\n  tressik journal list --since 30d --last 20",
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			if f.Last < 0 {
				return usageError{fmt.Errorf("--last %d is no count: write 0 or more; 0 lists all", f.Last)}
			}
			if f.Actor == "" {
				f.Actor = a.actor // reading changes nothing: here --actor says whose changes
			}
			var err error
			if f.Since, err = a.past("--since", since); err != nil {
				return err
			}
			if f.Until, err = a.past("--until", until); err != nil {
				return err
			}
			list, err := d.Journal(f)
			if err != nil {
				return err
			}
			b := format.Block{Noun: "entry",
				Head:  []string{"No.", "When (UTC)", "Actor", "Actor is", "What", "Party or trust", "Changed"},
				Empty: "No entry fits."}
			for _, e := range list {
				b.Rows = append(b.Rows, []string{fmt.Sprint(e.Seq), e.At.UTC().Format("2006-01-02 15:04"), e.Actor,
					actorIs(e), e.Action, e.Party + e.Trust, e.Fields()})
			}
			if len(list) == 0 {
				if err := known(d, f.Party, f.Trust); err != nil {
					return err
				}
			}
			err = a.print(format.Page{Data: entriesOf(list), Blocks: []format.Block{b}})
			if err != nil || f == (model.Filter{}) {
				return err
			}
			return foundAny(len(list), nil)
		})}
	fl := c.Flags()
	fl.StringVar(&f.Party, "party", "", "only changes of this provider or app")
	fl.StringVar(&f.Trust, "trust", "", "only changes of this trust")
	fl.StringVar(&f.Actor, "by", "", "only changes by this actor (--actor does the same here)")
	fl.StringVar(&since, "since", "", "only changes from this time on: 2031-03-04 or 2031-03-04T09:00:00Z")
	fl.StringVar(&until, "until", "", "only changes before this time")
	fl.IntVar(&f.Last, "last", 0, "only the newest so many")
	must(c.RegisterFlagCompletionFunc("party", a.names("", 0)))
	must(c.RegisterFlagCompletionFunc("trust", a.names("trust", 0)))
	return c
}

// entryResult is an entry with how its actor is known: proven by a token, or said by whoever ran the command.
// What a record was before and after has the forms of that record's own results.
type entryResult struct {
	model.Entry
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
	Known  string          `json:"actorIs"`
}

// actorIs says how the actor of an entry is known.
func actorIs(e model.Entry) string {
	if federation.ProvenActor(e.Actor) {
		return "proven"
	}
	return "said"
}

// later tells of each of a list where a program reads it; of none it tells an empty list.
func later[S, R any](list []S, of func(*S) R) format.Later {
	return func() any { return desk.Results(list, of) }
}

// entriesOf are entries as they are told.
func entriesOf(list []model.Entry) format.Later {
	var k contract.Keeper
	return later(list, func(e *model.Entry) entryResult { return entryOf(&k, e) })
}

func entryOf(k *contract.Keeper, e *model.Entry) entryResult {
	var of []reflect.Type
	switch about, _, _ := strings.Cut(e.Action, "."); about {
	case "app", "provider":
		of = []reflect.Type{reflect.TypeFor[federation.Party]()}
	case "secret":
		of = []reflect.Type{reflect.TypeFor[federation.Secret]()}
	case "consent":
		of = []reflect.Type{reflect.TypeFor[federation.Consent]()}
	case "key":
		of = []reflect.Type{reflect.TypeFor[federation.OwnKey]()}
	default:
		if e.Trust != "" {
			of = []reflect.Type{reflect.TypeFor[federation.Trust](), reflect.TypeFor[trustTerms]()}
		}
	}
	return entryResult{*e, k.Kept(e.Before, of...), k.Kept(e.After, of...), actorIs(*e)}
}

// trustTerms are the terms of either protocol, as the journal has them: under the name of the protocol, without the
// word terms.
type trustTerms struct {
	SAML *federation.SAMLTerms `json:"saml"`
	OIDC *federation.OIDCTerms `json:"oidc"`
}

func (a *App) journalVerify() *cobra.Command {
	var head string
	c := &cobra.Command{Use: "verify",
		Short: "Hold the journal against its hashes, and each record against the journal", Args: args(),
		Long: `Walk the journal's chain of hashes, and hold each record of the ledger against what the journal says
that it must be: what another program changed, added or took away is named, with its fields where the
journal keeps them. Records that the journal does not have (runs, when a permission was used, what a
stage keeps) are held against a list of them and the sum that each has. The engine is asked as well
whether its pages are whole. --head holds the journal against an entry whose hash was kept elsewhere:
without that, whoever can write to the ledger and knows this program can compute all of it anew, and it
would fit.`,
		Example: "  tressik journal verify",
		RunE: func(*cobra.Command, []string) error {
			l, err := a.openLedger()
			if err != nil {
				return err
			}
			r := proofResult{}
			if words := strings.Fields(head); len(words) > 0 { // with or without its number
				head = strings.ToLower(words[len(words)-1])
			}
			if b, err := hex.DecodeString(head); err != nil || len(b) != 0 && len(b) != 32 {
				return usageError{fmt.Errorf("--head %q is no hash of an entry: write the 64 digits that tressik "+
					"ledger show "+
					"or /head of tressik serve said", head)}
			}
			if err := l.View(a.run, func(v model.View) error {
				p, err := v.Prove(head)
				if err == nil {
					r.Proof = *p
				}
				return err
			}); err != nil {
				return err
			}
			if r.Unsound, err = l.Sound(a.run); err != nil {
				return err
			}
			whole := r.Whole() && len(r.Unsound) == 0
			if r.Unsound == nil {
				r.Unsound = []string{}
			}
			if whole {
				a.verified(l, r.Head)
			}
			if err := a.print(format.Page{Data: r, Blocks: proofBlocks(&r, whole)}); err != nil {
				return err
			}
			if !whole {
				return ErrFound
			}
			return nil
		}}
	c.Flags().StringVar(&head, "head", "", "the hash of an entry, kept elsewhere, that must be in the journal")
	return c
}

// proofResult is what verifying a ledger brought, and what the engine says of itself.
type proofResult struct {
	model.Proof
	Unsound []string `json:"unsound"`
}

// verified keeps when the ledger was verified last. Who may only read cannot, and that is no error.
func (a *App) verified(l ledger.Ledger, head string) {
	_ = ledger.Updater(l.Update).Do(a.run, l.Env(), func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error {
			return e.SetValue(model.SettingVerified, e.Now().UTC().Format(time.RFC3339)+" "+head)
		})
	})
}

func proofBlocks(r *proofResult, whole bool) []format.Block {
	head := headOf(r.Head)
	b := format.Block{Lines: []string{fmt.Sprintf("%s: the chain of hashes is whole; %s: each is what was written",
		format.Count(r.Entries, "entry"), format.Count(r.Records, "record"))}}
	if r.Unproven > 0 {
		b.Lines = append(b.Lines, fmt.Sprintf("%s from before the journal kept records: not proven",
			format.Count(r.Unproven,
				"record")))
	}
	b.Lines = append(b.Lines, "head: "+head.Hash)
	if whole {
		return []format.Block{b}
	}
	var out []format.Block
	if len(r.Breaks) > 0 {
		b := format.Block{Lines: []string{fmt.Sprintf("%s: the journal is NOT what was written", format.Count(r.Entries,
			"entry"))}}
		for _, x := range r.Breaks {
			b.Lines = append(b.Lines, fmt.Sprintf("  entry %d: %s", x.Seq, x.Reason))
		}
		out = append(out, b)
	}
	if r.Missing != "" {
		out = append(out, format.Block{Lines: []string{"The journal has no entry of the hash " + r.Missing + ".",
			"Its end was taken off, all of it was computed anew, or the hash is of another ledger."}})
	}
	if len(r.Differs) > 0 {
		b := format.Block{Title: "Records that are NOT what was written", Noun: "record",
			Head: []string{"Kind", "Which", "What", "Fields", "Written by entry"}}
		for _, d := range r.Differs {
			by := ""
			if d.Entry > 0 {
				by = fmt.Sprint(d.Entry)
			}
			b.Rows = append(b.Rows, []string{string(d.Kind), d.ID, string(d.What), strings.Join(d.Fields, ", "), by})
		}
		out = append(out, b)
	}
	if len(r.Unsound) > 0 {
		out = append(out, format.Block{Title: "What the engine says of its own pages", Lines: r.Unsound})
	}
	return append(out, format.Block{Lines: []string{"Compare with a backup from before (`tressik ledger restore` " +
		"makes a " +
		"ledger of it beside this one), and find out who could write to the ledger."}})
}

// known says of a party and of a trust that no entry is about whether the ledger has them at all. "" is none.
func known(d *desk.Desk, party, trust string) error {
	if trust != "" {
		if _, _, _, err := d.Trust(trust); err != nil {
			return err
		}
	}
	if party == "" {
		return nil
	}
	_, err := d.AnyParty(party)
	return err
}

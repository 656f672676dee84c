package command

import (
	"bufio"
	"compress/gzip"
	"context"
	"crypto"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/keys"
	"tressik.example/internal/face/format"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/ledger/seal"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/work/custody"
)

func (a *App) ledgerCmd() *cobra.Command {
	c := &cobra.Command{Use: "ledger", Short: "Look after the ledger itself: where it lies, backup, restore, copies"}
	c.AddCommand(a.ledgerShow(), a.ledgerBackup(), a.ledgerRestore(), a.ledgerCopy(), a.ledgerGrant(), a.ledgerRevoke(),
		a.ledgerRekey(), a.tries(a.ledgerPurge()))
	return c
}

// ledgerState is what is told of a ledger.
type ledgerState struct {
	Place        string         `json:"place"`
	Organisation string         `json:"organisation"`
	Made         time.Time      `json:"made"`
	Engine       string         `json:"engine"`
	Schema       int            `json:"schema"`
	Bytes        int64          `json:"bytes"`
	Records      []kindCount    `json:"records"`
	Journal      journalHead    `json:"journal"`
	Restored     *restoredFrom  `json:"restored,omitempty"`
	OpenKnown    bool           `json:"openKnown"`
	Open         []ledgerHolder `json:"open"`
	Roles        []ledger.Role  `json:"roles"`
	SealKey      string         `json:"ledgerKey"`
	KeyOpens     bool           `json:"ledgerKeyOpens"`  // it is there, and a key of this ledger
	KeyLocked    bool           `json:"ledgerKeyLocked"` // with a passphrase
	keyTrouble   string         // why not, in words
}

type kindCount struct {
	Kind   string `json:"kind"`
	Number int    `json:"number"`
}

// journalHead is where a journal ends.
type journalHead struct {
	Entries int64  `json:"entries"`
	Hash    string `json:"hash"`
}

func headOf(text string) (h journalHead) {
	_, _ = fmt.Sscan(text, &h.Entries, &h.Hash) // zero where there is none
	return h
}

// restoredFrom is the copy that a ledger was made of.
type restoredFrom struct {
	At     time.Time `json:"at"`
	CopyOf string    `json:"copyOf"`
}

type ledgerHolder = ledger.Holder

// said is a kind of record as people call it.
func said(k model.Kind) string {
	return map[model.Kind]string{model.Parties: "providers and apps", model.Versions: "versions of metadata",
		model.Trusts: "trusts", model.OwnKeys: "own keys", model.People: "people", model.Secrets: "secrets",
		model.Consents: "consents", model.Expectations: "expectations", model.Runs: "runs kept",
		model.Registrars: "registrars"}[k]
}

func (a *App) ledgerShow() *cobra.Command {
	return &cobra.Command{Use: "show", Short: "Say where the ledger lies, what keeps it, how large it is, who has " +
		"it open",
		Args: args(),
		Long: `Say where the ledger lies, what keeps it, how much is in it, where its journal ends, and who has it
open. The head of the journal is worth keeping elsewhere: ` +
			"`tressik journal verify --head` holds the ledger against it.",
		Example: "  tressik ledger show",
		RunE: func(*cobra.Command, []string) error {
			l, err := a.openLedger()
			if err != nil {
				return err
			}
			s, err := a.stateOf(l)
			if err != nil {
				return err
			}
			return a.print(ledgerPage(s, l.Env().Now()))
		}}
}

func (a *App) stateOf(l ledger.Ledger) (*ledgerState, error) {
	st, err := l.Status(a.run)
	if err != nil {
		return nil, err
	}
	s := &ledgerState{Engine: st.Engine, Schema: st.Schema, Bytes: st.Bytes, OpenKnown: st.Open != nil, Open: st.Open,
		Records: []kindCount{}, SealKey: l.SealKey()}
	if s.Open == nil {
		s.Open = []ledgerHolder{}
	}
	if s.Place, err = engine.Absolute(l.Place()); err != nil {
		return nil, err
	}
	if s.SealKey, err = filepath.Abs(s.SealKey); err != nil {
		return nil, err
	}
	s.Roles = []ledger.Role{}
	if r, ok := l.(ledger.Roles); ok {
		if s.Roles, err = r.Roles(a.run); err != nil {
			return nil, err
		}
	}
	s.KeyLocked = seal.Locked(s.SealKey)
	public, err := seal.Public(s.SealKey)
	switch {
	case errors.Is(err, seal.ErrExposed):
		s.keyTrouble = "others can read it, so it is not used"
	case err != nil:
		s.keyTrouble = "there is none, so the private keys cannot be opened"
	}
	return s, l.View(a.run, func(v model.View) error {
		of, err := v.Value(model.SettingSeal)
		if err != nil {
			return err
		}
		if s.KeyOpens = slices.Contains(strings.Fields(of), public); !s.KeyOpens && s.keyTrouble == "" {
			s.keyTrouble = "it is the key of another ledger"
		}
		s.Organisation = v.Org()
		made, err := v.Value(model.SettingMade)
		if err != nil {
			return err
		}
		s.Made, _ = time.Parse(time.RFC3339, made)
		head, err := v.Value(model.SettingHead)
		if err != nil {
			return err
		}
		s.Journal = headOf(head)
		for _, k := range model.Kinds() {
			if said(k) == "" {
				continue
			}
			n, err := v.Count(model.Query{Kind: k})
			if err != nil {
				return err
			}
			s.Records = append(s.Records, kindCount{string(k), n})
		}
		from, err := custody.RestoredFrom(v)
		if err == nil && from != nil {
			s.Restored = &restoredFrom{from.At, from.CopyOf}
		}
		return err
	})
}

func ledgerPage(s *ledgerState, now time.Time) format.Page {
	fields := [][2]string{{"ledger", s.Place}, {"organisation", s.Organisation}, {"made", format.When(s.Made, now)},
		{"kept by", fmt.Sprintf("%s, schema %d", s.Engine, s.Schema)}, {"size", format.Bytes(s.Bytes)}}
	for _, c := range s.Records {
		fields = append(fields, [2]string{said(model.Kind(c.Kind)), fmt.Sprint(c.Number)})
	}
	key := s.SealKey
	if !s.KeyOpens {
		key += " (" + s.keyTrouble + ")"
	} else if s.KeyLocked {
		key += " (with a passphrase)"
	}
	fields = append(fields, [2]string{"ledger key", key},
		[2]string{"journal", fmt.Sprintf("%s; head %s", format.Count(int(s.Journal.Entries), "entry"), s.Journal.Hash)})
	if r := s.Restored; r != nil {
		fields = append(fields, [2]string{"restored", fmt.Sprintf("%s, of a copy made %s; what was changed "+
			"between is not in it",
			format.When(r.At, now), r.CopyOf)})
	}
	b := format.Block{Title: "Open by others", Noun: "process", Head: []string{"Process", "Who", "What", "Where",
		"Since (UTC)"},
		Empty: "Nobody else has it open."}
	if !s.OpenKnown {
		b.Empty = "Who has it open cannot be known on this system."
	}
	for _, h := range s.Open {
		b.Rows = append(b.Rows, []string{fmt.Sprint(h.Process), h.Who, h.What, h.From,
			h.Since.Format("2006-01-02 15:04")})
	}
	blocks := []format.Block{{Fields: fields}, b}
	if len(s.Roles) > 0 {
		b := format.Block{Title: "Roles", Noun: "role", Head: []string{"Role", "May"}}
		for _, r := range s.Roles {
			b.Rows = append(b.Rows, []string{r.Name, r.May})
		}
		blocks = append(blocks, b)
	}
	return format.Page{Data: s, Blocks: blocks}
}

// copyResult is what is told of a copy that was made.
type copyResult struct {
	To      string `json:"to"`
	Records int    `json:"records"`
	Entries int    `json:"entries"`
	SHA256  string `json:"sha256"`
	Sealed  bool   `json:"sealed"`
}

func (a *App) ledgerBackup() *cobra.Command {
	var sealed bool
	var to []string
	c := &cobra.Command{Use: "backup FILE", Short: "Write a whole copy of the ledger into a file, while others go on",
		Args: args("FILE"),
		Long: `Write all of the ledger as it stands at one moment into a file, while others go on writing: each
record, the metadata as it was received, and the journal. The file is gzip over lines of JSON, ends
with a hash over all of it, and only you can read it. Private keys are in it as the ledger has them,
encrypted for the ledger key; the ledger key is not. Names of people and hashes of secrets are, so seal
it (--sealed) where it goes elsewhere: then it is an age file, which the ledger key opens, or the keys
of --seal-to.`,
		Example: "  tressik ledger backup kestrel.backup\n  tressik ledger backup kestrel-sealed.backup --sealed",
		RunE: func(_ *cobra.Command, got []string) error {
			l, err := a.openLedger()
			if err != nil {
				return err
			}
			if err := recipients("--seal-to", to); err != nil {
				return err
			}
			if err := a.mayReplace(got[0]); err != nil {
				return err
			}
			var end model.CopyEnd
			err = l.View(a.run, func(v model.View) error {
				if sealed {
					own, err := v.Value(model.SettingSeal)
					if err != nil {
						return err
					}
					to = append(to, strings.Fields(own)...)
				}
				return writeBy(got[0], 0o600, func(w io.Writer) (err error) {
					end, err = backup(a.run, w, v, to, l.Env().Now())
					return err
				})
			})
			if err != nil {
				return err
			}
			return a.print(format.Page{Data: copyResult{got[0], end.Records, end.Entries, end.SHA256, len(to) > 0},
				Blocks: []format.Block{{Lines: []string{fmt.Sprintf("wrote %s: %s and %s of the journal", got[0],
					format.Count(end.Records, "record"), format.Count(end.Entries, "entry"))}},
					{Fields: [][2]string{{"SHA-256 of the content", end.SHA256}}},
					{Lines: []string{"The ledger key is not in it; keep a copy of that apart from this file."}}}})
		}}
	writes(c, outTo)
	f := c.Flags()
	f.BoolVar(&sealed, "sealed", false, "encrypt it for whoever has the ledger key")
	f.StringArrayVar(&to, "seal-to", nil, "encrypt it for the holder of another key: its public part, age1…; "+
		"repeatable")
	return c
}

// recipients refuses what a flag names and is no public part of a key.
func recipients(flag string, list []string) error {
	if len(list) == 0 {
		return nil
	}
	if _, err := seal.For(list, nil); err != nil {
		return usageError{fmt.Errorf("%s: %w", flag, err)}
	}
	return nil
}

// backup writes a copy of what stands in a ledger, compressed, and sealed for recipients where there are any.
func backup(ctx context.Context, w io.Writer, v model.View, to []string, now time.Time) (end model.CopyEnd, err error) {
	out := w
	var sealing io.WriteCloser
	if len(to) > 0 {
		if sealing, err = seal.To(w, to); err != nil {
			return end, err
		}
		out = sealing
	}
	z := gzip.NewWriter(out)
	b := bufio.NewWriter(z)
	if end, err = model.WriteCopy(b, v, now.UTC().Format(time.RFC3339)); err != nil {
		return end, err
	}
	err = errors.Join(b.Flush(), z.Close(), ctx.Err())
	if sealing != nil {
		err = errors.Join(err, sealing.Close())
	}
	return end, err
}

// openBackup begins to read a backup, sealed or not.
func (a *App) openBackup(path, keyFile string) (*model.Copied, func() error, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, reach.FileError(path, err)
	}
	in := bufio.NewReaderSize(f, 64<<10)
	var r io.Reader = in
	head, _ := in.Peek(32)
	if seal.Sealed(head) {
		if r, err = seal.From(in, keyFile, a.passphrase); err != nil {
			return nil, nil, errors.Join(fmt.Errorf("%s: %w", path, err), f.Close())
		}
	}
	z, err := gzip.NewReader(r)
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("%s: %w", path, model.ErrCopy), f.Close())
	}
	c, err := model.ReadCopy(z)
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("%s: %w", path, err), f.Close())
	}
	return c, f.Close, nil
}

// wholeBackup reads a backup to its end, so that nothing is begun with one that is damaged.
func (a *App) wholeBackup(path, keyFile string) error {
	c, done, err := a.openBackup(path, keyFile)
	if err != nil {
		return err
	}
	for _, err := range c.Records() {
		if err != nil {
			return errors.Join(fmt.Errorf("%s: %w", path, err), done())
		}
	}
	for _, err := range c.Entries() {
		if err != nil {
			return errors.Join(fmt.Errorf("%s: %w", path, err), done())
		}
	}
	return done()
}

// restoreResult is what is told of a ledger that was made of a backup.
type restoreResult struct {
	Place   string          `json:"place"`
	CopyOf  string          `json:"copyOf"` // when the copy was made
	Journal journalHead     `json:"journal"`
	Records int             `json:"records"`
	Revived custody.Revived `json:"revived"`
}

func (a *App) ledgerRestore() *cobra.Command {
	var keyFile string
	c := &cobra.Command{Use: "restore FILE", Short: "Make a ledger of a backup, where none is",
		Args: args("FILE"),
		Long: `Make a ledger of a backup, at the place that --ledger names: a file that is not there yet, or a
database without a ledger. What does not verify (a byte that is wrong, an end that is missing, a
journal whose chain is broken) makes no ledger. Restoring goes back in time: what was ended since the
copy was made lives again in it, and the copy cannot know what that was. So it is told what has to be
looked at, and the journal keeps that it was restored. Bring the ledger key back as well.`,
		Example: "  tressik ledger backup kestrel.backup\n" +
			"  tressik ledger restore kestrel.backup --ledger restored.ledger",
		RunE: func(_ *cobra.Command, got []string) error {
			o, err := a.options()
			if err != nil {
				return err
			}
			if keyFile == "" {
				keyFile = engine.SealKey(a.ledgerPath(), o.SealKey)
			}
			if err := a.wholeBackup(got[0], keyFile); err != nil {
				return err
			}
			from, done, err := a.openBackup(got[0], keyFile)
			if err != nil {
				return err
			}
			defer done()
			l, err := engine.Fill(a.run, a.ledgerPath(), o, from)
			if errors.Is(err, ledger.ErrThere) {
				return err
			}
			if err != nil {
				return fmt.Errorf("%s: %w", got[0], err)
			}
			a.opened = l
			r := restoreResult{Place: l.Place(), CopyOf: from.Head.Made, Journal: headOf(from.Head.Journal),
				Records: from.End.Records}
			if err := l.View(a.run, func(v model.View) (err error) {
				r.Revived, err = custody.Revives(v, l.Env().Now())
				return err
			}); err != nil {
				return err
			}
			if err := ledger.Updater(l.Update).Do(a.run, l.Env(), func(b *model.Book) error {
				return b.Change(func(e *model.Edit) error { return e.Restored(from.Head.Made, from.Head.Journal) })
			}); err != nil {
				return err
			}
			return a.print(restoredPage(&r, l.SealKey(), l.Env().Now()))
		}}
	c.Flags().StringVar(&keyFile, "key", "", "file with the key that opens a sealed backup (else the ledger key)")
	return c
}

func restoredPage(r *restoreResult, key string, now time.Time) format.Page {
	made, _ := time.Parse(time.RFC3339, r.CopyOf)
	lines := []string{fmt.Sprintf("made %s of a copy of %s: %s", r.Place, format.When(made, now),
		format.Count(r.Records, "record"))}
	fields := [][2]string{{"journal then", fmt.Sprintf("%s; head %s", format.Count(int(r.Journal.Entries), "entry"),
		r.Journal.Hash)}, {"ledger key", key + " (bring it back if it is not there)"}}
	look := []string{"What was changed after the copy was made is not in it. What was ended after it lives again " +
		"here, " +
		"and the copy cannot know what that was. Look through, and end again:"}
	for _, x := range []struct {
		n                int
		what, then, with string
	}{{len(r.Revived.Secrets), "secret", " valid then", "tressik secret list"},
		{len(r.Revived.Keys), "own key", " in use or announced then", "tressik key list PARTY"},
		{r.Revived.Consents, "consent", " given then", "tressik consent list"},
		{len(r.Revived.Registrars), "registrar", "", "tressik registrar list"},
		{r.Revived.Trusts, "trust", " live then", "tressik trust list"}} {
		if x.n > 0 {
			look = append(look, fmt.Sprintf("  %s%s: %s", format.Count(x.n, x.what), x.then, x.with))
		}
	}
	look = append(look, "Then read the other sides again, since they may have changed:",
		"  tressik provider refresh", "  tressik app refresh")
	return format.Page{Data: r, Blocks: []format.Block{{Lines: lines}, {Fields: fields}, {Lines: look}}}
}

// keysOf says where the key of a copied ledger is looked for.
func keysOf(from, to ledger.Ledger) []string {
	if from.SealKey() == to.SealKey() {
		return []string{"The ledger key of both is " + to.SealKey() + "."}
	}
	return []string{"The same ledger key opens both. " + from.Place() + " looks for it at " + from.SealKey() + ", " +
		"the copy at " +
		to.SealKey() + ":", "copy it there, or name it with TRESSIK_LEDGER_KEY."}
}

// withoutPeople makes a ledger for a tester of another one, with a ledger key of its own.
func (a *App) withoutPeople(from, to string, o ledger.Options) error {
	l, err := engine.Open(a.run, from, o)
	if err != nil {
		return err
	}
	defer l.Close()
	if err := engine.Free(a.run, to); err != nil {
		return err
	}
	key := engine.SealKey(to, "") // never that of the other
	if _, err := os.Lstat(key); err == nil {
		return fmt.Errorf("%s is there already, and a ledger for a tester gets a ledger key of its own; move it "+
			"away, or "+
			"choose another name", key)
	}
	public, _, err := seal.Ensure(key)
	if err != nil {
		return err
	}
	var made *custody.Peopleless
	err = l.View(a.run, func(v model.View) (err error) {
		made, err = custody.WithoutPeople(v, o.Env, public, func(k crypto.Signer) ([]byte, error) {
			b, err := keys.MarshalPrivate(k)
			if err != nil {
				return nil, err
			}
			return seal.For([]string{public}, b)
		})
		return err
	})
	if err == nil {
		o.SealKey = key
		var out ledger.Ledger
		if out, err = engine.Fill(a.run, to, o, made); err == nil {
			err = out.Close()
		}
	}
	if err != nil {
		return errors.Join(err, os.Remove(key))
	}
	return a.print(format.Page{Data: testerResult{to, key, made.People, made.Keys, made.Secrets},
		Blocks: []format.Block{
			{Lines: []string{fmt.Sprintf("made %s for a tester: %s made up, %s made anew, %s that nobody has", to,
				format.Count(made.People, "person"), format.Count(made.Keys, "key"),
				format.Count(made.Secrets, "secret")),
				"Its ledger key is " + key + ", and its journal begins anew."}}}})
}

// testerResult is what is told of a ledger for a tester.
type testerResult struct {
	To      string `json:"to"`
	SealKey string `json:"ledgerKey"`
	People  int    `json:"people"`
	Keys    int    `json:"keys"`
	Secrets int    `json:"secrets"`
}

func (a *App) ledgerCopy() *cobra.Command {
	var bare bool
	c := &cobra.Command{Use: "copy FROM TO", Short: "Copy a ledger to another place, or make one of it for a tester",
		Args: args("FROM", "TO"),
		Long: `Copy all of a ledger to a place that has none, its journal included, from a file into a PostgreSQL
database or back, and prove that both say the same: each record, what lies beside it, and each entry of
the journal. The ledger FROM stays as it is. The ledger key stays where it is too: the copy is opened
with the same one, which TRESSIK_LEDGER_KEY names. With --without-people a ledger is made for a tester:
the same parties, trusts and rules, as many people in the same groups, all of them made up, and no secret
and no key of the other. It has a ledger key of its own, and its journal begins anew.`,
		Example: "  tressik ledger copy tressik.ledger second.ledger\n" +
			"  tressik ledger copy tressik.ledger tester.ledger --without-people\n" +
			"  tressik ledger copy tressik.ledger postgres://db.kestrelridge.example/tressik?sslmode=verify-full",
		RunE: func(_ *cobra.Command, got []string) error {
			o, err := a.options()
			if err != nil {
				return err
			}
			if bare {
				return a.withoutPeople(got[0], got[1], o)
			}
			from, err := engine.Open(a.run, got[0], o)
			if err != nil {
				return err
			}
			defer from.Close()
			v, end, err := from.Snapshot(a.run)
			if err != nil {
				return err
			}
			defer end()
			to, err := engine.Fill(a.run, got[1], o, ledger.Of(v))
			if err != nil {
				return err
			}
			defer to.Close()
			want, err := model.Digest(v)
			if err != nil {
				return err
			}
			var is model.CopyEnd
			if err := to.View(a.run, func(v model.View) (err error) {
				is, err = model.Digest(v)
				return err
			}); err != nil {
				return err
			}
			if is != want {
				return fmt.Errorf("%s does not say what %s says: %d of %d records, %d of %d entries, SHA-256 %s "+
					"and not %s; "+
					"it is not to be used", got[1], got[0], is.Records, want.Records, is.Entries, want.Entries,
					is.SHA256,
					want.SHA256)
			}
			return a.print(format.Page{Data: copyResult{got[1], is.Records, is.Entries, is.SHA256, false},
				Blocks: []format.Block{{Lines: []string{fmt.Sprintf("copied %s to %s: both say the same", got[0],
					got[1])}},
					{Fields: [][2]string{{"records", fmt.Sprint(is.Records)}, {"entries of the journal",
						fmt.Sprint(is.Entries)},
						{"SHA-256 of the content", is.SHA256}}}, {Lines: keysOf(from, to)}}})
		}}
	c.Flags().BoolVar(&bare, "without-people", false, "for a tester: no person, secret or key in it; all of them "+
		"made up")
	return c
}

// roles is the ledger as one that knows roles.
func (a *App) roles() (ledger.Roles, error) {
	l, err := a.openLedger()
	if err != nil {
		return nil, err
	}
	r, ok := l.(ledger.Roles)
	if !ok {
		return nil, errors.New("a ledger in a file knows no roles: whoever can write to the file can do anything. " +
			"Copy it " +
			"into a database (tressik ledger copy) to have roles")
	}
	return r, nil
}

func (a *App) ledgerGrant() *cobra.Command {
	var may, file string
	c := &cobra.Command{Use: "grant ROLE --may read|change|consent", Short: "Let a role of the database read, " +
		"change or " +
		"consent", Args: args("ROLE"),
		Long: `Let a role of the database read the ledger, change it, or change it and consent; the role is made where
there is none. It is the database that keeps to it: a role that may change and not consent cannot put a
consent that is given, by this program or another. What a role writes into the journal is in its own
name, or the database refuses it, so that the actor is proven; and nobody but the owner can change the
journal or take anything out of it. A registrar's token is not known to the database, so a registrar
acts where the program runs as the owner.`,
		Example: "  tressik ledger grant mira --may change --ledger postgres:///tressik?host=/run/postgresql",
		RunE: func(_ *cobra.Command, got []string) error {
			if !slices.Contains([]string{"read", "change", "consent"}, may) {
				return usageError{fmt.Errorf("--may %q: write read, change or consent", may)}
			}
			password, err := a.readFile("--password-file", file)
			if err != nil {
				return err
			}
			r, err := a.roles()
			if err != nil {
				return err
			}
			if err := r.Grant(a.run, got[0], may, strings.TrimRight(string(password), "\r\n")); err != nil {
				return err
			}
			return a.print(format.Page{Data: ledger.Role{Name: got[0], May: may},
				Blocks: []format.Block{{Lines: []string{
					got[0] + " may " + map[string]string{"read": "read", "change": "read and change, and not consent",
						"consent": "read, change and consent"}[may],
					"It connects with user=" + got[0] + " in the address of the ledger."}}}})
		}}
	c.Flags().StringVar(&may, "may", "", "what it may do: read, change (all but consent), consent (and change)")
	c.Flags().StringVar(&file, "password-file", "", "file with the password that the role gets; without one it "+
		"keeps its own")
	must(c.RegisterFlagCompletionFunc("may", cobra.FixedCompletions([]string{"read", "change\tall but consent",
		"consent\tand change"}, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func (a *App) ledgerRevoke() *cobra.Command {
	return &cobra.Command{Use: "revoke ROLE", Short: "Take from a role of the database what it may do in the ledger",
		Args: args("ROLE"),
		Long: `Take from a role what it may do in the ledger. The role itself stays in the database: it may be of use
elsewhere.`,
		Example: `  tressik ledger grant mira --may read --ledger postgres:///tressik?host=/run/postgresql
  tressik ledger revoke mira --ledger postgres:///tressik?host=/run/postgresql`,
		RunE: func(_ *cobra.Command, got []string) error {
			r, err := a.roles()
			if err != nil {
				return err
			}
			if err := r.Revoke(a.run, got[0]); errors.Is(err, model.ErrNotFound) {
				return fmt.Errorf("no role %s was granted anything; tressik ledger show lists those that were", got[0])
			} else if err != nil {
				return err
			}
			return a.print(format.Page{Data: ledger.Role{Name: got[0]}, Blocks: []format.Block{{Lines: []string{
				got[0] + " may do nothing in the ledger any more"}}}})
		}}
}

// rekeyed is what is told of a ledger whose private keys were sealed anew.
type rekeyed struct {
	Keys int      `json:"keys"`
	For  []string `json:"for"` // public parts of the keys that open them now
	Out  string   `json:"out,omitempty"`
}

func (a *App) ledgerRekey() *cobra.Command {
	var out, words string
	var also []string
	var asks bool
	c := &cobra.Command{Use: "rekey", Short: "Change the ledger key, or who else has one", Args: args(),
		Long: `Seal the private keys in the ledger anew: with --out for a new ledger key, which is written to a file,
and for each --also, the public part of somebody else's key (age1…), so that several administrators
open them, each with a key of their own. Who is not named opens nothing any more. The ledger key of
before opens every copy and backup from before, so it is not forgotten by this: where it was lost to
somebody, roll the private keys as well (tressik key announce).

With --passphrase the file of the new key is of no use without a passphrase: each command that opens a
private key asks for it at the terminal, or reads it from the file that TRESSIK_LEDGER_PASSPHRASE_FILE
names. What opens none, such as lists and checks, asks nothing.`,
		Example: `  tressik ledger rekey --out new.ledger-key
  mv new.ledger-key tressik.ledger-key
  tressik ledger rekey --also age1e3r8q0rcqffl779tj39un2ugxj4zvsxkstwq7m3me5mpa6fkap2sr5s5sr`,
		RunE: func(*cobra.Command, []string) error {
			if out == "" && len(also) == 0 {
				return usageError{errors.New("say for whom: --out FILE makes a new ledger key, --also adds " +
					"somebody else's")}
			}
			if err := recipients("--also", also); err != nil {
				return err
			}
			word, err := a.newPassphrase(asks, words, out)
			if err != nil {
				return err
			}
			l, err := a.openLedger()
			if err != nil {
				return err
			}
			own := l.SealKey()
			if out != "" {
				if _, err := os.Lstat(out); err == nil {
					return fmt.Errorf("--out: %s is there already; a key is never written over a file, choose "+
						"another name", out)
				}
				own = out
				if _, _, err := seal.EnsureLocked(out, word); err != nil {
					return err
				}
			}
			r, err := a.rekey(l, own, also)
			if err != nil {
				if out != "" {
					os.Remove(out) // it opens nothing
				}
				return err
			}
			r.Out = out
			lines := []string{fmt.Sprintf("%s sealed anew, which %s opens", format.Count(r.Keys, "private key"),
				map[bool]string{true: "one key", false: fmt.Sprintf("each of %d keys", len(r.For))}[len(r.For) == 1])}
			if out != "" {
				lines = append(lines, "The new ledger key is in "+out+". Put it in place: mv "+out+" "+l.SealKey(),
					"Keep the one of before with the backups from before: it alone opens those.")
			}
			return a.print(format.Page{Data: r, Blocks: []format.Block{{Lines: lines}}})
		}}
	writes(c, outPlace)
	c.Flags().StringVar(&out, "out", "", "file for a new ledger key; it must not be there yet")
	c.Flags().BoolVar(&asks, "passphrase", false, "with --out: lock the file of the new key with a passphrase, asked "+
		"for twice")
	c.Flags().StringVar(&words, "passphrase-file", "", "with --out: lock it with the passphrase in the first line "+
		"of a "+
		"file")
	c.Flags().StringArrayVar(&also, "also", nil, "public part of a key that opens the private keys too, age1…; "+
		"repeatable")
	return c
}

// newPassphrase is that of a new ledger key; "" where it gets none.
func (a *App) newPassphrase(asks bool, file, out string) (word string, err error) {
	const least = 12 // characters
	switch {
	case !asks && file == "":
		return "", nil
	case out == "" || asks && file != "":
		return "", usageError{errors.New("--passphrase and --passphrase-file go with --out FILE, one of them alone")}
	case file != "":
		b, err := seal.ReadSecret(file)
		if err != nil {
			return "", fmt.Errorf("--passphrase-file: %w", err)
		}
		word, _, _ = strings.Cut(string(b), "\n")
		word = strings.TrimSuffix(word, "\r")
	default:
		f := a.keyboard()
		if f == nil {
			return "", usageError{errors.New("--passphrase asks at a terminal, and there is none; write it into a " +
				"file, " +
				"and name that with --passphrase-file")}
		}
		if word, err = a.askHidden(f, "New passphrase: "); err != nil {
			return "", err
		}
		again, err := a.askHidden(f, "The same again: ")
		if err != nil {
			return "", err
		}
		if again != word {
			return "", errors.New("the two differ; nothing was changed")
		}
	}
	if utf8.RuneCountInString(word) < least {
		return "", fmt.Errorf("a passphrase has at least %d characters, such as five words; nothing was changed", least)
	}
	return word, nil
}

// rekey seals the private keys for the key in a file, and for others.
func (a *App) rekey(l ledger.Ledger, own string, also []string) (*rekeyed, error) {
	public, err := seal.Public(own)
	if err != nil {
		return nil, err
	}
	r := &rekeyed{For: append([]string{public}, also...)}
	return r, ledger.Updater(l.Update).Do(a.run, l.Env(), func(b *model.Book) error {
		return b.Change(func(e *model.Edit) (err error) {
			r.Keys, err = e.Rekey(r.For, func(sealed []byte) ([]byte, error) {
				secret, err := l.Env().Vault.Open(sealed)
				if err != nil {
					return nil, err
				}
				return seal.For(r.For, secret)
			})
			return err
		})
	})
}

// purged is what is told of runs that were purged.
type purged struct {
	Runs   int       `json:"runs"`
	Before time.Time `json:"before"`
}

func (a *App) ledgerPurge() *cobra.Command {
	var older string
	c := &cobra.Command{Use: "purge --older SPAN", Short: "Forget what old runs keep of people", Args: args(),
		Long: `Take out of rehearsals, probes and watches that are older than a span what they keep of people: who it
was, as whom the app knew them, the claims, the messages, and what findings saw. That there was a run
stays, with its outcome and its findings by name. What a trust rests on stays as well, with the person
for whom it was shown, and so do expectations: those are no old runs. Backups from before keep what
they have.`,
		Example: "  tressik ledger purge --older 180d",
		RunE: func(*cobra.Command, []string) error {
			span, err := lifetime("--older", older)
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			r := purged{Before: d.Now().Add(-span).UTC().Truncate(time.Second)}
			if r.Runs, err = changed(a, d, func() (n int, err error) {
				return n, d.Change(func(e *model.Edit) error {
					n, err = e.ForgetRuns(r.Before)
					return err
				})
			}); err != nil {
				return err
			}
			line := fmt.Sprintf("%s from before %s: what they kept of people is gone", format.Count(r.Runs, "run"),
				r.Before.Format("2006-01-02"))
			if r.Runs == 0 {
				line = "No run from before " + r.Before.Format("2006-01-02") + " keeps anything of people."
			}
			return a.print(format.Page{Data: r, Blocks: []format.Block{{Lines: []string{line}}}})
		}}
	c.Flags().StringVar(&older, "older", "", "how old a run is at least: 180d, 12w")
	return c
}

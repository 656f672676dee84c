package command

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"
	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/keys"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/outside/aggregate"
	"tressik.example/internal/work/desk"
)

// document reads metadata as a file, without a ledger.
type document struct {
	*aggregate.Source
	how aggregate.Reading
	now time.Time
	bar *progressbar.ProgressBar
}

// documentFlags are the flags of what reads a metadata document.
func documentFlags(c *cobra.Command, src *sourceFlags) {
	c.Flags().StringVar(&src.signedBy, "signed-by", "",
		"certificate file: nothing is told unless its key signed the document")
	c.Flags().StringVar(&src.ca, "ca", "", "certificate file of the authority to trust for a URL")
	c.Flags().StringVar(&src.pin, "tls-pin", "",
		"SHA-256 of the server's own certificate, in place of an authority or with --ca")
}

// document opens a file, - for standard input, or a URL, and the certificate of its signer.
func (a *App) document(ctx context.Context, src *sourceFlags) (*document, error) {
	clock, err := a.now()
	if err != nil {
		return nil, err
	}
	d := &document{now: clock()}
	d.how.Now = d.now
	if d.how.SignedBy, err = a.certificate("--signed-by", src.signedBy); err != nil {
		return nil, err
	}
	switch {
	case src.metadata == "-":
		d.Source, err = aggregate.Spool("-", a.In)
	case strings.Contains(src.metadata, "://"):
		var from io.ReadCloser
		if from, err = a.openSource(ctx, src); err == nil {
			d.Source, err = aggregate.Spool(src.metadata, from)
			from.Close()
		}
	default:
		d.Source, err = aggregate.File(src.metadata)
		if errors.Is(err, os.ErrNotExist) {
			err = fmt.Errorf("there is no file %s", src.metadata)
		}
	}
	if err != nil {
		return nil, err
	}
	a.progress(d)
	return d, nil
}

// explainDocument says of an error what to do about it.
func explainDocument(name string, err error) error {
	var se *xmlsec.SignatureError
	switch {
	case errors.As(err, &se):
		return fmt.Errorf("%s is not used: %w", name, err)
	case errors.Is(err, aggregate.ErrNothing):
		return fmt.Errorf("%s: %w; look with `tressik metadata find`", name, err)
	case errors.Is(err, aggregate.ErrOneAlone):
		return fmt.Errorf("%s: %w; what is sought is of use with an aggregate alone", name, err)
	case errors.Is(err, aggregate.ErrOver):
		return fmt.Errorf("%s is not signed: %w; say with --lasts how long what is signed now is valid", name, err)
	case errors.Is(err, aggregate.ErrNotEmpty):
		return fmt.Errorf("--into %w; name a new one", err)
	}
	return fmt.Errorf("%s: %w", name, desk.Hint(err))
}

func (a *App) metadataVerify() *cobra.Command {
	var src sourceFlags
	c := &cobra.Command{Use: "verify SOURCE --signed-by CERT",
		Short: "Verify the signature of a metadata document of any size, and judge what is in it",
		Args:  args("SOURCE"),
		Long: `Read a metadata document once from front to back, verify the signature over it, and name the entities
in it that are broken, and those that should not be published as they are; the others can be used. SOURCE is a file,
	- for standard input, or an https: URL. It ends with
exit status 3 when the document must not be used: the signature does not hold, or its validity has ended.`,
		Example: "  tressik metadata verify federation.xml --signed-by federation.pem",
		RunE: func(cmd *cobra.Command, got []string) error {
			src.metadata = got[0]
			if src.signedBy == "" {
				return usageError{errors.New("--signed-by is missing: a signature is verified with a key that you " +
					"trust, not " +
					"with the one in the document")}
			}
			d, err := a.document(cmd.Context(), &src)
			if err != nil {
				return err
			}
			v, err := d.Verify(cmd.Context(), d.how, d.now)
			if err != nil {
				return explainDocument(got[0], err)
			}
			if err := a.print(layout.Verification(v, d.now)); err != nil {
				return err
			}
			return found(v.Findings)
		}}
	documentFlags(c, &src)
	return c
}

func (a *App) metadataRead() *cobra.Command {
	var src sourceFlags
	c := &cobra.Command{Use: "read SOURCE", Short: "Show what a metadata document holds, or all of one entity in it",
		Args: args("SOURCE"),
		Long: `Show what a metadata document of any size holds, without a ledger: how many entities of which roles,
which of them are broken or should not be published, and the first ones. With --entity, or when there is but one,
all of it is shown and judged.
SOURCE is a file, - for standard input, or an https: URL. It ends with exit status 3 when the document must not be
used, since its validity has ended, or when the one entity that is shown cannot be used as it is.`,
		Example: "  tressik metadata read nightlog-metadata.xml --signed-by nightlog.pem",
		RunE: func(cmd *cobra.Command, got []string) error {
			src.metadata = got[0]
			d, err := a.document(cmd.Context(), &src)
			if err != nil {
				return err
			}
			return a.readDocument(cmd.Context(), d, src.entity)
		}}
	documentFlags(c, &src)
	c.Flags().StringVar(&src.entity, "entity", "", "entity ID of the one to show")
	return c
}

func (a *App) readDocument(ctx context.Context, d *document, entity string) error {
	var list []saml.Listed
	broken, doubtful := []saml.Listed{}, []saml.Listed{}
	var one *saml.Entity
	var its saml.Listed
	s, err := d.Survey(ctx, d.how, func(l saml.Listed, el *etree.Element) error {
		l.Raw = ""
		switch {
		case len(l.Problems) > 0:
			broken = append(broken, l)
		case len(l.Doubts) > 0:
			doubtful = append(doubtful, l)
		}
		if len(list) < layout.FirstOf() {
			list = append(list, l)
		}
		if entity != "" && l.EntityID == entity || entity == "" && len(list) == 1 {
			e, err := saml.EntityOf(el)
			if err == nil {
				one, err = e.Clone() // what it was read from does not stay
				its = l
			}
			return err
		}
		return nil
	})
	if err != nil {
		return explainDocument(d.Name, err)
	}
	if entity != "" && one == nil {
		return fmt.Errorf("%s holds no entity %s; look with `tressik metadata find`", d.Name, entity)
	}
	if entity != "" || s.Entities == 1 && one != nil {
		page, fs := layout.Entity(one, &its, d.now)
		if err := a.print(page); err != nil {
			return err
		}
		return found(fs)
	}
	signed := "none"
	switch {
	case d.how.SignedBy != nil:
		signed = "holds, " + xmlsec.ShortAlgorithm(s.Method) + " by " + keys.Fingerprint(d.how.SignedBy)
	case s.Signed:
		signed = "there is one that was not verified; give its certificate as --signed-by"
	}
	fs := aggregate.Findings(d.Name, s, slices.Concat(broken, doubtful), nil, d.now)
	if err := a.print(layout.Document(d.Name, layout.DocumentRead{Survey: s, Signature: signed,
		List: list, Broken: broken, Doubtful: doubtful, Findings: fs}, d.now)); err != nil {
		return err
	}
	return found(fs)
}

// soughtFlags are the flags of what looks for entities.
func soughtFlags(c *cobra.Command, what *saml.Sought) {
	f := c.Flags()
	f.StringVar(&what.EntityID, "entity", "", "entity ID, exactly")
	f.StringVar(&what.Name, "name", "", "part of a name, in any language")
	f.StringVar(&what.Domain, "domain", "", "domain at which the entity is, or one above it")
	f.StringVar(&what.Scope, "scope-of", "", "domain for whose names the entity claims to speak")
	f.StringVar(&what.Role, "role", "", "provider, app, or the name of a role descriptor such as "+
		"AttributeAuthorityDescriptor")
	f.StringVar(&what.Category, "category", "", "entity category, whole or what stands behind its last /")
	f.StringVar(&what.Supports, "supports", "", "entity category to whose members it releases, whole or its end")
	f.StringVar(&what.Assurance, "assurance", "", "assurance profile that it is certified for, whole or its end")
	f.StringVar(&what.Identifier, "identifier", "", "subject identifier that it wants: subject-id, pairwise-id, "+
		"any or none")
	f.StringVar(&what.Contact, "contact", "", "part of a contact's name or address")
	f.StringVar(&what.Authority, "registered-by", "", "registration authority, exactly")
	f.BoolVar(&what.Broken, "broken", false, "those that cannot be used, or should not be published, as they are")
	must(c.RegisterFlagCompletionFunc("role", cobra.FixedCompletions([]string{"provider", "app"},
		cobra.ShellCompDirectiveNoFileComp)))
}

func (a *App) metadataFind() *cobra.Command {
	var src sourceFlags
	var what saml.Sought
	c := &cobra.Command{Use: "find SOURCE [WORD…]",
		Short: "Find entities in a metadata document by entity ID, name, domain, role, category or contact",
		Args:  args("SOURCE", "[WORD…]"),
		Long: `Find entities in a metadata document of any size, without a ledger. Each WORD and each flag narrows the
search; the case of letters does not count. Of a large file an index is kept (in tressik/metadata of the folder for
caches, such as ~/.cache), so that the next search need not read it again; a file that has changed is read anew.
With --signed-by nothing is told unless the signature over the document holds, or held when the index was made.
It ends with exit status 3 when nothing is found, but for --broken by itself, or when the validity of the document
has ended.`,
		Example: "  tressik metadata find federation.xml southmere --role provider",
		RunE: func(cmd *cobra.Command, got []string) error {
			src.metadata, what.Words = got[0], got[1:]
			d, err := a.document(cmd.Context(), &src)
			if err != nil {
				return err
			}
			dir := ""
			if d.Size >= worthAnIndex {
				if cache, err := a.cacheDir(); err == nil {
					dir = filepath.Join(cache, "tressik", "metadata")
				}
			}
			f, err := d.Find(cmd.Context(), d.how, what, dir)
			if err != nil {
				return explainDocument(d.Name, err)
			}
			fs := aggregate.Findings(d.Name, f.Survey, nil, nil, d.now)
			hits := len(f.Entities)
			if what.BrokenAlone() {
				hits = 1 // none is good news
			}
			if err := foundAny(hits, a.print(layout.FoundEntities(d.Name, f, what, fs))); err != nil {
				return err
			}
			if !f.Survey.Aggregate { // as whoever reads or verifies it is told
				fs = aggregate.Findings(d.Name, f.Survey, f.Entities, f.Lone, d.now)
			}
			return found(fs)
		}}
	documentFlags(c, &src)
	soughtFlags(c, &what)
	return c
}

// worthAnIndex is the size from which an index of a document is kept.
const worthAnIndex = 1 << 20

// cacheDir is the folder for caches of whoever runs the program (XDG Base Directory Specification).
func (a *App) cacheDir() (string, error) {
	if dir := a.Env("XDG_CACHE_HOME"); filepath.IsAbs(dir) {
		return dir, nil
	}
	return os.UserCacheDir()
}

func (a *App) metadataSplit() *cobra.Command {
	var src sourceFlags
	var what saml.Sought
	var dir, out string
	c := &cobra.Command{Use: "split SOURCE (--into DIR | --out FILE)",
		Short: "Take entities out of a metadata document: a file for each, or a smaller document",
		Args:  args("SOURCE"),
		Long: `Take the entities that the flags narrow to out of a metadata document. With --into each becomes a file of
its own in a new folder, with the end of its groups as its own; with --out they become one document, which carries
no signature until tressik metadata sign. What is in an entity stays byte for byte as it was, and so does a
signature of its own.`,
		Example: "  tressik metadata split federation.xml --role provider --into providers\n" +
			"  tressik metadata split federation.xml --domain southmere.example --out southmere.xml",
		RunE: func(cmd *cobra.Command, got []string) error {
			src.metadata = got[0]
			if (dir == "") == (out == "") {
				return usageError{errors.New("say where to: --into DIR for a file for each entity, or --out " +
					"FILE for one document")}
			}
			d, err := a.document(cmd.Context(), &src)
			if err != nil {
				return err
			}
			if dir != "" {
				list, err := d.Split(cmd.Context(), d.how, what, dir)
				if err != nil {
					return explainDocument(d.Name, err)
				}
				return a.print(layout.Split(dir, list))
			}
			how := aggregate.Writing{Reading: d.how, What: what}
			return a.writeDocument(cmd.Context(), d, how, out)
		}}
	documentFlags(c, &src)
	soughtFlags(c, &what)
	c.Flags().StringVar(&dir, "into", "", "new folder for a file for each entity")
	c.Flags().StringVar(&out, "out", "", "file for one document; - for standard output")
	return c
}

// writeDocument writes a document that has been made of another one.
func (a *App) writeDocument(ctx context.Context, d *document, how aggregate.Writing, out string) error {
	var s *saml.Survey
	var broken []saml.Listed
	how.Broken = func(l saml.Listed) { broken = append(broken, l) }
	err := a.outputBy(out, func(w io.Writer) (err error) {
		s, err = d.Write(ctx, how, w)
		return err
	})
	if err != nil {
		return explainDocument(d.Name, err)
	}
	a.say("%s", format.Count(s.Entities, "entity"))
	a.noteLifetimes(how.Until, how.Cache, s, d.now)
	for _, f := range aggregate.BrokenFindings(d.Name, broken) {
		if f.ID == finding.MetadataDoubtful {
			a.note("%s should not be published as it is: %s", f.Check, f.Saw)
			continue
		}
		a.note("%s cannot be used as it is: %s", f.Check, f.Saw)
	}
	return nil
}

// noteLifetimes tells where how long a document that is written is valid and may be kept do not go together.
func (a *App) noteLifetimes(until *time.Time, cache string, of *saml.Survey, now time.Time) {
	written := saml.Survey{ValidUntil: cmp.Or(until, of.ValidUntil), CacheDuration: cmp.Or(cache, of.CacheDuration)}
	for _, what := range written.Doubts(now) {
		a.note("the document should not be published as it is: %s", what)
	}
}

func (a *App) metadataSign() *cobra.Command {
	var src sourceFlags
	var what saml.Sought
	var key, cert, word, life, out, cache string
	c := &cobra.Command{Use: "sign SOURCE --key FILE --cert FILE --out FILE",
		Short: "Sign a metadata document of any size, or the entities in it that are sought",
		Args:  args("SOURCE"),
		Long: `Sign a metadata document with a key from a file, without a ledger: the signature that it had goes, and
what is in it stays byte for byte, signatures of entities among it. Flags narrow it to some entities. Give
--signed-by, so that only what its publisher signed is signed again.`,
		Example: "  tressik metadata sign federation.xml --signed-by federation.pem --role provider \\\n" +
			"      --key feed.key --cert feed.pem --lasts 7d --cache PT6H --out providers.xml",
		RunE: func(cmd *cobra.Command, got []string) error {
			src.metadata = got[0]
			d, err := a.document(cmd.Context(), &src)
			if err != nil {
				return err
			}
			how := aggregate.Writing{Reading: d.how, What: what, Cache: cache}
			if how.Signer, err = a.signer(key, word, cert, d.now); err != nil {
				return err
			}
			if life != "" {
				span, err := desk.ParseSpan(life)
				if err != nil {
					return usageError{fmt.Errorf("--lasts: %w", err)}
				}
				until := d.now.Add(span)
				how.Until = &until
			}
			if cache != "" {
				if _, err := saml.Duration(cache); err != nil {
					return usageError{fmt.Errorf("--cache: %w", err)}
				}
			}
			return a.writeDocument(cmd.Context(), d, how, out)
		}}
	documentFlags(c, &src)
	soughtFlags(c, &what)
	f := c.Flags()
	f.StringVar(&key, "key", "", "file with the private key that signs")
	f.StringVar(&cert, "cert", "", "file with its certificate")
	f.StringVar(&word, "password-file", "", "file whose first line is the password of --key")
	f.StringVar(&life, "lasts", "", "how far ahead validUntil is, such as 7d; else it stays as it is")
	f.StringVar(&cache, "cache", "", "cacheDuration, after which others read it again, such as PT6H; else as it is")
	f.StringVar(&out, "out", "", "file to write; else standard output")
	return c
}

// signer reads a key and the certificate that belongs to it.
func (a *App) signer(keyFile, word, certFile string, now time.Time) (*xmlsec.Signer, error) {
	if keyFile == "" || certFile == "" {
		return nil, usageError{errors.New("--key and --cert are missing: the key that signs, and the certificate by " +
			"which others know it")}
	}
	key, err := a.privateKey(keyFile, word)
	if err != nil {
		return nil, err
	}
	cert, err := a.certificate("--cert", certFile)
	if err != nil {
		return nil, err
	}
	switch {
	case federation.KeyID(key.Public()) != federation.KeyID(cert.PublicKey):
		return nil, fmt.Errorf("--cert: %s is the certificate of another key than %s", certFile, keyFile)
	case !judge.Strong(cert.PublicKey):
		return nil, fmt.Errorf("--key: %s is too weak (%s); use RSA of 2048 bits or more, ECDSA P-256 or P-384",
			keyFile, keys.Describe(cert.PublicKey))
	case now.Before(cert.NotBefore), now.After(cert.NotAfter):
		return nil, fmt.Errorf("--cert: %s is valid from %s to %s, and not now", certFile,
			cert.NotBefore.UTC().Format("2006-01-02 15:04 UTC"), cert.NotAfter.UTC().Format("2006-01-02 15:04 UTC"))
	}
	return &xmlsec.Signer{Key: key, Certificate: cert, Rand: rand.Reader}, nil
}

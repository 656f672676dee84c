package command

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/sequence"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/face/contract"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/ledger"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/reach"
	"tressik.example/internal/stage"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/inspect"
)

func (a *App) inspectCmd() *cobra.Command {
	var in inspect.Input
	var at, key, safe, drawTo string
	c := &cobra.Command{Use: "inspect FILE…|-",
		Short: "Explain a message, metadata, certificate, key or token; judge a message with --trust",
		Args:  args("FILE…"),
		Long: `Recognise and explain what is given: SAML metadata; a SAML message as XML, base64, URL-encoded, a whole
captured URL or a form body; a certificate; a private key, without showing it; a JSON Web Key, JWKS or
JWT, with what its claims mean and may do; a discovery document; an OAuth authorization request or response as
a captured URL. With --trust a SAML message, an ID token, an access token, or such a request or response is
judged as the receiving side of that trust would judge it. What is refused ends with exit status 3.

An address that carries a message in its query is judged as it stands, and not asked for; in the history of a shell
it stays, so a file or standard input is the better place. Several files, a folder, or several captured messages in
one input, each on a line, are judged one by one: a line for each and a summary, or with --format json a list.

A recorded browser session (HTTP Archive, FILE.har) is searched for all SAML and OAuth messages; each is judged by
the trust that it belongs to, at the time at which it was sent, and the first that is wrong is named.

With --safe-copy a message or an archive is also written so that it can be sent to somebody else: the same value gives
the same word each time.`,
		Example: `  tressik inspect captured.txt
  tressik inspect captured.txt --trust nightlog@southmere
  tressik inspect courier.jwt --trust frame-courier@ridge
  tressik inspect session.har
  tressik inspect messages --trust nightlog@ridge --format json`,
		RunE: func(cmd *cobra.Command, got []string) error {
			var err error
			if in.As != "" && in.Trust == "" {
				return usageError{errors.New("--as says whom the message is about; name the --trust that " +
					"it belongs to")}
			}
			if err := a.mayDraw(drawTo); err != nil {
				return err
			}
			if in.At, err = a.past("--as-of", at); err != nil {
				return err
			}
			if in.Key, err = a.readFile("--key", key); err != nil {
				return err
			}
			d, err := a.inspector(in.Trust)
			if err != nil {
				return err
			}
			if safe != "" {
				if err := a.safeCopy(cmd.Context(), d, got, safe); err != nil {
					return err
				}
			}
			if archive(got) {
				return a.inspectArchive(d, in, got, drawTo)
			}
			if drawTo != "" {
				return usageError{errors.New("--draw draws a recorded session: give a file that ends in .har")}
			}
			messages, err := a.messages(cmd.Context(), got)
			if err != nil {
				return err
			}
			if len(messages) > 1 {
				return a.inspectMany("Subject", func(each judged) {
					for _, m := range messages {
						in.Raw = m.raw
						v, err := d.Inspect(in)
						each(m.from, v, err)
					}
				})
			}
			in.Raw = messages[0].raw
			v, err := d.Inspect(in)
			if err != nil {
				return fmt.Errorf("%s: %w", messages[0].from, err)
			}
			if err := a.print(format.Page{Data: v, Blocks: layout.Inspection(v)}); err != nil {
				return err
			}
			if v.Verdict == judge.Refused {
				return ErrFound
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&in.Trust, "trust", "", "judge the message as this trust's receiving side would")
	f.StringVar(&in.As, "as", "", "compare what it says with what the trust releases for this person")
	f.StringVar(&at, "as-of", "", "judge as of this time: 2031-03-04T09:00:00Z, or how long ago, such as 2h")
	f.StringVar(&safe, "safe-copy", "",
		"also write a copy that is safe to send: no secrets, signatures, names and values of people")
	f.StringVar(&in.Request, "request", "", "ID of the request that was sent")
	f.StringVar(&in.Service, "service", "",
		"index of the app's AttributeConsumingService that was asked for (else the default one)")
	f.StringVar(&key, "key", "", "file with the receiver's private key, for what is encrypted to it")
	drawFlag(c, &drawTo)
	must(c.RegisterFlagCompletionFunc("trust", a.names("trust", 0)))
	must(c.RegisterFlagCompletionFunc("as", a.names("person", 0)))
	return c
}

// captured is one message with where it came from.
type captured struct {
	from string
	raw  []byte
}

// inspector reads the ledger. Where no trust is named the ledger helps to find a token's key, and is not needed.
func (a *App) inspector(trust string) (*inspect.Inspector, error) {
	d, err := a.desk()
	if err == nil {
		return inspect.New(d.Book), nil
	}
	if trust != "" {
		return nil, err
	}
	if !errors.Is(err, ledger.ErrNoLedger) { // without one a message can be looked at; one that cannot be used is said
		a.note("note: judged without the ledger, which cannot be used: %s", explain(err))
	}
	now, err := a.now()
	if err != nil {
		return nil, err
	}
	return inspect.New(model.Open(model.View{}, model.Env{Now: now})), nil
}

// messages reads what was named: files, folders with files, standard input; each may hold several messages.
func (a *App) messages(ctx context.Context, names []string) ([]captured, error) {
	var files []string
	for _, n := range names {
		fi, err := os.Stat(n)
		if err != nil || !fi.IsDir() {
			files = append(files, n)
			continue
		}
		list, err := os.ReadDir(n)
		if err != nil {
			return nil, reach.FileError(n, err)
		}
		was := len(files)
		for _, e := range list {
			if e.Type().IsRegular() {
				files = append(files, filepath.Join(n, e.Name()))
			}
		}
		if len(files) == was {
			return nil, fmt.Errorf("%s holds no file", n)
		}
	}
	var out []captured
	for _, f := range files {
		if inspect.CapturedURL(f) {
			out = append(out, captured{reach.Shown(f), []byte(f)})
			continue
		}
		raw, err := reach.Read(ctx, f, reach.Options{Max: int64(xmlsec.MetadataLimits().Bytes), Stdin: a.In})
		if err != nil {
			return nil, err
		}
		parts := inspect.Split(raw)
		for i, p := range parts {
			from := f
			if len(parts) > 1 {
				from = fmt.Sprintf("%s:%d", f, i+1)
			}
			out = append(out, captured{from, p})
		}
	}
	return out, nil
}

// archive reports whether a recorded session is named.
func archive(names []string) bool {
	return slices.ContainsFunc(names, func(n string) bool {
		fi, err := os.Stat(n)
		return err == nil && fi.Mode().IsRegular() && strings.EqualFold(filepath.Ext(n), ".har")
	})
}

// inspectArchive judges the messages of a recorded session in the order in which they were sent.
func (a *App) inspectArchive(d *inspect.Inspector, in inspect.Input, names []string, drawTo string) error {
	if len(names) > 1 {
		return usageError{errors.New("an archive (.har) is a session by itself: give one, and no other file beside it")}
	}
	list, cut, err := readArchive(names[0])
	if err != nil {
		return err
	}
	several := inspect.SignIns(list) > 1
	drawing := sequence.New("What " + names[0] + " recorded")
	err = a.inspectMany("Trust", func(each judged) {
		d.Session(in, list, func(m inspect.Recorded, v *inspect.Inspection, err error) {
			_, to, _ := strings.Cut(m.To, "://")
			from := fmt.Sprintf("%d %s", m.Entry, to)
			if several && m.SignIn > 0 {
				from += fmt.Sprintf(" (sign-in %d)", m.SignIn)
			}
			if v != nil && v.Trust != "" {
				drawing.Add(drawnOf(v))
			}
			each(from, v, err)
		})
	})
	if err == nil || errors.Is(err, ErrFound) {
		err = errors.Join(err, a.draw(drawTo, drawing))
	}
	if cut != nil {
		return fmt.Errorf("%s: %w", names[0], cut)
	}
	return err
}

// drawnOf is a captured message as it is drawn.
func drawnOf(v *inspect.Inspection) sequence.Judged {
	by, what := sequence.Receiver(v.Trust, v.Kind)
	return sequence.Judged{Trust: v.Trust, By: by, What: what, Findings: v.Findings}
}

// safeCopy writes a copy of a message or an archive that is safe to send.
func (a *App) safeCopy(ctx context.Context, d *inspect.Inspector, names []string, to string) error {
	if len(names) != 1 || names[0] == "-" {
		return usageError{errors.New("--safe-copy is of one file: name it, and no other beside it")}
	}
	mask := a.mask
	if mask == nil {
		mask = play.MaskOf()
		if d.Known() {
			list, err := d.Persons()
			if err != nil {
				return err
			}
			mask = play.MaskOf(list...)
		}
	}
	var b bytes.Buffer
	if archive(names) {
		f, err := os.Open(names[0])
		if err != nil {
			return reach.FileError(names[0], err)
		}
		defer f.Close()
		if err := inspect.Redacted(&b, bufio.NewReaderSize(f, 1<<20), mask); err != nil {
			a.note("%s: %s; the copy has what stands before", names[0], words(err))
		}
	} else {
		list, err := a.messages(ctx, names)
		if err != nil {
			return err
		}
		for _, m := range list {
			b.WriteString(mask.Message(strings.TrimSpace(string(m.raw))) + "\n")
		}
	}
	if err := a.mayReplace(to); err != nil {
		return err
	}
	return writeWith(to, b.Bytes(), 0o600)
}

// readArchive reads the messages out of what a browser recorded. cut says why no more of them are there, where the
// archive is cut off.
func readArchive(path string) (list []inspect.Recorded, cut, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, nil, reach.FileError(path, err)
	}
	defer f.Close()
	list, cut = inspect.Archive(bufio.NewReaderSize(f, 1<<20))
	if cut != nil && len(list) == 0 {
		return nil, nil, fmt.Errorf("%s: %w", path, cut)
	}
	if len(list) == 0 {
		return nil, nil, fmt.Errorf("%s: no SAML or OAuth message is in it; record from before the sign-in "+
			"begins, with "+
			"the browser's developer tools open, and save all of it as HAR with content", path)
	}
	return list, cut, nil
}

// judged gets one message of many: where it is from, and what was found or why nothing could be.
type judged func(from string, v *inspect.Inspection, err error)

// inspected is what is told of one message of many.
type inspected struct {
	From string `json:"from"`
	*inspect.Inspection
}

// inspectMany judges messages one by one: a row for each, with its Subject or its Trust, and a summary that names the
// first that is wrong, or a list for programs.
func (a *App) inspectMany(third string, all func(judged)) error {
	debug.SetGCPercent(stage.GCPercent)
	out := bufio.NewWriterSize(unmasked(a.Out), 64<<10)
	told := contract.List{W: out, Mask: a.printer().Mask}
	b := format.Block{Verdicts: []int{2}, Head: []string{"Message", "Kind", "Verdict", third, "What is wrong"},
		Noun: "message"}
	count := map[judge.Verdict]int{}
	var failed error
	var first []string
	list := []inspected{}
	all(func(from string, v *inspect.Inspection, err error) {
		if err != nil {
			v = &inspect.Inspection{Kind: "unknown", Verdict: judge.Refused,
				Findings: finding.List{{ID: finding.InspectUnknown,
					Level: finding.Error, Check: "message", Saw: err.Error(), Expected: "something that inspect knows",
					Side: finding.Sender, Fix: finding.Do("capture it whole")}}}
		}
		if count[v.Verdict]++; v.Verdict == judge.Refused && first == nil {
			first = []string{"The first that is wrong: " + from}
			for _, f := range v.Findings {
				if f.Level == finding.Error {
					first = append(first, format.Indented("  ", f.Check+": "+f.Saw),
						format.Indented("      ", format.Remedy(f.Fix)))
					break
				}
			}
		}
		switch a.format {
		case "json":
			failed = errors.Join(failed, told.Add(inspected{from, v}))
			return
		case "yaml":
			list = append(list, inspected{from, v})
		}
		about := v.Subject
		if third == "Trust" {
			about = v.Trust
		}
		b.Rows = append(b.Rows, []string{from, v.Kind, string(v.Verdict), about,
			strings.Join(v.Findings.IDs(finding.Error), ", ")})
	})
	if failed != nil {
		return failed
	}
	if a.format == "json" {
		if err := errors.Join(told.Close(), out.Flush()); err != nil {
			return err
		}
	} else {
		sum := fmt.Sprintf("%d accepted, %d refused", count[judge.Accepted], count[judge.Refused])
		if n := count[""]; n > 0 {
			sum += fmt.Sprintf(", %d not judged", n)
		}
		page := format.Page{Blocks: []format.Block{b, {Lines: []string{sum}}}}
		if first != nil {
			page.Blocks = append(page.Blocks, format.Block{Lines: first})
		}
		page.Data = list
		if err := a.print(page); err != nil {
			return err
		}
	}
	if count[judge.Refused] > 0 {
		return ErrFound
	}
	return nil
}

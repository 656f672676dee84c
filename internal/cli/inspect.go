package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/xmlsec"
	"tressik.example/internal/desk"
	"tressik.example/internal/inspect"
	"tressik.example/internal/reach"
	"tressik.example/internal/report"
	"tressik.example/internal/stage"
	"tressik.example/internal/view"
)

func (a *App) inspectCmd() *cobra.Command {
	var in inspect.Input
	var at, key string
	c := &cobra.Command{Use: "inspect FILE…|-",
		Short: "Explain a message, metadata, certificate, key or token; judge a message with --trust", Args: args("FILE…"),
		Long: `Recognise and explain what is given: SAML metadata; a SAML message as XML, base64, URL-encoded, a whole
captured URL or a form body; a certificate; a private key, without showing it; a JSON Web Key, JWKS or
JWT, with what its claims mean and may do; a discovery document; an OAuth authorization request or response as
a captured URL. With --trust a SAML message, an ID token, an access token, or such a request or response is
judged as the receiving side of that trust would judge it. What is refused ends with exit status 3.

An address that carries a message in its query is judged as it stands, and not asked for; in the history of a shell
it stays, so a file or standard input is the better place. Several files, a folder, or several captured messages in
one input, each on a line, are judged one by one: a line for each and a summary, or with --format json a JSON object
on each line.`,
		Example: `  tressik inspect captured.txt
  tressik inspect captured.txt --trust nightlog@ridge --at 2031-03-04T09:00:10Z
  tressik inspect courier.jwt --trust frame-courier@ridge
  tressik inspect messages --trust nightlog@ridge --format json`,
		RunE: func(cmd *cobra.Command, got []string) error {
			var err error
			if in.As != "" && in.Trust == "" {
				return usageError{errors.New("--as says whom the message is about; name the --trust that it belongs to")}
			}
			if in.At, err = moment("--at", at); err != nil {
				return err
			}
			if in.Key, err = a.readFile("--key", key); err != nil {
				return err
			}
			d, err := a.inspector(in.Trust)
			if err != nil {
				return err
			}
			messages, err := a.messages(cmd.Context(), got)
			if err != nil {
				return err
			}
			if len(messages) > 1 {
				return a.inspectMany(d, in, messages)
			}
			in.Raw = messages[0].raw
			v, err := d.Inspect(in)
			if err != nil {
				return fmt.Errorf("%s: %w", messages[0].from, err)
			}
			if err := a.print(view.Page{Data: v, Blocks: report.Inspection(v)}); err != nil {
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
	f.StringVar(&at, "at", "", "judge as of this time: 2031-03-04T09:00:00Z")
	f.StringVar(&in.Request, "request", "", "ID of the request that was sent")
	f.StringVar(&key, "key", "", "file with the app's private key, for encrypted assertions")
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
	now, err := a.now()
	if err != nil {
		return nil, err
	}
	return inspect.New(desk.New(nil, now, nil).Book), nil
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
			return nil, err
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

// inspectMany judges messages one by one: a row for each and a summary, or a JSON object on each line.
func (a *App) inspectMany(d *inspect.Inspector, in inspect.Input, list []captured) error {
	debug.SetGCPercent(stage.GCPercent)
	out := bufio.NewWriterSize(a.Out, 64<<10)
	lines := json.NewEncoder(out)
	lines.SetEscapeHTML(false)
	b := view.Block{Head: []string{"Message", "Kind", "Verdict", "Subject", "What is wrong"}, Noun: "message"}
	count := map[judge.Verdict]int{}
	for _, m := range list {
		in.Raw = m.raw
		v, err := d.Inspect(in)
		if err != nil {
			v = &inspect.Inspection{Kind: "unknown", Verdict: judge.Refused, Findings: finding.List{{ID: "inspect.unknown",
				Level: finding.Error, Check: "message", Saw: err.Error(), Expected: "something that inspect knows",
				Side: finding.Sender, Fix: finding.Do("capture it whole")}}}
		}
		count[v.Verdict]++
		if a.format == "json" {
			if err := lines.Encode(struct {
				From string `json:"from"`
				*inspect.Inspection
			}{m.from, v}); err != nil {
				return err
			}
			continue
		}
		b.Rows = append(b.Rows, []string{m.from, v.Kind, string(v.Verdict), v.Subject,
			strings.Join(v.Findings.IDs(finding.Error), ", ")})
	}
	if err := out.Flush(); err != nil {
		return err
	}
	if a.format != "json" {
		sum := fmt.Sprintf("%d accepted, %d refused", count[judge.Accepted], count[judge.Refused])
		if n := count[""]; n > 0 {
			sum += fmt.Sprintf(", %d not judged", n)
		}
		page := view.Page{Blocks: []view.Block{b, {Lines: []string{sum}}}}
		page.Data = b.Rows
		if err := a.print(page); err != nil {
			return err
		}
	}
	if count[judge.Refused] > 0 {
		return ErrFound
	}
	return nil
}

package command

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tressik.example/internal/core/span"
	"tressik.example/internal/ledger"
	"tressik.example/internal/work/desk"
)

// What is given once of a party is remembered for it, and used by each command that needs it: the authorities of its
// servers, the file in which a client's secret lies, and where the stage is served.

// secretOf reads the secret of a trust's client: from the file that is given, else from the one that was given before;
// "" where none was. A file that is given is remembered, unless nothing is to be kept.
func (a *App) secretOf(d *desk.Desk, trust, path string, keep bool) (string, error) {
	if path != "" {
		secret, err := a.secretFrom(path)
		if err != nil || path == "-" || !keep {
			return secret, err
		}
		full, err := filepath.Abs(path)
		if err != nil {
			return secret, nil // it is used now, and has to be given again
		}
		return secret, a.remembered(a.change(d, func() error { return d.KeepSecretFile(trust, full) }))
	}
	path, err := d.SecretFile(trust)
	if err != nil || path == "" {
		return "", err
	}
	if _, err := os.Stat(path); err != nil {
		a.once("the client's secret of %s was in %s, which cannot be read any more: give --secret-file", trust, path)
		return "", nil
	}
	secret, err := a.secretFrom(path)
	if err != nil {
		return "", err
	}
	a.once("the client's secret of %s is read from %s, as before", trust, path)
	return secret, nil
}

// given are the flags of a command as they were given, but for some, so that another process can run it: files with the
// whole of their path.
func given(cmd *cobra.Command, but ...string) (out []string) {
	files := []string{"ca", "secret-file", "key", "tls-cert", "tls-key"}
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if slices.Contains(but, f.Name) || cmd.InheritedFlags().Lookup(f.Name) != nil {
			return
		}
		values := []string{f.Value.String()}
		if list, ok := f.Value.(pflag.SliceValue); ok {
			values = list.GetSlice()
		}
		for _, v := range values {
			if full, err := filepath.Abs(v); err == nil && slices.Contains(files, f.Name) && v != "-" {
				v = full
			}
			out = append(out, "--"+f.Name+"="+v)
		}
	})
	return out
}

// once says something that is true each time it is asked, and interests the first time.
func (a *App) once(form string, args ...any) {
	if s := fmt.Sprintf(form, args...); a.told.first(s) {
		a.note("%s", s)
	}
}

// told is what was said. It may be used by several goroutines; nil forgets all.
type told struct {
	mu   sync.Mutex
	said []string
}

func (t *told) first(s string) bool {
	if t == nil {
		return true
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if slices.Contains(t.said, s) {
		return false
	}
	t.said = append(t.said, s)
	return true
}

// remembered is the error of remembering something: a ledger that cannot be written is none, what was given is used all
// the same.
func (a *App) remembered(err error) error {
	if errors.Is(err, ledger.ErrReadOnly) {
		return nil
	}
	return err
}

// authorities keeps the authorities that were given for the foreign parties of trusts.
func (a *App) authorities(d *desk.Desk, trusts []string, pem []byte) error {
	if len(pem) == 0 {
		return nil
	}
	var of []string
	err := a.change(d, func() error {
		of = nil
		for _, t := range trusts {
			list, err := d.KnowAuthorities(t, pem)
			if err != nil {
				return err
			}
			of = append(of, list...)
		}
		return nil
	})
	if err == nil && len(of) > 0 {
		slices.Sort(of)
		a.say("the authorities of --ca are kept for %s, and used whenever its servers are asked",
			strings.Join(slices.Compact(of), ", "))
	}
	return a.remembered(err)
}

// placed fills in where the stage is served from what was given before, and remembers what is given now. again reports
// that the port is one of before, in whose place any other will do.
func (s *stageFlags) placed(a *App, d *desk.Desk) (again bool, err error) {
	was, err := d.StagePlace()
	if err != nil {
		return false, err
	}
	now := was
	full := func(path string) string {
		if f, err := filepath.Abs(path); err == nil {
			return f
		}
		return path
	}
	switch {
	case s.port != 0:
		now.Port = s.port
	case was.Port != 0:
		s.port, again = was.Port, true
	}
	switch {
	case s.cert != "":
		now.Cert, now.Key = full(s.cert), full(s.key)
	case was.Cert != "" && again:
		if _, err := os.Stat(was.Cert); err == nil {
			s.cert, s.key = was.Cert, was.Key
		} else {
			a.note("note: the stage was served with the certificate %s, which cannot be read any more: it "+
				"is served over "+
				"plain HTTP now; give --tls-cert and --tls-key", was.Cert)
		}
	case s.port != 0: // another port without a certificate: plain
		now.Cert, now.Key = "", ""
	}
	if now == was {
		return again, nil
	}
	return again, a.remembered(a.change(d, func() error { return d.KeepStagePlace(now) }))
}

// spanVar gives a command a flag for a span of time, as all commands read one.
func spanVar(f *pflag.FlagSet, p *time.Duration, name string, value time.Duration, usage string) {
	*p = value
	f.Var((*spanValue)(p), name, usage)
}

type spanValue time.Duration

// String writes the span as people write it; "" for none.
func (s *spanValue) String() string {
	if *s == 0 {
		return ""
	}
	return span.Short(time.Duration(*s))
}

// Set reads a span. Errors: span.ErrSpan.
func (s *spanValue) Set(v string) error {
	d, err := span.Parse(v)
	*s = spanValue(d)
	return err
}

// Type names the kind of value in help.
func (s *spanValue) Type() string { return "span" }

// past is a time that a flag gives: a day, a time, or how long ago it was; zero for "".
func (a *App) past(flag, v string) (time.Time, error) {
	return a.moment(flag, v, -1)
}

// coming is a time that a flag gives: a day, a time, or how far ahead it is; zero for "".
func (a *App) coming(flag, v string) (time.Time, error) {
	return a.moment(flag, v, 1)
}

func (a *App) moment(flag, v string, towards time.Duration) (time.Time, error) {
	if v == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04", time.DateOnly} {
		if t, err := time.Parse(layout, v); err == nil {
			return t.UTC(), nil
		}
	}
	d, err := span.Parse(v)
	if err != nil {
		return time.Time{}, usageError{fmt.Errorf("%s %q is no time; write 2031-03-04, 2031-03-04T09:00:00Z or 30d",
			flag, v)}
	}
	now, err := a.now()
	if err != nil {
		return time.Time{}, err
	}
	return now().UTC().Truncate(time.Second).Add(towards * d), nil
}

// renamed has commands take flags by the names that they had before, too; these are shown only to whoever typed them.
func (a *App) renamed(root *cobra.Command) {
	acting := map[string]string{"as": "acting"}
	for path, was := range map[string]map[string]string{
		"permission publish": acting, "permission ask": acting, "permission drop": acting, "consent give": acting,
		"consent withdraw": acting, "publish": {"as": "signer"},
		"cutover": {"at": "when", "calendar": "calendar-to", "note": "note-to"}, "inspect": {"at": "as-of"},
		"claims compare": {"with": "and"}, "app add": {"home": "home-page", "key": "key-kind"},
		"app change": {"home": "home-page"}, "provider add": {"key": "key-kind"}, "key export": {"jwks": "as-jwks"},
		"probe": {"call": "api-url"}, "people source add": {"cache": "fresh-for"}, "token get": {"stage": "stage-at"},
		"watch": {"from": "recorded"},
	} {
		c, _, err := root.Find(strings.Fields(path))
		must(err)
		c.Flags().SetNormalizeFunc(func(_ *pflag.FlagSet, name string) pflag.NormalizedName {
			now := was[name]
			if now == "" {
				return pflag.NormalizedName(name)
			}
			if t := [2]string{name, now}; !slices.Contains(a.typed, t) {
				a.typed = append(a.typed, t)
			}
			return pflag.NormalizedName(now)
		})
	}
}

// asTyped is a message with each flag by the name by which it was typed, where that is the one it had before.
func (a *App) asTyped(s string) string {
	for _, t := range a.typed {
		whole := regexp.MustCompile(`--` + regexp.QuoteMeta(t[1]) + `(\W|$)`)
		if at := whole.FindStringIndex(s); at != nil {
			s = s[:at[0]] + "--" + t[0] + " (now --" + t[1] + ")" + s[at[0]+2+len(t[1]):]
		}
	}
	return s
}

// alone refuses flags that say nothing beside another one of a command, but for some.
func alone(c *cobra.Command, flag string, but ...string) (err error) {
	c.Flags().Visit(func(f *pflag.Flag) {
		if f.Name != flag && !slices.Contains(but, f.Name) && c.InheritedFlags().Lookup(f.Name) == nil && err == nil {
			err = usageError{fmt.Errorf("--%s goes without --%s; leave one out", flag, f.Name)}
		}
	})
	return err
}

// needs refuses flags that say nothing without another one.
func needs(c *cobra.Command, flag string, those ...string) error {
	for _, name := range those {
		if c.Flags().Changed(name) {
			return usageError{fmt.Errorf("--%s goes with --%s; say both, or leave it out", name, flag)}
		}
	}
	return nil
}

package command

import (
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/due"
)

func (a *App) dueCmd() *cobra.Command {
	within, out := "60d", ""
	var calendar, metrics, sinceLast bool
	c := &cobra.Command{Use: "due", Short: "What runs out, and who waits for what; the soonest first", Args: args(),
		Long: `List what runs out: own and foreign certificates, the validity of metadata, the last secrets of clients,
announced and outgoing keys that wait, people who wait for a consent, parties that cannot be read again. Each with
when, whom to tell, and the command that renews it. It ends with exit status 3 when something is overdue.`,
		Example: `  tressik due
  tressik due --within 200d
  tressik due --since-last
  tressik due --calendar --out due.ics`,
		RunE: a.with(func(d *desk.Desk, _ []string) error {
			if sinceLast && (calendar || metrics) {
				return usageError{errors.New("--since-last is for people; --calendar and --metrics say everything " +
					"each time")}
			}
			if calendar && metrics {
				return usageError{errors.New("--calendar and --metrics are two forms of one list; choose one")}
			}
			span, err := desk.ParseSpan(within)
			if err != nil {
				return usageError{err}
			}
			f := &due.Finder{Book: d.Book, Keeper: keyKeeper(d)}
			all, err := f.Within(span)
			if err != nil {
				return err
			}
			list := all
			if sinceLast {
				if list, err = f.Fresh(all); err != nil {
					return err
				}
			}
			switch {
			case calendar:
				err = a.output(out, layout.DueCalendar(list, f.Org(), d.Now()))
			case metrics:
				err = a.output(out, layout.DueMetrics(list, d.Now()))
			case out != "":
				return usageError{errors.New("--out is for --calendar or --metrics")}
			default:
				err = a.print(layout.Due(list, d.Now(), federation.SpanWords(span), sinceLast))
			}
			if err == nil && sinceLast { // after it was said, so that nothing goes unsaid
				err = a.change(d, func() error { return f.Told(all) })
			}
			if err == nil && slices.ContainsFunc(list, func(x due.Item) bool { return x.Overdue }) {
				err = ErrFound
			}
			return err
		})}
	f := c.Flags()
	f.StringVar(&within, "within", within, "how far ahead: 60d")
	f.BoolVar(&calendar, "calendar", false, "as an iCalendar object (RFC 5545)")
	f.BoolVar(&metrics, "metrics", false, "as OpenMetrics text")
	f.BoolVar(&sinceLast, "since-last", false, "only what the last run with --since-last did not say, or what is "+
		"overdue since")
	f.StringVar(&out, "out", "", "file to write; else standard output")
	return c
}

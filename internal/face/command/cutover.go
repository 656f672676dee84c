package command

import (
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // zones of windows, on machines that have none

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/face/format"
	"tressik.example/internal/face/layout"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/work/cutover"
	"tressik.example/internal/work/desk"
)

// cutoverFlags say how a trust is made live, or taken back.
type cutoverFlags struct {
	at, window, zone, pilot, wayBack, despite, calendar, note, schedule string
	beside, back, pause, resume, due, dry                               bool
}

func (a *App) cutoverCmd() *cobra.Command {
	var in cutoverFlags
	c := &cobra.Command{Use: "cutover TRUST", Short: "Make a trust live, now or at a time, and take it back",
		Args: args("[TRUST]"),
		Long: `Show what has to be true before people depend on a trust, and make it live: proof by a sign-in that was
watched, expectations that hold, accounts that match, whom to ask, and a way back. Where something is missing it is
refused, unless --despite says why. It is made live at once, at a time (--when), in a quiet window (--window, in UTC
or --zone), for a group first (--pilot), or with the app's own sign-in beside it (--side-by-side). --back returns to
what was before; --pause and --resume switch it off and on. What is planned is carried out by tressik cutover --due,
which --schedule prints for cron or a timer; it looks at everything anew.

On the stage the played app follows: before, it offers its own sign-in; afterwards it sends people to the provider,
and its own sign-in stays for emergencies.`,
		Example: `  tressik cutover frame-courier@ridge --way-back "the night's list by hand" --dry-run
  tressik cutover frame-courier@ridge --way-back "the night's list by hand" --window "Sun 02:00-04:00" \
    --despite "a drill" --yes
  tressik cutover frame-courier@ridge --back
  tressik cutover --due`,
		ValidArgsFunction: a.names("trust", 1),
		RunE: func(cmd *cobra.Command, got []string) error {
			if in.schedule != "" {
				return a.schedule(in.schedule, "cutover", "Carry out what is planned", "*-*-* *:00/5:00", "*/5 * * * *",
					"cutover", "--due")
			}
			if in.due == (len(got) == 1) {
				return usageError{errors.New("TRUST is missing; write: tressik cutover TRUST, or --due for what " +
					"is planned")}
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			p := &cutover.Planner{Runner: a.expecter(d), Checker: a.checker(d, 14*24*time.Hour, 90*24*time.Hour)}
			if in.due {
				return a.cutDue(cmd, p)
			}
			if in.back || in.pause || in.resume {
				return a.takeBack(d, p, got[0], &in)
			}
			return a.cut(cmd, d, p, got[0], &in)
		}}
	f := c.Flags()
	f.StringVar(&in.at, "when", "", "when: 2031-03-09T02:00:00Z, or how far ahead, such as 8h")
	f.StringVar(&in.window, "window", "", `the next quiet window: "Sun 02:00-04:00"`)
	f.StringVar(&in.zone, "zone", "UTC", "time zone of --window, such as Europe/Vienna")
	f.StringVar(&in.pilot, "pilot", "", "group:NAME, for which it is live first")
	f.BoolVar(&in.beside, "side-by-side", false, "the app's own sign-in stays beside it")
	f.StringVar(&in.wayBack, "way-back", "",
		"what people do where they cannot sign in; it is put into the note for them")
	f.StringVar(&in.despite, "despite", "", "make it live although it is not ready, and why")
	f.StringVar(&in.calendar, "calendar-to", "", "write an entry for a calendar (iCalendar) to this file, to send")
	f.StringVar(&in.note, "note-to", "", "write a note for the people concerned (Markdown) to this file, to send")
	f.BoolVar(&in.back, "back", false, "return to what was before the cutover, or drop the plan of one")
	f.BoolVar(&in.pause, "pause", false, "switch a live trust off for a while")
	f.BoolVar(&in.resume, "resume", false, "switch a paused trust on again")
	f.BoolVar(&in.due, "due", false, "carry out what is planned and whose time has come")
	f.StringVar(&in.schedule, "schedule", "", "print what runs cutover --due by itself: cron or timer (systemd)")
	f.BoolVar(&in.dry, "dry-run", false, "show what has to be true, and change nothing")
	return c
}

// planned reads how and when.
func (a *App) planned(in *cutoverFlags, now time.Time, actor string) (federation.Cutover, error) {
	c := federation.Cutover{Way: federation.Whole, Back: in.wayBack, By: actor, Despite: in.despite}
	switch group, isGroup := strings.CutPrefix(in.pilot, "group:"); {
	case in.pilot != "" && in.beside:
		return c, errors.New("choose one of --pilot and --side-by-side")
	case in.pilot != "" && (!isGroup || group == ""):
		return c, fmt.Errorf("--pilot %q: write group:NAME", in.pilot)
	case in.pilot != "":
		c.Way, c.Group = federation.Pilot, group
	case in.beside:
		c.Way = federation.Beside
	}
	zone, err := time.LoadLocation(in.zone)
	if err != nil {
		return c, fmt.Errorf("--zone %q is no time zone; write one such as Europe/Vienna, or UTC", in.zone)
	}
	switch {
	case in.at != "" && in.window != "":
		return c, errors.New("choose one of --when and --window")
	case in.at != "":
		if c.From, err = a.coming("--when", in.at); err != nil {
			return c, err
		}
		if !c.From.After(now) {
			return c, fmt.Errorf("--when %s %w; leave it out to make it live now", in.at, cutover.ErrPast)
		}
	case in.window != "":
		if c.From, c.Until, err = federation.Window(in.window, now, zone); err != nil {
			return c, fmt.Errorf("--window %w", err)
		}
		c.Zone = in.zone
	}
	return c, nil
}

func (a *App) cut(cmd *cobra.Command, d *desk.Desk, p *cutover.Planner, name string, in *cutoverFlags) error {
	o, err := a.options()
	if err != nil {
		return err
	}
	plan, err := a.planned(in, d.Now(), o.Env.Actor)
	if err != nil {
		return usageError{err}
	}
	r, err := p.Ready(cmd.Context(), name, plan)
	if err != nil {
		return err
	}
	blocks := layout.Readiness(r, d.Now())
	show := func(t *federation.Trust, lines ...string) error {
		if len(lines) > 0 {
			blocks = append(blocks, format.Block{Lines: lines})
		}
		return a.print(format.Page{Data: cutover.Result{Readiness: r, Trust: desk.TrustResultOf(t)}, Blocks: blocks})
	}
	if in.dry || !r.Ready() && in.despite == "" {
		t, _, _, err := d.Trust(name)
		if err != nil {
			return err
		}
		if err := show(t, "Nothing was changed."); err != nil {
			return err
		}
		if !r.Ready() {
			return ErrFound
		}
		return nil
	}
	for _, path := range []string{in.note, in.calendar} { // before anything is changed
		if path != "" {
			if err := a.mayReplace(path); err != nil {
				return err
			}
		}
	}
	question := fmt.Sprintf("Make %s live %s?", name, layout.PlanWords(&plan, d.Now()))
	if !r.Ready() {
		question = "It is not ready. " + question
	}
	if err := a.confirm(question); err != nil {
		return err
	}
	before, app, provider, err := d.Trust(name)
	if err != nil {
		return err
	}
	t, err := changed(a, d, func() (*federation.Trust, error) {
		return p.Cut(r, cutover.Input{Plan: plan, Now: plan.From.IsZero()})
	})
	if err != nil {
		return err
	}
	done := t.Plan
	if done == nil {
		done = t.Cutover
	}
	if err := a.sendable(d, t, cutover.Note(before, app, provider, done), done, in); err != nil {
		return err
	}
	line := fmt.Sprintf("%s is live %s.", name, layout.PlanWords(done, d.Now()))
	if t.Plan != nil {
		line = fmt.Sprintf("%s is planned %s; `tressik cutover --due` carries it out then.", name,
			layout.PlanWords(done, d.Now()))
	}
	return show(t, line, "Take it back with `tressik cutover "+name+" --back`.")
}

// sendable writes what the administrator sends to the people concerned: the note, and an entry for a calendar.
func (a *App) sendable(d *desk.Desk, t *federation.Trust, text string, plan *federation.Cutover,
	in *cutoverFlags) error {
	until := plan.Until
	if until.IsZero() {
		until = plan.From.Add(time.Hour)
	}
	files := map[string][]byte{in.note: []byte(text),
		in.calendar: format.Calendar("Tressik//"+d.Org(), "tressik", d.Now(),
			[]format.Date{{ID: "cutover-" + strings.ReplaceAll(t.Name, "@", "-"), At: plan.From, Until: until,
				Summary: "Cutover of " + t.Name, Text: text}})}
	for path, b := range files {
		if path == "" {
			continue
		}
		if err := writeWith(path, b, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func (a *App) takeBack(d *desk.Desk, p *cutover.Planner, name string, in *cutoverFlags) error {
	var t *federation.Trust
	var err error
	word, more := "is back to what was before", []string(nil)
	switch {
	case in.back && !in.pause && !in.resume:
		t, err = changed(a, d, func() (*federation.Trust, error) { return p.Back(name) })
	case in.pause && !in.back && !in.resume:
		if t, err := d.View.Trust(name); err == nil && t.Standing == federation.Live {
			if err := a.confirm("Switch " + name + " off for everybody who signs in through it?"); err != nil {
				return err
			}
		}
		t, err = changed(a, d, func() (*federation.Trust, error) { return p.Pause(name, true) })
		word = "is paused: resume it with `tressik cutover " + name + " --resume`"
		if after, err := d.After(name, nil, true); err == nil {
			more = after.Words
		}
	case in.resume && !in.back && !in.pause:
		t, err = changed(a, d, func() (*federation.Trust, error) { return p.Pause(name, false) })
		word = "is live again"
	default:
		return usageError{errors.New("choose one of --back, --pause and --resume")}
	}
	if err != nil {
		return err
	}
	return a.print(format.Page{Data: desk.TrustResultOf(t),
		Blocks: []format.Block{{Lines: append([]string{fmt.Sprintf("%s %s; it is %s", name, word, t.Standing)},
			more...)}}})
}

func (a *App) cutDue(cmd *cobra.Command, p *cutover.Planner) error {
	list, err := p.Due(cmd.Context())
	if err != nil {
		return err
	}
	b := format.Block{Head: []string{"Trust", "Live", "Why not"}, Noun: "plan", Empty: "No plan is due."}
	for _, x := range list {
		b.Rows = append(b.Rows, []string{x.Trust, map[bool]string{true: "yes", false: "no"}[x.Done], x.Why})
	}
	if err := a.print(format.Page{Data: list, Blocks: []format.Block{b}}); err != nil {
		return err
	}
	if slices.ContainsFunc(list, func(x cutover.Due) bool { return !x.Done }) {
		return ErrFound
	}
	return nil
}

// schedule prints what runs a command by itself, for cron or for systemd.
func (a *App) schedule(how, name, says, calendar, cron string, args ...string) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	ledger, err := engine.Absolute(a.ledgerPath())
	if err != nil {
		return err
	}
	text, err := scheduled(how, name, says, calendar, cron, format.Words(append([]string{exe, "--ledger", ledger},
		args...)))
	if err == nil {
		_, err = io.WriteString(a.Out, text)
	}
	return err
}

// scheduled is what runs a command by itself: a line for cron, or a service and a timer of systemd.
func scheduled(how, name, says, calendar, cron, command string) (string, error) {
	switch how {
	case "cron":
		return "# crontab -e, then add this line. Exit status 3 means that it found an issue.\n" + cron + "  " +
			strings.ReplaceAll(command, "%", `\%`) + "\n", nil
	case "timer":
		at := "~/.config/systemd/user/tressik-" + name
		return "# " + at + ".service\n[Unit]\nDescription=" + says + "\n\n[Service]\nType=oneshot\nExecStart=" +
			strings.ReplaceAll(command, "%", "%%") + "\n\n# " + at + ".timer\n[Unit]\nDescription=" + says +
			"\n\n[Timer]\nOnCalendar=" + calendar + "\nPersistent=true\n\n[Install]\nWantedBy=timers.target\n\n" +
			"# then: systemctl --user daemon-reload && systemctl --user enable --now tressik-" + name + ".timer\n", nil
	}
	return "", usageError{fmt.Errorf("--schedule %q is not known; write cron or timer", how)}
}

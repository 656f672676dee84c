package command

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/engine"
	"tressik.example/internal/model"
	"tressik.example/internal/outside/whole"
	"tressik.example/internal/stage/play"
	"tressik.example/internal/work/desk"
)

// openLedger opens the ledger that the command line names.
func (a *App) openLedger() (ledger.Ledger, error) {
	if a.opened != nil {
		return a.opened, nil
	}
	o, err := a.options()
	if err != nil {
		return nil, err
	}
	l, err := engine.Open(a.run, a.ledgerPath(), o)
	if err != nil {
		return nil, err
	}
	if is := l.Env().Actor; a.actor != "" && is != o.Env.Actor {
		return nil, errors.Join(usageError{fmt.Errorf("--actor %s: the database knows who acts, %s, and keeps "+
			"nothing in "+
			"another name", a.actor, strings.TrimPrefix(is, federation.RolePrefix))}, l.Close())
	}
	a.opened = l
	return l, nil
}

// doorPlace is the path beside which a stage leaves word of itself, for those on this machine who want to watch it.
func (a *App) doorPlace() string {
	if engine.Remote(a.opened.Place()) {
		return a.opened.SealKey()
	}
	return a.opened.Place()
}

// desk opens the ledger at one moment, which stays what it is until the command changes something.
func (a *App) desk() (*desk.Desk, error) {
	if a.book != nil {
		return desk.New(a.book), nil
	}
	l, err := a.openLedger()
	if err != nil {
		return nil, err
	}
	v, end, err := l.Snapshot(a.run)
	if err != nil {
		return nil, err
	}
	a.book, a.end = model.Open(v, l.Env()), end
	return desk.New(a.book), nil
}

// live is a desk for what runs for long: what it reads is what stands at that moment.
func (a *App) live() (*desk.Desk, error) {
	d, err := a.desk()
	if err != nil || a.end == nil {
		return d, err
	}
	end := a.end
	a.end = nil
	a.book.Turn(a.opened.Now(a.run))
	return d, end()
}

// change has use cases change the ledger, all of them in one change, and shows what stands afterwards. They are run
// again where somebody else was faster: f does nothing but call them.
func (a *App) change(d *desk.Desk, f func() error) error {
	if a.trial || d.Changing() {
		return f()
	}
	if a.dry {
		c, err := d.Work(d.View, f)
		if err != nil {
			return err
		}
		a.costs(&c)
		a.say("nothing was kept (--dry-run)")
		d.Turn(model.Overlay(d.View, c))
		return nil
	}
	hands := false
	err := a.opened.Update(a.run, func(v model.View) (model.Changes, error) {
		c, err := d.Work(v, func() error {
			if err := f(); err != nil {
				return err
			}
			return d.Change(func(tx *model.Edit) (err error) {
				hands, err = tx.HandOut(whole.Process(), a.into...)
				return err
			})
		})
		if err == nil {
			a.left, err = abandoned(v, d.Now())
		}
		if err == nil {
			a.costs(&c)
			c.Told = a.writing(len(c.Records))
		}
		return c, err
	})
	if err == nil {
		a.goesOn()
		a.hands = a.hands || hands
	}
	if err != nil || a.end == nil {
		return err
	}
	v, end, err := a.opened.Snapshot(a.run)
	if err != nil {
		return err
	}
	was := a.end
	a.end = end
	d.Turn(v)
	return was()
}

// costs says which evidence a change takes back, before it is made. It says so once, however often the change is worked
// out.
func (a *App) costs(c *model.Changes) {
	list := c.Costs()
	trusts := map[string][]string{} // by the facts that each loses: of a key many lose the same
	for len(list) > 0 {
		name := list[0].Trust
		var facts []string
		for len(list) > 0 && list[0].Trust == name {
			facts = append(facts, fmt.Sprintf("%s (%s)", list[0].Fact, list[0].Rests))
			list = list[1:]
		}
		of := strings.Join(facts, ", ")
		trusts[of] = append(trusts[of], name)
	}
	for _, facts := range slices.Sorted(maps.Keys(trusts)) {
		s := fmt.Sprintf("note: this takes back what was shown of %s: %s", strings.Join(trusts[facts], ", "), facts)
		a.once("%s", s)
	}
}

// tries gives a command that changes something a --dry-run: the change is worked out and shown, with what it costs, and
// not kept.
func (a *App) tries(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.dry, "dry-run", false,
		"show what would change and which evidence that takes back; keep nothing")
	return c
}

// try runs another command line on what this one sees, and returns the Book that it leaves behind. Nothing of it is
// kept.
func (a *App) try(ctx context.Context, d *desk.Desk, other *App, words []string) (*model.Book, int) {
	b := d.Try()
	other.book, other.opened, other.trial = b, a.opened, true
	return b, other.Run(ctx, words)
}

// abandoned is what processes that live no more made and did not hand out.
func abandoned(v model.View, now time.Time) ([]model.Handing, error) {
	list, err := v.Handing()
	return slices.DeleteFunc(list, func(h model.Handing) bool {
		return !whole.Gone(h.By) && now.Sub(h.At) < model.HandingLongest
	}), err
}

// handedOut crosses out what this command handed out, and takes back what others made that were killed before they
// could. That somebody else's cannot be taken back now is no fault of this command: the next one tries it again.
func (a *App) handedOut() error {
	if a.opened == nil || a.trial || !a.hands && len(a.left) == 0 {
		return nil
	}
	hands, left := a.hands, a.left
	a.hands, a.left = false, nil
	ctx := context.WithoutCancel(a.run) // a command that is interrupted has done with what it made
	update := func(f func(*model.Book) error) error {
		return ledger.Updater(a.opened.Update).Do(ctx, a.opened.Env(), f)
	}
	for _, h := range left {
		taken := false
		err := update(func(b *model.Book) (err error) {
			taken, err = desk.New(b).Abandoned(h, liesIn)
			return err
		})
		switch {
		case err != nil || !taken:
		case h.Secret != "":
			a.note("the secret %s of %s was made by a command that was stopped before it handed it out: it is retired",
				h.Secret, h.Trust)
		default:
			a.note("the token of the registrar %s was made by a command that was stopped before it handed it out: the "+
				"registrar is retired", h.Registrar)
		}
	}
	if !hands {
		return nil
	}
	err := update(func(b *model.Book) error {
		return b.Change(func(tx *model.Edit) error { return tx.HandedOut(whole.Process()) })
	})
	if err != nil {
		return fmt.Errorf("the ledger could not note that what was made was handed out, and the next command will "+
			"retire it: %w", err)
	}
	return nil
}

// close ends what the command opened.
func (a *App) close() error {
	errs := []error{a.handedOut()}
	if a.end != nil {
		errs = append(errs, a.end())
	}
	if a.opened != nil && !a.trial {
		errs = append(errs, a.opened.Close())
	}
	a.end, a.opened, a.book = nil, nil, nil
	return errors.Join(errs...)
}

// changed is change for a use case with a result.
func changed[T any](a *App, d *desk.Desk, f func() (T, error)) (out T, err error) {
	err = a.change(d, func() (err error) {
		out, err = f()
		return err
	})
	return out, err
}

// changed2 is change for a use case with two results.
func changed2[T, U any](a *App, d *desk.Desk, f func() (T, U, error)) (one T, two U, err error) {
	err = a.change(d, func() (err error) {
		one, two, err = f()
		return err
	})
	return one, two, err
}

// changed3 is change for a use case with three results.
func changed3[T, U, V any](a *App, d *desk.Desk, f func() (T, U, V, error)) (one T, two U, three V, err error) {
	err = a.change(d, func() (err error) {
		one, two, three, err = f()
		return err
	})
	return one, two, three, err
}

// livePlayer is a player for what runs for long beside this command, such as a stage: what it reads is what stands at
// that moment, and what it keeps is a change of its own.
func (a *App) livePlayer() *play.Player {
	l := a.opened
	return &play.Player{Book: model.Open(l.Now(a.run), l.Env()), Keep: func(f func(*model.Book) error) error {
		return ledger.Updater(l.Update).Do(a.run, l.Env(), f)
	}}
}

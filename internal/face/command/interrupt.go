package command

import (
	"context"
	"errors"
	"io"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// errInterrupted is the end of a command at Ctrl-C. What it had changed by then is whole; what it was about is not
// done.
var errInterrupted = errors.New("interrupted before it was done")

// Interrupted is the exit status of a command that ended at Ctrl-C: what shells give it, 128 and the number of the
// signal.
const Interrupted = 130

// lasts marks commands that run until they are interrupted: that is how they end, and no failure.
const lasts = "lasts"

// lasting marks a command as one that runs until it is interrupted. It waits for a.stopped.
func lasting(c *cobra.Command) *cobra.Command {
	if c.Annotations == nil {
		c.Annotations = map[string]string{}
	}
	c.Annotations[lasts] = "until interrupted"
	return c
}

// goesOn has a command go on to its end from here, interrupted or not: it has begun to change what others see, and what
// follows belongs to that and waits for nobody.
func (a *App) goesOn() { a.run = context.WithoutCancel(a.run) }

// input is standard input that is waited for until the command is interrupted.
type input struct {
	io.Reader
	stopped context.Context
}

func (i *input) Read(b []byte) (int, error) {
	if err := i.stopped.Err(); err != nil {
		return 0, err
	}
	type got struct {
		n   int
		err error
	}
	own, done := make([]byte, len(b)), make(chan got, 1) // b is the caller's again once this returns
	go func() {
		n, err := i.Reader.Read(own)
		done <- got{n, err}
	}()
	select {
	case g := <-done:
		return copy(b, own[:g.n]), g.err
	case <-i.stopped.Done():
		return 0, i.stopped.Err()
	}
}

// keyboard is the terminal on which somebody can be asked; nil where there is none.
func (a *App) keyboard() *os.File {
	r := a.In
	for {
		i, wrapped := r.(*input)
		if !wrapped {
			break
		}
		r = i.Reader
	}
	if f, ok := r.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return f
	}
	return nil
}

// canAsk reports whether somebody is there to be asked.
func (a *App) canAsk() bool { return a.keyboard() != nil }

// readPassword reads a line that is not shown. A terminal shows again what is typed, however that ends.
func (a *App) readPassword(f *os.File) (string, error) {
	fd := int(f.Fd())
	was, err := term.GetState(fd)
	if err != nil {
		return "", err
	}
	type got struct {
		b   []byte
		err error
	}
	done := make(chan got, 1)
	go func() {
		b, err := term.ReadPassword(fd)
		done <- got{b, err}
	}()
	select {
	case g := <-done:
		return string(g.b), g.err
	case <-a.stopped.Done():
		return "", errors.Join(a.stopped.Err(), term.Restore(fd, was))
	}
}

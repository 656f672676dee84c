package command

import (
	"bytes"
	"errors"
	"io"
	"sync"

	"tressik.example/internal/core/redact"
	"tressik.example/internal/ledger"
	"tressik.example/internal/stage/play"
)

// masked is the last net: whatever is written goes through the mask, line by line, also what nobody laid out.
type masked struct {
	w     io.Writer
	hides func(string) string
	mu    *sync.Mutex // of both outputs
	rest  []byte      // a line that has not ended
}

func (m *masked) Write(b []byte) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.rest = append(m.rest, b...)
	end := bytes.LastIndexByte(m.rest, '\n') + 1
	if end == 0 {
		return len(b), nil
	}
	lines := m.rest[:end]
	m.rest = append([]byte{}, m.rest[end:]...)
	if _, err := io.WriteString(m.w, m.hides(string(lines))); err != nil {
		return 0, err
	}
	return len(b), nil
}

// flush writes a last line that has no end.
func (m *masked) flush() {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _ = io.WriteString(m.w, m.hides(string(m.rest))) // a closed output shows where it was written to before
	m.rest = nil
}

// unmasked is where an output goes that is masked already: once more would take numbers of a program for those of
// people.
func unmasked(w io.Writer) io.Writer {
	if m, ok := w.(*masked); ok {
		m.flush()
		return m.w
	}
	return w
}

// redacted has all that is said go through a mask that knows the people of the ledger, where that was asked for: each
// text before it is laid out, and what is written as it comes.
func (a *App) redacted() error {
	if !a.redact {
		return nil
	}
	a.mask = redact.New()
	d, err := a.desk()
	switch {
	case errors.Is(err, ledger.ErrNoLedger): // a message can be looked at without one
	case err != nil:
		return err
	default:
		list, err := d.Persons()
		if err != nil {
			return err
		}
		a.mask = play.MaskOf(list...)
	}
	var mask, outputs sync.Mutex
	a.hides = func(s string) string {
		mask.Lock()
		defer mask.Unlock()
		return a.mask.Text(s)
	}
	a.Out, a.Err = &masked{w: a.Out, hides: a.hides, mu: &outputs}, &masked{w: a.Err, hides: a.hides, mu: &outputs}
	return nil
}

// masking is what the mask does to a text; without one, nothing.
func (a *App) masking() func(string) string {
	if a.hides == nil {
		return func(s string) string { return s }
	}
	return a.hides
}

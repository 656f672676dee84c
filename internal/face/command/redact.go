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

// masked writes lines with words in place of what others may not see.
type masked struct {
	w    io.Writer
	mask *redact.Mask
	mu   *sync.Mutex // of all writers with the mask
	rest []byte      // a line that has not ended
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
	if _, err := io.WriteString(m.w, m.mask.Text(string(lines))); err != nil {
		return 0, err
	}
	return len(b), nil
}

// flush writes a last line that has no end.
func (m *masked) flush() {
	m.mu.Lock()
	defer m.mu.Unlock()
	_, _ = io.WriteString(m.w, m.mask.Text(string(m.rest))) // a closed output shows where it was written to before
	m.rest = nil
}

// redacted has all that is written go through a mask that knows the people of the ledger, where that was asked for.
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
	mu := &sync.Mutex{}
	a.Out, a.Err = &masked{w: a.Out, mask: a.mask, mu: mu}, &masked{w: a.Err, mask: a.mask, mu: mu}
	return nil
}

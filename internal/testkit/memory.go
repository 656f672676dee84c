package testkit

import (
	"context"
	"iter"
	"sync"

	"tressik.example/internal/model"
)

// Memory is a ledger in memory: what stands in it, and its journal. It is as good as an engine, but for what becomes of
// it when the test ends.
type Memory struct {
	mu      sync.Mutex
	env     model.Env
	all     model.Changes
	entries []model.Entry
}

// NewMemory makes a ledger in memory of the demo organisation.
func NewMemory(env model.Env) (*Memory, error) {
	m := &Memory{env: env}
	return m, m.Do(func(b *model.Book) error {
		return b.Change(func(e *model.Edit) error { return e.Found("Kestrel Ridge Observatory", "nobody's") })
	})
}

// memory is a Reader of a Memory as it was at one moment.
type memory struct {
	model.Reader
	entries []model.Entry
}

func (m memory) Entries(f model.Filter) iter.Seq2[model.Entry, error] {
	return func(yield func(model.Entry, error) bool) {
		var list []model.Entry
		for _, e := range m.entries {
			if f.Picks(&e) {
				list = append(list, e)
			}
		}
		if f.Last > 0 && len(list) > f.Last {
			list = list[len(list)-f.Last:]
		}
		for _, e := range list {
			if !yield(e, nil) {
				return
			}
		}
	}
}

// View is what stands in the ledger now.
func (m *Memory) View() model.View {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.view()
}

func (m *Memory) view() model.View {
	bare := m.all
	bare.Entries = nil
	return model.View{Reader: memory{model.Overlay(model.Empty(), bare).Reader, m.entries}}
}

// Update makes the changes that a function wants.
func (m *Memory) Update(_ context.Context, f func(model.View) (model.Changes, error)) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	c, err := f(m.view())
	if err != nil {
		return err
	}
	return m.take(c)
}

func (m *Memory) take(c model.Changes) error {
	m.all.Records = append(m.all.Records, c.Records...)
	v := m.view()
	key, err := v.Value(model.SettingPeople)
	if err != nil {
		return err
	}
	var seq int64
	prev := ""
	if n := len(m.entries); n > 0 {
		seq, prev = m.entries[n-1].Seq, m.entries[n-1].Hash
	}
	list, err := c.Append(seq, prev, key)
	m.entries = append(m.entries[:len(m.entries):len(m.entries)], list...)
	return err
}

// Do runs a use case and makes the changes that it wants.
func (m *Memory) Do(f func(*model.Book) error) error { return m.As("", f) }

// As is Do for somebody else than the one whose ledger it is.
func (m *Memory) As(actor string, f func(*model.Book) error) error {
	env := m.env
	if actor != "" {
		env.Actor = actor
	}
	return m.Update(context.Background(), func(v model.View) (model.Changes, error) {
		b, e := model.Begin(v, env)
		if err := f(b); err != nil {
			return model.Changes{}, err
		}
		return e.Changes(), nil
	})
}

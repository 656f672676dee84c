package model

import (
	"iter"
	"slices"
	"sync"

	"tressik.example/internal/core/people"
)

// OpenOnce returns a Vault that opens each thing once, for whoever tries the same keys very many times. What it opened
// stays in memory for as long as it does.
func OpenOnce(v Vault) Vault { return &openedOnce{Vault: v, open: map[string][]byte{}} }

type openedOnce struct {
	Vault
	mu   sync.Mutex
	open map[string][]byte
}

func (o *openedOnce) Open(sealed []byte) ([]byte, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if b, there := o.open[string(sealed)]; there {
		return slices.Clone(b), nil
	}
	b, err := o.Vault.Open(sealed)
	if err == nil {
		o.open[string(sealed)] = slices.Clone(b)
	}
	return b, err
}

// Remember returns a View that reads each of some kinds whole when it is first asked for one, and the census and the
// first people once; from then on it answers by itself. It is for whoever asks the same of each of very many trusts.
// What is written meanwhile it does not see.
func Remember(v View, kinds ...Kind) View {
	r := &remembering{Reader: v.Reader, kinds: map[Kind]*remembered{}}
	for _, k := range kinds {
		r.kinds[k] = &remembered{}
	}
	return View{r}
}

type remembering struct {
	Reader
	mu     sync.Mutex
	kinds  map[Kind]*remembered
	census *people.Census
	first  []Record // of people
	asked  bool     // those were read
}

// remembered are the records of a kind, in their order.
type remembered struct {
	read bool
	all  []Record
	by   map[string]int
	in   map[Index]map[string][]int
}

// of are the records of a kind; nil where it is none of those that are remembered.
func (m *remembering) of(k Kind) (*remembered, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	r := m.kinds[k]
	if r == nil || r.read {
		return r, nil
	}
	x := &remembered{read: true, by: map[string]int{}, in: map[Index]map[string][]int{}}
	for rec, err := range m.Reader.Find(Query{Kind: k}) {
		if err != nil {
			return nil, err
		}
		n := len(x.all)
		x.all, x.by[rec.Key().ID] = append(x.all, rec), n
		for _, by := range Indexes() {
			for _, value := range rec.Under(by) {
				if x.in[by] == nil {
					x.in[by] = map[string][]int{}
				}
				x.in[by][value] = append(x.in[by][value], n)
			}
		}
	}
	m.kinds[k] = x
	return x, nil
}

func (m *remembering) Get(k Key) (Record, error) {
	r, err := m.of(k.Kind)
	if err != nil || r == nil {
		if err == nil {
			return m.Reader.Get(k)
		}
		return nil, err
	}
	n, there := r.by[k.ID]
	if !there {
		return nil, ErrNotFound
	}
	return clone(r.all[n])
}

func (m *remembering) Find(q Query) iter.Seq2[Record, error] {
	if q == (Query{Kind: People}) {
		return m.people
	}
	if q.Begins+q.Mentions != "" {
		return m.Reader.Find(q)
	}
	r, err := m.of(q.Kind)
	if err == nil && r == nil {
		return m.Reader.Find(q)
	}
	return func(yield func(Record, error) bool) {
		if err != nil {
			yield(nil, err)
			return
		}
		at := r.in[q.By][q.Value]
		if q.By == Every {
			at = make([]int, len(r.all))
			for i := range at {
				at[i] = i
			}
		}
		if q.Newest {
			at = slices.Clone(at)
			slices.Reverse(at)
		}
		for _, i := range at {
			if x, err := clone(r.all[i]); !yield(x, err) || err != nil {
				return
			}
		}
	}
}

// people goes through the people: through the first of them out of memory, who are all that most ask for.
func (m *remembering) people(yield func(Record, error) bool) {
	const few = 20
	m.mu.Lock()
	var err error
	if !m.asked {
		for r, e := range m.Reader.Find(Query{Kind: People}) {
			if err = e; err != nil {
				break
			}
			if m.first = append(m.first, r); len(m.first) == few {
				break
			}
		}
		if m.asked = err == nil; !m.asked {
			m.first = nil
		}
	}
	first := m.first
	m.mu.Unlock()
	if err != nil {
		yield(nil, err)
		return
	}
	for _, r := range first {
		if x, err := clone(r); !yield(x, err) || err != nil {
			return
		}
	}
	if len(first) < few {
		return
	}
	n := 0
	for r, err := range m.Reader.Find(Query{Kind: People}) {
		if n++; (n > few || err != nil) && !yield(r, err) {
			return
		}
	}
}

// Census is that of the ledger.
func (m *remembering) Census() (people.Census, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.census == nil {
		c, err := View{m.Reader}.Census()
		if err != nil {
			return c, err
		}
		m.census = &c
	}
	return *m.census, nil
}

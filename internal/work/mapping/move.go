package mapping

import (
	"fmt"
	"maps"
	"slices"

	"tressik.example/internal/core/accounts"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/model"
)

// Move is what moving an app from one provider to another does to one person there.
type Move struct {
	Person  string   `json:"person"`
	Before  string   `json:"before"` // value that the app finds an account by; "" where they do not get in
	After   string   `json:"after"`
	Account string   `json:"account,omitempty"` // before
	Then    string   `json:"then,omitempty"`    // after
	Whose   string   `json:"whose,omitempty"`   // the account after is that of somebody else, who is named
	Lost    []string `json:"lost"`              // roles
	Gained  []string `json:"gained"`
	What    string   `json:"what"` // same, stranger, other, found, out, in
}

// Moving is what moving an app to another provider does.
type Moving struct {
	App   string         `json:"app"`
	From  string         `json:"from"` // trusts
	To    string         `json:"to"`
	Count map[string]int `json:"count"`             // of each What
	Moves []Move         `json:"moves" rows:"each"` // of all who are concerned, those of whom nothing changes included
}

// telling is how the app finds accounts, and whose they are.
type telling struct {
	index *accounts.Index
	whose *accounts.Owners
	from  string // the received name by which it finds them
}

// Move says for everyone whom an app has got through one provider, or would get through another, what becomes of them.
// Errors: *model.UnknownError, ErrNoAccounts, ErrNoKey.
func (m *Mapper) Move(app, from, to string) (*Moving, error) {
	ways, err := m.ways(app, from, to)
	if err != nil {
		return nil, err
	}
	before, err := m.Match(ways[0])
	if err != nil {
		return nil, err
	}
	list, err := m.View.Accounts(app)
	if err != nil {
		return nil, err
	}
	everybody, err := m.View.Persons()
	if err != nil {
		return nil, err
	}
	index, whose := accounts.NewIndex(list, before.Field), owners(everybody)
	out := &Moving{App: app, From: ways[0], To: ways[1], Count: map[string]int{}, Moves: []Move{}}
	there := map[string]*Move{}
	for i, way := range ways {
		who, err := m.admitted(way, "")
		if err != nil {
			return nil, err
		}
		for j := range who.all {
			p := &who.all[j]
			x := there[p.ID]
			if x == nil {
				x = &Move{Person: p.ID, Lost: []string{}, Gained: []string{}}
				there[p.ID] = x
			}
			x.side(i, who, p, &telling{index, whose, before.From})
		}
	}
	for _, id := range slices.Sorted(maps.Keys(there)) {
		x := there[id]
		x.judge()
		out.Count[x.What]++
		out.Moves = append(out.Moves, *x)
	}
	return out, nil
}

// side notes what one provider gives of somebody.
func (x *Move) side(i int, who *Those, p *people.Person, in *telling) {
	got := who.releaser.Receive(p)
	value, account := "", ""
	if v := got.Of(in.from); len(v) > 0 {
		value = v[0]
	}
	m := in.index.Match([]accounts.Arrival{{Person: p.ID, Key: got.Of(in.from)}})
	in.index.Tell(m, in.whose)
	if len(m.Found) == 1 {
		account = m.Found[0].Account
	}
	taken := ""
	if len(m.Swapped) == 1 {
		account, taken = m.Swapped[0].Account, m.Swapped[0].Whose
	}
	reads := who.trust.Reading(who.app)
	roles := got.Of(reads.From(reads.Role))
	if i == 0 {
		x.Before, x.Account, x.Lost = value, account, roles
		return
	}
	x.After, x.Then, x.Whose = value, account, taken
	x.Gained = slices.DeleteFunc(slices.Clone(roles), func(r string) bool { return slices.Contains(x.Lost, r) })
	x.Lost = slices.DeleteFunc(slices.Clone(x.Lost), func(r string) bool { return slices.Contains(roles, r) })
}

// judge says what becomes of somebody.
func (x *Move) judge() {
	switch {
	case x.Before == "" && x.After != "":
		x.What = "in"
	case x.Before != "" && x.After == "":
		x.What = "out"
	case x.Whose != "" && x.Account != x.Then:
		x.What = "other"
	case x.Account == x.Then && x.Account != "":
		x.What = "same"
	case x.Account != "" && x.Then == "":
		x.What = "stranger"
	case x.Account == "" && x.Then != "":
		x.What = "found"
	case x.Account != x.Then:
		x.What = "other"
	default:
		x.What = "unknown" // to the app, before and after
	}
}

// ways are the trusts of an app with two providers.
func (m *Mapper) ways(app, from, to string) ([2]string, error) {
	var out [2]string
	for i, provider := range []string{from, to} {
		var err error
		if out[i], err = m.way(app, provider); err != nil {
			return out, err
		}
	}
	return out, nil
}

// way is the trust of an app with a provider.
func (m *Mapper) way(app, provider string) (string, error) {
	if _, err := m.Party(federation.App, app); err != nil {
		return "", err
	}
	if _, err := m.Party(federation.Provider, provider); err != nil {
		return "", err
	}
	all, err := m.TrustsOf(app)
	if err != nil {
		return "", err
	}
	for i := range all {
		if t := &all[i]; t.App == app && t.Provider == provider && t.Standing != federation.Ended {
			return t.Name, nil
		}
	}
	return "", fmt.Errorf("%s has no trust with %s; make it first with `tressik federate %s --with %s`: %w", app,
		provider, app, provider, model.ErrValue)
}

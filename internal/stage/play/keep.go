package play

import (
	"fmt"
	"maps"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/redact"
	"tressik.example/internal/model"
)

// Of a run so many messages are kept at most, and so much of each.
const (
	mostMessages = 40
	longestText  = 32 << 10
)

// Messages gathers the messages of runs to be kept: each is redacted as it comes.
type Messages struct {
	mask *redact.Mask
	by   map[string][]federation.Message // by trust
}

// NewMessages makes a gatherer that knows the values of people, so that they are masked wherever they stand.
func NewMessages(list ...people.Person) *Messages {
	return &Messages{MaskOf(list...), map[string][]federation.Message{}}
}

// MaskOf makes a mask that knows people.
func MaskOf(list ...people.Person) *redact.Mask {
	m := redact.New()
	many := map[string]int{}
	for i := range list {
		for _, values := range list[i].Attributes {
			for _, v := range values {
				many[v]++
			}
		}
	}
	for i := range list {
		p := &list[i]
		m.Know("person", p.ID)
		for _, name := range slices.Sorted(maps.Keys(p.Attributes)) {
			if slices.Contains([]string{"objectClass", "preferredLanguage", "eduPersonAffiliation", "title"}, name) {
				continue
			}
			for _, v := range p.Attributes[name] {
				if many[v] <= 5 { // what many share names nobody
					m.Know(name, v)
				}
			}
		}
	}
	return m
}

// Add takes a message of a trust.
func (m *Messages) Add(trust, kind, text string) {
	if len(m.by[trust]) >= mostMessages {
		return
	}
	out := m.mask.Message(text)
	if len(out) > longestText {
		out = out[:longestText] + "\n(cut off here)"
	}
	m.by[trust] = append(m.by[trust], federation.Message{Kind: kind, Text: out})
}

// Of returns the messages of a trust.
func (m *Messages) Of(trust string) []federation.Message {
	if m == nil {
		return nil
	}
	return m.by[trust]
}

// KeepRun keeps a run with its trust, and what it proved. action is that of the journal.
func (d *Player) KeepRun(r *federation.Run, action string) error {
	if err := d.Keep(func(b *model.Book) error { return keepRun(b, r, action) }); err != nil {
		return fmt.Errorf("keeping the run: %w", err)
	}
	return nil
}

func keepRun(b *model.Book, r *federation.Run, action string) error {
	old, app, provider, err := b.Trust(r.Trust)
	if err != nil {
		return err
	}
	t := old.Clone()
	return b.Change(func(tx *model.Edit) error {
		if err := tx.AddRun(r); err != nil {
			return err
		}
		if r.Kind == federation.ByRehearsal {
			t.Rehearse(&r.Rehearsal)
		}
		t.Prove(r, federation.FactsOf(t, app, provider))
		return tx.PutTrust(old, t, action)
	})
}

// keepRehearsals keeps rehearsals with their trusts. What a rehearsal shows is that the ledger's values fit each other:
// not that keys which were played are those of the real party, nor what nobody did in it, such as signing out.
func (d *Player) keepRehearsals(list []federation.Rehearsal, messages *Messages) error {
	for i := range list {
		r := &federation.Run{Kind: federation.ByRehearsal, Rehearsal: list[i], Messages: messages.Of(list[i].Trust)}
		if len(r.Suppose) == 0 {
			t, app, provider, err := d.Trust(r.Trust)
			if err != nil {
				return err
			}
			rehearsed(r, federation.FactsOf(t, app, provider), app, provider)
		}
		if err := d.KeepRun(r, "trust.rehearse"); err != nil {
			return err
		}
	}
	return nil
}

// rehearsed notes what a rehearsal saw of facts.
func rehearsed(r *federation.Run, facts []federation.Fact, app, provider *federation.Party) {
	keys := []finding.FactID{finding.FactKeys, finding.FactAppKeys, finding.FactEncryption}
	for _, f := range facts {
		o := federation.Observation{Of: ownerOf(f, app, provider)}
		o.Played = o.Of != ""
		switch {
		case r.Verdict != judge.Accepted:
			if o.Out = true; f.Name == finding.FactAdmission && r.Meant() {
				r.Saw(f, o)
			}
		case f.Name == finding.FactSignOut, f.Name == finding.FactStart:
		case slices.Contains(keys, f.Name) && slices.Contains(r.StandIns, o.Of):
		default:
			r.Saw(f, o)
		}
	}
}

// ownerOf names the party whose value a fact is; "" where it is of both.
func ownerOf(f federation.Fact, app, provider *federation.Party) string {
	switch f.OfSide {
	case "app":
		return app.Name
	case "provider":
		return provider.Name
	}
	return ""
}

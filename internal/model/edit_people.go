package model

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"tressik.example/internal/core/people"
)

// keepSubject sees to it that a person has a key for pseudonyms: the one they had, under this name or, known again by
// their UUID, under another; somebody new gets a random one. A person of another UUID who is given a name that is free
// again is somebody new. It returns the key.
func (e *Edit) keepSubject(p *people.Person) (string, error) {
	now := p.UUID()
	had, err := get[*Subject](e.View, Key{Subjects, Folded(p.ID)})
	switch {
	case err == nil && (had.UUID == now || had.UUID == "" || now == ""):
		if had.UUID == "" && now != "" {
			had.UUID = now
			err = e.put(had)
		}
		return had.Pseudo, err
	case err != nil && !errors.Is(err, ErrNotFound):
		return "", err
	case now != "":
		for r, err := range find[*Subject](e.View, Query{Kind: Subjects, By: ByUUID, Value: now}) {
			if err != nil {
				return "", err
			}
			return r.Pseudo, e.putSubject(&Subject{Person: p.ID, Pseudo: r.Pseudo, UUID: now})
		}
	}
	key, err := e.random(16)
	if err != nil {
		return "", err
	}
	return key, e.putSubject(&Subject{Person: p.ID, Pseudo: key, UUID: now})
}

// putSubject gives a key to a name, and to that name alone.
func (e *Edit) putSubject(s *Subject) error {
	var others []*Subject
	for r, err := range find[*Subject](e.View, Query{Kind: Subjects, By: BySubject, Value: s.Pseudo}) {
		if err != nil {
			return err
		}
		if r.Key() != s.Key() {
			others = append(others, r)
		}
	}
	for _, o := range others {
		if _, err := e.take(o.Key()); err != nil {
			return err
		}
		r, err := get[*Person](e.View, PersonKey(o.Person))
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return err
		}
		r.Pseudo = ""
		if err := e.put(r); err != nil {
			return err
		}
	}
	return e.put(s)
}

// putPerson puts a person with the key that their pseudonyms are made from.
func (e *Edit) putPerson(p *people.Person) error {
	key, err := e.keepSubject(p)
	if err != nil {
		return err
	}
	return e.put(&Person{Person: *p, Pseudo: key})
}

// PutPerson stores one person, and returns them with their key for pseudonyms.
func (e *Edit) PutPerson(p *people.Person) (*people.Person, error) {
	if err := e.putPerson(p); err != nil {
		return nil, err
	}
	return e.Person(p.ID)
}

// RenamePerson gives a person another ID; they stay the same subject everywhere, and keep the consents they gave.
// Errors: ErrNotFound, ErrExists.
func (e *Edit) RenamePerson(old, now string) error {
	r, err := get[*Person](e.View, PersonKey(old))
	if err != nil {
		return err
	}
	was := r.Person.ID
	other, err := get[*Person](e.View, PersonKey(now))
	if err == nil && other.Person.ID != was {
		return fmt.Errorf("%s is %w", other.Person.ID, ErrExists)
	}
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	p := personOf(r)
	key := p.SubjectKey()
	p.ID = now
	if _, err := e.take(PersonKey(was)); err != nil {
		return err
	}
	if err := e.putSubject(&Subject{Person: now, Pseudo: key, UUID: p.UUID()}); err != nil {
		return err
	}
	if err := e.put(&Person{Person: p, Pseudo: key}); err != nil {
		return err
	}
	var given []*Consent
	for c, err := range find[*Consent](e.View, Query{Kind: Consents}) {
		if err != nil {
			return err
		}
		if c.For != "" && Folded(c.For) == Folded(was) {
			given = append(given, c)
		}
	}
	for _, c := range given {
		if _, err := e.take(c.Key()); err != nil {
			return err
		}
		c.For = now
		if err := e.put(c); err != nil {
			return err
		}
	}
	return e.note("people.rename", "", "", map[string]string{"person": was}, map[string]string{"person": now})
}

// PutPersons stores persons; with replace, those not among them are taken away. It returns how many were added, changed
// and removed.
func (e *Edit) PutPersons(list []people.Person, replace bool, source string) (added, changed, removed int, err error) {
	return e.putPersons(list, replace, source, "")
}

// PutPersonsOf stores the people of a source; of those who came from it, others are taken away. Errors: ErrExists for
// somebody who came from elsewhere.
func (e *Edit) PutPersonsOf(of string, list []people.Person) (added, changed, removed int, err error) {
	for i := range list {
		list[i].Source = of
	}
	if added, changed, removed, err = e.putPersons(list, true, of, of); err != nil {
		return
	}
	return added, changed, removed, e.SourceRead(of, len(list))
}

// putPersons stores people who come from a source; replace takes away the others of that source alone.
func (e *Edit) putPersons(list []people.Person, replace bool, source, of string) (added, changed, removed int,
	err error) {
	was := map[string]Record{}
	if replace {
		for r, err := range e.Find(Query{Kind: People, By: BySource, Value: of}) {
			if err != nil {
				return 0, 0, 0, err
			}
			was[r.Key().ID] = r
		}
	}
	for i := range list {
		p := &list[i]
		k := PersonKey(p.ID)
		r, err := get[*Person](e.View, k)
		switch {
		case errors.Is(err, ErrNotFound):
			added++
		case err != nil:
			return 0, 0, 0, err
		case r.Person.Source != of:
			return 0, 0, 0, cameFromElsewhere(&r.Person)
		default:
			delete(was, k.ID)
			if c := *p; !same(&Person{Person: r.Person}, &Person{Person: c}) {
				changed++
			}
		}
		if err := e.putPerson(p); err != nil {
			return 0, 0, 0, err
		}
	}
	removed = len(was)
	for _, id := range slices.Sorted(maps.Keys(was)) {
		if _, err := e.take(Key{People, id}); err != nil {
			return 0, 0, 0, err
		}
	}
	return added, changed, removed, e.note("people.load", "", "", nil, map[string]any{"source": source,
		"read": len(list), "added": added, "changed": changed, "removed": removed})
}

// cameFromElsewhere refuses somebody who is there already and came from elsewhere.
func cameFromElsewhere(p *people.Person) error {
	if p.Source == "" {
		return fmt.Errorf("%s was loaded by hand, and %w; people of one name come from one source: take them out of the "+
			"file and load it with --replace", p.ID, ErrExists)
	}
	return fmt.Errorf("%s came from the source %s, and %w; people of one name come from one source", p.ID, p.Source,
		ErrExists)
}

// PutSource keeps a source of people, in place of the one of the same name.
func (e *Edit) PutSource(s *people.Source) error {
	r := &Source{Source: *s}
	had, err := get[*Source](e.View, r.Key())
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	if err == nil {
		r.Read, r.People = had.Read, had.People
	}
	if err := e.put(r); err != nil {
		return err
	}
	return e.note("people.source", "", "", nil, s)
}

// RemoveSource takes a source of people away, and the people who came from it.
func (e *Edit) RemoveSource(name string) error {
	if _, err := e.takeAll(Query{Kind: People, By: BySource, Value: name}); err != nil {
		return err
	}
	if _, err := e.take(Key{Sources, name}); err != nil {
		return err
	}
	return e.note("people.source-remove", "", "", map[string]string{"source": name}, nil)
}

// SourceRead notes that a source was read, with how many people it has.
func (e *Edit) SourceRead(name string, number int) error {
	r, err := get[*Source](e.View, Key{Sources, name})
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	r.Read, r.People = second(e.Now()), number
	return e.put(r)
}

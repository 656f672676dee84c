package model

import (
	"errors"
	"fmt"
	"maps"
	"slices"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/people"
)

// subjects finds what pseudonyms are made from. Where many people are loaded it has read all of them once.
type subjects struct {
	e      *Edit
	all    bool
	byName map[string]*Subject
	byUUID map[string]*Subject
	byKey  map[string]*Subject
}

// subjectsOf finds subjects for so many people.
func (e *Edit) subjectsOf(people int) (*subjects, error) {
	s := &subjects{e: e, all: people > many, byName: map[string]*Subject{}, byUUID: map[string]*Subject{},
		byKey: map[string]*Subject{}}
	if !s.all {
		return s, nil
	}
	for r, err := range find[*Subject](e.View, Query{Kind: Subjects}) {
		if err != nil {
			return nil, err
		}
		s.note(r)
	}
	return s, nil
}

// many is the number of people from which all are read at once, not each by itself.
const many = 50

func (s *subjects) note(r *Subject) {
	s.byName[r.Key().ID], s.byKey[r.Pseudo] = r, r
	if r.UUID != "" {
		s.byUUID[r.UUID] = r
	}
}

// named returns the subject of a name; nil where there is none.
func (s *subjects) named(id string) (*Subject, error) {
	if s.all {
		return s.byName[Folded(id)], nil
	}
	r, err := get[*Subject](s.e.View, Key{Subjects, Folded(id)})
	if errors.Is(err, ErrNotFound) {
		return nil, nil
	}
	return r, err
}

// under returns a subject by an index; nil where there is none.
func (s *subjects) under(by Index, value string) (*Subject, error) {
	if s.all {
		return map[Index]map[string]*Subject{ByUUID: s.byUUID, BySubject: s.byKey}[by][value], nil
	}
	for r, err := range find[*Subject](s.e.View, Query{Kind: Subjects, By: by, Value: value}) {
		return r, err
	}
	return nil, nil
}

// keep sees to it that a person has a key for pseudonyms: the one they had, under this name or, known again by their
// UUID, under another; somebody new gets a random one. A person of another UUID who is given a name that is free
// again is somebody new. It returns the key.
func (s *subjects) keep(p *people.Person) (string, error) {
	now := p.UUID()
	had, err := s.named(p.ID)
	switch {
	case err != nil:
		return "", err
	case had != nil && (had.UUID == now || had.UUID == "" || now == ""):
		if had.UUID == "" && now != "" {
			c := *had
			c.UUID = now
			s.e.known(had, &c)
			s.note(&c)
		}
		return had.Pseudo, nil
	case now != "":
		r, err := s.under(ByUUID, now)
		if err != nil {
			return "", err
		}
		if r != nil {
			return r.Pseudo, s.put(had, &Subject{Person: p.ID, Pseudo: r.Pseudo, UUID: now})
		}
	}
	key, err := s.e.random(16)
	if err != nil {
		return "", err
	}
	return key, s.put(had, &Subject{Person: p.ID, Pseudo: key, UUID: now})
}

// put gives a key to a name, and to that name alone. had is what the name had; nil is nothing.
func (s *subjects) put(had, now *Subject) error {
	other, err := s.under(BySubject, now.Pseudo)
	if err != nil {
		return err
	}
	if other != nil && other.Key() != now.Key() {
		s.e.tell(Change{Key: other.Key(), Before: other})
		delete(s.byName, other.Key().ID)
		r, err := get[*Person](s.e.View, PersonKey(other.Person))
		if err == nil {
			c := *r
			c.Pseudo = ""
			s.e.known(r, &c)
		} else if !errors.Is(err, ErrNotFound) {
			return err
		}
	}
	if had == nil {
		s.e.known(nil, now)
	} else {
		s.e.known(had, now)
	}
	s.note(now)
	return nil
}

// putSubject gives a key to a name, and to that name alone.
func (e *Edit) putSubject(now *Subject) error {
	s, err := e.subjectsOf(1)
	if err != nil {
		return err
	}
	had, err := s.named(now.Person)
	if err != nil {
		return err
	}
	return s.put(had, now)
}

// PutPerson stores one person, and returns them with their key for pseudonyms.
func (e *Edit) PutPerson(p *people.Person) (*people.Person, error) {
	s, err := e.subjectsOf(1)
	if err != nil {
		return nil, err
	}
	key, err := s.keep(p)
	if err != nil {
		return nil, err
	}
	if err := e.put(&Person{Person: *p, Pseudo: key}); err != nil {
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
	subjects, err := e.subjectsOf(len(list))
	if err != nil {
		return 0, 0, 0, err
	}
	there, err := e.peopleThere(list, replace)
	if err != nil {
		return 0, 0, 0, err
	}
	listed := map[string]bool{}
	for i := range list {
		p := &list[i]
		id := Folded(p.ID)
		r := there[id]
		switch {
		case r == nil:
			added++
		case r.Person.Source != of:
			return 0, 0, 0, cameFromElsewhere(&r.Person)
		case !same(&Person{Person: r.Person}, &Person{Person: *p}):
			changed++
		}
		now := &Person{Person: *p}
		if now.Pseudo, err = subjects.keep(p); err != nil {
			return 0, 0, 0, err
		}
		if r == nil {
			e.known(nil, now)
		} else {
			e.known(r, now)
		}
		there[id], listed[id] = now, true
	}
	if replace {
		for _, id := range slices.Sorted(maps.Keys(there)) {
			if r := there[id]; !listed[id] && r.Person.Source == of {
				e.tell(Change{Key: Key{People, id}, Before: r})
				removed++
			}
		}
	}
	return added, changed, removed, e.note("people.load", "", "", nil, map[string]any{"source": source,
		"read": len(list), "added": added, "changed": changed, "removed": removed})
}

// peopleThere returns the people of a list who are there already, by folded ID; all people where there are many of
// them, or all are wanted.
func (e *Edit) peopleThere(list []people.Person, all bool) (map[string]*Person, error) {
	out := map[string]*Person{}
	if all || len(list) > many {
		for r, err := range find[*Person](e.View, Query{Kind: People}) {
			if err != nil {
				return nil, err
			}
			out[r.Key().ID] = r
		}
		return out, nil
	}
	for i := range list {
		r, err := get[*Person](e.View, PersonKey(list[i].ID))
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out[r.Key().ID] = r
	}
	return out, nil
}

// cameFromElsewhere refuses somebody who is there already and came from elsewhere.
func cameFromElsewhere(p *people.Person) error {
	if p.Source == "" {
		return finding.Errorf("%s was loaded by hand, and is %w; people of one name come from one source: take them "+
			"out of the file and load it with %s", p.ID, ErrExists, finding.FieldReplace)
	}
	return fmt.Errorf("%s came from the source %s, and is %w; people of one name come from one source", p.ID, p.Source,
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

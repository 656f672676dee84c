// Package model is the ledger as a value.
//
// # Why
//
// What an administrator asks about a federation (who may sign in, which certificate counts, what is left to do) is
// asked by many commands. Where each of them reads a database for itself, at its own moment, one question gets
// several answers. Here a ledger is a value: a View says what stands at one moment, whatever keeps it, and each
// question is a function of a View. Nothing in this package reads a file, a socket or a clock.
//
// # How it is read
//
// A Reader is all that an engine has to offer: a record by its name, the records of a kind in their order or by an
// index, the bytes that lie beside a record, and the journal. View puts the typed questions on it, once, for every
// engine. A record that was read belongs to the reader: changing it changes nothing in the ledger.
//
// # How it changes
//
// A use case works on a Book: a View, with the time, the randomness and the vault that it is handed. What it changes
// it tells the Book's Edit, which keeps it as Changes: typed records put and taken away, with what they were before,
// and the words for the journal. The Edit's own View is an Overlay: the next thing that the use case, or another one
// behind it, reads is what the change has made of it. So use cases compose, and what would happen is the same
// function as what happens: a what-if, a dry run and a drill are the real use case on an Overlay of which nobody
// keeps the Changes.
//
// An engine runs a use case in one transaction and keeps its Changes with their entries in the journal. Since a use
// case is a function of what it is handed, it is run again where somebody else was faster.
//
// # The journal
//
// Each entry keeps the Changes that it stands for, so that Past gives the View of an earlier moment, and Back the
// Changes that lead from now to then without undoing what somebody else did in between. People stand there by a keyed
// hash alone: the journal proves them, and the ledger can still forget them. What a stage saw (when a secret was
// used, which code was redeemed) is no change that somebody made: it is kept, and the journal does not have it.
package model

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"strings"
	"time"
)

// Errors that callers test for.
var (
	ErrNotFound = errors.New("not in the ledger")
	ErrExists   = errors.New("already in the ledger")
	ErrChanged  = errors.New("the record changed under this command")
	ErrInUse    = errors.New("still in use")
	ErrSealKey  = errors.New("the private keys cannot be opened")
	// ErrReading means that something was to be changed by what was opened for reading alone: a mistake of the program.
	ErrReading = errors.New("the ledger was opened for reading alone")
	// ErrForgotten means that the journal proves what a record was and does not have it: it was about a person.
	ErrForgotten = errors.New("the journal proves what it was, and does not keep it")
)

// Kind is a kind of record.
type Kind string

// The kinds of record. Those up to Carried are changed by somebody, and the journal has each change; those from Uses
// on are readings, which a stage, a refresh or a reminder leaves behind.
const (
	Settings     Kind = "setting"
	Parties      Kind = "party"
	Versions     Kind = "version" // what a foreign party published over time
	Trusts       Kind = "trust"
	OwnKeys      Kind = "key"
	People       Kind = "person"
	Subjects     Kind = "subject" // what pseudonyms of a person are made from
	Secrets      Kind = "secret"
	Consents     Kind = "consent"
	Sources      Kind = "source"
	Routes       Kind = "route"
	Arrived      Kind = "arrived"
	Exports      Kind = "export" // accounts inside an app
	Expectations Kind = "expectation"
	Accepted     Kind = "accepted" // a finding that is let be, a step that was settled by hand
	Registrars   Kind = "registrar"
	Registered   Kind = "registration" // what a registrar made
	Carried      Kind = "carried"      // subjects that people keep at an app

	Uses      Kind = "use"
	Runs      Kind = "run"
	Readings  Kind = "reading"
	Told      Kind = "told"
	StageKeys Kind = "stage-key"
	StageKept Kind = "stage-kept"
)

// Kinds lists all kinds of record.
func Kinds() []Kind {
	return []Kind{Settings, Parties, Versions, Trusts, OwnKeys, People, Subjects, Secrets, Consents, Sources, Routes,
		Arrived, Exports, Expectations, Accepted, Registrars, Registered, Carried, Uses, Runs, Readings, Told,
		StageKeys,
		StageKept}
}

// Journaled reports whether the journal has each change of records of the kind.
func (k Kind) Journaled() bool {
	switch k {
	case Uses, Runs, Readings, Told, StageKeys, StageKept:
		return false
	}
	return true
}

// Personal reports whether records of the kind say something of a person, so that the journal has a keyed hash of them
// alone.
func (k Kind) Personal() bool {
	switch k {
	case People, Subjects, Exports, Arrived, Carried:
		return true
	}
	return false
}

// numbered reports whether records of the kind stand in the order in which they were made, not in that of their names.
func (k Kind) numbered() bool {
	switch k {
	case Versions, OwnKeys, Secrets, Expectations, Runs:
		return true
	}
	return false
}

// Index is what records of a kind can be found by.
type Index string

// The indexes. Which kinds have one is said at Record.Under.
const (
	Every      Index = ""
	ByKind     Index = "kind"      // of parties: provider or app
	ByEntity   Index = "entity"    // of parties: kind and entity ID
	ByAudience Index = "audience"  // of parties: kind and audience of the api side; "" finds all that have one
	ByIssuer   Index = "issuer"    // of parties: kind and issuer of the OpenID side
	ByApp      Index = "app"       // of trusts
	ByProvider Index = "provider"  // of trusts
	ByParty    Index = "party"     // of keys and versions
	ByTrust    Index = "trust"     // of what belongs to a trust
	ByAbout    Index = "about"     // of what was accepted: a trust or a party
	ByMaker    Index = "registrar" // of registrations
	BySource   Index = "source"    // of people: the source that they came from; "" is by hand
	BySubject  Index = "subject"   // of subjects: their key
	ByUUID     Index = "uuid"      // of subjects: the entryUUID of the person
)

// Indexes are all but Every.
func Indexes() [13]Index {
	return [...]Index{ByKind, ByEntity, ByAudience, ByIssuer, ByApp, ByProvider, ByParty, ByTrust, ByAbout, ByMaker,
		BySource, BySubject, ByUUID}
}

// Key names a record.
type Key struct {
	Kind Kind   `json:"kind"`
	ID   string `json:"id"`
}

// Record is one thing that stands in a ledger. Its JSON is all of it.
type Record interface {
	Key() Key
	// Under returns the values by which an index of its kind finds it; none where the index is not one of its kind.
	Under(Index) []string
}

// Query asks for records of a kind.
type Query struct {
	Kind   Kind
	By     Index
	Value  string
	Newest bool // the last one first
	// Begins picks those whose name begins so: of people, whose folded ID does, of parties and of trusts.
	Begins string
	// Mentions may leave out, of people alone, those in whose record one of some texts does not stand, letter case not
	// counting. The texts are separated by NUL; a star in one is anything, and nothing. It is a hint: whoever asks
	// looks at those that are found.
	Mentions string
}

// Reader is what stands in a ledger at one moment, as an engine offers it. What it returns belongs to the caller.
type Reader interface {
	// Get returns a record. Errors: ErrNotFound.
	Get(Key) (Record, error)
	// Find returns records in the order of their kind: by name, or as they were made.
	Find(Query) iter.Seq2[Record, error]
	// Names returns the IDs alone of what Find finds, in its order.
	Names(Query) iter.Seq2[string, error]
	// Document returns the bytes that lie beside a record as they were received; nil where none do. Errors:
	// ErrNotFound.
	Document(Key) ([]byte, error)
	// Last is the greatest number that a record of a numbered kind has; 0 where there is none.
	Last(Kind) (int64, error)
	// Entries returns entries of the journal, oldest first.
	Entries(Filter) iter.Seq2[Entry, error]
}

// Vault seals and opens private keys. It is no part of a ledger's value: whoever holds the ledger key has it.
type Vault interface {
	Seal(secret []byte) ([]byte, error)
	// Open opens what was sealed. Errors: ErrSealKey.
	Open(sealed []byte) ([]byte, error)
}

// Env is what a use case is handed beside a View: who acts, what time it is, randomness, and the vault.
type Env struct {
	Now   func() time.Time
	Rand  io.Reader
	Actor string
	Vault Vault
}

// blank returns an empty record of a kind.
func blank(k Kind) Record {
	switch k {
	case Settings:
		return &Setting{}
	case Parties:
		return &Party{}
	case Versions:
		return &Version{}
	case Trusts:
		return &Trust{}
	case OwnKeys:
		return &OwnKey{}
	case People:
		return &Person{}
	case Subjects:
		return &Subject{}
	case Secrets:
		return &Secret{}
	case Consents:
		return &Consent{}
	case Sources:
		return &Source{}
	case Routes:
		return &Route{}
	case Arrived:
		return &Arrival{}
	case Exports:
		return &Export{}
	case Expectations:
		return &Expectation{}
	case Accepted:
		return &Acceptance{}
	case Registrars:
		return &Registrar{}
	case Registered:
		return &Registration{}
	case Carried:
		return &Carrying{}
	case Uses:
		return &Use{}
	case Runs:
		return &Run{}
	case Readings:
		return &Reading{}
	case Told:
		return &Item{}
	case StageKeys:
		return &StageKey{}
	case StageKept:
		return &Kept{}
	}
	return nil
}

// Decode reads a record of a kind as Encode wrote it.
func Decode(k Kind, doc []byte) (Record, error) {
	r := blank(k)
	if r == nil {
		return nil, fmt.Errorf("%q is no kind of record that this version knows", k)
	}
	if err := json.Unmarshal(doc, r); err != nil {
		return nil, fmt.Errorf("a record of the ledger is damaged (%s): %w", k, err)
	}
	return r, nil
}

// Encode writes a record; nil is none.
func Encode(r Record) ([]byte, error) {
	if r == nil {
		return nil, nil
	}
	return json.Marshal(r)
}

// clone returns a copy of a record that shares nothing with it.
func clone(r Record) (Record, error) {
	b, err := Encode(r)
	if err != nil {
		return nil, err
	}
	return Decode(r.Key().Kind, b)
}

// same reports whether two records say the same; nil is none.
func same(a, b Record) bool {
	if a == nil || b == nil {
		return a == nil && b == nil
	}
	x, errX := Encode(a)
	y, errY := Encode(b)
	return errX == nil && errY == nil && bytes.Equal(x, y)
}

// joined makes the name of a record out of several parts, in whose order such records stand.
func joined(parts ...string) string { return strings.Join(parts, "\x00") }

// Parts takes the name of a record apart that was made of several.
func (k Key) Parts() []string { return strings.Split(k.ID, "\x00") }

// Folded is a name whose letter case does not count, as the ledger compares it: ASCII alone is folded.
func Folded(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' {
			return r + 'a' - 'A'
		}
		return r
	}, s)
}

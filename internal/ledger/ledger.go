// Package ledger is what keeps a ledger: an engine behind View, Update and Watch. What stands in it, and what would
// change, is package model's; nothing outside an engine knows how it is kept.
package ledger

import (
	"context"
	"errors"
	"iter"
	"time"

	"tressik.example/internal/model"
)

// Errors that callers test for, whatever keeps the ledger.
var (
	ErrNoLedger  = errors.New("there is no ledger")
	ErrNotLedger = errors.New("this is not a ledger")
	ErrNewer     = errors.New("the ledger is from a newer version of Tressik")
	ErrThere     = errors.New("there is a file already")
	ErrReadOnly  = errors.New("the ledger cannot be written")
	ErrFull      = errors.New("the disk is full")
	ErrBusy      = errors.New("another process holds the ledger")
	ErrDisk      = errors.New("the disk cannot be read or written")
	ErrMoved     = errors.New("the ledger is not where it was")
	ErrAway      = errors.New("the database server cannot be reached")
	ErrDamaged   = errors.New("something in the ledger is not what was written")
	ErrBroken    = errors.New("its journal is not what was written")
	ErrMay       = errors.New("the database does not let this role")
)

// Ledger is an open ledger.
type Ledger interface {
	// View has a function read one moment of the ledger. The View is good until the function returns.
	View(ctx context.Context, f func(model.View) error) error
	// Snapshot opens a View that stays what it is until end is called.
	Snapshot(ctx context.Context) (v model.View, end func() error, err error)
	// Now is a View for what runs for long: each question is answered by what stands at its own moment.
	Now(ctx context.Context) model.View
	// Update makes the changes that a function wants, with their entries in the journal, in one transaction: all of
	// them or nothing. The function is run again where somebody else changed the ledger meanwhile, so it must do
	// nothing but work out changes. Errors: those of the function, ErrReadOnly, ErrBusy, ErrFull, ErrDisk.
	Update(ctx context.Context, f func(model.View) (model.Changes, error)) error
	// Watch follows what others change. Close it afterwards.
	Watch(ctx context.Context) (Watch, error)
	// Env is what use cases on this ledger are handed.
	Env() model.Env
	// Status is how it is kept, and who has it open.
	Status(ctx context.Context) (Status, error)
	// Sound asks the engine itself whether its pages and indexes are whole; it names what is not.
	Sound(ctx context.Context) ([]string, error)
	// Place is where it lies, in words.
	Place() string
	// Files are the files that belong to it, those that may appear included.
	Files() []string
	// SealKey is where its ledger key lies.
	SealKey() string
	Close() error
}

// Source is all of a ledger, to be put into one that is new: first its records, each behind those that it refers to,
// then its journal. Each sequence is gone through once.
type Source interface {
	Records() iter.Seq2[model.Change, error]
	Entries() iter.Seq2[model.Entry, error]
}

// Of is a View as a Source.
func Of(v model.View) Source { return source{v} }

type source struct{ v model.View }

func (s source) Records() iter.Seq2[model.Change, error] { return model.Whole(s.v) }
func (s source) Entries() iter.Seq2[model.Entry, error] {
	return s.v.Entries(model.Filter{Whole: true})
}

// Status is how a ledger is kept.
type Status struct {
	Engine string   `json:"engine"` // with its version
	Schema int      `json:"schema"`
	Bytes  int64    `json:"bytes"` // what it takes on the disk
	Open   []Holder `json:"open"`  // who has it open but the one who asks; nil where that cannot be known
}

// Holder is a process that has a ledger open.
type Holder struct {
	Process int       `json:"process,omitempty"` // its number, on the machine where it runs
	Who     string    `json:"who"`               // its user or role
	What    string    `json:"what"`              // the program
	From    string    `json:"from,omitempty"`    // the machine, where it is another one
	Since   time.Time `json:"since,omitzero"`
}

// Roles are what an engine that knows who is connected lets them do. Only some engines have them.
type Roles interface {
	// Roles lists them by name.
	Roles(ctx context.Context) ([]Role, error)
	// Grant lets a role read, change or consent, and makes it where there is none. Errors: ErrMay.
	Grant(ctx context.Context, name, what, password string) error
	// Revoke takes that back. Errors: ErrMay, model.ErrNotFound.
	Revoke(ctx context.Context, name string) error
}

// Role is who is known to the database, and what they may do.
type Role struct {
	Name string `json:"name"`
	May  string `json:"may"` // read, change or consent
}

// Watch follows a ledger while others change it.
type Watch interface {
	// Version changes whenever somebody else has changed the ledger. Errors: ErrMoved, ErrAway.
	Version(ctx context.Context) (int64, error)
	// Update is that of the ledger; it waits for others for a moment alone, so that whoever calls it is not held up.
	Update(ctx context.Context, f func(model.View) (model.Changes, error)) error
	// Changed is sent to when somebody may have changed the ledger; nil where the engine cannot tell, and Version is
	// asked from time to time.
	Changed() <-chan struct{}
	Close() error
}

// Updater is Update of a ledger or of a watch.
type Updater func(ctx context.Context, f func(model.View) (model.Changes, error)) error

// Do runs a use case on a ledger and makes the changes that it wants.
func (u Updater) Do(ctx context.Context, env model.Env, f func(*model.Book) error) error {
	return u(ctx, func(v model.View) (model.Changes, error) {
		b, e := model.Begin(v, env)
		if err := f(b); err != nil {
			return model.Changes{}, err
		}
		return e.Changes(), nil
	})
}

// Options are what a ledger needs from outside.
type Options struct {
	Env     model.Env // without the vault
	SealKey string    // path of the ledger key; "" is beside the ledger
	// Passphrase asks for that of a ledger key that has one; nil: nobody can be asked
	Passphrase func(path string) (string, error)
	// Patience is how long a change waits for others; zero is 15 seconds
	Patience time.Duration
	// Say is told what is done beside what was asked for, such as a migration; nil where nobody wants to know.
	Say func(words string)
}

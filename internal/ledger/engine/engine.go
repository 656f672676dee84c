// Package engine opens a ledger wherever it lies: in a file, or in a database. Which engine keeps it is decided here
// alone, by its place.
package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"tressik.example/internal/ledger"
	"tressik.example/internal/ledger/postgres"
	"tressik.example/internal/ledger/sqlite"
)

// ErrEngine means that an address is of no engine that keeps a ledger.
var ErrEngine = errors.New("an address of no engine that keeps a ledger")

// known refuses the address of something else: a file of that name would be looked for, or made. Errors: ErrEngine.
func known(place string) error {
	if scheme, _, is := strings.Cut(place, "://"); is && !postgres.Is(place) {
		return fmt.Errorf("%s:// is %w; name the path of a file, or a database as postgres://…", scheme, ErrEngine)
	}
	return nil
}

// Open opens the ledger at a place, which is the path of a file or the address of a PostgreSQL database, and migrates
// it if it is from an older version. Errors: ledger.ErrNoLedger, ErrNotLedger, ErrNewer, ErrAway, ErrMay, and
// ErrEngine, as the others here do.
func Open(ctx context.Context, place string, o ledger.Options) (ledger.Ledger, error) {
	if err := known(place); err != nil {
		return nil, err
	}
	if postgres.Is(place) {
		return opened(postgres.Open(ctx, place, o))
	}
	return opened(sqlite.Open(ctx, place, o))
}

// Create makes a ledger at a place, with its ledger key. Nothing is left behind if it fails. Errors: ledger.ErrThere.
func Create(ctx context.Context, place, org string, o ledger.Options) (ledger.Ledger, error) {
	if err := known(place); err != nil {
		return nil, err
	}
	if postgres.Is(place) {
		return opened(postgres.Create(ctx, place, org, o))
	}
	return opened(sqlite.Create(ctx, place, org, o))
}

// Fill makes a ledger at a place of all that another one has, its journal included. Nothing is left behind if it fails.
// Errors: ledger.ErrThere.
func Fill(ctx context.Context, place string, o ledger.Options, s ledger.Source) (ledger.Ledger, error) {
	if err := known(place); err != nil {
		return nil, err
	}
	if postgres.Is(place) {
		return opened(postgres.Fill(ctx, place, o, s))
	}
	return opened(sqlite.Fill(ctx, place, o, s))
}

// opened keeps an engine that could not be opened from being a ledger that is none.
func opened[L ledger.Ledger](l L, err error) (ledger.Ledger, error) {
	if err != nil {
		return nil, err
	}
	return l, nil
}

// Files are the files of this machine that belong to a ledger.
func Files(place, sealKey string) []string {
	if postgres.Is(place) {
		return postgres.Files(place, sealKey)
	}
	return sqlite.Files(place, sealKey)
}

// SealKey is where the ledger key of a ledger at a place is looked for.
func SealKey(place, said string) string {
	if postgres.Is(place) {
		return postgres.SealKeyFile(place, said)
	}
	return sqlite.SealKeyFile(place, said)
}

// Free refuses a place at which no ledger can be made. Errors: ledger.ErrThere.
func Free(ctx context.Context, place string) error {
	if err := known(place); err != nil {
		return err
	}
	if postgres.Is(place) {
		return postgres.Free(ctx, place)
	}
	return sqlite.Free(place)
}

// There reports whether there is something at a place already where a ledger would be made.
func There(ctx context.Context, place string) bool {
	if postgres.Is(place) {
		return postgres.There(ctx, place)
	}
	fi, err := os.Stat(place)
	return err == nil && fi.Mode().IsRegular()
}

// Absolute is a place that means the same in every folder.
func Absolute(place string) (string, error) {
	if postgres.Is(place) {
		return place, nil
	}
	return filepath.Abs(place)
}

// Remote reports whether a place is the address of a database rather than the path of a file.
func Remote(place string) bool { return postgres.Is(place) }

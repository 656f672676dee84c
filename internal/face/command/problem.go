package command

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/contract"
	"tressik.example/internal/face/format"
	"tressik.example/internal/model"
)

// problem is an error as programs read it, on standard error, where --format json was asked for.
type problem struct {
	What   string          `json:"what"`            // as people read it
	Value  string          `json:"value,omitempty"` // what was given
	Flags  []string        `json:"flags,omitempty"` // by which it was given, or would be
	Near   []string        `json:"near,omitempty"`  // what is known and looks alike
	Remedy *finding.Remedy `json:"remedy,omitempty"`
	Status int             `json:"exitStatus"`
}

// problemTold is an error in its place.
type problemTold struct {
	Error problem `json:"error"`
}

// wantsJSON reports whether a command line asks for JSON, one that cannot be parsed included.
func wantsJSON(args []string) bool {
	i := slices.Index(args, "--format")
	return slices.Contains(args, "--format=json") || i >= 0 && i+1 < len(args) && args[i+1] == "json"
}

// failed says what went wrong, to people or to a program, and returns the exit status.
func (a *App) failed(err error, status int) int {
	if !a.forProgram {
		fmt.Fprintln(a.Err, a.wrapped("tressik: "+a.asTyped(explain(err))))
		return status
	}
	p := problem{What: a.asTyped(explain(err)), Status: status}
	for _, f := range finding.FieldsOf(err) {
		p.Flags = append(p.Flags, flagOf(f.Field))
		if p.Value == "" {
			p.Value = f.Value
		}
	}
	var unknown *model.UnknownError
	var word *unknownWord
	switch {
	case errors.As(err, &unknown):
		p.Value, p.Near = unknown.Name, unknown.Near
	case errors.As(err, &word):
		p.Value, p.Near = word.value, word.near
		if strings.HasPrefix(word.value, "-") {
			p.Flags = append(p.Flags, word.value)
		}
	}
	var advised *finding.Advised
	if errors.As(err, &advised) {
		p.Remedy = &advised.Fix
	}
	b, err := contract.Masked(problemTold{p}, a.hides)
	if err != nil {
		fmt.Fprintf(a.Err, "tressik: %s\n", format.Safe(p.What))
		return status
	}
	_, _ = unmasked(a.Err).Write(b) // nobody reads it, where it cannot be written
	return status
}

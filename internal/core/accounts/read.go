// Package accounts holds the accounts inside an app, known from the app's own export, and finds which of them a person
// who signs in would be taken for.
package accounts

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/people"
)

// Account is a person's record inside an app.
type Account struct {
	Line   int                 `json:"line"` // of the export; for JSON its number, from 1
	Fields map[string][]string `json:"fields"`
}

// Label is what an account is called for people: its value of a field, else of the first that has one.
func (a *Account) Label(field string) string {
	if v := a.Fields[field]; len(v) > 0 {
		return v[0]
	}
	for _, f := range Sorted(a.Fields) {
		if v := a.Fields[f]; len(v) > 0 {
			return v[0]
		}
	}
	return fmt.Sprintf("line %d", a.Line)
}

// Sorted lists the names of fields.
func Sorted(fields map[string][]string) []string {
	return slices.Sorted(maps.Keys(fields))
}

// Errors that callers test for. A *people.ReadError says on which line.
var (
	ErrEmpty = errors.New("holds no account")
	ErrKind  = errors.New("neither CSV, JSON nor LDIF")
)

// Read takes an app's export of its accounts: CSV whose first row names the fields (parted by commas or semicolons),
// JSON (a list of objects, one object a line, or a list under Resources as RFC 7644, section 3.4.2, has it), or LDIF.
// Nested JSON becomes names with dots, such as emails.value. Fields that hold secrets, see people.HoldsSecret, are left
// out, and named. Errors: ErrEmpty, ErrKind, *people.ReadError.
func Read(b []byte) (list []Account, leftOut []string, err error) {
	if list, err = read(b); err != nil {
		return nil, nil, err
	}
	secrets := people.Withheld{}
	for i := range list {
		secrets.From(list[i].Fields)
	}
	return list, secrets.Names(), nil
}

func read(b []byte) ([]Account, error) {
	b, err := people.Text(b)
	if err != nil {
		return nil, err
	}
	text := bytes.TrimSpace(b)
	var list []Account
	switch low := bytes.ToLower(text[:min(len(text), 16)]); {
	case len(text) == 0:
		return nil, ErrEmpty
	case bytes.HasPrefix(low, []byte("-----begin ")):
		return nil, fmt.Errorf("%w: it is a certificate or a key in PEM", ErrKind)
	case text[0] == '[' || text[0] == '{':
		list, err = fromJSON(text)
	case bytes.HasPrefix(low, []byte("dn:")), bytes.HasPrefix(low, []byte("version:")),
		bytes.HasPrefix(low, []byte("#")):
		list, err = fromLDIF(b)
	default:
		list, err = fromCSV(b)
	}
	if err == nil && len(list) == 0 {
		err = ErrEmpty
	}
	return list, err
}

func fromCSV(b []byte) ([]Account, error) {
	r := csv.NewReader(bytes.NewReader(b))
	r.ReuseRecord, r.Comma = true, people.Comma(b)
	r.TrimLeadingSpace = r.Comma != '\t' // which would be taken for space
	head, err := r.Read()
	if err != nil {
		return nil, people.CSVError(err)
	}
	head = slices.Clone(head)
	seen := make(map[string]bool, len(head))
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
		twice := seen[head[i]]
		if seen[head[i]] = true; head[i] == "" || twice {
			return nil, &people.ReadError{Err: people.ErrSyntax, Line: 1,
				Detail: fmt.Sprintf("column %d: the name %q is empty or there twice; the first row names the "+
					"fields", i+1,
					head[i])}
		}
	}
	if len(head) == 1 && strings.Contains(head[0], "|") {
		return nil, fmt.Errorf("%w: its columns are parted by something else than a comma, a semicolon or a tab",
			ErrKind)
	}
	var out []Account
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, people.CSVError(err)
		}
		line, _ := r.FieldPos(0)
		a := Account{Line: line, Fields: make(map[string][]string, len(row))}
		for i, v := range row {
			if v = strings.TrimSpace(v); v != "" {
				a.Fields[head[i]] = []string{strings.Clone(v)}
			}
		}
		out = append(out, a)
	}
}

func fromLDIF(b []byte) ([]Account, error) {
	entries, err := people.Entries(b)
	if err != nil {
		return nil, err
	}
	var out []Account
	for _, e := range entries {
		e.Attributes["dn"] = []string{e.DN}
		out = append(out, Account{e.Line, e.Attributes})
	}
	return out, nil
}

func fromJSON(b []byte) ([]Account, error) {
	objects, err := people.Objects(b)
	if err != nil {
		return nil, err
	}
	var out []Account
	for i, fields := range objects {
		out = append(out, Account{i + 1, fields})
	}
	return out, nil
}

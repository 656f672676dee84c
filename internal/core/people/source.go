package people

import (
	"errors"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
)

// Source is where people come from: a file, or a directory server.
type Source struct {
	Name string `json:"name"`
	At   string `json:"at"` // path of a file, or ldaps: or ldap: address of a directory server

	Base     string `json:"base,omitempty"`   // DN under which people and groups are looked for
	Filter   string `json:"filter,omitempty"` // of people (RFC 4515)
	BindDN   string `json:"bindDN,omitempty"`
	Password string `json:"passwordFrom,omitempty"` // file:PATH or env:NAME; the password itself is never kept
	ID       string `json:"id,omitempty"`           // attribute that names people; "" is uid, else mail
	// Columns say which attribute a column of a file's table is, by its heading; as ReadAs takes them
	Columns map[string]string `json:"columns,omitempty"`
	Wanted  []string          `json:"attributes,omitempty"` // attributes that are read; none reads all
	CA      string            `json:"ca,omitempty"`         // PEM
	Pin     string            `json:"tlsPin,omitempty"`
	Page    int               `json:"page,omitempty"`    // entries asked for at a time
	Most    int               `json:"most,omitempty"`    // entries that are read at the most
	Timeout int               `json:"timeout,omitempty"` // seconds for each answer
	Cache   int               `json:"cache,omitempty"`   // seconds for which what was read is not read again

	Read   time.Time `json:"-"` // the last time; zero is never
	People int       `json:"-"` // how many it had then
}

// Directory reports whether the source is a directory server.
func (s *Source) Directory() bool {
	return strings.HasPrefix(s.At, "ldaps://") || strings.HasPrefix(s.At, "ldap://")
}

// ErrSource means that a source is not described well.
var ErrSource = errors.New("not usable as a source of people")

// Check refuses what cannot be a source. Errors: ErrSource.
func (s *Source) Check() error {
	bad := func(format string, args ...any) error {
		return finding.Errorf("%s is %w: "+format, append([]any{s.At, ErrSource}, args...)...)
	}
	switch {
	case !s.Directory() && strings.Contains(s.At, "://"):
		return bad("give a file, or the address of a directory server as ldaps://HOST or ldap://HOST, which then " +
			"starts TLS")
	case !s.Directory() && s.Base+s.BindDN+s.Filter+s.Password+s.ID+s.CA+s.Pin != "" ||
		!s.Directory() && (len(s.Wanted) > 0 || s.Page > 0 || s.Most > 0):
		return bad("a file has no base, filter, bind name, ID, attributes to ask for, bounds or TLS: it is read whole")
	case s.Directory() && len(s.Columns) > 0:
		return bad("a directory server has no columns; %s is of a table in a file", finding.FieldMap)
	case s.Directory() && s.Base == "":
		return bad("%s is missing: the DN under which people are, such as dc=kestrelridge,dc=example",
			finding.FieldBase)
	case s.Directory() && (s.BindDN == "") != (s.Password == ""):
		return bad("%s and its password go together: %s FILE or %s NAME", finding.FieldBindDN,
			finding.FieldPasswordFile, finding.FieldPasswordEnv)
	case s.Page < 0 || s.Page > 10000 || s.Most < 0 || s.Timeout < 0 || s.Cache < 0:
		return bad("a bound is negative, or %s over 10000", finding.FieldPage)
	}
	return nil
}

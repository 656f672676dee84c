package sources

import (
	"time"

	"tressik.example/internal/core/people"
)

// Result is what is told of a source of people.
type Result struct {
	Name string `json:"name"`
	At   string `json:"at"`

	Base     string `json:"base,omitempty"`
	Filter   string `json:"filter,omitempty"`
	BindDN   string `json:"bindDN,omitempty"`
	Password string `json:"passwordFrom,omitempty"`
	ID       string `json:"id,omitempty"`

	Columns map[string]string `json:"columns,omitempty"`

	Wanted  []string `json:"attributes,omitempty"`
	CA      string   `json:"ca,omitempty"`
	Pin     string   `json:"tlsPin,omitempty"`
	Page    int      `json:"page,omitempty"`
	Most    int      `json:"most,omitempty"`
	Timeout int      `json:"timeout,omitempty" unit:"seconds"`
	Cache   int      `json:"cache,omitempty" unit:"seconds"`

	Read   time.Time `json:"-"`
	People int       `json:"-"`
}

// ResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func ResultOf(s *people.Source) Result { return Result(*s) }

package expect

import (
	"time"

	"tressik.example/internal/core/federation"
)

// Result is what is told of an expectation.
type Result struct {
	ID       int64               `json:"id"`
	Trust    string              `json:"trust"`
	As       string              `json:"as,omitempty"`
	Refused  bool                `json:"refused"`
	By       string              `json:"by,omitempty"`
	Claims   map[string][]string `json:"claims,omitempty"`
	Without  []string            `json:"without,omitempty"`
	Account  string              `json:"account,omitempty"`
	Subject  string              `json:"subject,omitempty"`
	Answered []string            `json:"answered,omitempty"`
	Denied   []string            `json:"denied,omitempty"`
	AtMost   map[string]int      `json:"atMost,omitempty" unit:"seconds"`
	Note     string              `json:"note,omitempty"`
	Added    time.Time           `json:"added"`
	Held     time.Time           `json:"held,omitzero"`
	HeldSeq  int64               `json:"heldSeq,omitempty"`
}

// ResultOf tells of one; where the record changes, the compiler asks here what is told of that.
func ResultOf(e *federation.Expected) Result { return Result(*e) }

func (r *Result) expected() *federation.Expected {
	e := federation.Expected(*r)
	return &e
}

// Who is who it is about, in words.
func (r *Result) Who() string { return r.expected().Who() }

// Words says what is expected in a line.
func (r *Result) Words() string { return r.expected().Words() }

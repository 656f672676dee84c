package finding

import (
	"bytes"
	"encoding/json"
)

// Remedy is what makes a finding go away, as data: exactly one of Run and Do, and what goes with it. It is written for
// people at the edge of the program alone, so that a command in it always runs as printed.
type Remedy struct {
	Run  []string `json:"run,omitempty"`  // arguments of the program: a verb, or a noun and a verb, then the rest
	Do   string   `json:"do,omitempty"`   // a change at the other side, or on the way there, in words
	Next *Remedy  `json:"then,omitempty"` // what follows it
	Else *Remedy  `json:"or,omitempty"`   // what would do as well
}

// Run is the remedy of a command: its words and arguments as they are given to the program, without the program's name.
func Run(args ...string) Remedy { return Remedy{Run: args} }

// Do is the remedy of a change that no command can make, in words.
func Do(words string) Remedy { return Remedy{Do: words} }

// Then returns the remedy with another one that follows it.
func (r Remedy) Then(next Remedy) Remedy {
	if r.Next != nil {
		next = r.Next.Then(next)
	}
	r.Next = &next
	return r
}

// Or returns the remedy with another one that would do as well.
func (r Remedy) Or(other Remedy) Remedy {
	if r.Else != nil {
		other = r.Else.Or(other)
	}
	r.Else = &other
	return r
}

// IsZero reports whether nothing is said.
func (r Remedy) IsZero() bool { return r.Run == nil && r.Do == "" }

// Commands returns the arguments of every command in the remedy, in order.
func (r Remedy) Commands() [][]string {
	var out [][]string
	for _, x := range []*Remedy{&r, r.Next, r.Else} {
		switch {
		case x == nil:
		case x != &r:
			out = append(out, x.Commands()...)
		case x.Run != nil:
			out = append(out, x.Run)
		}
	}
	return out
}

// ToldRemedy is a remedy as programs are told it: with its blanks.
type ToldRemedy struct {
	Run    []string `json:"run,omitempty"`
	Do     string   `json:"do,omitempty"`
	Next   *Remedy  `json:"then,omitempty"`
	Else   *Remedy  `json:"or,omitempty"`
	Blanks []Blank  `json:"blanks,omitempty"`
}

// Told is the remedy with its blanks.
func (r Remedy) Told() ToldRemedy { return ToldRemedy{r.Run, r.Do, r.Next, r.Else, r.Blanks()} }

// MarshalJSON writes the remedy with its blanks.
func (r Remedy) MarshalJSON() ([]byte, error) { return json.Marshal(r.Told()) }

// UnmarshalJSON also reads the text that findings of older ledgers have in place of a remedy.
func (r *Remedy) UnmarshalJSON(b []byte) error {
	if bytes.HasPrefix(b, []byte(`"`)) {
		return json.Unmarshal(b, &r.Do)
	}
	type plain Remedy
	return json.Unmarshal(b, (*plain)(r))
}

// Advised is an error with what to do about it. A caller finds it with errors.As and writes the remedy behind the
// error.
type Advised struct {
	Err error
	Fix Remedy
}

func (e *Advised) Error() string { return e.Err.Error() }

// Unwrap returns the error without the remedy.
func (e *Advised) Unwrap() error { return e.Err }

// Advise joins an error and its remedy; nil stays nil.
func Advise(err error, fix Remedy) error {
	if err == nil {
		return nil
	}
	return &Advised{err, fix}
}

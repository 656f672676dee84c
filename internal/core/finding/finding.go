// Package finding holds the one type in which every check of Tressik reports.
package finding

// Level says how much a finding matters.
type Level string

// The levels, from harmless to decisive. An Error alone refuses a message or fails a rehearsal.
const (
	Pass    Level = "pass"
	Note    Level = "note"
	Warning Level = "warning"
	Error   Level = "error"
)

// Side names who must change something for a finding to go away.
type Side string

// The sides a finding can point at.
const (
	App      Side = "app"
	Provider Side = "provider"
	Both     Side = "both"
	Clock    Side = "clock"
	Ledger   Side = "ledger"
	Person   Side = "person"
	Sender   Side = "sender"
)

// Finding is the outcome of one check: what was seen, what was expected, and which side must change what.
type Finding struct {
	ID       ID     `json:"id"`                         // stable name of the check, such as "saml.audience"
	Level    Level  `json:"level"`                      // how much it matters
	Check    string `json:"check"`                      // what was looked at, in words
	Saw      string `json:"saw"`                        // the value found
	Expected string `json:"expected"`                   // the value that would have passed
	Side     Side   `json:"side" told:"side,omitempty"` // who must change something
	Fix      Remedy `json:"fix" told:"fix,omitzero"`    // what to do about it
	Ref      string `json:"ref,omitempty"`              // section of the standard behind the check
	Party    string `json:"party,omitempty"`            // the record the finding is about, where there are several
	// of several of its ID about one record, which: a claim, a permission
	Of string `json:"of,omitempty"`
}

// Key tells a finding about a record from the others about it, whatever its words are: by its ID, and by what of the
// record it is about where there can be several of that ID.
func (f *Finding) Key() string {
	if f.Of == "" {
		return string(f.ID)
	}
	return string(f.ID) + "/" + f.Of
}

// Is reports whether a kept word means the finding: its Key, or, as older ledgers have it, its ID and its words.
func (f *Finding) Is(kept string) bool { return kept == f.Key() || kept == string(f.ID)+"/"+f.Check }

// List is the findings of one judgement, in the order of the checks.
type List []Finding

// Add appends a finding.
func (l *List) Add(f Finding) { *l = append(*l, f) }

// Pass appends a passed check: what was looked at and the value seen.
func (l *List) Pass(id ID, check, saw string) {
	*l = append(*l, Finding{ID: id, Level: Pass, Check: check, Saw: saw, Expected: saw})
}

// Count returns how many findings have the level.
func (l List) Count(level Level) int {
	n := 0
	for _, f := range l {
		if f.Level == level {
			n++
		}
	}
	return n
}

// Failed reports whether any finding is an error.
func (l List) Failed() bool { return l.Count(Error) > 0 }

// Without returns the findings that do not have the level.
func (l List) Without(level Level) List {
	out := List{}
	for _, f := range l {
		if f.Level != level {
			out = append(out, f)
		}
	}
	return out
}

// IDs returns the identifiers of the findings of a level, in order.
func (l List) IDs(level Level) []string {
	var out []string
	for _, f := range l {
		if f.Level == level {
			out = append(out, string(f.ID))
		}
	}
	return out
}

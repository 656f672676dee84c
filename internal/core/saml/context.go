package saml

import (
	"fmt"
	"slices"
	"strings"

	"tressik.example/internal/core/judge"
)

// Comparisons of requested authentication contexts (SAML Core, section 3.3.2.2.1).
const (
	CompareExact   = "exact"
	CompareMinimum = "minimum"
	CompareMaximum = "maximum"
	CompareBetter  = "better"
)

// Requested is a RequestedAuthnContext (section 3.3.2.2.1): class references or declaration references, never both.
type Requested struct {
	Comparison string // "" is exact
	Classes    []string
	Decls      []string
}

// Acceptable returns the authentication contexts, weakest first, that satisfy both what a trust demands and what a
// request asks for; the request never takes anything off the trust's demand. No context and ok mean that any will do.
// ok is false where none can satisfy both, which a provider answers with NoAuthnContext.
func Acceptable(trust []string, asked *Requested) (contexts []string, ok bool) {
	able := ordered(trust)
	if len(trust) == 0 && asked.empty() {
		return nil, true
	}
	for i, c := range able {
		if (len(trust) == 0 || slices.Contains(trust, c)) && asked.allows(able, i) {
			contexts = append(contexts, c)
		}
	}
	return contexts, len(contexts) > 0
}

// ordered are the contexts that are known, the weakest first: those of the trust as it has them in order, with the two
// that are always there before or between them where it does not name them: its own are stronger than both.
func ordered(trust []string) []string {
	able := slices.Clone(trust)
	password := slices.Index(able, judge.ContextPassword)
	if !slices.Contains(able, judge.ContextMFA) {
		able = slices.Insert(able, password+1, judge.ContextMFA)
	}
	if password < 0 {
		able = slices.Insert(able, 0, judge.ContextPassword)
	}
	return able
}

func (q *Requested) empty() bool { return q == nil || len(q.Classes)+len(q.Decls) == 0 }

// allows reports whether a request is content with the context at a place of those that are there, weakest first.
// Declarations are not known, so that none satisfies them; of an unknown class no strength is known.
func (q *Requested) allows(able []string, i int) bool {
	if q.empty() {
		return true
	}
	if q.Comparison == "" || q.Comparison == CompareExact {
		return slices.Contains(q.Classes, able[i])
	}
	known := 0
	for _, c := range q.Classes {
		k := slices.Index(able, c)
		if k < 0 {
			continue
		}
		known++
		switch q.Comparison {
		case CompareMinimum: // as strong as one of them
			if i >= k {
				return true
			}
		case CompareMaximum: // no stronger than one of them
			if i <= k {
				return true
			}
		case CompareBetter: // stronger than all of them
			if i <= k {
				return false
			}
		}
	}
	return q.Comparison == CompareBetter && known == len(q.Classes) && known > 0
}

// Words writes what is asked for.
func (q *Requested) Words() string {
	if q.empty() {
		return ""
	}
	var names []string
	for _, c := range q.Classes {
		names = append(names, ShortName(c))
	}
	for _, d := range q.Decls {
		names = append(names, "declaration "+d)
	}
	w := strings.Join(names, ", ")
	if q.Comparison != "" && q.Comparison != CompareExact {
		w = q.Comparison + " " + w
	}
	return w
}

// check refuses what the schema does not have.
func (q *Requested) check() error {
	switch {
	case q == nil:
		return nil
	case !slices.Contains([]string{"", CompareExact, CompareMinimum, CompareMaximum, CompareBetter}, q.Comparison):
		return fmt.Errorf("Comparison %q; it must be exact, minimum, maximum or better", q.Comparison)
	case len(q.Classes) > 0 && len(q.Decls) > 0:
		return fmt.Errorf("class references and declaration references stand together")
	case len(q.Classes)+len(q.Decls) == 0:
		return fmt.Errorf("it names no context")
	}
	return nil
}

package finding

import (
	"slices"
	"strings"
)

// ID is the stable name of a check: a family and a member, as in "saml.audience". The same ID means the same in every
// command, whatever the words beside it are; nothing is steered by the words. Each ID is a constant of this package and
// stands in Catalogue; of a family whose members others name (the error codes of OAuth), any member may be told.
type ID string

// Families of IDs: what others name, or what is asked for together.
const (
	AccountFamily  ID = "account"
	CallFamily     ID = "call"
	ClaimsFamily   ID = "claims"
	DPoPFamily     ID = "dpop"
	DueFamily      ID = "due"
	OAuthFamily    ID = "oauth" // members are the error codes of OAuth, of whoever answered with one
	PolicyFamily   ID = "policy"
	RedirectFamily ID = "redirect"
	SignoutFamily  ID = "signout"
	TokenFamily    ID = "token"
	WatchFamily    ID = "watch"
)

// With returns the member of a family. Only for members that are not known beforehand: a reason, an error code.
func (id ID) With(member string) ID { return id + "." + ID(member) }

// Of reports whether the ID is a member of the family.
func (id ID) Of(family ID) bool { return strings.HasPrefix(string(id), string(family)+".") }

// Entry says what a finding of an ID means.
type Entry struct {
	ID    ID     `json:"id"`
	Level Level  `json:"level"`         // the gravest at which it is told
	Ref   string `json:"ref,omitempty"` // section of the standard
	Means string `json:"means"`         // what is so where the check passes, in one sentence
}

// Catalogue lists what every finding means, in the order of the IDs.
func Catalogue() []Entry {
	out := slices.Concat(samlEntries(), openidEntries(), ledgerEntries())
	slices.SortFunc(out, func(a, b Entry) int { return strings.Compare(string(a.ID), string(b.ID)) })
	return out
}

// Rule reports whether a text is the ID of a finding, or the beginning of one up to a dot.
func Rule(s string) bool {
	id := ID(s)
	if _, known := Lookup(id); known {
		return true
	}
	return slices.ContainsFunc(Catalogue(), func(e Entry) bool { return e.ID.Of(id) })
}

// Lookup returns what an ID means. An error code of OAuth that no standard has means what the other side means by it.
func Lookup(id ID) (Entry, bool) {
	list := Catalogue()
	i, ok := slices.BinarySearchFunc(list, id,
		func(e Entry, id ID) int { return strings.Compare(string(e.ID), string(id)) })
	if ok {
		return list[i], true
	}
	if id.Of(OAuthFamily) {
		return Entry{ID: id, Level: Error, Ref: "RFC 6749 4.1.2.1 and 5.2", Means: "The other side answered with an " +
			"error code of its own, which it alone can explain."}, true
	}
	return Entry{}, false
}

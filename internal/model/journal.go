package model

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"iter"
	"sort"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
)

// Entry is one line of the journal.
type Entry struct {
	Seq    int64           `json:"seq"`
	At     time.Time       `json:"at"`
	Actor  string          `json:"actor"`
	Action string          `json:"action"` // such as provider.add
	Party  string          `json:"party,omitempty"`
	Trust  string          `json:"trust,omitempty"`
	Before json.RawMessage `json:"before,omitempty"` // the fields that changed, as they were
	After  json.RawMessage `json:"after,omitempty"`  // the fields that changed, as they are
	Prev   string          `json:"prev"`             // SHA-256 of the entry before, hex
	Hash   string          `json:"hash"`
	// Records are the records that the change put and took away, as Recorded; entries of older versions have none
	Records json.RawMessage `json:"-"`
	// Written is when it was written, as it stands in the ledger
	Written string `json:"-"`
}

// Digest hashes all of an entry but its own hash. An entry without records is hashed as in versions that kept none.
func (e *Entry) Digest() string {
	text, _ := json.Marshal(string(e.Records)) // a string
	return e.digest(text)
}

// digest hashes an entry; text are its records as a string of JSON.
func (e *Entry) digest(text json.RawMessage) string {
	b, _ := json.Marshal([]any{e.Seq, e.Written, e.Actor, e.Action, e.Party, e.Trust, string(e.Before), string(e.After),
		e.Prev}) // strings and a number
	h := sha256.New()
	h.Write(b[:len(b)-1])
	if len(e.Records) > 0 {
		h.Write([]byte{','})
		h.Write(text)
	}
	h.Write([]byte{']'})
	return hex.EncodeToString(h.Sum(nil))
}

// Append makes the entries of changes, in the chain behind the entry of a number and a hash. The first has no one
// before it: 0 and "". key is the ledger's SettingPeople.
func (c *Changes) Append(seq int64, prev, peopleKey string) ([]Entry, error) {
	var out []Entry
	for i := range c.Entries {
		e := c.Entries[i].entry()
		seq++
		e.Seq, e.Prev, e.Written = seq, prev, e.At.UTC().Format(time.RFC3339Nano)
		if len(c.recorded) == len(c.Entries) {
			e.Records = c.recorded[i].records
			e.Hash = e.digest(c.recorded[i].text)
		} else if r, err := Recording(c.Of(i), peopleKey); err == nil {
			e.Records = r
			e.Hash = e.Digest()
		} else {
			return nil, err
		}
		prev = e.Hash
		out = append(out, e)
	}
	return out, nil
}

// Filter picks journal entries; empty fields pick all.
type Filter struct {
	Party, Trust, Actor string
	Since, Until        time.Time
	After               int64 // entries behind that number
	Last                int   // at most so many, the newest; 0 for all
	Whole               bool  // with the records of each, by which alone its hash can be checked
}

// Picks reports whether an entry is among those that are wanted; Last is not looked at.
func (f *Filter) Picks(e *Entry) bool {
	return (f.Party == "" || f.Party == e.Party) && (f.Trust == "" || f.Trust == e.Trust) &&
		(f.Actor == "" || f.Actor == e.Actor) && (f.Since.IsZero() || !e.At.Before(f.Since)) &&
		(f.Until.IsZero() || e.At.Before(f.Until)) && e.Seq > f.After
}

// give hands on what was picked, oldest first: of all the last ones, where only those are asked for.
func (f *Filter) give(all []Entry, yield func(Entry, error) bool) {
	if f.Last > 0 && len(all) > f.Last {
		all = all[len(all)-f.Last:]
	}
	for _, e := range all {
		if !yield(e, nil) {
			return
		}
	}
}

// Journal lists entries, oldest first.
func (v View) Journal(f Filter) ([]Entry, error) {
	var out []Entry
	for e, err := range v.Entries(f) {
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// LastSeq is the number of the newest entry of the journal.
func (v View) LastSeq() (int64, error) { return lastSeq(v.Reader) }

// Numbered is a Reader that knows the number of its newest entry without reading the entry, which may be of very many
// records; 0 is none.
type Numbered interface {
	Reader
	NewestSeq() (int64, error)
}

func lastSeq(r Reader) (n int64, err error) {
	if x, ok := r.(Numbered); ok {
		return x.NewestSeq()
	}
	for e, err := range r.Entries(Filter{Last: 1}) {
		if err != nil {
			return 0, err
		}
		n = e.Seq
	}
	return n, nil
}

// JournalAfter lists the entries behind one that concern a trust or one of its parties, oldest first; those that only
// keep what was seen are left out.
func (v View) JournalAfter(seq int64, t *federation.Trust) ([]Entry, error) {
	var out []Entry
	for e, err := range v.Entries(Filter{After: seq}) {
		if err != nil {
			return nil, err
		}
		switch e.Action {
		case "trust.rehearse", "trust.probe", "trust.watch", "expect.add", "expect.remove":
			continue
		}
		if e.Trust == t.Name || e.Party != "" && (e.Party == t.App || e.Party == t.Provider) ||
			strings.HasPrefix(e.Action, "people.") {
			out = append(out, e)
		}
	}
	return out, nil
}

// Break is a place where the journal is not what was written.
type Break struct {
	Seq    int64  `json:"seq"`
	Reason string `json:"reason"`
}

// VerifyJournal walks the chain and returns the number of entries and every break in it.
func (v View) VerifyJournal() (int, []Break, error) {
	head, err := v.Value(SettingHead)
	if err != nil {
		return 0, nil, err
	}
	return verify(v.Entries(Filter{Whole: true}), head)
}

func verify(entries iter.Seq2[Entry, error], head string) (n int, breaks []Break, err error) {
	var seq int64
	prev := ""
	for e, err := range entries {
		if err != nil {
			return n, breaks, err
		}
		n++
		if e.Seq != seq+1 {
			breaks = append(breaks, Break{e.Seq, fmt.Sprintf("entries %d to %d are missing", seq+1, e.Seq-1)})
		} else if e.Prev != prev {
			breaks = append(breaks, Break{e.Seq, "it does not follow from the entry before it"})
		}
		if e.Hash != e.Digest() {
			breaks = append(breaks, Break{e.Seq, "its content is not what was written"})
		}
		seq, prev = e.Seq, e.Hash
	}
	if head != "" && head != Head(seq, prev) {
		was, _, _ := strings.Cut(head, " ")
		breaks = append(breaks, Break{seq, "the journal ended with entry " + was + " when it was last written"})
	}
	return n, breaks, nil
}

// Head is how the end of the journal is kept in SettingHead.
func Head(seq int64, hash string) string { return fmt.Sprintf("%d %s", seq, hash) }

// Fields names what an entry changed, for people.
func (e *Entry) Fields() string {
	after, before := map[string]json.RawMessage{}, map[string]json.RawMessage{}
	_ = json.Unmarshal(e.After, &after) // empty where there is none
	_ = json.Unmarshal(e.Before, &before)
	text := func(k string) (s string) {
		_ = json.Unmarshal(after[k], &s) // "" where it is no text
		return s
	}
	switch {
	case e.Action == "ledger.grant":
		return text("role") + " may " + text("may")
	case e.Action == "ledger.revoke":
		return text("role") + " may nothing"
	case strings.HasPrefix(e.Action, "consent."):
		who := text("for")
		if who == "" {
			who = "everyone"
		}
		return strings.TrimPrefix(text("api")+":"+text("permission"), ":") + " for " + who
	case strings.HasPrefix(e.Action, "secret."):
		return text("id") + ", ends in " + text("endsIn") + text("hint")
	case len(before) == 0 && len(after) > 4:
		return "new"
	case len(after) == 0 && len(before) > 4:
		return "gone"
	}
	var names []string
	for k := range after {
		if k != "changed" && k != "reshaped" {
			names = append(names, k)
		}
	}
	for k := range before {
		if _, ok := after[k]; !ok {
			names = append(names, k)
		}
	}
	sort.Strings(names)
	return strings.Join(names, ", ")
}

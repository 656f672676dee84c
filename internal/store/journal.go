package store

import (
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
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
}

// digest hashes all of an entry but its own hash.
func digest(seq int64, at, actor, action, party, trust, before, after, prev string) string {
	b, _ := json.Marshal([]any{seq, at, actor, action, party, trust, before, after, prev})
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// note appends an entry. before and after are whole records; what is equal in both is left out.
func (tx *Tx) note(action, party, trust string, before, after any) error {
	b, a, err := changes(before, after)
	if err != nil {
		return err
	}
	var seq int64
	var prev string
	err = tx.tx.QueryRow("SELECT seq, hash FROM journal ORDER BY seq DESC LIMIT 1").Scan(&seq, &prev)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	seq++
	at := tx.l.Now().UTC().Format(time.RFC3339Nano)
	hash := digest(seq, at, tx.l.Actor, action, party, trust, b, a, prev)
	if _, err = tx.tx.Exec("INSERT INTO journal VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		seq, at, tx.l.Actor, action, party, trust, b, a, prev, hash); err != nil {
		return err
	}
	_, err = tx.tx.Exec("INSERT INTO ledger VALUES ('head', ?) ON CONFLICT (key) DO UPDATE SET value = excluded.value",
		fmt.Sprintf("%d %s", seq, hash))
	return err
}

func changes(before, after any) (string, string, error) {
	b, err := fields(before)
	if err != nil {
		return "", "", err
	}
	a, err := fields(after)
	if err != nil {
		return "", "", err
	}
	differ(b, a)
	text := func(m map[string]any) string {
		if len(m) == 0 {
			return ""
		}
		t, _ := json.Marshal(m)
		return string(t)
	}
	return text(b), text(a), nil
}

// differ leaves in both maps what differs. Of the parts of a trust or party over OpenID Connect each is told by itself,
// under a name such as oidc.policy.session.
func differ(b, a map[string]any) {
	for k, v := range b {
		w, ok := a[k]
		if !ok {
			continue
		}
		old, isMap := v.(map[string]any)
		now, alsoMap := w.(map[string]any)
		switch {
		case reflect.DeepEqual(v, w):
		case isMap && alsoMap && k == "terms": // of the protocol of the trust, which never changes
			differ(old, now)
			maps.Copy(b, old)
			maps.Copy(a, now)
		case isMap && alsoMap && (slices.Contains(federation.Protocols(), k) || strings.HasSuffix(k, "policy") || k ==
			"client" ||
			k == "api"):
			differ(old, now)
			for sub, x := range old {
				b[k+"."+sub] = x
			}
			for sub, x := range now {
				a[k+"."+sub] = x
			}
		default:
			continue
		}
		delete(b, k)
		delete(a, k)
	}
}

func fields(v any) (map[string]any, error) {
	if v == nil || reflect.ValueOf(v).Kind() == reflect.Pointer && reflect.ValueOf(v).IsNil() {
		return nil, nil
	}
	b, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	m := map[string]any{}
	return m, json.Unmarshal(b, &m)
}

// Filter picks journal entries; empty fields pick all.
type Filter struct {
	Party, Trust, Actor string
	Since, Until        time.Time
	Last                int // at most so many, the newest; 0 for all
}

// everyEntry selects what an Entry has.
const everyEntry = "SELECT seq, at, actor, action, party, trust, before, after, prev, hash FROM journal"

// Journal lists entries, oldest first.
func (l *Ledger) Journal(f Filter) ([]Entry, error) {
	q := everyEntry + " WHERE 1"
	var args []any
	for _, c := range []struct{ col, v string }{{"party", f.Party}, {"trust", f.Trust}, {"actor", f.Actor}} {
		if c.v != "" {
			q += " AND " + c.col + " = ?"
			args = append(args, c.v)
		}
	}
	all, err := entries(l, q+" ORDER BY seq", args...)
	if err != nil {
		return nil, err
	}
	var out []Entry
	for _, e := range all {
		if !f.Since.IsZero() && e.At.Before(f.Since) || !f.Until.IsZero() && !e.At.Before(f.Until) {
			continue
		}
		out = append(out, e)
	}
	if f.Last > 0 && len(out) > f.Last {
		out = out[len(out)-f.Last:]
	}
	return out, nil
}

// entries reads the entries that a query selects.
func entries(l *Ledger, query string, args ...any) ([]Entry, error) {
	rows, err := l.db.Query(query, args...)
	if err != nil {
		return nil, translated(err)
	}
	defer rows.Close()
	var out []Entry
	for rows.Next() {
		e, _, err := scanEntry(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, translated(rows.Err())
}

func scanEntry(rows *sql.Rows) (Entry, string, error) {
	var e Entry
	var at, before, after string
	if err := rows.Scan(&e.Seq, &at, &e.Actor, &e.Action, &e.Party, &e.Trust, &before, &after, &e.Prev,
		&e.Hash); err != nil {
		return e, "", translated(err)
	}
	e.At, _ = time.Parse(time.RFC3339Nano, at)
	if before != "" {
		e.Before = json.RawMessage(before)
	}
	if after != "" {
		e.After = json.RawMessage(after)
	}
	return e, digest(e.Seq, at, e.Actor, e.Action, e.Party, e.Trust, before, after, e.Prev), nil
}

// Break is a place where the journal is not what was written.
type Break struct {
	Seq    int64  `json:"seq"`
	Reason string `json:"reason"`
}

// VerifyJournal walks the chain and returns the number of entries and every break in it.
func (l *Ledger) VerifyJournal() (int, []Break, error) {
	rows, err := l.db.Query("SELECT seq, at, actor, action, party, trust, before, after, prev, hash FROM journal " +
		"ORDER BY seq")
	if err != nil {
		return 0, nil, translated(err)
	}
	defer rows.Close()
	var breaks []Break
	var n int
	var seq int64
	prev := ""
	for rows.Next() {
		e, want, err := scanEntry(rows)
		if err != nil {
			return n, breaks, err
		}
		n++
		if e.Seq != seq+1 {
			breaks = append(breaks, Break{e.Seq, fmt.Sprintf("entries %d to %d are missing", seq+1, e.Seq-1)})
		} else if e.Prev != prev {
			breaks = append(breaks, Break{e.Seq, "it does not follow from the entry before it"})
		}
		if e.Hash != want {
			breaks = append(breaks, Break{e.Seq, "its content is not what was written"})
		}
		seq, prev = e.Seq, e.Hash
	}
	head, err := l.value("head")
	if err == nil && head != fmt.Sprintf("%d %s", seq, prev) {
		was, _, _ := strings.Cut(head, " ")
		breaks = append(breaks, Break{seq, "the journal ended with entry " + was + " when it was last written"})
	}
	return n, breaks, translated(rows.Err())
}

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

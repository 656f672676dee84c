package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"
)

// Accept keeps that a finding about a trust or a party is let be.
func Accept(tx *Tx, finding, about string, record any) error {
	doc, err := json.Marshal(record)
	if err != nil {
		return err
	}
	if _, err := tx.tx.Exec("INSERT OR REPLACE INTO accepted (finding, about, doc) VALUES (?, ?, ?)", finding, about,
		string(doc)); err != nil {
		return err
	}
	return tx.note("check.accept", "", about, nil, record)
}

// Reopen takes back that a finding is let be. Errors: ErrNotFound.
func Reopen(tx *Tx, finding, about string) error {
	res, err := tx.tx.Exec("DELETE FROM accepted WHERE finding = ? AND about = ?", finding, about)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return fmt.Errorf("%s of %s: %w", finding, about, ErrNotFound)
	}
	return tx.note("check.reopen", "", about, map[string]string{"finding": finding}, nil)
}

// Acceptances lists what is let be.
func Acceptances[T any](l *Ledger) ([]T, error) {
	return loadAll(l, func(*T, int64) {}, "SELECT doc, 0 FROM accepted WHERE finding NOT LIKE 'step:%' ORDER BY "+
		"about, finding")
}

// Settled is a step of the work on a trust that somebody settled by hand.
type Settled struct {
	Step   string    `json:"step"`
	Waived bool      `json:"waived"` // it need not be done; else it was done elsewhere
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// stepKey is what a step is kept under.
func stepKey(step string) string {
	sum := sha256.Sum256([]byte(step))
	return "step:" + hex.EncodeToString(sum[:8])
}

// Settle keeps that a step of a trust was settled by hand.
func Settle(tx *Tx, trust string, s *Settled) error {
	s.By, s.At = tx.l.Actor, tx.l.Now().UTC()
	doc, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if _, err := tx.tx.Exec("INSERT OR REPLACE INTO accepted (finding, about, doc) VALUES (?, ?, ?)", stepKey(s.Step),
		trust,
		string(doc)); err != nil {
		return err
	}
	return tx.note("trust.settle-step", "", trust, nil, s)
}

// SettledSteps lists the steps of a trust that were settled by hand, by their words.
func SettledSteps(l *Ledger, trust string) (map[string]Settled, error) {
	list, err := loadAll(l, func(*Settled, int64) {},
		"SELECT doc, 0 FROM accepted WHERE finding LIKE 'step:%' AND about = ?", trust)
	out := map[string]Settled{}
	for _, s := range list {
		out[s.Step] = s
	}
	return out, err
}

// LetBe reports which findings about a trust or a party are accepted at a time: by the finding's ID, what was looked
// at.
func LetBe(l *Ledger, about string, now time.Time) (map[string][]string, error) {
	type accepted struct {
		Finding string
		Checks  []string
		Until   time.Time
	}
	list, err := loadAll(l, func(*accepted, int64) {},
		"SELECT doc, 0 FROM accepted WHERE finding NOT LIKE 'step:%' AND about = ?", about)
	out := map[string][]string{}
	for _, a := range list {
		if a.Until.After(now) {
			out[a.Finding] = append(out[a.Finding], a.Checks...)
		}
	}
	return out, err
}

package check

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/model"
)

// Errors that callers test for.
var (
	ErrNoFinding = errors.New("there is no such finding now")
	ErrReason    = errors.New("is missing: say why it is accepted")
	ErrUntil     = errors.New("is no day on which to look again")
)

// longestAcceptance is how long a finding may be let be.
const longestAcceptance = 400 * 24 * time.Hour

// Accept lets the findings of an ID about a trust or a party be until a time. Errors: ErrNoFinding, ErrReason,
// ErrUntil.
func (c *Checker) Accept(r *Report, about, id, reason, by string, until time.Time) (*Accepted, error) {
	if strings.TrimSpace(reason) == "" {
		return nil, finding.Errorf("%s %w", finding.FieldReason, ErrReason)
	}
	now := c.Now().UTC()
	switch {
	case !until.After(now):
		return nil, fmt.Errorf("%s %w: it is past", until.UTC().Format("2006-01-02"), ErrUntil)
	case until.After(now.Add(longestAcceptance)):
		return nil, fmt.Errorf("%s %w: it is more than 400 days away", until.UTC().Format("2006-01-02"), ErrUntil)
	}
	a := &model.Let{Finding: id, About: about, Reason: reason, By: by, At: now, Until: until.UTC()}
	var there []string
	for _, x := range r.Items {
		if x.About != about {
			continue
		}
		there = append(there, string(x.ID))
		if string(x.ID) == id && !slices.Contains(a.Checks, x.Check) {
			a.Checks = append(a.Checks, x.Check)
		}
		if string(x.ID) == id && !slices.Contains(a.Keys, x.Key()) {
			a.Keys = append(a.Keys, x.Key())
		}
	}
	if len(a.Checks) == 0 {
		return nil, fmt.Errorf("%w: %s of %s; of it there are %s", ErrNoFinding, id, about, strings.Join(unique(there),
			", "))
	}
	told := Accepted(*a)
	return &told, c.Change(func(tx *model.Edit) error { return tx.Let(a) })
}

// Reopen takes an acceptance back. Errors: model.ErrNotFound.
func (c *Checker) Reopen(about, id string) error {
	return c.Change(func(tx *model.Edit) error { return tx.Reopen(id, about) })
}

// accepted marks the items that somebody accepted and whose time is not over.
func (c *Checker) accepted(r *Report) error {
	list, err := c.Acceptances()
	if err != nil {
		return err
	}
	by := map[string]*model.Let{}
	for i := range list {
		if list[i].Until.After(c.Now()) {
			by[list[i].About+"\x00"+list[i].Finding] = &list[i]
		}
	}
	for i := range r.Items {
		x := &r.Items[i]
		if a := by[x.About+"\x00"+string(x.ID)]; a != nil && a.Covers(&x.Finding) {
			told := Accepted(*a)
			x.Accepted = &told
			r.Accepted++
		}
	}
	return nil
}

func unique(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

package model

import (
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
)

// Cost is evidence that a change takes back: a fact of a trust that nothing shows any more afterwards.
type Cost struct {
	Trust    string               `json:"trust"`
	Standing federation.Standing  `json:"standing"`
	Fact     finding.FactID       `json:"fact"`
	Rests    federation.ProofKind `json:"restsOn"` // before the change
}

// Costs lists the evidence that changes take back, by trust and fact: of trusts that stay, and do not end. What changes
// of a fact is looked at, and not what a run saw otherwise.
func (c *Changes) Costs() []Cost {
	var out []Cost
	for _, x := range c.Records {
		before, was := x.Before.(*Trust)
		after, is := x.After.(*Trust)
		if !was || !is || before == nil || after == nil || after.Trust.Standing == federation.Ended {
			continue
		}
		t := &before.Trust
		for name, f := range t.Facts {
			now, still := after.Trust.Facts[name]
			if f.Rests.Stronger(federation.Asserted) && (!still || now.Value != f.Value) {
				out = append(out, Cost{Trust: t.Name, Standing: t.Standing, Fact: name, Rests: f.Rests})
			}
		}
	}
	slices.SortFunc(out, func(a, b Cost) int {
		return strings.Compare(a.Trust+"\x00"+string(a.Fact), b.Trust+"\x00"+string(b.Fact))
	})
	return out
}

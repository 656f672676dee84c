package layout

import (
	"time"

	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
)

// Renewal is what came of renewing one secret.
type Renewal struct {
	desk.Renewal
	To      string `json:"deliveredTo,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// Renewed lists what came of renewing secrets.
func Renewed(list []Renewal, now time.Time) format.Page {
	b := format.Block{Head: []string{"Trust", "Stage", "Secret", "Old one retired", "Next"}, Noun: "renewal",
		Empty: "No secret expires soon; no renewal is pending."}
	for _, r := range list {
		next := ""
		switch {
		case r.Problem != "":
			next = r.Problem
		case r.Until != nil:
			next = "the old one goes when the new one is used, or " + format.When(*r.Until, now)
		}
		b.Rows = append(b.Rows, []string{r.Trust, r.Stage, r.Secret, r.Retired, next})
	}
	return format.Page{Data: list, Blocks: []format.Block{b}}
}

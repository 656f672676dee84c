package report

import (
	"fmt"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/handoff"
	"tressik.example/internal/view"
)

// Next lists the steps of a trust, what is done and what is open with its command.
func Next(p *view.Printer, t *federation.Trust, todos []handoff.Todo) view.Block {
	b := view.Block{Title: fmt.Sprintf("%s, %s", t.Name, t.Standing)}
	open := 0
	for _, x := range todos {
		if x.Done {
			b.Lines = append(b.Lines, "  done  "+x.Step)
			continue
		}
		open++
		b.Lines = append(b.Lines, "  open  "+x.Step, "          "+todoWords(x.Fix))
	}
	if open == 0 {
		b.Lines = append(b.Lines, "", "  Nothing is left: both sides agree and a sign-in was rehearsed.")
	}
	return b
}

// todoWords writes a command by itself, so that it can be copied, and other remedies in words.
func todoWords(r finding.Remedy) string {
	if r.Run != nil && r.Next == nil && r.Else == nil {
		return view.Command(r.Run)
	}
	return view.Remedy(r)
}

package layout

import (
	"fmt"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/handoff"
)

// Next lists the steps of a trust, what is done and what is open with its command.
func Next(t *federation.Trust, todos []handoff.Todo, now time.Time) format.Block {
	return next(t, todos, now, true)
}

// NextOpen lists the steps of a trust that are open, each with its command.
func NextOpen(t *federation.Trust, todos []handoff.Todo, now time.Time) format.Block {
	return next(t, todos, now, false)
}

func next(t *federation.Trust, todos []handoff.Todo, now time.Time, done bool) format.Block {
	b := format.Block{Title: fmt.Sprintf("%s, %s, %s", t.Name, t.Standing, ProofShort(t, now))}
	open := 0
	for i, x := range todos {
		switch {
		case x.Done && !done:
		case x.Said != "":
			b.Lines = append(b.Lines, "  done  "+x.Step, "          "+x.Said)
		case x.Done:
			b.Lines = append(b.Lines, "  done  "+x.Step)
		default:
			open++
			b.Lines = append(b.Lines, fmt.Sprintf("  open  %s (step %d)", x.Step, i+1), "          "+todoWords(x.Fix))
		}
	}
	if open == 0 && t.Standing != federation.Ended {
		b.Lines = append(b.Lines, "",
			format.Indented("  ", "Nothing is open that Tressik can see. It rests on "+ProofWords(t, now)+"."))
	}
	return b
}

// todoWords writes a command by itself, so that it can be copied, and other remedies in words.
func todoWords(r finding.Remedy) string {
	if r.Run != nil && r.Next == nil && r.Else == nil {
		return format.Command(r.Run)
	}
	return format.Remedy(r)
}

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
	b := format.Block{Title: Headline(t, now)}
	open := 0
	for _, x := range todos {
		switch {
		case x.Done && !done:
		case x.Said != "":
			b.Lines = append(b.Lines, "  done  "+x.Step, "          "+x.Said)
		case x.Done:
			b.Lines = append(b.Lines, "  done  "+x.Step)
		default:
			open++
			b.Lines = append(b.Lines, fmt.Sprintf("  open  %s (step %s)", x.Step, x.ID), "          "+todoWords(x.Fix))
		}
	}
	if open == 0 && t.Standing != federation.Ended {
		b.Lines = append(b.Lines, "",
			format.Indented("  ", "Nothing is left to do, as far as Tressik can see. It rests on "+ProofWords(t,
				now)+"."))
	}
	return b
}

// Headline is a trust in a line: its standing, on what evidence, and how old that is.
func Headline(t *federation.Trust, now time.Time) string {
	p := t.Proof()
	kind := map[federation.ProofKind]string{federation.Asserted: "asserted only", federation.Told: "told by a person",
		federation.ByRehearsal: "rehearsal", federation.ProbedProof: "probe",
		federation.WitnessProof: "a real sign-in"}[p.Kind]
	if !p.Whole() {
		kind += " (in part)"
	}
	age := format.Away(p.At, now)
	if age == "now" {
		age = "just now"
	}
	return fmt.Sprintf("%s: %s · evidence: %s, %s", t.Name, t.Standing, kind, age)
}

// Answer says whether a trust can work, as far as that was seen.
func Answer(t *federation.Trust, compared finding.List) string {
	p := t.Proof()
	switch {
	case t.Standing == federation.Ended:
		return "it has ended"
	case t.Standing == federation.Paused:
		return "it is switched off for a while"
	case compared.Failed():
		return "not as it is: " + format.Count(compared.Count(finding.Error), "error") + " between the two sides"
	case t.Failed != nil:
		return "the last attempt failed"
	case !p.Whole():
		return "not known: it has changed since it was shown"
	case p.Kind == federation.WitnessProof:
		return "a real sign-in was seen to succeed"
	case p.Kind == federation.Told:
		return "a person says that they got in"
	case p.Kind == federation.ProbedProof:
		return "not known: the real parties answered, and nobody has signed in"
	case p.Kind == federation.ByRehearsal && len(p.StandIns) > 0:
		return "with stand-ins; what the real ones do is not known"
	case p.Kind == federation.ByRehearsal:
		return "a rehearsal between own parties succeeded"
	}
	return "not known: it was not tried yet"
}

// todoWords writes a command by itself, so that it can be copied, and other remedies in words.
func todoWords(r finding.Remedy) string {
	if r.Run != nil && r.Next == nil && r.Else == nil {
		return format.Command(r.Run)
	}
	return format.Remedy(r)
}

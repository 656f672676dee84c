package layout

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/format"
	"tressik.example/internal/stage/server"
)

// Live shows rehearsals while they run: one line for each step with how many checks passed, and in full whatever did
// not. With Every all checks are shown.
type Live struct {
	P     *format.Printer
	W     io.Writer
	Every bool

	line    string   // the step that is under way
	said    []string // what was judged in it
	counts  []counted
	open    []string // findings that did not pass, written out
	Refusal bool     // somebody is to be refused
}

// Start begins a rehearsal.
func (l *Live) Start(trust, who string) {
	l.flush()
	fmt.Fprintf(l.W, "\n%s\n", l.P.Bold("Rehearsal of "+trust+" as "+who))
}

// Event shows a step, or what was judged in it.
func (l *Live) Event(e server.Event) {
	switch {
	case l.Every:
		l.whole(e)
	case e.Step != nil:
		l.flush()
		l.step(e.Step)
	default:
		l.judged(e)
	}
	if e.What == "request" && e.Findings.Failed() {
		l.open = append(l.open, l.P.Dim("      a provider would stop here; the rehearsal goes on to show what else "+
			"is wrong")+
			"\n")
		if l.Every {
			l.flush()
		}
	}
}

// step takes a step on one line.
func (l *Live) step(s *server.Step) {
	l.line = fmt.Sprintf("%4d  %-4s %s", s.N, s.Method, l.P.Clean(s.URL))
	switch {
	case s.Status >= 400:
		l.said = append(l.said, fmt.Sprintf("%d, %s", s.Status, s.Answer))
	case s.Carries != "cookies" && !strings.HasPrefix(s.Carries, "nothing"):
		l.said = append(l.said, s.Carries)
	case strings.HasPrefix(s.Answer, "page: "):
		l.said = append(l.said, s.Answer)
	}
	for _, x := range s.Inner {
		l.flush()
		l.line = fmt.Sprintf("      server to server: %s %s", x.Method, l.P.Clean(x.URL))
		l.said = append(l.said, x.Carries)
		if x.Status >= 400 {
			l.said = append(l.said, fmt.Sprintf("%d, %s", x.Status, x.Answer))
		}
	}
}

// judged adds to the step what a party judged in it.
func (l *Live) judged(e server.Event) {
	if n := e.Findings.Count(finding.Pass); n > 0 {
		who := e.By
		if who == "" {
			who = e.What
		}
		l.tally(who, n)
	}
	if len(e.Records) > 0 {
		l.said = append(l.said, format.Count(len(e.Records), "record"))
	}
	open := e.Findings.Without(finding.Pass)
	if len(open) == 0 {
		return
	}
	if e.By != "" {
		l.open = append(l.open, fmt.Sprintf("      %s judges the %s:\n", l.P.Bold(e.By), l.P.Clean(e.What)))
	}
	for _, f := range open {
		l.open = append(l.open, indentFinding(l.P.Finding(f)))
	}
}

// tally counts the checks that passed at a party in the step, all of them in one place.
func (l *Live) tally(who string, n int) {
	i := slices.IndexFunc(l.counts, func(c counted) bool { return c.who == who })
	if i < 0 {
		i = len(l.counts)
		l.counts = append(l.counts, counted{who: who, at: len(l.said)})
		l.said = append(l.said, "")
	}
	c := &l.counts[i]
	c.n += n
	l.said[c.at] = fmt.Sprintf("%s: %s passed", who, format.Count(c.n, "check"))
}

// counted are the checks that passed at a party, and where that stands in what is said of a step.
type counted struct {
	who   string
	n, at int
}

func indentFinding(s string) string {
	return "    " + strings.ReplaceAll(strings.TrimSuffix(s, "\n"), "\n", "\n    ") + "\n"
}

// flush writes the step that is under way.
func (l *Live) flush() {
	if l.line != "" || len(l.said) > 0 {
		words := l.P.Clean(strings.Join(l.said, "; "))
		switch {
		case words == "":
			fmt.Fprintln(l.W, l.P.Wrapped(l.line))
		case l.line != "" && utf8.RuneCountInString(l.line+words)+2 <= l.P.Columns():
			fmt.Fprintf(l.W, "%s  %s\n", l.line, l.P.Dim(words))
		default:
			if l.line != "" {
				fmt.Fprintln(l.W, l.P.Wrapped(l.line))
			}
			fmt.Fprintln(l.W, l.P.Dim(l.P.Indented("           ", words)))
		}
	}
	for _, s := range l.open {
		io.WriteString(l.W, s)
	}
	l.line, l.said, l.counts, l.open = "", nil, nil, nil
}

// whole shows an event with all that was checked.
func (l *Live) whole(e server.Event) {
	if s := e.Step; s != nil {
		fmt.Fprintf(l.W, "%4d  %-4s %s\n        %s\n", s.N, s.Method, l.P.Clean(s.URL),
			l.P.Dim(fmt.Sprintf("brings %s; %d, %s", s.Carries, s.Status, s.Answer)))
		for _, x := range s.Inner {
			fmt.Fprintf(l.W, "      %s\n",
				l.P.Dim(fmt.Sprintf("server to server: %s %s brings %s; %d, %s", x.Method, x.URL,
					x.Carries, x.Status, x.Answer)))
		}
		return
	}
	if e.By != "" && len(e.Findings) > 0 {
		fmt.Fprintf(l.W, "      %s judges the %s:\n", l.P.Bold(e.By), l.P.Clean(e.What))
	}
	for _, f := range e.Findings {
		io.WriteString(l.W, indentFinding(l.P.Finding(f)))
	}
	for _, x := range e.Records {
		fmt.Fprintf(l.W, "           %s  %s\n", l.P.Clean(x.ID), l.P.Clean(x.Note))
	}
}

// End shows the verdicts, with what is wanting.
func (l *Live) End(list []federation.Rehearsal) {
	l.flush()
	for _, r := range list {
		l.verdict(r)
	}
	if !l.Every && len(list) > 0 {
		fmt.Fprintln(l.W, l.P.Dim("\nEach check that passed is shown with --every-check."))
	}
}

func (l *Live) verdict(r federation.Rehearsal) {
	fmt.Fprintln(l.W)
	word := l.P.Bad("REFUSED")
	switch {
	case l.Refusal && r.Meant():
		fmt.Fprintf(l.W, "%s  %s: %s\n", l.P.Good("REFUSED, as expected"), r.Trust, format.Tally(r.Findings))
		for _, f := range r.Findings {
			if f.Level == finding.Error {
				fmt.Fprintln(l.W, l.P.Indented("  ", f.Check+": "+f.Saw))
			}
		}
		return
	case l.Refusal && r.Verdict == judge.Accepted:
		word = l.P.Bad("ACCEPTED, and a refusal was expected")
	case r.Verdict == judge.Accepted:
		word = l.P.Good("ACCEPTED")
		if n := r.Findings.Count(finding.Warning); n > 0 {
			word = l.P.Loud("ACCEPTED, with " + format.Count(n, "warning"))
		}
	}
	fmt.Fprintf(l.W, "%s  %s: %s\n", word, r.Trust, format.Tally(r.Findings))
	for _, f := range r.Findings {
		if f.Level == finding.Error || f.Level == finding.Warning {
			fmt.Fprintln(l.W, l.P.Indented("  ", f.Check+": "+f.Saw))
			fmt.Fprintln(l.W, l.P.Indented("      ", format.Remedy(f.Fix)))
		}
	}
	if r.Verdict != judge.Accepted {
		return
	}
	fs := [][2]string{{"subject", r.Subject}}
	if r.Format != "" {
		fs = append(fs, [2]string{"format", saml.ShortName(r.Format)})
	}
	for _, name := range slices.Sorted(maps.Keys(r.Claims)) {
		fs = append(fs, [2]string{name, strings.Join(r.Claims[name], ", ")})
	}
	if r.Account != "" {
		fs = append(fs, [2]string{"account", r.Account})
	}
	var calls []string
	by := map[string][]string{}
	for _, x := range r.Records {
		if by[x.Call] == nil {
			calls = append(calls, x.Call)
		}
		by[x.Call] = append(by[x.Call], x.ID)
	}
	for _, c := range calls {
		fs = append(fs, [2]string{c, "brought " + strings.Join(by[c], ", ")})
	}
	if len(r.StandIns) > 0 {
		fs = append(fs, [2]string{"rests on", "stand-ins for " + strings.Join(r.StandIns, " and ") +
			": the real ones are not proven by this"})
	}
	out := format.Printer{W: l.W, Color: l.P.Color, Width: l.P.Width, Mask: l.P.Mask}
	_ = out.Print(format.Page{Blocks: []format.Block{{Fields: fs}}}) // a closed output shows in the exit status
}

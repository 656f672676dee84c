package layout

import (
	"bytes"
	"cmp"
	"fmt"
	"strings"
	"time"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/people"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/mapping"
	"tressik.example/internal/work/sources"
)

// shown is how many people or accounts of a kind are listed for people; all are in JSON.
const shown = 12

// Match is whom an app would know.
func Match(m *mapping.Match) format.Page {
	from := m.From
	if m.Expression != "" {
		from += " = " + m.Expression
	}
	f := [][2]string{{"admitted", format.Count(m.Admitted, "person")}, {"accounts", fmt.Sprint(m.Accounts)},
		{"found by", m.Field + ", filled from " + from},
		{"found", fmt.Sprint(len(m.Found))}, {"strangers", fmt.Sprint(len(m.Strangers)) + strange(m)},
		{"collisions", fmt.Sprint(len(m.Collisions))}, {"swapped", fmt.Sprint(len(m.Swapped))}, {"orphaned",
			fmt.Sprint(len(m.Orphans))}, {"shared", shared(m)}}
	blocks := []format.Block{{Title: "Whom " + m.App + " would know through " + m.Trust, Fields: f}}
	if len(m.Collisions) > 0 {
		b := format.Block{Title: "Collisions: the app cannot tell who is who", Head: []string{"People", "Accounts",
			"Lines of the export"}}
		for _, c := range first(&b, m.Collisions) {
			lines := make([]string, len(c.Lines))
			for i, n := range c.Lines {
				lines[i] = fmt.Sprint(n)
			}
			b.Rows = append(b.Rows, []string{strings.Join(c.People, ", "), strings.Join(c.Accounts, ", "),
				strings.Join(lines, ", ")})
		}
		blocks = append(blocks, b)
	}
	if len(m.Swapped) > 0 {
		b := format.Block{Title: "Taken for somebody else: the account says whose it is", Head: []string{"Person",
			"Account", "Whose it is", "By its field"}}
		for _, s := range first(&b, m.Swapped) {
			b.Rows = append(b.Rows, []string{s.Person, s.Account, s.Whose, s.Field})
		}
		blocks = append(blocks, b)
	}
	if len(m.Shared) > 0 {
		b := format.Block{Title: "Shared: another provider leads to the account as well", Head: []string{"Account",
			"Person",
			"Through", "Who comes there"}}
		for _, s := range first(&b, m.Shared) {
			b.Rows = append(b.Rows, []string{s.Account, s.Person, s.Trust, cmp.Or(s.Other,
				"whoever it names of "+s.Domain)})
		}
		blocks = append(blocks, b)
	}
	if len(m.Strangers) > 0 {
		b := format.Block{Title: "Strangers: the app has no account for them", Head: []string{"Person", "Arrives as",
			"Nearest account",
			"Differs in"}}
		for _, s := range first(&b, m.Strangers) {
			b.Rows = append(b.Rows, []string{s.Person, cmp.Or(s.Value, "(nothing)"), s.Near, s.How})
		}
		blocks = append(blocks, b)
	}
	if len(m.Orphans) > 0 {
		b := format.Block{Title: "Accounts that match no admitted person", Head: []string{"Account",
			"Line of the export"}}
		for _, o := range first(&b, m.Orphans) {
			b.Rows = append(b.Rows, []string{o.Account, fmt.Sprint(o.Line)})
		}
		blocks = append(blocks, b)
	}
	if len(m.Better) > 0 {
		b := format.Block{Title: "What would find more"}
		for _, x := range m.Better {
			b.Lines = append(b.Lines, fmt.Sprintf("  %d of %d: %s", x.Found, m.Admitted, format.Remedy(x.Fix)))
		}
		blocks = append(blocks, b)
	}
	return format.Page{Data: m, Blocks: blocks}
}

// shared is how many accounts another provider leads to, as far as that is known.
func shared(m *mapping.Match) string {
	s := fmt.Sprint(len(m.Shared))
	if len(m.Beside) > 0 {
		s += "; whom " + strings.Join(m.Beside, ", ") + " brings is not known"
	}
	return s
}

func strange(m *mapping.Match) string {
	switch {
	case len(m.Strangers) == 0:
		return ""
	case m.Strange == "":
		return "; nobody said whether the app creates or refuses them (--strangers)"
	}
	return ", who would be " + m.Strange
}

// first are the first of a list; the block says how many more there are.
func first[T any](b *format.Block, list []T) []T {
	if len(list) <= shown {
		return list
	}
	b.Title += fmt.Sprintf(" (%d of %d)", shown, len(list))
	return list[:shown]
}

// GapsOf is what is missing, doubled, forbidden or too much.
func GapsOf(g *mapping.Gaps) format.Page {
	who := format.Count(g.People, "person")
	if g.Group != "" {
		who += " in " + g.Group
	}
	blocks := []format.Block{{Title: "What the app of " + g.Trust + " would receive", Fields: [][2]string{{"looked at",
		who},
		{"rules with gaps", fmt.Sprint(len(g.Rules))}, {"shared subjects", fmt.Sprint(len(g.Same))},
		{"forbidden values", fmt.Sprint(len(g.Forbidden))}, {"wanted, no rule", cmp.Or(strings.Join(g.Lacking, ", "),
			"none")},
		{"released unasked", cmp.Or(strings.Join(g.Unasked, ", "), "none")}}}}
	if len(g.Rules) > 0 {
		b := format.Block{Title: "Gaps", Head: []string{"Claim", "Rule", "Empty for", "Who"}}
		for _, r := range g.Rules {
			claim := r.Claim
			if r.Required {
				claim += " (needed)"
			}
			some := r.Who
			more := ""
			if len(some) > 4 {
				some, more = some[:4], fmt.Sprintf(" and %d more", len(r.Who)-4)
			}
			b.Rows = append(b.Rows, []string{claim, r.Expression, fmt.Sprintf("%d of %d", r.Empty, g.People),
				strings.Join(some, ", ") + more})
		}
		blocks = append(blocks, b)
	}
	if len(g.Findings) > 0 {
		blocks = append(blocks, format.Block{Title: "What to do", Findings: g.Findings})
	} else {
		blocks = append(blocks, format.Block{Lines: []string{"Everybody gets all that is released, and " +
			"nobody shares a subject."}})
	}
	return format.Page{Data: g, Blocks: blocks}
}

// Suggested are rules that would serve more people.
func Suggested(s *mapping.Suggestions) format.Page {
	var blocks []format.Block
	for _, x := range s.List {
		now := "no rule yet"
		if x.Now != "" {
			now = fmt.Sprintf("%s: %d of %d", x.Now, x.ServedNow, s.People)
		}
		blocks = append(blocks, format.Block{Title: x.Claim, Fields: [][2]string{{"now", now},
			{"would serve", fmt.Sprintf("%d of %d", x.Serves, s.People)}, {"because", x.Because}}},
			format.Block{Lines: []string{"  " + format.Remedy(x.Fix)}})
	}
	if len(s.Without) > 0 {
		blocks = append(blocks, format.Block{Lines: []string{"No other attribute of theirs would help: " +
			strings.Join(s.Without, ", ") + ". Find out where it is kept, and load people who have it."}})
	}
	if len(blocks) == 0 {
		blocks = []format.Block{{Lines: []string{"Nothing is missing: everybody gets all that the app wants or " +
			"reads."}}}
	}
	return format.Page{Data: s, Blocks: blocks}
}

// Compare is two trusts, or two people, side by side; values says whether it is what they get, not the rules.
func Compare(a, b string, list []mapping.Beside, values bool) format.Page {
	t := format.Block{Head: []string{"Claim", a, b}}
	for _, x := range list {
		claim := x.Claim
		if !x.Same {
			claim = "! " + claim
		}
		left, right := cmp.Or(x.RuleA, "-"), cmp.Or(x.RuleB, "-")
		if values {
			left, right = cmp.Or(strings.Join(x.A, "\n"), "-"), cmp.Or(strings.Join(x.B, "\n"), "-")
		}
		t.Rows = append(t.Rows, []string{claim, left, right})
	}
	return format.Page{Data: list, Blocks: []format.Block{t}}
}

// Access is every app that a person gets into.
func Access(person string, list []mapping.Access) format.Page {
	b := format.Block{Title: "Where " + person + " gets in", Verdicts: []int{1}, Head: []string{"Trust", "Standing",
		"Gets in", "Account there"},
		Noun: "trust", Empty: "There is no trust that anybody signs in by."}
	for _, x := range list {
		account := cmp.Or(x.Account, x.How)
		if len(x.Role) > 0 {
			account += " (" + strings.Join(x.Role, ", ") + ")"
		}
		in := yesNo(x.Admitted) + ": " + x.Why
		if x.Unknown {
			in = x.Why
		}
		switch o := x.Seen; {
		case o == nil && x.Admitted:
			in += "; untried"
		case o != nil && o.Out && x.Admitted:
			in += "; refused when " + tried(o)
		case o != nil && !o.Out && !x.Admitted:
			in += "; got in when " + tried(o)
		case o != nil:
			in += "; " + tried(o)
		}
		b.Rows = append(b.Rows, []string{x.Trust, string(x.Standing), in, account})
	}
	return format.Page{Data: list, Blocks: []format.Block{b}}
}

// tried is how it was found out whether somebody gets in, in a word: tried with stand-ins, or seen with the real ones.
func tried(o *federation.Observation) string {
	switch o.Kind {
	case federation.ByRehearsal:
		return "tried"
	case federation.WitnessProof:
		return "seen"
	}
	return string(o.Kind)
}

// Explanation is how each rule comes to what it yields.
func Explanation(list []mapping.Explained) []format.Block {
	var blocks []format.Block
	for _, x := range list {
		b := format.Block{Title: "How " + x.Claim + " comes about", Head: []string{"Part of the rule", "Yields"}}
		for _, s := range x.When {
			b.Rows = append(b.Rows, []string{"when " + s.Part, yields(s)})
		}
		for _, s := range x.Steps {
			b.Rows = append(b.Rows, []string{s.Part, yields(s)})
		}
		if len(x.Fills) > 0 {
			b.Rows = append(b.Rows, []string{"the app fills its " + strings.Join(x.Fills, ", "), ""})
		}
		blocks = append(blocks, b)
	}
	return blocks
}

func yields(s claims.Step) string {
	switch {
	case s.Wrong != "":
		return "nothing: " + s.Wrong
	case len(s.Values) == 0:
		return "(empty)"
	}
	return strings.Join(s.Values, ", ")
}

// People is a list of persons.
func People(list []people.Person) format.Block {
	b := format.Block{Head: []string{"Person", "Name", "Mail", "Groups"}, Noun: "person"}
	for i := range list {
		p := &list[i]
		b.Rows = append(b.Rows, []string{p.ID, p.Name(), strings.Join(p.Attributes["mail"], "\n"),
			strings.Join(p.Groups, ", ")})
	}
	return b
}

// SourceTold is what is told of a source of people.
type SourceTold struct {
	sources.Result
	Read   time.Time `json:"lastRead"`
	People int       `json:"people"`
}

// Sources are where people come from.
func Sources(list []people.Source, now time.Time) format.Page {
	b := format.Block{Head: []string{"Source", "At", "People", "Last read"}, Noun: "source",
		Empty: "There is none. Add the first with `tressik people source add NAME FILE`, or load a file once with " +
			"`tressik people load FILE`."}
	out := []SourceTold{}
	for _, s := range list {
		b.Rows = append(b.Rows, []string{s.Name, s.At, fmt.Sprint(s.People), format.When(s.Read, now)})
		out = append(out, SourceTold{sources.ResultOf(&s), s.Read, s.People})
	}
	return format.Page{Data: out, Blocks: []format.Block{b}}
}

// Moving is what moving an app to another provider does.
func Moving(m *mapping.Moving) format.Page {
	words := [][2]string{{"same", "keep their account"}, {"stranger", "become strangers"}, {"other",
		"become somebody else"},
		{"found", "are known for the first time"}, {"out", "get in no longer"}, {"in", "get in for the first time"},
		{"unknown", "are unknown before and after"}}
	b := format.Block{Title: "Moving " + m.App + " from " + m.From + " to " + m.To}
	for _, w := range words {
		if n := m.Count[w[0]]; n > 0 || w[0] == "same" {
			b.Fields = append(b.Fields, [2]string{w[1], fmt.Sprint(n)})
		}
	}
	var changed []mapping.Move
	for _, x := range m.Moves {
		if x.What != "same" && x.What != "unknown" || len(x.Lost)+len(x.Gained) > 0 {
			changed = append(changed, x)
		}
	}
	blocks := []format.Block{b}
	if len(changed) > 0 {
		t := format.Block{Title: "People affected", Head: []string{"Person", "What", "Before", "After"}}
		for _, x := range first(&t, changed) {
			what := x.What
			for _, w := range words {
				if w[0] == what {
					what = w[1]
				}
			}
			if len(x.Lost) > 0 {
				what += ", lose " + strings.Join(x.Lost, " ")
			}
			if len(x.Gained) > 0 {
				what += ", gain " + strings.Join(x.Gained, " ")
			}
			t.Rows = append(t.Rows, []string{x.Person, what, cmp.Or(x.Account, x.Before, "-"),
				cmp.Or(x.Then, x.After, "-")})
		}
		blocks = append(blocks, t)
	}
	return format.Page{Data: m, Blocks: blocks}
}

// some names the first few of a list, and how many more there are.
func some(list []string) string {
	if n := len(list); n > 5 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:5], ", "), n-5)
	}
	return strings.Join(list, ", ")
}

// Carried is who keeps which subject at an app that moves; shown says that it is looked at, and nothing was done.
func Carried(x *mapping.Carrying, shown bool) format.Page {
	verdict := format.Count(len(x.Carried), "person") + " keep" + map[bool]string{true: "s"}[len(x.Carried) == 1] +
		" at " + x.Trust + " the subject from " + x.From
	switch {
	case len(x.Carried) == 0:
		verdict = "nobody keeps a subject at " + x.Trust + ": its rules give everybody's"
	case !x.Kept:
		verdict = format.Count(len(x.Carried), "subject") + " of " + x.From +
			" for the owner of the provider; nothing " +
			"is kept here"
	}
	blocks := []format.Block{{Lines: []string{verdict}}}
	if len(x.Carried) > 0 {
		t := format.Block{Title: "Who keeps what", Head: []string{"Person", "Keeps", "In place of"}}
		for _, k := range first(&t, x.Carried) {
			t.Rows = append(t.Rows, []string{k.Person, k.Subject, cmp.Or(k.Else, "-")})
		}
		if shown {
			t.Head = t.Head[:2]
			for i := range t.Rows {
				t.Rows[i] = t.Rows[i][:2]
			}
		}
		blocks = append(blocks, t)
	}
	if len(x.Orphans) > 0 {
		t := format.Block{Title: "Accounts whose subject no person keeps", Head: []string{"Account", "Line"}}
		for _, o := range first(&t, x.Orphans) {
			t.Rows = append(t.Rows, []string{o.Account, fmt.Sprint(o.Line)})
		}
		blocks = append(blocks, t)
	}
	var lines []string
	if n := len(x.Fresh); n > 0 && len(x.Carried) > 0 {
		lines = append(lines, fmt.Sprintf("%s whom %s admits keep no subject, and get the one that its rules give: %s",
			format.Count(n, "person"), x.Trust, some(x.Fresh)))
	}
	if !x.Exported && len(x.Carried) > 0 {
		app, _, _ := strings.Cut(x.Trust, "@")
		lines = append(lines,
			"Which accounts "+app+" has is not known: whether each of these subjects finds one, nobody "+
				"looked. Load its export with `tressik accounts load "+app+" FILE`.")
	}
	if lines != nil {
		blocks = append(blocks, format.Block{Lines: lines})
	}
	return format.Page{Data: x, Blocks: blocks}
}

// SubjectTable is the table of subjects for others, in a format: person, mail, subject. Errors: a subject that a
// spreadsheet would take for something to work out, which no CSV can hold.
func SubjectTable(x *mapping.Carrying, as string) ([]byte, error) {
	type line struct {
		Person  string `json:"person"`
		Mail    string `json:"mail,omitempty"`
		Subject string `json:"subject"`
	}
	b := format.Block{Head: []string{"person", "mail", "subject"}}
	lines := make([]line, len(x.Carried))
	for i, k := range x.Carried {
		lines[i] = line{k.Person, k.Mail, k.Subject}
		b.Rows = append(b.Rows, []string{k.Person, k.Mail, k.Subject})
		if as == "csv" && !format.IsPlainCell(k.Subject) {
			return nil, fmt.Errorf("a spreadsheet would work out the subject %q of %s: write JSON, with a name that "+
				"ends in .json", k.Subject, k.Person)
		}
	}
	var out bytes.Buffer
	err := (&format.Printer{W: &out, Format: as}).Print(format.Page{Data: lines, Blocks: []format.Block{b}})
	return out.Bytes(), err
}

// Imported is what came of importing rules.
func Imported(was, now *federation.Trust, dry bool) format.Page {
	var lines []string
	for _, r := range now.Rules {
		old := ""
		for _, o := range was.Rules {
			if o.Claim == r.Claim {
				old = ruleWords(o)
			}
		}
		switch words := ruleWords(r); {
		case old == "":
			lines = append(lines, "  + "+r.Claim+" = "+words)
		case old != words:
			lines = append(lines, "  ~ "+r.Claim+" = "+words+", was "+old)
		}
	}
	for _, o := range was.Rules {
		if _, _, ok := now.RuleFor(o.Claim); !ok {
			lines = append(lines, "  - "+o.Claim)
		}
	}
	if was.SubjectFormat != now.SubjectFormat || was.Subject != now.Subject {
		lines = append(lines, "  ~ subject: "+now.SubjectWords()+", was "+was.SubjectWords())
	}
	if len(lines) == 0 {
		lines = []string{"  nothing: the rules are those that are there"}
	}
	title := "What is different for " + now.Name
	if dry {
		title += "; nothing was kept (--dry-run)"
	}
	return format.Page{Data: now.Rules, Blocks: []format.Block{{Title: title, Lines: lines}}}
}

// Leave is what still works for somebody who has left.
func Leave(person string, list []mapping.Left) format.Page {
	b := format.Block{Title: "What still works for " + person}
	for _, x := range list {
		b.Lines = append(b.Lines, fmt.Sprintf("  %-8s %s: %s", x.What, x.Of, x.Says),
			"           "+format.Remedy(x.Fix))
	}
	return format.Page{Data: list, Blocks: []format.Block{b}}
}

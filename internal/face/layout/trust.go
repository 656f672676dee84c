package layout

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/face/format"
	"tressik.example/internal/work/desk"
	"tressik.example/internal/work/handoff"
)

// TrustData is a trust as data, with what its protocol has besides.
type TrustData struct {
	desk.TrustResult
	Findings finding.List        `json:"findings"`
	Consent  *desk.ConsentView   `json:"consent,omitempty"` // over OpenID Connect
	Secrets  []desk.SecretResult `json:"secrets,omitempty"`
	Proof    federation.Proof    `json:"proof,omitzero"`
	Rests    []federation.Fact   `json:"restsOn,omitempty"` // value by value
}

// Trust lays out a trust: terms, claims, both sides compared, and the last rehearsal.
func Trust(d *desk.Desk, t *federation.Trust, app, provider *federation.Party, fs finding.List) (format.Page, error) {
	data := TrustData{TrustResult: desk.TrustResultOf(t), Findings: fs, Proof: t.Proof()}
	over := protocolOf(t)
	terms, err := over.terms(d)
	if err != nil {
		return format.Page{}, err
	}
	more, err := over.more(d, &data)
	if err != nil {
		return format.Page{}, err
	}
	_, todos, err := d.Sides().Next(t.Name)
	if err != nil {
		return format.Page{}, err
	}
	sides, now := over.head(app, provider), d.Now()
	head := Filled([][2]string{{"does it work", Answer(t, fs)}, {"owner", t.Owner}, {"evidence", ProofWords(t, now)},
		{"last failure", FailedWords(t, now)}, {"planned", planned(t, now)}})
	blocks := []format.Block{{Title: Headline(t, now), Fields: head}}
	if open := fs.Without(finding.Pass); len(open) > 0 {
		blocks = append(blocks, format.Block{Title: "Issues", Findings: open})
	}
	blocks = append(blocks, nextBlock(t, todos))
	fields := append([][2]string{}, sides.before...)
	if r := t.Reads; r != nil {
		for _, f := range r.Fields {
			fields = append(fields, [2]string{"reads " + f.Field + " from", f.From})
		}
		fields = append(fields, [2]string{"finds accounts by", r.Key}, [2]string{"role from", r.Role})
	}
	for i := range t.Ends {
		e := &t.Ends[i]
		fields = append(fields, [2]string{"ends", e.Words(t) + ": " + format.When(e.When(t), now)})
	}
	for _, side := range []string{"app", "provider"} {
		fields = append(fields, [2]string{"handoff to the " + side, handedWords(t, side, now)})
	}
	blocks = append(blocks, format.Block{Title: "Sides", Fields: append(fields, sides.after...)})
	blocks = append(append(blocks, terms...), more...)
	data.Rests = federation.FactsOf(t, app, provider)
	blocks = append(blocks, factBlocks(t, app, provider, now)...)
	blocks = append(blocks, lastBlock(t, now),
		format.Block{Title: "Both sides compared",
			Findings: passes(fs),
			Passed:   true})
	return format.Page{Data: data, Blocks: blocks}, nil
}

// passes are the checks that passed; what did not is told elsewhere.
func passes(fs finding.List) finding.List {
	var out finding.List
	for _, f := range fs {
		if f.Level == finding.Pass {
			out = append(out, f)
		}
	}
	return out
}

// nextBlock is the first step that is open, with its command.
func nextBlock(t *federation.Trust, todos []handoff.Todo) format.Block {
	b := format.Block{Title: "Next"}
	for _, x := range todos {
		if !x.Done {
			b.Lines = []string{"  open  " + x.Step, "        " + todoWords(x.Fix)}
			return b
		}
	}
	b.Lines = []string{"  nothing is left to do, as far as Tressik can see"}
	if t.Standing == federation.Ended {
		b.Lines = []string{"  nothing: the trust has ended"}
	}
	return b
}

// handedWords says how far the handoff to a side is.
func handedWords(t *federation.Trust, side string, now time.Time) string {
	at, given := t.Handed[side]
	written, prepared := t.Prepared[side]
	switch to := t.HandedTo[side]; {
	case given && to != "":
		return "has what it needs: delivered to " + to + ", " + format.When(at, now)
	case given:
		return "has what it needs since " + format.When(at, now)
	case t.Shown(side):
		return "has what it needs: a real sign-in showed it, " + format.When(t.Witnessed.At, now)
	case prepared:
		return "its handoff was prepared " + format.When(written, now) + "; its delivery is not confirmed"
	}
	return "not yet given what it needs"
}

// ProofWords says what a trust rests on, and since when: never more than was seen, and what of it holds no longer.
func ProofWords(t *federation.Trust, now time.Time) string {
	p := t.Proof()
	since := p.At.UTC().Format("2006-01-02 15:04 UTC") + ", " + format.Away(p.At, now)
	if p.Run > 0 {
		since += fmt.Sprintf(", run %d", p.Run)
	}
	lost := ""
	if !p.Whole() {
		lost = "; since then no longer shown: " + p.LostWords()
	}
	played := ""
	if len(p.StandIns) > 0 {
		played = ", with a stand-in for " + strings.Join(p.StandIns, " and ")
	}
	switch p.Kind {
	case federation.WitnessProof:
		return "a real sign-in that was watched (witnessed" + played + "; " + since + ")" + lost
	case federation.ProbedProof:
		return "what the real parties answered (probed, " + since + "); no real sign-in was watched as it is now" + lost
	case federation.Told:
		return "what " + strings.Join(p.By, " and ") + " said: that the app let them in (told, " + since +
			"); the app itself was not seen" + lost
	case federation.ByRehearsal:
		if played == "" {
			return "a rehearsal between own parties (" + since + ")"
		}
		return "a rehearsal with stand-ins for " + strings.Join(p.StandIns, " and ") + " (" + since +
			"); the real ones were not asked"
	}
	return "what both sides published or was entered (asserted, " + since + "); no sign-in has proven it as it is now"
}

// planned says when a trust is to be live, "" where that is not planned.
func planned(t *federation.Trust, now time.Time) string {
	if t.Plan == nil {
		return ""
	}
	return PlanWords(t.Plan, now)
}

// FailedWords says when the last probe or watch failed, and why; "" where none did since one succeeded.
func FailedWords(t *federation.Trust, now time.Time) string {
	f := t.Failed
	if f == nil {
		return ""
	}
	what := map[federation.ProofKind]string{federation.ProbedProof: "probe"}[f.Kind]
	return fmt.Sprintf("%s failed %s, run %d: %s [%s]", cmp.Or(what, "watch"), format.Away(f.At, now), f.Run, f.Why,
		f.Finding)
}

// StandingShort is the standing of a trust for a column, with when it is to be live where that is planned.
func StandingShort(t *federation.Trust) string {
	if t.Plan == nil {
		return string(t.Standing)
	}
	return string(t.Standing) + "; to be live " + t.Plan.When()
}

// ProofShort is what a trust rests on, for a column.
func ProofShort(t *federation.Trust, now time.Time) string {
	p := t.Proof()
	s := string(p.Kind) + ", " + format.Away(p.At, now)
	if !p.Whole() {
		s += ", less " + p.LostWords()
	}
	if t.Last != nil && t.Last.Verdict == judge.Refused && !t.Last.Meant() && !t.Last.At.Before(p.At) &&
		len(t.Last.Suppose) == 0 {
		s += "; a rehearsal was refused " + format.Away(t.Last.At, now)
	}
	if f := t.Failed; f != nil {
		what := map[federation.ProofKind]string{federation.ProbedProof: "probe"}[f.Kind]
		s += "; the " + cmp.Or(what, "watch") + " failed " + format.Away(f.At, now) + ": " + string(f.Finding)
	}
	return s
}

// factBlocks list what a trust rests on, value by value: the facts that rest on the same together, in their order.
func factBlocks(t *federation.Trust, app, provider *federation.Party, now time.Time) []format.Block {
	const unshown = "Facts asserted, and shown by nothing"
	var out []format.Block
	for _, f := range federation.FactsOf(t, app, provider) {
		title := "Facts " + FactWords(&f, now)
		if f.Name == finding.FactAdmission {
			title = "Seen: " + FactWords(&f, now)
		}
		if f.Rests == federation.Asserted {
			title = unshown
		}
		i := slices.IndexFunc(out, func(b format.Block) bool { return b.Title == title })
		if i < 0 {
			out = append(out, format.Block{Title: title})
			i = len(out) - 1
		}
		out[i].Fields = append(out[i].Fields, [2]string{string(f.Name), cmp.Or(f.Value, "none")})
	}
	slices.SortStableFunc(out, func(a, b format.Block) int { // what nothing shows comes last
		last := func(x format.Block) int {
			if x.Title == unshown {
				return 1
			}
			return 0
		}
		return last(a) - last(b)
	})
	return out
}

// FactWords says what a fact rests on: of whom admission was seen, by whom something was told, whether the party was
// played.
func FactWords(f *federation.Fact, now time.Time) string {
	if f.Rests == federation.Asserted {
		return string(f.Rests)
	}
	if f.Name == finding.FactAdmission && len(f.Seen) > 0 {
		return admissionWords(f, now)
	}
	s := fmt.Sprintf("%s %s, run %d", f.Rests, format.Away(f.At, now), f.Run)
	if f.Name == finding.FactAdmission { // older versions did not keep of whom
		return s + ", for whoever signed in then"
	}
	for _, o := range f.Seen {
		if o.Kind != f.Rests {
			continue
		}
		if o.By != "" {
			s += ", by " + o.By
		}
		if o.Played {
			s += ", with " + o.Of + " played"
		}
		if o.Address != "" && o.Kind.Stronger(federation.ByRehearsal) {
			s += ", at " + o.Address
		}
		break
	}
	return s
}

// admissionWords says of whom it was seen: admission is never seen for everyone.
func admissionWords(f *federation.Fact, now time.Time) string {
	var out []string
	for _, o := range f.Seen {
		how := "let in"
		if o.Out {
			how = "refused"
		}
		out = append(out, fmt.Sprintf("%s %s (%s %s)", cmp.Or(o.Person, "somebody unknown"), how, o.Kind,
			format.Away(o.At, now)))
	}
	if n := len(out); n > 3 {
		out = append(out[:3], fmt.Sprintf("and for %d more", n-3))
	}
	return strings.Join(out, ", ")
}

func issuerOf(p *federation.Party) string {
	if doc := p.OpenIDOf(); doc != nil {
		return doc.Issuer
	}
	return ""
}

func lastBlock(t *federation.Trust, now time.Time) format.Block {
	r := t.Last
	if r == nil {
		return format.Block{Title: "Last rehearsal", Lines: []string{"  none; see `tressik next " + t.Name + "`"}}
	}
	who := r.Person
	if who == "" {
		who = "itself"
	}
	f := [][2]string{{"verdict", string(r.Verdict) + ", as " + who + ", " + format.When(r.At, now)}}
	if r.Subject != "" {
		f = append(f, [2]string{"subject", r.Subject})
	}
	if len(r.Suppose) > 0 {
		f = append(f, [2]string{"supposed", strings.Join(r.Suppose, ", ")})
	}
	f = append(f, [2]string{"checks", format.Tally(r.Findings)})
	if r.Verdict == judge.Accepted && len(r.Suppose) == 0 && !t.Holds {
		f = append(f, [2]string{"note", "the trust was changed since; rehearse it again"})
	}
	return format.Block{Title: "Last rehearsal", Fields: f}
}

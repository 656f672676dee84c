package mapping

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tressik.example/internal/core/claims"
	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// Gaps is what is missing, doubled, forbidden or too much in what an app receives, over everybody.
type Gaps struct {
	Trust   string    `json:"trust"`
	Group   string    `json:"group,omitempty"`
	People  int       `json:"people"`            // who are looked at
	Rules   []RuleGap `json:"rules" rows:"each"` // those that release nothing for somebody
	Lacking []string  `json:"lacking"`           // what the app wants or reads and no rule releases
	// what is released and the app never asked for; empty where it says nothing
	Unasked []string `json:"unasked"`
	// Same are subjects that several people share.
	Same      []Same       `json:"sameSubject"`
	Forbidden []Forbidden  `json:"forbidden"` // values that their format does not allow
	Findings  finding.List `json:"findings" rows:"each"`
	far       string       // name of a foreign provider: what it sends is not known
}

// RuleGap is a rule that releases nothing for somebody.
type RuleGap struct {
	Claim      string   `json:"claim"` // or subject
	Expression string   `json:"expression"`
	Required   bool     `json:"required"` // the app cannot do without
	Empty      int      `json:"empty"`    // for how many people
	Who        []string `json:"who"`
	Why        string   `json:"why"` // of more reasons than one each with for whom it is

	reasons []whyEmpty
}

// whyEmpty is why a rule gives nothing to some people.
type whyEmpty struct {
	why string
	who []string
}

func (r *RuleGap) add(person, why string) {
	r.Empty++
	r.Who = append(r.Who, person)
	i := slices.IndexFunc(r.reasons, func(x whyEmpty) bool { return x.why == why })
	if i < 0 {
		i = len(r.reasons)
		r.reasons = append(r.reasons, whyEmpty{why: why})
	}
	r.reasons[i].who = append(r.reasons[i].who, person)
}

// mostReasons is how many reasons for one gap are told.
const mostReasons = 3

// explain writes Why.
func (r *RuleGap) explain() {
	if len(r.reasons) == 1 {
		r.Why = r.reasons[0].why
		return
	}
	var words []string
	for i, x := range r.reasons {
		if i == mostReasons {
			words = append(words, fmt.Sprintf("%d more reasons", len(r.reasons)-i))
			break
		}
		words = append(words, some(x.who)+": "+x.why)
	}
	r.Why = strings.Join(words, "; ")
}

// Same is a subject of several people.
type Same struct {
	Subject string   `json:"subject"`
	People  []string `json:"people"`
}

// Forbidden is a value that its format does not allow.
type Forbidden struct {
	Claim  string `json:"claim"`
	Person string `json:"person"`
	Value  string `json:"value"`
	Why    string `json:"why"`
}

// Gaps looks at what an app receives of everyone whom a trust admits, or of those in a group. Errors:
// *model.UnknownError, *claims.CompileError.
func (m *Mapper) Gaps(trust, group string) (*Gaps, error) {
	who, err := m.admitted(trust, group)
	if err != nil {
		return nil, err
	}
	g := who.Gaps()
	g.Group = group
	return g, nil
}

// Gaps looks at what the app receives of each of them.
func (t *Those) Gaps() *Gaps {
	g := &Gaps{Trust: t.trust.Name, People: len(t.all), Rules: []RuleGap{}, Lacking: []string{},
		Unasked: []string{},
		Same:    []Same{}, Forbidden: []Forbidden{}, Findings: finding.List{}}
	if !t.provider.Own {
		g.far = t.provider.Name
	}
	empty, subjects := map[string]*RuleGap{}, map[string][]string{}
	note := func(claim, expression, person, why string) {
		x := empty[claim]
		if x == nil {
			x = &RuleGap{Claim: claim, Expression: claims.Masked(expression), Required: t.needs(claim),
				Who: []string{}}
			empty[claim] = x
		}
		x.add(person, why)
	}
	for i := range t.all {
		p := &t.all[i]
		got := t.releaser.Receive(p)
		if got.NoWhy != nil {
			why := got.NoWhy
			if cause := errors.Unwrap(why); cause != nil { // without who it is, and what it was made of
				why = cause
			}
			note(federation.Subject, t.trust.SubjectWords(), p.ID, why.Error())
		} else {
			subjects[got.Subject] = append(subjects[got.Subject], p.ID)
			if why := forbiddenSubject(t.trust.SubjectFormat, got.Subject); why != "" {
				g.Forbidden = append(g.Forbidden, Forbidden{federation.Subject, p.ID, got.Subject, why})
			}
		}
		_, gaps := t.releaser.Attributes(p)
		for _, x := range gaps {
			_, expression, _ := t.trust.RuleFor(x.Claim)
			note(x.Claim, expression, p.ID, x.Reason)
		}
		for _, name := range t.unruled() {
			if len(got.Of(name)) == 0 {
				note(name, "the standard claim", p.ID, "the person has no attribute for it")
			}
		}
		for _, r := range t.trust.Rules {
			for _, v := range got.Of(r.Claim) {
				if why := forbidden(r.Claim, v); why != "" {
					g.Forbidden = append(g.Forbidden, Forbidden{r.Claim, p.ID, v, why})
				}
			}
		}
	}
	for _, claim := range slices.Sorted(maps.Keys(empty)) {
		empty[claim].explain()
		if _, _, ruled := t.trust.RuleFor(claim); ruled || claim == federation.Subject ||
			empty[claim].Empty < g.People {
			g.Rules = append(g.Rules, *empty[claim])
		}
	}
	for _, s := range slices.Sorted(maps.Keys(subjects)) {
		if len(subjects[s]) > 1 {
			g.Same = append(g.Same, Same{s, subjects[s]})
		}
	}
	t.asked(g)
	g.judge(t)
	return g
}

// unruled are the names that the app reads and that no rule releases: standard claims, or nothing.
func (t *Those) unruled() []string {
	var out []string
	if t.trust.Reading(t.app) == nil {
		return nil
	}
	for _, f := range t.trust.Reading(t.app).Fields {
		if _, _, ok := t.trust.RuleFor(f.From); !ok && f.From != federation.Subject {
			out = append(out, f.From)
		}
	}
	return out
}

// needs reports whether the app cannot do without a claim.
func (t *Those) needs(claim string) bool {
	if claim == federation.Subject {
		return true
	}
	for _, r := range t.trust.Rules {
		for _, w := range t.trust.Terms.Wants(t.app) {
			if r.Claim == claim && w.Required && saml.Satisfies(w, saml.Attribute{Name: r.Name, Format: r.NameFormat}) {
				return true
			}
		}
	}
	reads := t.trust.Reading(t.app)
	return reads != nil && reads.Key != "" && slices.Contains(reads.Filling(claim), reads.Key)
}

// asked compares what is released with what the app wants or reads.
func (t *Those) asked(g *Gaps) {
	said := false
	asks := map[string]bool{}
	for _, w := range t.trust.Terms.Wants(t.app) {
		said, asks[w.Name] = true, true
		if !slices.ContainsFunc(t.trust.Rules, func(r claims.Rule) bool {
			return saml.Satisfies(w, saml.Attribute{Name: r.Name, Format: r.NameFormat})
		}) {
			g.Lacking = append(g.Lacking, w.Label())
		}
	}
	if t.trust.Reading(t.app) != nil {
		for _, f := range t.trust.Reading(t.app).Fields {
			said, asks[f.From] = true, true
		}
	}
	for _, name := range t.unruled() {
		if !t.arrives(name) && !slices.Contains(g.Lacking, name) {
			g.Lacking = append(g.Lacking, name)
		}
	}
	if !said {
		return
	}
	for _, r := range t.trust.Rules {
		if !asks[r.Claim] && !asks[r.Name] {
			g.Unasked = append(g.Unasked, r.Claim)
		}
	}
}

// arrives reports whether a name arrives for anybody without a rule of its own, as standard claims do.
func (t *Those) arrives(name string) bool {
	for i := range t.all {
		if len(t.releaser.Receive(&t.all[i]).Of(name)) > 0 {
			return true
		}
	}
	return false
}

// forbidden says why a value of a claim is none that its standard allows; "" if it is.
func forbidden(claim, v string) string {
	if strings.ContainsFunc(v, func(r rune) bool { return r < 0x20 && r != '\t' || r == 0x7f }) {
		return "it holds a control character"
	}
	switch claim {
	case "mail", "email":
		if local, domain, ok := strings.Cut(v, "@"); !ok || local == "" || !strings.Contains(domain, ".") ||
			strings.ContainsAny(v, " ,;<>") {
			return "it is no single address (RFC 5322, addr-spec)"
		}
	case "eduPersonPrincipalName", "eduPersonScopedAffiliation", "eduPersonUniqueId":
		if strings.Count(v, "@") != 1 {
			return "it has not one @ between a value and its scope"
		}
	}
	return ""
}

// forbiddenSubject says why a subject is none that its format allows (SAML Core, section 8.3).
func forbiddenSubject(format, v string) string {
	switch {
	case format == saml.FormatEmail:
		return forbidden("mail", v)
	case len(v) > 256 && (format == saml.FormatPersistent || format == saml.FormatTransient):
		return "it is longer than 256 characters"
	}
	return forbidden("", v)
}

// empty is for how many people a claim is released empty.
func (g *Gaps) empty(claim string) int {
	for _, r := range g.Rules {
		if r.Claim == claim {
			return r.Empty
		}
	}
	return 0
}

// judge turns what was seen into findings.
func (g *Gaps) judge(t *Those) {
	for _, r := range g.Rules {
		f := finding.Finding{ID: finding.ClaimsGap, Level: finding.Warning, Check: r.Claim, Of: r.Claim,
			Saw:      fmt.Sprintf("nothing for %d of %d people (%s): %s", r.Empty, g.People, some(r.Who), r.Why),
			Expected: "a value for each whom the trust admits", Side: finding.Provider,
			Fix: finding.Do("give " + some(r.Who) + " a value where people are kept, and load them again").
				Then(finding.Run("people", "load", "FILE")).
				Or(finding.Do("make it of something that they have").Then(finding.Run("claims", "suggest", g.Trust)))}
		if r.Empty == g.People { // nobody has it: the rule is wrong, not the people
			f.Fix = finding.Do("make it of something that people have").Then(finding.Run("claims", "suggest", g.Trust))
		}
		if r.Required {
			f.Level = finding.Error
		}
		g.Findings.Add(f)
	}
	for _, s := range g.Same {
		g.Findings.Add(finding.Finding{ID: finding.ClaimsSameSubject, Level: finding.Error, Check: "subject",
			Saw:      s.Subject + " for " + some(s.People),
			Expected: "a subject of their own for each person: the app takes them for one",
			Side:     finding.Provider, Fix: finding.Run("claims", "set", g.Trust, "--subject", "", "--subject-format",
				"persistent")})
	}
	wrong := map[string]int{} // by claim
	for _, x := range g.Forbidden {
		wrong[x.Claim]++
	}
	for i, x := range g.Forbidden {
		fix := finding.Do("correct it where people are kept, and load them again").
			Then(finding.Run("people", "load", "FILE"))
		if wrong[x.Claim] > 1 && wrong[x.Claim]+g.empty(x.Claim) >= g.People { // the rule is wrong, not the people
			fix = finding.Do("make it of something that its format allows").Then(finding.Run("claims", "suggest",
				g.Trust))
		}
		if i == 20 {
			g.Findings.Add(finding.Finding{ID: finding.ClaimsForbidden, Level: finding.Warning, Check: "values",
				Saw: fmt.Sprintf("%d more", len(g.Forbidden)-i), Expected: "values that their format " +
					"allows", Side: finding.Provider,
				Fix: finding.Do("see them all in JSON: `tressik claims gaps " + g.Trust + " --format json`")})
			break
		}
		g.Findings.Add(finding.Finding{ID: finding.ClaimsForbidden, Level: finding.Warning, Check: x.Claim, Of: x.Claim,
			Saw: fmt.Sprintf("%q for %s: %s", x.Value, x.Person, x.Why), Expected: "a value that its format allows",
			Side: finding.Provider, Fix: fix})
	}
	for _, name := range g.Lacking {
		f := finding.Finding{ID: finding.ClaimsLacking, Level: finding.Warning, Check: name, Of: name,
			Saw:      "no rule releases it",
			Expected: "a rule, since the app wants it", Side: finding.Provider, Fix: finding.Run("claims", "suggest",
				g.Trust)}
		if seen := t.trust.Brought.Seen(name); g.far != "" && seen != "" {
			g.Findings.Pass(finding.ClaimsLacking, name, seen)
			continue
		}
		if g.far != "" {
			f.ID, f.Level, f.Fix = finding.ClaimsNotKnown, finding.Note, finding.Run("watch", g.Trust)
			f.Saw = "not known: no rule says whether " + g.far + " sends it"
		}
		g.Findings.Add(f)
	}
	for _, name := range g.Unasked {
		g.Findings.Add(finding.Finding{ID: finding.ClaimsUnasked, Level: finding.Note, Check: name, Of: name,
			Saw:      "it is released",
			Expected: "only what the app asks for", Side: finding.Provider, Fix: finding.Run("claims", "drop", g.Trust,
				name)})
	}
}

// some names a few of many.
func some(list []string) string {
	if len(list) > 5 {
		return strings.Join(list[:5], ", ") + fmt.Sprintf(" and %d more", len(list)-5)
	}
	return strings.Join(list, ", ")
}

// Suggestion is a rule that would serve people whom the rules of a trust do not.
type Suggestion struct {
	Claim      string         `json:"claim"`
	Now        string         `json:"now,omitempty"` // the rule that is there
	Expression string         `json:"expression"`
	Serves     int            `json:"serves"`    // for how many people it has a value
	ServedNow  int            `json:"servedNow"` // for how many the rule that is there has one
	Because    string         `json:"because"`   // what in the data speaks for it
	Fix        finding.Remedy `json:"fix"`
}

// Suggestions are those for a trust; Without names what nothing in the data would serve.
type Suggestions struct {
	Trust   string       `json:"trust"`
	People  int          `json:"people"`
	List    []Suggestion `json:"suggestions" rows:"each"`
	Without []string     `json:"without"`
}

// Suggest proposes rules for what the app of a trust wants or reads, from the attributes that people really have. It
// changes nothing. Errors: those of Gaps.
func (m *Mapper) Suggest(trust string) (*Suggestions, error) {
	who, err := m.admitted(trust, "")
	if err != nil {
		return nil, err
	}
	g := who.Gaps()
	out := &Suggestions{Trust: trust, People: len(who.all), List: []Suggestion{}, Without: []string{}}
	look := func(claim, now string, empty int) {
		s, ok := who.suggest(claim, now)
		s.ServedNow = len(who.all) - empty
		if !ok || s.Serves <= s.ServedNow {
			out.Without = append(out.Without, claim)
			return
		}
		if s.Fix = finding.Run("claims", "set", trust, claim+"="+s.Expression); claim == federation.Subject {
			s.Fix = finding.Run("claims", "set", trust, "--subject", s.Expression)
		}
		out.List = append(out.List, s)
	}
	for _, name := range g.Lacking {
		look(name, "", len(who.all))
	}
	for _, r := range g.Rules {
		look(r.Claim, r.Expression, r.Empty)
	}
	return out, nil
}

// suggest finds an expression for a claim: the attribute of the same name or meaning, and for those who lack it what
// agrees with it wherever people have both.
func (t *Those) suggest(claim, now string) (Suggestion, bool) {
	s := Suggestion{Claim: claim, Now: now}
	attr := t.attributeOf(claim, now)
	if attr == "" {
		return s, false
	}
	count := people.CensusOf(t.all).Attributes
	s.Expression, s.Serves = t.read(claim, attr), count[attr]
	s.Because = fmt.Sprintf("%d of %d people have %s", count[attr], len(t.all), attr)
	if t.scoped(claim) && !t.allScoped(attr) {
		domain := t.domainOf("mail")
		if identifies(claim) || domain == "" { // a name that nobody gave is no identifier
			return s, false
		}
		s.Expression = fmt.Sprintf("scope(person.%s, %q)", attr, domain)
		s.Because += "; each value gets the domain of their addresses, since the app wants it scoped"
		return s, true
	}
	if s.Serves == len(t.all) || identifies(claim) || strings.HasPrefix(s.Expression, "all(") {
		return s, true
	}
	best, agree, both, more := candidate{}, 0, 0, 0
	for _, c := range candidates(t.all, t.domainOf(attr)) {
		a, b, n := 0, 0, 0
		for i := range t.all {
			have, made := firstOf(&t.all[i], attr), c.of(&t.all[i])
			switch {
			case have != "" && made != "":
				if b++; have == made {
					a++
				}
			case have == "" && made != "":
				n++
			}
		}
		// It must be right for nine in ten of those for whom that can be checked, and there must be some.
		if strings.Contains(c.expression, expr(attr)) || b < 3 || a*10 < b*9 || n == 0 {
			continue
		}
		if n > more || n == more && a > agree {
			best, agree, both, more = c, a, b, n
		}
	}
	if more > 0 {
		s.Expression = fmt.Sprintf("%s ? %s : %s", has(attr), expr(attr), best.expression)
		s.Serves += more
		s.Because += fmt.Sprintf("; for the others %s, which is the same for %d of the %d who have both",
			best.expression, agree, both)
	}
	return s, true
}

// read is how an attribute is read for a claim: all of its values where somebody has several, unless one alone fits.
func (t *Those) read(claim, attr string) string {
	single := claim == federation.Subject || oidc.ScopeOfClaim(claim) != "" || identifies(claim)
	for i := range t.all {
		if !single && len(t.all[i].Attributes[attr]) > 1 {
			return strings.Replace(expr(attr), "first(", "all(", 1)
		}
	}
	return expr(attr)
}

// identifies reports whether a claim names a person, so that nothing may be made up for those who lack it.
func identifies(claim string) bool {
	switch n := strings.ToLower(claims.FriendlyFor(claim)); {
	case n != "":
		return identifies(n)
	default:
		return slices.Contains([]string{federation.Subject, "edupersonprincipalname", "edupersonuniqueid",
			"edupersontargetedid", "edupersonorcid", "urn:oasis:names:tc:saml:attribute:subject-id",
			"urn:oasis:names:tc:saml:attribute:pairwise-id", "subject-id", "pairwise-id", "uid", "employeenumber",
			"entryuuid", "sub"}, strings.ToLower(claim))
	}
}

// scoped reports whether the values of a claim are scoped, by the name that the app wants it under.
func (t *Those) scoped(claim string) bool {
	if judge.ScopedByRegistry(claim) {
		return true
	}
	return slices.ContainsFunc(t.trust.Terms.Wants(t.app), func(w saml.Wanted) bool {
		return (w.Label() == claim || w.Name == claim) && judge.ScopedByRegistry(w.Name)
	})
}

// allScoped reports whether all values of an attribute are scoped as they are.
func (t *Those) allScoped(attr string) bool {
	return !slices.ContainsFunc(t.all, func(p people.Person) bool {
		return slices.ContainsFunc(p.Attributes[attr], func(v string) bool { return !strings.Contains(v, "@") })
	})
}

// has asks in CEL whether a person has an attribute.
func has(attr string) string {
	if strings.HasPrefix(expr(attr), "first(person[") {
		return fmt.Sprintf("%q in person", attr)
	}
	return "has(person." + attr + ")"
}

// domainOf is the domain that most values of an attribute have.
func (t *Those) domainOf(attr string) string {
	n := map[string]int{}
	for i := range t.all {
		if _, d, ok := strings.Cut(firstOf(&t.all[i], attr), "@"); ok {
			n[strings.ToLower(d)]++
		}
	}
	best := ""
	for _, d := range slices.Sorted(maps.Keys(n)) {
		if best == "" || n[d] > n[best] {
			best = d
		}
	}
	return best
}

// attributeOf is the attribute of people that a claim is about: what its rule reads, else the one of its name or of the
// standard's name for it.
func (t *Those) attributeOf(claim, now string) string {
	have := people.CensusOf(t.all).Attributes
	for _, form := range []string{"person.", "first(person.", "all(person."} {
		if a, ok := strings.CutPrefix(now, form); ok {
			if a = strings.TrimSuffix(a, ")"); have[a] > 0 {
				return a
			}
		}
	}
	w := saml.Wanted{Name: claim, Friendly: claim}
	for _, x := range t.trust.Terms.Wants(t.app) {
		if x.Label() == claim || x.Name == claim {
			w = x
		}
	}
	a, _ := federation.NearestAttribute(w, have)
	return a
}

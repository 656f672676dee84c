package layout

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/face/format"
	"tressik.example/internal/outside/aggregate"
)

// Verification is the outcome of verifying a metadata document.
func Verification(v *aggregate.Verification, now time.Time) format.Page {
	f := [][2]string{{"verdict", string(v.Verdict)}}
	if v.Survey != nil {
		f = append(f, document(v.Survey, now)...)
	}
	for i, id := range v.Entities {
		if i == 5 {
			f = append(f, [2]string{"holds", fmt.Sprintf("and %d more", len(v.Entities)-5)})
			break
		}
		f = append(f, [2]string{"holds", cmp.Or(id, "(one without an entity ID)")})
	}
	return format.Page{Data: v, Blocks: []format.Block{{Fields: f}, {Findings: v.Findings, Passed: true}}}
}

// document are the facts of a metadata document for a person.
func document(s *saml.Survey, now time.Time) [][2]string {
	f := [][2]string{{"entities", thousands(s.Entities) + roles(s)}}
	if s.Name != "" {
		f = append(f, [2]string{"name", s.Name})
	}
	if s.Aggregate && s.Groups > 0 {
		f = append(f, [2]string{"groups", fmt.Sprint(s.Groups)})
	}
	if s.ValidUntil != nil {
		f = append(f, [2]string{"valid until", format.When(*s.ValidUntil, now)})
	}
	if s.CacheDuration != "" {
		f = append(f, [2]string{"to be read again after", s.CacheDuration})
	}
	return f
}

// roles says how many entities have which role.
func roles(s *saml.Survey) string {
	var out []string
	for _, r := range slices.Sorted(maps.Keys(s.Roles)) {
		out = append(out, fmt.Sprintf("%s %s", thousands(s.Roles[r]), roleWord(r)))
	}
	if len(out) == 0 {
		return ""
	}
	return ": " + strings.Join(out, ", ")
}

// roleWord is what people call a role descriptor.
func roleWord(r string) string {
	switch r {
	case "IDPSSODescriptor":
		return "provider"
	case "SPSSODescriptor":
		return "app"
	}
	return strings.TrimSuffix(r, "Descriptor")
}

// thousands writes a number with spaces between its thousands.
func thousands(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}

// firstOf is how many entities the survey of a document lists.
const firstOf = 10

// Document is what a metadata document holds; list are the entities in it, or the first ones.
func Document(name string, r DocumentRead, now time.Time) format.Page {
	s, list := r.Survey, r.List
	f := append(document(s, now), [2]string{"signature", r.Signature})
	blocks := []format.Block{{Title: name, Fields: f}}
	if fs := r.Findings.Without(finding.Pass); len(fs) > 0 {
		blocks = append(blocks, format.Block{Title: "Issues", Findings: fs})
	}
	title := "Entities"
	if s.Entities > len(list) {
		title = fmt.Sprintf("The first %d of %s entities", len(list), thousands(s.Entities))
	}
	b := entities(list)
	b.Title, b.Noun = title, ""
	blocks = append(blocks, b)
	if s.Entities > len(list) {
		blocks = append(blocks, format.Block{Lines: []string{
			"  " + format.Remedy(finding.Run("metadata", "find", name, "WORD")) +
				" looks for one, by whatever is known of it"}})
	}
	return format.Page{Data: r, Blocks: blocks}
}

// DocumentRead is what is told of a document of metadata with many entities.
type DocumentRead struct {
	*saml.Survey
	Signature string        `json:"signature"`
	List      []saml.Listed `json:"list" rows:"each"`
	Broken    []saml.Listed `json:"broken"`
	Doubtful  []saml.Listed `json:"doubtful"`
	Findings  finding.List  `json:"findings"`
}

// FirstOf returns how many entities Document lists.
func FirstOf() int { return firstOf }

func entities(list []saml.Listed) format.Block {
	b := format.Block{Head: []string{"Entity", "Is", "Name"}, Noun: "entity"}
	for _, l := range list {
		words := make([]string, len(l.Roles))
		for i, r := range l.Roles {
			words[i] = roleWord(r)
		}
		is := strings.Join(words, ", ")
		if len(l.Problems) > 0 {
			is += " (broken)"
		} else if len(l.Doubts) > 0 {
			is += " (in doubt)"
		}
		name := ""
		if len(l.Names) > 0 {
			name = l.Names[0]
		}
		b.Rows = append(b.Rows, []string{cmp.Or(l.EntityID, "(none, line "+fmt.Sprint(l.Line)+")"), is, name})
	}
	return b
}

// FoundEntities is what a search in a document came to.
func FoundEntities(name string, f *aggregate.Found, what saml.Sought, over finding.List) format.Page {
	list := f.Entities
	if list == nil {
		list = []saml.Listed{}
	}
	b := entities(list)
	b.Empty = fmt.Sprintf("None of the %s entities matches; ask for less.", thousands(f.Survey.Entities))
	if what.BrokenAlone() {
		b.Empty = fmt.Sprintf("None of the %s entities is broken or in doubt.", thousands(f.Survey.Entities))
	}
	blocks := []format.Block{b}
	if over = over.Without(finding.Pass); len(over) > 0 {
		blocks = append(blocks, format.Block{Title: "The document itself", Findings: over})
	}
	if len(list) == 1 {
		blocks = append(blocks, format.Block{Fields: listed(&list[0])},
			format.Block{Lines: []string{"  " + format.Remedy(
				finding.Run("metadata", "read", name, "--entity", list[0].EntityID)) + " shows all of it"}})
	}
	return format.Page{Data: list, Blocks: blocks}
}

// listed are the facts by which an entity is found.
func listed(l *saml.Listed) [][2]string {
	var f [][2]string
	add := func(label string, values ...string) {
		for _, v := range values {
			if v != "" {
				f = append(f, [2]string{label, v})
			}
		}
	}
	add("name", l.Names...)
	add("domain", l.Domains...)
	add("speaks for", l.Scopes...)
	add("speaks for (pattern)", l.Patterns...)
	add("category", l.Categories...)
	add("supports", l.Supports...)
	add("assurance", l.Assurance...)
	add("wants to know people by", l.Identifier...)
	add("entity attribute", l.Attributes...)
	add("registered by", l.Authority)
	for _, c := range l.Contacts {
		add(c.Type+" contact", strings.TrimSpace(c.Name+"  "+strings.Join(c.Email, ", ")))
	}
	add("broken", l.Problems...)
	add("in doubt", l.Doubts...)
	return f
}

// Entity is all that one entity of a document says, with what is wanting in it, as whatever it is.
func Entity(e *saml.Entity, l *saml.Listed, now time.Time) (page format.Page, fs finding.List) {
	shown := *l
	shown.Doubts = nil // they are said below, each where it belongs
	top := format.Block{Title: e.ID, Fields: listed(&shown)}
	if e.ValidUntil != nil {
		top.Fields = append(top.Fields, [2]string{"valid until", format.When(*e.ValidUntil, now)})
	}
	blocks := []format.Block{top}
	all := finding.List{}
	for _, kind := range []federation.Kind{federation.Provider, federation.App} {
		p := federation.Party{Name: e.ID, Kind: kind, Entity: *e}
		r := p.Role()
		if r == nil {
			continue
		}
		fs := saml.JudgeEntity(e, kind.Side(), now)
		all = append(all, fs...)
		blocks = append(blocks, format.Block{Title: "As " +
			map[federation.Kind]string{federation.Provider: "a provider",
				federation.App: "an app"}[kind], Findings: fs}, endpointBlock(&p, r), keyBlock(&p, r, now),
			wishes(&p, r))
		if len(r.Wanted) > 0 {
			blocks = append(blocks, wanted(r))
		}
	}
	if e.IDP == nil && e.SP == nil {
		if fs := saml.JudgeRoles(e, now); len(fs) > 0 {
			all = append(all, fs...)
			blocks = append(blocks, format.Block{Title: "As neither a provider nor an app", Findings: fs})
		}
	}
	if fs := aggregate.Beside(*l, e, now); len(fs) > 0 {
		all = append(all, fs...)
		blocks = append(blocks, format.Block{Title: "Before it is published", Findings: fs})
	}
	return format.Page{Data: EntityRead{e, l, all}, Blocks: blocks}, all
}

// EntityRead is what is told of one entity of metadata.
type EntityRead struct {
	*saml.Entity
	Listed   *saml.Listed `json:"listed"`
	Findings finding.List `json:"findings" rows:"each"`
}

// unusable are the entities among those written that cannot be used as they are.
func unusable(list []aggregate.Written) []aggregate.Written {
	return slices.DeleteFunc(slices.Clone(list), func(w aggregate.Written) bool {
		return len(w.Problems)+len(w.Doubts) == 0
	})
}

// Split is what was written of a document, a file for each entity.
func Split(dir string, list []aggregate.Written) format.Page {
	lines := []string{format.Count(len(list), "file") + " in " + dir}
	for i, w := range list {
		if i == firstOf && len(list) > firstOf+1 {
			lines = append(lines, fmt.Sprintf("  and %s more", thousands(len(list)-firstOf)))
			break
		}
		lines = append(lines, "  "+w.File)
	}
	for i, w := range unusable(list) {
		if i == firstOf {
			lines = append(lines, "and more that cannot be used, or should not be published, as they are")
			break
		}
		if len(w.Problems) > 0 {
			lines = append(lines, w.EntityID+" cannot be used as it is: "+strings.Join(w.Problems, "; "))
		}
		if len(w.Doubts) > 0 {
			lines = append(lines, w.EntityID+" should not be published as it is: "+strings.Join(w.Doubts, "; "))
		}
	}
	return format.Page{Data: list, Blocks: []format.Block{{Lines: lines}}}
}

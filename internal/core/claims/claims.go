// Package claims turns a person's attributes into the claims and the subject that an app receives. The rules are
// expressions of the Common Expression Language over `person` and `groups`.
package claims

import (
	"errors"
	"fmt"
	"sort"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"

	"tressik.example/internal/core/people"
	"tressik.example/internal/core/saml"
)

// Rule releases one attribute.
type Rule struct {
	Claim      string `json:"claim"`      // the administrator's name of it, such as mail
	Expression string `json:"expression"` // CEL
	Name       string `json:"name"`       // SAML attribute name
	NameFormat string `json:"nameFormat"`
	When       string `json:"when,omitempty"`   // CEL: nothing is released where it is false; "" is always
	Single     bool   `json:"single,omitempty"` // more than one value is an error
	Roles      *Roles `json:"roles,omitempty"`  // the table that the expression is made of
}

// Roles is a table of which group gets which role.
type Roles struct {
	Of      []RoleOf `json:"of"`
	Default string   `json:"default,omitempty"` // where none fits; "" releases nothing
	Several string   `json:"several"`           // where several fit: first in the table, or all
}

// RoleOf is the role of a group.
type RoleOf struct {
	Group string `json:"group"`
	Role  string `json:"role"`
}

// Expression is the table as an expression.
func (r *Roles) Expression() string {
	var b strings.Builder
	if r.Several == "all" {
		for i, x := range r.Of {
			if i > 0 {
				b.WriteString(" + ")
			}
			fmt.Fprintf(&b, "(%q in groups ? [%q] : [])", x.Group, x.Role)
		}
		if r.Default == "" {
			return b.String()
		}
		any := make([]string, len(r.Of))
		for i, x := range r.Of {
			any[i] = fmt.Sprintf("%q in groups", x.Group)
		}
		return fmt.Sprintf("%s ? %s : [%q]", strings.Join(any, " || "), b.String(), r.Default)
	}
	for _, x := range r.Of {
		fmt.Fprintf(&b, "%q in groups ? %q : ", x.Group, x.Role)
	}
	fmt.Fprintf(&b, "%q", r.Default)
	return b.String()
}

// Standard returns the standard SAML name of a common attribute (eduPerson, inetOrgPerson, schac; X.500/LDAP attribute
// profile, SAML Profiles 8.2). ok is false for names it does not know.
func Standard(claim string) (name string, ok bool) {
	oid, ok := standardOIDs()[strings.ToLower(claim)]
	if !ok {
		return "", false
	}
	return "urn:oid:" + oid[1], true
}

// FriendlyFor returns the friendly name of a standard attribute name, or "".
func FriendlyFor(name string) string {
	for _, v := range standardOIDs() {
		if "urn:oid:"+v[1] == name {
			return v[0]
		}
	}
	return ""
}

func standardOIDs() map[string][2]string {
	out := map[string][2]string{}
	for _, line := range strings.Split(`mail 0.9.2342.19200300.100.1.3
uid 0.9.2342.19200300.100.1.1
displayName 2.16.840.1.113730.3.1.241
givenName 2.5.4.42
sn 2.5.4.4
cn 2.5.4.3
o 2.5.4.10
ou 2.5.4.11
title 2.5.4.12
telephoneNumber 2.5.4.20
mobile 0.9.2342.19200300.100.1.41
employeeNumber 2.16.840.1.113730.3.1.3
departmentNumber 2.16.840.1.113730.3.1.2
preferredLanguage 2.16.840.1.113730.3.1.39
eduPersonPrincipalName 1.3.6.1.4.1.5923.1.1.1.6
eduPersonAffiliation 1.3.6.1.4.1.5923.1.1.1.1
eduPersonScopedAffiliation 1.3.6.1.4.1.5923.1.1.1.9
eduPersonEntitlement 1.3.6.1.4.1.5923.1.1.1.7
eduPersonUniqueId 1.3.6.1.4.1.5923.1.1.1.13
eduPersonAssurance 1.3.6.1.4.1.5923.1.1.1.11
eduPersonOrcid 1.3.6.1.4.1.5923.1.1.1.16
isMemberOf 1.3.6.1.4.1.5923.1.5.1.1
schacHomeOrganization 1.3.6.1.4.1.25178.1.2.9`, "\n") {
		n, oid, _ := strings.Cut(line, " ")
		out[strings.ToLower(n)] = [2]string{n, oid}
	}
	return out
}

// CompileError says where an expression is wrong. Column counts from 1.
type CompileError struct {
	Expression string
	Column     int
	Reason     string
}

func (e *CompileError) Error() string {
	return fmt.Sprintf("%s\n  %s\n  %s^ column %d", e.Reason, e.Expression, strings.Repeat(" ", max(0, e.Column-1)),
		e.Column)
}

// ErrMissing means that a person lacks what an expression reads: nothing is released, which is no failure.
var ErrMissing = errors.New("the person has no such attribute")

// errEmpty is the ErrMissing of who is in no group, where the first is asked for.
var errEmpty error = lacking("nothing is in the list")

type lacking string

func (l lacking) Error() string        { return string(l) }
func (l lacking) Is(target error) bool { return target == ErrMissing }

// emptyList stands for the key that a list without values has not got.
const emptyList = "empty list"

// Engine compiles and evaluates expressions.
type Engine struct {
	env    *cel.Env
	strict bool // of rules that are entered
}

// NewEngine makes an engine. It takes some milliseconds; make one for many expressions.
func NewEngine() (*Engine, error) {
	env, err := cel.NewEnv(
		cel.Variable("person", cel.MapType(cel.StringType, cel.DynType)),
		cel.Variable("groups", cel.ListType(cel.StringType)),
		cel.Variable("pairwise", cel.StringType),
		ext.Strings(),
		cel.Lib(library{}),
	)
	if err != nil {
		return nil, fmt.Errorf("setting up the expression language: %w", err)
	}
	return &Engine{env: env}, nil
}

// library puts the functions for mapping into the language.
type library struct{}

// CompileOptions are the functions.
func (library) CompileOptions() []cel.EnvOption { return functions() }

// ProgramOptions are none.
func (library) ProgramOptions() []cel.ProgramOption { return nil }

// costLimit bounds what one evaluation may cost, in the language's own units.
const costLimit = 100000

// variables are what an expression reads.
func variables(person *people.Person, pairwise string) map[string]any {
	attrs := make(map[string]any, len(person.Attributes))
	for k, v := range person.Attributes {
		if len(v) == 1 {
			attrs[k] = v[0]
		} else if len(v) > 1 {
			attrs[k] = v
		}
	}
	return map[string]any{"person": attrs, "groups": person.Groups, "pairwise": pairwise}
}

// firstOf is first(person.mail): the first value where there may be several.
func firstOf(v ref.Val) ref.Val {
	if l, ok := v.(traits.Lister); ok {
		if l.Size() == types.IntZero {
			return types.NewErr("no such key: " + emptyList)
		}
		return l.Get(types.IntZero)
	}
	return v
}

// allOf is all(person.mail): a list where there may be one value.
func allOf(v ref.Val) ref.Val {
	if _, ok := v.(traits.Lister); ok {
		return v
	}
	return types.DefaultTypeAdapter.NativeToValue([]ref.Val{v})
}

// Program is a compiled expression.
type Program struct {
	prg   cel.Program
	reads []string
}

// Reads lists the attributes of the person that the expression names.
func (p *Program) Reads() []string { return p.reads }

// Strict is the engine for rules that are entered: it refuses a value in an expression that would be taken for nobody,
// which in a rule that stands already releases nothing.
func (e *Engine) Strict() *Engine { return &Engine{e.env, true} }

// Compile compiles an expression. A failure is a *CompileError.
func (e *Engine) Compile(expr string) (*Program, error) {
	if strings.TrimSpace(expr) == "" {
		return nil, &CompileError{Expression: expr, Column: 1, Reason: "the expression is empty"}
	}
	ast, iss := e.env.Compile(expr)
	if iss.Err() != nil {
		first := iss.Errors()[0]
		reason := first.Message
		if strings.Contains(reason, "undeclared reference to") {
			reason += "; an expression reads `person.ATTRIBUTE` and `groups`, and text stands in quotes"
		}
		return nil, &CompileError{Expression: expr, Column: first.Location.Column() + 1, Reason: reason}
	}
	switch k := ast.OutputType().Kind(); k {
	case types.StringKind, types.ListKind, types.DynKind, types.BoolKind, types.IntKind, types.UintKind,
		types.DoubleKind:
	default:
		return nil, &CompileError{Expression: expr, Column: 1, Reason: fmt.Sprintf(
			"it yields %s; a claim is text, a number, true or false, or a list of those", typeWords(ast.OutputType()))}
	}
	if e.strict {
		if err := literals(expr, ast); err != nil {
			return nil, err
		}
	}
	prg, err := e.env.Program(ast, cel.CostLimit(costLimit))
	if err != nil {
		return nil, &CompileError{Expression: expr, Column: 1, Reason: err.Error()}
	}
	return &Program{prg, reads(expr)}, nil
}

// Condition compiles an expression that is true or false. A failure is a *CompileError.
func (e *Engine) Condition(expr string) (*Program, error) {
	p, err := e.Compile(expr)
	if err != nil {
		return nil, err
	}
	tree, _ := e.env.Compile(expr)
	if k := tree.OutputType().Kind(); k != types.BoolKind && k != types.DynKind {
		return nil, &CompileError{Expression: expr, Column: 1,
			Reason: fmt.Sprintf("it yields %s, and a condition is true or false", typeWords(tree.OutputType()))}
	}
	return p, nil
}

// holds reports whether a condition is true for a person; one that fails is not.
func (p *Program) holds(vars map[string]any) bool {
	v, err := p.evaluate(vars)
	return err == nil && len(v) == 1 && v[0] == "true"
}

// reads finds person.NAME and person["NAME"] in an expression, for hints.
func reads(expr string) []string {
	var out []string
	for rest := expr; ; {
		i := strings.Index(rest, "person")
		if i < 0 {
			return out
		}
		rest = rest[i+len("person"):]
		var name string
		switch {
		case strings.HasPrefix(rest, "."):
			n := 1
			for n < len(rest) && (rest[n] == '_' || rest[n] >= '0' && rest[n] <= '9' ||
				rest[n]|32 >= 'a' && rest[n]|32 <= 'z') {
				n++
			}
			if n < len(rest) && rest[n] == '(' {
				continue
			}
			name = rest[1:n]
		case strings.HasPrefix(rest, `["`), strings.HasPrefix(rest, "['"):
			name, _, _ = strings.Cut(rest[2:], rest[1:2])
		}
		if name != "" {
			out = append(out, name)
		}
	}
}

// Evaluate returns the values an expression yields for a person: none with ErrMissing where the person lacks what it
// reads, an error with the reason for all else. pairwise is the name by which the one app that the expression is for
// knows the person.
func (p *Program) Evaluate(person *people.Person, pairwise string) ([]string, error) {
	return p.evaluate(variables(person, pairwise))
}

func (p *Program) evaluate(vars map[string]any) ([]string, error) {
	out, _, err := p.prg.Eval(vars)
	if err != nil {
		if msg := err.Error(); strings.Contains(msg, "no such key") {
			_, key, _ := strings.Cut(msg, "no such key: ")
			if _, err := strconv.Atoi(key); err == nil {
				return nil, fmt.Errorf("there is no value number %s, counted from 0; an attribute with one value is "+
					"text and no list: use first(…)", key)
			}
			if key == emptyList {
				return nil, errEmpty
			}
			return nil, fmt.Errorf("%w: %s", ErrMissing, key)
		}
		if strings.Contains(err.Error(), "no such overload") {
			return nil,
				fmt.Errorf("the values do not fit together (%v); an attribute with several values is a list: use "+
					"first(…)", err)
		}
		return nil, err
	}
	return texts(out)
}

func texts(v ref.Val) ([]string, error) {
	if l, ok := v.(traits.Lister); ok {
		var out []string
		for it := l.Iterator(); it.HasNext() == types.True; {
			one, err := texts(it.Next())
			if err != nil {
				return nil, err
			}
			out = append(out, one...)
		}
		return out, nil
	}
	switch x := v.Value().(type) {
	case string:
		if x == "" {
			return nil, nil
		}
		return []string{x}, nil
	case bool:
		return []string{strconv.FormatBool(x)}, nil
	case int64:
		return []string{strconv.FormatInt(x, 10)}, nil
	case uint64:
		return []string{strconv.FormatUint(x, 10)}, nil
	case float64:
		return []string{strconv.FormatFloat(x, 'g', -1, 64)}, nil
	}
	return nil, fmt.Errorf("a claim is text, a number, true or false, or a list of those, not %s", v.Type())
}

// Gap says why a rule releases nothing for a person.
type Gap struct {
	Claim  string `json:"claim"`
	Reason string `json:"reason"`
}

// Release is a set of compiled rules.
type Release struct {
	rules []Rule
	progs []*Program
	whens []*Program // nil where a rule is always released
}

// Prepare compiles rules for use for many persons.
func (e *Engine) Prepare(rules []Rule) (*Release, error) {
	r := &Release{rules: rules}
	for _, x := range rules {
		p, err := e.Compile(x.Expression)
		if err != nil {
			return nil, fmt.Errorf("claim %s: %w", x.Claim, err)
		}
		var when *Program
		if x.When != "" {
			if when, err = e.Condition(x.When); err != nil {
				return nil, fmt.Errorf("claim %s, when: %w", x.Claim, err)
			}
		}
		r.progs, r.whens = append(r.progs, p), append(r.whens, when)
	}
	return r, nil
}

// For returns the attributes released for a person, and for each rule that releases nothing the reason.
func (r *Release) For(p *people.Person, pairwise string) ([]saml.Attribute, []Gap) {
	var gaps []Gap
	out := make([]saml.Attribute, 0, len(r.rules))
	vars := variables(p, pairwise)
	for i, x := range r.rules {
		if r.whens[i] != nil && !r.whens[i].holds(vars) {
			continue
		}
		vals, err := r.progs[i].evaluate(vars)
		if err == nil && x.Single && len(vals) > 1 {
			err = fmt.Errorf("it yields %d values, and one is allowed", len(vals))
		}
		if err != nil || len(vals) == 0 {
			reason := "it yields nothing"
			if err != nil {
				reason = err.Error()
			}
			gaps = append(gaps, Gap{x.Claim, reason})
			continue
		}
		friendly := x.Claim
		if friendly == x.Name {
			friendly = ""
		}
		out = append(out, saml.Attribute{Name: x.Name, Format: x.NameFormat, Friendly: friendly, Values: vals})
	}
	return out, gaps
}

// Set puts a rule into a list, in place of the one with the same claim, and keeps the list sorted by claim.
func Set(rules []Rule, r Rule) []Rule {
	out := []Rule{r}
	for _, x := range rules {
		if x.Claim != r.Claim {
			out = append(out, x)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Claim < out[j].Claim })
	return out
}

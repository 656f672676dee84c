package claims

import (
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/parser"

	"tressik.example/internal/core/people"
)

// Step is a part of an expression with what it yields for a person.
type Step struct {
	Part   string   `json:"part"`
	Values []string `json:"values"`
	Wrong  string   `json:"wrong,omitempty"` // why it yields nothing
}

// Explain evaluates an expression for a person and says what each part of it yields, the innermost first, up to the
// whole. pairwise is as in Evaluate. Parts that are not reached, such as the other branch of a choice, are left out.
// Errors: a *CompileError.
func (e *Engine) Explain(expr string, p *people.Person, pairwise string) ([]Step, error) {
	if _, err := e.Compile(expr); err != nil {
		return nil, err
	}
	tree, iss := e.env.Compile(expr)
	if iss.Err() != nil {
		return nil, iss.Err()
	}
	prg, err := e.env.Program(tree, cel.CostLimit(costLimit), cel.EvalOptions(cel.OptTrackState))
	if err != nil {
		return nil, err
	}
	_, details, _ := prg.Eval(variables(p, pairwise)) // what went wrong stands at its part
	var out []Step
	native := tree.NativeRep()
	if details == nil {
		return out, nil
	}
	ast.PostOrderVisit(native.Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		if x.Kind() == ast.LiteralKind || x.Kind() == ast.IdentKind && x.AsIdent() == "person" {
			return
		}
		v, reached := details.State().Value(x.ID())
		if !reached {
			return
		}
		part, err := parser.Unparse(x, native.SourceInfo())
		if err != nil || slices.ContainsFunc(out, func(s Step) bool { return s.Part == part }) {
			return
		}
		out = append(out, step(Masked(part), v))
	}))
	return out, nil
}

func step(part string, v ref.Val) Step {
	s := Step{Part: part, Values: []string{}}
	if types.IsError(v) {
		s.Wrong = v.(*types.Err).Error()
		if _, key, ok := strings.Cut(s.Wrong, "no such key: "); ok {
			s.Wrong = "the person has no " + key
		}
		return s
	}
	if m, ok := v.(traits.Mapper); ok && m.Size() != types.IntZero {
		return s
	}
	if list, err := texts(v); err == nil && list != nil {
		s.Values = list
	}
	return s
}

package claims

import (
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
)

// literals finds a value that stands in an expression itself and could be taken for nobody: a pattern that is none, a
// form of a time that there is not.
func literals(expr string, tree *cel.Ast) error {
	var found *CompileError
	of := tree.NativeRep()
	ast.PostOrderVisit(of.Expr(), ast.NewExprVisitor(func(x ast.Expr) {
		if x.Kind() != ast.CallKind || found != nil {
			return
		}
		call := x.AsCall()
		args := call.Args()
		var check func(string) error
		switch name := call.FunctionName(); {
		case name == "matches" && call.IsMemberFunction() && len(args) == 1:
			check = badPattern
		case (name == "matches" || name == "replacePattern") && len(args) > 1:
			args, check = args[1:2], badPattern
		case name == "time" && len(args) == 2:
			args, check = args[1:], badForm
		default:
			return
		}
		if args[0].Kind() != ast.LiteralKind {
			return
		}
		if s, is := args[0].AsLiteral().Value().(string); is {
			if err := check(s); err != nil {
				at := of.SourceInfo().GetStartLocation(args[0].ID())
				found = &CompileError{Expression: expr, Column: at.Column() + 1, Reason: err.Error()}
			}
		}
	}))
	if found == nil {
		return nil
	}
	return found
}

// badPattern says why a text is no pattern, as RE2 has them.
func badPattern(s string) error {
	_, err := regexp.Compile(s)
	var bad *syntax.Error
	if errors.As(err, &bad) {
		return fmt.Errorf("%q is no pattern: %s at %q", s, bad.Code, bad.Expr)
	}
	return err
}

// timeForms are the forms in which time writes one.
func timeForms() []string { return []string{"rfc3339", "date", "generalized", "seconds"} }

func badForm(s string) error {
	if slices.Contains(timeForms(), s) {
		return nil
	}
	return fmt.Errorf("%q is no form of a time: %s", s, strings.Join(timeForms(), ", "))
}

// typeWords say of what type a value is.
func typeWords(t *cel.Type) string {
	switch t.Kind() {
	case types.NullTypeKind:
		return "nothing (null)"
	case types.MapKind:
		return "a map"
	case types.BytesKind:
		return "bytes"
	case types.TimestampKind:
		return "a point in time; string(…) makes a text of it"
	case types.DurationKind:
		return "a span of time; string(…) makes a text of it"
	case types.TypeKind:
		return "a type"
	case types.StringKind:
		return "a text"
	case types.ListKind:
		return "a list"
	case types.IntKind, types.UintKind, types.DoubleKind:
		return "a number"
	}
	return "a " + t.String()
}

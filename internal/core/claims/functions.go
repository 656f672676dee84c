package claims

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// functions are what mapping needs beyond the language and its strings: first, all, default, lower, upper, scope,
// replacePattern, hashed, time.
func functions() []cel.EnvOption {
	text := func(name string, n int, f func(args []string) (string, error)) cel.EnvOption {
		kinds := make([]*cel.Type, n)
		for i := range kinds {
			kinds[i] = cel.DynType
		}
		return cel.Function(name, cel.Overload(name+"_text", kinds, cel.DynType,
			cel.FunctionBinding(func(args ...ref.Val) ref.Val { return overEach(name, args, f) })))
	}
	return []cel.EnvOption{
		cel.Function("first", cel.Overload("first_dyn", []*cel.Type{cel.DynType}, cel.StringType,
			cel.UnaryBinding(firstOf))),
		cel.Function("all", cel.Overload("all_dyn", []*cel.Type{cel.DynType}, cel.ListType(cel.StringType),
			cel.UnaryBinding(allOf))),
		cel.Macros(cel.GlobalMacro("default", 2, orElse)),
		text("lower", 1, func(a []string) (string, error) { return strings.ToLower(a[0]), nil }),
		text("upper", 1, func(a []string) (string, error) { return strings.ToUpper(a[0]), nil }),
		text("scope", 2, func(a []string) (string, error) {
			local, _, _ := strings.Cut(a[0], "@")
			return local + "@" + a[1], nil
		}),
		text("replacePattern", 3, func(a []string) (string, error) {
			re, err := regexp.Compile(a[1]) // RE2: it ends in time linear in the text
			if err != nil {
				return "", badPattern(a[1])
			}
			return re.ReplaceAllString(a[0], a[2]), nil
		}),
		text("hashed", 2, func(a []string) (string, error) {
			m := hmac.New(sha256.New, []byte(a[1]))
			m.Write([]byte(a[0]))
			return hex.EncodeToString(m.Sum(nil)), nil
		}),
		text("time", 2, timeAs),
	}
}

// overEach applies a function of texts: where its first is a list, to each of its values, and what comes out twice is
// there once. No value is dropped; of the others each is one.
func overEach(name string, args []ref.Val, f func(args []string) (string, error)) ref.Val {
	words := make([]string, len(args))
	for i, a := range args[1:] {
		s, ok := only(a).Value().(string)
		if !ok {
			return types.NewErr("%s: value %d is no text, or several", name, i+2)
		}
		words[i+1] = s
	}
	each := func(v ref.Val) (string, ref.Val) {
		s, ok := v.Value().(string)
		if !ok {
			return "", types.NewErr("%s: value 1 is no text", name)
		}
		words[0] = s
		out, err := f(words)
		if err != nil {
			return "", types.NewErr("%s: %v", name, err)
		}
		return out, nil
	}
	list, many := only(args[0]).(traits.Lister)
	if !many {
		out, bad := each(only(args[0]))
		if bad != nil {
			return bad
		}
		return types.String(out)
	}
	var all []string
	for it := list.Iterator(); it.HasNext() == types.True; {
		out, bad := each(it.Next())
		if bad != nil {
			return bad
		}
		if !slices.Contains(all, out) {
			all = append(all, out)
		}
	}
	if len(all) == 0 {
		return types.NewErr("no such key: " + emptyList)
	}
	return types.NewStringList(types.DefaultTypeAdapter, all)
}

// only is the one value of a list that has one; of another it is the list.
func only(v ref.Val) ref.Val {
	if l, ok := v.(traits.Lister); ok && l.Size() == types.IntOne {
		return l.Get(types.IntZero)
	}
	return v
}

// orElse is the macro default(person.title, "none"): the attribute where the person has it, else the other value.
func orElse(f cel.MacroExprFactory, _ ast.Expr, args []ast.Expr) (ast.Expr, *cel.Error) {
	if args[0].Kind() != ast.SelectKind {
		return nil, f.NewError(args[0].ID(), "default reads an attribute: default(person.title, \"none\")")
	}
	s := args[0].AsSelect()
	return f.NewCall("_?_:_", f.NewPresenceTest(f.Copy(s.Operand()), s.FieldName()), args[0], args[1]), nil
}

// timeAs writes a time in another form: of a directory (GeneralizedTime, RFC 4517, section 3.3.13), RFC 3339 or seconds
// since 1970, as rfc3339, date, generalized or seconds.
func timeAs(a []string) (string, error) {
	var t time.Time
	var err error
	for _, layout := range []string{"20060102150405Z0700", "20060102150405Z", "20060102150405.9Z0700", "200601021504Z",
		time.RFC3339,
		time.DateOnly} {
		if t, err = time.Parse(layout, a[0]); err == nil {
			break
		}
	}
	if err != nil {
		return "", fmt.Errorf("%q is no time such as 20310304090000Z or 2031-03-04T09:00:00Z", a[0])
	}
	switch t = t.UTC(); a[1] {
	case "rfc3339":
		return t.Format(time.RFC3339), nil
	case "date":
		return t.Format(time.DateOnly), nil
	case "generalized":
		return t.Format("20060102150405Z"), nil
	case "seconds":
		return fmt.Sprint(t.Unix()), nil
	}
	return "", badForm(a[1])
}

package claims

import (
	"testing"

	"tressik.example/internal/core/people"
)

// FuzzExpression compiles claim expressions and evaluates what compiles: values or an error, in the time that is given.
func FuzzExpression(f *testing.F) {
	f.Add("person.mail")
	f.Add(`first(person.mail).lowerAscii() + "@" + groups[0]`)
	f.Add(`groups.filter(g, g.startsWith("o")).map(g, g + "x")`)
	f.Add("person[")
	f.Add("[1,2,3].all(x, x > 0) ? \"a\" : person.none")
	e, err := NewEngine()
	if err != nil {
		f.Fatal(err)
	}
	p := &people.Person{ID: "mira", Groups: []string{"observers"}, Attributes: map[string][]string{
		"uid": {"mira"}, "mail": {"mira@kestrelridge.example", "m@kestrelridge.example"}}}
	f.Fuzz(func(t *testing.T, expr string) {
		prg, err := e.Compile(expr)
		if err != nil {
			_ = err.Error()
			return
		}
		_ = prg.Reads()
		_, _ = prg.Evaluate(p, "") // whatever it yields, it must not panic
	})
}

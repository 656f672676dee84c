package charter

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"tressik.example/internal/core/keys"
	"tressik.example/internal/work/mapping"
)

// merged is what a declaration makes of a part of a ledger: what it says goes before what is there. Lists and maps that
// it names keep what else they have, unless take says that it is taken away; what it does not name stays. Neither
// argument is changed.
func merged[T any](is, says T, take bool) T {
	return merge(reflect.ValueOf(is), reflect.ValueOf(says), take).Interface().(T)
}

func merge(is, says reflect.Value, take bool) reflect.Value {
	switch t := says.Type(); t.Kind() {
	case reflect.Pointer:
		switch {
		case says.IsNil():
			return is
		case is.IsNil():
			return says
		case t.Elem().Kind() != reflect.Struct:
			return says
		}
		out := reflect.New(t.Elem())
		out.Elem().Set(merge(is.Elem(), says.Elem(), take))
		return out
	case reflect.Struct:
		if t == reflect.TypeFor[mapping.ClaimDocument]() {
			return says
		}
		out := reflect.New(t).Elem()
		for i := range t.NumField() {
			out.Field(i).Set(merge(is.Field(i), says.Field(i), take))
		}
		return out
	case reflect.Map:
		if says.IsNil() {
			return is
		}
		out := reflect.MakeMap(t)
		for _, k := range is.MapKeys() {
			if !take || says.MapIndex(k).IsValid() {
				out.SetMapIndex(k, is.MapIndex(k))
			}
		}
		for _, k := range says.MapKeys() {
			v := says.MapIndex(k)
			if old := is.MapIndex(k); old.IsValid() {
				v = merge(old, v, take)
			}
			out.SetMapIndex(k, v)
		}
		return out
	case reflect.Slice:
		return mergeLists(is, says, take)
	}
	if says.IsZero() {
		return is
	}
	return says
}

// mergeLists keeps the order of what is there; what is new comes behind.
func mergeLists(is, says reflect.Value, take bool) reflect.Value {
	if says.IsNil() {
		return is
	}
	out := reflect.MakeSlice(says.Type(), 0, says.Len())
	of := func(list reflect.Value, name string) (reflect.Value, bool) {
		for i := range list.Len() {
			if named(list.Index(i)) == name {
				return list.Index(i), true
			}
		}
		return reflect.Value{}, false
	}
	for i := range is.Len() {
		v, declared := of(says, named(is.Index(i)))
		switch {
		case declared:
			out = reflect.Append(out, v)
		case !take:
			out = reflect.Append(out, is.Index(i))
		}
	}
	for i := range says.Len() {
		if _, there := of(out, named(says.Index(i))); !there {
			out = reflect.Append(out, says.Index(i))
		}
	}
	return out
}

// named is by what an element of a list is known: its text, the claim that it is about, or all of it.
func named(v reflect.Value) string {
	switch x := v.Interface().(type) {
	case string:
		return x
	case mapping.ClaimDocument:
		return x.Claim
	case mapping.RoleDocument:
		return x.Group
	case People:
		return x.Source + " " + x.From
	}
	return fmt.Sprintf("%+v", v.Interface())
}

// The kinds of difference.
const (
	Added      = "added"
	Changed    = "changed"
	Removed    = "removed"
	Undeclared = "not declared"
)

// Difference is one thing in which a ledger and a charter differ.
type Difference struct {
	Kind  string `json:"kind"`   // added, changed, removed, not declared
	About string `json:"about"`  // such as trust nightlog@ridge
	Field string `json:"field"`  // "" is the whole record
	Was   string `json:"was"`    // in the ledger; "" where it has nothing
	Is    string `json:"willBe"` // "" where it will have nothing
	// a difference in what a foreign party published touches what trust rests on
	Trust bool `json:"touchesTrust,omitempty"`
}

// records are the records of a charter by what they are about.
func (c *Charter) records() map[string]reflect.Value {
	out := map[string]reflect.Value{}
	for n, x := range c.Providers {
		out["provider "+n] = reflect.ValueOf(x)
	}
	for n, x := range c.Apps {
		out["app "+n] = reflect.ValueOf(x)
	}
	for n, x := range c.Trusts {
		out["trust "+n] = reflect.ValueOf(x)
	}
	for n, x := range c.Routes {
		out["route "+n] = reflect.ValueOf(x)
	}
	for _, x := range c.Expectations {
		out["expectation of "+x.Trust+" for "+nobody(x.As)+": "+x.words()] = reflect.ValueOf(x)
	}
	for _, x := range c.People {
		if x.Source != "" {
			out["people "+x.Source] = reflect.ValueOf(x)
		}
	}
	return out
}

func nobody(as string) string {
	if as == "" {
		return "the client itself"
	}
	return as
}

// compare says how two charters of a ledger differ: as it is, and as it would be.
func compare(was, is *Charter) []Difference {
	out := []Difference{}
	before, after := was.records(), is.records()
	for _, about := range slices.Sorted(maps.Keys(after)) {
		old, there := before[about]
		if !there {
			out = append(out, Difference{Kind: Added, About: about})
			old = reflect.Zero(after[about].Type())
		}
		out = differ(out, about, "", old, after[about])
	}
	for _, about := range slices.Sorted(maps.Keys(before)) {
		if _, there := after[about]; !there {
			out = append(out, Difference{Kind: Removed, About: about})
		}
	}
	return out
}

// texts are fields whose contents are told of a foreign party by what differs in what it published.
var texts = []string{"metadata", "discovery", "jwks"}

// differ appends the differences of two values of a type, field by field.
func differ(out []Difference, about, field string, was, is reflect.Value) []Difference {
	t := is.Type()
	if !was.IsValid() {
		was = reflect.Zero(t)
	}
	switch t.Kind() {
	case reflect.Pointer:
		if t.Elem().Kind() != reflect.Struct {
			return single(out, about, field, show(was), show(is))
		}
		a, b := reflect.Zero(t.Elem()), reflect.Zero(t.Elem())
		if !was.IsNil() {
			a = was.Elem()
		}
		if !is.IsNil() {
			b = is.Elem()
		}
		return differ(out, about, field, a, b)
	case reflect.Struct:
		if t == reflect.TypeFor[mapping.ClaimDocument]() {
			return single(out, about, field, show(was), show(is))
		}
		for i := range t.NumField() {
			name, rest, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
			if rest == "inline" {
				out = differ(out, about, field, was.Field(i), is.Field(i))
			} else if name != "" && (field != "" || !slices.Contains(texts, name)) {
				out = differ(out, about, joined(field, name), was.Field(i), is.Field(i))
			}
		}
		return out
	case reflect.Map:
		keys := map[string]reflect.Value{}
		for _, k := range append(was.MapKeys(), is.MapKeys()...) {
			keys[k.String()] = k
		}
		for _, k := range slices.Sorted(maps.Keys(keys)) {
			a, b := was.MapIndex(keys[k]), is.MapIndex(keys[k])
			if !b.IsValid() {
				b = reflect.Zero(t.Elem())
			}
			out = differ(out, about, joined(field, k), a, b)
		}
		return out
	case reflect.Slice:
		return lists(out, about, field, was, is)
	}
	return single(out, about, field, show(was), show(is))
}

// lists tells each element that is new, gone or another one.
func lists(out []Difference, about, field string, was, is reflect.Value) []Difference {
	of := map[string][2]string{}
	for side, l := range []reflect.Value{was, is} {
		for i := range l.Len() {
			x := of[named(l.Index(i))]
			x[side] = show(l.Index(i))
			of[named(l.Index(i))] = x
		}
	}
	for _, n := range slices.Sorted(maps.Keys(of)) {
		f := field
		if is.Type().Elem() == reflect.TypeFor[mapping.ClaimDocument]() {
			f = joined(field, n)
		}
		out = single(out, about, f, of[n][0], of[n][1])
	}
	return out
}

func single(out []Difference, about, field, was, is string) []Difference {
	if was == is {
		return out
	}
	kind := Changed
	switch {
	case was == "":
		kind = Added
	case is == "":
		kind = Removed
	}
	return append(out, Difference{Kind: kind, About: about, Field: field, Was: was, Is: is})
}

// show writes a value in one line.
func show(v reflect.Value) string {
	for v.IsValid() && v.Kind() == reflect.Pointer {
		v = v.Elem()
	}
	if !v.IsValid() {
		return ""
	}
	switch x := v.Interface().(type) {
	case bool:
		if x {
			return "on"
		}
		return "off"
	case mapping.ClaimDocument:
		s := x.Expression
		if x.Roles != nil {
			s = fmt.Sprintf("a table of %d roles", len(x.Roles.Of))
			for _, r := range x.Roles.Of {
				s += ", " + r.Group + " is " + r.Role
			}
			s += strings.TrimRight(", else "+x.Roles.Default, " ")
		}
		if x.Claim == "" {
			return ""
		}
		for _, f := range [][2]string{{"as ", x.Name}, {"when ", x.When}} {
			if f[1] != "" && f[1] != x.Claim {
				s += ", " + f[0] + f[1]
			}
		}
		if x.Single {
			s += ", single"
		}
		return s
	case int:
		if x == 0 {
			return ""
		}
	case string:
		first, rest, long := strings.Cut(x, "\n")
		if !long || rest == "" {
			return strings.TrimSuffix(x, "\n")
		}
		if c, err := keys.ParseCertificate([]byte(x)); err == nil {
			return "the certificate with SHA-256 " + keys.Fingerprint(c)
		}
		return first + " …"
	}
	if v.IsZero() {
		return ""
	}
	return fmt.Sprint(v.Interface())
}

// undeclared lists what a ledger has, in lists and maps that a charter names, beyond what it declares. Where the
// charter covers everything it lists also the records that it does not name, and the values that are not those that a
// new record begins with: new has those by record, and a record that it does not have begins with nothing.
func undeclared(says, has *Charter, new map[string]reflect.Value) []Difference {
	out := []Difference{}
	declared, there := says.records(), has.records()
	for _, about := range slices.Sorted(maps.Keys(there)) {
		d, named := declared[about]
		switch {
		case !named && says.Covers == Everything:
			out = append(out, Difference{Kind: Undeclared, About: about})
		case named:
			b := &beyond{about: about, every: says.Covers == Everything}
			base := new[about]
			if !base.IsValid() {
				base = reflect.Zero(d.Type())
			}
			b.look("", d, there[about], base)
			out = append(out, b.out...)
		}
	}
	return out
}

// beyond gathers what a record has beyond its declaration.
type beyond struct {
	about string
	every bool // values that are declared nowhere count too
	out   []Difference
}

func (b *beyond) add(field string, v reflect.Value) {
	b.out = append(b.out, Difference{Kind: Undeclared, About: b.about, Field: field, Was: show(v)})
}

func (b *beyond) look(field string, says, has, base reflect.Value) {
	t := has.Type()
	empty := func(v reflect.Value) reflect.Value {
		if !v.IsValid() || v.IsNil() {
			return reflect.New(t.Elem())
		}
		return v
	}
	switch {
	case t.Kind() == reflect.Pointer && t.Elem().Kind() == reflect.Struct:
		if !has.IsNil() && (b.every || !says.IsNil()) {
			b.look(field, empty(says).Elem(), has.Elem(), empty(base).Elem())
		}
	case t == reflect.TypeFor[Expectation]() || t == reflect.TypeFor[mapping.ClaimDocument]():
	case t.Kind() == reflect.Struct:
		for i := range t.NumField() {
			name, rest, _ := strings.Cut(t.Field(i).Tag.Get("yaml"), ",")
			switch {
			case rest == "inline":
				name = field
			case field == "" && (slices.Contains(texts, name) || name == "entity"):
				continue
			default:
				name = joined(field, name)
			}
			b.look(name, says.Field(i), has.Field(i), base.Field(i))
		}
	case t.Kind() == reflect.Map:
		if says.IsNil() && !b.every {
			return
		}
		for _, k := range has.MapKeys() {
			where, d, from := joined(field, k.String()), says.MapIndex(k), base.MapIndex(k)
			if !from.IsValid() {
				from = reflect.Zero(t.Elem())
			}
			switch {
			case d.IsValid():
				b.look(where, d, has.MapIndex(k), from)
			case !says.IsNil() || !base.MapIndex(k).IsValid():
				b.add(where, has.MapIndex(k))
			}
		}
	case t.Kind() == reflect.Slice:
		if says.IsNil() && !b.every {
			return
		}
		known := elements(says)
		if says.IsNil() {
			known = elements(base)
		}
		for _, v := range elements(has) {
			if !slices.ContainsFunc(known, func(x reflect.Value) bool { return named(x) == named(v) }) {
				b.add(field, v)
			}
		}
	case b.every && says.IsZero() && show(has) != show(base):
		b.add(field, has)
	}
}

func elements(list reflect.Value) []reflect.Value {
	out := make([]reflect.Value, list.Len())
	for i := range out {
		out[i] = list.Index(i)
	}
	return out
}

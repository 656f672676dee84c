// Package contract writes results as programs read them, and says in JSON Schemas how they look. Both come from the
// same Go types by the same rules, so that neither can say what the other does not hold:
//
//   - A member has the name of its field's json tag, or of its told tag, where what lies in ledgers has another form.
//     What is left out when it is empty (omitempty, omitzero) may be missing; so may whatever a pointer, an interface
//     or a time holds.
//   - Nothing is null: what is not there is left out, a list without members is an empty list.
//   - Times are RFC 3339, in UTC and whole seconds; a time that never was is left out.
//   - Spans of time are ISO 8601 durations (PT15M, P90D), those kept as a number of seconds too, which a field says by
//     the tag unit:"seconds".
//   - A type that has a method Key() string is told by it, as the key of a map too: an ID that stays when its words do
//     not.
//   - A type that has a method Told() is told as what that returns.
package contract

import (
	"bytes"
	"encoding"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"tressik.example/internal/core/plain"
	"tressik.example/internal/core/span"
)

// Keyed is told by an ID in place of its words.
type Keyed interface{ Key() string }

var (
	timeType    = reflect.TypeFor[time.Time]()
	spanType    = reflect.TypeFor[time.Duration]()
	rawType     = reflect.TypeFor[json.RawMessage]()
	keyedType   = reflect.TypeFor[Keyed]()
	textType    = reflect.TypeFor[encoding.TextMarshaler]()
	marshalType = reflect.TypeFor[json.Marshaler]()
)

// Encode writes a result as indented JSON that ends with a line end. Errors: a value that no result may hold, such as a
// channel.
func Encode(v any) ([]byte, error) { return Masked(v, nil) }

// Masked is Encode with each text, but for the names of members, as mask has it; nil masks nothing.
func Masked(v any, mask func(string) string) ([]byte, error) {
	return encoded(v, mask, shapes{})
}

func encoded(v any, mask func(string) string, of shapes) ([]byte, error) {
	var out bytes.Buffer
	raw := sink{mask: mask, shapes: of}
	if err := write(&raw, reflect.ValueOf(v)); err != nil {
		return nil, err
	}
	if err := json.Indent(&out, raw.Bytes(), "", "  "); err != nil {
		return nil, err
	}
	out.WriteByte('\n')
	return out.Bytes(), nil
}

// sink takes what is written, with each text as the mask has it.
type sink struct {
	bytes.Buffer
	shapes
	mask func(string) string
}

// shapes keeps how types are told, which is asked for each value of a long list.
type shapes map[reflect.Type]*shape

type shape struct {
	told   int     // the number of the method Told; -1: there is none
	fields []field // of a struct
}

func (s shapes) of(t reflect.Type) *shape {
	x := s[t]
	if x == nil {
		x = &shape{told: -1}
		if m, ok := toldBy(t); ok {
			x.told = m.Index
		}
		if t.Kind() == reflect.Struct {
			x.fields = fields(t)
		}
		s[t] = x
	}
	return x
}

// misfit is a value that cannot be told, and where it lies in what is told.
type misfit struct {
	at  string
	err error
}

func (m *misfit) Error() string { return m.at + ": " + m.err.Error() }
func (m *misfit) Unwrap() error { return m.err }

// under says of an error that it is of what lies at a place.
func under(at string, err error) error {
	var m *misfit
	if errors.As(err, &m) {
		return &misfit{at + m.at, m.err}
	}
	return &misfit{at, err}
}

var errNothing = errors.New("nothing that can be told")

// List writes a list member by member, so that a long one is not held whole, with each text as Mask has it.
type List struct {
	W      io.Writer
	Mask   func(string) string
	n      int
	shapes shapes
}

// Add writes one more member.
func (l *List) Add(v any) error {
	if l.shapes == nil {
		l.shapes = shapes{}
	}
	b, err := encoded(v, l.Mask, l.shapes)
	if err != nil {
		return err
	}
	head := ",\n"
	if l.n++; l.n == 1 {
		head = "[\n"
	}
	_, err = l.W.Write(append([]byte(head), bytes.TrimSuffix(b, []byte("\n"))...))
	return err
}

// Close ends the list; one without members is written whole.
func (l *List) Close() error {
	tail := "\n]\n"
	if l.n == 0 {
		tail = "[]\n"
	}
	_, err := io.WriteString(l.W, tail)
	return err
}

// told is what is told of a value: what its method Told returns, where it has one.
func (s shapes) told(v reflect.Value) (reflect.Value, bool) {
	n := s.of(v.Type()).told
	if n < 0 {
		return v, false
	}
	return v.Method(n).Call(nil)[0], true
}

// toldBy is the method Told of a type. One that it has only of what it embeds is not its own.
func toldBy(t reflect.Type) (m reflect.Method, ok bool) {
	m, ok = t.MethodByName("Told")
	if !ok || m.Type.NumIn() != 1 || m.Type.NumOut() != 1 {
		return m, false
	}
	if s := structOf(t); s.Kind() == reflect.Struct {
		for i := range s.NumField() {
			if f := s.Field(i); f.Anonymous {
				if _, has := f.Type.MethodByName("Told"); has {
					return m, false
				}
			}
		}
	}
	return m, true
}

// field is one member of an object.
type field struct {
	name    string
	index   []int
	empty   bool // left out when it is empty
	zero    bool // left out when it is zero
	seconds bool // a number of seconds
	rows    bool // lists the rows of a table
	long    bool // has no place in a table
	typ     reflect.Type
}

// fields are the members of a struct, those of structs that it embeds among them: what lies nearer hides what has the
// same name further in.
func fields(t reflect.Type) []field {
	var out []field
	at := map[string]int{}
	var add func(t reflect.Type, index []int)
	add = func(t reflect.Type, index []int) {
		var inner [][]int
		for i := range t.NumField() {
			f := t.Field(i)
			name, opts, _ := strings.Cut(f.Tag.Get("json"), ",")
			if as, how, _ := strings.Cut(f.Tag.Get("told"), ","); as != "" {
				name, opts = as, opts+how
			}
			path := append(slices.Clone(index), i)
			switch {
			case name == "-" || !f.IsExported() && !f.Anonymous:
			case f.Anonymous && name == "" && structOf(f.Type).Kind() == reflect.Struct && !replaced(f.Type):
				inner = append(inner, path)
			case name == "":
				name = f.Name
				fallthrough
			default:
				if n, is := at[name]; is && len(out[n].index) <= len(path) {
					continue
				}
				at[name] = len(out)
				out = append(out, field{name: name, index: path, empty: strings.Contains(opts, "omitempty"),
					zero: strings.Contains(opts, "omitzero"), seconds: f.Tag.Get("unit") == "seconds",
					rows: f.Tag.Get("rows") == "each", long: f.Tag.Get("rows") == "none", typ: f.Type})
			}
		}
		for _, path := range inner {
			add(structOf(t.Field(path[len(path)-1]).Type), path)
		}
	}
	add(t, nil)
	slices.SortFunc(out, func(a, b field) int { return slices.Compare(a.index, b.index) }) // as they stand there
	return out
}

// structOf is a type, or the one to which it points.
func structOf(t reflect.Type) reflect.Type {
	if t.Kind() == reflect.Pointer {
		return t.Elem()
	}
	return t
}

// replaced tells types that are not told as their fields.
func replaced(t reflect.Type) bool {
	_, is := toldBy(t)
	return is || t == timeType || t.Implements(keyedType) || t.Implements(marshalType) || t.Implements(textType)
}

// absent reports whether a member is left out.
func (f *field) absent(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return true
		}
	case reflect.Slice, reflect.Map, reflect.String, reflect.Array:
		if f.empty && v.Len() == 0 {
			return true
		}
	}
	if z, ok := v.Interface().(interface{ IsZero() bool }); ok && (f.zero || v.Type() == timeType) && z.IsZero() {
		return true
	}
	return f.zero && v.IsZero() || f.empty && v.Kind() != reflect.Struct && v.IsZero()
}

func write(out *sink, v reflect.Value) error {
	if !v.IsValid() {
		return errNothing
	}
	for v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface {
		if v.IsNil() {
			return errNothing
		}
		if as, ok := out.told(v); ok {
			v = as
			continue
		}
		v = v.Elem()
	}
	if as, ok := out.told(v); ok {
		return write(out, as)
	}
	switch x := v.Interface().(type) {
	case time.Time:
		return text(out, x.UTC().Format(time.RFC3339))
	case time.Duration:
		return text(out, span.Format(x))
	case json.RawMessage:
		if len(x) == 0 {
			out.WriteString("{}")
			return nil
		}
		return out.document(x)
	case Keyed:
		return text(out, x.Key())
	case json.Marshaler:
		return marshal(out, x)
	case encoding.TextMarshaler:
		return marshal(out, x)
	}
	if v.CanAddr() && v.Addr().Type().Implements(marshalType) {
		return marshal(out, v.Addr().Interface())
	}
	switch v.Kind() {
	case reflect.Struct:
		return object(out, v)
	case reflect.Map:
		return entries(out, v, write)
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			if v.Kind() == reflect.Slice && v.IsNil() {
				return text(out, "")
			}
			return marshal(out, v.Interface())
		}
		out.WriteByte('[')
		for i := range v.Len() {
			if i > 0 {
				out.WriteByte(',')
			}
			if err := write(out, v.Index(i)); err != nil {
				return under(fmt.Sprintf("[%d]", i), err)
			}
		}
		out.WriteByte(']')
		return nil
	case reflect.String:
		return text(out, v.String())
	case reflect.Bool, reflect.Int, reflect.Int64, reflect.Int32, reflect.Uint, reflect.Uint16,
		reflect.Uint64, reflect.Float64, reflect.Uint8, reflect.Uint32, reflect.Int16, reflect.Int8:
		return marshal(out, v.Interface())
	}
	return fmt.Errorf("a %s can not be told", v.Type())
}

func object(out *sink, v reflect.Value) error {
	out.WriteByte('{')
	n := 0
	for _, f := range out.of(v.Type()).fields {
		x, err := v.FieldByIndexErr(f.index)
		if err != nil || f.absent(x) { // what is embedded is not there
			continue
		}
		if n++; n > 1 {
			out.WriteByte(',')
		}
		if err := out.name(f.name); err != nil {
			return err
		}
		out.WriteByte(':')
		do := write
		if f.seconds {
			do = seconds
		}
		if err := do(out, x); err != nil {
			return under("."+f.name, err)
		}
	}
	out.WriteByte('}')
	return nil
}

// seconds writes a number of seconds, or a map of them, as durations.
func seconds(out *sink, v reflect.Value) error {
	if v.Kind() == reflect.Map {
		return entries(out, v, seconds)
	}
	return text(out, span.Format(time.Duration(v.Int())*time.Second))
}

func entries(out *sink, v reflect.Value, each func(*sink, reflect.Value) error) error {
	names := map[string]reflect.Value{}
	order := make([]string, 0, v.Len())
	for _, k := range v.MapKeys() {
		name, err := key(k)
		if err != nil {
			return err
		}
		names[name] = v.MapIndex(k)
		order = append(order, name)
	}
	slices.Sort(order)
	out.WriteByte('{')
	n := 0
	for _, name := range order {
		if x := names[name]; x.Kind() == reflect.Interface && x.IsNil() {
			continue
		}
		if n++; n > 1 {
			out.WriteByte(',')
		}
		if err := text(out, name); err != nil {
			return err
		}
		out.WriteByte(':')
		if err := each(out, names[name]); err != nil {
			return under("."+name, err)
		}
	}
	out.WriteByte('}')
	return nil
}

func key(k reflect.Value) (string, error) {
	switch x := k.Interface().(type) {
	case Keyed:
		return x.Key(), nil
	case encoding.TextMarshaler:
		b, err := x.MarshalText()
		return string(b), err
	}
	switch k.Kind() {
	case reflect.String:
		return k.String(), nil
	case reflect.Int, reflect.Int64:
		return strconv.FormatInt(k.Int(), 10), nil
	}
	return "", fmt.Errorf("a %s can not be the key of what is told", k.Type())
}

func text(out *sink, s string) error {
	if out.mask != nil {
		s = out.mask(s)
	}
	return out.name(s)
}

// name writes a text that is the same for everybody, such as the name of a member.
func (out *sink) name(s string) error {
	if !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' || r > '~' || r == '"' || r == '\\' }) {
		out.WriteByte('"')
		out.WriteString(s)
		out.WriteByte('"')
		return nil
	}
	b, err := plainly(s)
	out.Write(b)
	return err
}

// marshal writes what the library of JSON makes of a value.
func marshal(out *sink, v any) error {
	b, err := plainly(v)
	if err != nil {
		return err
	}
	return out.document(b)
}

// document writes JSON, with the mask over each of its texts.
func (out *sink) document(b []byte) error {
	for out.mask != nil {
		from := bytes.IndexByte(b, '"')
		if from < 0 {
			break
		}
		to := from + 1
		for to < len(b) && b[to] != '"' {
			if b[to] == '\\' {
				to++
			}
			to++
		}
		if to >= len(b) {
			return fmt.Errorf("JSON with a text that has no end")
		}
		var s string
		if err := json.Unmarshal(b[from:to+1], &s); err != nil {
			return err
		}
		out.Write(b[:from])
		if err := out.name(out.mask(s)); err != nil {
			return err
		}
		b = b[to+1:]
	}
	out.Write(b)
	return nil
}

// plainly is JSON with <, > and & as they are.
func plainly(v any) ([]byte, error) {
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return plain.JSON(bytes.TrimSuffix(out.Bytes(), []byte("\n"))), nil
}

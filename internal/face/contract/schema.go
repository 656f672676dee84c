package contract

import (
	"encoding/json"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/invopop/jsonschema"
)

// Schema is the JSON Schema (draft 2020-12) of what Encode writes of values of a type. Types that have a name are
// defined once, below $defs. What is not said to be there may be there in a later release: take no offence at it.
// With several types it is one of any of them.
func Schema(id, title string, types ...reflect.Type) *jsonschema.Schema {
	d := &definer{defs: jsonschema.Definitions{}, names: map[reflect.Type]string{}}
	s := d.of(types[0])
	if len(types) > 1 {
		s = &jsonschema.Schema{AnyOf: []*jsonschema.Schema{s}}
		for _, t := range types[1:] {
			s.AnyOf = append(s.AnyOf, d.of(t))
		}
	}
	s.Version = jsonschema.Version
	s.ID, s.Title = jsonschema.ID(id), title
	if len(d.defs) > 0 {
		s.Definitions = d.defs
	}
	return s
}

// WriteSchema writes a schema as indented JSON.
func WriteSchema(s *jsonschema.Schema) ([]byte, error) {
	b, err := json.MarshalIndent(s, "", " ")
	return append(b, '\n'), err
}

type definer struct {
	defs  jsonschema.Definitions
	names map[reflect.Type]string
}

// of is the schema of a type: a reference to its definition, where it has a name.
func (d *definer) of(t reflect.Type) *jsonschema.Schema {
	switch {
	case t.Kind() == reflect.Pointer:
		if as, ok := toldType(t); ok {
			return d.of(as)
		}
		return d.of(t.Elem())
	case t == timeType:
		return &jsonschema.Schema{Type: "string", Format: "date-time", Pattern: `^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ$`}
	case t == spanType:
		return duration()
	case t == rawType:
		return &jsonschema.Schema{Description: "as it is kept"}
	}
	if as, ok := toldType(t); ok {
		return d.of(as)
	}
	switch {
	case t.Implements(keyedType):
		return &jsonschema.Schema{Type: "string"}
	case t.Implements(marshalType):
		return &jsonschema.Schema{}
	case t.Implements(textType):
		return &jsonschema.Schema{Type: "string"}
	}
	switch t.Kind() {
	case reflect.Struct:
		if t.Name() == "" {
			return d.object(t)
		}
		return &jsonschema.Schema{Ref: "#/$defs/" + d.define(t)}
	case reflect.Map:
		return &jsonschema.Schema{Type: "object", AdditionalProperties: d.of(t.Elem())}
	case reflect.Slice, reflect.Array:
		if t.Elem().Kind() == reflect.Uint8 {
			return &jsonschema.Schema{Type: "string", ContentEncoding: "base64"}
		}
		s := &jsonschema.Schema{Type: "array", Items: d.of(t.Elem())}
		if t.Kind() == reflect.Array {
			n := uint64(t.Len())
			s.MinItems, s.MaxItems = &n, &n
		}
		return s
	case reflect.String:
		return &jsonschema.Schema{Type: "string"}
	case reflect.Bool:
		return &jsonschema.Schema{Type: "boolean"}
	case reflect.Float64:
		return &jsonschema.Schema{Type: "number"}
	case reflect.Interface:
		return &jsonschema.Schema{}
	}
	return &jsonschema.Schema{Type: "integer"}
}

// define defines a struct once, and returns its name below $defs.
func (d *definer) define(t reflect.Type) string {
	if name, is := d.names[t]; is {
		return name
	}
	plain := strings.ToUpper(t.Name()[:1]) + t.Name()[1:]
	if as := strings.TrimSuffix(strings.TrimPrefix(plain, "Told"), "Told"); as != "" {
		plain = as
	}
	name := plain
	for n := 2; d.defs[name] != nil; n++ { // two packages have a type of that name
		name = plain + strconv.Itoa(n)
	}
	d.names[t] = name
	d.defs[name] = &jsonschema.Schema{} // it may hold itself
	d.defs[name] = d.object(t)
	return name
}

func (d *definer) object(t reflect.Type) *jsonschema.Schema {
	s := &jsonschema.Schema{Type: "object", Properties: jsonschema.NewProperties()}
	for _, f := range fields(t) {
		of := d.of(f.typ)
		if f.seconds {
			of = duration()
			if f.typ.Kind() == reflect.Map {
				of = &jsonschema.Schema{Type: "object", AdditionalProperties: duration()}
			}
		}
		s.Properties.Set(f.name, of)
		switch f.typ.Kind() {
		case reflect.Pointer, reflect.Interface:
			continue
		}
		if !f.empty && !f.zero && f.typ != timeType {
			s.Required = append(s.Required, f.name)
		}
	}
	slices.Sort(s.Required)
	return s
}

func duration() *jsonschema.Schema {
	return &jsonschema.Schema{Type: "string", Format: "duration",
		Pattern: `^-?P(\d+D)?(T(\d+H)?(\d+M)?(\d+S)?)?$`}
}

// toldType is the type of what the method Told of a type returns.
func toldType(t reflect.Type) (reflect.Type, bool) {
	m, ok := toldBy(t)
	if !ok {
		return nil, false
	}
	return m.Type.Out(0), true
}

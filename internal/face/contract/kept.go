package contract

import (
	"bytes"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"
)

// Keeper tells what journals keep of records. It remembers of each type what it looked up; its zero value is ready.
type Keeper struct {
	shapes shapes
	named  map[reflect.Type]map[string]reflect.StructField // the fields of a struct, by the name that is kept
}

// Kept writes an object of members as encoding/json keeps them, such as what a journal says that a record was, by the
// rules of Encode. of are the types that may have a member, as records are: by its name, or, where that has dots, by
// those of the structs that lead to it. What none of them has, or what they cannot read, as in entries of older
// versions, is written as it is kept, without nulls and with times in whole seconds. What is no object stays what it
// is.
func (k *Keeper) Kept(raw json.RawMessage, of ...reflect.Type) json.RawMessage {
	var members map[string]json.RawMessage
	if json.Unmarshal(raw, &members) != nil || len(members) == 0 {
		return raw
	}
	out := &sink{}
	for _, name := range slices.Sorted(maps.Keys(members)) {
		as, value := name, json.RawMessage(nil)
		for _, t := range of {
			if told, v, ok := k.keptBy(t, name, members[name]); ok {
				as, value = told, v
				break
			}
		}
		if value == nil {
			var v any
			if json.Unmarshal(members[name], &v) != nil {
				continue
			}
			if v = plainer(v); v == nil {
				continue
			}
			value, _ = plainly(v) // it was JSON
		}
		if out.Len() > 0 {
			out.WriteByte(',')
		}
		_ = out.name(as) // a text is always JSON
		out.WriteByte(':')
		out.Write(value)
	}
	return json.RawMessage("{" + out.String() + "}")
}

// field is the field of a struct that is kept by a name.
func (k *Keeper) field(t reflect.Type, name string) (reflect.StructField, bool) {
	if k.named == nil {
		k.shapes, k.named = shapes{}, map[reflect.Type]map[string]reflect.StructField{}
	}
	by := k.named[t]
	if by == nil {
		by = map[string]reflect.StructField{}
		for _, x := range reflect.VisibleFields(t) {
			as, _, _ := strings.Cut(x.Tag.Get("json"), ",")
			if _, is := by[as]; !is {
				by[as] = x
			}
		}
		k.named[t] = by
	}
	x, is := by[name]
	return x, is
}

// keptBy reads a member by the type that has it, and writes it as Encode does, under the name that it is told by.
func (k *Keeper) keptBy(t reflect.Type, path string, raw json.RawMessage) (name string, value json.RawMessage,
	ok bool) {
	var said []string
	f := field{}
	for _, p := range strings.Split(path, ".") {
		for t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			return "", nil, false
		}
		x, is := k.field(t, p)
		if !is {
			return "", nil, false
		}
		as, opts, _ := strings.Cut(x.Tag.Get("told"), ",")
		if as == "-" {
			return "", nil, false
		}
		if as == "" {
			as = p
		}
		said, t = append(said, as), x.Type
		f = field{seconds: x.Tag.Get("unit") == "seconds", empty: true, zero: strings.Contains(opts, "omitzero")}
	}
	v := reflect.New(t)
	if json.Unmarshal(raw, v.Interface()) != nil {
		return "", nil, false
	}
	do := write
	if f.seconds {
		do = seconds
	}
	out := sink{shapes: k.shapes}
	if t == timeType && v.Elem().IsZero() || do(&out, v.Elem()) != nil {
		return "", nil, false
	}
	return strings.Join(said, "."), bytes.Clone(out.Bytes()), true
}

// plainer is a value without nulls and times that never were, and with times in whole seconds.
func plainer(v any) any {
	switch x := v.(type) {
	case map[string]any:
		for k := range x {
			if x[k] = plainer(x[k]); x[k] == nil {
				delete(x, k)
			}
		}
	case []any:
		for i := range x {
			if x[i] = plainer(x[i]); x[i] == nil {
				x[i] = ""
			}
		}
	case string:
		if t, err := time.Parse(time.RFC3339Nano, x); err == nil {
			if t.IsZero() {
				return nil
			}
			return t.UTC().Format(time.RFC3339)
		}
	}
	return v
}

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

// Kept writes an object of members as encoding/json keeps them, such as what a journal says that a record was, by the
// rules of Encode. of are the types that may have a member, as records are: by its name, or, where that has dots, by
// those of the structs that lead to it. What none of them has, or what they cannot read, as in entries of older
// versions, is written as it is kept, without nulls and with times in whole seconds. What is no object stays what it
// is.
func Kept(raw json.RawMessage, of ...reflect.Type) json.RawMessage {
	var members map[string]json.RawMessage
	if json.Unmarshal(raw, &members) != nil || len(members) == 0 {
		return raw
	}
	out := &sink{}
	for _, name := range slices.Sorted(maps.Keys(members)) {
		as, value := name, json.RawMessage(nil)
		for _, t := range of {
			if told, v, ok := keptBy(t, name, members[name]); ok {
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

// keptBy reads a member by the type that has it, and writes it as Encode does, under the name that it is told by.
func keptBy(t reflect.Type, path string, raw json.RawMessage) (name string, value json.RawMessage, ok bool) {
	var said []string
	f := field{}
	for _, p := range strings.Split(path, ".") {
		for t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			return "", nil, false
		}
		i := slices.IndexFunc(reflect.VisibleFields(t), func(x reflect.StructField) bool {
			as, _, _ := strings.Cut(x.Tag.Get("json"), ",")
			return as == p
		})
		if i < 0 {
			return "", nil, false
		}
		x := reflect.VisibleFields(t)[i]
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
	var out sink
	if t == timeType && v.Elem().IsZero() || do(&out, v.Elem(), path) != nil {
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

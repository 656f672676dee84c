package oidc

import (
	"encoding/json"
	"reflect"
	"strings"
)

// ReadObject reads a JSON object into a struct by the exact names of its members: the names of the standards are
// compared with their case (RFC 8259, section 8.3; RFC 7591, section 2), and a member that is not known is ignored.
// Errors: those of encoding/json.
func ReadObject(raw []byte, into any) error {
	var all map[string]json.RawMessage
	if err := json.Unmarshal(raw, &all); err != nil {
		return err
	}
	names := map[string]bool{}
	members(reflect.TypeOf(into).Elem(), names)
	for n := range all {
		if !names[n] {
			delete(all, n)
		}
	}
	b, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return json.Unmarshal(b, into)
}

// members are the names of the members that a struct reads, those of embedded ones as well.
func members(t reflect.Type, names map[string]bool) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && name == "" && f.Type.Kind() == reflect.Struct:
			members(f.Type, names)
		case name != "" && name != "-":
			names[name] = true
		}
	}
}

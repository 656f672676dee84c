package oidc

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"strings"
)

// ReadObject reads a JSON object into a struct by the exact names of its members: the names of the standards are
// compared with their case (RFC 8259, section 8.3; RFC 7591, section 2), and a member that is not known is ignored.
// Errors: those of encoding/json, in words.
func ReadObject(raw []byte, into any) error {
	var all map[string]json.RawMessage
	if err := json.Unmarshal(raw, &all); err != nil {
		return Unread(err)
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
	return Unread(json.Unmarshal(b, into))
}

// Unread is an error of encoding/json in words that people who do not read its source understand; it wraps that one.
// Another error, such as one that says already where the JSON is wrong, it returns as it is.
func Unread(err error) error {
	words := ""
	switch e := err.(type) {
	case *json.UnmarshalTypeError:
		words = fmt.Sprintf("%s is %s, where %s belongs", cmp.Or(e.Field, "it"), kindWords(e.Value), typeWords(e.Type))
	case *json.SyntaxError:
		words = fmt.Sprintf("it is no JSON from byte %d on", e.Offset)
		if e.Offset == 0 {
			words = "it is empty, where JSON belongs"
		}
	default:
		if err != io.ErrUnexpectedEOF && err != io.EOF {
			return err
		}
		words = "it is no JSON: it ends too early"
	}
	return &unreadError{words, err}
}

type unreadError struct {
	words string
	err   error
}

func (e *unreadError) Error() string { return e.words }
func (e *unreadError) Unwrap() error { return e.err }

// kindWords are the words for a kind of JSON value as encoding/json names it.
func kindWords(kind string) string {
	switch kind, _, _ := strings.Cut(kind, " "); kind {
	case "array":
		return "a list"
	case "object":
		return "an object"
	case "string":
		return "a text"
	case "bool":
		return "true or false"
	}
	return "a number"
}

// typeWords are the words for the JSON value of which a Go type is made.
func typeWords(t reflect.Type) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t.Kind() {
	case reflect.String:
		return kindWords("string")
	case reflect.Bool:
		return kindWords("bool")
	case reflect.Slice, reflect.Array:
		return kindWords("array")
	case reflect.Struct, reflect.Map:
		return kindWords("object")
	case reflect.Float32, reflect.Float64:
		return kindWords("number")
	}
	return "a whole number"
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

package people

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// Objects reads JSON objects as names with values: a list of them, one behind another, or a list under Resources as
// RFC 7644, section 3.4.2, has it. Nested ones become names with dots, such as emails.value. Errors: a *ReadError.
func Objects(b []byte) ([]map[string][]string, error) {
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	var values []any
	for {
		var v any
		err := d.Decode(&v)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			at := d.InputOffset()
			why := "this is no JSON"
			var se *json.SyntaxError
			if errors.As(err, &se) {
				at = se.Offset
			} else if errors.Is(err, io.ErrUnexpectedEOF) {
				at, why = int64(len(b)), "the JSON ends in the middle; is the file whole?"
			}
			return nil, &ReadError{Err: ErrSyntax, Line: 1 + bytes.Count(b[:min(int(at), len(b))], []byte("\n")),
				Detail: why}
		}
		values = append(values, v)
	}
	if len(values) == 1 {
		if list, is := values[0].([]any); is {
			values = list
		}
	}
	values, err := resources(values)
	if err != nil {
		return nil, err
	}
	var out []map[string][]string
	for i, v := range values {
		o, ok := v.(map[string]any)
		if !ok {
			return nil, &ReadError{Err: ErrSyntax, Detail: fmt.Sprintf("entry %d is no object with fields", i+1)}
		}
		fields := map[string][]string{}
		flatten(fields, "", o)
		out = append(out, fields)
	}
	return out, nil
}

// resources puts what lists of resources hold in their place. A list tells how many there are in all: where it was
// asked for in pages, each of them has to be there (RFC 7644, section 3.4.2.4).
func resources(values []any) ([]any, error) {
	var out []any
	lists, has, all := 0, 0, int64(0)
	for _, v := range values {
		o, _ := v.(map[string]any)
		list, is := o["Resources"].([]any)
		total, told := o["totalResults"].(json.Number)
		if !is && !told { // a list without any has no Resources
			out = append(out, v)
			continue
		}
		n, _ := total.Int64()
		lists, has, all = lists+1, has+len(list), max(all, n)
		out = append(out, list...)
	}
	if int64(has) < all {
		pages := "it is one page"
		if lists > 1 {
			pages = fmt.Sprintf("it is %d pages", lists)
		}
		return nil, &ReadError{Err: ErrSyntax, Detail: fmt.Sprintf("%s with %d of the %d that there are by its "+
			"totalResults; ask for the others with startIndex, and put all pages into one file", pages, has, all)}
	}
	return out, nil
}

// flatten takes the values of nested JSON under names with dots.
func flatten(into map[string][]string, name string, v any) {
	switch x := v.(type) {
	case map[string]any:
		for k, w := range x {
			if name != "" {
				k = name + "." + k
			}
			flatten(into, k, w)
		}
	case []any:
		for _, w := range x {
			flatten(into, name, w)
		}
	case string:
		if x = strings.TrimSpace(x); x != "" {
			into[name] = append(into[name], x)
		}
	case json.Number:
		into[name] = append(into[name], x.String())
	case bool:
		into[name] = append(into[name], strconv.FormatBool(x))
	}
}

// ReadJSON reads persons from JSON objects: each with uid or mail, other attributes, and groups. Errors: a *ReadError.
func ReadJSON(b []byte) (*Directory, error) {
	objects, err := Objects(b)
	if err != nil {
		return nil, err
	}
	d := &Directory{}
	names := canonicalNames()
	seen := map[string]int{}
	for i, o := range objects {
		p := Person{Attributes: map[string][]string{}, Groups: []string{}}
		for name, values := range o {
			if n, ok := names[strings.ToLower(name)]; ok {
				name = n
			}
			if name != "groups" && name != "memberOf" {
				p.Attributes[name] = append(p.Attributes[name], values...)
				continue
			}
			for _, g := range values {
				p.Groups = appendNew(p.Groups, g)
			}
		}
		for _, a := range []string{"uid", "mail"} {
			if v := p.Attributes[a]; p.ID == "" && len(v) > 0 {
				p.ID = v[0]
			}
		}
		if p.ID == "" {
			return nil, &ReadError{Err: ErrSyntax, Detail: fmt.Sprintf("entry %d has neither uid nor mail", i+1)}
		}
		if first, ok := seen[strings.ToLower(p.ID)]; ok {
			return nil, &ReadError{Err: ErrDuplicate,
				Detail: fmt.Sprintf("%s is entry %d and entry %d", p.ID, first, i+1)}
		}
		seen[strings.ToLower(p.ID)] = i + 1
		d.Persons = append(d.Persons, p)
	}
	return d.finish()
}

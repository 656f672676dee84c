package contract

import (
	"encoding"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// Table lays a result out as one table of plain values, in the forms in which Encode writes them:
//
//   - A list has a row for each member; anything else has one row.
//   - Where a field has the tag rows:"each", what it lists are the rows, each with what stands beside the field before
//     it: the subject of a row is in the row. Several such fields of a struct have a column "list" with the name.
//   - A column is named by the member, behind a dot where it lies one struct or map further in; what lies deeper, and
//     lists of structs, are for the other forms. The columns of structs are the same whatever the values are.
//   - A list of plain values is one cell, parted by "; ". A field with the tag rows:"none" has no place in a table,
//     such as a whole document.
//
// cell may write a value in its own way, and says whether it did.
func Table(v any, cell func(any) (string, bool)) (head []string, rows [][]string, err error) {
	t := &tabled{shapes: shapes{}, cell: cell, named: map[string]bool{}}
	x, ok := t.settle(reflect.ValueOf(v))
	if !ok {
		return nil, nil, fmt.Errorf("nothing that can be told")
	}
	if x.Kind() == reflect.Slice { // a list has rows, one of plain values too
		t.columns(x.Type().Elem(), "", 0)
		for i := range x.Len() {
			if err := t.walk(x.Index(i), nil); err != nil {
				return nil, nil, err
			}
		}
	} else {
		t.columns(x.Type(), "", 0)
		if err := t.walk(x, nil); err != nil {
			return nil, nil, err
		}
	}
	for _, c := range t.order {
		if c, dynamic := strings.CutSuffix(c, mapMark); dynamic {
			head = append(head, t.keys(c)...)
			continue
		}
		head = append(head, c)
	}
	for _, r := range t.rows {
		line := make([]string, len(head))
		for i, c := range head {
			line[i] = r[c]
		}
		rows = append(rows, line)
	}
	return head, rows, nil
}

const (
	mapMark = "\x00" // behind the name of a column that stands for the keys of a map
	deepest = 1      // how many structs or maps further in a column may lie
)

type tabled struct {
	shapes
	cell  func(any) (string, bool)
	order []string
	named map[string]bool // those in order
	rows  []map[string]string
}

// settle follows pointers, interfaces and what is told in place of a value.
func (s shapes) settle(v reflect.Value) (reflect.Value, bool) {
	for v.IsValid() {
		if (v.Kind() == reflect.Pointer || v.Kind() == reflect.Interface) && v.IsNil() {
			return v, false
		}
		if as, ok := s.told(v); ok {
			v = as
			continue
		}
		if v.Kind() != reflect.Pointer && v.Kind() != reflect.Interface {
			return v, true
		}
		v = v.Elem()
	}
	return v, false
}

// settled is the type of what settle finds.
func settled(t reflect.Type) reflect.Type {
	for {
		if as, ok := toldType(t); ok {
			t = as
			continue
		}
		if t.Kind() != reflect.Pointer {
			return t
		}
		t = t.Elem()
	}
}

func (t *tabled) add(name string) {
	if !t.named[name] {
		t.named[name] = true
		t.order = append(t.order, name)
	}
}

// plain tells types whose values are one cell.
func (t *tabled) plain(of reflect.Type) bool {
	if _, ok := t.cell(reflect.New(of).Elem().Interface()); ok {
		return true
	}
	s := settled(of)
	if s == timeType || s == rawType || s.Implements(keyedType) || s.Implements(marshalType) || s.Implements(textType) {
		return true
	}
	switch s.Kind() {
	case reflect.Slice, reflect.Array:
		return s.Elem().Kind() == reflect.Uint8 || t.plain(s.Elem()) && s.Elem().Kind() != reflect.Slice
	case reflect.Struct, reflect.Map, reflect.Func, reflect.Chan:
		return false
	}
	return true
}

func (t *tabled) columns(of reflect.Type, prefix string, depth int) {
	of = settled(of)
	switch {
	case prefix == "" && of.Kind() == reflect.Slice && !t.plain(of):
		t.columns(of.Elem(), "", depth)
		return
	case of.Kind() != reflect.Struct || t.plain(of):
		if prefix == "" {
			t.add("value")
		}
		return
	}
	all := fields(of)
	var each []field
	for _, f := range all {
		switch s := settled(f.typ); {
		case f.rows:
			each = append(each, f)
		case f.long:
		case t.plain(f.typ):
			t.add(prefix + f.name)
		case s.Kind() == reflect.Map && depth < deepest && t.plain(s.Elem()):
			t.add(prefix + f.name + mapMark)
		case s.Kind() == reflect.Struct && depth < deepest:
			t.columns(s, prefix+f.name+".", depth+1)
		}
	}
	if prefix != "" {
		return
	}
	if len(each) > 1 {
		t.add("list")
	}
	for _, f := range each {
		t.columns(settled(f.typ).Elem(), "", 0)
	}
}

// walk makes the rows of a value, each with what is known before it.
func (t *tabled) walk(v reflect.Value, before map[string]string) error {
	v, ok := t.settle(v)
	if !ok {
		return nil
	}
	if v.Kind() == reflect.Slice && !t.plain(v.Type()) {
		for i := range v.Len() {
			if err := t.walk(v.Index(i), before); err != nil {
				return err
			}
		}
		return nil
	}
	row := map[string]string{}
	for k, x := range before {
		row[k] = x
	}
	if v.Kind() != reflect.Struct || t.plain(v.Type()) {
		s, err := t.text(v)
		row["value"] = s
		t.rows = append(t.rows, row)
		return err
	}
	each, err := t.fill(row, v, "", 0)
	if err != nil {
		return err
	}
	if len(each) == 0 {
		t.rows = append(t.rows, row)
		return nil
	}
	for _, f := range each {
		if len(each) > 1 {
			row["list"] = f.name
		}
		x, err := v.FieldByIndexErr(f.index)
		if err != nil { // what is embedded is not there
			continue
		}
		if err := t.walk(x, row); err != nil {
			return err
		}
	}
	return nil
}

// fill writes the cells of a struct, and returns the fields that list rows.
func (t *tabled) fill(row map[string]string, v reflect.Value, prefix string, depth int) (each []field, err error) {
	for _, f := range t.of(v.Type()).fields {
		if f.rows {
			each = append(each, f)
			continue
		}
		x, err := v.FieldByIndexErr(f.index)
		if err != nil || f.long || f.absent(x) {
			continue
		}
		if t.plain(f.typ) {
			if row[prefix+f.name], err = t.member(f, x); err != nil {
				return nil, err
			}
			continue
		}
		if x, ok := t.settle(x); ok && depth < deepest {
			switch {
			case x.Kind() == reflect.Map && t.plain(x.Type().Elem()):
				if err := t.spread(row, f, x, prefix+f.name+"."); err != nil {
					return nil, err
				}
			case x.Kind() == reflect.Struct:
				if _, err := t.fill(row, x, prefix+f.name+".", depth+1); err != nil {
					return nil, err
				}
			}
		}
	}
	return each, nil
}

// spread writes a cell for each key of a map.
func (t *tabled) spread(row map[string]string, f field, m reflect.Value, prefix string) error {
	for _, k := range m.MapKeys() {
		name, err := key(k)
		if err != nil {
			return err
		}
		if row[prefix+name], err = t.member(f, m.MapIndex(k)); err != nil {
			return err
		}
	}
	return nil
}

// keys are the columns that the keys of a map have in any row.
func (t *tabled) keys(of string) []string {
	out := map[string]bool{}
	for _, r := range t.rows {
		for c := range r {
			if strings.HasPrefix(c, of+".") {
				out[c] = true
			}
		}
	}
	return slices.Sorted(maps.Keys(out))
}

func (t *tabled) member(f field, v reflect.Value) (string, error) {
	if f.seconds {
		out := sink{shapes: t.shapes}
		if err := seconds(&out, v); err != nil {
			return "", err
		}
		return strings.Trim(out.String(), `"`), nil
	}
	return t.text(v)
}

// text is a plain value as one cell.
func (t *tabled) text(v reflect.Value) (string, error) {
	if s, ok := t.cell(v.Interface()); ok {
		return s, nil
	}
	v, ok := t.settle(v)
	if !ok {
		return "", nil
	}
	switch x := v.Interface().(type) {
	case json.RawMessage:
		return string(x), nil
	case Keyed, encoding.TextMarshaler:
	default:
		if v.Kind() != reflect.Slice && v.Kind() != reflect.Array || v.Type().Elem().Kind() == reflect.Uint8 {
			break
		}
		parts := make([]string, v.Len())
		for i := range parts {
			var err error
			if parts[i], err = t.text(v.Index(i)); err != nil {
				return "", err
			}
		}
		return strings.Join(parts, "; "), nil
	}
	out := sink{shapes: t.shapes}
	if err := write(&out, v); err != nil {
		return "", err
	}
	var s string
	if json.Unmarshal(out.Bytes(), &s) == nil {
		return s, nil
	}
	return out.String(), nil
}

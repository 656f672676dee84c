package probe

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// records finds the records in a JSON answer, each with a name and the rest in a line: the list itself, or the first
// list that a member holds.
func records(raw []byte) [][2]string {
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return nil
	}
	list, ok := v.([]any)
	if m, isObject := v.(map[string]any); isObject {
		for _, k := range slices.Sorted(maps.Keys(m)) {
			if l, isList := m[k].([]any); isList {
				list, ok = l, true
				break
			}
		}
		if !ok {
			list = []any{v}
		}
	}
	var out [][2]string
	for i, x := range list {
		m, isObject := x.(map[string]any)
		if !isObject {
			out = append(out, [2]string{fmt.Sprint(i + 1), fmt.Sprint(x)})
			continue
		}
		id := ""
		for _, k := range []string{"id", "ID", "name", "uri"} {
			if s, ok := m[k]; ok {
				id = fmt.Sprint(s)
				delete(m, k)
				break
			}
		}
		var rest []string
		for _, k := range slices.Sorted(maps.Keys(m)) {
			rest = append(rest, fmt.Sprintf("%s=%v", k, m[k]))
		}
		out = append(out, [2]string{id, strings.Join(rest, " ")})
	}
	return out
}

package oidc

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
)

// object reads a JSON object (RFC 8259, section 4) as encoding/json does: of a name that is there twice the last one
// counts, and a number is a float64. Errors: those of encoding/json wrapped, and one for what is JSON and no object.
//
// A token is read for each call of an API, and what stands in tokens is nearly always the same: a handful of short
// texts and whole numbers. Those are read here, in one go over the bytes; whatever else there is in JSON, such as an
// escape in a text or anything that is wrong, is left to encoding/json, for all of the object.
func object(b []byte) (map[string]any, error) {
	p := simple{text: string(b)}
	if v, ok := p.object(0); ok && p.done() {
		return v, nil
	}
	var v any // which encoding/json decodes without reflection
	if err := json.Unmarshal(b, &v); err != nil {
		return nil, fmt.Errorf("no JSON object: %w", Unread(err))
	}
	out, ok := v.(map[string]any)
	if !ok {
		return nil, errors.New("no JSON object")
	}
	return out, nil
}

// simple reads the JSON of which tokens are made. Its functions answer false for all else.
type simple struct {
	text string
	at   int
}

// skip goes over white space.
func (p *simple) skip() {
	for p.at < len(p.text) {
		switch p.text[p.at] {
		case ' ', '\t', '\n', '\r':
			p.at++
		default:
			return
		}
	}
}

// takes goes over a character where it is the next one behind white space.
func (p *simple) takes(c byte) bool {
	p.skip()
	if p.at < len(p.text) && p.text[p.at] == c {
		p.at++
		return true
	}
	return false
}

// done reports whether nothing is left but white space.
func (p *simple) done() bool {
	p.skip()
	return p.at == len(p.text)
}

// plainDepth is how deep what is read here lies in one another.
const plainDepth = 8

func (p *simple) object(depth int) (map[string]any, bool) {
	if depth > plainDepth || !p.takes('{') {
		return nil, false
	}
	size := 0
	if depth == 0 { // a header has three members, claims have a dozen
		size = min(1+strings.Count(p.text, ","), 32)
	}
	out := make(map[string]any, size)
	if p.takes('}') {
		return out, true
	}
	for {
		p.skip()
		name, ok := p.string()
		if !ok || !p.takes(':') {
			return nil, false
		}
		v, ok := p.value(depth)
		if !ok {
			return nil, false
		}
		out[name] = v
		if p.takes(',') {
			continue
		}
		return out, p.takes('}')
	}
}

func (p *simple) array(depth int) ([]any, bool) {
	if depth > plainDepth || !p.takes('[') {
		return nil, false
	}
	out := []any{}
	if p.takes(']') {
		return out, true
	}
	for {
		v, ok := p.value(depth)
		if !ok {
			return nil, false
		}
		out = append(out, v)
		if p.takes(',') {
			continue
		}
		return out, p.takes(']')
	}
}

func (p *simple) value(depth int) (v any, ok bool) {
	p.skip()
	if p.at == len(p.text) {
		return nil, false
	}
	switch p.text[p.at] {
	case '"':
		return boxed(p.string())
	case '{':
		return boxed(p.object(depth + 1))
	case '[':
		return boxed(p.array(depth + 1))
	case 't':
		return true, p.word("true")
	case 'f':
		return false, p.word("false")
	case 'n':
		return nil, p.word("null")
	}
	return boxed(p.whole())
}

func boxed[T any](v T, ok bool) (any, bool) { return v, ok }

func (p *simple) word(w string) bool {
	if !strings.HasPrefix(p.text[p.at:], w) {
		return false
	}
	p.at += len(w)
	return true
}

// string reads a text of printable ASCII without an escape.
func (p *simple) string() (string, bool) {
	if p.at == len(p.text) || p.text[p.at] != '"' {
		return "", false
	}
	start := p.at + 1
	for i := start; i < len(p.text); i++ {
		switch c := p.text[i]; {
		case c == '"':
			p.at = i + 1
			return p.text[start:i], true
		case c == '\\' || c < ' ' || c > '~':
			return "", false
		}
	}
	return "", false
}

// whole reads a whole number that is none below zero and that a float64 holds exactly.
func (p *simple) whole() (float64, bool) {
	start, n := p.at, int64(0)
	for p.at < len(p.text) && p.text[p.at] >= '0' && p.text[p.at] <= '9' {
		n = n*10 + int64(p.text[p.at]-'0')
		if p.at++; p.at-start > 15 {
			return 0, false
		}
	}
	if p.at == start || p.text[start] == '0' && p.at-start > 1 {
		return 0, false
	}
	if p.at < len(p.text) && (p.text[p.at] == '.' || p.text[p.at] == 'e' || p.text[p.at] == 'E') {
		return 0, false
	}
	return float64(n), true
}

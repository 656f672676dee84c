package claims

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strings"
)

// Kept stands in an expression in place of a salt that is kept in the ledger and shown nowhere.
const Kept = `"(kept in the ledger)"`

// ErrKept means that an expression names a salt that is kept, where none is.
var ErrKept = errors.New("the salt is not in the text, and the rule that it would be taken from is not there")

// Masked is an expression as it may be shown and written into files: the salts of hashed(text, "salt") that stand in it
// are left out. Whoever knows a salt can make the value of anybody at any app.
func Masked(expr string) string {
	if !strings.Contains(expr, "hashed(") {
		return expr
	}
	var b strings.Builder
	for at := 0; at < len(expr); {
		if quote := expr[at]; quote == '"' || quote == '\'' {
			end := textEnd(expr, at)
			b.WriteString(expr[at:end])
			at = end
			continue
		}
		if !strings.HasPrefix(expr[at:], "hashed(") || at > 0 && isName(expr[at-1]) {
			b.WriteByte(expr[at])
			at++
			continue
		}
		inner, end := arguments(expr, at+len("hashed("))
		last := len(inner) - 1
		for i := range inner {
			inner[i] = Masked(inner[i])
		}
		if salt := strings.TrimSpace(inner[last]); last > 0 && salt != "" && strings.ContainsAny(salt, `"'`) {
			inner[last] = " " + Kept
		}
		b.WriteString("hashed(" + strings.Join(inner, ","))
		at = end
	}
	return b.String()
}

// Told is an expression for whoever compares what stands there with what stood there: its salts are left out, and where
// there are some, two that differ are told apart by a few digits that say nothing else.
func Told(expr string) string {
	m := Masked(expr)
	if m == expr {
		return m
	}
	sum := sha256.Sum256([]byte(expr))
	return m + " #" + hex.EncodeToString(sum[:2])
}

// Unmasked is an expression with the salts that are kept, where it is the masked form of one that is there: of the
// first, which it is to replace, else of the one among the others that it can be. Errors: ErrKept.
func Unmasked(expr string, there ...string) (string, error) {
	if !strings.Contains(expr, Kept) {
		return expr, nil
	}
	found := ""
	for i, x := range there {
		switch {
		case x == "" || Masked(x) != Masked(expr):
		case i == 0:
			return x, nil
		case found != "" && found != x:
			return "", ErrKept
		default:
			found = x
		}
	}
	if found == "" {
		return "", ErrKept
	}
	return found, nil
}

func isName(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c|32 >= 'a' && c|32 <= 'z'
}

// textEnd is the place behind a text that begins at a quote.
func textEnd(expr string, at int) int {
	for i := at + 1; i < len(expr); i++ {
		switch expr[i] {
		case '\\':
			i++
		case expr[at]:
			return i + 1
		}
	}
	return len(expr)
}

// arguments are those of a call whose first begins at a place, and the place of the bracket that ends it.
func arguments(expr string, at int) (out []string, end int) {
	depth, from := 0, at
	for i := at; i < len(expr); i++ {
		switch c := expr[i]; {
		case c == '"' || c == '\'':
			i = textEnd(expr, i) - 1
		case c == '(' || c == '[' || c == '{':
			depth++
		case (c == ')' || c == ']' || c == '}') && depth > 0:
			depth--
		case c == ')':
			return append(out, expr[from:i]), i
		case c == ',' && depth == 0:
			out, from = append(out, expr[from:i]), i+1
		}
	}
	return append(out, expr[min(from, len(expr)):]), len(expr)
}

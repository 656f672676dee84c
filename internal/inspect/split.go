package inspect

import (
	"bytes"
	"strings"

	"tressik.example/internal/core/saml"
)

// Split takes an input apart into the messages in it: several where each line by itself is a captured message, else one.
// A message over several lines, as XML, PEM or folded base64 are, stays whole.
func Split(raw []byte) [][]byte {
	var out [][]byte
	for _, line := range bytes.Split(raw, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) > 0 {
			out = append(out, line)
		}
	}
	if len(out) < 2 {
		return [][]byte{raw}
	}
	for _, line := range out {
		if !wholeMessage(string(line)) {
			return [][]byte{raw}
		}
	}
	return out
}

// wholeMessage reports whether a line is a message by itself: a captured URL or form body, a token, or base64 of XML.
func wholeMessage(line string) bool {
	switch {
	case strings.HasPrefix(line, "https://"), strings.HasPrefix(line, "http://"), strings.HasPrefix(line, "SAMLResponse="),
		strings.HasPrefix(line, "SAMLRequest="), strings.HasPrefix(line, "RelayState="):
		return true
	case strings.HasPrefix(line, "ey") && strings.Count(line, ".") == 2:
		return true
	}
	b, err := saml.Decode64(line)
	return err == nil && looksXML(b)
}

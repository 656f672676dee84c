package inspect

import (
	"bytes"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/saml"
)

// Split takes an input apart into the messages in it: several where each line by itself is a captured message, else
// one. A message over several lines, as XML, PEM or folded base64 are, stays whole.
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
	case strings.HasPrefix(line, "https://"), strings.HasPrefix(line, "http://"),
		strings.HasPrefix(line, "SAMLResponse="),
		strings.HasPrefix(line, "SAMLRequest="), strings.HasPrefix(line, "RelayState="):
		return true
	case strings.HasPrefix(line, "ey") && strings.Count(line, ".") == 2:
		return true
	}
	b, err := saml.Decode64(line)
	return err == nil && looksXML(b)
}

// CapturedURL reports whether an address carries a message in its query or fragment: it is what was sent, to be judged,
// and never to be asked for, which would send it once more.
func CapturedURL(s string) bool {
	if !strings.HasPrefix(s, "https://") && !strings.HasPrefix(s, "http://") {
		return false
	}
	_, carried, _ := strings.Cut(s, "?")
	if _, fragment, ok := strings.Cut(s, "#"); ok {
		carried += "&" + fragment
	}
	q, _ := url.ParseQuery(strings.ReplaceAll(carried, "#", "&")) // what can be read of a broken one
	return slices.ContainsFunc([]string{"SAMLRequest", "SAMLResponse", "SAMLart", "client_id", "response_type", "code",
		"state",
		"error", "id_token", "access_token", "id_token_hint", "logout_token", "request", "request_uri",
		"user_code"}, q.Has)
}

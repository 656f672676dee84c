// Package redact takes out of messages and texts what must not be shown to others: secrets, tokens, signatures, names
// and addresses of people. The same value gives the same word each time, so that what belongs together still shows.
package redact

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"github.com/beevik/etree"

	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// Mask replaces values. It is for one goroutine.
type Mask struct {
	words map[string]string // by kind and value
	made  map[string]bool   // words that stand for something
	count map[string]int
	known []pair
	dirty bool
	// the known values in small letters, by the word that each begins with
	byWord map[string][]pair
}

type pair struct{ value, word string }

// New makes a mask that knows nobody.
func New() *Mask {
	return &Mask{words: map[string]string{}, made: map[string]bool{}, count: map[string]int{}}
}

// Word returns what stands for a value of a kind, such as token-2; an empty value stays empty, and so does a word that
// this mask made.
func (m *Mask) Word(kind, value string) string {
	if value == "" || m.made[value] {
		return value
	}
	key := kind + "\x00" + value
	w, ok := m.words[key]
	if !ok {
		m.count[kind]++
		w = fmt.Sprintf("%s-%d", kind, m.count[kind])
		if kind == "mail" {
			w += "@redacted.invalid" // RFC 2606, section 2
		}
		m.words[key], m.made[w] = w, true
	}
	return w
}

// Know has a value of a person replaced wherever it stands as a word of its own. Values of fewer than three characters
// are not: they stand in too much else.
func (m *Mask) Know(kind, value string) {
	if len(value) < 3 {
		return
	}
	if strings.Contains(value, "@") && known().mail.MatchString(value) {
		kind = "mail"
	}
	m.known = append(m.known, pair{value, m.Word(kind, value)})
	m.dirty = true
}

// patterns are what is recognised in texts. They are built with the first text that is masked: most commands mask none.
type patterns struct{ mail, token, field, basic, blank *regexp.Regexp }

var known = sync.OnceValue(func() patterns {
	return patterns{
		mail:  regexp.MustCompile(`[A-Za-z0-9._%+'-]+@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+`),
		token: regexp.MustCompile(`eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*\.[A-Za-z0-9_-]*(\.[A-Za-z0-9_-]*)*`),
		field: regexp.MustCompile(`\b(` + strings.Join(secretFields(), "|") + `)=([^&\s"']+)`),
		basic: regexp.MustCompile(`\b(Basic|Bearer) [A-Za-z0-9._~+/=-]{8,}`),
		blank: regexp.MustCompile(`-----BEGIN [A-Z ]*PRIVATE KEY-----[^-]*-----END [A-Z ]*PRIVATE KEY-----`),
	}
})

// secretFields are the parameters of OAuth and SAML whose values open something or lead to a person.
func secretFields() []string {
	return []string{"code", "state", "nonce", "client_secret", "client_assertion", "access_token", "refresh_token",
		"id_token", "id_token_hint", "login_hint", "code_verifier", "code_challenge", "password", "device_code",
		"user_code",
		"request_uri", "RelayState", "SAMLart", "Signature", "token", "logout_token", "assertion", "sid"}
}

// Text replaces what is recognised in a text: what Know was told, mail addresses, tokens, secrets in parameters and
// headers, private keys.
func (m *Mask) Text(s string) string {
	s = known().blank.ReplaceAllString(s, "[private key]")
	s = known().token.ReplaceAllStringFunc(s, func(t string) string { return m.Word("token", t) })
	s = known().basic.ReplaceAllStringFunc(s, func(t string) string {
		how, value, _ := strings.Cut(t, " ")
		return how + " " + m.Word("credential", value)
	})
	s = known().field.ReplaceAllStringFunc(s, func(t string) string {
		name, value, _ := strings.Cut(t, "=")
		return name + "=" + m.Word(strings.ReplaceAll(name, "_", "-"), value)
	})
	s = m.people(s)
	var b strings.Builder
	i := 0
	for _, at := range known().mail.FindAllStringIndex(s, -1) {
		t := s[at[0]:at[1]]
		if at[0] < i || strings.HasSuffix(t, "@redacted.invalid") {
			continue
		}
		if !strings.Contains(t[strings.IndexByte(t, '@'):], ".") {
			continue
		}
		b.WriteString(s[i:at[0]])
		b.WriteString(m.Word("mail", t))
		i = at[1]
	}
	b.WriteString(s[i:])
	return b.String()
}

// people replaces the values that Know was told where no letter or digit is beside them, letter case not counting; of
// values that overlap, the longest. Each place is compared with the values that begin with the word that stands there
// alone, so that it takes as long among many people as among few.
func (m *Mask) people(s string) string {
	if m.dirty {
		m.byWord = make(map[string][]pair, len(m.known))
		for _, p := range m.known {
			low := lower(p.value)
			k := low[:first(low)]
			m.byWord[k] = append(m.byWord[k], pair{low, p.word})
		}
		m.dirty = false
	}
	if len(m.known) == 0 {
		return s
	}
	low := lower(s)
	var found []hit
	for at := 0; at < len(low); {
		n := first(low[at:])
		for _, p := range m.byWord[low[at:at+n]] {
			end := at + len(p.value)
			if strings.HasPrefix(low[at:], p.value) && (end == len(low) || !letter(low[end])) &&
				(at == 0 || !letter(low[at-1])) {
				found = append(found, hit{at, end, p.word})
			}
		}
		at += n
	}
	if len(found) == 0 {
		return s
	}
	slices.SortStableFunc(found, func(a, b hit) int { return (b.end - b.at) - (a.end - a.at) })
	over := make([]bool, len(s))
	taken := found[:0]
	for _, h := range found {
		if !slices.Contains(over[h.at:h.end], true) {
			taken = append(taken, h)
			for i := h.at; i < h.end; i++ {
				over[i] = true
			}
		}
	}
	slices.SortFunc(taken, func(a, b hit) int { return a.at - b.at })
	var b strings.Builder
	i := 0
	for _, h := range taken {
		b.WriteString(s[i:h.at])
		b.WriteString(h.word)
		i = h.end
	}
	b.WriteString(s[i:])
	return b.String()
}

// hit is where a value stands in a text.
type hit struct {
	at, end int
	word    string
}

// first is how long the word is that a text begins with; of one that begins with something else, that byte.
func first(s string) int {
	n := 0
	for n < len(s) && letter(s[n]) {
		n++
	}
	return max(n, min(1, len(s)))
}

// lower writes a text in small letters, each byte of it at its place: a letter whose small one has another length, and
// what is no letter at all, stay.
func lower(s string) string {
	b := []byte(s)
	for i := 0; i < len(b); {
		if c := b[i]; c < utf8.RuneSelf {
			if c >= 'A' && c <= 'Z' {
				b[i] = c + 'a' - 'A'
			}
			i++
			continue
		}
		r, n := utf8.DecodeRune(b[i:])
		if low := unicode.ToLower(r); r != utf8.RuneError && utf8.RuneLen(low) == n {
			utf8.EncodeRune(b[i:], low)
		}
		i += n
	}
	return string(b)
}

func letter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80
}

// Message writes a message as it travelled, such as a URL, the body of a form, a captured request, a token or base64 of
// any of them, so that it can be read and shown: SAML is written out without signatures, names and values, a token as
// its header and claims. Whatever wrapping is read elsewhere is taken off here too: what stays wrapped is masked by
// nothing.
func (m *Mask) Message(text string) string {
	text = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(text), "\ufeff"))
	if len(text) > len("Bearer ") && strings.EqualFold(text[:len("Bearer ")], "Bearer ") {
		return "Bearer " + m.Message(text[len("Bearer "):])
	}
	if head, claims, err := oidc.Peek(text); err == nil {
		return m.token(head, claims)
	}
	switch {
	case strings.HasPrefix(text, "<"):
		return m.XML([]byte(text))
	case strings.HasPrefix(text, "{"):
		var doc map[string]any
		if json.Unmarshal([]byte(text), &doc) == nil {
			return m.document(doc)
		}
	}
	if xml := unwrapped(text); xml != nil {
		return m.XML(xml)
	}
	if strings.ContainsAny(text, " \n") && (strings.Contains(text, "SAMLRe") || strings.Contains(text, "HTTP/")) {
		return m.request(text)
	}
	at, query := "", text
	if u, err := url.Parse(text); err == nil && u.Scheme != "" && u.Host != "" {
		query = u.RawQuery
		u.RawQuery, u.Fragment = "", ""
		at = u.String()
	}
	form, err := url.ParseQuery(query)
	if err != nil || len(form) == 0 {
		return m.Text(text)
	}
	if c, err := saml.DecodeRedirect(query); err == nil && c.XML != nil {
		return join(at, c.Parameter, m.XML(c.XML))
	}
	if c, err := saml.DecodePOST(form); err == nil && c.XML != nil {
		return join(at, c.Parameter, m.XML(c.XML))
	}
	var lines []string
	for _, k := range sorted(form) {
		for _, v := range form[k] {
			if slices.Contains(secretFields(), k) {
				v = m.Word(strings.ReplaceAll(k, "_", "-"), v)
			}
			lines = append(lines, k+"="+m.Text(v))
		}
	}
	return join(at, "", strings.Join(lines, "\n"))
}

// unwrapped is the XML in base64, deflated or not, URL-encoded once or not; nil where it is none.
func unwrapped(text string) []byte {
	for range 2 {
		b, err := saml.Decode64(text)
		if err == nil {
			if x, _, err := saml.Inflate(b); err == nil {
				b = x
			}
			if strings.HasPrefix(strings.TrimSpace(string(b)), "<") {
				return b
			}
			return nil
		}
		if text, err = url.QueryUnescape(text); err != nil {
			return nil
		}
	}
	return nil
}

// request masks a captured request or answer line by line: each part that carries a message as that, the rest as text.
// Of what follows the empty line after the headers the whole is one message.
func (m *Mask) request(text string) string {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	head, body, _ := strings.Cut(text, "\n\n")
	var out []string
	for _, line := range strings.Split(head, "\n") {
		words := strings.Split(line, " ")
		for i, w := range words {
			name, _, found := strings.Cut(line, ":")
			secret := found && slices.Contains([]string{"cookie", "set-cookie", "authorization"}, strings.ToLower(name))
			switch {
			case secret && i > 0:
				words[i] = m.Word(strings.ToLower(name), w)
			case strings.Contains(w, "="), strings.Count(w, ".") == 2 && strings.HasPrefix(w, "ey"):
				words[i] = m.Message(w)
			default:
				words[i] = m.Text(w)
			}
		}
		out = append(out, strings.Join(words, " "))
	}
	if body = strings.TrimSpace(body); body != "" {
		out = append(out, "", m.Message(body))
	}
	return strings.Join(out, "\n")
}

// document masks a JSON object, such as an answer of a token endpoint or claims.
func (m *Mask) document(doc map[string]any) string {
	for k, v := range doc {
		if s, ok := v.(string); ok && slices.Contains(secretFields(), k) {
			if head, claims, err := oidc.Peek(s); err == nil {
				doc[k] = m.token(head, claims)
			} else {
				doc[k] = m.Word(strings.ReplaceAll(k, "_", "-"), s)
			}
			continue
		}
		doc[k] = m.claim(k, v)
	}
	b, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		return m.Text(fmt.Sprint(doc))
	}
	return string(b)
}

func sorted(v url.Values) []string {
	var out []string
	for k := range v {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func join(at, what, text string) string {
	return strings.TrimSpace(strings.TrimSpace(at+" "+what) + "\n" + text)
}

// token is a token as its header and its claims, without its signature.
func (m *Mask) token(head oidc.Header, claims map[string]any) string {
	out := map[string]any{}
	for k, v := range claims {
		out[k] = m.claim(k, v)
	}
	b, err := json.MarshalIndent(map[string]any{"alg": head.Alg, "kid": head.Kid, "typ": head.Typ, "claims": out}, "",
		"  ")
	if err != nil {
		return m.Word("token", fmt.Sprint(claims))
	}
	return string(b)
}

// told are claims that say nothing of a person (RFC 7519, section 4.1; OpenID Connect Core, section 2).
func told() []string {
	return []string{"iss", "aud", "azp", "exp", "iat", "nbf", "auth_time", "acr", "amr", "client_id", "scope",
		"email_verified", "events"}
}

func (m *Mask) claim(name string, v any) any {
	if slices.Contains(told(), name) {
		return v
	}
	switch x := v.(type) {
	case string:
		return m.value(name, x)
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = m.claim(name, x[i])
		}
		return out
	case map[string]any:
		out := map[string]any{}
		for k, y := range x {
			out[k] = m.claim(k, y)
		}
		return out
	}
	return v
}

func (m *Mask) value(kind, v string) string {
	if masked := m.Text(v); masked != v {
		return masked
	}
	return m.Word(kind, v)
}

// XML writes a SAML message without signature values, encrypted contents, names and values of people. What cannot be
// read as XML is masked as text.
func (m *Mask) XML(raw []byte) string {
	doc, err := xmlsec.Parse(raw, xmlsec.MessageLimits())
	if err != nil {
		return m.Text(string(raw))
	}
	root := doc.Root().Copy()
	m.element(root)
	out := etree.NewDocument()
	out.SetRoot(root)
	out.Indent(2)
	var b bytes.Buffer
	if _, err := out.WriteTo(&b); err != nil {
		return m.Text(string(raw))
	}
	return m.people(strings.TrimSpace(b.String()))
}

func (m *Mask) element(el *etree.Element) {
	switch el.Tag {
	case "NameID", "BaseID":
		el.SetText(m.value("name-id", el.Text()))
	case "AttributeValue":
		if len(el.ChildElements()) == 0 {
			el.SetText(m.value("value", el.Text()))
		}
	case "SignatureValue", "CipherValue":
		el.SetText("(left out)")
	}
	for _, name := range []string{"SessionIndex"} {
		if a := el.SelectAttr(name); a != nil {
			a.Value = m.Word("session", a.Value)
		}
	}
	if el.Tag == "SessionIndex" {
		el.SetText(m.Word("session", el.Text()))
	}
	for _, c := range el.ChildElements() {
		m.element(c)
	}
}

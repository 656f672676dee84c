package inspect

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
	"tressik.example/internal/core/redact"
	"tressik.example/internal/core/saml"
	"tressik.example/internal/core/xmlsec"
)

// Recorded is one message that a browser carried, out of an HTTP Archive.
type Recorded struct {
	At    time.Time // when the browser sent it; zero where the archive does not say
	Entry int       // which entry of the archive, from 1
	To    string    // whom it was sent to, without the query
	Text  string    // as Inspect takes it: an address, a form body, or a token
	// SignIn is which of the sign-ins in the archive it belongs to, from 1, where that is known: two may go on at one
	// time
	SignIn int
	posted bool   // it is a form that was posted
	reply  *reply // how it was answered; nil where the archive does not say
}

// ErrArchive means that a file is no HTTP Archive that can be read.
var ErrArchive = errors.New("this is no HTTP Archive that can be read")

// entry is what counts of an archive's entry (HTTP Archive 1.2, entries).
type entry struct {
	Started string `json:"startedDateTime"`
	Request struct {
		Method string `json:"method"`
		URL    string `json:"url"`
		Post   *struct {
			Text   string `json:"text"`
			Params []pair `json:"params"`
		} `json:"postData"`
	} `json:"request"`
	Response struct {
		Status  *int `json:"status"`
		Content struct {
			Kind     string          `json:"mimeType"`
			Text     json.RawMessage `json:"text"` // read where it may be a token answer; most are long, and none
			Encoding string          `json:"encoding"`
		} `json:"content"`
	} `json:"response"`
}

type pair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Archive takes the SAML and OAuth messages out of a recorded browser session, in the order in which they were sent. It
// reads entry by entry: no more than one is held. An archive that is cut off gives what stands before the cut, and an
// error. Errors: ErrArchive.
func Archive(r io.Reader) ([]Recorded, error) {
	var out []Recorded
	err := entries(r, func(n int, e *entry) error {
		for _, take := range []func() (Recorded, bool){e.message, e.answer} {
			if m, ok := take(); ok {
				m.Entry = n
				out = append(out, m)
			}
		}
		return nil
	})
	slices.SortStableFunc(out, func(a, b Recorded) int { return a.At.Compare(b.At) })
	switch {
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
		return out, fmt.Errorf("%w: it is cut off (messages before the cut: %d); record and save it again", ErrArchive,
			len(out))
	case err != nil:
		return out,
			fmt.Errorf("%w: %s; record the sign-in with the browser's developer tools, and save all of it as HAR "+
				"with content", ErrArchive, oidc.Unread(err))
	}
	return out, nil
}

// entries hands each entry of an archive on, one at a time, counted from 1.
func entries(r io.Reader, each func(n int, e *entry) error) error {
	d := json.NewDecoder(r)
	return members(d, func(key string) error {
		if key != "log" {
			return skip(d)
		}
		return members(d, func(key string) error {
			if key != "entries" {
				return skip(d)
			}
			if err := delim(d, '['); err != nil {
				return err
			}
			for n := 1; d.More(); n++ {
				var e entry
				if err := d.Decode(&e); err != nil {
					if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
						return fmt.Errorf("entry %d: %w", n, err)
					}
					return fmt.Errorf("entry %d: %w", n, oidc.Unread(err))
				}
				if err := each(n, &e); err != nil {
					return err
				}
			}
			return delim(d, ']')
		})
	})
}

// answer is the ID token that a token endpoint answered with, where the app runs in the browser and asked for it
// itself.
func (e *entry) answer() (Recorded, bool) {
	c := &e.Response.Content
	if !strings.Contains(c.Kind, "json") || len(c.Text) > 1<<20 {
		return Recorded{}, false
	}
	var body string
	if json.Unmarshal(c.Text, &body) != nil {
		return Recorded{}, false
	}
	text := []byte(body)
	if c.Encoding == "base64" {
		b, err := base64.StdEncoding.DecodeString(body)
		if err != nil {
			return Recorded{}, false
		}
		text = b
	}
	var t struct {
		ID string `json:"id_token"`
	}
	if json.Unmarshal(text, &t) != nil || t.ID == "" {
		return Recorded{}, false
	}
	at, _ := time.Parse(time.RFC3339Nano, e.Started) // an entry without a time stays in its place
	to, _, _ := strings.Cut(e.Request.URL, "?")
	return Recorded{At: at, To: to, Text: t.ID}, true
}

// message is what an entry's request carries. What a redirect answers with is the next entry's request, and not taken
// twice.
func (e *entry) message() (Recorded, bool) {
	at, _ := time.Parse(time.RFC3339Nano, e.Started) // an entry without a time stays in its place
	to, _, _ := strings.Cut(e.Request.URL, "?")
	to, _, _ = strings.Cut(to, "#")
	m := Recorded{At: at, To: to}
	m.Text = e.Request.URL
	if p := e.Request.Post; p != nil && strings.EqualFold(e.Request.Method, "POST") {
		m.Text, m.posted = p.Text, true
		if len(p.Params) > 0 && !carries(m.Text) {
			form := url.Values{}
			for _, x := range p.Params {
				form.Add(plain(x.Name), plain(x.Value))
			}
			m.Text = form.Encode()
		}
	}
	m.reply = e.reply()
	return m, carries(m.Text)
}

// plain is a parameter without the escapes in which some browsers write it.
func plain(s string) string {
	if u, err := url.QueryUnescape(s); err == nil && strings.Contains(s, "%") {
		return u
	}
	return s
}

// carries reports whether a text has a SAML or OAuth message.
func carries(text string) bool {
	if _, ok, _ := carriedIn(text, false); ok {
		return true
	}
	_, _, _, ok := oauthIn(text)
	return ok
}

// Session judges the messages of a recorded session one after the other, each by the trust that it belongs to, at the
// time at which it was sent; a SAML response is held against the request before it. A trust that is named counts for
// all. Each gets what was found, or why nothing could be.
func (d *Inspector) Session(in Input, list []Recorded, each func(m Recorded, v *Inspection, err error)) {
	asked := map[string]string{} // by trust, the ID of the last request
	begun := map[string]int{}    // sign-ins, by the ID of a request or by a state
	named := in.Trust
	var sides []federated
	if named == "" {
		sides = d.federated()
	}
	last := map[string]int{} // by what ties messages to a sign-in, the last of them
	for i, m := range list {
		id, answers, state := marks(m.Text)
		last[id+answers+state] = i
	}
	for i, m := range list {
		id, answers, state := marks(m.Text)
		switch {
		case id != "":
			begun[id] = len(begun) + 1
			m.SignIn = begun[id]
		case answers != "":
			m.SignIn = begun[answers]
		case state != "":
			if begun[state] == 0 {
				begun[state] = len(begun) + 1
			}
			m.SignIn = begun[state]
		}
		x := in
		if x.Raw, x.Posted = []byte(m.Text), m.posted; x.At.IsZero() {
			x.At = m.At
		}
		if named == "" {
			x.Trust = d.trustOf(m, sides)
		}
		x.Request = asked[x.Trust]
		if begun[answers] > 0 { // one of several that go on at one time
			x.Request = answers
		}
		v, err := d.Inspect(x)
		if err == nil && v.Kind == "SAML AuthnRequest" && x.Trust != "" {
			asked[x.Trust] = v.FactMap["ID"]
		}
		if err == nil {
			v.Trust = cmp.Or(v.Trust, x.Trust)
			d.answered(m, v, last[id+answers+state] > i && !response(v))
		}
		each(m, v, err)
	}
}

// marks are what tie a message to a sign-in: the ID of a SAML request, that which a SAML message answers, or the state
// of an OAuth message.
func marks(text string) (id, answers, state string) {
	if c, ok, err := carriedIn(text, false); ok && err == nil {
		if doc, err := xmlsec.Parse(c.XML, xmlsec.MessageLimits()); err == nil {
			root := doc.Root()
			if answers = xmlsec.Attr(root, "InResponseTo"); answers == "" && root.Tag == "AuthnRequest" {
				id = xmlsec.Attr(root, "ID")
			}
		}
		return id, answers, ""
	}
	_, _, q, _ := oauthIn(text)
	return "", "", q.Get("state")
}

// federated is a trust with its two sides.
type federated struct {
	trust         *federation.Trust
	app, provider *federation.Party
	issuer        string // of the provider over OpenID Connect; "" where it is none
}

// federated are the trusts whose two sides can be read: they are read once for all messages of a session.
func (d *Inspector) federated() (out []federated) {
	if !d.Known() {
		return nil
	}
	all, err := d.View.Trusts()
	if err != nil {
		return nil
	}
	for i := range all {
		if t, app, provider, err := d.Trust(all[i].Name); err == nil {
			f := federated{t, app, provider, ""}
			if doc := provider.OpenIDOf(); doc != nil {
				f.issuer = doc.Issuer
			}
			out = append(out, f)
		}
	}
	return out
}

// trustOf finds the one trust that a message belongs to, by who says to have sent it and where it went; "" where that
// is none or several.
func (d *Inspector) trustOf(m Recorded, sides []federated) string {
	if len(sides) == 0 {
		return ""
	}
	v, err := d.Inspect(Input{Raw: []byte(m.Text), At: m.At, Posted: m.posted})
	if err != nil {
		return ""
	}
	issuer := v.FactMap["Issuer"]
	if i := v.FactMap["Issuer (app)"]; i != "" {
		issuer = i
	}
	_, _, q, _ := oauthIn(m.Text)
	found := ""
	for _, s := range sides {
		if !s.carries(issuer, q, m.To) {
			continue
		}
		if found != "" {
			return ""
		}
		found = s.trust.Name
	}
	return found
}

// carries reports whether a message passed between the sides of the trust.
func (f *federated) carries(issuer string, q url.Values, to string) bool {
	app, provider := f.app, f.provider
	if o := f.trust.OIDCTerms(); o != nil {
		client := app.ClientSide()
		switch {
		case q == nil || client == nil || f.issuer == "":
			return false
		case q.Has("client_id"):
			return q.Get("client_id") == o.ClientID
		}
		return slices.Contains(client.Redirects, to) && (!q.Has("iss") || q.Get("iss") == f.issuer)
	}
	if issuer == "" || app.Entity.SP == nil || provider.Entity.IDP == nil {
		return false
	}
	at := func(lists ...[]saml.Endpoint) bool {
		for _, l := range lists {
			for _, e := range l {
				if e.Location == to || e.ResponseLocation == to {
					return true
				}
			}
		}
		return false
	}
	switch issuer {
	case app.Entity.ID:
		return at(provider.Entity.IDP.SSO, provider.Entity.IDP.SLO)
	case provider.Entity.ID:
		return at(app.Entity.SP.ACS, app.Entity.SP.SLO)
	}
	return false
}

// members goes through an object's members; each has to take its value.
func members(d *json.Decoder, each func(key string) error) error {
	if err := delim(d, '{'); err != nil {
		return err
	}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return err
		}
		if err := each(fmt.Sprint(key)); err != nil {
			return err
		}
	}
	return delim(d, '}')
}

func delim(d *json.Decoder, want json.Delim) error {
	t, err := d.Token()
	if err != nil {
		return err
	}
	if t != want {
		return fmt.Errorf("at octet %d stands %v in place of %v", d.InputOffset(), t, want)
	}
	return nil
}

func skip(d *json.Decoder) error {
	var x json.RawMessage
	return d.Decode(&x)
}

// SignIns counts the sign-ins that begin in an archive.
func SignIns(list []Recorded) int {
	begun := map[string]bool{}
	for _, m := range list {
		if id, _, state := marks(m.Text); id+state != "" {
			begun[id+state] = true
		}
	}
	return len(begun)
}

// Redacted writes a copy of an archive that is safe to send to somebody else: each request with its address, and what
// the messages in it say, without secrets, signatures, names and values of people. Headers, cookies and bodies of
// answers are left out. It goes entry by entry. Errors: ErrArchive, where what stands before the cut is written all the
// same.
func Redacted(w io.Writer, r io.Reader, mask *redact.Mask) error {
	if _, err := io.WriteString(w,
		`{"log":{"version":"1.2","creator":{"name":"tressik","version":"redacted"},"entries":[`); err != nil {
		return err
	}
	err := entries(r, func(n int, e *entry) error { return e.redacted(w, n-1, mask) })
	if _, werr := io.WriteString(w, "\n]}}\n"); werr != nil {
		return werr
	}
	if err != nil {
		return fmt.Errorf("%w: %w", ErrArchive, err)
	}
	return nil
}

func (e *entry) redacted(w io.Writer, n int, mask *redact.Mask) error {
	at, _, _ := strings.Cut(e.Request.URL, "?")
	out := map[string]any{"startedDateTime": e.Started}
	req := map[string]any{"method": e.Request.Method, "url": mask.Text(at)}
	if m, ok := e.message(); ok {
		req["comment"] = mask.Message(m.Text)
	}
	out["request"] = req
	if m, ok := e.answer(); ok {
		out["comment"] = mask.Message(m.Text)
	}
	b, err := json.Marshal(out)
	if err != nil {
		return err
	}
	sep := ",\n"
	if n == 0 {
		sep = "\n"
	}
	_, err = w.Write(append([]byte(sep), b...))
	return err
}

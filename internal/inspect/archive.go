package inspect

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/saml"
)

// Recorded is one message that a browser carried, out of an HTTP Archive.
type Recorded struct {
	At    time.Time // when the browser sent it; zero where the archive does not say
	Entry int       // which entry of the archive, from 1
	To    string    // whom it was sent to, without the query
	Text  string    // as Inspect takes it: an address, or a form body
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
}

type pair struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Archive takes the SAML and OAuth messages out of a recorded browser session, in the order in which they were sent. It
// reads entry by entry: no more than one is held. An archive that is cut off gives what stands before the cut, and an
// error. Errors: ErrArchive.
func Archive(r io.Reader) ([]Recorded, error) {
	d := json.NewDecoder(r)
	var out []Recorded
	err := members(d, func(key string) error {
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
					return fmt.Errorf("entry %d: %w", n, err)
				}
				if m, ok := e.message(); ok {
					m.Entry = n
					out = append(out, m)
				}
			}
			return delim(d, ']')
		})
	})
	slices.SortStableFunc(out, func(a, b Recorded) int { return a.At.Compare(b.At) })
	switch {
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
		return out, fmt.Errorf("%w: it is cut off (messages before the cut: %d); record and save it again", ErrArchive,
			len(out))
	case err != nil:
		return out, fmt.Errorf("%w: %w", ErrArchive, err)
	}
	return out, nil
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
		m.Text = p.Text
		if len(p.Params) > 0 && !carries(m.Text) {
			form := url.Values{}
			for _, x := range p.Params {
				form.Add(plain(x.Name), plain(x.Value))
			}
			m.Text = form.Encode()
		}
	}
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
	if _, ok, _ := carriedIn(text); ok {
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
	named := in.Trust
	for _, m := range list {
		x := in
		if x.Raw = []byte(m.Text); x.At.IsZero() {
			x.At = m.At
		}
		if named == "" {
			x.Trust = d.trustOf(m)
		}
		x.Request = asked[x.Trust]
		v, err := d.Inspect(x)
		if err == nil && v.Kind == "SAML AuthnRequest" && x.Trust != "" {
			asked[x.Trust] = v.FactMap["ID"]
		}
		each(m, v, err)
	}
}

// trustOf finds the one trust that a message belongs to, by who says to have sent it and where it went; "" where that
// is none or several.
func (d *Inspector) trustOf(m Recorded) string {
	if d.L == nil {
		return ""
	}
	all, err := d.L.Trusts()
	if err != nil {
		return ""
	}
	v, err := d.Inspect(Input{Raw: []byte(m.Text), At: m.At})
	if err != nil {
		return ""
	}
	issuer := v.FactMap["Issuer"]
	if i := v.FactMap["Issuer (app)"]; i != "" {
		issuer = i
	}
	_, _, q, _ := oauthIn(m.Text)
	found := ""
	for i := range all {
		t, app, provider, err := d.Trust(all[i].Name)
		if err != nil || !between(t, app, provider, issuer, q, m.To) {
			continue
		}
		if found != "" {
			return ""
		}
		found = t.Name
	}
	return found
}

// between reports whether a message passed between the sides of a trust.
func between(t *federation.Trust, app, provider *federation.Party, issuer string, q url.Values, to string) bool {
	if o := t.OIDCTerms(); o != nil {
		client, doc := app.ClientSide(), provider.OpenIDOf()
		switch {
		case q == nil || client == nil || doc == nil:
			return false
		case q.Has("client_id"):
			return q.Get("client_id") == o.ClientID
		}
		return slices.Contains(client.Redirects, to) && (!q.Has("iss") || q.Get("iss") == doc.Issuer)
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

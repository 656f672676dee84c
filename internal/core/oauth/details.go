package oauth

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/core/oidc"
)

// Bounds of what is read of authorization details.
const (
	maxDetails   = 20       // objects
	largeDetails = 32 << 10 // bytes
)

// ReadDetails reads the parameter authorization_details (RFC 9396, section 2): each object asks for one permission that
// the trust asks for, narrowed to records or an amount, and may not go beyond what the trust is narrowed to. A type, a
// member or a value that is not known is refused, never passed over (section 5). Errors:
// invalid_authorization_details.
func ReadDetails(text string, r *Registered, as string) ([]federation.Ask, *oidc.Error) {
	if text == "" {
		return nil, nil
	}
	bad := func(why string, a ...any) ([]federation.Ask, *oidc.Error) {
		return nil, oidc.Fail(oidc.InvalidDetails, fmt.Sprintf(why, a...))
	}
	var list []map[string]any
	if len(text) > largeDetails {
		return bad("authorization_details is longer than %d KB", largeDetails>>10)
	}
	if err := json.Unmarshal([]byte(text), &list); err != nil || len(list) == 0 {
		return bad("authorization_details is no list of objects (RFC 9396, section 2)")
	}
	if len(list) > maxDetails {
		return bad("authorization_details has %d objects; at most %d are read", len(list), maxDetails)
	}
	var out []federation.Ask
	for i, d := range list {
		a, why := detail(d, r, as)
		if why != "" {
			return bad("object %d of authorization_details: %s", i+1, why)
		}
		out = append(out, a)
	}
	return out, nil
}

// detail reads one object; why says what is wrong with it.
func detail(d map[string]any, r *Registered, as string) (a federation.Ask, why string) {
	kind, places := oidc.Text(d, "type"), oidc.Texts(d, "locations")
	if kind == "" {
		return a, "type is missing"
	}
	if _, there := d["locations"]; there && len(places) != 1 {
		return a, "locations must name one API"
	}
	var known *federation.Permission
	for _, x := range r.Terms.Asks {
		if x.Name == kind && x.As == as && x.API != "" && (len(places) == 0 || r.IsAPI(x.API, places[0])) {
			if p := r.APIs[x.API]; p != nil {
				a, known = x, p.API.Find(kind)
			}
		}
	}
	if known == nil {
		return a, fmt.Sprintf("%s does not ask for a permission %.100q in this way", r.Trust.Name, kind)
	}
	n := &federation.Narrowed{}
	for _, name := range slices.Sorted(maps.Keys(d)) {
		switch v := d[name]; {
		case name == "type" || name == "locations":
		case name == known.Records && known.Records != "":
			if n.Records = oidc.Texts(d, name); len(n.Records) == 0 || !onlyTexts(v) {
				return a, name + " must be a text, or a list of texts"
			}
		case name == known.Amount && known.Amount != "":
			f, ok := v.(float64)
			if !ok || f <= 0 {
				return a, name + " must be a number over 0"
			}
			n.Most = f
		default:
			return a, fmt.Sprintf("%s has no member %.100q", kind, name)
		}
	}
	if err := federation.CheckNarrowed(a.Label(), known, n); err != nil {
		return a, err.Error()
	}
	if !a.Narrowed.Covers(n) {
		return a, fmt.Sprintf("%s may ask for %s within this alone: %s", r.Trust.Name, a.Label(),
			a.Narrowed.Words(known))
	}
	a.Narrowed = n
	return a, ""
}

func onlyTexts(v any) bool {
	list, many := v.([]any)
	if !many {
		_, ok := v.(string)
		return ok
	}
	return !slices.ContainsFunc(list, func(x any) bool { _, ok := x.(string); return !ok })
}

// within narrows what was granted to what a token request asks for in detail (RFC 9396, section 6): each object must
// lie within something granted. Errors: invalid_authorization_details.
func within(r *Registered, granted []federation.Ask, text, as string) ([]federation.Ask, *oidc.Error) {
	want, e := ReadDetails(text, r, as)
	if e != nil || want == nil {
		return granted, e
	}
	out := slices.DeleteFunc(slices.Clone(granted), func(a federation.Ask) bool {
		return a.Narrowed != nil || slices.ContainsFunc(want, a.Same)
	})
	for _, a := range want {
		holds := func(g federation.Ask) bool { return g.Same(a) && g.Narrowed.Covers(a.Narrowed) }
		if !slices.ContainsFunc(granted, holds) {
			return nil, oidc.Fail(oidc.InvalidDetails, a.Full(r.APIs)+" was not granted")
		}
		out = append(out, a)
	}
	return out, nil
}

// Words names asks with what each is narrowed to, for people.
func (r *Registered) Words(asks []federation.Ask) string {
	out := ""
	for _, a := range asks {
		word := a.Name
		if a.Narrowed != nil {
			word = a.Full(r.APIs)
		}
		if out != "" {
			out += " "
		}
		out += word
	}
	return out
}

// Detailed is what an access token says in detail of a permission at an API's audience; ok is false where it says
// nothing.
func Detailed(claims map[string]any, p *federation.Permission, audience string) (n *federation.Narrowed, ok bool) {
	list, _ := claims["authorization_details"].([]any)
	for _, x := range list {
		d, _ := x.(map[string]any)
		if oidc.Text(d, "type") != p.Name || !slices.Contains(oidc.Texts(d, "locations"), audience) {
			continue
		}
		n = &federation.Narrowed{}
		if p.Records != "" {
			n.Records = oidc.Texts(d, p.Records)
		}
		if f, is := d[p.Amount].(float64); is && p.Amount != "" {
			n.Most = f
		}
		return n, true
	}
	return nil, false
}

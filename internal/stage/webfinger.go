package stage

import (
	"encoding/json"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"tressik.example/internal/core/federation"
	"tressik.example/internal/stage/cast"
)

// relIssuer is the relation by which an OpenID issuer is asked for (OpenID Connect Discovery, section 2).
const relIssuer = "http://openid.net/specs/connect/1.0/issuer"

// webfinger says at which issuer people of an address sign in (RFC 7033; OpenID Connect Discovery, section 2): that to
// which their domain is routed, else the own provider of people of the ledger.
func (s *Stage) webfinger(c *cast.Cast) http.HandlerFunc {
	type link struct {
		Rel  string `json:"rel"`
		Href string `json:"href"`
	}
	return func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Access-Control-Allow-Origin", "*") // RFC 7033, section 5
		h.Set("X-Content-Type-Options", "nosniff")
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			h.Set("Allow", "GET, HEAD")
			http.Error(w, "ask with GET", http.StatusMethodNotAllowed)
			return
		}
		q := r.URL.Query()
		resource := q.Get("resource")
		address := strings.TrimPrefix(strings.TrimPrefix(resource, "acct:"), "mailto:")
		if u, err := url.Parse(resource); len(q["resource"]) != 1 || err != nil || u.Scheme == "" {
			http.Error(w, "resource is missing: a URI such as acct:NAME@DOMAIN, once (RFC 7033, section 4.1)",
				http.StatusBadRequest)
			return
		}
		issuer := "" // of another kind of resource nothing is known here (section 4.2)
		if strings.Contains(address, "@") {
			issuer = s.issuerOf(c, address)
		}
		if issuer == "" {
			http.Error(w, "nobody of that address is known here", http.StatusNotFound)
			return
		}
		links := []link{}
		if rel, asked := q["rel"]; !asked || slices.Contains(rel, relIssuer) {
			links = append(links, link{relIssuer, issuer})
		}
		h.Set("Content-Type", "application/jrd+json")
		// What the browser does not take is no loss.
		_ = json.NewEncoder(w).Encode(map[string]any{"subject": resource, "links": links})
	}
}

// issuerOf is the issuer at which people of an address sign in; "" where that is not known.
func (s *Stage) issuerOf(c *cast.Cast, address string) string {
	_, domain, _ := strings.Cut(strings.ToLower(address), "@")
	if d := c.Find(c.Routes[domain]); d != nil {
		return d.Deal.Provider.OpenID.Issuer
	}
	who := c.People.Find(address)
	if who == nil {
		return ""
	}
	for _, pl := range c.Players {
		if pl.Party.Kind == federation.Provider && pl.OpenID != nil && (who.Home == pl.Name() || who.Home == "" &&
			pl.Party.Own) {
			return pl.OpenID.Issuer
		}
	}
	return ""
}

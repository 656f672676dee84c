package oidc

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"tressik.example/internal/core/finding"
	"tressik.example/internal/core/judge"
	"tressik.example/internal/core/near"
)

// JudgeRedirect judges a redirect URI as it is registered for a kind of client, beside those registered with it (RFC
// 6749, section 3.1.2; RFC 8252, sections 7 and 8; RFC 9700, section 2.1). what names the value, such as "redirect
// URI".
func JudgeRedirect(kind Kind, raw, what string, beside []string) finding.List {
	var out finding.List
	bad := func(id finding.ID, expected, fix, ref string) {
		out.Add(finding.Finding{ID: id, Level: finding.Error, Check: what, Of: raw, Saw: raw, Expected: expected,
			Side: finding.App, Fix: finding.Do(fix), Ref: ref})
	}
	warn := func(id finding.ID, expected, fix, ref string) {
		out.Add(finding.Finding{ID: id, Level: finding.Warning, Check: what, Of: raw, Saw: raw, Expected: expected,
			Side: finding.App, Fix: finding.Do(fix), Ref: ref})
	}
	for _, c := range raw {
		if c <= ' ' || c > '~' || c == '\\' {
			bad(finding.RedirectCharacter, "printable ASCII without spaces and backslashes",
				"write other characters percent-encoded", "RFC 3986 2")
			return out
		}
	}
	u, err := url.Parse(raw)
	switch {
	case strings.Contains(raw, ",https://"), strings.Contains(raw, ",http://"):
		bad(finding.RedirectWildcard, "one exact URI", "give each URI by itself", "RFC 6749 3.1.2")
		return out
	case strings.ContainsAny(raw, "*"):
		bad(finding.RedirectWildcard, "one exact URI",
			"register each URI by itself; a wildcard lets others receive codes", "RFC 9700 2.1")
		return out
	case err != nil || u.Scheme == "":
		bad(finding.RedirectScheme, "an absolute URI", "write it whole, with its scheme", "RFC 6749 3.1.2")
		return out
	case strings.Contains(raw, "#"):
		bad(finding.RedirectFragment, "a URI without a fragment", "leave out what is behind the #", "RFC 6749 3.1.2")
	case u.User != nil:
		bad(finding.RedirectUserInfo, "a URI without user name or password", "leave out what is before the @",
			"RFC 9700 4.1")
	}
	switch u.Scheme {
	case "https":
		if u.Host == "" {
			bad(finding.RedirectScheme, "a URI with a host", "write it whole", "RFC 6749 3.1.2")
		}
	case "http":
		switch host := u.Hostname(); {
		case !judge.IsLoopback(host):
			bad(finding.RedirectScheme, "https:", "use https:, or the codes travel in the clear", "RFC 9700 2.6")
		case !isAddress(host):
			warn(finding.RedirectLoopbackName, "127.0.0.1 or [::1]",
				"use the address: a name may resolve to something else", "RFC 8252 8.3")
		case kind != Native:
			warn(finding.RedirectLoopback, "https: once the app is in use", "keep loopback addresses for development",
				"RFC 8252 7.3")
		}
	case "javascript", "data", "file", "vbscript", "blob", "about":
		bad(finding.RedirectScheme, "https:", "this scheme can never receive an answer safely", "RFC 9700 4.1")
	default:
		switch {
		case kind != Native:
			bad(finding.RedirectScheme, "https:",
				"private schemes are for native clients; make the client native, or use https:", "RFC 8252 7.1")
		case !strings.Contains(u.Scheme, "."):
			bad(finding.RedirectPrivateScheme,
				"a scheme made of a domain name you have, such as example.kestrelridge.skyview",
				"a scheme without a dot may be another app's", "RFC 8252 7.1")
		}
	}
	if u.RawQuery != "" || u.ForceQuery {
		warn(finding.RedirectQuery, "a URI without query",
			"a query is compared with the rest of it, byte for byte; carry state in the state parameter",
			"RFC 6749 3.1.2")
	}
	for _, seg := range strings.Split(u.Path, "/") {
		if seg == ".." || seg == "." {
			bad(finding.RedirectDotSegment, "a path without dot segments", "write the path that is meant",
				"RFC 3986 6.2.2.3")
			break
		}
	}
	for _, b := range beside {
		if b != raw && strings.TrimSuffix(b, "/") == strings.TrimSuffix(raw, "/") {
			warn(finding.RedirectTwin, "one of the two",
				"it stands beside "+b+": URIs are compared exactly, so keep the one that the app sends",
				"RFC 3986 6.2.1")
		}
	}
	if len(out) == 0 {
		out.Pass(finding.RedirectFamily, what, raw)
	}
	return out
}

// MatchRedirect reports whether a redirect URI that was asked for is a registered one: the same string, or for native
// clients a loopback address that differs in its port alone (RFC 8252, section 7.3).
func MatchRedirect(kind Kind, registered []string, asked string) bool {
	for _, r := range registered {
		if r == asked {
			return true
		}
		if kind == Native && loopbackTwin(r, asked) {
			return true
		}
	}
	return false
}

// loopbackTwin compares two loopback URIs without their ports; all else must be the same bytes.
func loopbackTwin(a, b string) bool {
	cut := func(s string) (head, tail string, ok bool) {
		u, err := url.Parse(s)
		if err != nil || u.Scheme != "http" || u.User != nil || !strings.HasPrefix(s, "http://") {
			return "", "", false
		}
		if ip, err := netip.ParseAddr(u.Hostname()); err != nil || !ip.IsLoopback() || ip.Zone() != "" {
			return "", "", false
		}
		rest := s[len("http://"):]
		i := strings.IndexAny(rest, "/?#")
		if i < 0 {
			i = len(rest)
		}
		return u.Hostname(), rest[i:], true
	}
	ha, ta, ok1 := cut(a)
	hb, tb, ok2 := cut(b)
	return ok1 && ok2 && ha == hb && ta == tb
}

func isAddress(host string) bool {
	_, err := netip.ParseAddr(host)
	return err == nil
}

// ExplainRedirect says how a redirect URI that was asked for differs from the nearest registered one.
func ExplainRedirect(registered []string, asked string) string {
	if len(registered) == 0 {
		return "no redirect URI is registered for this client"
	}
	for _, r := range registered {
		if d := near.Difference(asked, r); d != "" {
			return fmt.Sprintf("it is not registered; the nearest is %s: %s", r, d)
		}
	}
	return "it is not registered; registered: " + strings.Join(registered, ", ")
}

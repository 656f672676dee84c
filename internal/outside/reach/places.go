package reach

import (
	"context"
	"crypto/sha1" // the query protocol names entities by it; nothing rests on it
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
)

// Query asks a server for the metadata of one entity by the Metadata Query Protocol, by its entity ID, then by the
// SHA-1 of it (SAML Profile for the Metadata Query Protocol, section 3.2.2). base is the address under which entities/
// lies. The answer's source is the address that answered. Errors: those of Fetch, those of an address that is none.
func Query(ctx context.Context, base, entityID string, o Options) (*Answer, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.RawQuery != "" || u.Fragment != "" {
		return nil, fmt.Errorf("%q is no address of a metadata query server; it looks like "+
			"https://metadata.federation.example",
			Shown(base))
	}
	sum := sha1.Sum([]byte(entityID))
	under := strings.TrimSuffix(strings.TrimSuffix(base, "/"), "/entities") + "/entities/"
	var a *Answer
	for _, id := range []string{url.QueryEscape(entityID), "%7Bsha1%7D" + hex.EncodeToString(sum[:])} {
		a, err = Fetch(ctx, under+strings.ReplaceAll(id, "+", "%20"), o)
		if err == nil || !errors.Is(err, ErrStatus) {
			break
		}
	}
	if err != nil {
		return nil, fmt.Errorf("the metadata of %s: %w", entityID, err)
	}
	return a, nil
}

// HostName reports whether a source is a host name, with or without a port.
func HostName(s string) bool {
	host := s
	if h, _, err := net.SplitHostPort(s); err == nil {
		host = h
	} else if strings.Contains(s, ":") {
		return false
	}
	for _, c := range host {
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '.' || c == '-') {
			return false
		}
	}
	return strings.Contains(strings.Trim(host, "."), ".")
}

// AtHost is the address of a host, which as an entity ID is also the place of its metadata (SAML Metadata, section
// 4.1), and as an issuer leads to the places of its discovery document (see OpenID).
func AtHost(host string) string { return "https://" + host }

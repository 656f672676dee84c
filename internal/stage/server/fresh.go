package server

import (
	"crypto/hmac"
	"strconv"
	"strings"
	"time"
)

// freshFor is how long a value of Fresh is given out; it is taken for as long again.
const freshFor = 5 * time.Minute

// Fresh is a value that this server gives out for some minutes and that nobody can know before: the nonce of DPoP
// proofs (RFC 9449, section 8). Nothing is remembered of it.
func (s *Server) Fresh() string { return s.freshAt(s.Now().Unix() / int64(freshFor.Seconds())) }

func (s *Server) freshAt(n int64) string {
	id := strconv.FormatInt(n, 36)
	return id + "." + s.sealOf("fresh "+id)
}

// IsFresh reports whether a value is one that Fresh gave out just now, or as the one before.
func (s *Server) IsFresh(value string) bool {
	id, _, _ := strings.Cut(value, ".")
	n, err := strconv.ParseInt(id, 36, 64)
	now := s.Now().Unix() / int64(freshFor.Seconds())
	return err == nil && (n == now || n == now-1) && hmac.Equal([]byte(value), []byte(s.freshAt(n)))
}

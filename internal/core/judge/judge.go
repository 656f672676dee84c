// Package judge holds what every judgement of a message shares, whatever its protocol: the verdict, the clock skew,
// which keys are strong enough, what is on this machine.
package judge

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"net/netip"
	"slices"
	"strings"
	"time"

	"tressik.example/internal/core/finding"
)

// Verdict is what a judgement comes to.
type Verdict string

// The verdicts of a judgement.
const (
	Accepted Verdict = "accepted"
	Refused  Verdict = "refused"
)

// Skew is how far two clocks may differ.
const Skew = 60 * time.Second

// Judgement is the outcome of judging one message as its receiver would. Subject and Claims are there only if they
// stand under a good signature.
type Judgement struct {
	Kind       string              // what was judged, such as "SAML response" or "ID token"
	Verdict    Verdict             // of the findings, once all are there
	Subject    string              // whom the message is about
	Format     string              // what kind of value the subject is, where the protocol says so
	Claims     map[string][]string // what it says of the subject, by the name that people know
	Names      map[string]string   // the name in the message of those claims that people know by another
	Service    string              // over SAML: the service of the app that was asked for; "" is the default one
	Signed     crypto.PublicKey    `json:"-"` // the key with which it was signed; nil where no signature is good
	Findings   finding.List
	NotChecked []string // what the judge could not know, in words; the verdict does not speak of it
}

// Settle works the verdict out of the findings: any error refuses. It is called once, when all findings are there.
func (j *Judgement) Settle() {
	j.Verdict = Accepted
	if j.Findings.Failed() {
		j.Verdict = Refused
	}
}

// The authentication contexts that Tressik tells apart: SAML's classes (SAML Authentication Context, section 3.4),
// which are acr values over OpenID Connect.
const (
	ContextPassword = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
	ContextMFA      = "https://refeds.org/profile/mfa"
)

// Clock judges the clock of somebody whose answer says that it is at, where it is now here: a warning past the skew, an
// error past five minutes.
func Clock(of string, at, now time.Time) finding.Finding {
	const day = "2006-01-02 15:04:05 UTC"
	off := at.Sub(now).Round(time.Second)
	f := finding.Finding{ID: finding.ProbeClock, Level: finding.Warning, Check: "clock of " + of,
		Saw:      at.UTC().Format(day) + ", " + off.String() + " off",
		Expected: now.UTC().Format(day) + ", within " + Skew.String(), Side: finding.Clock,
		Fix: finding.Do("set both clocks by the network (NTP)")}
	switch {
	case off.Abs() <= Skew:
		var l finding.List
		l.Pass(f.ID, f.Check, "right within "+Skew.String())
		return l[0]
	case off.Abs() > 5*time.Minute:
		f.Level = finding.Error
	}
	return f
}

// Strong reports whether signatures of a key are taken: RSA of 2048 bits or more with an exponent
// over 65536 (FIPS 186-5, A.1.1), ECDSA P-256 or P-384, Ed25519.
func Strong(k crypto.PublicKey) bool {
	switch k := k.(type) {
	case *rsa.PublicKey:
		return k.N.BitLen() >= 2048 && k.E > 1<<16
	case *ecdsa.PublicKey:
		return k.Curve == elliptic.P256() || k.Curve == elliptic.P384()
	case ed25519.PublicKey:
		return true
	}
	return false
}

// IsLoopback reports whether a host name or address is this machine: localhost, names below it (RFC 6761, section 6.3),
// and loopback addresses.
func IsLoopback(host string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return true
	}
	a, err := netip.ParseAddr(host)
	return err == nil && a.Unmap().IsLoopback()
}

// Reaches reports whether somebody who was authenticated in one context was authenticated in another too: a session
// with several factors has the password among them, and is what a provider's own stronger class stands for here.
func Reaches(have, want string) bool { return have == want || have == ContextMFA }

// Asserted returns the context that is stated of a session: its own where that is acceptable, else the last of those
// that are and that it reaches, which is the strongest where they are in order. Where nothing is demanded it is the
// session's own. ok is false where the session reaches none.
func Asserted(have string, acceptable []string) (context string, ok bool) {
	if len(acceptable) == 0 {
		return have, true
	}
	if slices.Contains(acceptable, have) { // no more is said than is known
		return have, true
	}
	for i := len(acceptable) - 1; i >= 0; i-- {
		if Reaches(have, acceptable[i]) {
			return acceptable[i], true
		}
	}
	return "", false
}

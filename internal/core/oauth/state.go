package oauth

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"strings"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
)

// CodeLife is how long an authorization code is good.
const CodeLife = time.Minute

// codeMemory is how long a code is remembered, so that its second use is noticed.
const codeMemory = 10 * time.Minute

// Grant is what a sign-in led to: who, for which permissions, in which session of the provider.
type Grant struct {
	Trust    string           `json:"trust"`
	Person   string           `json:"person"`
	Asks     []federation.Ask `json:"asks"`
	Resource []string         `json:"resource,omitempty"` // audiences named in the request
	Session  string           `json:"session"`
	Context  string           `json:"context"`
	AuthTime time.Time        `json:"authTime"`
	// claims that are wanted in the ID token besides those of the rules
	InIDToken []string `json:"inIDToken,omitempty"`
	// claims of no scope that are wanted of the userinfo endpoint; nil: all
	FromUserInfo []string `json:"fromUserInfo,omitzero"`
}

// Code is an authorization code that was issued (RFC 6749, section 4.1.2).
type Code struct {
	Grant
	Family    string // of the tokens that come of it
	Redirect  string
	Challenge string
	Nonce     string
	JKT       string // thumbprint of the key that must prove it; "" is none (RFC 9449, section 10)
	Made      time.Time
	Used      bool
}

// Family is a chain of tokens from one sign-in. Of its refresh tokens the last alone is good; an older one ends it all.
type Family struct {
	Grant
	ID     string    `json:"id"`
	Serial uint32    `json:"serial"` // of the refresh token that is good; 0: there is none
	Since  time.Time `json:"since"`
	Used   time.Time `json:"used"`
	Until  time.Time `json:"until"`           // the last of its tokens is over
	Ended  string    `json:"ended,omitempty"` // why it is ended; "" it is not
	// to what its refresh tokens are bound
	Bound Confirmation `json:"bound,omitzero"`
}

// State is what an authorization server must remember. Each method is one step that no other comes between.
type State interface {
	// PutCode keeps a code under its hash.
	PutCode(hash string, c Code)
	// Code returns a code; ok is false for one that was never issued or is long over.
	Code(hash string) (c Code, ok bool)
	// UseCode marks a code as used. first is false where somebody used it before: then its family is ended.
	UseCode(hash string) (first bool)
	// Family returns a chain of tokens.
	Family(id string) (f Family, ok bool)
	// PutFamily keeps a chain; one that was ended before it was kept stays ended.
	PutFamily(f Family)
	// Rotate takes a refresh token out of use and makes the next one good. It returns the chain as it is then; first is
	// false where another refresh came before: then the chain is ended.
	Rotate(id string, serial uint32, now, until time.Time) (f Family, first bool)
	// End ends the chains that match, with the reason.
	End(why string, match func(*Family) bool)
	// Revoke makes an access token invalid for as long as it would be good.
	Revoke(jti string, until time.Time)
	// Revoked reports whether an access token is revoked, by itself or with its chain.
	Revoked(jti string) bool
	// Once reports whether an ID is seen for the first time, and remembers it.
	Once(id string, until time.Time) bool
}

// Hash is under what a code is kept.
func Hash(code string) string {
	sum := sha256.Sum256([]byte(code))
	return hex.EncodeToString(sum[:])
}

// RefreshToken is the refresh token of a serial number: the chain's ID, the number, and a code of both that nobody can
// make without the key. So an older one of the chain is told from one that somebody made up.
func RefreshToken(key []byte, id string, serial uint32) string {
	var n [4]byte
	binary.BigEndian.PutUint32(n[:], serial)
	m := hmac.New(sha256.New, key)
	m.Write([]byte(id))
	m.Write(n[:])
	return id + "." + base64.RawURLEncoding.EncodeToString(m.Sum(n[:]))
}

// ReadRefreshToken returns chain and serial number of a refresh token; ok is false for what was not made with the key.
func ReadRefreshToken(key []byte, token string) (id string, serial uint32, ok bool) {
	id, rest, _ := strings.Cut(token, ".")
	b, err := base64.RawURLEncoding.Strict().DecodeString(rest)
	if err != nil || len(b) != 4+sha256.Size || len(key) == 0 {
		return id, 0, false
	}
	serial = binary.BigEndian.Uint32(b)
	return id, serial, hmac.Equal([]byte(token), []byte(RefreshToken(key, id, serial)))
}

// Kept is one change of a Memory that is to outlive it: exactly one of its parts is set.
type Kept struct {
	Family   *Family
	UsedCode string // hash; with the family and until when it is remembered
	Revoked  string // jti; until when. One that begins with usedAssertion is of a client's assertion that was used
	Of       string // family of the code
	Until    time.Time
}

// Memory is a State in memory. What must survive is told to the function that it was made with, after the step is done
// and no lock is held.
type Memory struct {
	mu      sync.Mutex
	codes   map[string]*Code
	chains  map[string]*Family
	revoked map[string]time.Time
	once    map[string]time.Time
	keep    func(Kept)
	now     func() time.Time
	swept   time.Time
}

// NewMemory makes an empty state. keep may be nil.
func NewMemory(now func() time.Time, keep func(Kept)) *Memory {
	if keep == nil {
		keep = func(Kept) {}
	}
	return &Memory{codes: map[string]*Code{}, chains: map[string]*Family{}, revoked: map[string]time.Time{},
		once: map[string]time.Time{}, keep: keep, now: now}
}

// Restore takes up what an earlier memory told to keep.
func (m *Memory) Restore(list []Kept) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, k := range list {
		switch {
		case k.Family != nil:
			f := *k.Family
			m.chains[f.ID] = &f
		case k.UsedCode != "":
			m.codes[k.UsedCode] = &Code{Family: k.Of, Used: true, Made: k.Until.Add(-codeMemory)}
		case strings.HasPrefix(k.Revoked, usedAssertion):
			m.once[strings.TrimPrefix(k.Revoked, usedAssertion)] = k.Until
		case k.Revoked != "":
			m.revoked[k.Revoked] = k.Until
		}
	}
}

// sweep forgets what is over. The lock is held.
func (m *Memory) sweep() {
	now := m.now()
	if d := now.Sub(m.swept); d < time.Minute && d >= 0 {
		return
	}
	m.swept = now
	for k, c := range m.codes {
		if now.Sub(c.Made) > codeMemory {
			delete(m.codes, k)
		}
	}
	for k, f := range m.chains {
		if now.After(f.Until) {
			delete(m.chains, k)
		}
	}
	for _, list := range []map[string]time.Time{m.revoked, m.once} {
		for k, t := range list {
			if now.After(t) {
				delete(list, k)
			}
		}
	}
}

// Size returns how many codes and chains are remembered.
func (m *Memory) Size() (codes, chains int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.codes), len(m.chains)
}

// PutCode keeps a code.
func (m *Memory) PutCode(hash string, c Code) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.sweep()
	m.codes[hash] = &c
}

// Code returns a code.
func (m *Memory) Code(hash string) (Code, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if c := m.codes[hash]; c != nil {
		return *c, true
	}
	return Code{}, false
}

// UseCode marks a code as used; a second use ends its chain, and one that is only being made.
func (m *Memory) UseCode(hash string) bool {
	m.mu.Lock()
	c := m.codes[hash]
	if c == nil {
		m.mu.Unlock()
		return false
	}
	first := !c.Used
	c.Used = true
	kept := Kept{UsedCode: hash, Of: c.Family, Until: c.Made.Add(codeMemory)}
	if !first {
		f := m.chains[c.Family]
		if f == nil { // its tokens are being made just now
			f = &Family{ID: c.Family, Grant: c.Grant, Until: kept.Until}
			m.chains[c.Family] = f
		}
		if f.Ended == "" {
			f.Ended = "its code was used twice"
		}
		g := *f
		kept = Kept{Family: &g}
	}
	m.mu.Unlock()
	m.keep(kept)
	return first
}

// Family returns a chain.
func (m *Memory) Family(id string) (Family, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if f := m.chains[id]; f != nil {
		return *f, true
	}
	return Family{}, false
}

// PutFamily keeps a chain.
func (m *Memory) PutFamily(f Family) {
	m.mu.Lock()
	m.sweep()
	if was := m.chains[f.ID]; was != nil {
		f.Ended = was.Ended
	}
	c := f
	m.chains[f.ID] = &c
	m.mu.Unlock()
	m.keep(Kept{Family: &f})
}

// Rotate makes the next refresh token of a chain the good one.
func (m *Memory) Rotate(id string, serial uint32, now, until time.Time) (Family, bool) {
	m.mu.Lock()
	f := m.chains[id]
	if f == nil {
		m.mu.Unlock()
		return Family{}, false
	}
	first := f.Serial == serial && f.Ended == ""
	switch {
	case first:
		f.Serial++
		f.Used = now
		if until.After(f.Until) {
			f.Until = until
		}
	case f.Ended == "":
		f.Ended = "an older one of its chain was used again"
	}
	g := *f
	m.mu.Unlock()
	m.keep(Kept{Family: &g})
	return g, first
}

// End ends chains.
func (m *Memory) End(why string, match func(*Family) bool) {
	var ended []Family
	m.mu.Lock()
	for _, f := range m.chains {
		if f.Ended == "" && match(f) {
			f.Ended = why
			ended = append(ended, *f)
		}
	}
	m.mu.Unlock()
	for i := range ended {
		m.keep(Kept{Family: &ended[i]})
	}
}

// Revoke makes an access token invalid.
func (m *Memory) Revoke(jti string, until time.Time) {
	m.mu.Lock()
	m.sweep()
	m.revoked[jti] = until
	m.mu.Unlock()
	m.keep(Kept{Revoked: jti, Until: until})
}

// Revoked reports whether an access token is revoked.
func (m *Memory) Revoked(jti string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, ok := m.revoked[jti]; ok {
		return true
	}
	id, _, chained := strings.Cut(jti, ".")
	f := m.chains[id]
	return chained && f != nil && f.Ended != ""
}

// usedAssertion stands before the ID of a client's assertion that was used: it is kept as what was revoked is, since
// neither is taken again.
const usedAssertion = "assertion "

// Once reports whether an ID is new.
func (m *Memory) Once(id string, until time.Time) bool {
	m.mu.Lock()
	m.sweep()
	_, again := m.once[id]
	m.once[id] = until
	m.mu.Unlock()
	if !again {
		m.keep(Kept{Revoked: usedAssertion + id, Until: until})
	}
	return !again
}

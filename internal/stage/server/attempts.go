package server

import (
	"net"
	"net/http"
	"sync"
	"time"

	"tressik.example/internal/core/federation"
)

// Attempts bounds how often something that can be guessed is tried: behind a few free ones each failure doubles the
// time until the next, per key, such as a person or an address. So neither a password nor a code is found by trying,
// and whoever asks a directory through the stage is no faster than a person who types.
type Attempts struct {
	now  func() time.Time
	mu   sync.Mutex
	kept *Kept[tries]
}

type tries struct {
	n    int
	last time.Time
}

// How attempts are bounded.
const (
	attemptsKept = time.Hour        // a key that was not tried for so long begins anew
	longestWait  = 15 * time.Minute // however often it failed
)

// NewAttempts makes an empty memory.
func NewAttempts(now func() time.Time) *Attempts {
	return &Attempts{now: now, kept: NewKept[tries](now, attemptsKept, 50_000)}
}

// Bound is a key that is tried, and how often before there is a delay.
type Bound struct {
	Key  string
	Free int
}

// Try counts an attempt under all its keys as one that fails, before it is known: of many at once no more are made than
// one after the other. Where one of the keys has to wait, nothing is counted, and for how long is returned.
func (a *Attempts) Try(keys ...Bound) (wait time.Duration) {
	a.mu.Lock()
	defer a.mu.Unlock()
	now := a.now()
	for _, k := range keys {
		t, _ := a.kept.Get(k.Key)
		if left := t.last.Add(delay(t.n, k.Free)).Sub(now); t.n > 0 && left > wait {
			wait = left
		}
	}
	if wait > 0 {
		return wait
	}
	for _, k := range keys {
		t, _ := a.kept.Get(k.Key)
		a.kept.Put(k.Key, tries{t.n + 1, now})
	}
	return 0
}

// Succeeded forgets the attempts under keys.
func (a *Attempts) Succeeded(keys ...Bound) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, k := range keys {
		a.kept.Take(k.Key)
	}
}

// delay is how long is waited behind so many failures.
func delay(failures, free int) time.Duration {
	over := failures - free
	switch {
	case over < 0:
		return 0
	case over > 10:
		return longestWait
	}
	return min(time.Second<<over, longestWait)
}

// WaitWords say on a page how long to wait.
func WaitWords(d time.Duration) string {
	return "That failed too often. Try again in " + federation.SpanWords(max(d.Round(time.Second), time.Second)) + "."
}

// From is where a request comes from, as a key.
func From(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	return "from " + host
}

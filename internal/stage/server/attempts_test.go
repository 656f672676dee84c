package server

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"tressik.example/internal/core/people"
)

// TestAttempts: what fails waits ever longer, what succeeds begins anew, and many at once are no faster.
func TestAttempts(t *testing.T) {
	t.Parallel()
	clock := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	a := NewAttempts(func() time.Time { return clock })
	mira, petra := Bound{"mira", 3}, Bound{"petra", 3}
	for i := range 3 {
		if w := a.Try(mira); w != 0 {
			t.Fatalf("attempt %d waits %s", i, w)
		}
	}
	for i, want := range []time.Duration{time.Second, 2 * time.Second, 4 * time.Second, 8 * time.Second} {
		if w := a.Try(mira); w != want {
			t.Errorf("after %d failures it waits %s, want %s", i+3, w, want)
		}
		if w := a.Try(petra); i < 3 && w != 0 {
			t.Errorf("somebody else waits %s", w)
		}
		clock = clock.Add(want)
		if w := a.Try(mira); w != 0 {
			t.Errorf("%s later it waits %s", want, w)
		}
	}
	for range 30 {
		clock = clock.Add(longestWait)
		if w := a.Try(mira); w != 0 {
			t.Fatalf("the longest wait is longer by %s", w)
		}
	}
	a.Succeeded(mira)
	if w := a.Try(mira); w != 0 {
		t.Errorf("after the right one it waits %s", w)
	}
	b := NewAttempts(func() time.Time { return clock })
	var made atomic.Int32
	var all sync.WaitGroup
	for range 200 {
		all.Go(func() {
			if b.Try(mira) == 0 {
				made.Add(1)
			}
		})
	}
	all.Wait()
	if n := made.Load(); n != 3 {
		t.Errorf("%d of 200 at once were made", n)
	}
}

// passwords knows one, and counts who asks.
type passwords struct{ asked int }

func (*passwords) Has(*people.Person) bool { return true }
func (p *passwords) Check(_ context.Context, _ *people.Person, word string) error {
	if p.asked++; word != "right" {
		return people.ErrPassword
	}
	return nil
}

// TestPasswordsAreNotGuessed types wrong passwords: soon the directory is asked no more, the right one waits as well,
// and the page says for how long.
func TestPasswordsAreNotGuessed(t *testing.T) {
	t.Parallel()
	clock := time.Date(2031, 3, 4, 9, 0, 0, 0, time.UTC)
	s := New(func() time.Time { return clock }, nil)
	p := &passwords{}
	s.Passwords = p
	mira := &people.Person{ID: "mira"}
	try := func(word string) string {
		r := httptest.NewRequest(http.MethodPost, "/", nil)
		r.PostForm = url.Values{"password": {word}}
		return s.proves(r, mira)
	}
	for range 50 {
		try("wrong")
	}
	if p.asked != 3 {
		t.Errorf("the directory was asked %d times", p.asked)
	}
	if words := try("right"); !strings.Contains(words, "Try again in 1 second") {
		t.Errorf("%q", words)
	}
	clock = clock.Add(2 * time.Second)
	if words := try("right"); words != "" {
		t.Errorf("the right one: %q", words)
	}
}

package server

import (
	"maps"
	"slices"
	"sync"
	"time"
)

// Kept remembers values under keys for a while, at most so many: the oldest go first. It may be used from several
// requests at once.
type Kept[T any] struct {
	now   func() time.Time
	life  time.Duration
	most  int
	mu    sync.Mutex
	items map[string]kept[T]
	swept time.Time
}

type kept[T any] struct {
	v    T
	made time.Time
}

// NewKept makes an empty memory.
func NewKept[T any](now func() time.Time, life time.Duration, most int) *Kept[T] {
	return &Kept[T]{now: now, life: life, most: most, items: map[string]kept[T]{}}
}

// Put remembers a value.
func (k *Kept[T]) Put(key string, v T) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.put(key, v)
}

func (k *Kept[T]) put(key string, v T) {
	now := k.now()
	if d := now.Sub(k.swept); d >= time.Minute || d < 0 || len(k.items) >= k.most {
		k.swept = now
		k.sweep(now)
	}
	k.items[key] = kept[T]{v, now}
}

// sweep forgets what is over, and where that is not enough the older half. The lock is held.
func (k *Kept[T]) sweep(now time.Time) {
	for key, x := range k.items {
		if now.Sub(x.made) > k.life {
			delete(k.items, key)
		}
	}
	if len(k.items) < k.most {
		return
	}
	oldest, newest := now, time.Time{}
	for _, x := range k.items {
		if x.made.Before(oldest) {
			oldest = x.made
		}
		if x.made.After(newest) {
			newest = x.made
		}
	}
	middle := oldest.Add(newest.Sub(oldest) / 2)
	for key, x := range k.items {
		if len(k.items) > k.most/2 && !x.made.After(middle) {
			delete(k.items, key)
		}
	}
}

// Get returns a value.
func (k *Kept[T]) Get(key string) (T, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	x, ok := k.items[key]
	if ok && k.now().Sub(x.made) > k.life {
		delete(k.items, key)
		ok = false
	}
	return x.v, ok
}

// Take returns a value and forgets it: of several who take it at once one gets it.
func (k *Kept[T]) Take(key string) (T, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	x, ok := k.items[key]
	delete(k.items, key)
	return x.v, ok && k.now().Sub(x.made) <= k.life
}

// Once reports whether a key is new, and remembers it with the value.
func (k *Kept[T]) Once(key string, v T) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if x, again := k.items[key]; again && k.now().Sub(x.made) <= k.life {
		return false
	}
	k.put(key, v)
	return true
}

// Drop forgets the values that match.
func (k *Kept[T]) Drop(match func(T) bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for key, x := range k.items {
		if match(x.v) {
			delete(k.items, key)
		}
	}
}

// Keys lists what is remembered, in no order.
func (k *Kept[T]) Keys() []string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.Collect(maps.Keys(k.items))
}

// Len is how many values are remembered.
func (k *Kept[T]) Len() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return len(k.items)
}

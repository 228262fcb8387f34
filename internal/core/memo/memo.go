// Package memo keeps what was computed once.
package memo

import (
	"sync"
)

// Table computes a value for each key at most once, also where many ask at the
// same time.
type Table[K comparable, V any] struct {
	mu    sync.Mutex
	known map[K]*memoized[V]
}

type memoized[V any] struct {
	once  sync.Once
	value V
	err   error
}

// Get gives the value of a key, and computes it if nobody did.
func (m *Table[K, V]) Get(key K, compute func() (V, error)) (V, error) {
	m.mu.Lock()
	if m.known == nil {
		m.known = map[K]*memoized[V]{}
	}
	e := m.known[key]
	if e == nil {
		e = &memoized[V]{}
		m.known[key] = e
	}
	m.mu.Unlock()
	e.once.Do(func() { e.value, e.err = compute() })
	return e.value, e.err
}

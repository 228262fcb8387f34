package gomod

import "sync"

// memo computes a value for each key at most once, also where many ask at the
// same time.
type memo[K comparable, V any] struct {
	mu    sync.Mutex
	known map[K]*memoized[V]
}

type memoized[V any] struct {
	once  sync.Once
	value V
	err   error
}

func (m *memo[K, V]) get(key K, compute func() (V, error)) (V, error) {
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

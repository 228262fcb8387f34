package solve

import "math/bits"

// Set is a set of the states of one subject: bit i stands for its i-th
// candidate, and the bit after the last candidate for its absence.
type Set []uint64

func newSet(size int) Set { return make(Set, (size+63)/64) }

// fullSet has all of size states.
func fullSet(size int) Set {
	s := newSet(size)
	for i := range s {
		s[i] = ^uint64(0)
	}
	if rest := size % 64; rest != 0 {
		s[len(s)-1] = 1<<rest - 1
	}
	return s
}

// Has tells whether state i is in s.
func (s Set) Has(i int) bool { return s[i/64]&(1<<(i%64)) != 0 }

// Add puts state i into s.
func (s Set) Add(i int) { s[i/64] |= 1 << (i % 64) }

// Len counts the states in s.
func (s Set) Len() int {
	n := 0
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

// first is the lowest state in s, -1 if s is empty.
func (s Set) first() int {
	for i, w := range s {
		if w != 0 {
			return i*64 + bits.TrailingZeros64(w)
		}
	}
	return -1
}

func (s Set) empty() bool { return s.first() < 0 }

func (s Set) and(t Set) Set {
	r := make(Set, len(s))
	for i := range s {
		r[i] = s[i] & t[i]
	}
	return r
}

func (s Set) or(t Set) Set {
	r := make(Set, len(s))
	for i := range s {
		r[i] = s[i] | t[i]
	}
	return r
}

func (s Set) minus(t Set) Set {
	r := make(Set, len(s))
	for i := range s {
		r[i] = s[i] &^ t[i]
	}
	return r
}

// within tells whether every state of s is in t.
func (s Set) within(t Set) bool {
	for i := range s {
		if s[i]&^t[i] != 0 {
			return false
		}
	}
	return true
}

// apart tells whether s and t share no state.
func (s Set) apart(t Set) bool {
	for i := range s {
		if s[i]&t[i] != 0 {
			return false
		}
	}
	return true
}

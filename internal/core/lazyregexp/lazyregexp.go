// Package lazyregexp has regular expressions that are compiled when they are first used, so that a start of the program
// compiles none (after cmd/go's internal/lazyregexp). Package variables are of this kind.
package lazyregexp

import (
	"regexp"
	"sync"
)

// Regexp is a regular expression. Its methods are those of [regexp.Regexp].
type Regexp struct {
	compiled func() *regexp.Regexp
}

// New is the regular expression of a text, which is a constant: one that is none panics when it is first used.
func New(text string) *Regexp {
	return &Regexp{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
}

// Match is that of the standard library.
func (r *Regexp) Match(b []byte) bool { return r.compiled().Match(b) }

// MatchString is that of the standard library.
func (r *Regexp) MatchString(s string) bool { return r.compiled().MatchString(s) }

// FindString is that of the standard library.
func (r *Regexp) FindString(s string) string { return r.compiled().FindString(s) }

// FindStringIndex is that of the standard library.
func (r *Regexp) FindStringIndex(s string) []int { return r.compiled().FindStringIndex(s) }

// FindStringSubmatch is that of the standard library.
func (r *Regexp) FindStringSubmatch(s string) []string { return r.compiled().FindStringSubmatch(s) }

// FindStringSubmatchIndex is that of the standard library.
func (r *Regexp) FindStringSubmatchIndex(s string) []int {
	return r.compiled().FindStringSubmatchIndex(s)
}

// FindSubmatch is that of the standard library.
func (r *Regexp) FindSubmatch(b []byte) [][]byte { return r.compiled().FindSubmatch(b) }

// FindSubmatchIndex is that of the standard library.
func (r *Regexp) FindSubmatchIndex(b []byte) []int { return r.compiled().FindSubmatchIndex(b) }

// FindAllIndex is that of the standard library.
func (r *Regexp) FindAllIndex(b []byte, n int) [][]int { return r.compiled().FindAllIndex(b, n) }

// FindAllSubmatchIndex is that of the standard library.
func (r *Regexp) FindAllSubmatchIndex(b []byte, n int) [][]int {
	return r.compiled().FindAllSubmatchIndex(b, n)
}

// FindAllString is that of the standard library.
func (r *Regexp) FindAllString(s string, n int) []string { return r.compiled().FindAllString(s, n) }

// FindAllStringIndex is that of the standard library.
func (r *Regexp) FindAllStringIndex(s string, n int) [][]int {
	return r.compiled().FindAllStringIndex(s, n)
}

// FindAllStringSubmatch is that of the standard library.
func (r *Regexp) FindAllStringSubmatch(s string, n int) [][]string {
	return r.compiled().FindAllStringSubmatch(s, n)
}

// FindAllStringSubmatchIndex is that of the standard library.
func (r *Regexp) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return r.compiled().FindAllStringSubmatchIndex(s, n)
}

// ReplaceAllString is that of the standard library.
func (r *Regexp) ReplaceAllString(s, by string) string { return r.compiled().ReplaceAllString(s, by) }

// ReplaceAllStringFunc is that of the standard library.
func (r *Regexp) ReplaceAllStringFunc(s string, by func(string) string) string {
	return r.compiled().ReplaceAllStringFunc(s, by)
}

// SubexpIndex is that of the standard library.
func (r *Regexp) SubexpIndex(name string) int { return r.compiled().SubexpIndex(name) }

// SubexpNames is that of the standard library.
func (r *Regexp) SubexpNames() []string { return r.compiled().SubexpNames() }

// FindAllSubmatch is that of the standard library.
func (r *Regexp) FindAllSubmatch(b []byte, n int) [][][]byte {
	return r.compiled().FindAllSubmatch(b, n)
}

// ReplaceAll is that of the standard library.
func (r *Regexp) ReplaceAll(b, by []byte) []byte { return r.compiled().ReplaceAll(b, by) }

// Package protocol has the words of the module proxy protocol: its documents, places, and how it says that there is no such thing.
package protocol

import (
	"errors"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/mod/module"

	"bellwether/internal/host/fetch"
)

// Place is where the modules below a path come from.
type Place struct {
	Root    string // the path that stands for the repository, or the proxy
	Kind    string // "git", another system, or "mod" for a module proxy
	Address string
}

// Bounds of what a proxy may send, in bytes; those of the Go Modules Reference
// where it states one.
const (
	MaxModFile = 16 << 20
	MaxZip     = 500 << 20
	MaxList    = 16 << 20
)

// Missing is the error of what no proxy has.
type Missing struct {
	What string
	Why  string
	Err  error // what the last proxy said; nil if none was asked
}

// NoSuch says that no proxy has something, and why; err is what the last one said, nil if none was asked.
func NoSuch(what, why string, err error) error { return &Missing{what, why, err} }

// Error says what there is none of, and why.
func (m *Missing) Error() string { return m.What + " " + m.Why }

// Unwrap is what the last one asked said.
func (m *Missing) Unwrap() error { return m.Err }

// Unavailable says which version an error is about.
type Unavailable struct {
	Module module.Version
	Err    error
}

// Error is what went wrong.
func (u *Unavailable) Error() string { return u.Err.Error() }

// Unwrap is what went wrong.
func (u *Unavailable) Unwrap() error { return u.Err }

// IsMissing tells of an error that means that there is no such thing, in
// difference to one that means that nobody knows.
func IsMissing(err error) bool {
	var m *Missing
	return errors.As(err, &m)
}

// IsRefused tells of an error by which a proxy, asked for one version or path
// among others, says that it does not give it: it has none, or must not.
func IsRefused(err error) bool {
	var status *fetch.Status
	return IsMissing(err) || errors.As(err, &status) && slices.Contains(refusals, status.Code)
}

// refusals are the answers that are about what is asked for, and not about the server or
// the time of asking.
var refusals = []int{
	http.StatusBadRequest, http.StatusUnauthorized, http.StatusForbidden, http.StatusNotFound, http.StatusGone,
	http.StatusUnavailableForLegalReasons,
}

// Document is one file of the proxy protocol.
type Document struct {
	Module  string
	File    string // what follows the module's path: "@v/list"
	Form    string
	Limit   int64
	Forever bool
	Distil  func(io.Reader) ([]byte, error) // nil to take it as it is
}

// What names the module, with its version if the document is about one.
func (d Document) What() string {
	if name, ok := strings.CutPrefix(d.File, "@v/"); ok && name != "list" {
		return d.Module + " " + strings.TrimSuffix(name, filepath.Ext(name))
	}
	return d.Module
}

// Bounded fails where an answer is longer than it may be.
type Bounded struct {
	R    io.Reader
	Left int64
}

// Read reads on, and fails where the bound is passed.
func (b *Bounded) Read(p []byte) (int, error) {
	n, err := b.R.Read(p)
	if b.Left -= int64(n); b.Left < 0 {
		return 0, errors.New("the answer is too large")
	}
	return n, err
}

// Info is what a proxy tells of a version.
type Info struct {
	Version string
	Time    time.Time
}

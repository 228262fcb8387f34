package model

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
)

// A Fault is a mistake in a user's file or call: it says what was being done,
// where, what is wrong and what to do next.
type Fault struct {
	Doing string // "reading the manifest"
	File  string // empty if no file is to blame
	Line  int    // counted from 1; 0 if unknown
	Col   int    // counted from 1, in bytes; 0 if unknown
	Wrong string
	Next  string // empty if it is plain
	Found bool   // the work found a problem, rather than input it cannot use
	Cause error  // what it comes from, nil for nothing that matters
}

// Unwrap gives the cause.
func (f *Fault) Unwrap() error { return f.Cause }

// Error gives the parts in order, what to do next on a line of its own.
func (f *Fault) Error() string {
	var b strings.Builder
	if f.Doing != "" {
		b.WriteString(f.Doing + ": ")
	}
	if f.File != "" {
		b.WriteString(f.File)
		if f.Line > 0 {
			fmt.Fprintf(&b, ":%d", f.Line)
		}
		if f.Col > 0 {
			fmt.Fprintf(&b, ":%d", f.Col)
		}
		b.WriteString(": ")
	}
	b.WriteString(f.Wrong)
	if f.Next != "" {
		b.WriteString("\n  next: " + f.Next)
	}
	return b.String()
}

// Reason is why the file system refused something, without the operation and the path,
// which a Fault tells itself.
func Reason(err error) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Err.Error()
	}
	return err.Error()
}

package model

import (
	"bytes"
	"fmt"
	"slices"
)

// Site is a byte range in a file that states a version.
type Site struct {
	File       string // slash-separated, relative to the project
	Start, End int    // byte offsets, End exclusive
	Line       int    // of Start, counted from 1
	Text       string // the bytes there
}

// String is "file:line".
func (s Site) String() string {
	if s.Line == 0 {
		return s.File
	}
	return fmt.Sprintf("%s:%d", s.File, s.Line)
}

// Splice puts new text in the place of a site.
type Splice struct {
	Site Site
	New  string
}

// Apply gives src with the splices made; everything between them stays byte
// for byte. It fails if a site is not in src as it was read, or if two overlap.
func Apply(src []byte, splices []Splice) ([]byte, error) {
	ordered := slices.Clone(splices)
	slices.SortStableFunc(ordered, func(a, b Splice) int { return a.Site.Start - b.Site.Start })
	var out bytes.Buffer
	at := 0
	for _, s := range ordered {
		if s.Site.Start < at || s.Site.End < s.Site.Start || s.Site.End > len(src) {
			return nil, fmt.Errorf("splicing %s: bytes %d to %d overlap another change or lie outside the file", s.Site, s.Site.Start, s.Site.End)
		}
		if found := string(src[s.Site.Start:s.Site.End]); found != s.Site.Text {
			return nil, fmt.Errorf(
				"splicing %s: found %q where %q was read; the file has changed, run the command again", s.Site, found, s.Site.Text,
			)
		}
		out.Write(src[at:s.Site.Start])
		out.WriteString(s.New)
		at = s.Site.End
	}
	out.Write(src[at:])
	return out.Bytes(), nil
}

// LineOf is the line of a byte offset in src, counted from 1.
func LineOf(src []byte, offset int) int {
	return bytes.Count(src[:min(offset, len(src))], []byte("\n")) + 1
}

// ColumnOf is the column of a byte offset in src, in bytes, counted from 1.
func ColumnOf(src []byte, offset int) int {
	offset = min(offset, len(src))
	return offset - bytes.LastIndexByte(src[:offset], '\n')
}

// FileEdit is the new content of one file of the project.
type FileEdit struct {
	File string // slash-separated, relative to the project
	Old  []byte // nil if the file is new
	New  []byte // nil if the file goes away
	// Kept says that it is a file which Bellwether keeps in the project. Without it, no edit may
	// name one.
	Kept bool
}

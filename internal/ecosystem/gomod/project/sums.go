package project

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/mod/sumdb/dirhash"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/imports"
)

// Sums is a go.sum: hashes of modules, and of their go.mod files, whose
// version then ends in "/go.mod".
type Sums struct {
	Src    []byte // nil if there is no such file
	Hashes map[module.Version][]string
}

// ReadSums reads a go.sum; one that is missing is empty.
func ReadSums(fsys fs.FS, file string) (*Sums, error) {
	s := &Sums{Hashes: map[module.Version][]string{}}
	src, err := imports.ReadFile(fsys, file)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return nil, err
	}
	s.Src = src
	n := 0
	for line := range bytes.Lines(src) {
		n++
		fields := strings.Fields(string(line))
		if len(fields) == 0 {
			continue
		}
		if len(fields) != 3 {
			f := &model.Fault{
				Doing: "reading go.sum", File: file, Line: n, Wrong: fmt.Sprintf("%d fields where there are to be three: module, "+
					"version, hash", len(fields)),
				Next: "take the file back from the last commit",
			}
			if strings.HasPrefix(fields[0], "<<<<<<<") {
				f.Wrong, f.Next = "a merge left its conflict markers here", "settle the merge first"
			}
			return nil, f
		}
		m := module.Version{Path: fields[0], Version: fields[1]}
		if !slices.Contains(s.Hashes[m], fields[2]) {
			s.Hashes[m] = append(s.Hashes[m], fields[2])
		}
	}
	return s, nil
}

// ModKey is what a go.sum calls the go.mod of a module.
func ModKey(m module.Version) module.Version {
	return module.Version{Path: m.Path, Version: m.Version + "/go.mod"}
}

// Has tells whether the file vouches for m with this hash. known is false if
// it says nothing about m in the hash's own algorithm.
func (s *Sums) Has(m module.Version, hash string) (same, known bool) {
	for _, h := range s.Hashes[m] {
		if h == hash {
			return true, true
		}
		known = known || strings.HasPrefix(h, "h1:")
	}
	return false, known
}

// Text writes the hashes of keep in the file's order.
func (s *Sums) Text(keep []module.Version) []byte {
	module.Sort(keep)
	var b bytes.Buffer
	for _, m := range keep {
		hashes := slices.Clone(s.Hashes[m])
		slices.Sort(hashes)
		for _, h := range hashes {
			fmt.Fprintf(&b, "%s %s %s\n", m.Path, m.Version, h)
		}
	}
	return b.Bytes()
}

// hashMod is the hash of a go.mod file.
func hashMod(text []byte) (string, error) {
	return dirhash.Hash1([]string{"go.mod"}, func(string) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(text)), nil
	})
}

package gomod

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
)

// sums is a go.sum: hashes of modules, and of their go.mod files, whose
// version then ends in "/go.mod".
type sums struct {
	src    []byte // nil if there is no such file
	hashes map[version][]string
}

// readSums reads a go.sum; one that is missing is empty.
func readSums(fsys fs.FS, file string) (*sums, error) {
	s := &sums{hashes: map[version][]string{}}
	src, err := readFile(fsys, file)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return nil, err
	}
	s.src = src
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
		m := version{Path: fields[0], Version: fields[1]}
		if !slices.Contains(s.hashes[m], fields[2]) {
			s.hashes[m] = append(s.hashes[m], fields[2])
		}
	}
	return s, nil
}

// modKey is what a go.sum calls the go.mod of a module.
func modKey(m version) version {
	return version{Path: m.Path, Version: m.Version + "/go.mod"}
}

// has tells whether the file vouches for m with this hash. known is false if
// it says nothing about m in the hash's own algorithm.
func (s *sums) has(m version, hash string) (same, known bool) {
	for _, h := range s.hashes[m] {
		if h == hash {
			return true, true
		}
		known = known || strings.HasPrefix(h, "h1:")
	}
	return false, known
}

// text writes the hashes of keep in the file's order.
func (s *sums) text(keep []version) []byte {
	module.Sort(keep)
	var b bytes.Buffer
	for _, m := range keep {
		hashes := slices.Clone(s.hashes[m])
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

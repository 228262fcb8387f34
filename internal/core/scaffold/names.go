package scaffold

import (
	"fmt"
	"io/fs"
	"iter"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/reserved"
)

// WithoutKept is the template without what Bellwether keeps in the project that the template was
// made of, and the names of that.
func (t Tree) WithoutKept() (rest Tree, kept []string) {
	rest = Tree{}
	for name, data := range t {
		if reserved.Of(name) == reserved.Bellwether {
			kept = append(kept, name)
		} else {
			rest[name] = data
		}
	}
	slices.Sort(kept)
	return rest, kept
}

// The longest names that file systems have, in bytes: of a file with its folders, and of one part.
const (
	maxName = 4000
	maxPart = 255
)

// CheckNames refuses names that no file of a project may have, and those that some system takes for one and
// the same, in whole or in a folder of theirs.
func (t Tree) CheckNames() error {
	spelled := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(t)) {
		if !fs.ValidPath(name) || strings.ContainsAny(name, "\\\x00") {
			return fmt.Errorf("%q is no name of a file in it", name)
		}
		if len(name) > maxName || slices.ContainsFunc(strings.Split(name, "/"), func(part string) bool { return len(part) > maxPart }) {
			return fmt.Errorf("%.40q… is longer than the name of a file can be", name)
		}
		switch reserved.Of(name) {
		case reserved.Git:
			return fmt.Errorf("%q belongs to git", name)
		case reserved.Bellwether:
			return fmt.Errorf("%q belongs to Bellwether", name)
		}
		for part := range prefixes(name) {
			key := reserved.Key(part)
			if other, known := spelled[key]; known && other != part {
				return fmt.Errorf("%q and %q are one name where case, and signs that are not seen, do not count", other, part)
			}
			spelled[key] = part
		}
	}
	return nil
}

// prefixes are the folders that a file lies in, from the top, and the file.
func prefixes(name string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for i := range len(name) {
			if name[i] == '/' && !yield(name[:i]) {
				return
			}
		}
		yield(name)
	}
}

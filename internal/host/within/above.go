package within

import (
	"os"
	"path/filepath"
)

// Above are a folder and those above it, up to the top of the repository that it is in, the
// nearest first. Outside of a repository it is the folder alone.
func Above(dir string) []string {
	all := []string{dir}
	for at := dir; ; at = filepath.Dir(at) {
		if at != dir {
			all = append(all, at)
		}
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			return all
		}
		if filepath.Dir(at) == at {
			return []string{dir}
		}
	}
}

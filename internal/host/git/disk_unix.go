//go:build unix

package git

import (
	"os"
	"syscall"
)

// diskOf is the disk that a folder lies on. Git looks for a repository upwards on one
// disk only (git(1), GIT_DISCOVERY_ACROSS_FILESYSTEM).
func diskOf(dir string) uint64 {
	if info, err := os.Stat(dir); err == nil {
		if s, ok := info.Sys().(*syscall.Stat_t); ok {
			return uint64(s.Dev)
		}
	}
	return 0
}

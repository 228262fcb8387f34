//go:build unix

package within

import (
	"io/fs"
	"os"
	"strconv"
	"syscall"
)

// Identity tells a file or folder from another one that takes its place under the same
// name: the number that the file system knows it by; "" where there is none.
func Identity(info fs.FileInfo) string {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return strconv.FormatUint(uint64(s.Ino), 10)
	}
	return ""
}

// ours tells whether a file belongs to who runs the program.
func ours(info fs.FileInfo) bool {
	s, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(s.Uid) == os.Geteuid()
}

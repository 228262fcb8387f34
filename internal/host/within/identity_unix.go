//go:build unix

package within

import (
	"io/fs"
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

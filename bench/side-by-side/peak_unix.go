//go:build unix

package main

import (
	"os"
	"syscall"
)

// peak is how much memory a process had at most, in bytes.
func peak(ended *os.ProcessState) int64 {
	usage, ok := ended.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0
	}
	return int64(usage.Maxrss) * 1024
}

package run

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// adopt makes this process the parent of whatever its children leave behind, so that
// nothing they start can get out of sight (prctl(2), PR_SET_CHILD_SUBREAPER).
func adopt() { _ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }

// endOrphans ends what was adopted. While another stage runs it could be that one's,
// and is ended with the last of them.
func endOrphans() {
	children.RLock()
	defer children.RUnlock()
	for _, stage := range children.stages {
		if stage {
			return
		}
	}
	for range maxGenerations {
		adopted := orphans()
		for _, pid := range adopted {
			kill(pid)
			_, _ = unix.Wait4(pid, nil, 0, nil)
		}
		if len(adopted) == 0 {
			return
		}
	}
}

// orphans are the living children of this process that it did not start.
func orphans() (pids []int) {
	names, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, name := range names {
		stat, err := os.ReadFile(name)
		if err != nil {
			continue
		}
		// What follows the name in brackets is the state and the parent (proc(5)).
		fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
		pid, err := strconv.Atoi(filepath.Base(filepath.Dir(name)))
		if err != nil || len(fields) < 2 || fields[0] == "Z" || fields[1] != strconv.Itoa(os.Getpid()) {
			continue
		}
		if _, ours := children.stages[pid]; !ours {
			pids = append(pids, pid)
		}
	}
	return pids
}

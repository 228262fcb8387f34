package run

import (
	"bytes"
	"crypto/rand"
	"os"
	"path/filepath"
	"strconv"
)

// markName is a variable of the environment that tells to which program a process
// belongs, however far it went from it.
const markName = "BELLWETHER_STAGE"

func newMark() string { return markName + "=" + rand.Text() }

// killMarked ends processes that left the program's group, as those do that make
// themselves independent. It finds them where the system shows environments, as
// Linux does in /proc (proc(5)).
func killMarked(mark string) {
	found, err := filepath.Glob("/proc/[0-9]*/environ")
	if err != nil {
		return
	}
	for _, name := range found {
		environ, err := os.ReadFile(name)
		if err != nil || !bytes.Contains(environ, []byte(mark)) {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(name))); err == nil && pid != os.Getpid() {
			kill(pid)
		}
	}
}

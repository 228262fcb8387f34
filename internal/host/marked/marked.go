// Package marked finds processes by a mark in their environment, however far they
// went from the process that started them.
package marked

import (
	"bytes"
	"crypto/rand"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// variable is what marks are kept in.
const variable = "BELLWETHER_MARK="

// New gives an entry for an environment. Its mark begins with the owner's, by whose
// name alone all its marks can be found.
func New(owner string) string { return variable + owner + "." + rand.Text() }

// Of gives the beginning of all marks of an owner.
func Of(owner string) string { return variable + owner + "." }

// Process is a process that bears a mark.
type Process struct {
	PID  int
	Args []string
}

// Find gives the processes, other than this one, that have a mark, or the beginning
// of one. It is false where the system does not show environments, as Linux does in
// /proc (proc(5)).
func Find(mark string) (found []Process, known bool) {
	names, err := filepath.Glob("/proc/[0-9]*/environ")
	if err != nil || len(names) == 0 {
		return nil, false
	}
	for _, name := range names {
		environ, err := os.ReadFile(name)
		if err != nil || !bytes.Contains(environ, []byte(mark)) {
			continue
		}
		dir := filepath.Dir(name)
		pid, err := strconv.Atoi(filepath.Base(dir))
		if err != nil || pid == os.Getpid() {
			continue
		}
		args, _ := os.ReadFile(filepath.Join(dir, "cmdline"))
		found = append(found, Process{PID: pid, Args: strings.Split(strings.TrimSuffix(string(args), "\x00"), "\x00")})
	}
	return found, true
}

// AtWork is a living process of a program that works in a folder or below, other than this one; 0 for none, and where the
// system does not show it.
func AtWork(program, dir string) (pid int) {
	names, _ := filepath.Glob("/proc/[0-9]*/comm")
	for _, name := range names {
		comm, err := os.ReadFile(name)
		at, lerr := os.Readlink(filepath.Join(filepath.Dir(name), "cwd"))
		if err != nil || lerr != nil || strings.TrimSpace(string(comm)) != program {
			continue
		}
		if below, err := filepath.Rel(dir, at); err == nil && filepath.IsLocal(below) {
			if pid, err = strconv.Atoi(filepath.Base(filepath.Dir(name))); err == nil {
				return pid
			}
		}
	}
	return 0
}

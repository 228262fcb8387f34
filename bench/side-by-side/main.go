// Side-by-side measures Bellwether and npm doing the same work in one run, on
// the same machine and with warm caches, and prints the ratios. It needs npm
// and the registries that npm is configured with.
//
//	go run ./bench/side-by-side
package main

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"time"
)

//go:embed npm-large
var projects embed.FS

// rounds is how often each side runs; the median counts.
const rounds = 3

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// measure is one side of a comparison.
type measure struct {
	wall time.Duration
	peak int64 // bytes
}

func run() error {
	work, err := os.MkdirTemp("", "side-by-side-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	bellwether := filepath.Join(work, "bellwether")
	if out, err := exec.Command("go", "build", "-o", bellwether, "./cmd/bellwether").CombinedOutput(); err != nil {
		return fmt.Errorf("building: %w\n%s", err, out)
	}
	dir := filepath.Join(work, "project")
	if err := layOut(dir); err != nil {
		return err
	}
	npm := []string{"npm", "install", "--package-lock-only", "--prefer-offline", "--no-audit", "--no-fund"}
	// Both caches are warmed first; Bellwether's lock is the one to keep.
	for _, command := range [][]string{npm, {bellwether, "route", "--reach", "patch"}} {
		noLock(dir)
		if _, err := once(dir, command); err != nil {
			return err
		}
	}
	if _, err := once(dir, []string{bellwether, "advance"}); err != nil {
		return err
	}
	lock, err := os.ReadFile(filepath.Join(dir, "package-lock.json"))
	if err != nil {
		return err
	}
	keepLock := func(dir string) {
		_ = os.WriteFile(filepath.Join(dir, "package-lock.json"), lock, 0o644)
		_ = os.RemoveAll(filepath.Join(dir, ".bellwether"))
	}
	fmt.Printf("%-44s %10s %10s %7s %10s %10s %7s\n", "", "bellwether", "npm", "ratio", "bellwether", "npm", "ratio")
	for _, c := range []struct {
		title      string
		prepare    func(dir string)
		ours, npms []string
	}{
		{"resolve everything without a lock", noLock, []string{bellwether, "route", "--reach", "patch"}, npm},
		{"move one requirement / find nothing to do", keepLock, []string{bellwether, "route", "--to", "lodash@~4.17.20"}, npm},
		{"survey / list what is outdated", keepLock, []string{bellwether, "survey"}, []string{"npm", "outdated"}},
		{"print the version", keepLock, []string{bellwether, "--version"}, []string{"npm", "--version"}},
	} {
		a, err := median(dir, c.prepare, c.ours)
		if err != nil {
			return err
		}
		b, err := median(dir, c.prepare, c.npms)
		if err != nil {
			return err
		}
		fmt.Printf("%-44s %8.3f s %8.3f s %7.3f %7.0f MB %7.0f MB %7.3f\n", c.title, a.wall.Seconds(), b.wall.Seconds(),
			a.wall.Seconds()/b.wall.Seconds(), float64(a.peak)/1e6, float64(b.peak)/1e6, float64(a.peak)/float64(b.peak))
	}
	return nil
}

func layOut(dir string) error {
	project, err := fs.Sub(projects, "npm-large")
	if err != nil {
		return err
	}
	if err := os.CopyFS(dir, project); err != nil {
		return err
	}
	settings := "stages:\n  - {name: fetch, skip: only resolving is measured}\n"
	return os.WriteFile(filepath.Join(dir, "bellwether.yaml"), []byte(settings), 0o644)
}

func noLock(dir string) {
	_ = os.Remove(filepath.Join(dir, "package-lock.json"))
	_ = os.RemoveAll(filepath.Join(dir, ".bellwether"))
}

func median(dir string, prepare func(string), command []string) (measure, error) {
	var all []measure
	for range rounds {
		prepare(dir)
		m, err := once(dir, command)
		if err != nil {
			return m, err
		}
		all = append(all, m)
	}
	slices.SortFunc(all, func(a, b measure) int { return int(a.wall - b.wall) })
	return all[len(all)/2], nil
}

// once runs a command. Status 1 is fine: it is how both sides say that there
// is something to do.
func once(dir string, command []string) (measure, error) {
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Dir = dir
	start := time.Now()
	out, err := cmd.CombinedOutput()
	m := measure{wall: time.Since(start)}
	if cmd.ProcessState == nil || cmd.ProcessState.ExitCode() > 1 {
		return m, fmt.Errorf("%v: %w\n%s", command, err, out)
	}
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		m.peak = usage.Maxrss * 1024
	}
	return m, nil
}

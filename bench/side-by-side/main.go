// Side-by-side measures Bellwether beside npm, the go command and Bundler doing
// the same work in one run, on the same machine and with warm caches, and
// prints the ratios. It needs them, and the registries they are configured with.
//
//	go run ./bench/side-by-side [npm|golang|gem|verify]
package main

import (
	"embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"
)

//go:embed npm-large golang
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
		return failed("building", err, out)
	}
	for name, compare := range map[string]func(work, bellwether string) error{
		"npm": besideNPM, "golang": besideGo, "gem": besideBundler, "verify": besideHand,
	} {
		if len(os.Args) > 1 && os.Args[1] != name {
			continue
		}
		if err := compare(filepath.Join(work, name), bellwether); err != nil {
			return err
		}
	}
	return nil
}

func failed(what string, err error, out []byte) error {
	return fmt.Errorf("%s: %w\n%s", what, err, out)
}

// comparison is one piece of work, done by both sides.
type comparison struct {
	title        string
	prepare      func(dir string)
	ours, theirs []string
}

// compare prints what both sides take for each piece of work, in turn.
func compare(dir, them string, all []comparison) error {
	fmt.Printf("%-44s %10s %10s %7s %10s %10s %7s\n", "", "bellwether", them, "ratio", "bellwether", them, "ratio")
	for _, c := range all {
		a, err := median(dir, c.prepare, c.ours)
		if err != nil {
			return err
		}
		b, err := median(dir, c.prepare, c.theirs)
		if err != nil {
			return err
		}
		fmt.Printf("%-44s %8.3f s %8.3f s %7.3f %7.0f MB %7.0f MB %7.3f\n", c.title, a.wall.Seconds(), b.wall.Seconds(),
			a.wall.Seconds()/b.wall.Seconds(), float64(a.peak)/1e6, float64(b.peak)/1e6, float64(a.peak)/float64(b.peak))
	}
	return nil
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
	m.peak = peak(cmd.ProcessState)
	return m, nil
}

// Gemfiles carries out upgrades of projects in the shapes of real applications, on invented gems whose families, upper bounds and
// platforms are like those of real ones, and lets Bundler judge: each starts with a lock that Bundler wrote, is taken to the newest
// within its majors and then to the newest majors, and after each route Bundler must find nothing to change. It needs Ruby and Bundler.
//
//	go run ./bench/gemfiles [-count N] [-first N] [-keep DIR] [-program FILE]
package main

import (
	"context"
	"flag"
	"fmt"
	"net/http/httptest"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/standin/shorthand"
)

var (
	count   = flag.Int("count", 30, "how many shapes")
	first   = flag.Int("first", 0, "the number of the first one")
	keep    = flag.String("keep", "", "a folder to keep projects in")
	program = flag.String("program", "", "the built program; it is built if none is named")
)

func main() {
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	dir := *keep
	if dir == "" {
		var err error
		if dir, err = os.MkdirTemp("", "gemfiles-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if *program == "" {
		*program = filepath.Join(dir, "bellwether")
		if out, err := exec.CommandContext(ctx, "go", "build", "-o", *program, "./cmd/bellwether").CombinedOutput(); err != nil {
			return fmt.Errorf("building the program: %w\n%s", err, out)
		}
	}
	base := append(os.Environ(), "HOME="+filepath.Join(dir, "home"), "XDG_CACHE_HOME="+filepath.Join(dir, "cache"))
	env, then := slices.Clone(base), slices.Clone(base)
	for name, lines := range map[string]string{"GEMS": universe(), "PRIVATE": private} {
		for _, at := range []struct {
			env   *[]string
			lines string
		}{{&env, lines}, {&then, older(lines)}} {
			gems, err := shorthand.Gems(at.lines)
			if err != nil {
				return err
			}
			server := httptest.NewServer(gems.Index())
			defer server.Close()
			*at.env = append(*at.env, "BUNDLE_MIRROR__HTTP://"+name+"__EXAMPLE/="+server.URL+"/")
		}
	}
	wrong := 0
	fmt.Println("| shape | within majors | to the newest majors | what is wrong |\n|---|---|---|---|")
	for n := *first; n < *first+*count && ctx.Err() == nil; n++ {
		t := &trial{dir: filepath.Join(dir, fmt.Sprintf("%02d", n)), env: env, then: then, shape: drawn(n)}
		t.carryOut(ctx)
		if len(t.wrong) > 0 {
			wrong++
		}
		fmt.Printf("| %d: %s, %s | %s | %s | %s |\n", n, t.shape.manifest, strings.Join(t.shape.features, ", "), t.minor, t.major,
			strings.ReplaceAll(strings.Join(t.wrong, "; "), "\n", " "))
	}
	fmt.Printf("\n%d tried, %d with something wrong\n", *count, wrong)
	if wrong > 0 {
		return fmt.Errorf("gemfiles: something is wrong with %d", wrong)
	}
	return ctx.Err()
}

// trial is one shape that is carried out.
type trial struct {
	dir          string
	env, then    []string // with the servers as they are, and as they were when the project was locked
	shape        shape
	minor, major string
	wrong        []string
}

// carryOut lays the project down, and takes it there.
func (t *trial) carryOut(ctx context.Context) {
	for name, text := range t.shape.files {
		file := filepath.Join(t.dir, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.fail("laying it down", err.Error())
			return
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.fail("laying it down", err.Error())
			return
		}
	}
	now := t.env
	t.env = t.then
	said, err := t.run(ctx, "bundle", "lock")
	if t.env = now; err != nil {
		t.fail("Bundler finds no start", said)
		return
	}
	for _, args := range [][]string{
		{"init", "-q"}, {"config", "user.name", "gemfiles"}, {"config", "user.email", "gemfiles@example.org"}, {"add", "-A"},
		{"commit", "-qm", "as it is"},
	} {
		if said, err := t.run(ctx, "git", args...); err != nil {
			t.fail("git", said)
			return
		}
	}
	t.minor = t.to(ctx, "minor")
	t.major = t.to(ctx, "major")
}

// to takes the project as far as a reach goes.
func (t *trial) to(ctx context.Context, reach string) string {
	said, err := t.run(ctx, *program, "route", "--reach", reach)
	if err != nil {
		t.fail("route --reach "+reach, said)
		return "none"
	}
	legs := strings.Count("\n"+said, "\nleg ")
	if legs == 0 {
		return "0 legs"
	}
	if said, err := t.run(ctx, *program, "advance", "--all", "--unverified"); err != nil {
		t.fail("advance", said)
		return fmt.Sprintf("%d legs", legs)
	}
	if said, err := t.run(ctx, "bundle", "lock"); err != nil {
		t.fail("Bundler refuses what came of it", said)
	} else if said, err := t.run(ctx, "git", "status", "--porcelain"); err != nil || said != "" {
		changed, _ := t.run(ctx, "git", "diff")
		t.fail("Bundler changes what came of it", said+changed)
	}
	return fmt.Sprintf("%d legs", legs)
}

func (t *trial) fail(doing, said string) {
	const most = 600
	if len(said) > most {
		said = said[len(said)-most:]
	}
	t.wrong = append(t.wrong, doing+": "+said)
}

// run runs a program in the project.
func (t *trial) run(ctx context.Context, name string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir, cmd.Env = t.dir, t.env
	out, err := cmd.CombinedOutput()
	return string(out), err
}

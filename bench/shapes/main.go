// Shapes resolves projects in the shapes of real ones, and lets npm judge the
// locks. A shape is some groups of well-known packages of the public registry, at
// versions drawn from their histories by a seed. It needs npm and the registry that
// it is configured with.
//
//	go run ./bench/shapes [-seed N] [-count N] [-apart] [-majors] [-keep DIR]
//
// With -apart, versions are drawn that lie far apart in the histories, which makes
// conflicts; then it counts how often npm and Bellwether agree on whether
// there is a way. With -majors, each is routed to its newest majors, which must end in legs
// that hold, or in a proof.
package main

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"
	"golang.org/x/sync/errgroup"
)

var (
	seed  = flag.Uint64("seed", 1, "what the shapes are drawn from")
	count = flag.Int("count", 300, "how many shapes")
	first = flag.Int("first", 0, "the number of the first one")
	apart = flag.Bool("apart", false, "draw versions that lie far apart")
	major = flag.Bool("majors", false, "route each to its newest majors, every third as a workspace")
	keep  = flag.String("keep", "", "a folder to keep histories and projects in")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	dir := *keep
	if dir == "" {
		var err error
		if dir, err = os.MkdirTemp("", "shapes-"); err != nil {
			return err
		}
		defer os.RemoveAll(dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	bellwether := filepath.Join(dir, "bellwether")
	if out, err := exec.Command("go", "build", "-o", bellwether, "./cmd/bellwether").CombinedOutput(); err != nil {
		return fmt.Errorf("building: %w\n%s", err, out)
	}
	past, err := readHistories(filepath.Join(dir, "histories.json"))
	if err != nil {
		return err
	}
	tally := &tally{verdicts: map[verdict]int{}, rounds: map[verdict]int{}}
	var g errgroup.Group
	g.SetLimit(2)
	for n := *first; n < *first+*count; n++ {
		g.Go(func() error {
			p := &project{dir: filepath.Join(dir, fmt.Sprintf("shape-%d-%d-%t", *seed, n, *apart)), bellwether: bellwether}
			s := draw(past, *seed, n, *apart)
			// What stands in the way of a lock is dropped, so that every shape ends in one.
			if *major {
				r, err := p.majors(s, n)
				if err == nil {
					tally.note(n, r, true)
				}
				return err
			}
			for {
				r, err := p.judge(s)
				if err != nil {
					return fmt.Errorf("shape %d: %w", n, err)
				}
				s = s.without(r.blames)
				again := (r.verdict == bothRefuse || r.verdict == weRefuse) && r.blames != "" && len(s.lines) > 0
				tally.note(n, r, !again)
				if !again {
					return nil
				}
			}
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	tally.print()
	return nil
}

// tally counts what came of all shapes.
type tally struct {
	sync.Mutex
	verdicts, rounds map[verdict]int // at last, and before
}

func (t *tally) note(n int, r result, last bool) {
	t.Lock()
	defer t.Unlock()
	if last {
		t.verdicts[r.verdict]++
	} else {
		t.rounds[r.verdict]++
	}
	if r.verdict != accepted && r.verdict != arrived && r.verdict != arrivedForced && r.verdict != noStart &&
		(r.verdict != bothRefuse || last) {
		fmt.Printf("shape %d: %s%s\n", n, r.verdict, indented(r.why))
	}
}

func (t *tally) print() {
	fmt.Printf("\n%d shapes of seed %d\n", *count, *seed)
	for _, v := range verdicts {
		if t.rounds[v] > 0 {
			fmt.Printf("%5d  %s, after which what is blamed was dropped\n", t.rounds[v], v)
		}
	}
	for _, v := range verdicts {
		if t.verdicts[v] > 0 {
			fmt.Printf("%5d  %s\n", t.verdicts[v], v)
		}
	}
}

func indented(text string) string {
	text = strings.TrimSpace(text)
	if text == "" {
		return ""
	}
	lines := strings.Split(text, "\n")
	if len(lines) > 30 {
		lines = append(lines[:30], "…")
	}
	return "\n    " + strings.Join(lines, "\n    ")
}

// verdict is what came of a shape.
type verdict string

// All verdicts.
const (
	accepted   verdict = "npm takes the lock as it is"
	changed    verdict = "npm changes the lock"
	refused    verdict = "npm refuses the lock"
	itself     verdict = "npm refuses the lock, and its own, too"
	bothRefuse verdict = "no way, which npm says, too"
	weRefuse   verdict = "no way, where npm finds one"
	npmRefuses verdict = "a lock that npm takes as it is, but does not find by itself"
	failed     verdict = "Bellwether failed"
)

var verdicts = []verdict{
	arrived, arrivedForced, proved, noStart, untrue, noAnswer, accepted, npmRefuses, bothRefuse, itself, weRefuse, changed, refused,
	failed,
}

type result struct {
	verdict verdict
	why     string
	blames  string // the requirement that a proof names last
}

// project is a shape that is laid out.
type project struct{ dir, bellwether string }

const lock = "package-lock.json"

// lay writes a project's manifests into an empty folder, with settings.
func (p *project) lay(files map[string]string) error {
	if err := os.RemoveAll(p.dir); err != nil {
		return err
	}
	files["bellwether.yaml"] = "stages:\n  - {name: fetch, skip: only resolving is judged}\n"
	// npm ls takes a package for broken that a tag brought and whose address the lock leaves out.
	files[".npmrc"] = "omit-lockfile-registry-resolved=false\n"
	for name, text := range files {
		file := filepath.Join(p.dir, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// judge resolves a shape, and asks npm about what came out.
func (p *project) judge(s shape) (result, error) {
	if err := p.lay(map[string]string{"package.json": s.manifest()}); err != nil {
		return result{}, err
	}
	status, out, err := p.call(p.bellwether, "route", "--reach", "patch")
	if err == nil && status == 0 {
		if err = p.withoutSteps(); err == nil {
			status, out, err = p.call(p.bellwether, "advance")
		}
	}
	if err != nil {
		return result{}, err
	}
	ours, err := os.ReadFile(filepath.Join(p.dir, lock))
	switch {
	case status == 1 || status == 3: // a proof, or something that the registry does not have
		return p.compare(out)
	case status != 0 || err != nil:
		return result{verdict: failed, why: out}, nil
	}
	status, out, err = p.npm("install", "--package-lock-only")
	if err != nil {
		return result{}, err
	}
	theirs, err := os.ReadFile(filepath.Join(p.dir, lock))
	switch {
	case err != nil:
		return result{}, err
	case status != 0:
		return result{verdict: refused, why: out}, nil
	case !bytes.Equal(ours, theirs):
		kept := filepath.Join(p.dir, "ours.json")
		if err := os.WriteFile(kept, ours, 0o644); err != nil {
			return result{}, err
		}
		diff, _ := exec.Command("diff", kept, filepath.Join(p.dir, lock)).CombinedOutput()
		return result{verdict: changed, why: string(diff)}, nil
	}
	for _, args := range [][]string{{"ci", "--dry-run"}, {"ls", "--all", "--package-lock-only"}} {
		status, out, err := p.npm(args...)
		if err != nil {
			return result{}, err
		}
		if status == 0 {
			continue
		}
		r := result{verdict: refused, why: strings.Join(args, " ") + "\n" + tail(out)}
		if own, err := p.refusesOwn(args); err != nil {
			return result{}, err
		} else if own {
			r.verdict = itself
		}
		return r, nil
	}
	if !*apart {
		return result{verdict: accepted}, nil
	}
	if err := os.Remove(filepath.Join(p.dir, lock)); err != nil {
		return result{}, err
	}
	if status, out, err = p.npm("install", "--package-lock-only"); err != nil {
		return result{}, err
	}
	if status != 0 {
		return result{verdict: npmRefuses, why: tail(out)}, nil
	}
	return result{verdict: accepted}, nil
}

// refusesOwn tells whether npm finds fault with the lock that it writes itself, too.
func (p *project) refusesOwn(args []string) (bool, error) {
	if err := os.Remove(filepath.Join(p.dir, lock)); err != nil {
		return false, err
	}
	for range 2 { // the first lock may have something in it that npm takes out the next time
		if status, _, err := p.npm("install", "--package-lock-only"); status != 0 || err != nil {
			return status != 0, err
		}
	}
	status, _, err := p.npm(args...)
	return status != 0, err
}

// compare asks npm whether there is a way where Bellwether proves that there is
// none.
func (p *project) compare(proof string) (result, error) {
	r := result{verdict: bothRefuse, why: proof}
	if asks := asked.FindAllStringSubmatch(proof, -1); len(asks) > 0 {
		r.blames = asks[len(asks)-1][1]
	}
	status, out, err := p.npm("install", "--package-lock-only")
	switch {
	case err != nil:
		return result{}, err
	case status == 0:
		r.verdict = weRefuse
	case !slices.ContainsFunc([]string{"ERESOLVE", "ETARGET", "E404", "EBADPLATFORM", "git"}, func(code string) bool {
		return strings.Contains(out, code)
	}):
		r.verdict, r.why = weRefuse, proof+"\n"+tail(out)
	}
	return r, nil
}

var asked = regexp.MustCompile(`asks for (\S+) `)

// withoutSteps drops the legs that wait for a person, which installs what runs
// the packages; here they are only resolved.
func (p *project) withoutSteps() error {
	file := filepath.Join(p.dir, ".bellwether", "route.yaml")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var route map[string]any
	if err := yaml.Unmarshal(text, &route); err != nil {
		return err
	}
	legs, _ := route["legs"].([]any)
	route["legs"] = slices.DeleteFunc(legs, func(leg any) bool {
		fields, _ := leg.(map[string]any)
		return fields["steps"] != nil
	})
	if text, err = yaml.Marshal(route); err != nil {
		return err
	}
	return os.WriteFile(file, text, 0o644)
}

func tail(out string) string {
	lines := strings.Split(strings.TrimSpace(out), "\n")
	problems := slices.DeleteFunc(slices.Clone(lines), func(l string) bool {
		return !strings.Contains(l, "invalid") && !strings.Contains(l, "missing") && !strings.Contains(l, "ERR") && !strings.Contains(l, "error")
	})
	if len(problems) > 0 {
		lines = problems
	}
	return strings.Join(lines[max(0, len(lines)-20):], "\n")
}

func (p *project) npm(args ...string) (int, string, error) {
	return p.call("npm", append(args, "--prefer-offline", "--no-audit", "--no-fund", "--ignore-scripts")...)
}

// patience is how long a command may take. npm does not come to an end with some
// shapes.
const patience = 5 * time.Minute

// call runs a command, and gives its status and what it prints; the status is -1 if
// it was ended.
func (p *project) call(name string, args ...string) (int, string, error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Dir = p.dir
	out, err := cmd.CombinedOutput()
	if exit := (*exec.ExitError)(nil); errors.As(err, &exit) {
		return exit.ExitCode(), string(out), nil
	}
	return 0, string(out), err
}

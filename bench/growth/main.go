// Growth sees that no reader and no rule takes more than n log n steps: each case is carried out on an input, and on one that
// is ten times as large. Steps are counted, not seconds: the program is built with the counters of the Go tool's coverage,
// and every statement that is carried out is a step. A case fails that takes more than fifteen times the steps.
//
//	go run ./bench/growth [-only REGEXP] [-hot 5]
package main

import (
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"flag"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// counted are the packages whose statements are steps: ours, and those that read for us.
const counted = "bellwether/...,go.yaml.in/yaml/v3,unicode/utf8,strings,bytes,slices,sort,maps,regexp,encoding/json,encoding/xml," +
	"bufio,path,io/fs"

// factor is how much larger the second input is, and most how many times the steps it may take.
const (
	factor = 10
	most   = 15
)

func main() {
	only := flag.String("only", "", "the cases whose name this expression matches")
	hot := flag.Int("hot", 0, "tell so many places that take the most steps")
	flag.Parse()
	if err := measure(*only, *hot); err != nil {
		fmt.Fprintln(os.Stderr, "growth:", err)
		os.Exit(1)
	}
}

func measure(only string, hot int) error {
	wanted, err := regexp.Compile(only)
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "growth-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	program := filepath.Join(dir, "bellwether")
	build := exec.Command("go", "build", "-cover", "-covermode=count", "-coverpkg="+counted, "-o", program, "./cmd/bellwether")
	if out, err := build.CombinedOutput(); err != nil {
		return fmt.Errorf("building the program with counters: %w\n%s", err, out)
	}
	server := httptest.NewServer(http.HandlerFunc(registries))
	defer server.Close()
	l := &lab{dir: dir, program: program, server: server.URL, hot: hot}
	fmt.Printf("%-34s %12s %12s %7s %9s\n", "case", "steps", "ten times", "ratio", "seconds")
	var failed []string
	for _, c := range cases {
		if !wanted.MatchString(c.name) {
			continue
		}
		base, _, err := l.steps(c, 1)
		if err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
		small, _, err := l.steps(c, c.size)
		if err != nil {
			return fmt.Errorf("%s: %w", c.name, err)
		}
		large, took, err := l.steps(c, c.size*factor)
		small, large = small-base, large-base
		bound, verdict := small*most, ""
		if products[c.name] {
			bound *= factor
		}
		switch {
		case errors.Is(err, errTooLong):
			verdict = "  no end"
		case err != nil:
			return fmt.Errorf("%s: %w", c.name, err)
		case large > bound:
			verdict = "  too many"
		}
		if verdict != "" {
			failed = append(failed, c.name)
		}
		fmt.Printf("%-34s %12d %12d %7.1f %9.1f%s\n", c.name, small, large, float64(large)/float64(small), took.Seconds(), verdict)
	}
	if len(failed) > 0 {
		return fmt.Errorf("more than %d times the steps for %d times the input: %s", most, factor, strings.Join(failed, ", "))
	}
	return nil
}

// errTooLong is the error of a case that does not end. Only such a one is bounded in time.
var errTooLong = errors.New("it does not end")

// patience is after how long a case is given up.
const patience = 2 * time.Minute

// lab is where cases are carried out.
type lab struct {
	dir, program, server string
	hot                  int // how many places are told
}

// steps carries a case out on an input of a size.
func (l *lab) steps(c growing, n int) (int64, time.Duration, error) {
	dir := l.dir
	project, home := filepath.Join(dir, "project"), filepath.Join(dir, "home")
	if err := errors.Join(os.RemoveAll(project), os.RemoveAll(home)); err != nil {
		return 0, 0, err
	}
	files := c.files(n)
	files[".npmrc"] += "registry={server}/npm/\n"
	files["../home/.m2/settings.xml"] = "<settings><mirrors><mirror><id>m</id><mirrorOf>*</mirrorOf><url>{server}/maven</url></mirror>" +
		"</mirrors></settings>"
	for name, text := range files {
		text = strings.ReplaceAll(text, "{server}", l.server)
		file := filepath.Join(project, filepath.FromSlash(name))
		if err := errors.Join(os.MkdirAll(filepath.Dir(file), 0o755), os.WriteFile(file, []byte(text), 0o644)); err != nil {
			return 0, 0, err
		}
	}
	counters := filepath.Join(dir, "counters")
	if err := errors.Join(os.RemoveAll(counters), os.Mkdir(counters, 0o755)); err != nil {
		return 0, 0, err
	}
	args := []string{"--project", project}
	for _, arg := range c.args {
		args = append(args, strings.ReplaceAll(arg, "{project}", project))
	}
	cmd := exec.Command(l.program, args...)
	cmd.Env = append(os.Environ(),
		"GOCOVERDIR="+counters, "HOME="+home, "XDG_CACHE_HOME="+home, "XDG_STATE_HOME="+home, "XDG_CONFIG_HOME="+home,
		"GOPROXY="+l.server+"/go", "GONOSUMDB=*", "GOFLAGS=", "NPM_CONFIG_REGISTRY="+l.server+"/npm/")
	var said bytes.Buffer
	cmd.Stderr = &said
	begun := time.Now()
	if err := cmd.Start(); err != nil {
		return 0, 0, err
	}
	given := time.AfterFunc(patience, func() { _ = cmd.Process.Kill() })
	err := cmd.Wait()
	took := time.Since(begun)
	if !given.Stop() {
		return 0, took, errTooLong
	}
	if code := cmd.ProcessState.ExitCode(); code != c.exit {
		return 0, took, fmt.Errorf("exit status %d, not %d: %w\n%.2000s", code, c.exit, err, said.String())
	}
	total, err := l.sum(counters)
	return total, took, err
}

// sum adds the counters up: of each block, its statements by how often it was carried out.
func (l *lab) sum(counters string) (total int64, err error) {
	text := filepath.Join(l.dir, "counted.txt")
	if out, err := exec.Command("go", "tool", "covdata", "textfmt", "-i="+counters, "-o="+text).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("reading the counters: %w\n%s", err, out)
	}
	file, err := os.Open(text)
	if err != nil {
		return 0, err
	}
	defer file.Close()
	type place struct {
		name  string
		steps int64
	}
	var places []place
	lines := bufio.NewScanner(file)
	for lines.Scan() {
		words := strings.Fields(lines.Text())
		if len(words) != 3 {
			continue // the first line
		}
		statements, serr := strconv.ParseInt(words[1], 10, 64)
		times, terr := strconv.ParseInt(words[2], 10, 64)
		if err := errors.Join(serr, terr); err != nil {
			return 0, err
		}
		total += statements * times
		places = append(places, place{words[0], statements * times})
	}
	slices.SortFunc(places, func(a, b place) int { return cmp.Compare(b.steps, a.steps) })
	for _, p := range places[:min(l.hot, len(places))] {
		fmt.Printf("    %12d  %s\n", p.steps, p.name)
	}
	return total, lines.Err()
}

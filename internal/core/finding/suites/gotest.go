package suites

import (
	"encoding/json"
	"path"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// GoEvent is a line of the Go test JSON stream (go doc test2json).
type GoEvent struct {
	Action      string
	Package     string
	ImportPath  string // of a build
	Test        string
	Output      string
	FailedBuild string
}

// GoTests are the tests of a stream, in the order in which they ended.
type GoTests struct {
	dirOf   func(pkg string) string
	tests   []finding.Test
	keys    []string            // by test: package and name
	output  map[string][]string // by package and test, or by build
	parents map[string]bool
}

// NewGoTests reads results in the Go test JSON stream. Tests are named by their
// package, their own name, and those of sub-tests; a test that only groups
// others is left out, unless it failed although they passed. A package that
// failed without a failed test, because it did not build or ended early, counts
// as one. dirOf gives a package's folder in the project.
func NewGoTests(dirOf func(pkg string) string) *GoTests {
	return &GoTests{dirOf: dirOf, output: map[string][]string{}, parents: map[string]bool{}}
}

// ReadGoEvent reads a line of the stream; ok is false for any other.
func ReadGoEvent(line []byte) (e GoEvent, ok bool) {
	return e, json.Unmarshal(line, &e) == nil && e.Action != ""
}

// Event reads an event of the stream.
func (g *GoTests) Event(e GoEvent) {
	key := e.Package + "\n" + e.Test
	switch e.Action {
	case "build-output":
		g.keep(e.ImportPath, e.Output)
	case "output":
		g.keep(key, e.Output)
	case "pass", "fail", "skip":
		g.End(e, key)
	}
}

// maxOutput bounds how many lines of one test are kept.
const maxOutput = 1000

func (g *GoTests) keep(key, line string) {
	if len(g.output[key]) < maxOutput {
		g.output[key] = append(g.output[key], line)
	}
}

// End notes that a test has ended.
func (g *GoTests) End(e GoEvent, key string) {
	t := finding.Test{Name: e.Package, Passed: e.Action != "fail", Skipped: e.Action == "skip"}
	switch {
	case e.Test != "":
		t.Name += " > " + strings.ReplaceAll(e.Test, "/", " > ")
		if at := strings.LastIndexByte(key, '/'); at > strings.IndexByte(key, '\n') {
			g.parents[key[:at]] = true
		}
	case e.Action != "fail" || g.failedIn(e.Package):
		return
	case e.FailedBuild != "":
		t.Name += " > (build)"
		key = e.FailedBuild
	default:
		t.Name += " > (package)"
	}
	if !t.Passed {
		t.Message, t.Place = g.blame(e.Package, g.output[key])
	}
	delete(g.output, key)
	g.tests, g.keys = append(g.tests, t), append(g.keys, key)
}

func (g *GoTests) failedIn(pkg string) bool {
	for i, t := range g.tests {
		if !t.Passed && strings.HasPrefix(g.keys[i], pkg+"\n") {
			return true
		}
	}
	return false
}

var (
	goPlace = lazyregexp.New(`^\s*(?:vet: )?([^\s:]+\.go:\d+(?::\d+)?):? ?(.*)$`)
	goStack = lazyregexp.New(`^\t(\S+\.go:\d+)`)
)

// blame finds what went wrong, and where, in the output of a failed test.
func (g *GoTests) blame(pkg string, output []string) (message, place string) {
	panicked := false
	for i, text := range output {
		line := strings.TrimRight(text, "\n")
		switch m := goPlace.FindStringSubmatch(line); {
		case panicked:
			// The first line of the stack that lies in the project.
			if s := goStack.FindStringSubmatch(line); s != nil && place == "" && !path.IsAbs(s[1]) {
				return message, s[1]
			}
		case strings.HasPrefix(line, "panic: "):
			message, panicked = line, true
		case m != nil && place == "":
			if place = m[1]; !strings.Contains(place, "/") {
				place = path.Join(g.dirOf(pkg), place)
			} else if !path.IsAbs(place) {
				place = path.Join(g.dirOf(""), place)
			}
			return causeBelow(m[2], output[i+1:]), place
		case message == "" && !strings.HasPrefix(line, "=== ") && !strings.HasPrefix(strings.TrimSpace(line), "--- ") &&
			!strings.HasPrefix(line, "#") && !strings.HasPrefix(line, "FAIL"):
			message = strings.TrimSpace(line)
		}
	}
	return message, place
}

// causeBelow is what a test says behind a place and in the lines below, which are indented
// more. Of assertions that tell their trace first, it is what comes after that.
func causeBelow(first string, below []string) string {
	var lines []string
	if first = strings.TrimSpace(first); first != "" {
		lines = append(lines, first)
	}
	traced := false
	for _, text := range below {
		line := strings.TrimSpace(strings.TrimPrefix(text, "        "))
		if !strings.HasPrefix(text, "        ") || len(lines) == MaxCause || strings.HasPrefix(line, "Test:") {
			break
		}
		if label, rest, found := strings.Cut(line, ":"); found && (label == "Error" || label == "Messages") {
			line, traced = strings.TrimSpace(rest), false
		}
		traced = traced || strings.HasPrefix(line, "Error Trace:")
		if !traced && line != "" {
			lines = append(lines, line)
		}
	}
	return strings.Join(lines, "\n")
}

// Kept drops the tests that only group others.
func (g *GoTests) Kept() []finding.Test {
	failedBelow := map[string]bool{}
	for i, t := range g.tests {
		for key := g.keys[i]; !t.Passed && strings.Contains(key, "/"); {
			key = key[:strings.LastIndexByte(key, '/')]
			failedBelow[key] = true
		}
	}
	var kept []finding.Test
	for i, t := range g.tests {
		if g.parents[g.keys[i]] && (t.Passed || failedBelow[g.keys[i]]) {
			continue
		}
		kept = append(kept, t)
	}
	return kept
}

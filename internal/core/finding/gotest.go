package finding

import (
	"bufio"
	"encoding/json"
	"io"
	"path"
	"regexp"
	"strings"
)

// goEvent is a line of the Go test JSON stream (go doc test2json).
type goEvent struct {
	Action      string
	Package     string
	ImportPath  string // of a build
	Test        string
	Output      string
	FailedBuild string
}

// goTests are the tests of a stream, in the order in which they ended.
type goTests struct {
	dirOf   func(pkg string) string
	tests   []Test
	keys    []string            // by test: package and name
	output  map[string][]string // by package and test, or by build
	parents map[string]bool
}

// ReadGoTest reads results in the Go test JSON stream. Tests are named by their
// package, their own name, and those of sub-tests; a test that only groups
// others is left out, unless it failed although they passed. A package that
// failed without a failed test, because it did not build or ended early, counts
// as one. dirOf gives a package's folder in the project. ok is false if there is
// no such stream.
func ReadGoTest(r io.Reader, dirOf func(pkg string) string) (tests []Test, ok bool) {
	g := &goTests{dirOf: dirOf, output: map[string][]string{}, parents: map[string]bool{}}
	seen := false
	eachGoEvent(r, func(e goEvent) {
		seen = true
		g.event(e)
	})
	return g.kept(), seen
}

// eachGoEvent calls do for each line that is an event.
func eachGoEvent(r io.Reader, do func(e goEvent)) {
	lines := bufio.NewReaderSize(r, 1<<16)
	for {
		line, err := lines.ReadBytes('\n')
		var e goEvent
		if len(line) > 0 && line[0] == '{' && json.Unmarshal(line, &e) == nil && e.Action != "" {
			do(e)
		}
		if err != nil {
			return
		}
	}
}

func (g *goTests) event(e goEvent) {
	key := e.Package + "\n" + e.Test
	switch e.Action {
	case "build-output":
		g.output[e.ImportPath] = append(g.output[e.ImportPath], e.Output)
	case "output":
		g.output[key] = append(g.output[key], e.Output)
	case "pass", "fail", "skip":
		g.end(e, key)
	}
}

func (g *goTests) end(e goEvent, key string) {
	t := Test{Name: e.Package, Passed: e.Action != "fail", Skipped: e.Action == "skip"}
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
	g.tests, g.keys = append(g.tests, t), append(g.keys, key)
}

func (g *goTests) failedIn(pkg string) bool {
	for i, t := range g.tests {
		if !t.Passed && strings.HasPrefix(g.keys[i], pkg+"\n") {
			return true
		}
	}
	return false
}

var (
	goPlace = regexp.MustCompile(`^\s*(?:vet: )?([^\s:]+\.go:\d+(?::\d+)?):? ?(.*)$`)
	goStack = regexp.MustCompile(`^\t(\S+\.go:\d+)`)
)

// blame finds what went wrong, and where, in the output of a failed test.
func (g *goTests) blame(pkg string, output []string) (message, place string) {
	panicked := false
	for _, text := range output {
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
			if message = m[2]; message != "" {
				return message, place
			}
		case message == "" && !strings.HasPrefix(line, "=== ") && !strings.HasPrefix(strings.TrimSpace(line), "--- ") && !strings.HasPrefix(line, "#") && !strings.HasPrefix(line, "FAIL"):
			message = strings.TrimSpace(line)
		}
	}
	return message, place
}

// kept drops the tests that only group others.
func (g *goTests) kept() []Test {
	failedBelow := map[string]bool{}
	for i, t := range g.tests {
		for key := g.keys[i]; !t.Passed && strings.Contains(key, "/"); {
			key = key[:strings.LastIndexByte(key, '/')]
			failedBelow[key] = true
		}
	}
	var kept []Test
	for i, t := range g.tests {
		if g.parents[g.keys[i]] && (t.Passed || failedBelow[g.keys[i]]) {
			continue
		}
		kept = append(kept, t)
	}
	return kept
}

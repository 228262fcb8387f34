package finding

import (
	"bufio"
	"io"
	"regexp"
	"strings"
)

// Test is the result of one test.
type Test struct {
	Name    string `json:"name"` // with the names of the tests it is part of, " > " between
	Passed  bool   `json:"passed"`
	Skipped bool   `json:"skipped,omitempty"` // skipped, or marked as still to be done
	Message string `json:"message,omitempty"` // the first line of what went wrong
	Place   string `json:"place,omitempty"`   // "file:line:column" where the runner says so
}

var (
	tapResult  = regexp.MustCompile(`^( *)(not )?ok(?: +\d+)?(?: +- +|[ -]+|$)(.*)$`)
	tapSubtest = regexp.MustCompile(`^( *)# Subtest: (.*)$`)
	tapSkip    = regexp.MustCompile(`(?i) # (?:skip|todo)\b.*$`)
)

// tapIndent is what a subtest is indented by.
const tapIndent = 4

// ReadTAP reads results in the Test Anything Protocol, versions 13 and 14,
// with nested subtests, out of whatever else a program printed. A test that
// only groups others is left out, unless it failed although they passed. ok
// is false if there is no TAP in it.
func ReadTAP(r io.Reader) (tests []Test, ok bool) {
	lines := bufio.NewScanner(r)
	lines.Buffer(nil, 1<<20)
	t := tapReader{}
	for lines.Scan() {
		t.line(strings.TrimRight(lines.Text(), "\r"))
	}
	return t.tests, t.seen || len(t.tests) > 0
}

type tapReader struct {
	tests  []Test
	seen   bool
	names  []string // of the open subtests, by depth
	since  []int    // by depth: how many tests there were when its group began
	yaml   *Test    // whose diagnostics are being read
	indent int      // of the diagnostics
	block  bool     // a block text for the message follows
}

func (t *tapReader) line(line string) {
	if t.yaml != nil {
		t.diagnostic(line)
		return
	}
	if strings.HasPrefix(line, "TAP version ") {
		t.seen = true
		return
	}
	if m := tapSubtest.FindStringSubmatch(line); m != nil {
		depth := len(m[1]) / tapIndent
		t.grow(depth)
		t.names[depth], t.since[depth] = m[2], len(t.tests)
		return
	}
	if trimmed := strings.TrimLeft(line, " "); trimmed == "---" && len(t.tests) > 0 {
		t.yaml, t.indent = &t.tests[len(t.tests)-1], len(line)-len(trimmed)
		return
	}
	m := tapResult.FindStringSubmatch(line)
	if m == nil || !t.seen {
		return
	}
	depth := len(m[1]) / tapIndent
	t.grow(depth)
	name := strings.TrimSpace(tapSkip.ReplaceAllString(m[3], ""))
	test := Test{Passed: m[2] == "", Skipped: tapSkip.MatchString(m[3])}
	test.Name = strings.Join(append(append([]string{}, t.names[:depth]...), name), " > ")
	children := t.tests[min(t.since[depth], len(t.tests)):]
	t.since[depth] = len(t.tests)
	if len(children) > 0 && t.names[depth] == name {
		failed := false
		for _, c := range children {
			failed = failed || !c.Passed
		}
		if test.Passed || failed {
			// Its diagnostics belong to no test that is kept.
			t.skipDiagnostics()
			return
		}
	}
	t.tests = append(t.tests, test)
	t.since[depth] = len(t.tests)
}

func (t *tapReader) grow(depth int) {
	for len(t.names) <= depth {
		t.names = append(t.names, "")
		t.since = append(t.since, len(t.tests))
	}
}

// skipDiagnostics lets the next block of diagnostics go to nobody.
func (t *tapReader) skipDiagnostics() {
	t.yaml, t.indent = &Test{}, -1
}

func (t *tapReader) diagnostic(line string) {
	trimmed := strings.TrimSpace(line)
	if t.indent < 0 { // waiting for a block that may not come
		if trimmed == "---" {
			t.indent = len(line) - len(strings.TrimLeft(line, " "))
			return
		}
		t.yaml = nil
		t.line(line)
		return
	}
	if trimmed == "..." && len(line)-len(strings.TrimLeft(line, " ")) <= t.indent {
		t.yaml, t.block = nil, false
		return
	}
	if t.block {
		if trimmed != "" {
			t.yaml.Message, t.block = trimmed, false
		}
		return
	}
	key, value, found := strings.Cut(trimmed, ": ")
	if !found {
		key, value = strings.TrimSuffix(trimmed, ":"), ""
	}
	value = strings.Trim(value, `'"`)
	switch {
	case key == "error" && t.yaml.Message == "":
		if strings.HasPrefix(value, "|") || strings.HasPrefix(value, ">") {
			t.block = true
		} else {
			t.yaml.Message = value
		}
	case key == "location" && t.yaml.Place == "":
		t.yaml.Place = value
	}
}

package finding

import (
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/lazyregexp"
)

// Test is the result of one test.
type Test struct {
	Name    string `json:"name"` // with the names of the tests it is part of, " > " between
	Passed  bool   `json:"passed"`
	Skipped bool   `json:"skipped,omitempty"` // skipped, or marked as still to be done
	Message string `json:"message,omitempty"` // the first cause, of up to six lines
	Place   string `json:"place,omitempty"`   // "file:line:column" where the runner says so
	// Unstable is that it failed, and passed when it was run once more.
	Unstable bool `json:"unstable,omitempty"`
	// Whole is that it stands for all tests of a file, which the runner does not name.
	Whole bool `json:"whole,omitempty"`
	// Within is the file that the test is of, where the runner names only those of its
	// tests that fail.
	Within string `json:"within,omitempty"`
}

// Failed tells whether the test failed, and did so again where it was run again.
func (t Test) Failed() bool { return !t.Passed && !t.Skipped && !t.Unstable }

var (
	tapResult  = lazyregexp.New(`^( *)(not )?ok(?: +\d+)?(?: +- +|[ -]+|$)(.*)$`)
	tapSubtest = lazyregexp.New(`^( *)# Subtest: (.*)$`)
	tapPlan    = lazyregexp.New(`^ *(?:1\.\.\d+|# (?:tests|suites|pass|fail|cancelled|skipped|todo|duration_ms) [\d.]+)`)
	tapSkip    = lazyregexp.New(`(?i) # (?:skip|todo)\b.*$`)
)

// tapIndent is what a subtest is indented by.
const tapIndent = 4

// tapReader reads results in the Test Anything Protocol, versions 13 and 14, with
// nested subtests, out of whatever else a program printed. A test that only groups
// others is left out, unless it failed although they passed.
type tapReader struct {
	tests  []Test
	seen   bool
	names  []string // of the open subtests, by depth
	since  []int    // by depth: how many tests there were when its group began
	yaml   *Test    // whose diagnostics are being read
	indent int      // of the diagnostics
	block  bool     // a block text for the message is being read
}

// take reads a line; it is false for one that is no TAP.
func (t *tapReader) take(line string) bool {
	if t.yaml != nil {
		return t.diagnostic(line)
	}
	if strings.HasPrefix(line, "TAP version ") {
		t.seen = true
		return true
	}
	if m := tapSubtest.FindStringSubmatch(line); m != nil {
		depth := len(m[1]) / tapIndent
		t.grow(depth)
		t.names[depth], t.since[depth] = m[2], len(t.tests)
		return true
	}
	if trimmed := strings.TrimLeft(line, " "); trimmed == "---" && len(t.tests) > 0 {
		t.yaml, t.indent = &t.tests[len(t.tests)-1], len(line)-len(trimmed)
		return true
	}
	m := tapResult.FindStringSubmatch(line)
	if m == nil || !t.seen {
		return tapPlan.MatchString(line)
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
			return true
		}
	}
	t.tests = append(t.tests, test)
	t.since[depth] = len(t.tests)
	return true
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

// diagnostic takes a line of the block that follows a result. A block that is cut
// short ends where the indentation does.
func (t *tapReader) diagnostic(line string) bool {
	trimmed := strings.TrimSpace(line)
	if t.indent < 0 { // waiting for a block that may not come
		if trimmed == "---" {
			t.indent = len(line) - len(strings.TrimLeft(line, " "))
			return true
		}
		t.yaml = nil
		return t.take(line)
	}
	if trimmed != "" && len(line)-len(strings.TrimLeft(line, " ")) < t.indent {
		t.yaml, t.block = nil, false
		return t.take(line)
	}
	if trimmed == "..." && len(line)-len(strings.TrimLeft(line, " ")) <= t.indent {
		t.yaml, t.block = nil, false
		return true
	}
	if t.block = t.block && (trimmed == "" || len(line)-len(strings.TrimLeft(line, " ")) > t.indent); t.block {
		t.text(trimmed)
		return true
	}
	key, value, found := strings.Cut(trimmed, ": ")
	if !found {
		key, value = strings.TrimSuffix(trimmed, ":"), ""
	}
	value = unquoted(value)
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
	return true
}

// text takes a line of the message: the first few that say something, and of a
// comparison the first of what was found (+) and of what was expected (-).
func (t *tapReader) text(line string) {
	switch {
	case line == "":
	case t.yaml.Message == "":
		t.yaml.Message = line
	case strings.HasPrefix(line, "+ actual"):
	case strings.HasPrefix(line, "+ "), strings.HasPrefix(line, "- "):
		if !strings.Contains(t.yaml.Message, " "+line[:2]) {
			t.yaml.Message += " " + strings.TrimRight(strings.Join(strings.Fields(line), " "), ",")
		}
	case strings.Trim(line, "{}[]() ") != "" && !strings.Contains(t.yaml.Message, " + ") && strings.Count(t.yaml.Message, "\n") < maxCause-1:
		t.yaml.Message += "\n" + line
	}
}

// unquoted is a YAML value without the quotes around it, if it is one that is quoted as a
// whole.
func unquoted(value string) string {
	var text string
	if quote := value[:min(1, len(value))]; (quote == "'" || quote == `"`) && yaml.Unmarshal([]byte(value), &text) == nil {
		return text
	}
	return value
}

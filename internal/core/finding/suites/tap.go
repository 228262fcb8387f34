package suites

import (
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

var (
	tapResult  = lazyregexp.New(`^( *)(not )?ok(?: +\d+)?(?: +- +|[ -]+|$)(.*)$`)
	tapSubtest = lazyregexp.New(`^( *)# Subtest: (.*)$`)
	tapPlan    = lazyregexp.New(`^ *(?:1\.\.\d+|# (?:tests|suites|pass|fail|cancelled|skipped|todo|duration_ms) [\d.]+)`)
	tapSkip    = lazyregexp.New(`(?i) # (?:skip|todo)\b.*$`)
)

// tapIndent is what a subtest is indented by.
const tapIndent = 4

// TapReader reads results in the Test Anything Protocol, versions 13 and 14, with
// nested subtests, out of whatever else a program printed. A test that only groups
// others is left out, unless it failed although they passed.
type TapReader struct {
	Tests  []finding.Test
	Seen   bool
	names  []string      // of the open subtests, by depth
	since  []int         // by depth: how many tests there were when its group began
	yaml   *finding.Test // whose diagnostics are being read
	indent int           // of the diagnostics
	block  bool          // a block text for the message is being read
}

// Take reads a line; it is false for one that is no TAP.
func (t *TapReader) Take(line string) bool {
	if t.yaml != nil {
		return t.diagnostic(line)
	}
	if strings.HasPrefix(line, "TAP version ") {
		t.Seen = true
		return true
	}
	if m := tapSubtest.FindStringSubmatch(line); m != nil {
		depth := len(m[1]) / tapIndent
		t.grow(depth)
		t.names[depth], t.since[depth] = m[2], len(t.Tests)
		return true
	}
	if trimmed := strings.TrimLeft(line, " "); trimmed == "---" && len(t.Tests) > 0 {
		t.yaml, t.indent = &t.Tests[len(t.Tests)-1], len(line)-len(trimmed)
		return true
	}
	m := tapResult.FindStringSubmatch(line)
	if m == nil || !t.Seen {
		return tapPlan.MatchString(line)
	}
	depth := len(m[1]) / tapIndent
	t.grow(depth)
	name := strings.TrimSpace(tapSkip.ReplaceAllString(m[3], ""))
	test := finding.Test{Passed: m[2] == "", Skipped: tapSkip.MatchString(m[3])}
	test.Name = strings.Join(append(append([]string{}, t.names[:depth]...), name), " > ")
	children := t.Tests[min(t.since[depth], len(t.Tests)):]
	t.since[depth] = len(t.Tests)
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
	t.Tests = append(t.Tests, test)
	t.since[depth] = len(t.Tests)
	return true
}

func (t *TapReader) grow(depth int) {
	for len(t.names) <= depth {
		t.names = append(t.names, "")
		t.since = append(t.since, len(t.Tests))
	}
}

// skipDiagnostics lets the next block of diagnostics go to nobody.
func (t *TapReader) skipDiagnostics() {
	t.yaml, t.indent = &finding.Test{}, -1
}

// diagnostic takes a line of the block that follows a result. A block that is cut
// short ends where the indentation does.
func (t *TapReader) diagnostic(line string) bool {
	trimmed := strings.TrimSpace(line)
	if t.indent < 0 { // waiting for a block that may not come
		if trimmed == "---" {
			t.indent = len(line) - len(strings.TrimLeft(line, " "))
			return true
		}
		t.yaml = nil
		return t.Take(line)
	}
	if trimmed != "" && len(line)-len(strings.TrimLeft(line, " ")) < t.indent {
		t.yaml, t.block = nil, false
		return t.Take(line)
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
func (t *TapReader) text(line string) {
	switch {
	case line == "":
	case t.yaml.Message == "":
		t.yaml.Message = line
	case strings.HasPrefix(line, "+ actual"):
	case strings.HasPrefix(line, "+ "), strings.HasPrefix(line, "- "):
		if !strings.Contains(t.yaml.Message, " "+line[:2]) {
			t.yaml.Message += " " + strings.TrimRight(strings.Join(strings.Fields(line), " "), ",")
		}
	case strings.Trim(line, "{}[]() ") != "" && !strings.Contains(t.yaml.Message, " + ") && strings.Count(t.yaml.Message, "\n") < MaxCause-1:
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

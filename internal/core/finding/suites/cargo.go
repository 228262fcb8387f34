package suites

import (
	"slices"
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// cargoTests read what cargo test prints: all tests, and the causes of those that failed.
type cargoTests struct {
	Results
	crate string
}

var (
	cargoRuns = lazyregexp.New(`^ +(?:Running (?:unittests )?(\S+) \(|Doc-tests (\S+))`)
	cargoTest = lazyregexp.New(`^test (.+?)(?: - should panic)? \.\.\. (ok|FAILED|ignored)(?:, .*)?$`)
	cargoFail = lazyregexp.New(`^---- (.+) stdout ----$`)
	// cargoBegins is what lines begin with that are looked at.
	cargoBegins = []string{"     Running", "   Doc-tests", "test ", "---- "}
	cargoPanic  = lazyregexp.New(`^thread '.*' (?:\(\d+\) )?panicked at (\S+:\d+:\d+):$`)
)

// Take reads a line of what is printed.
func (c *cargoTests) Take(line string) {
	if c.cause == 0 && !slices.ContainsFunc(cargoBegins, func(text string) bool { return strings.HasPrefix(line, text) }) {
		return
	}
	if m := cargoRuns.FindStringSubmatch(line); m != nil {
		c.crate = m[1] + m[2]
	} else if m := cargoTest.FindStringSubmatch(line); m != nil {
		c.put(finding.Test{Name: joined(c.crate, m[1]), Passed: m[2] == "ok", Skipped: m[2] == "ignored"})
	} else if m := cargoFail.FindStringSubmatch(line); m != nil {
		c.fails(finding.Test{Name: joined(c.crate, m[1])})
	} else if strings.HasPrefix(line, "test result: ") {
		c.sure, c.cause = true, 0
	} else if m := cargoPanic.FindStringSubmatch(line); m != nil && c.cause > 0 {
		c.Tests[c.cause-1].Place = m[1]
	} else if strings.HasPrefix(line, "stack backtrace:") || strings.HasPrefix(line, "note: ") || line == "" && c.lines > 0 {
		c.cause = 0
	} else {
		c.why(line)
	}
}

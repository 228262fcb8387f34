package suites

import (
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// dotnetTests read what dotnet test prints: the tests that it names, and its counts.
type dotnetTests struct{ Results }

var (
	dotnetTest  = lazyregexp.New(`^  (Passed|Failed|Skipped) (\S.*?) \[[^\]]*\]$`)
	dotnetCount = lazyregexp.New(`^(?:Passed|Failed)! +- Failed: +(\d+), Passed: +(\d+), Skipped: +(\d+), Total: +\d+`)
	dotnetOld   = lazyregexp.New(`^ {4,5}(Passed|Failed|Skipped): (\d+)$`)
)

// Take reads a line of what is printed.
func (d *dotnetTests) Take(line string) {
	if d.cause == 0 && !strings.HasPrefix(line, "  ") && !strings.HasPrefix(line, "Passed!") && !strings.HasPrefix(line, "Failed!") {
		return
	}
	if m := dotnetTest.FindStringSubmatch(line); m != nil {
		d.cause = 0
		if t := (finding.Test{Name: m[2], Passed: m[1] == "Passed", Skipped: m[1] == "Skipped"}); m[1] == "Failed" {
			d.fails(t)
		} else {
			d.put(t)
		}
		return
	}
	if m := dotnetCount.FindStringSubmatch(line); m != nil {
		d.add(number(m[2]), number(m[1]), number(m[3]))
		return
	}
	if m := dotnetOld.FindStringSubmatch(line); m != nil {
		n := map[string]int{m[1]: number(m[2])}
		d.add(n["Passed"], n["Failed"], n["Skipped"])
		return
	}
	switch strings.TrimSpace(line) {
	case "Error Message:":
	case "Stack Trace:", "Standard Output Messages:":
		d.cause = 0
	default:
		d.why(line)
	}
}

// add adds to the counts: each project tells its own.
func (d *dotnetTests) add(passed, failed, skipped int) {
	if d.Counted == nil {
		d.Counted = &finding.Counted{}
	}
	d.sure, d.cause = true, 0
	d.Counted.Passed, d.Counted.Failed, d.Counted.Skipped = d.Counted.Passed+passed, d.Counted.Failed+failed, d.Counted.Skipped+skipped
}

package suites

import (
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// minitestTests read Minitest, alone or below Rails, and test-unit: the tests that failed or were skipped
// with their causes, and with --verbose all others, too.
type minitestTests struct {
	Results
	told    string // what is being told of a test whose name follows: "Failure", "Error", "Skipped"
	verbose bool   // those that passed are named
}

var (
	minitestHead  = lazyregexp.New(`^(?:\s*\d+\) )?(Failure|Error|Skipped):$`)
	minitestName  = lazyregexp.New(`^(\S.*?#.+?)(?: \[(.+?:\d+)\])?:$`)
	minitestEach  = lazyregexp.New(`^(\S.*#.+) = \d[\d.]* s = ([.FES])$`)
	minitestCount = lazyregexp.New(
		`^(\d+) (?:runs|tests), \d+ assertions, (\d+) failures, (\d+) errors, (\d+) (?:skips|pendings)(?:, (\d+) omissions)?`,
	)
	testUnitHead = lazyregexp.New(`^(Failure|Error|Omission|Pending): (test[^(]*)\((.+?)\)(?:: .*)?$`)
)

// minitestAll stands for the tests that passed, where they are not named.
const minitestAll = "tests"

// Take reads a line of what is printed.
func (r *minitestTests) Take(line string) {
	if r.told != "" {
		told := r.told
		r.told = ""
		if m := minitestName.FindStringSubmatch(line); m != nil {
			r.tell(told, m[1], m[2])
			return
		}
	}
	if line == "" {
		r.cause = 0
		return
	}
	if !strings.HasSuffix(line, ":") && !strings.Contains(line, " assertions, ") && !strings.Contains(line, " s = ") &&
		!strings.HasSuffix(line, ")") {
		r.why(line)
		return
	}
	if m := minitestHead.FindStringSubmatch(line); m != nil {
		r.told, r.cause = m[1], 0
	} else if m := testUnitHead.FindStringSubmatch(line); m != nil {
		r.tell(m[1], m[3]+"#"+m[2], "")
	} else if m := minitestEach.FindStringSubmatch(line); m != nil {
		r.verbose = true
		if m[2] == "." {
			r.put(finding.Test{Name: m[1], Passed: true})
		} else {
			r.put(finding.Test{Name: m[1], Skipped: m[2] == "S"})
		}
	} else if m := minitestCount.FindStringSubmatch(line); m != nil {
		r.sure, r.cause = true, 0
		c := &finding.Counted{Failed: number(m[2]) + number(m[3]), Skipped: number(m[4]) + number(m[5])}
		c.Passed = number(m[1]) - c.Failed - c.Skipped
		r.Counted = c
		if !r.verbose {
			r.put(finding.Test{Name: minitestAll, Passed: true, Whole: true})
		}
	} else {
		r.why(line)
	}
}

// tell adds a test that did not pass.
func (r *minitestTests) tell(how, name, place string) {
	within := minitestAll
	if r.verbose {
		within = ""
	}
	if how != "Failure" && how != "Error" {
		r.cause = 0
		r.put(finding.Test{Name: name, Skipped: true, Within: within})
		return
	}
	r.fails(finding.Test{Name: name, Within: within, Place: place})
	if i := r.at[name]; place != "" {
		r.Tests[i].Place = place
	}
}

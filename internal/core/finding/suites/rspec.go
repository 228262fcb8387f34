package suites

import (
	"strings"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

// rspecTests read RSpec: the examples that failed, with their causes.
type rspecTests struct {
	Results
	list string // the list that is being told, "Failures" or another
}

var (
	rspecItem  = lazyregexp.New(`^  \d+\) (.+)$`)
	rspecCount = lazyregexp.New(`^\d+ examples?, \d+ failures?`)
	rspecRerun = lazyregexp.New(`^rspec (\./\S+) # (.+)$`)
)

// Take reads a line of what is printed.
func (r *rspecTests) Take(line string) {
	if !r.begins(line) {
		r.why(line)
		return
	}
	if m := rspecItem.FindStringSubmatch(line); m != nil && r.list != "" {
		if r.cause = 0; r.list == "Failures" {
			r.fails(finding.Test{Name: m[1], Within: rspecAll})
		} else {
			r.put(finding.Test{Name: m[1], Skipped: true, Within: rspecAll})
		}
		return
	}
	switch {
	case line == "Failures:", strings.HasPrefix(line, "Pending:"):
		r.list, _, _ = strings.Cut(line, ":")
	case rspecCount.MatchString(line):
		r.sure, r.list, r.cause = true, "", 0
		c := countedIn(line)
		c.Passed = number(strings.Fields(line)[0]) - c.Failed - c.Skipped
		r.Counted = c
		r.put(finding.Test{Name: rspecAll, Passed: true, Whole: true})
	case rspecRerun.MatchString(line):
		m := rspecRerun.FindStringSubmatch(line)
		if i, known := r.at[m[2]]; known && r.Tests[i].Place == "" {
			r.Tests[i].Place = strings.TrimPrefix(m[1], "./")
		}
	default:
		r.why(strings.TrimPrefix(strings.TrimSpace(line), "Failure/Error: "))
	}
}

// begins tells whether a line may be one of those that are looked for.
func (r *rspecTests) begins(line string) bool {
	if r.list != "" || line == "Failures:" || strings.HasPrefix(line, "Pending:") || strings.HasPrefix(line, "rspec ") {
		return true
	}
	return line != "" && line[0] >= '0' && line[0] <= '9' && strings.Contains(line, " example")
}

// rspecAll stands for the examples that passed, which are not named.
const rspecAll = "examples"

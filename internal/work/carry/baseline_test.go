package carry

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/finding"
)

// A red start says what is red: the tests, else the failures, else the end of what was printed.
func TestRedStart(t *testing.T) {
	f := &FailedStage{What: "the project fails", Next: "make it pass", Stage: finding.Stage{
		Component: "board", Name: "test", Why: "exit status 1", Log: "test.log", Tail: []string{"the end"},
	}}
	assert.Equal(t, "the project fails: board: test: exit status 1 (log: test.log)\n    the end\n  next: make it pass", f.Error())
	f.Stage.Findings = []finding.Finding{
		{Kind: finding.Warning, Text: "old"}, {Kind: finding.Failure, Code: "E1", Text: "no such door\nreally", Place: "a.js:1"},
	}
	assert.Contains(t, f.Error(), "\n    E1: no such door (a.js:1)\n  next")
	f.Stage.Tests = []finding.Test{
		{Name: "doors > bow", Message: "they are shut\nat a.js:8", Place: "a.js:8"}, {Name: "doors > stern", Passed: true}, {Name: "hull"},
	}
	assert.Contains(t, f.Error(), "\n    doors > bow: they are shut (a.js:8)\n    hull\n  next")
	assert.NotContains(t, f.Error(), "stern")
	for i := range 30 {
		f.Stage.Tests = append(f.Stage.Tests, finding.Test{Name: fmt.Sprintf("deck %d", i)})
	}
	assert.Contains(t, f.Error(), "deck 17\n    and 12 more\n")
}

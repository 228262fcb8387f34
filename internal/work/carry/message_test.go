package carry

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/work/kept"
)

// TestMessageLines sees that what others wrote begins no line of a commit's message, and so makes no trailer of its own.
func TestMessageLines(t *testing.T) {
	const evil = "x\nSigned-off-by: somebody\r\nVerified-Tests: 99 passed, 0 failed\u2028Route: y"
	a := &advance{file: &kept.Route{Destination: []string{"left@^2" + evil}}}
	r := &finding.LegResult{Verification: &finding.Verification{}, Leg: output.LegResult{
		ID: "1-left-2", Title: "left to 2 " + evil, Notes: []string{"left 1 is deprecated: " + evil},
		Moves: []output.MoveSummary{{Name: "left" + evil, From: "1.0.0", To: "2.0.0", Because: evil}},
		Repairs: []model.RepairResult{{
			Rule: "r" + evil, Says: evil, Files: []string{"a"}, Left: []model.RepairLeft{{Place: "a:1", Reason: evil}},
		}},
	}}
	for line := range strings.Lines(a.message(r)) {
		for _, begin := range []string{"Signed-off-by", "Verified-Tests: 99", "Route: y"} {
			assert.False(t, strings.HasPrefix(line, begin), line)
		}
	}
	assert.Contains(t, a.message(r), "\nNothing was run.\n", "what was not run is not said to be verified")
	assert.Contains(t, a.message(r), "\nVerified-Tests: 0 passed, 0 failed\n")
}

func TestSubjects(t *testing.T) {
	moves := make([]output.MoveSummary, 3)
	for want, leg := range map[string]output.LegResult{
		"Move hull to 2, with 2 companions":      {Title: "hull to 2", Moves: moves},
		"Move hull to 2 in deck":                 {Title: "hull to 2", Component: "deck", Moves: moves[:1]},
		"Write the lock that is missing in deck": {Title: "write the lock that is missing", Component: "deck"},
		"Move 3 development tools to newer majors: adze, awl, bit": {
			Title: "3 development tools to newer majors: adze, awl, bit", Component: ".", Moves: moves,
		},
	} {
		assert.Equal(t, want, subjectLine(leg))
	}
}

package printed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/finding"
)

const nodeTAP = `TAP version 13
# Subtest: departures
    # Subtest: sorts by time
    ok 1 - sorts by time
      ---
      duration_ms: 0.5
      ...
    # Subtest: names the pier
    not ok 2 - names the pier
      ---
      duration_ms: 0.8
      location: '/tmp/x/board.test.js:12:3'
      failureType: 'testCodeFailure'
      error: |-
        Expected values to be strictly equal:
        + actual - expected

          [
        +   'north',
        +   'south',
        -   'N',
        -   'S'
          ]
      code: 'ERR_ASSERTION'
      ...
    1..2
not ok 1 - departures
  ---
  error: '1 subtest failed'
  ...
# Subtest: tide table
ok 2 - tide table # SKIP no tide today
some program's own words
ok, this is not a result
# Subtest: closes
ok 3 - closes
1..3
# tests 5
`

func TestReadTAP(t *testing.T) {
	assert.Equal(t, []finding.Test{
		{Name: "departures > sorts by time", Passed: true},
		{
			Name:    "departures > names the pier",
			Message: "Expected values to be strictly equal: + 'north' - 'N'",
			Place:   "board.test.js:12:3",
		},
		{Name: "tide table", Passed: true, Skipped: true},
		{Name: "closes", Passed: true},
	}, read(t, nodeTAP, Source{Scratch: "/tmp/x"}).Tests)
	assert.Empty(t, read(t, "everything is ok\nok\n", Source{}).Tests, "no TAP in it")
}

func read(t *testing.T, text string, s Source) *Report {
	r := NewReader(s)
	require.NoError(t, r.Output(strings.NewReader(text)))
	return r.Report()
}

func verification(status finding.Status, tests ...finding.Test) *finding.Verification {
	return &finding.Verification{Stages: []finding.Stage{{Component: ".", Name: "test", Status: status, Tests: tests}}}
}

func TestCompare(t *testing.T) {
	was := []finding.Test{{Name: "a", Passed: true}, {Name: "b"}, {Name: "c"}, {Name: "d", Passed: true}}
	is := []finding.Test{{Name: "a"}, {Name: "b"}, {Name: "c", Passed: true}, {Name: "e"}}
	before, after := verification(finding.Failed, was...), verification(finding.Failed, is...)
	c := finding.Compare(before, after)
	assert.Equal(t, []finding.Test{{Name: "a"}, {Name: "e"}}, c.NewlyFailing)
	assert.Equal(t, []finding.Test{{Name: "b"}}, c.StillFailing)
	assert.Equal(t, []string{"c"}, c.NewlyPassing)
	assert.Equal(t, []string{"d"}, c.Vanished)
	assert.Empty(t, c.BrokenStages)
	assert.True(t, c.Worse())

	same := finding.Compare(before, before)
	assert.False(t, same.Worse(), "a test that failed before is not news")

	crash := finding.Compare(
		verification(finding.Passed, finding.Test{Name: "a", Passed: true}),
		&finding.Verification{Stages: []finding.Stage{
			{Component: ".", Name: "fetch", Status: finding.Failed}, {Component: ".", Name: "test", Status: finding.NotRun},
		}},
	)
	assert.Len(t, crash.BrokenStages, 1)
	assert.Empty(t, crash.Vanished, "tests of a stage that was not reached are not vanished")
}

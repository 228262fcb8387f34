package printed

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/finding"
)

// TestRunners reads what test runners printed for people, as they did: what is told of each
// test stands behind it.
func TestRunners(t *testing.T) {
	files, err := filepath.Glob("testdata/runners/*.txt")
	require.NoError(t, err)
	require.Len(t, files, 14)
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		output, _, _ := strings.Cut(string(text), expected)
		r := NewReader(Source{Dir: ".", Scratch: "/scratch/tree"})
		require.NoError(t, r.Output(strings.NewReader(output)))
		report := r.Report()
		got := output
		for _, test := range report.Tests {
			got += expected + toldOf(test) + "\n"
		}
		if c := report.Counted; c != nil {
			got += fmt.Sprintf(expected+"%d passed, %d failed, %d skipped\n", c.Passed, c.Failed, c.Skipped)
		}
		if *update {
			require.NoError(t, os.WriteFile(name, []byte(got), 0o644))
			continue
		}
		assert.Equal(t, string(text), got, name)
	}
}

// toldOf is a test on a line.
func toldOf(t finding.Test) string {
	text := map[bool]string{true: "passed", false: "failed"}[t.Passed]
	if t.Skipped {
		text = "skipped"
	}
	text += ": " + t.Name
	if t.Whole {
		text += ", all of it"
	}
	if t.Place != "" {
		text += " (" + t.Place + ")"
	}
	if t.Message != "" {
		text += ": " + strings.ReplaceAll(t.Message, "\n", " | ")
	}
	return text
}

// TestOnlyFailedAreNamed compares runs of a runner that names a file, and of its tests those
// that fail.
func TestOnlyFailedAreNamed(t *testing.T) {
	fine := verification(finding.Passed, finding.Test{Name: "a.js", Passed: true, Whole: true})
	bad := verification(finding.Failed, finding.Test{Name: "a.js > rolls", Within: "a.js"})
	c := finding.Compare(fine, bad)
	assert.Equal(t, "a.js > rolls", c.NewlyFailing[0].Name)
	assert.Empty(t, c.Vanished, "its file ran")
	c = finding.Compare(bad, fine)
	assert.Equal(t, []string{"a.js > rolls"}, c.NewlyPassing)
	assert.Empty(t, c.Vanished)
	c = finding.Compare(bad, verification(finding.Passed))
	assert.Equal(t, []string{"a.js > rolls"}, c.Vanished, "nothing of it ran")
}

// TestTRX reads results of .NET's test platform.
func TestTRX(t *testing.T) {
	r := NewReader(Source{})
	r.Results("x.trx", strings.NewReader(`<?xml version="1.0"?>
<TestRun xmlns="http://microsoft.com/schemas/VisualStudio/TeamTest/2010"><Results>
<UnitTestResult testName="Tide.Deck.Rolls" outcome="Failed"><Output><ErrorInfo><Message>Assert.Equal() Failure
Expected: 3
Actual: 2</Message><StackTrace>at Tide.Deck.Rolls()</StackTrace></ErrorInfo></Output></UnitTestResult>
<UnitTestResult testName="Tide.Deck.Opens" outcome="Passed" /><UnitTestResult testName="Tide.Deck.Waits" outcome="NotExecuted" />
</Results></TestRun>`))
	assert.Equal(t, []finding.Test{
		{
			Name: "Tide.Deck.Rolls", Message: "Assert.Equal() Failure\nExpected: 3\nActual: 2",
		}, {Name: "Tide.Deck.Opens", Passed: true}, {Name: "Tide.Deck.Waits", Skipped: true},
	}, r.Report().Tests)
}

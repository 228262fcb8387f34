package printed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/lazyregexp"
)

const junitXML = `<?xml version="1.0" encoding="UTF-8"?>
<testsuites tests="5">
  <testsuite name="deck">
    <testcase classname="example.DeckTest" name="carries" time="0.01" file="/scratch/tree/in/deck.js" line="12">
      <failure message="expected 3&#10;but was 4" type="AssertionError">at deck.js:12</failure>
    </testcase>
    <testcase classname="example.DeckTest" name="opens"/>
    <testcase name="closes"><skipped/></testcase>
    <testcase name="rolls"><error>
      no tide
      at deck.js:9
    </error><system-out>words</system-out></testcase>
  </testsuite>
</testsuites>
`

const sarifText = `{
  "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
  "version": "2.1.0",
  "runs": [{
    "tool": {"driver": {"name": "Checker", "rules": [{"id": "R1", "defaultConfiguration": {"level": "error"}}]}},
    "results": [
      {"ruleId": "R1", "message": {"text": "the rope is loose"}, "locations": [{"physicalLocation": {
        "artifactLocation": {"uri": "file:///scratch/tree/in/a.js"}, "region": {"startLine": 3, "startColumn": 5}}}]},
      {"ruleId": "R2", "message": {"text": "haul is deprecated"}, "locations": [{"physicalLocation": {
        "artifactLocation": {"uri": "src/b.js"}, "region": {"startLine": 4}}}]},
      {"ruleId": "R3", "level": "note", "message": {"text": "said by the way"}},
      {"ruleId": "R4", "message": {"text": "known"}, "suppressions": [{"kind": "inSource"}]}
    ]
  }]
}
`

func TestResults(t *testing.T) {
	wantTests := []finding.Test{
		{Name: "example.DeckTest > carries", Message: "expected 3\nbut was 4", Place: "in/deck.js:12"},
		{Name: "example.DeckTest > opens", Passed: true},
		{Name: "deck > closes", Passed: true, Skipped: true},
		{Name: "deck > rolls", Message: "no tide"},
	}
	wantFindings := []string{
		"failure of checker: the rope is loose [R1] at in/a.js:3:5",
		"warning of checker: said by the way [R3]",
		"deprecation of checker: haul is deprecated [R2] at in/src/b.js:4",
	}
	r := NewReader(sampleSource)
	r.Results("report.xml", strings.NewReader(junitXML))
	r.Results("report.sarif", strings.NewReader(sarifText))
	report := r.Report()
	assert.Equal(t, wantTests, report.Tests)
	assert.Equal(t, wantFindings, tell(report.Findings))
	assert.Empty(t, report.Notes)

	inside := read(t, "building\nsrc/bell.c:3:1: warning: loud\n"+junitXML+"done\n", sampleSource)
	assert.Equal(t, wantTests, inside.Tests, "in the output")
	assert.Equal(t, []string{"building", "src/bell.c:3:1: warning: loud", `<?xml version="1.0" encoding="UTF-8"?>`, "done"}, inside.Last)
	assert.Equal(t, wantFindings, tell(read(t, sarifText, sampleSource).Findings), "as the output")
}

func TestBrokenResults(t *testing.T) {
	cut := read(t, junitXML[:strings.Index(junitXML, "<system-out>")], sampleSource)
	assert.Len(t, cut.Tests, 3, "what was read before the end")
	assert.Len(t, cut.Notes, 1)
	assert.Contains(t, cut.Notes[0], "the JUnit XML in the output can be read only in part: XML syntax error")

	r := NewReader(sampleSource)
	r.Results("report.sarif", strings.NewReader(sarifText[:200]))
	assert.Contains(t, r.Report().Notes[0], "report.sarif can be read only in part")

	tap := read(t, "TAP version 14\nnot ok 1 - a\n  ---\n  error: 'cut short'\nok 2 - b\nbail out\n  ---\n", Source{})
	assert.Equal(t, []finding.Test{{Name: "a", Message: "cut short"}, {Name: "b", Passed: true}}, tap.Tests)

	binary := read(t, "\x00\x01error: no text\nerror: text\n"+strings.Repeat("long ", 100_000)+"\nerror: after it\n", Source{})
	assert.Equal(t, []string{"failure of : text", "failure of : after it"}, tell(binary.Findings))
}

func TestWhatIsSaidInTAP(t *testing.T) {
	r := read(
		t,
		"TAP version 13\n# (node:12) [DEP0040] DeprecationWarning: punycode goes\n# Subtest: a\nok 1 - a\n  ---\n  duration_ms: 3\n  ...\n",
		Source{},
	)
	assert.Equal(t, []string{"deprecation of node: punycode goes [DEP0040]"}, tell(r.Findings))
	assert.Len(t, r.Tests, 1)
}

func TestWatch(t *testing.T) {
	s := sampleSource
	s.Watch = []Watch{{Kind: finding.Warning, Pattern: lazyregexp.New(`^SLOW (?P<text>.*) took`)}}
	assert.Equal(
		t, []string{"warning of watch: the deck ×2"}, tell(read(t, "SLOW the deck took 3 s\nfast\nSLOW the deck took 4 s\n", s).Findings),
	)
}

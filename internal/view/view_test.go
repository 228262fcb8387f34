package view

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/output"
	"bellwether/internal/core/report"
	"bellwether/internal/view/doc"
	"bellwether/internal/view/drawing"
)

var survey = &output.Survey{Components: []output.SurveyComponent{{
	Dir: "board", Ecosystem: "npm", Manifest: "board/package.json", Lock: "board/package-lock.json",
	Requirements: []output.SurveyRequirement{
		{Name: "quayside", Group: "dependencies", Range: "^1.4.0", Locked: "1.4.2", Patch: "1.4.6", Minor: "1.9.0", Major: "4.1.0", Majors: 3},
		{Name: "swell", Group: "devDependencies", Range: "", Locked: "0.3.2"},
		{Name: "charts", Group: "dependencies", Range: "crew/charts", Fixed: "git source"},
		{Name: "ropework", Group: "dependencies", Range: "^1.2.0", Locked: "1.2.1", Deprecated: "use knotwork"},
	},
}}}

func shown(t *testing.T, f doc.Format, colour bool, show func(Out) error) string {
	var b bytes.Buffer
	require.NoError(t, show(Out{W: &b, Format: f, Colour: colour}))
	return b.String()
}

func TestSurvey(t *testing.T) {
	assert.Equal(t, `board  npm, 4 requirements, locked in board/package-lock.json
  package      stated       locked  newest fix  within major  newest
  quayside     ^1.4.0       1.4.2   1.4.6       1.9.0         4.1.0   3 majors behind
  swell (dev)  any          0.3.2                                     up to date
  charts       crew/charts                                            git source
  ropework     ^1.2.0       1.2.1                                     deprecated

  ropework 1.2.1 is deprecated: use knotwork
`, shown(t, doc.Text, false, func(o Out) error { return o.Survey(survey) }))
	assert.Equal(t, `## board

npm, 4 requirements, locked in board/package-lock.json

| package | stated | locked | newest fix | within major | newest |  |
| --- | --- | --- | --- | --- | --- | --- |
| quayside | ^1.4.0 | 1.4.2 | 1.4.6 | 1.9.0 | 4.1.0 | 3 majors behind |
| swell (dev) | any | 0.3.2 |  |  |  | up to date |
| charts | crew/charts |  |  |  |  | git source |
| ropework | ^1.2.0 | 1.2.1 |  |  |  | deprecated |

- ropework 1.2.1 is deprecated: use knotwork

`, shown(t, doc.Markdown, false, func(o Out) error { return o.Survey(survey) }))
}

func TestColour(t *testing.T) {
	show := func(o Out) error { return o.Survey(survey) }
	assert.Contains(t, shown(t, doc.Text, true, show), "\x1b[")
	assert.NotContains(t, shown(t, doc.Text, false, show), "\x1b[")
	assert.NotContains(t, shown(t, doc.Markdown, true, show), "\x1b[")
	assert.NotContains(t, shown(t, doc.JSON, true, show), "\x1b[")
}

func TestJSONNamesItsSchemaFirst(t *testing.T) {
	for want, show := range map[string]func(Out) error{
		"bellwether/survey/1":   func(o Out) error { return o.Survey(survey) },
		"bellwether/status/1":   func(o Out) error { return o.Status(&output.StatusResult{}) },
		"bellwether/route/1":    func(o Out) error { return o.Route(&output.RouteResult{}) },
		"bellwether/conflict/1": func(o Out) error { return o.Conflict("no", nil, nil, nil) },
		"bellwether/verify/1":   func(o Out) error { return o.Verify(&finding.Result{Verification: &finding.Verification{}}) },
		"bellwether/leg/1":      func(o Out) error { return o.Leg(&finding.LegResult{Verification: &finding.Verification{}}) },
		"bellwether/explain/1":  func(o Out) error { return o.Explain(nil) },
	} {
		text := shown(t, doc.JSON, false, show)
		var v map[string]any
		require.NoError(t, json.Unmarshal([]byte(text), &v), text)
		assert.Equal(t, want, v["schema"])
		assert.Regexp(t, `^\{\n  "schema": `, text)
	}
}

func TestLeg(t *testing.T) {
	leg := output.LegResult{ID: "2-quayside-2", Title: "quayside to 2", Component: ".",
		Moves:   []output.MoveSummary{{Name: "quayside", From: "1.9.0", To: "2.3.1", Because: "asked for"}},
		Carried: []output.MoveSummary{{Name: "hawser", From: "1.2.0", To: "1.3.1"}, {Name: "rope", To: "1.0.0"}, {Name: "string", From: "1.0.0"}}}
	v := &finding.Verification{Stages: []finding.Stage{
		{Component: ".", Name: "fetch", Status: finding.Passed, Duration: 1200 * time.Millisecond},
		{
			Component: ".", Name: "test", Status: finding.Failed, Why: "exit status 1", Log: "test.log",
			Tests: []finding.Test{{Name: "a", Passed: true}, {Name: "b > c", Message: "not equal", Place: "b.js:1:2"}},
		},
	}}
	text := shown(t, doc.Text, false, func(o Out) error {
		return o.Leg(&finding.LegResult{Leg: leg, Verification: v, Comparison: finding.Compare(&finding.Verification{}, v)})
	})
	assert.Equal(t, `leg 2-quayside-2: quayside to 2
  package   from   to     because
  quayside  1.9.0  2.3.1  asked for
  and 3 other packages: hawser 1.3.1, rope 1.0.0 (new), string 1.0.0 (gone)

  stage          took   tests
  fetch  passed  1.2 s
  test   failed         1 passed, 1 failed  exit status 1, log: test.log

fails, and did not before:
  b > c: not equal (b.js:1:2)

not done: the leg's changes are in the working tree, nothing is committed
next: repair what fails and run bellwether advance again, or take the leg back with bellwether undo
`, text)
}

// TestChain prints eight prerequisites, each of the one before, as one tree, with
// a circle at its end, and draws them.
func TestChain(t *testing.T) {
	names := []string{
		"npm/quayside", "npm/plankton", "tool/slipway", "gem/oakum", "runtime/ruby", "golang/crane", "runtime/go", "image/alpine",
		"platform/account",
	}
	r := &output.Prereqs{Destination: []string{"quayside@^4"}}
	for i, name := range names[1:] {
		r.Chain = append(
			r.Chain,
			output.ChainLink{By: names[i] + " 4", Need: name, Range: ">=3", Rule: "r", Because: "it says so", Place: "b.yaml:3", Holds: i == 7},
		)
		r.Rows = append(r.Rows, output.Prereq{Subject: name, Need: "3", Wants: []string{">=3"}, Verdict: output.VerdictRaise})
	}
	r.Chain = append(
		r.Chain,
		output.ChainLink{By: "platform/account 3", Need: "runtime/go", Range: "not <2", Rule: "r", Because: "it says so", Place: "b.yaml:9"},
	)
	var b strings.Builder
	require.NoError(t, Out{W: &b, Format: doc.Text}.Prereqs(r))
	_, tree, _ := strings.Cut(b.String(), "\nwhy\n")
	assert.Equal(t, `  npm/quayside 4
  └─ needs npm/plankton >=3  not yet  it says so (b.yaml:3)
     └─ needs tool/slipway >=3  not yet  it says so (b.yaml:3)
        └─ needs gem/oakum >=3  not yet  it says so (b.yaml:3)
           └─ needs runtime/ruby >=3  not yet  it says so (b.yaml:3)
              └─ needs golang/crane >=3  not yet  it says so (b.yaml:3)
                 └─ needs runtime/go >=3  not yet  it says so (b.yaml:3)
                    └─ needs image/alpine >=3  not yet  it says so (b.yaml:3)
                       └─ needs platform/account >=3  met  it says so (b.yaml:3)
                          └─ does not work with runtime/go <2  not yet  it says so (b.yaml:9) (see above)
`, tree)
	for _, file := range []string{"c.svg", "c.dot"} {
		drawn, err := drawing.Chain(file, r)
		require.NoError(t, err)
		for _, name := range names {
			assert.Contains(t, string(drawn), name, file)
		}
	}
	_, err := drawing.Chain("c.png", r)
	assert.Error(t, err)
}

// TestNarrow breaks lines and the last column where a terminal is too narrow for them.
func TestNarrow(t *testing.T) {
	d := &doc.Document{}
	d.Add(doc.Line{doc.Plain("next: bellwether advance carries out the first leg, "), doc.Strong("--all all of them")})
	d.Add(doc.List{{doc.Plain("hull stays at 1.0.0 and does not go to 2: rope is at 1.0.0")}})
	d.Add(doc.List{{doc.Bad("removed   "), doc.Plain("a note that goes on behind its columns, in red")}})
	d.Add(doc.Grid{
		Columns: []string{"package", "because"},
		Rows:    []doc.Line{{doc.Plain("hull"), doc.Plain("cannot stay as it is beside rope 2")}},
	})
	var b strings.Builder
	require.NoError(t, doc.Show(&b, doc.Text, doc.Palette{Width: 40}, "x", nil, d))
	assert.Equal(t, `next: bellwether advance carries out the
  first leg, --all all of them
  hull stays at 1.0.0 and does not go to
    2: rope is at 1.0.0
  removed   a note that goes on behind
            its columns, in red
  package  because
  hull     cannot stay as it is beside
           rope 2
`, b.String())
}

// A report as Markdown fits a merge request, whatever it has; hostile texts are harmless in each form.
func TestReportForms(t *testing.T) {
	r := &report.Report{Destination: []string{"hull@^2"}, Legs: []report.Leg{{
		State: report.Done, LegResult: output.LegResult{
			ID: "1-hull", Title: "<script>alert(1)</script> \u202e to 2\x1b[31m", Notes: []string{"</details><img src=x>"},
		},
	}}}
	for i := range 4000 {
		m := output.MoveSummary{Name: fmt.Sprintf("rope-%d", i), From: "1", To: "2"}
		m.Via = []string{"<img src=x> 1", fmt.Sprintf("rope-%d 1", i/40)}
		r.Legs[0].LegResult.Carried = append(r.Legs[0].LegResult.Carried, m)
	}
	forms := map[doc.Format]string{}
	for _, f := range ReportFormats {
		var b bytes.Buffer
		require.NoError(t, Out{W: &b, Format: f}.Report(r))
		forms[f] = b.String()
		assert.NotContains(t, b.String(), "\x1b", f)
		assert.NotContains(t, b.String(), "\u202e", f)
	}
	assert.Less(t, len(forms[doc.Markdown]), 65_536)
	assert.Contains(t, forms[doc.Markdown], "1 part does not fit here")
	assert.Contains(t, forms[doc.Markdown], "Notes", "what is smaller fits")
	for _, f := range []doc.Format{doc.Markdown, HTML} {
		assert.NotContains(t, forms[f], "<script>alert", f)
		assert.NotContains(t, forms[f], "<img", f)
	}
	assert.NotContains(t, forms[HTML], "://", "it asks nothing of anywhere")
	assert.Contains(t, forms[HTML], "other packages that moved along</text>", "the drawing has as many as can be read")
}

package report

import (
	"encoding/xml"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/output"
)

func move(name, from, to string) output.MoveSummary {
	return output.MoveSummary{Name: name, From: from, To: to, Because: to}
}

// What moves in several legs moved once, from where it was to where it is.
func TestMoves(t *testing.T) {
	r := &Report{Legs: []Leg{
		{State: Done, LegResult: output.LegResult{Moves: []output.MoveSummary{move("hull", "1", "2"), move("deck", "1", "1.1")}}},
		{State: Done, LegResult: output.LegResult{Moves: []output.MoveSummary{move("hull", "2", "3"), move("deck", "7", "8")}}},
		{State: ToGo, LegResult: output.LegResult{Moves: []output.MoveSummary{move("hull", "3", "4")}}},
	}}
	assert.Equal(t, []output.MoveSummary{
		{Name: "hull", From: "1", To: "3", Because: "3"}, move("deck", "1", "1.1"), move("deck", "7", "8"), // another copy
	}, r.Moves())
	assert.Nil(t, r.Last())
	assert.Equal(t, 2, r.Count(Done))

	at := func(place, from, to string) output.MoveSummary {
		return output.MoveSummary{Name: "hull", Place: place, From: from, To: to}
	}
	apart := &Report{Legs: []Leg{
		{State: Done, LegResult: output.LegResult{Moves: []output.MoveSummary{at("a", "1", "2"), at("b", "2", "3")}}},
		{State: Done, LegResult: output.LegResult{Moves: []output.MoveSummary{at("b", "3", "4")}}},
	}}
	assert.Equal(t, []output.MoveSummary{at("a", "1", "2"), at("b", "2", "4")}, apart.Moves(), "each place by itself")
}

// JUnit tells what is worse as failures, what was so before as skipped, whatever the texts are.
func TestJUnit(t *testing.T) {
	failing := finding.Test{Name: "sinks <b>\x1b[1m", Message: "no ]]> keel"}
	v := &finding.Verification{Stages: []finding.Stage{
		{Component: "pier", Name: "build", Status: finding.Failed},
		{Component: "pier", Name: "test", Status: finding.Failed, Tests: []finding.Test{
			{Name: "hauls", Passed: true}, failing, {Name: "leaks", Message: "wet"},
		}},
		{Component: "pier", Name: "start", Status: finding.Skipped, Why: "there is none"},
	}}
	r := &Report{Destination: []string{"hull@^2"}, Legs: []Leg{{
		LegResult: output.LegResult{ID: "1-hull"}, Verification: v,
		Comparison: &finding.Comparison{
			NewlyFailing: []finding.Test{{Name: "leaks"}}, StillFailing: []finding.Test{failing}, Vanished: []string{"floats"},
			BrokenStages: v.Stages[:1],
		},
	}, {LegResult: output.LegResult{ID: "2-deck"}}}}
	text, err := r.JUnit()
	require.NoError(t, err)
	var all suites
	require.NoError(t, xml.Unmarshal(text, &all))
	require.Len(t, all.Suites, 1)
	s := all.Suites[0]
	assert.Equal(t, []int{7, 3, 2}, []int{s.Tests, s.Failures, s.Skipped})
	said := map[string]string{}
	for _, c := range s.Cases {
		switch {
		case c.Failure != nil:
			said[c.Name] = "fails: " + c.Failure.Text
		case c.Skipped != nil:
			said[c.Name] = "skipped: " + c.Skipped.Text
		default:
			said[c.Name] = "passes"
		}
	}
	assert.Equal(t, map[string]string{
		"build": "fails: the stage failed, and did not before", "test": "passes", "hauls": "passes", "start": "skipped: there is none",
		`sinks <b>\x1b[1m`: "skipped: it failed before, too: no ]]> keel", "leaks": "fails: it did not fail before: wet",
		"floats": "fails: it ran before, and does not any more",
	}, said)
}

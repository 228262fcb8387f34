// Package report is what a route did, for reviewers and for the record: what moved and why, what was verified, what is
// left.
package report

import (
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
)

// Report is what a route did.
type Report struct {
	Destination []string  `json:"destination"`
	Begun       time.Time `json:"begun,omitzero"` // when the route was computed
	Branch      string    `json:"branch,omitempty"`
	Legs        []Leg     `json:"legs"`
	// Left are what stays behind and why, as sentences.
	Left      []string                `json:"left-behind,omitempty"`
	Culprits  []output.CulpritResult  `json:"culprits,omitempty"`
	Bridges   []output.SurveyBridge   `json:"bridges,omitempty"`  // temporary measures
	Said      []model.PackageNotes    `json:"said,omitempty"`     // extracts of the notes of the releases on the way
	Fixed     []output.SurveyAdvisory `json:"fixed,omitempty"`    // vulnerability records of what moved that no longer hold
	Affected  []output.SurveyAdvisory `json:"affected,omitempty"` // those that hold of what is in effect
	ToDos     []model.ToDoResult      `json:"todos,omitempty"`
	Checklist []output.ChecklistItem  `json:"checklist,omitempty"`
	Undo      []string                `json:"undo,omitempty"`    // commands that take it back
	Unknown   []string                `json:"unknown,omitempty"` // what is not known any more, as sentences
}

// The states of a leg.
const (
	Done   = "done"
	Repair = "to be repaired"
	ToGo   = "to go"
)

// Leg is a leg of the route, with what came of it.
type Leg struct {
	output.LegResult
	State        string                `json:"state"`
	At           time.Time             `json:"at,omitzero"`     // when it was carried out
	Tries        int                   `json:"tries,omitempty"` // how often it was verified
	Gone         bool                  `json:"gone,omitempty"`  // its commit is not in the repository any more
	Verification *finding.Verification `json:"verification,omitempty"`
	Comparison   *finding.Comparison   `json:"comparison,omitempty"`
	Hints        []string              `json:"hints,omitempty"` // what releases and rules say of what fails
}

// Moves are the moves of legs that are done, in their order; several of one package become one.
func (r *Report) Moves() (all []output.MoveSummary) {
	for _, l := range r.Legs {
		if l.State != Done {
			continue
		}
		all = merged(all, l.Moves)
	}
	return all
}

// Carried are the packages that moved along in legs that are done; several moves of one become one.
func (r *Report) Carried() (all []output.MoveSummary) {
	for _, l := range r.Legs {
		if l.State == Done {
			all = merged(all, l.LegResult.Carried)
		}
	}
	return all
}

// merged adds moves: one of what moved before goes on from there.
func merged(all, more []output.MoveSummary) []output.MoveSummary {
	at := map[string]int{}
	for i, m := range all {
		at[m.Spoken()] = i
	}
	for _, m := range more {
		i, before := at[m.Spoken()]
		if !before || all[i].To != m.From {
			at[m.Spoken()] = len(all)
			all = append(all, m)
			continue
		}
		from, places := all[i].From, all[i].Places
		all[i] = m
		all[i].From = from
		if len(m.Places) == 0 {
			all[i].Places = places
		}
	}
	return all
}

// Last is the last leg that is done and was verified, nil for none.
func (r *Report) Last() *Leg {
	for i := len(r.Legs) - 1; i >= 0; i-- {
		if l := &r.Legs[i]; l.State == Done && l.Verification != nil {
			return l
		}
	}
	return nil
}

// Unverified is how many legs were carried out of which nothing shows that they work.
func (r *Report) Unverified() (n int) {
	for _, l := range r.Legs {
		if l.State == Done && len(l.Unverified) > 0 {
			n++
		}
	}
	return n
}

// Count is how many legs are in a state.
func (r *Report) Count(state string) (n int) {
	for _, l := range r.Legs {
		if l.State == state {
			n++
		}
	}
	return n
}

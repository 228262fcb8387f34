package kept

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"bellwether/internal/core/model"
)

// Journey is how far the project has come on its route.
type Journey struct {
	Branch string       `json:"branch,omitempty"` // that the legs are committed to
	From   string       `json:"from,omitempty"`   // the branch that it was made on
	Legs   []*LegRecord `json:"legs"`
}

// The states of a leg that was carried out.
const (
	Begun  = "begun" // its files are about to be written
	Done   = "done"
	Repair = "repair" // made, but a stage fails: the person is to repair
)

// LegRecord is a leg that was carried out, with what undo needs.
type LegRecord struct {
	ID     string   `json:"id"`
	Title  string   `json:"title"`
	Status string   `json:"status"`
	Before string   `json:"before,omitempty"` // the commit before it
	Commit string   `json:"commit,omitempty"` // its commit
	Files  []string `json:"files"`            // that it wrote; their old bytes are kept
	Fresh  []string `json:"fresh,omitempty"`  // those of Files that were not there before
	Sums   []string `json:"sums,omitempty"`   // SHA-256 of the old bytes of Files, "" for those that are fresh
	Aside  bool     `json:"aside,omitempty"`  // it is no leg of the route, but something that undo takes back until it is committed
	// Unverified are the reasons why nothing shows that it works, as sentences.
	Unverified []string `json:"unverified,omitempty"`
	// Unknown are paths that git did not know when the leg began, which are none of its own.
	Unknown []string `json:"unknown,omitempty"`
}

const journeyName = "journey.json"

// Journey reads how far the project has come.
func (s *Store) Journey() (*Journey, error) {
	j := &Journey{}
	data, err := s.read(journeyName)
	if errors.Is(err, fs.ErrNotExist) {
		return j, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, j); err != nil {
		return nil, &model.Fault{
			Doing: "reading how far the route is", File: Dir + "/" + journeyName, Wrong: err.Error(),
			Next: "remove the file to start over; commits stay as they are",
		}
	}
	return j, nil
}

// WriteJourney keeps how far the project has come.
func (s *Store) WriteJourney(j *Journey) error { return s.writeJSON(journeyName, j) }

// Restart forgets legs of an older route whose work is done.
func (s *Store) Restart() error {
	j, err := s.Journey()
	if err != nil {
		return err
	}
	if l := j.Last(); l != nil && l.Status != Done {
		return &model.Fault{
			Doing: "computing a route", Wrong: fmt.Sprintf("leg %s of the present route is in the working tree, waiting to be repaired", l.ID),
			Next: "finish it with bellwether advance, or take it back with bellwether undo",
		}
	}
	return s.WriteJourney(&Journey{})
}

// Find is the record of a leg, nil if it was not carried out.
func (j *Journey) Find(id string) *LegRecord {
	for _, l := range j.Legs {
		if l.ID == id {
			return l
		}
	}
	return nil
}

// Moved tells whether a leg that changes files was carried out, so that the project is
// no longer the untouched one.
func (j *Journey) Moved() bool {
	return slices.ContainsFunc(j.Legs, func(l *LegRecord) bool { return len(l.Files) > 0 && !l.Aside })
}

// Last is the leg carried out last, nil if there is none.
func (j *Journey) Last() *LegRecord {
	if len(j.Legs) == 0 {
		return nil
	}
	return j.Legs[len(j.Legs)-1]
}

// LastDone is the id of the leg that was done last, "" for none.
func (j *Journey) LastDone() string {
	for _, l := range slices.Backward(j.Legs) {
		if l.Status == Done && !l.Aside {
			return l.ID
		}
	}
	return ""
}

// Drop forgets the leg carried out last.
func (j *Journey) Drop() { j.Legs = j.Legs[:len(j.Legs)-1] }

// Next is the first leg of a route that is not done, nil if there is none.
func (j *Journey) Next(r *Route) *model.Leg {
	for i := range r.Legs {
		if l := j.Find(r.Legs[i].ID); l == nil || l.Status != Done {
			return &r.Legs[i]
		}
	}
	return nil
}

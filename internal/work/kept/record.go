package kept

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
)

// Record is what is remembered of a route for reports, also when another one has been computed since.
type Record struct {
	Number      int                    `json:"number"`
	Begun       time.Time              `json:"begun"`
	Destination []string               `json:"destination"`
	Left        []string               `json:"left,omitempty"`     // what stays behind and why
	Culprits    []output.CulpritResult `json:"culprits,omitempty"` // of legs that broke something
	Legs        []string               `json:"legs,omitempty"`     // those that came to something, in order
}

// LegReport is what came of a leg.
type LegReport struct {
	At     time.Time          `json:"at"`
	Tries  int                `json:"tries"`
	Result *finding.LegResult `json:"result"`
}

// maxRecords is how many routes are remembered.
const maxRecords = 100

const recordsName = "record.json"

func notesOf(number int) string { return fmt.Sprintf("record/%d-notes.json", number) }

func legReport(number int, id string) string { return fmt.Sprintf("record/%d/%s.json", number, id) }

// Records are the routes that are remembered, the latest last. What cannot be read is forgotten.
func (s *Store) Records() ([]*Record, error) {
	data, err := s.read(recordsName)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var all struct{ Routes []*Record }
	if json.Unmarshal(data, &all) != nil {
		return nil, nil
	}
	return all.Routes, nil
}

func (s *Store) writeRecords(all []*Record) error {
	return s.writeJSON(recordsName, struct{ Routes []*Record }{all[max(0, len(all)-maxRecords):]})
}

// BeginRecord begins to remember a route. One of which no leg came to anything makes place for it.
func (s *Store) BeginRecord(r *output.RouteResult, at time.Time) error {
	all, err := s.Records()
	if err != nil {
		return err
	}
	number := 1
	if n := len(all); n > 0 {
		number = all[n-1].Number + 1
		if len(all[n-1].Legs) == 0 {
			number, all = all[n-1].Number, all[:n-1]
		}
	}
	return s.writeRecords(append(all, &Record{Number: number, Begun: at, Destination: r.Destination, Left: r.Notices}))
}

// present changes the record of the present route; a route of before there were records gets one.
func (s *Store) present(change func(r *Record) error) error {
	all, err := s.Records()
	if err != nil {
		return err
	}
	if len(all) == 0 {
		all = []*Record{{Number: 1}}
	}
	if err := change(all[len(all)-1]); err != nil {
		return err
	}
	return s.writeRecords(all)
}

// KeepLeg remembers what came of a leg. What its rules did is told when it is carried out first, and holds when it is
// verified again.
func (s *Store) KeepLeg(result *finding.LegResult, at time.Time) error {
	return s.present(func(r *Record) error {
		report := LegReport{At: at, Tries: 1, Result: result}
		before := s.LegReport(r, result.Leg.ID)
		if before != nil && slices.Contains(r.Legs, result.Leg.ID) {
			report.Tries = before.Tries + 1
			leg := before.Result.Leg
			if len(result.Leg.Carried)+len(result.Leg.Notes)+len(result.Leg.Repairs) == 0 {
				merged := *result
				merged.Leg = leg
				report.Result = &merged
			}
		}
		if !slices.Contains(r.Legs, result.Leg.ID) {
			r.Legs = append(r.Legs, result.Leg.ID)
		}
		return s.writeJSON(legReport(r.Number, result.Leg.ID), report)
	})
}

// KeepNotes remembers what releases on the present route say.
func (s *Store) KeepNotes(all []model.PackageNotes) error {
	return s.present(func(r *Record) error { return s.writeJSON(notesOf(r.Number), said{all}) })
}

// Notes are what releases on a route say, nil if nobody looked.
func (s *Store) Notes(r *Record) []model.PackageNotes {
	var all said
	data, err := s.keep.Read(notesOf(r.Number))
	if err != nil || json.Unmarshal(data, &all) != nil {
		return nil
	}
	return all.Packages
}

// said is what releases say, as it is kept.
type said struct{ Packages []model.PackageNotes }

// ForgetLeg forgets a leg that was taken back.
func (s *Store) ForgetLeg(id string) error {
	return s.present(func(r *Record) error {
		r.Legs = slices.DeleteFunc(r.Legs, func(o string) bool { return o == id })
		return nil
	})
}

// KeepCulprit remembers what broke a leg.
func (s *Store) KeepCulprit(c *output.CulpritResult) error {
	return s.present(func(r *Record) error {
		r.Culprits = append(r.Culprits, *c)
		return nil
	})
}

// LegReport is what came of a leg of a route, nil if that is not known any more.
func (s *Store) LegReport(r *Record, id string) *LegReport {
	data, err := s.keep.Read(legReport(r.Number, id))
	if err != nil {
		return nil
	}
	report := &LegReport{}
	if json.Unmarshal(data, report) != nil || report.Result == nil {
		return nil
	}
	return report
}

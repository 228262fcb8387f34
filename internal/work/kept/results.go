package kept

import (
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"slices"
	"time"

	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
)

func (s *Store) writeJSON(name string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return s.keep.Write(name, append(data, '\n'))
}

// verification reads one, nil if there is none that can be read.
func (s *Store) verification(name string) *finding.Verification {
	data, err := s.keep.Read(name)
	if err != nil {
		return nil
	}
	v := &finding.Verification{}
	if json.Unmarshal(data, v) != nil {
		return nil
	}
	return v
}

const baselineName = "baseline.json"

// Baseline is the verification of the untouched project, nil if there is none.
func (s *Store) Baseline() *finding.Verification { return s.verification(baselineName) }

// KeepBaseline keeps the verification of the untouched project.
func (s *Store) KeepBaseline(v *finding.Verification) error { return s.writeJSON(baselineName, v) }

// Result is what came of a leg, nil if that is not kept.
func (s *Store) Result(leg string) *finding.Verification {
	return s.verification("results/" + leg + ".json")
}

// KeepResult keeps what came of a leg, for the search for a culprit and for reports.
func (s *Store) KeepResult(leg string, v *finding.Verification) error {
	return s.writeJSON("results/"+leg+".json", v)
}

// Trial is what came of a state in a search for a culprit.
type Trial struct {
	Resolved bool     `json:"resolved"`
	Failing  []string `json:"failing"`
	Times    int      `json:"times"` // how often it was tried
}

const trialsName = "trials.json"

// Trials are what came of states, by their keys.
func (s *Store) Trials() map[string]Trial {
	trials := map[string]Trial{}
	if data, err := s.keep.Read(trialsName); err == nil {
		_ = json.Unmarshal(data, &trials) // what cannot be read is tried anew
	}
	return trials
}

// KeepTrials keeps what came of states.
func (s *Store) KeepTrials(trials map[string]Trial) error {
	data, err := json.Marshal(trials)
	if err != nil {
		return err
	}
	return s.keep.Write(trialsName, data)
}

// Verified is what came of a component, for later verifications in which nothing that it
// reads has changed.
type Verified struct {
	As     string           `json:"as"` // the label of the verification that it is from
	At     time.Time        `json:"at"`
	Stages []finding.Stage  `json:"stages"`
	Effect []finding.Effect `json:"in-effect,omitempty"`
}

// Since says which verification it is from.
func (v *Verified) Since() string {
	switch v.As {
	case "baseline":
		return "the start was proved"
	case "verify":
		return "it was verified"
	}
	return "leg " + v.As
}

// Again are the stages as they stand in a later verification.
func (v *Verified) Again() []finding.Stage {
	stages := slices.Clone(v.Stages)
	for i := range stages {
		stages[i].Kept = v.Since()
	}
	return stages
}

const (
	verifiedName = "verified.json"
	maxVerified  = 64 // kept at most, the latest ones
)

// Verified are what came of components, by their keys. What cannot be read is verified anew.
func (s *Store) Verified() map[string]*Verified {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.readVerified()
}

func (s *Store) readVerified() map[string]*Verified {
	all := map[string]*Verified{}
	if data, err := s.keep.Read(verifiedName); err == nil {
		_ = json.Unmarshal(data, &all)
	}
	return all
}

// KeepVerified keeps what came of a component.
func (s *Store) KeepVerified(key string, v *Verified) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := s.readVerified()
	all[key] = v
	keys := slices.SortedFunc(maps.Keys(all), func(a, b string) int { return all[b].At.Compare(all[a].At) })
	for _, old := range keys[min(len(keys), maxVerified):] {
		delete(all, old)
	}
	return s.writeJSON(verifiedName, all)
}

// Tick is what somebody said of an item of the checklist.
type Tick struct {
	Pass  bool      `json:"pass"`
	Note  string    `json:"note,omitempty"`
	At    time.Time `json:"at"`
	After string    `json:"after,omitempty"` // the leg that was done last then
}

const ticksName = "ticks.json"

// Ticks are what somebody said of items of the checklist, by their ids.
func (s *Store) Ticks() (map[string]Tick, error) {
	ticks := map[string]Tick{}
	data, err := s.read(ticksName)
	if errors.Is(err, fs.ErrNotExist) {
		return ticks, nil
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(data, &ticks); err != nil {
		return nil, &model.Fault{
			Doing: "reading what was tried by hand", File: Dir + "/" + ticksName, Wrong: err.Error(), Next: "remove the file to start over",
		}
	}
	return ticks, nil
}

// KeepTicks keeps them.
func (s *Store) KeepTicks(ticks map[string]Tick) error { return s.writeJSON(ticksName, ticks) }

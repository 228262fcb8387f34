package model

import (
	"fmt"
	"strings"
)

// AdaptResult is what rules do, or would do, to a project.
type AdaptResult struct {
	For      []string        `json:"for"` // the moves that the rules are for: "quayside 3.1.0 to 4.0.0"
	Rules    []RepairResult  `json:"rules"`
	Overlaps []RepairOverlap `json:"overlaps,omitempty"`
	Skipped  []RepairLeft    `json:"skipped,omitempty"` // files that no rule can be applied to
	Keys     []KeyFinding    `json:"keys,omitempty"`    // that the new versions do not know, or miss
	Diff     string          `json:"diff,omitempty"`    // unified
	Applied  bool            `json:"applied"`
	// Others are rules of the same moves that were left out, by name: --only, --skip.
	Others []string `json:"others,omitempty"`
}

// RepairResult is what one rule does.
type RepairResult struct {
	Rule    string       `json:"rule"`
	Kind    string       `json:"kind"`
	Says    string       `json:"says"`
	Because string       `json:"because"`
	Source  string       `json:"source,omitempty"`
	Place   string       `json:"place"` // of the rule
	Files   []string     `json:"files,omitempty"`
	Places  []string     `json:"places,omitempty"` // "file:line", as the file was when the rule came to it
	Left    []RepairLeft `json:"left,omitempty"`
	Waits   string       `json:"waits,omitempty"`   // why it was not done: a command nobody said yes to, a requirement
	Refused string       `json:"refused,omitempty"` // why the rule is not applied at all: its own example fails
}

// RepairLeft is a place that a rule is about and does not change, or a file that it cannot.
type RepairLeft struct {
	Place  string `json:"place"`
	Reason string `json:"reason"`
}

// KeyFinding is a key of configuration that a version does not know, or one that it requires and
// that is not there.
type KeyFinding struct {
	Place   string   `json:"place"`
	Key     string   `json:"key"`
	Missing bool     `json:"missing,omitempty"`
	By      []string `json:"by,omitempty"`      // whose keys are listed: "npm/quayside >=4"
	Nearest string   `json:"nearest,omitempty"` // a known key that looks like it
	Repair  string   `json:"repair,omitempty"`  // a rule that would move it
	Rule    string   `json:"rule"`              // that lists the keys
	Because string   `json:"because"`
}

// RepairOverlap is a place that two rules change.
type RepairOverlap struct {
	Place  string `json:"place"`
	First  string `json:"first"`
	Second string `json:"second"`
}

// The states of things to do.
const (
	ToDoOpen    = "open"
	ToDoMoved   = "moved"   // its line is elsewhere in the file
	ToDoChanged = "changed" // its line is there no more: it may be done
	ToDoGone    = "gone"    // its file is
)

// ToDoResult is something that is left to be done.
type ToDoResult struct {
	ID    string `json:"id"`
	Text  string `json:"text"`
	Place string `json:"place,omitempty"` // where it is now, or was last
	State string `json:"state"`
	From  string `json:"from,omitempty"` // the rule or leg that left it
	Leg   string `json:"leg,omitempty"`
	Since string `json:"since"`
}

// ToDosResult is all that is left to be done.
type ToDosResult struct {
	ToDos []ToDoResult `json:"todos"`
}

// String says the finding in a sentence.
func (k KeyFinding) String() string {
	by := strings.Join(k.By, " with ")
	switch {
	case k.Key == "":
		return k.Because
	case k.Missing:
		return fmt.Sprintf("%s: %s is required by %s, and is not there", k.Place, k.Key, by)
	}
	text := fmt.Sprintf("%s: %s is not a key that %s reads", k.Place, k.Key, by)
	if k.Nearest != "" {
		text += "; did you mean " + k.Nearest + "?"
	}
	return text
}

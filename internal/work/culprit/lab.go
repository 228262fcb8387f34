// Package culprit finds which moves of a leg break it, by trying parts of it from clean.
package culprit

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/finding"
	"bellwether/internal/core/model"
	"bellwether/internal/core/solve"
	"bellwether/internal/host/git"
	"bellwether/internal/host/probe"
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/legs"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/verify"
	"bellwether/internal/work/world"
)

// lab tries parts of a leg.
type lab struct {
	desk     *desk.Desk // of the call
	quiet    *desk.Desk // of the trials, which tell of themselves as a whole
	tree     *tree.Tree // the project as it was before the leg
	now      *tree.Tree // as it is
	kept     *kept.Store
	opt      Options
	repo     *git.Repo // nil for none
	file     *kept.Route
	journey  *kept.Journey
	record   *kept.LegRecord
	leg      *model.Leg
	restore  []model.FileEdit // what takes the leg back
	moves    []model.Move     // the leg's, of packages
	at       []int            // and their places among all of the leg's
	symptoms []symptom
	baseline *finding.Verification
	until    string // the last stage that shows a symptom
	deadline time.Time
	mu       sync.Mutex // of what follows, and of solving
	trials   int
	known    map[string]kept.Trial
	seen     map[string]int // how often this call asked about a state
}

// symptom is a test or a stage that fails with the leg and did not before.
type symptom struct {
	component, stage, test string
}

// String names the symptom for people.
func (s symptom) String() string {
	name := s.test
	if name == "" {
		name = "the stage " + s.stage
	}
	if s.component != "." {
		name = s.component + ": " + name
	}
	return name
}

// newLab readies trials of the leg that waits for a repair.
func newLab(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, repo *git.Repo, opt Options) (*lab, error) {
	l := &lab{desk: d, now: t, kept: k, opt: opt, repo: repo, known: k.Trials(), seen: map[string]int{}}
	var err error
	if l.file, err = k.Route(ctx, t); err != nil {
		return nil, err
	}
	if l.journey, err = k.Journey(); err != nil {
		return nil, err
	}
	l.record = l.journey.Last()
	if l.file == nil || l.record == nil || l.record.Status != kept.Repair {
		return nil, &model.Fault{
			Doing: "looking for a culprit", Wrong: "no leg waits for a repair",
			Next: "bellwether advance carries out the next leg; culprit tells which of its moves breaks something",
		}
	}
	at := slices.IndexFunc(l.file.Legs, func(leg model.Leg) bool { return leg.ID == l.record.ID })
	if at < 0 {
		return nil, &model.Fault{
			Doing: "looking for a culprit", File: kept.RouteFile, Wrong: "the leg " + l.record.ID + " is no longer in the route",
		}
	}
	l.leg = &l.file.Legs[at]
	for i, m := range l.leg.Moves {
		if !m.Subject.IsPin() {
			l.moves, l.at = append(l.moves, m), append(l.at, i)
		}
	}
	if len(l.moves) == 0 {
		return nil, &model.Fault{
			Doing: "looking for a culprit", Wrong: "leg " + l.leg.ID + " moves no package, so there is nothing to part",
			Next: "repair what fails, or take the leg back with bellwether undo", Found: true,
		}
	}
	if l.restore, err = k.Restoring(l.record); err != nil {
		return nil, err
	}
	if l.tree, err = t.With(l.restore); err != nil {
		return nil, err
	}
	l.prepare()
	if err := l.readSymptoms(); err != nil {
		return nil, err
	}
	return l, nil
}

// prepare readies what trials go by.
func (l *lab) prepare() {
	asOf, _ := l.file.Time() // one that is none was told when the leg was carried out
	l.quiet = l.desk.As(asOf, l.file.Preview).Quiet()
	if l.opt.For > 0 {
		l.deadline = time.Now().Add(l.opt.For)
	}
}

// readSymptoms takes from the leg's verification what fails, and did not before.
func (l *lab) readSymptoms() error {
	fault := &model.Fault{
		Doing: "looking for a culprit", Wrong: "what the leg's verification found is not kept",
		Next: "run bellwether advance once more, which verifies the leg again", Found: true,
	}
	v := l.kept.Result(l.leg.ID)
	if l.baseline = l.kept.Baseline(); l.baseline == nil || v == nil {
		return fault
	}
	order := []string{}
	for _, s := range v.Stages {
		c := finding.Compare(l.baseline, &finding.Verification{Stages: []finding.Stage{s}})
		for _, t := range c.NewlyFailing {
			l.symptoms = append(l.symptoms, symptom{s.Component, s.Name, t.Name})
		}
		if len(c.BrokenStages) > 0 {
			l.symptoms = append(l.symptoms, symptom{s.Component, s.Name, ""})
		}
		if !slices.Contains(order, s.Name) {
			order = append(order, s.Name)
		}
	}
	if len(l.symptoms) == 0 {
		return &model.Fault{
			Doing: "looking for a culprit", Wrong: "nothing fails with leg " + l.leg.ID + " that did not fail before",
			Next: "bellwether advance verifies it again and commits it", Found: true,
		}
	}
	last := 0
	for _, s := range l.symptoms {
		last = max(last, slices.Index(order, s.stage))
	}
	l.until = order[last]
	return nil
}

// maxAtOnce is how many trials run at a time where the machine has the cores for it.
const maxAtOnce = 2

// atOnce is how many trials may run at a time. Programs that are started at a port of
// their own would be in each other's way.
func (l *lab) atOnce() int {
	for _, part := range l.tree.Parts {
		for _, stage := range verify.Stages(l.quiet, l.tree, part) {
			for _, pr := range stage.Probes {
				if address := probe.Address(pr); address != "" && !strings.Contains(address, verify.PortMark) {
					return 1
				}
			}
		}
	}
	return min(maxAtOnce, runtime.NumCPU())
}

// needs are, by move, the others of the leg that move along when it alone is asked
// for. A move that does not go even so needs all of them.
func (l *lab) needs(ctx context.Context) ([][]int, error) {
	needs := make([][]int, len(l.moves))
	for i := range l.moves {
		state, _, err := l.solve(ctx, []int{i}, "", true)
		if errors.As(err, new(*solve.Conflict)) {
			for j := range l.moves {
				needs[i] = append(needs[i], j)
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		for j, m := range l.moves {
			if j != i && slices.ContainsFunc(state.Moves, func(o model.Move) bool { return o.Key() == m.Key() && o.To == m.To }) {
				needs[i] = append(needs[i], j)
			}
		}
	}
	return needs, nil
}

// solve finds the state with some of the leg's moves. With free, the leg's other moves
// may be made where these need them; at is another version than the leg's for the
// first of them, "" for that.
func (l *lab) solve(ctx context.Context, moves []int, at string, free bool) (*contract.State, []model.FileEdit, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	part := l.tree.Part(l.leg.Component)
	if part == nil {
		return nil, nil, fmt.Errorf("there is no component %q that can be read", l.leg.Component)
	}
	w, err := world.Of(ctx, l.quiet, l.tree, part)
	if err != nil {
		return nil, nil, err
	}
	if w.Renames, err = adapt.Renames(ctx, l.quiet, l.tree); err != nil {
		return nil, nil, err
	}
	only := make([]int, 0, len(moves))
	for _, i := range moves {
		only = append(only, l.at[i])
	}
	goal, err := legs.Goal(ctx, l.quiet, l.tree, w, l.leg, l.file.Advisories, legs.Part{
		Only: only, To: at, Free: free, Stays: "it is not tried",
	})
	if err != nil {
		return nil, nil, err
	}
	state, err := w.Solve(ctx, goal)
	if err != nil {
		return nil, nil, err
	}
	return state, state.Edits, nil
}

// concerned are the components that symptoms show in.
func (l *lab) concerned() map[string]bool {
	of := map[string]bool{}
	for _, s := range l.symptoms {
		of[s.component] = true
	}
	return of
}

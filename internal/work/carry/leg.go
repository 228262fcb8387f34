package carry

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/work/adapt"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/legs"
	"bellwether/internal/work/need"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// movedLeg is a leg with the edits that make it.
type movedLeg struct {
	leg   model.Leg
	edits []model.FileEdit
}

// solve finds the edits of the leg, and refuses a leg that does not fit what
// is here.
func (a *advance) solve(ctx context.Context) (*movedLeg, error) {
	moved := &movedLeg{leg: model.Leg{ID: a.leg.ID, Title: a.leg.Title, Component: a.leg.Component}}
	packages := slices.ContainsFunc(a.leg.Moves, func(m model.Move) bool { return !m.Subject.IsPin() })
	if packages || a.leg.Ask() {
		if err := a.solvePackages(ctx, moved); err != nil {
			return nil, err
		}
	}
	if err := a.solvePins(ctx, moved); err != nil {
		return nil, err
	}
	a.ways(ctx, moved.leg.Carried, moved.edits)
	edits, err := a.noteBridges(ctx, moved)
	if err != nil {
		return nil, err
	}
	moved.edits = append(moved.edits, edits...)
	if err := a.repair(ctx, moved); err != nil {
		return nil, err
	}
	return moved, a.uncrossed(moved)
}

// uncrossed refuses a leg whose edits make something else of a declaration than what the leg says: the last look before
// anything is written.
func (a *advance) uncrossed(moved *movedLeg) error {
	before := a.tree.Part(a.leg.Component)
	if before == nil {
		return nil
	}
	after, err := a.tree.With(moved.edits)
	if err != nil {
		return err
	}
	part := after.Part(a.leg.Component)
	if part == nil {
		return nil
	}
	moves := slices.Concat(a.leg.Moves, moved.leg.Moves)
	for _, m := range moved.leg.Carried { // what a manifest requires for others is carried, and told as that
		if slices.ContainsFunc(before.Find(m.Key()), func(r model.Requirement) bool { return r.Asked }) {
			moves = append(moves, m)
		}
	}
	named := func(r model.Requirement) bool {
		return slices.ContainsFunc(moves, func(m model.Move) bool { return m.Says(r) })
	}
	for _, c := range route.Unmoved(part.Component, moved.leg.Moves, a.leg.Apart) {
		return &model.Fault{
			Doing: "carrying out leg " + a.leg.ID, Found: true, Wrong: c.Text + "; nothing was written",
			Next: "compute the route again, or drop the move of " + c.Name + " from the leg",
		}
	}
	for _, c := range route.Crossings(part.Eco.Order(), before.Component, part.Component, moves, named) {
		return &model.Fault{
			Doing: "carrying out leg " + a.leg.ID, Found: true, Wrong: c.Text + ", of which the leg says nothing; nothing was written",
			Next: "compute the route again, or drop the move of " + c.Name + " from the leg",
		}
	}
	return nil
}

// ways tells of what is carried along what leads to it: after the leg, or before it of what goes away. Where that cannot be
// had, it is not told.
func (a *advance) ways(ctx context.Context, carried []model.Move, edits []model.FileEdit) {
	if len(carried) == 0 {
		return
	}
	after, err := a.tree.With(edits)
	if err != nil {
		return
	}
	is, err := a.desk.Effective(ctx, after)
	if err != nil {
		return
	}
	was, err := a.desk.Effective(ctx, a.tree)
	if err != nil {
		return
	}
	for i, m := range carried {
		in, version := is, m.To
		if m.To == "" {
			in, version = was, m.From
		}
		carried[i].Via = in.Nearest(m.Subject, version)
	}
}

// repair applies the rules for the leg's moves on top of its edits.
func (a *advance) repair(ctx context.Context, moved *movedLeg) error {
	leg, err := a.repairing(moved.edits)
	if err != nil {
		return err
	}
	edits, told, err := leg.Repair(ctx)
	if err != nil {
		return err
	}
	moved.edits = world.MergeEdits(moved.edits, edits)
	moved.leg.Repairs, moved.leg.Keys = told.Rules, told.Keys
	return nil
}

// repairing is the leg for those who repair the project for it.
func (a *advance) repairing(edits []model.FileEdit) (leg adapt.Leg, err error) {
	after, err := a.tree.With(edits)
	return adapt.Leg{
		Desk: a.desk, Before: a.tree, After: after, Edits: edits, Kept: a.kept, Repo: a.repo, ID: a.leg.ID, Component: a.leg.Component,
		Commands: a.opt.Commands, Skip: a.opt.SkipRules,
	}, err
}

// solvePins finds the edits of the runtimes, tools, platforms and images that the
// leg moves.
func (a *advance) solvePins(ctx context.Context, moved *movedLeg) error {
	for _, m := range a.leg.Moves {
		subject := m.Subject
		if !subject.IsPin() {
			continue
		}
		to, err := version.Plain{}.Parse(m.To)
		if err != nil {
			return a.misfit(err.Error())
		}
		wants, err := compat.ReadWants(m.Wants)
		if err != nil {
			return a.misfit(err.Error())
		}
		aim := need.AimOf(to, wants)
		if m.Promise != "" {
			if aim.Promise, err = (version.Plain{}).Parse(m.Promise); err != nil {
				return a.misfit(err.Error())
			}
		}
		t, err := a.tree.With(moved.edits)
		if err != nil {
			return err
		}
		places, err := t.Places()
		if err != nil {
			return err
		}
		if len(places.Of(subject)) == 0 {
			return a.misfit(fmt.Sprintf("no file states %s", subject))
		}
		own := slices.ContainsFunc(moved.leg.Moves, func(m model.Move) bool { return m.Subject == subject })
		raised, err := world.Raise(ctx, a.desk, t, subject, aim, own)
		if err != nil {
			return err
		}
		moved.edits = world.MergeEdits(moved.edits, raised.Edits)
		moved.leg.Moves = append(moved.leg.Moves, model.Move{
			Subject: subject, Name: m.Name, From: m.From, To: m.To, Sites: raised.Sites, Because: m.Because, Wants: m.Wants,
			Promise: m.Promise,
		})
		moved.leg.Notes = append(moved.leg.Notes, raised.Notes...)
	}
	return nil
}

// solvePackages finds the edits of the requirements that the leg moves.
func (a *advance) solvePackages(ctx context.Context, moved *movedLeg) error {
	part := a.tree.Part(a.leg.Component)
	if part == nil {
		return a.misfit(fmt.Sprintf("there is no component %q that can be read", a.leg.Component))
	}
	w, err := world.Of(ctx, a.desk, a.tree, part)
	if err != nil {
		return err
	}
	if w.Renames, err = adapt.Renames(ctx, a.desk, a.tree); err != nil {
		return err
	}
	if err := a.fits(part); err != nil {
		return err
	}
	goal, err := legs.Goal(ctx, a.desk, a.tree, w, a.leg, a.file.Advisories, legs.Part{})
	if err != nil {
		return err
	}
	moved.leg.Terms = a.leg.Terms
	because := map[string]string{}
	for _, m := range a.leg.Moves {
		because[m.Key()] = m.Because
	}
	state, err := w.Solve(ctx, goal)
	if err == nil {
		state, err = a.withRequirements(ctx, w, goal, state, because)
	}
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		return fmt.Errorf(
			"leg %s does not resolve as it stands in the route:\n  %s\n  next: put back what was dropped from it, or compute the route again",
			a.leg.ID, strings.Join(conflict.Proof().Lines(), "\n  "),
		)
	}
	if err != nil {
		return err
	}
	moved.leg.Moves, moved.leg.Carried, moved.edits = state.Moves, state.Carried, state.Edits
	moved.leg.Notes = slices.Concat(moved.leg.Notes, state.Notable, state.Notices)
	for i := range state.Moves {
		m := &state.Moves[i]
		m.Because = cmp.Or(because[m.Key()], because[m.Name])
	}
	return nil
}

// fits refuses a leg whose moves are none of what the component declares.
func (a *advance) fits(part *tree.Part) error {
	order := part.Eco.Order()
	for _, m := range a.leg.Moves {
		if m.Subject.IsPin() {
			continue
		}
		if m.Range != "" { // it comes in, or gets another name
			if _, err := order.ParseRange(m.Range); !part.IsSource(m.Range) && (err != nil || strings.ContainsFunc(m.Range, foreignToRanges)) {
				return a.misfit(fmt.Sprintf("the range of %s is none: %q", m.Name, m.Range))
			}
			continue
		}
		found := part.Find(m.Key())
		if len(found) == 0 {
			return a.misfit("no manifest requires " + m.Spoken())
		}
		if m.To == "" { // it goes
			continue
		}
		if !slices.ContainsFunc(found, func(r model.Requirement) bool { return r.Locked == m.From }) {
			return a.misfit(fmt.Sprintf(
				"it moves %s from %s, but %s is locked",
				m.Spoken(), cmp.Or(m.From, "nothing"), cmp.Or(part.LockedAt(m.Key()), "nothing"),
			))
		}
		if _, err := order.Parse(m.To); err != nil {
			return a.misfit(err.Error())
		}
	}
	return nil
}

// withRequirements solves the leg anew, if rules for its moves replace, add or drop requirements.
func (a *advance) withRequirements(
	ctx context.Context, w *world.World, goal contract.Goal, state *contract.State, because map[string]string,
) (*contract.State, error) {
	leg, err := a.repairing(state.Edits)
	if err != nil {
		return nil, err
	}
	wanted, err := leg.Requirements(ctx)
	if err != nil || len(wanted) == 0 {
		return state, err
	}
	goal.Changes = slices.Clone(goal.Changes)
	for _, r := range wanted {
		goal.Changes = append(goal.Changes, contract.Change{Old: r.Old, New: r.New, Range: r.Range})
		because[cmp.Or(r.New, r.Old)] = "a rule for this leg says so"
		delete(goal.Bounds, r.Old)
	}
	return w.Solve(ctx, goal)
}

// foreignToRanges tells of a character that stands in no range of any dialect. Some
// clients pass over what they do not understand in one.
func foreignToRanges(r rune) bool {
	return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune(" .,:@/<>=!~^|*+_-()[]", r)
}

func (a *advance) misfit(wrong string) error {
	return &model.Fault{
		Doing: fmt.Sprintf("advancing to leg %s", a.leg.ID), File: kept.RouteFile, Wrong: "the route no longer fits: " + wrong,
		Next: "compute the route again with bellwether route",
	}
}

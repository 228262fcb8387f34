// Package world is a component as planning sees it: states of it that can be solved for and
// taken, laid over the files in memory. It also has what is asked of a route.
package world

import (
	"context"
	"fmt"
	"io/fs"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// World is a component in a project, and implements [route.World]. What it exports is set before it is asked for anything.
type World struct {
	Part     *tree.Part // as it is in the present state
	Registry ecosystem.Registry
	Renames  []contract.Rename                 // of packages that own sources import
	Stops    []*tree.Tree                      // the project after each state that was taken
	Free     []model.Subject                   // runtimes and the like that are asked to move
	Raised   map[model.Subject]version.Version // those that the route raises, and to what
	desk     *desk.Desk
	tree     *tree.Tree // at the present state
	last     *contract.State
	after    *tree.Part            // the component in the last state that was looked at
	answers  map[asked]string      // what was asked of needs, and is not met
	lacked   map[string]model.Need // needs that are not met, by how that is told
}

// Of gives the world of a component of a project.
func Of(ctx context.Context, d *desk.Desk, t *tree.Tree, part *tree.Part) (*World, error) {
	r, err := d.Registry(ctx, part)
	if err != nil {
		return nil, err
	}
	return &World{Part: part, Registry: r, desk: d, tree: t, answers: map[asked]string{}, lacked: map[string]model.Need{}}, nil
}

// Files are the project's at the present state.
func (w *World) Files() fs.FS { return w.tree.Files.FS }

// Solve finds a state that meets a goal; the error is a *solve.Conflict if there is none.
func (w *World) Solve(ctx context.Context, goal contract.Goal) (*contract.State, error) {
	c, rewritten, err := w.rewritten(goal)
	if err != nil {
		return nil, err
	}
	goal.Renames = w.Renames
	s, err := w.Registry.Resolve(ctx, ecosystem.Ask{Component: c, Before: w.Part.Component, Goal: goal})
	if err != nil {
		return nil, err
	}
	s.Edits = MergeEdits(rewritten, s.Edits)
	for _, change := range goal.Changes {
		if m, err := w.stating(ctx, change); err != nil {
			return nil, err
		} else if m != nil {
			s.Moves = append(s.Moves, *m)
			continue
		}
		if err := w.say(ctx, change, s); err != nil {
			return nil, err
		}
	}
	return s, w.uncrossed(goal, s)
}

// stating is a change by which a requirement states its version itself, as a move; nil for other changes.
func (w *World) stating(ctx context.Context, change contract.Change) (*model.Move, error) {
	stater, ok := w.Registry.(ecosystem.Stater)
	if !ok || change.New != change.Old {
		return nil, nil
	}
	from, _, err := stater.Stated(ctx, w.Part.Component, change.Old)
	if err != nil || from == "" {
		return nil, err
	}
	m := &model.Move{Name: change.Old, Becomes: change.Old, From: from, To: change.Range, Range: change.Range}
	for _, r := range w.Part.Find(change.Old) {
		m.Subject, m.Sites = r.Subject, append(m.Sites, r.Site)
	}
	return m, nil
}

// say tells a change of the manifest as moves of what it is about.
func (w *World) say(ctx context.Context, change contract.Change, s *contract.State) error {
	old := w.Part.Find(change.Old)
	if subject, is := w.Part.SubjectOf(change.Old); is && change.New != change.Old { // that it goes is said as a move, or as what it becomes
		s.Carried = slices.DeleteFunc(s.Carried, func(m model.Move) bool { return m.Subject == subject && m.To == "" })
	}
	if change.New == "" {
		told := map[string]bool{}
		for _, r := range old {
			if key := r.Key(); !told[key] {
				told[key] = true
				s.Moves = append(s.Moves, model.Move{Subject: r.Subject, Name: change.Old, From: r.Locked, Because: change.Why}.At(key))
			}
		}
		return nil
	}
	for i := range s.Moves {
		m := &s.Moves[i]
		if m.Name != change.New {
			continue
		}
		m.Range = change.Range
		if len(old) == 0 {
			continue
		}
		was := old[0]
		for _, r := range old {
			if place, _ := model.Parted(string(r.ID)); place == m.Place {
				was = r
			}
		}
		m.Subject, m.Name, m.Becomes, m.From = was.Subject, change.Old, change.New, was.Locked
		if stater, ok := w.Registry.(ecosystem.Stater); ok && m.From == "" {
			var err error
			if m.From, _, err = stater.Stated(ctx, w.Part.Component, change.Old); err != nil {
				return err
			}
		}
	}
	return nil
}

// uncrossed refuses a state in which a package that is declared at several versions changes at a place that nobody spoke of.
func (w *World) uncrossed(goal contract.Goal, s *contract.State) error {
	apart := map[string]string{}
	for _, r := range w.Part.Requirements {
		if r.Apart {
			apart[r.Name] = r.Name + " is at " + w.Part.LockedAt(r.Name) + " in several places"
		}
	}
	if len(apart) == 0 || len(s.Edits) == 0 {
		return nil
	}
	after, err := w.in(s)
	if err != nil {
		return err
	}
	named := func(r model.Requirement) bool { return goal.Bound(string(r.ID)).Allow != nil }
	for _, c := range route.Crossings(w.Part.Eco.Order(), w.Part.Component, after.Component, s.Moves, named) {
		if why := apart[c.Name]; why != "" {
			return solve.Refute(c.Name, why, c.Text)
		}
	}
	return nil
}

// rewritten gives the component with changes made to its manifest, and the edits
// that make them.
func (w *World) rewritten(goal contract.Goal) (*model.Component, []model.FileEdit, error) {
	if len(goal.Changes)+len(goal.Overrides) == 0 {
		return w.Part.Component, nil, nil
	}
	rewriter, ok := w.Part.Eco.(ecosystem.Rewriter)
	if !ok {
		return nil, nil, fmt.Errorf("%s: requirements of %s cannot be renamed, added, dropped or overridden", w.Part.Manifest, w.Part.Kind)
	}
	edits, err := rewriter.Rewrite(w.Part.Component, goal.Changes, goal.Overrides)
	if err != nil {
		return nil, nil, err
	}
	c, err := ecosystem.Read(w.Part.Eco, w.tree.Over(edits), w.Part.Dir)
	return c, edits, err
}

// Take makes a state that Solve found the present one.
func (w *World) Take(s *contract.State) error {
	part, err := w.in(s)
	if err != nil {
		return err
	}
	w.Part, w.tree = part, w.tree.Moved(w.tree.Over(s.Edits), part)
	w.Stops = append(w.Stops, w.tree)
	clear(w.answers) // places may state something else now, or on another line
	return nil
}

// in is the component in a state. It is read once for the same one.
func (w *World) in(s *contract.State) (*tree.Part, error) {
	switch {
	case len(s.Edits) == 0:
		return w.Part, nil
	case w.last == s && w.after != nil:
		return w.after, nil
	}
	part, err := w.Part.In(w.tree.Over(s.Edits))
	if err == nil {
		w.last, w.after = s, part
	}
	return part, err
}

// Staying are bounds that leave every requirement where it is locked.
func Staying(part *tree.Part, why string) map[string]contract.Bound {
	order := part.Eco.Order()
	bounds := map[string]contract.Bound{}
	for _, r := range part.Requirements {
		if r.Fixed != "" || r.Locked == "" || r.Asked && r.Subject.Kind == part.Type {
			continue
		}
		at, err := order.Parse(r.Locked)
		if err != nil {
			continue
		}
		bounds[r.Key()] = contract.Bound{
			Allow: func(v version.Version) bool { return v.Compare(at) == 0 },
			Why:   fmt.Sprintf("%s stays at %s, since %s", model.Spoken(r.Key()), r.Locked, why),
		}
	}
	return bounds
}

// MergeEdits puts later edits behind earlier ones of the same files.
func MergeEdits(first, then []model.FileEdit) []model.FileEdit {
	all := slices.Clone(first)
	for _, e := range then {
		at := slices.IndexFunc(all, func(o model.FileEdit) bool { return o.File == e.File })
		if at < 0 {
			all = append(all, e)
		} else {
			all[at].New, all[at].Kept = e.New, all[at].Kept && e.Kept
		}
	}
	return all
}

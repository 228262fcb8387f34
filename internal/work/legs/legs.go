// Package legs says what a leg asks of a state. It is written once, for whoever carries a leg out and for whoever tries
// parts of it; what holds for all legs of its terms it has from [route.Plan.Frame], as the planner has.
package legs

import (
	"context"
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/subjects"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// Part says which of a leg's moves a goal makes. The zero value is all of them.
type Part struct {
	Only  []int  // the moves to make, by their places among the leg's; nil for all
	To    string // another version for the first of them; empty for that of the leg
	Free  bool   // the other moves may be made where these need them
	Stays string // why everything else stays where it is; empty for a leg that does not move it
}

// Goal is what a leg, or a part of it, asks of a state of its component. Advisories is the folder of vulnerability records that
// a leg with fixes goes by. Moves of runtimes, tools, platforms and images ask nothing of packages.
func Goal(
	ctx context.Context, d *desk.Desk, t *tree.Tree, w *world.World, leg *model.Leg, advisories string, part Part,
) (contract.Goal, error) {
	plan, err := frame(ctx, d, t, w, leg, advisories)
	if err != nil {
		return contract.Goal{}, err
	}
	goal := plan.Frame(leg.Terms)
	stays := part.Stays
	if stays == "" {
		stays = "leg " + leg.ID + " does not move it"
	}
	goal.Bounds = world.Staying(w.Part, stays)
	for i, m := range leg.Moves {
		chosen := part.Only == nil || slices.Contains(part.Only, i)
		if len(part.Only) > 0 && part.Only[0] == i && part.To != "" {
			m.To = part.To
		}
		switch {
		case m.Subject.IsPin():
		case m.Range != "" || m.To == "": // the manifest changes
			if chosen {
				goal.Changes = append(goal.Changes, Change(m))
				release(&goal, w.Part, m.Name)
			}
		case chosen, part.Free && m.From != "":
			if err := move(&goal, w.Part, leg, m, chosen, part.To != ""); err != nil {
				return goal, err
			}
		}
	}
	return goal, nil
}

// frame is a plan that knows what holds of all legs: rules, pre-releases, what is to be avoided, and versions that no list
// has, as those of branches.
func frame(
	ctx context.Context, d *desk.Desk, t *tree.Tree, w *world.World, leg *model.Leg, advisories string,
) (*route.Plan, error) {
	plan := &route.Plan{Order: w.Part.Eco.Order(), Previews: d.Previews(), Apart: leg.Apart, LeftOut: leg.LeftOut, Also: map[string]string{}}
	for _, m := range leg.Moves {
		plan.Also[m.Name] = m.To
	}
	var err error
	if plan.Rules, err = subjects.Rules(ctx, d, t, w); err != nil || !leg.Fixes {
		return plan, err
	}
	return plan, world.AvoidVulnerable(t.Table, w.Part, plan, advisories, nil)
}

// move bounds the declarations that a move is about: those that it names, and that are where it starts. One that is not
// chosen may stay as well; with between, what lies in between will do, too.
func move(goal *contract.Goal, part *tree.Part, leg *model.Leg, m model.Move, chosen, between bool) error {
	order := part.Eco.Order()
	to, err := order.Parse(m.To)
	if err != nil {
		return err
	}
	bound := contract.Bound{
		Allow: func(v version.Version) bool { return v.Compare(to) == 0 },
		Why:   fmt.Sprintf("leg %s moves %s to %s", leg.ID, m.Spoken(), m.To),
		// Who may stay behind does so only where it has to.
		Newest: slices.Contains(leg.Apart, m.Name),
	}
	if !chosen {
		from, err := order.Parse(m.From)
		if err != nil {
			return err
		}
		bound = contract.Bound{
			Allow: func(v version.Version) bool {
				a, b := v.Compare(from), v.Compare(to)
				return a == 0 || b == 0 || between && (a > 0) != (b > 0)
			},
			Why: m.Spoken() + " may move along",
		}
	}
	for _, r := range part.Find(m.Key()) {
		if r.Locked != m.From {
			continue
		}
		key := r.Key()
		if m.Place != "" {
			key = m.Key()
		}
		goal.Bounds[key] = bound
		if chosen && !slices.Contains(goal.First, key) {
			goal.First = append(goal.First, key)
		}
	}
	return nil
}

// release takes away what holds the declarations of a name.
func release(goal *contract.Goal, part *tree.Part, name string) {
	delete(goal.Bounds, name)
	for _, r := range part.Find(name) {
		delete(goal.Bounds, string(r.ID))
	}
}

// Change is the change of the manifest that a move makes which is not one of versions alone: it comes in, goes away,
// gets another name, or comes from elsewhere.
func Change(m model.Move) contract.Change {
	switch {
	case m.To == "" && m.Range == "":
		return contract.Change{Old: m.Name}
	case m.Becomes == "":
		return contract.Change{New: m.Name, Range: m.Range}
	}
	return contract.Change{Old: m.Name, New: m.Becomes, Range: m.Range}
}

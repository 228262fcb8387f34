package look

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/output"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/plan"
	"bellwether/internal/work/subjects"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/ways"
	"bellwether/internal/work/world"
)

// Explain tells why a package is at its version and who asks for it; with a
// version ("NAME@VERSION"), whether it could be there, what would move along,
// or a proof that it cannot.
func Explain(ctx context.Context, d *desk.Desk, t *tree.Tree, what string) ([]output.Explanation, error) {
	name, rng := what, ""
	if asked, err := world.ReadDestination(what); err == nil {
		name, rng = asked.Name, asked.Range
	}
	if s, ok := model.ReadSubject(name); ok && s.IsPin() {
		return nil, &model.Fault{
			Doing: "explaining " + what, Wrong: s.String() + " is no package",
			Next: "bellwether survey tells where it is stated, bellwether prereqs what needs it and why",
		}
	}
	var all []output.Explanation
	for _, part := range t.Parts {
		registry, err := d.Registry(ctx, part)
		if err != nil {
			return nil, err
		}
		e := output.Explanation{Component: part.ID, Name: name, Version: rng}
		_, called := model.Parted(name)
		if e.Locked, err = registry.Copies(ctx, part.Component, called); err != nil {
			return nil, err
		}
		if !part.Declares(name) && (len(e.Locked) == 0 || called != name) {
			continue
		}
		if err := explainPart(ctx, d, t, part, &e); err != nil {
			return nil, err
		}
		all = append(all, e)
	}
	if len(all) == 0 {
		return nil, &model.Fault{
			Doing: "explaining " + what, Wrong: fmt.Sprintf("nothing in this project asks for %q", name),
			Next: "bellwether survey lists what is required",
		}
	}
	return all, nil
}

func explainPart(ctx context.Context, d *desk.Desk, t *tree.Tree, part *tree.Part, e *output.Explanation) error {
	w, err := world.Of(ctx, d, t, part)
	if err != nil {
		return err
	}
	subject := model.Subject{Kind: part.Type, Name: e.Name}
	if direct, ok := part.SubjectOf(e.Name); ok {
		subject = direct
	}
	releases, err := w.Registry.Releases(ctx, subject)
	if fixed := slices.ContainsFunc(part.Find(e.Name), func(r model.Requirement) bool { return r.Fixed != "" }); err != nil && !fixed {
		return err // what is fixed need not be published
	}
	for _, r := range slices.Backward(releases) {
		v, err := part.Eco.Order().Parse(r.Version)
		e.Releases = append(
			e.Releases,
			output.ReleaseLine{
				Preview: err == nil && v.Preview(), Version: r.Version, As: r.As, Published: r.Published, Deprecated: r.Deprecated,
				Runtime: r.NeedsText(), Retracted: takenBack(r),
			},
		)
	}
	if e.Version == "" {
		return nil
	}
	if !part.Declares(e.Name) {
		return &model.Fault{
			Doing: fmt.Sprintf("explaining %s@%s", e.Name, e.Version),
			Wrong: fmt.Sprintf("%s is not required by a manifest, only by other packages; only direct requirements can be moved", e.Name),
		}
	}
	if !slices.ContainsFunc(part.Find(e.Name), func(r model.Requirement) bool { return r.Fixed == "" }) {
		conflict := plan.Immovable(part, e.Name, fmt.Sprintf("%s@%s is asked about", e.Name, e.Version))
		e.Proof, e.Steps = conflict.Proof().Lines(), ways.ProofSteps(conflict)
		return nil
	}
	order := part.Eco.Order()
	rng, err := order.ParseRange(e.Version)
	if err != nil {
		return &model.Fault{Doing: fmt.Sprintf("explaining %s@%s", e.Name, e.Version), Wrong: err.Error()}
	}
	if !slices.ContainsFunc(releases, func(r model.Release) bool {
		v, err := order.Parse(r.Version)
		return err == nil && rng.Contains(v)
	}) {
		e.Proof = []string{fmt.Sprintf("1. No release of %s is in the range %s.", e.Name, e.Version)}
		return nil
	}
	rules, err := subjects.Rules(ctx, d, t, w)
	if err != nil {
		return err
	}
	state, err := w.Solve(ctx, contract.Goal{
		Rules: rules, Previews: d.Previews(),
		Bounds: map[string]contract.Bound{
			e.Name: {
				Allow: func(v version.Version) bool { return rng.Contains(v) }, Newest: true,
				Why: fmt.Sprintf("%s@%s is asked about", e.Name, e.Version),
			},
		},
		First: []string{e.Name},
	})
	var conflict *solve.Conflict
	if errors.As(err, &conflict) {
		e.Proof, e.Steps = conflict.Proof().Lines(), ways.ProofSteps(conflict)
		return nil
	}
	if err != nil {
		return err
	}
	e.Possible = true
	for _, m := range append(state.Moves, state.Carried...) {
		e.Moves = append(e.Moves, output.OfMove(m))
	}
	return nil
}

// takenBack says that a release was taken back, and why if its author says so; empty for others.
func takenBack(r model.Release) string {
	switch {
	case !r.Retracted:
		return ""
	case r.Because == "":
		return "retracted"
	}
	return "retracted: " + r.Because
}

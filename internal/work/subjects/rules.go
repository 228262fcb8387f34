package subjects

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// ApplyBooks puts what the compat books on a shelf say of a component's packages into its
// plan: what holds in every state, families, and what skips no major.
func ApplyBooks(
	ctx context.Context, d *desk.Desk, t *tree.Tree, books *shelf.Shelf, w *world.World, plan *route.Plan, renames []world.Destination,
) error {
	places, err := t.Places()
	if err != nil {
		return err
	}
	packages, err := d.Effective(ctx, t)
	if err != nil {
		return err
	}
	b := &bookApplier{part: w.Part, registry: w.Registry, world: packages.World(), plan: plan}
	places.Add(b.world)
	for _, r := range books.Rules {
		if r.Foreign != "" {
			continue
		}
		switch r.Kind {
		case compat.Needs:
			for _, then := range r.Then {
				if !then.Subject.IsPin() {
					b.rule(r, r.When, &then)
				}
			}
		case compat.Clashes:
			b.rule(r, r.When, nil)
		case compat.Together:
			b.together(r)
		case compat.Replaced:
			if err := b.replaced(ctx, r, renames); err != nil {
				return err
			}
		case compat.Restored:
			b.restored(r)
		case compat.Stepwise:
			for _, subject := range r.Subjects {
				for _, s := range b.subjects(subject) {
					s.Stepwise = fmt.Sprintf("%s must not skip a major: %s (%s)", subject, r.Because, r.Place())
				}
			}
		}
	}
	b.descriptions()
	return b.movedOn(ctx, renames)
}

// Rules are what the compat books say of a component's packages, as rules that hold in every
// state.
func Rules(ctx context.Context, d *desk.Desk, t *tree.Tree, w *world.World) ([]contract.Rule, error) {
	s, err := shelf.Read(ctx, d, t)
	if err != nil {
		return nil, err
	}
	plan := &route.Plan{Component: w.Part.ID, Order: w.Part.Eco.Order(), Previews: d.Previews()}
	if plan.Subjects, err = Of(ctx, t, w, plan, nil); err != nil {
		return nil, err
	}
	err = ApplyBooks(ctx, d, t, s, w, plan, nil)
	return plan.Rules, err
}

// bookApplier turns rules into those of a plan.
type bookApplier struct {
	part     *tree.Part
	registry ecosystem.Registry
	world    compat.World // packages and what is stated, as things are
	plan     *route.Plan
}

// subjects are the requirements on a subject that move, those of one name alone: an alias is another one.
func (b *bookApplier) subjects(s model.Subject) []*route.Subject {
	for _, r := range b.part.Requirements {
		if r.Subject != s {
			continue
		}
		if all := b.named(r.Name); len(all) > 0 {
			return all
		}
	}
	return nil
}

// named are the subjects of a name, one for each declaration that moves by itself.
func (b *bookApplier) named(name string) (all []*route.Subject) {
	for _, s := range b.plan.Subjects {
		if nameOf(s) == name {
			all = append(all, s)
		}
	}
	return all
}

// nameOf is what manifests call a subject.
func nameOf(s *route.Subject) string {
	_, name := model.Parted(s.Name)
	return name
}

// rule adds a rule: its conditions do not all hold, or with then, that holds
// besides. Conditions on what this component does not move count as they are
// now. A rule that is broken now may stay broken until something moves.
func (b *bookApplier) rule(r *compat.Rule, when []compat.Condition, then *compat.Condition) {
	rule := contract.Rule{Why: r.String()}
	add := func(all []*route.Subject, in func(v version.Version) bool) {
		rule.Terms = append(rule.Terms, contract.Term{Name: nameOf(all[0]), In: in})
	}
	for _, c := range when {
		if all := b.subjects(c.Subject); len(all) > 0 {
			add(all, func(v version.Version) bool { return c.Range == nil || c.Range.Contains(v) })
		} else if !b.world.Holds(c) {
			return
		}
	}
	if then != nil {
		all := b.subjects(then.Subject)
		switch {
		case len(all) > 0:
			add(all, func(v version.Version) bool { return !then.Range.Contains(v) })
		case b.world.Holds(*then):
			return
		default:
			rule.Why += fmt.Sprintf("; nothing requires %s here", then.Subject)
		}
	}
	if len(rule.Terms) == 0 {
		return
	}
	b.put(rule)
}

// put adds a rule. Where it is broken as things are, what its last term is about may stay where it is.
func (b *bookApplier) put(rule contract.Rule) {
	broken := !slices.ContainsFunc(rule.Terms, func(t contract.Term) bool {
		return !slices.ContainsFunc(b.named(t.Name), func(s *route.Subject) bool { return s.At != nil && t.In(s.At) })
	})
	if broken {
		last := &rule.Terms[len(rule.Terms)-1]
		in, there := last.In, b.named(last.Name)
		last.In = func(v version.Version) bool {
			return in(v) && !slices.ContainsFunc(there, func(s *route.Subject) bool { return s.At != nil && v.Compare(s.At) == 0 })
		}
	}
	b.plan.Rules = append(b.plan.Rules, rule)
}

// replaced lets a requirement go on under its new name, where that is asked for or majors may move.
func (b *bookApplier) replaced(ctx context.Context, r *compat.Rule, renames []world.Destination) error {
	if _, ok := b.part.Eco.(ecosystem.Rewriter); !ok || r.New.Kind != b.part.Type {
		return nil
	}
	all := b.subjects(r.Old)
	switch {
	case len(all) == 0:
		return b.replacedElsewhere(ctx, r, renames)
	case all[0].At == nil || slices.ContainsFunc(all, func(s *route.Subject) bool { return s.Held }):
	case b.part.Declares(r.New.Name):
		if b.plan.Within == nil {
			b.plan.Within = map[string]string{}
		}
		b.plan.Within[nameOf(all[0])] = r.New.Name
	case len(all) > 1:
		name := nameOf(all[0])
		b.plan.Told = append(b.plan.Told, fmt.Sprintf(
			"%s stays, and does not become %s: it is declared at several versions; --to %s@RANGE brings them together", name, r.New.Name, name,
		))
	default:
		b.byRule(r, contract.Change{Old: nameOf(all[0])}, all[0].At, renames)
	}
	return nil
}

// replacedElsewhere is the same for a requirement that takes its version from elsewhere: it states its version itself under the new
// name, before anything else moves, so that what it took the version from need not have the old name any more.
func (b *bookApplier) replacedElsewhere(ctx context.Context, r *compat.Rule, renames []world.Destination) error {
	stater, ok := b.registry.(ecosystem.Stater)
	if !ok || !b.part.Declares(r.Old.Name) || b.part.Declares(r.New.Name) {
		return nil
	}
	text, _, err := stater.Stated(ctx, b.part.Component, r.Old.Name)
	if err != nil || text == "" {
		return err
	}
	at, err := b.part.Eco.Order().Parse(text)
	if err != nil {
		return nil // what cannot be compared is in no range of the rule
	}
	b.byRule(r, contract.Change{Old: r.Old.Name, First: true}, at, renames)
	return nil
}

// byRule puts the change of a name that a rule knows into the plan.
func (b *bookApplier) byRule(r *compat.Rule, c contract.Change, at version.Version, renames []world.Destination) {
	c.New, c.Range, c.Why = r.New.Name, r.Becomes(at), fmt.Sprintf("%s (%s)", strings.TrimSuffix(r.Because, "."), r.ID)
	b.plans(c, renames)
}

// plans puts a change of a name into the plan: as one to make, or as one that is possible.
func (b *bookApplier) plans(c contract.Change, renames []world.Destination) {
	asked := b.plan.Reach == version.Major
	for _, d := range renames {
		if d.Name == c.New {
			asked, c.Asked, c.Range = true, true, d.Range
		}
	}
	switch {
	case c.Range == "":
	case asked:
		b.plan.Replaced = append(b.plan.Replaced, c)
	default:
		b.plan.Replaceable = append(b.plan.Replaceable, c)
	}
}

// restored adds requirements that give back what something else no longer has.
func (b *bookApplier) restored(r *compat.Rule) {
	if _, ok := b.part.Eco.(ecosystem.Rewriter); !ok {
		return
	}
	var when []contract.Term
	for _, c := range r.When {
		all := b.subjects(c.Subject)
		switch {
		case len(all) > 0:
			when = append(when, contract.Term{
				Name: nameOf(all[0]), In: func(v version.Version) bool { return c.Range == nil || c.Range.Contains(v) },
			})
		case !b.world.Holds(c):
			return
		}
	}
	if len(when) == 0 {
		return
	}
	for _, by := range r.Then {
		if by.Subject.Kind == b.part.Type && !b.part.Declares(by.Subject.Name) {
			b.plan.Restored = append(b.plan.Restored, route.Restore{When: when, Add: contract.Change{
				New: by.Subject.Name, Range: by.Text, Why: fmt.Sprintf("gives back %s (%s)", r.Feature, r.ID),
			}})
		}
	}
}

// together adds the rules of a family, pair by pair and line by line, and lets
// its members move in one leg.
func (b *bookApplier) together(r *compat.Rule) {
	var members [][]*route.Subject // the declarations of each
	for _, subject := range r.Subjects {
		if all := b.subjects(subject); len(all) > 0 {
			members = append(members, all)
		}
	}
	order := b.plan.Order
	reach := r.Share.Reach()
	for i, of := range members {
		for k, others := range members {
			if i == k {
				continue
			}
			s, t := of[0], nameOf(others[0])
			for _, one := range of {
				if !slices.Contains(one.Family, t) {
					one.Family = append(one.Family, t)
				}
			}
			for i, line := range s.Releases {
				if i > 0 && order.Step(s.Releases[i-1], line) <= reach {
					continue // the same line as the one before
				}
				same := func(v version.Version) bool { return order.Step(line, v) <= reach }
				apart := func(v version.Version) bool { return order.Step(line, v) > reach }
				b.put(contract.Rule{Why: r.String(), Terms: []contract.Term{{Name: nameOf(s), In: same}, {Name: t, In: apart}}})
			}
		}
	}
}

package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/shelf"
	"bellwether/internal/work/tree"
	"bellwether/internal/work/world"
)

// applyBooks puts what the compat books say of a component's packages into its
// plan: what holds in every state, families, and what skips no major.
func (p *planner) applyBooks(ctx context.Context, part *tree.Part, plan *route.Plan, renames []world.Destination) error {
	places, err := p.tree.Places()
	if err != nil {
		return err
	}
	packages, err := p.desk.Effective(ctx, p.tree)
	if err != nil {
		return err
	}
	b := &bookApplier{part: part, world: packages.World(), plan: plan}
	places.Add(b.world)
	for _, r := range p.shelf.Rules {
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
			b.replaced(r, renames)
		case compat.Restored:
			b.restored(r)
		case compat.Stepwise:
			for _, subject := range r.Subjects {
				if s := b.subject(subject); s != nil {
					s.Stepwise = fmt.Sprintf("%s must not skip a major: %s (%s)", subject, r.Because, r.Place())
				}
			}
		}
	}
	b.descriptions()
	return nil
}

// Rules are what the compat books say of a component's packages, as rules that hold in every
// state.
func Rules(ctx context.Context, d *desk.Desk, t *tree.Tree, w *world.World) ([]route.Rule, error) {
	s, err := shelf.Read(ctx, d, t)
	if err != nil {
		return nil, err
	}
	p := &planner{d, t, s}
	plan := &route.Plan{Component: w.Part.Dir, Order: w.Part.Eco.Order(), Previews: d.Previews()}
	if plan.Subjects, err = p.subjects(ctx, w, plan, nil); err != nil {
		return nil, err
	}
	err = p.applyBooks(ctx, w.Part, plan, nil)
	return plan.Rules, err
}

// bookApplier turns rules into those of a plan.
type bookApplier struct {
	part  *tree.Part
	world compat.World // packages and what is stated, as things are
	plan  *route.Plan
}

// subject is the requirement on a subject, nil if there is none that moves.
func (b *bookApplier) subject(s model.Subject) *route.Subject {
	for _, r := range b.part.Requirements {
		if r.Subject != s {
			continue
		}
		for _, sub := range b.plan.Subjects {
			if sub.Name == r.Name {
				return sub
			}
		}
	}
	return nil
}

// rule adds a rule: its conditions do not all hold, or with then, that holds
// besides. Conditions on what this component does not move count as they are
// now. A rule that is broken now may stay broken until something moves.
func (b *bookApplier) rule(r *compat.Rule, when []compat.Condition, then *compat.Condition) {
	rule := route.Rule{Why: r.String()}
	broken := true
	add := func(s *route.Subject, in func(v version.Version) bool) {
		rule.Terms = append(rule.Terms, route.Term{Name: s.Name, In: in})
		broken = broken && s.At != nil && in(s.At)
	}
	for _, c := range when {
		if s := b.subject(c.Subject); s != nil {
			add(s, func(v version.Version) bool { return c.Range == nil || c.Range.Contains(v) })
		} else if !b.world.Holds(c) {
			return
		}
	}
	if then != nil {
		s := b.subject(then.Subject)
		switch {
		case s != nil:
			add(s, func(v version.Version) bool { return !then.Range.Contains(v) })
		case b.world.Holds(*then):
			return
		default:
			rule.Why += fmt.Sprintf("; nothing requires %s here", then.Subject)
		}
	}
	if len(rule.Terms) == 0 {
		return
	}
	b.put(rule, broken)
}

func (b *bookApplier) put(rule route.Rule, broken bool) {
	if broken {
		last := &rule.Terms[len(rule.Terms)-1]
		in := last.In
		for _, s := range b.plan.Subjects {
			if s.Name == last.Name {
				at := s.At
				last.In = func(v version.Version) bool { return in(v) && v.Compare(at) != 0 }
			}
		}
	}
	b.plan.Rules = append(b.plan.Rules, rule)
}

// replaced lets a requirement go on under its new name, where that is asked for
// or majors may move.
func (b *bookApplier) replaced(r *compat.Rule, renames []world.Destination) {
	s := b.subject(r.Old)
	if _, ok := b.part.Eco.(ecosystem.Rewriter); !ok || s == nil || s.At == nil || s.Held || r.New.Kind != b.part.Type {
		return
	}
	if len(b.part.Find(r.New.Name)) > 0 {
		if b.plan.Within == nil {
			b.plan.Within = map[string]string{}
		}
		b.plan.Within[s.Name] = r.New.Name
		return
	}
	c := route.Change{
		Old: s.Name, New: r.New.Name, Range: r.Becomes(s.At), Why: fmt.Sprintf("%s (%s)", strings.TrimSuffix(r.Because, "."), r.ID),
	}
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
	var when []route.Term
	for _, c := range r.When {
		s := b.subject(c.Subject)
		switch {
		case s != nil:
			when = append(when, route.Term{Name: s.Name, In: func(v version.Version) bool { return c.Range == nil || c.Range.Contains(v) }})
		case !b.world.Holds(c):
			return
		}
	}
	if len(when) == 0 {
		return
	}
	for _, by := range r.Then {
		if by.Subject.Kind == b.part.Type && len(b.part.Find(by.Subject.Name)) == 0 {
			b.plan.Restored = append(b.plan.Restored, route.Restore{When: when, Add: route.Change{
				New: by.Subject.Name, Range: by.Text, Why: fmt.Sprintf("gives back %s (%s)", r.Feature, r.ID),
			}})
		}
	}
}

// together adds the rules of a family, pair by pair and line by line, and lets
// its members move in one leg.
func (b *bookApplier) together(r *compat.Rule) {
	var members []*route.Subject
	for _, subject := range r.Subjects {
		if s := b.subject(subject); s != nil {
			members = append(members, s)
		}
	}
	order := b.plan.Order
	reach := r.Share.Reach()
	for _, s := range members {
		for _, t := range members {
			if s == t {
				continue
			}
			if !slices.Contains(s.Family, t.Name) {
				s.Family = append(s.Family, t.Name)
			}
			for i, line := range s.Releases {
				if i > 0 && order.Step(s.Releases[i-1], line) <= reach {
					continue // the same line as the one before
				}
				same := func(v version.Version) bool { return order.Step(line, v) <= reach }
				apart := func(v version.Version) bool { return order.Step(line, v) > reach }
				b.put(route.Rule{Why: r.String(), Terms: []route.Term{{Name: s.Name, In: same}, {Name: t.Name, In: apart}}},
					s.At != nil && t.At != nil && same(s.At) && apart(t.At))
			}
		}
	}
}

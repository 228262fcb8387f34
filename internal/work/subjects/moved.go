package subjects

import (
	"context"
	"errors"
	"fmt"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/world"
)

// movedOn lets requirements go on under the names that their own releases say they go on under. What a book says of a name comes
// first.
func (b *bookApplier) movedOn(ctx context.Context, renames []world.Destination) error {
	if _, ok := b.part.Eco.(ecosystem.Rewriter); !ok {
		return nil
	}
	for _, s := range b.plan.Subjects {
		name := nameOf(s)
		if s.GoesOn == "" || s.GoesOn == name || s.At == nil || s.Held || s.Exact || b.part.Declares(s.GoesOn) ||
			len(b.named(name)) > 1 || b.changes(name) {
			continue
		}
		to, err := b.onward(ctx, s)
		if err != nil {
			return err
		}
		if to != "" {
			b.plans(contract.Change{Old: name, New: s.GoesOn, Range: to, Why: "its own releases say so"}, renames)
		}
	}
	return nil
}

// changes tells whether a book has a change of a name already.
func (b *bookApplier) changes(name string) bool {
	for _, all := range [][]contract.Change{b.plan.Replaced, b.plan.Replaceable} {
		for _, c := range all {
			if c.Old == name {
				return true
			}
		}
	}
	return false
}

// onward is a range from the newest release under the new name on, of the lowest line that is not below where a requirement is;
// empty for none.
func (b *bookApplier) onward(ctx context.Context, s *route.Subject) (rng string, err error) {
	known, err := b.registry.Releases(ctx, model.Subject{Kind: b.part.Type, Name: s.GoesOn})
	if errors.Is(err, ecosystem.ErrUnknown) {
		return "", nil // nobody has it: the name leads nowhere
	}
	if err != nil {
		return "", fmt.Errorf("%s, as which %s goes on: %w", s.GoesOn, s, err)
	}
	var best version.Version
	for _, r := range known {
		v, err := b.part.Eco.Order().Parse(r.Version)
		if err != nil || v.Preview() || v.Compare(s.At) < 0 || r.Retracted || r.Unfit != "" {
			continue
		}
		lower := best != nil && v.Line() != best.Line() && v.Compare(best) < 0
		if best == nil || lower || v.Line() == best.Line() && v.Compare(best) > 0 {
			best, rng = v, b.part.Eco.Order().Onward(v)
		}
	}
	return rng, nil
}

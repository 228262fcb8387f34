package need

import (
	"context"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/work/tree"
)

// brings is what a package that was not there at the start needs of a subject and the
// places do not state, in words; "" for nothing.
func (w *prerequisites) brings(ctx context.Context, n *Need, after *tree.Tree) (string, error) {
	was, err := w.Desk.Effective(ctx, w.along.Start)
	if err != nil {
		return "", err
	}
	is, err := w.Desk.Effective(ctx, after)
	if err != nil {
		return "", err
	}
	known := map[string]bool{}
	for _, subject := range was.Subjects {
		for _, pkg := range was.Of(subject) {
			known[subject.String()+"@"+pkg.Version] = true
			for _, needed := range pkg.Needs {
				known[subject.String()+" "+needed.Range] = true // another version of it that needs the same brings nothing
			}
		}
	}
	for _, subject := range is.Subjects {
		for _, pkg := range is.Of(subject) {
			if known[subject.String()+"@"+pkg.Version] {
				continue
			}
			for _, needed := range pkg.Needs {
				rng, err := version.Plain{}.ParseRange(needed.Range)
				if err == nil && needed.Subject == n.Subject && !known[subject.String()+" "+needed.Range] && n.lacks(rng, false, pkg.Development) {
					return stating(subject.String()+" "+pkg.Version, needed.Range), nil
				}
			}
		}
	}
	return "", nil
}

// lacksMore tells whether some place does not meet a need that was not there before, or that it met.
func (n *Need) lacksMore(before *Need) bool {
	return slices.ContainsFunc(n.Pins, func(q model.Pin) bool {
		low := pin.Low(q)
		if low == nil {
			return false
		}
		known := before.wantsAt(q).Missed(low)
		return slices.ContainsFunc(n.wantsAt(q).Missed(low), func(text string) bool { return !slices.Contains(known, text) })
	})
}

// lacks tells whether some place that states the subject is not in a range, or with not,
// is. What is needed for development alone does not count where users are promised something.
func (n *Need) lacks(rng version.Range, not, development bool) bool {
	return slices.ContainsFunc(n.Pins, func(q model.Pin) bool {
		low := pin.Low(q)
		return low != nil && rng.Contains(low) == not && !(q.Promise && development && n.Users != nil)
	})
}

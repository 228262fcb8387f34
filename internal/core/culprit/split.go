package culprit

import "context"

// TryAt tries one step of many, by its number; fails tells whether it shows the
// symptom.
type TryAt func(ctx context.Context, step int) (fails, resolved bool, err error)

// Split finds two steps next to each other of which the lower one passes and the
// higher one fails, between one below all that passes (-1) and the last, n-1, that
// fails. Steps that cannot be tried are passed over, so that there may be some
// between the two. After an error of try, the two are as near as they came.
func Split(ctx context.Context, n int, try TryAt) (passes, fails, trials int, err error) {
	passes, fails = -1, n-1
	skip := map[int]bool{}
	for {
		at := middle(passes, fails, skip)
		if at < 0 {
			return passes, fails, trials, nil
		}
		seen, resolved, err := try(ctx, at)
		if err != nil {
			return passes, fails, trials, err
		}
		switch {
		case !resolved:
			skip[at] = true
			continue
		case seen:
			fails = at
		default:
			passes = at
		}
		trials++
	}
}

// middle is the step nearest to the middle between two that can be tried, -1 for none.
func middle(low, high int, skip map[int]bool) int {
	want := (low + high) / 2
	best := -1
	for at := low + 1; at < high; at++ {
		if !skip[at] && (best < 0 || abs(at-want) < abs(best-want)) {
			best = at
		}
	}
	return best
}

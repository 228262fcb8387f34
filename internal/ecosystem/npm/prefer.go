package npm

import "slices"

// prefer orders the candidates of a wish. Where the newest is asked for, that
// comes first. Else what is locked does, and then the smallest step: the newest
// of the same line, of the next one, and so on. Without a lock it is what npm
// would take.
func (s *resolver) prefer(w *wish, newest bool, locked string) {
	releases := w.pkg.releases
	lines := w.pkg.lines()
	at := slices.IndexFunc(releases, func(r *release) bool { return r.text == locked })
	order := make([]int, len(releases))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		ra, rb := releases[a], releases[b]
		switch {
		case locked == "" && !newest:
			return s.reg.better(ra, rb)
		case newest || at < 0:
			return s.newer(ra, rb)
		case a == at || b == at:
			return boolOrder(a == at, b == at)
		case s.good(ra) != s.good(rb):
			return boolOrder(s.good(ra), s.good(rb))
		case lines[a] != lines[b]:
			return stepFrom(lines[at], lines[a]) - stepFrom(lines[at], lines[b])
		}
		return b - a
	})
	s.problem.Prefer(w.id, order)
}

// boolOrder puts the one that holds first.
func boolOrder(a, b bool) int {
	switch {
	case a && !b:
		return -1
	case b && !a:
		return 1
	}
	return 0
}

// stepFrom is how far a line is from another; lines below come after all above.
func stepFrom(from, to int) int {
	if to < from {
		return 1<<20 + from - to
	}
	return to - from
}

// good tells whether nothing speaks against moving to a release by itself.
func (s *resolver) good(r *release) bool {
	return r.Deprecated == "" && s.reg.fits(r) && !r.parsed.Preview()
}

// newer orders releases for a move: usable ones first, then the newest,
// whatever the registry's tags say.
func (s *resolver) newer(a, b *release) int {
	if d := boolOrder(s.good(a), s.good(b)); d != 0 {
		return d
	}
	return b.index - a.index
}

// rank lets the asked-for packages be decided first, then those that many
// others name as a peer: they set the frame for the rest.
func (s *resolver) rank() {
	named := map[string]int{}
	for _, w := range s.wishes {
		peers := map[string]bool{}
		for _, rel := range w.pkg.releases {
			for _, name := range rel.terms().peers() {
				peers[name] = true
			}
		}
		for name := range peers {
			named[name]++
		}
	}
	for _, w := range s.wishes {
		rank := -named[w.name]
		if at := slices.Index(s.ask.First, w.name); at >= 0 {
			rank = -1000*len(s.ask.First) + at
		}
		s.problem.Rank(w.id, rank)
	}
}

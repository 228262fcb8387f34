package npm

import "slices"

// prefer orders the candidates of a wish. Where the newest is asked for, that
// comes first. Else what is locked does, and then the smallest step: the newest
// of the same line, of the next one, and so on. Without a lock it is what npm
// would take.
func (s *resolver) prefer(w *wish, newest bool, locked string) {
	releases := w.pkg.releases
	lines, good := w.pkg.lines(), make([]bool, len(releases))
	for i, r := range releases {
		good[i] = s.good(r)
	}
	newer := func(a, b int) int { // usable ones first, whatever the registry's tags say
		if d := boolOrder(good[a], good[b]); d != 0 {
			return d
		}
		return b - a
	}
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
			return newer(a, b)
		case a == at || b == at:
			return boolOrder(a == at, b == at)
		case good[a] != good[b]:
			return boolOrder(good[a], good[b])
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

// rank lets the asked-for packages be decided first, then those that many
// others name as a peer: they set the frame for the rest.
func (s *resolver) rank() {
	named := map[string]int{}
	for _, w := range s.wishes {
		for _, name := range w.pkg.peers() {
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

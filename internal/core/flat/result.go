package flat

import (
	"fmt"
	"slices"

	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
)

// result puts a solution into the words of results.
func (s *resolver) result(solution solve.Solution) (*Result, error) {
	chosen := map[Key]int{}
	r := &Result{}
	for id, candidate := range solution {
		n := s.byID[solve.ID(id)]
		if n == nil || candidate < 0 {
			continue
		}
		chosen[n.key] = len(r.Chosen)
		r.Chosen = append(r.Chosen, Chosen{Key: n.key, Version: n.releases[candidate].Text, Was: s.Locked[n.key]})
	}
	for _, root := range s.Roots {
		c := &r.Chosen[chosen[root.Key]]
		c.Askers = append(c.Askers, Asker{By: root.Where, Wants: root.Range})
	}
	for key, was := range s.Locked {
		if _, there := chosen[key]; !there {
			r.Gone = append(r.Gone, Chosen{Key: key, Was: was})
		}
	}
	for _, list := range [][]Chosen{r.Chosen, r.Gone} {
		slices.SortFunc(list, func(a, b Chosen) int { return a.Key.Compare(b.Key) })
	}
	for i := range r.Chosen {
		c := r.Chosen[i]
		by := fmt.Sprintf("%s %s", c.Key, c.Version)
		if of := r.Of(Key{Name: c.Key.Name, Line: c.Key.Line}); c.Key.Extra != "" {
			of.Askers = append(of.Askers, Asker{By: by, Wants: c.Version})
		}
		needs, err := s.asked.Needs(c.Key, c.Version)
		if err != nil {
			return nil, err
		}
		for _, need := range needs {
			if need.Sense != Requires {
				continue
			}
			for _, o := range need.Options {
				if t := r.Of(o.Key); t != nil && o.Allows(s.version(o.Key, t.Version)) {
					t.Askers = append(t.Askers, Asker{By: by, Wants: need.Text})
				}
			}
		}
	}
	return r, nil
}

// version is a release's version, as it was parsed.
func (s *resolver) version(key Key, text string) version.Version {
	n := s.nodes[key]
	i := slices.IndexFunc(n.releases, func(r Release) bool { return r.Text == text })
	return n.releases[i].Version
}

package mediate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Nearest lets the statement win that stands nearest to the project, of those as near the one that is found
// first, and of those of one module the highest (Maven: Introduction to the Dependency Mechanism, "dependency
// mediation"). A hard wish excludes versions wherever it stands.
func Nearest(ctx context.Context, g Graph) (*Mediation, error) {
	n := &nearestWalk{ctx: ctx, graph: g, hard: map[string][]Statement{}, slots: map[string]string{}}
	for range maxRounds {
		m, err := n.round()
		if !errors.Is(err, errAgain) {
			return m, err
		}
	}
	return nil, fmt.Errorf("no state was reached in %d rounds: the modules exclude each other's versions in turn", maxRounds)
}

// nearestWalk walks until nothing is found any more that what won before does not hold with: a hard wish, or
// another name of it.
type nearestWalk struct {
	ctx   context.Context
	graph Graph
	slots map[string]string      // by a name, another one that takes its place; see slot
	hard  map[string][]Statement // by their slots
	known map[string]*Won
	wins  map[Module]bool
	none  map[string]Statement // what is asked for, and no version of it will do
	// replaced is true once something that had won no longer did.
	replaced bool
}

// errAgain is that what was walked so far does not hold.
var errAgain = errors.New("what won does not hold")

func (n *nearestWalk) round() (*Mediation, error) {
	m := &Mediation{}
	n.known, n.wins, n.none, n.replaced = map[string]*Won{}, map[Module]bool{}, map[string]Statement{}, false
	w := &walk{ctx: n.ctx, graph: n.graph, dropped: n.dropped, visit: func(s Statement) (string, bool, error) {
		for _, was := range s.Was {
			if err := n.join(was, s.Name); err != nil {
				return "", false, err
			}
		}
		if err := n.bounded(&s); err != nil {
			return "", false, err
		}
		slot := n.slot(s.Name)
		w := n.known[slot]
		switch {
		case s.Version == "":
			n.none[slot] = s
			return "", false, nil
		case w == nil:
			w = &Won{Module: Module{s.Name, s.Version}, Statement: s}
			n.known[slot], n.wins[w.Module] = w, true
			m.Won = append(m.Won, w)
			return s.Version, true, nil
		case w.Statement.Way.same(s.Way) && n.graph.Compare(s.Version, w.Version) > 0:
			n.replace(w, s)
			return s.Version, true, nil
		case s.Version == w.Version:
			w.Also = append(w.Also, Also{s.Way, s.Mark})
		case w.Statement.Way.depth < s.Way.depth:
			w.lose(s, "it is nearer to the project", w.Statement.By()+" asks for "+w.Version+", and is nearer to the project")
		default:
			w.lose(s, "it is stated first", w.Statement.By()+" asks for "+w.Version+", and is stated first")
		}
		return "", false, nil
	}}
	if err := w.run(); err != nil {
		return nil, err
	}
	for slot, s := range n.none {
		if n.known[slot] == nil {
			return nil, &Conflict{Name: s.Name, Asked: n.conditions(slot, s)}
		}
	}
	return m, nil
}

// replace lets a statement win over another one of the same module.
func (n *nearestWalk) replace(w *Won, s Statement) {
	before := w.Statement
	delete(n.wins, w.Module)
	n.replaced = true
	w.Module, w.Statement = Module{s.Name, s.Version}, s
	n.wins[w.Module] = true
	const because = "it is the highest that one module asks for"
	w.lose(before, because, s.By()+" asks for "+s.Version+", too")
	for _, a := range w.Also {
		also := before
		also.Way, also.Mark = a.Way, a.Mark
		w.lose(also, because, s.By()+" asks for "+s.Version)
	}
	w.Also = nil
}

// lose notes a statement that stands for another version, with why each of the two won and lost.
func (w *Won) lose(s Statement, won, lost string) {
	w.Because = cmp.Or(w.Because, won)
	w.Lost = append(w.Lost, Lost{s, lost})
}

// slot is the name that stands for all that take each other's place.
func (n *nearestWalk) slot(name string) string {
	for n.slots[name] != "" {
		name = n.slots[name]
	}
	return name
}

// join lets two names take each other's place.
func (n *nearestWalk) join(was, is string) error {
	from, to := n.slot(was), n.slot(is)
	if from == to {
		return nil
	}
	n.slots[from] = to
	n.hard[to] = append(n.hard[to], n.hard[from]...)
	if n.known[from] != nil || n.none[from].Name != "" {
		return errAgain
	}
	return nil
}

// bounded gives a statement the version that all hard wishes allow.
func (n *nearestWalk) bounded(s *Statement) (err error) {
	slot := n.slot(s.Name)
	all := n.hard[slot]
	if s.Hard && !slices.ContainsFunc(all, func(o Statement) bool { return o.Wants == s.Wants }) {
		all = append(all, *s)
		n.hard[slot] = all
		if w := n.known[slot]; w != nil {
			if allowed, err := n.choose(w.Name, w.Version, all); err != nil || allowed == "" {
				return errors.Join(err, errAgain)
			}
		}
	}
	s.Version, err = n.choose(s.Name, s.Wants, all)
	return err
}

func (n *nearestWalk) choose(name, wish string, hard []Statement) (string, error) {
	wants := []string{wish}
	for _, s := range hard {
		wants = append(wants, s.Wants)
	}
	return n.graph.Choose(n.ctx, name, wants)
}

// dropped tells whether a module on the way is not the one that won, since another one took its place.
func (n *nearestWalk) dropped(way *Way) bool {
	for at := way; n.replaced && at.up != nil; at = at.up {
		if !n.wins[at.Module] {
			return true
		}
	}
	return false
}

// conditions are what nothing meets.
func (n *nearestWalk) conditions(slot string, s Statement) []Statement {
	all := []Statement{s}
	for _, h := range n.hard[slot] {
		if !slices.ContainsFunc(all, func(o Statement) bool { return o.By() == h.By() && o.Wants == h.Wants }) {
			all = append(all, h)
		}
	}
	return all
}

// Conflict is the error of a package of which no version does all that is asked for.
type Conflict struct {
	Name  string
	Asked []Statement
	Why   string // why one version has to do, a clause; empty where ranges say so
}

// Error says who asks for what.
func (c *Conflict) Error() string {
	var texts []string
	for _, s := range c.Asked {
		texts = append(texts, s.By()+" asks for "+s.Wants)
	}
	return fmt.Sprintf("no version of %s will do: %s", c.Name, strings.Join(texts, ", "))
}

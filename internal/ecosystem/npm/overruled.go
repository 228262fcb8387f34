package npm

import "fmt"

// overruling is an edge that an override put something else in the place of.
type overruling struct {
	rule *overrides
	by   *node // who asks
	asks edge  // for what
	got  *node // nil for nothing
}

// overrulings are all of a tree, by the names of the rules and of who asks.
func (t *tree) overrulings() map[string][]overruling {
	all := map[string][]overruling{}
	t.walk(func(n *node) {
		if n == t.root || len(n.scope) == 0 || n.linkTo != nil {
			return
		}
		edges := n.declared
		if !n.isTop() && n.body != nil {
			edges = bodyEdges(n.body, nil)
		}
		for _, e := range edges {
			if n.scope.overrules(e) {
				all[e.name] = append(all[e.name], overruling{n.scope.rule(e), n, e, n.get(e)})
			}
		}
	})
	return all
}

// needed tells whether what is got by a rule is something else than what was asked for.
func (o overruling) needed() bool {
	return o.got == nil || !meets(o.asks, o.got)
}

// below tells whether a rule holds a package below all that is asked for.
func (o overruling) below() bool {
	if o.got == nil || o.asks.spec.rng == nil {
		return false
	}
	at, v := atLeast(o.asks.spec.rng), o.got.target().parsedVersion()
	least, err := parseVersion(at)
	return o.needed() && err == nil && v != nil && v.Compare(least) < 0
}

// overrideNotes tell of the project's own overrides that the moves made harmful or
// pointless.
func (s *resolver) overrideNotes() (notes []string) {
	if s.p.lock == nil {
		return nil
	}
	before, after := s.p.locked().overrulings(), s.t.overrulings()
	for _, name := range collated(after) {
		known := map[string]bool{}
		for _, o := range before[name] {
			known[o.by.pkgName+"\x00"+o.asks.spec.text] = true
		}
		for _, o := range after[name] {
			if key := o.by.pkgName + "\x00" + o.asks.spec.text; o.below() && !known[key] {
				known[key] = true
				notes = append(
					notes,
					fmt.Sprintf(
						"the override in %s holds %s at %s, which is lower than what is asked for (%s)", o.rule.site, name, versionOf(o.got),
						describe(o.by, o.asks),
					),
				)
			}
		}
	}
	for _, name := range collated(before) {
		if !anyNeeded(before[name]) || anyNeeded(after[name]) {
			continue
		}
		if len(after[name]) == 0 {
			notes = append(notes, fmt.Sprintf("nothing asks for what the override of %s is about any more: it can go", name))
		} else {
			o := after[name][0]
			notes = append(notes, fmt.Sprintf("the override in %s can go: whoever asks for %s accepts %s "+
				"anyhow", o.rule.site, name, versionOf(o.got)))
		}
	}
	return notes
}

func anyNeeded(list []overruling) bool {
	for _, o := range list {
		if o.needed() {
			return true
		}
	}
	return false
}

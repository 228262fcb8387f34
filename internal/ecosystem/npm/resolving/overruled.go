package resolving

import (
	"fmt"

	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/placing"
	"bellwether/internal/ecosystem/npm/tree"
)

// overruling is an edge that an override put something else in the place of.
type overruling struct {
	rule *packagejson.Overrides
	by   *tree.Node       // who asks
	asks packagejson.Edge // for what
	got  *tree.Node       // nil for nothing
}

// overrulings are all of a tree, by the names of the rules and of who asks.
func overrulings(t *tree.Tree) map[string][]overruling {
	all := map[string][]overruling{}
	t.Walk(func(n *tree.Node) {
		if n == t.Root || len(n.Scope) == 0 || n.LinkTo != nil {
			return
		}
		edges := n.Declared
		if !n.IsTop() && n.Body != nil {
			edges = tree.BodyEdges(n.Body, nil)
		}
		for _, e := range edges {
			if n.Scope.Overrules(e) {
				all[e.Name] = append(all[e.Name], overruling{n.Scope.Rule(e), n, e, n.Get(e)})
			}
		}
	})
	return all
}

// needed tells whether what is got by a rule is something else than what was asked for.
func (o overruling) needed() bool {
	return o.got == nil || !tree.Meets(o.asks, o.got)
}

// below tells whether a rule holds a package below all that is asked for.
func (o overruling) below() bool {
	if o.got == nil || o.asks.Spec.Range == nil {
		return false
	}
	at, v := packagejson.AtLeast(o.asks.Spec.Range), o.got.Target().ParsedVersion()
	least, err := packagejson.ParseVersion(at)
	return o.needed() && err == nil && v != nil && v.Compare(least) < 0
}

// overrideNotes tell of the project's own overrides that the moves made harmful or
// pointless.
func (s *resolver) overrideNotes() (notes []string) {
	if s.p.Lock == nil {
		return nil
	}
	before, after := overrulings(s.p.Locked()), overrulings(s.Tree)
	for _, name := range packagejson.Collated(after) {
		known := map[string]bool{}
		for _, o := range before[name] {
			known[o.by.Package+"\x00"+o.asks.Spec.Text] = true
		}
		for _, o := range after[name] {
			if key := o.by.Package + "\x00" + o.asks.Spec.Text; o.below() && !known[key] {
				known[key] = true
				notes = append(
					notes,
					fmt.Sprintf(
						"the override in %s holds %s at %s, which is lower than what is asked for (%s)", o.rule.Site, name, placing.VersionOf(o.got),
						placing.Describe(o.by, o.asks),
					),
				)
			}
		}
	}
	for _, name := range packagejson.Collated(before) {
		if !anyNeeded(before[name]) || anyNeeded(after[name]) {
			continue
		}
		if len(after[name]) == 0 {
			notes = append(notes, fmt.Sprintf("nothing asks for what the override of %s is about any more: it can go", name))
		} else {
			o := after[name][0]
			notes = append(notes, fmt.Sprintf("the override in %s can go: whoever asks for %s accepts %s "+
				"anyhow", o.rule.Site, name, placing.VersionOf(o.got)))
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

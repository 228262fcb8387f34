package resolving

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"bellwether/internal/core/spelling"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// traits are what is worth a word where it changes, over all copies of a
// package.
type traits struct {
	lowest, highest *tree.Node
	versions        []string
	majors          []string
	licences        []string
	deprecated      *tree.Node // a copy that is; nil for none
	script          *tree.Node // a copy that runs something when it is installed
	hosts           []string
}

func traitsOf(t *tree.Tree) map[string]*traits {
	all := map[string]*traits{}
	put := func(list *[]string, text string) {
		if text != "" && !slices.Contains(*list, text) {
			*list = append(*list, text)
		}
	}
	t.Walk(func(n *tree.Node) {
		if n.IsTop() || n.LinkTo != nil || n.Version == "" {
			return
		}
		v, err := packagejson.ParseVersion(n.Version)
		if err != nil {
			return
		}
		is := all[n.Package]
		if is == nil {
			is = &traits{lowest: n, highest: n}
			all[n.Package] = is
		}
		if low, err := packagejson.ParseVersion(is.lowest.Version); err == nil && v.Compare(low) < 0 {
			is.lowest = n
		}
		if high, err := packagejson.ParseVersion(is.highest.Version); err == nil && v.Compare(high) > 0 {
			is.highest = n
		}
		put(&is.majors, v.Line())
		put(&is.versions, n.Version)
		if n.Deprecate != "" {
			is.deprecated = n
		}
		if n.Body != nil {
			put(&is.licences, n.Body.License)
			if n.Body.Script {
				is.script = n
			}
		}
		if u, err := url.Parse(n.Resolved); err == nil {
			put(&is.hosts, u.Host)
		}
	})
	return all
}

// notable tells what changes in the tree that nobody should miss: what goes down,
// becomes deprecated, comes to run something when it is installed, changes its
// licence or its source, or is there in a further major.
func (s *resolver) notable() []string {
	if s.p.Lock == nil {
		return nil
	}
	before, after := traitsOf(s.p.Locked()), traitsOf(s.Tree)
	var notes []string
	because := func(who, format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		if who != "" {
			text += " (" + who + ")"
		}
		notes = append(notes, text)
	}
	say := func(n *tree.Node, format string, args ...any) { because(s.firstAsker(n, ""), format, args...) }
	elsewhere := map[string][]*tree.Node{} // by the sentence's end
	var several []string                   // names that came to be there in several majors
	for _, name := range packagejson.Collated(after) {
		now := after[name]
		was := before[name]
		if was == nil {
			if now.script != nil {
				say(now.script, "%s %s comes in, and runs a script when it is installed", name, now.script.Version)
			}
			if now.deprecated != nil {
				say(now.deprecated, "%s %s comes in, and is deprecated: %s", name, now.deprecated.Version, now.deprecated.Deprecate)
			}
			continue
		}
		old, _ := packagejson.ParseVersion(was.highest.Version)
		if v, err := packagejson.ParseVersion(now.highest.Version); err == nil && old != nil && v.Compare(old) < 0 &&
			!slices.Contains(was.versions, now.highest.Version) {
			because(s.firstAsker(now.highest, was.highest.Version), "%s goes down from %s to %s", name, was.highest.Version, now.highest.Version)
		}
		if now.deprecated != nil && was.deprecated == nil {
			say(now.deprecated, "%s %s is deprecated: %s", name, now.deprecated.Version, now.deprecated.Deprecate)
		}
		if now.script != nil && was.script == nil && was.highest.Body != nil {
			say(now.script, "%s %s runs a script when it is installed, which %s did not", name, now.script.Version, was.highest.Version)
		}
		if rel := now.highest.From; rel != nil && !rel.Attested {
			if old := rel.Pkg.Find(was.highest.Version); old != nil && old.Attested {
				say(now.highest, "%s %s does not attest its provenance, which %s did", name, rel.Text, old.Text)
			}
		}
		if rel := now.highest.From; rel != nil && rel.Typed && s.p.Describes(name) != "" {
			if old := rel.Pkg.Find(was.highest.Version); old != nil && !old.Typed {
				types := s.p.Describes(name)
				notes = append(notes, fmt.Sprintf("%s %s describes its types itself: %s can go (--do-without %s)", name, rel.Text, types, types))
			}
		}
		if fresh := added(was.licences, now.licences); len(fresh) > 0 && len(was.licences) > 0 {
			say(now.highest, "%s changes its licence from %s to %s", name, strings.Join(was.licences, ", "), strings.Join(fresh, ", "))
		}
		if fresh := added(was.hosts, now.hosts); len(fresh) > 0 && len(was.hosts) > 0 {
			change := fmt.Sprintf("from %s now, and came from %s", strings.Join(fresh, ", "), strings.Join(was.hosts, ", "))
			elsewhere[change] = append(elsewhere[change], now.highest)
		}
		if len(now.majors) > len(was.majors) && len(was.majors) == 1 {
			several = append(several, name)
		}
	}
	if len(several) > manyMoved {
		notes = append(notes, fmt.Sprintf("%d packages are there in several majors now: %s", len(several), spelling.Few(several, 8)))
	} else {
		for _, name := range several {
			now := after[name]
			who := cmp.Or(s.firstAsker(now.lowest, now.highest.Version), s.firstAsker(now.highest, now.lowest.Version))
			because(who, "%s is there in %d majors now, %s and %s", name, len(now.majors), now.lowest.Version, now.highest.Version)
		}
	}
	for _, change := range slices.Sorted(maps.Keys(elsewhere)) {
		if moved := elsewhere[change]; len(moved) <= manyMoved {
			for _, n := range moved {
				say(n, "%s comes %s", n.Package, change)
			}
		} else {
			var names []string
			for _, n := range moved {
				names = append(names, n.Package)
			}
			notes = append(notes, fmt.Sprintf("%d packages come %s: %s", len(moved), change, spelling.Few(names, 8)))
		}
	}
	return notes
}

// manyMoved is up to how many packages of one trait are told one by one: a project that goes to another registry has all of them
// there.
const manyMoved = 3

// added are the texts of now that were not there.
func added(was, now []string) []string {
	return slices.DeleteFunc(slices.Clone(now), func(text string) bool { return slices.Contains(was, text) })
}

// firstAsker says who asks for a node and could not do with another version, if one is
// given; "" if nobody is found.
func (s *resolver) firstAsker(n *tree.Node, otherwise string) string {
	var askers []string
	for _, d := range s.Tree.Dependents[n.Name] {
		for _, e := range d.EdgeList {
			if e.Name == n.Name && d.Get(e) == n && (otherwise == "" || !tree.Meets(e, &tree.Node{Package: n.Package, Version: otherwise})) {
				askers = append(askers, s.p.Asker(s.Tree, d, e))
			}
		}
	}
	if len(askers) == 0 {
		return ""
	}
	slices.Sort(askers)
	return askers[0]
}

package npm

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"bellwether/internal/core/spelling"
)

// traits are what is worth a word where it changes, over all copies of a
// package.
type traits struct {
	lowest, highest *node
	versions        []string
	majors          []string
	licences        []string
	deprecated      *node // a copy that is; nil for none
	script          *node // a copy that runs something when it is installed
	hosts           []string
}

func (t *tree) traits() map[string]*traits {
	all := map[string]*traits{}
	put := func(list *[]string, text string) {
		if text != "" && !slices.Contains(*list, text) {
			*list = append(*list, text)
		}
	}
	t.walk(func(n *node) {
		if n.isTop() || n.linkTo != nil || n.version == "" {
			return
		}
		v, err := parseVersion(n.version)
		if err != nil {
			return
		}
		is := all[n.pkgName]
		if is == nil {
			is = &traits{lowest: n, highest: n}
			all[n.pkgName] = is
		}
		if low, err := parseVersion(is.lowest.version); err == nil && v.Compare(low) < 0 {
			is.lowest = n
		}
		if high, err := parseVersion(is.highest.version); err == nil && v.Compare(high) > 0 {
			is.highest = n
		}
		put(&is.majors, v.Line())
		put(&is.versions, n.version)
		if n.deprecate != "" {
			is.deprecated = n
		}
		if n.body != nil {
			put(&is.licences, n.body.License)
			if n.body.Script {
				is.script = n
			}
		}
		if u, err := url.Parse(n.resolved); err == nil {
			put(&is.hosts, u.Host)
		}
	})
	return all
}

// notable tells what changes in the tree that nobody should miss: what goes down,
// becomes deprecated, comes to run something when it is installed, changes its
// licence or its source, or is there in a further major.
func (s *resolver) notable() []string {
	if s.p.lock == nil {
		return nil
	}
	before, after := s.p.locked().traits(), s.t.traits()
	var notes []string
	because := func(who, format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		if who != "" {
			text += " (" + who + ")"
		}
		notes = append(notes, text)
	}
	say := func(n *node, format string, args ...any) { because(s.firstAsker(n, ""), format, args...) }
	elsewhere := map[string][]*node{} // by the sentence's end
	for _, name := range collated(after) {
		now := after[name]
		was := before[name]
		if was == nil {
			if now.script != nil {
				say(now.script, "%s %s comes in, and runs a script when it is installed", name, now.script.version)
			}
			if now.deprecated != nil {
				say(now.deprecated, "%s %s comes in, and is deprecated: %s", name, now.deprecated.version, now.deprecated.deprecate)
			}
			continue
		}
		old, _ := parseVersion(was.highest.version)
		if v, err := parseVersion(now.highest.version); err == nil && old != nil && v.Compare(old) < 0 &&
			!slices.Contains(was.versions, now.highest.version) {
			because(s.firstAsker(now.highest, was.highest.version), "%s goes down from %s to %s", name, was.highest.version, now.highest.version)
		}
		if now.deprecated != nil && was.deprecated == nil {
			say(now.deprecated, "%s %s is deprecated: %s", name, now.deprecated.version, now.deprecated.deprecate)
		}
		if now.script != nil && was.script == nil && was.highest.body != nil {
			say(now.script, "%s %s runs a script when it is installed, which %s did not", name, now.script.version, was.highest.version)
		}
		if rel := now.highest.from; rel != nil && !rel.Attested {
			if old := rel.pkg.find(was.highest.version); old != nil && old.Attested {
				say(now.highest, "%s %s does not attest its provenance, which %s did", name, rel.text, old.text)
			}
		}
		if rel := now.highest.from; rel != nil && rel.Typed && s.p.describes(name) != "" {
			if old := rel.pkg.find(was.highest.version); old != nil && !old.Typed {
				types := s.p.describes(name)
				notes = append(notes, fmt.Sprintf("%s %s describes its types itself: %s can go (--do-without %s)", name, rel.text, types, types))
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
			who := cmp.Or(s.firstAsker(now.lowest, now.highest.version), s.firstAsker(now.highest, now.lowest.version))
			because(who, "%s is there in %d majors now, %s and %s", name, len(now.majors), now.lowest.version, now.highest.version)
		}
	}
	for _, change := range slices.Sorted(maps.Keys(elsewhere)) {
		if moved := elsewhere[change]; len(moved) <= manyMoved {
			for _, n := range moved {
				say(n, "%s comes %s", n.pkgName, change)
			}
		} else {
			var names []string
			for _, n := range moved {
				names = append(names, n.pkgName)
			}
			notes = append(notes, fmt.Sprintf("%d packages come %s: %s", len(moved), change, spelling.Few(names, 8)))
		}
	}
	return notes
}

// describes is the requirement that describes the types of a package; "" if there is none.
func (p *project) describes(name string) string {
	types := "@types/" + strings.Replace(strings.TrimPrefix(name, "@"), "/", "__", 1)
	for _, m := range p.manifests() {
		for _, d := range m.dependencies {
			if d.name == types {
				return types
			}
		}
	}
	return ""
}

// manyMoved is up to how many packages from another source are told one by one. A
// project that goes to another registry has all of them there.
const manyMoved = 3

// added are the texts of now that were not there.
func added(was, now []string) []string {
	return slices.DeleteFunc(slices.Clone(now), func(text string) bool { return slices.Contains(was, text) })
}

// firstAsker says who asks for a node and could not do with another version, if one is
// given; "" if nobody is found.
func (s *resolver) firstAsker(n *node, otherwise string) string {
	var askers []string
	for _, d := range s.t.dependents[n.name] {
		for _, e := range d.edgeList {
			if e.name == n.name && d.get(e) == n && (otherwise == "" || !meets(e, &node{pkgName: n.pkgName, version: otherwise})) {
				askers = append(askers, s.p.asker(s.t, d, e))
			}
		}
	}
	if len(askers) == 0 {
		return ""
	}
	slices.Sort(askers)
	return askers[0]
}

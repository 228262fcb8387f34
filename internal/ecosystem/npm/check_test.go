package npm

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
)

// checkLock looks every dependency up by the paths of the lock alone, as
// Node.js looks up folders.
func (p *project) checkLock() error {
	var faults []error
	reached := map[string]bool{"": true}
	fault := func(format string, args ...any) { faults = append(faults, fmt.Errorf(format, args...)) }
	manifests := map[string]*manifest{"": p.root}
	queue := []string{""}
	scopes := map[string]scope{}
	if o := readOverrides(p.root); o != nil {
		scopes[""] = scope{o}
	}
	for _, m := range p.tops {
		loc := relative(p.dir, m.dir)
		manifests[loc] = m
		if p.members[m.dir] {
			queue = append(queue, loc)
			reached[loc] = true
			_, scopes[loc] = scope.apply(scopes[""], edge{m.name, prodEdge, spec{name: m.name}})
		}
	}
	for _, e := range p.lock.entries {
		if e.link && p.lock.entries[e.resolved] != nil && p.isMember(nameOf(e.loc)) {
			reached[e.loc] = true
		}
	}
	for len(queue) > 0 {
		loc := queue[0]
		queue = queue[1:]
		edges, bundled := p.declared(loc, manifests)
		for _, e := range edges {
			kid, declared := scopes[loc], e
			if loc != "" {
				e, kid = scopes[loc].apply(e)
			} else {
				_, kid = scopes[loc].apply(e)
			}
			at := p.lookUp(loc, e)
			if at == "" {
				if !e.kind.optional() && !slices.Contains(bundled, e.name) {
					fault("%q misses %s %s", loc, e.name, e.spec.text)
				}
				continue
			}
			entry := p.lock.entries[at]
			if e.spec.rng != nil && !entry.link {
				v, err := parseVersion(entry.version)
				// npm does not always apply overrides to linked folders.
				m := manifests[loc]
				linked := m != nil && m != p.root && !p.members[m.dir] && declared.spec.rng != nil && v != nil && declared.spec.rng.Contains(v)
				if err != nil || !e.spec.rng.Contains(v) && !linked {
					fault("%q wants %s %s, but %q is %s", loc, e.name, e.spec.text, at, entry.version)
				}
				if name := nameOf(at); entry.name == "" && name != e.spec.name || entry.name != "" && entry.name != e.spec.name {
					fault("%q wants the package %s, but %q is another", loc, e.spec.name, at)
				}
			}
			for _, next := range []string{at, entry.resolved} {
				if (next == at || entry.link) && !reached[next] && keeps(e) {
					reached[next] = true
					scopes[next] = kid
					queue = append(queue, next)
				}
			}
		}
	}
	for _, loc := range collated(p.lock.entries) {
		if e := p.lock.entries[loc]; !reached[loc] && !e.inBundle {
			fault("%q is in the lock, but nothing needs it", loc)
		}
	}
	return errors.Join(faults...)
}

// declared are the dependencies of a location.
func (p *project) declared(loc string, manifests map[string]*manifest) ([]edge, []string) {
	if m := manifests[loc]; m != nil {
		return topEdges(m), nil
	}
	e := p.lock.entries[loc]
	if e == nil {
		return nil, nil
	}
	if e.body == nil { // a version 1 lock, which knows no peers
		requires := &body{Dependencies: map[string]string{}}
		if v := e.value.Get("requires"); v != nil {
			for _, m := range v.Members {
				requires.Dependencies[m.Name] = m.Value.String()
			}
		}
		return bodyEdges(requires, nil), nil
	}
	return bodyEdges(e.body, nil), e.body.Bundled
}

// lookUp finds the location that a dependency of loc leads to, "" for none.
func (p *project) lookUp(loc string, e edge) string {
	from := loc
	if _, _, inside := parentLoc(loc); inside && e.kind.peer() {
		from, _, _ = parentLoc(loc)
	}
	for {
		at := strings.TrimPrefix(from+"/node_modules/"+e.name, "/")
		if p.lock.entries[at] != nil {
			return at
		}
		if from == "" {
			return ""
		}
		parent, _, inside := parentLoc(from)
		if !inside {
			parent = ""
		}
		from = parent
	}
}

func nameOf(loc string) string {
	_, name, _ := parentLoc(loc)
	return name
}

// checkLockIn sees, without any registry, that the lock of the component in dir
// meets every dependency and peer of everything in it, and that nothing in it
// is superfluous. It shares no code with the resolver but the reading.
func checkLockIn(fsys fs.FS, dir string) error {
	p, err := readProject(fsys, dir)
	if err != nil {
		return err
	}
	if p.lock == nil {
		return fmt.Errorf("%s: there is no lock", p.root.file)
	}
	return p.checkLock()
}

package npm

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"bellwether/internal/ecosystem/npm/lock"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/project"
	"bellwether/internal/ecosystem/npm/tree"
)

// checkLock looks every dependency up by the paths of the lock alone, as
// Node.js looks up folders.
func checkLock(p *project.Project) error {
	var faults []error
	reached := map[string]bool{"": true}
	fault := func(format string, args ...any) { faults = append(faults, fmt.Errorf(format, args...)) }
	manifests := map[string]*packagejson.Manifest{"": p.Root}
	queue := []string{""}
	scopes := map[string]packagejson.Scope{}
	if o := packagejson.ReadOverrides(p.Root); o != nil {
		scopes[""] = packagejson.Scope{o}
	}
	for _, m := range p.Tops {
		loc := lock.Relative(p.Dir, m.Dir)
		manifests[loc] = m
		if p.Members[m.Dir] {
			queue = append(queue, loc)
			reached[loc] = true
			_, scopes[loc] = scopes[""].Apply(packagejson.AskFor(m.Name, ""))
		}
	}
	for _, e := range p.Lock.Entries {
		if e.Link && p.Lock.Entries[e.Resolved] != nil && p.IsMember(nameOf(e.Loc)) {
			reached[e.Loc] = true
		}
	}
	for len(queue) > 0 {
		loc := queue[0]
		queue = queue[1:]
		edges, bundled := declared(p, loc, manifests)
		for _, e := range edges {
			kid, declared := scopes[loc], e
			if loc != "" {
				e, kid = scopes[loc].Apply(e)
			} else {
				_, kid = scopes[loc].Apply(e)
			}
			at := lookUp(p, loc, e)
			if at == "" {
				if !e.Kind.IsOptional() && !slices.Contains(bundled, e.Name) {
					fault("%q misses %s %s", loc, e.Name, e.Spec.Text)
				}
				continue
			}
			entry := p.Lock.Entries[at]
			if e.Spec.Range != nil && !entry.Link {
				v, err := packagejson.ParseVersion(entry.Version)
				// npm does not always apply overrides to linked folders.
				m := manifests[loc]
				linked := m != nil && m != p.Root && !p.Members[m.Dir] && declared.Spec.Range != nil && v != nil && declared.Spec.Range.Contains(v)
				if err != nil || !e.Spec.Range.Contains(v) && !linked {
					fault("%q wants %s %s, but %q is %s", loc, e.Name, e.Spec.Text, at, entry.Version)
				}
				if name := nameOf(at); entry.Name == "" && name != e.Spec.Name || entry.Name != "" && entry.Name != e.Spec.Name {
					fault("%q wants the package %s, but %q is another", loc, e.Spec.Name, at)
				}
			}
			for _, next := range []string{at, entry.Resolved} {
				if (next == at || entry.Link) && !reached[next] && tree.Keeps(e) {
					reached[next] = true
					scopes[next] = kid
					queue = append(queue, next)
				}
			}
		}
	}
	for _, loc := range packagejson.Collated(p.Lock.Entries) {
		if e := p.Lock.Entries[loc]; !reached[loc] && !e.InBundle {
			fault("%q is in the lock, but nothing needs it", loc)
		}
	}
	return errors.Join(faults...)
}

// declared are the dependencies of a location.
func declared(p *project.Project, loc string, manifests map[string]*packagejson.Manifest) ([]packagejson.Edge, []string) {
	if m := manifests[loc]; m != nil {
		return tree.TopEdges(m), nil
	}
	e := p.Lock.Entries[loc]
	if e == nil {
		return nil, nil
	}
	if e.Body == nil { // a version 1 lock, which knows no peers
		requires := &packagejson.Body{Dependencies: map[string]string{}}
		if v := e.Value.Get("requires"); v != nil {
			for _, m := range v.Members {
				requires.Dependencies[m.Name] = m.Value.String()
			}
		}
		return tree.BodyEdges(requires, nil), nil
	}
	return tree.BodyEdges(e.Body, nil), e.Body.Bundled
}

// lookUp finds the location that a dependency of loc leads to, "" for none.
func lookUp(p *project.Project, loc string, e packagejson.Edge) string {
	from := loc
	if _, _, inside := lock.ParentLoc(loc); inside && e.Kind.IsPeer() {
		from, _, _ = lock.ParentLoc(loc)
	}
	for {
		at := strings.TrimPrefix(from+"/node_modules/"+e.Name, "/")
		if p.Lock.Entries[at] != nil {
			return at
		}
		if from == "" {
			return ""
		}
		parent, _, inside := lock.ParentLoc(from)
		if !inside {
			parent = ""
		}
		from = parent
	}
}

func nameOf(loc string) string {
	_, name, _ := lock.ParentLoc(loc)
	return name
}

// checkLockIn sees, without any registry, that the lock of the component in dir
// meets every dependency and peer of everything in it, and that nothing in it
// is superfluous. It shares no code with the resolver but the reading.
func checkLockIn(fsys fs.FS, dir string) error {
	p, err := project.ReadProject(fsys, dir)
	if err != nil {
		return err
	}
	if p.Lock == nil {
		return fmt.Errorf("%s: there is no lock", p.Root.File)
	}
	return checkLock(p)
}

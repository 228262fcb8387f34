package npm

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
)

// lockfile is a package-lock.json as found, of version 1, 2 or 3. The format
// is that of npm's documentation ("package-lock.json").
type lockfile struct {
	file    string
	src     []byte
	doc     *jsondoc.Value
	version int
	entries map[string]*entry // by location; those of a version 1 lock too
}

// entry is what a lock says of one location.
type entry struct {
	loc        string
	name       string // of the package, where the location's differs
	version    string
	link       bool
	resolved   string
	integrity  string
	deprecated string
	inBundle   bool
	text       []byte         // the entry's bytes, for versions 2 and 3
	value      *jsondoc.Value // the entry of a version 1 lock
	body       *body          // nil in a version 1 lock, which does not repeat it
}

func readLock(fsys fs.FS, file string) (*lockfile, error) {
	l := &lockfile{file: file, entries: map[string]*entry{}}
	var err error
	if l.src, err = fs.ReadFile(fsys, file); err != nil {
		return nil, unreadable("reading the lock", file, err)
	}
	if l.doc, err = jsondoc.Parse(file, l.src); err != nil {
		return nil, err
	}
	if v := l.doc.Get("lockfileVersion"); v != nil {
		_, _ = fmt.Sscan(v.Text, &l.version)
	}
	packages := l.doc.Get("packages")
	switch {
	case packages != nil && (l.version == 2 || l.version == 3):
		for _, m := range packages.Members {
			if err := l.readEntry(m); err != nil {
				return nil, err
			}
		}
		if old := l.doc.Get("dependencies"); old != nil {
			for _, m := range old.Members {
				m.Value.Members = nil // only written anew, never read
			}
		}
	case l.version == 1:
		if err := l.readOld(l.doc.Get("dependencies"), ""); err != nil {
			return nil, err
		}
	default:
		return nil, &model.Fault{
			Doing: "reading the lock", File: file, Line: 1,
			Wrong: fmt.Sprintf("lockfileVersion %d is not known (known are 1, 2 and 3)", l.version),
			Next:  "let npm write the lock anew, or update Bellwether",
		}
	}
	return l, nil
}

func (l *lockfile) fault(offset int, wrong string) error {
	return &model.Fault{
		Doing: "reading the lock", File: l.file,
		Line: model.LineOf(l.src, offset), Col: model.ColumnOf(l.src, offset), Wrong: wrong,
	}
}

func (l *lockfile) readEntry(m jsondoc.Member) error {
	loc := m.Name
	if loc != "" && !fs.ValidPath(loc) {
		return l.fault(m.Start, fmt.Sprintf("%q is not a place inside the project", loc))
	}
	if _, name, inModules := parentLoc(loc); inModules {
		if err := checkName(name); err != nil {
			return l.fault(m.Start, err.Error())
		}
	}
	if m.Value.Kind != '{' {
		return l.fault(m.Value.Start, fmt.Sprintf("the entry of %q is not an object", loc))
	}
	e := &entry{loc: loc, text: m.Value.Raw(l.src)}
	var raw rawRelease
	if err := json.Unmarshal(e.text, &raw, jsontext.AllowInvalidUTF8(true)); err != nil {
		return l.fault(m.Value.Start, fmt.Sprintf("the entry of %q: %v", loc, err))
	}
	b := raw.body()
	e.name, e.version = raw.Name, raw.Version
	b.Shrinkwrap = m.Value.Get("hasShrinkwrap").True()
	e.body = &b
	e.link = m.Value.Get("link").True()
	e.resolved, e.integrity = m.Value.Get("resolved").String(), m.Value.Get("integrity").String()
	e.inBundle = m.Value.Get("inBundle").True()
	e.deprecated = m.Value.Get("deprecated").String()
	l.entries[loc] = e
	m.Value.Members = nil // the entry and its text have it all
	return nil
}

// readOld reads the nested "dependencies" of a version 1 lock.
func (l *lockfile) readOld(dependencies *jsondoc.Value, parent string) error {
	if dependencies == nil {
		return nil
	}
	for _, m := range dependencies.Members {
		if err := checkName(m.Name); err != nil {
			return l.fault(m.Start, err.Error())
		}
		e := &entry{loc: strings.TrimPrefix(parent+"/node_modules/"+m.Name, "/"), value: m.Value, inBundle: m.Value.Get("bundled").True()}
		e.version = m.Value.Get("version").String()
		e.resolved, e.integrity = m.Value.Get("resolved").String(), m.Value.Get("integrity").String()
		if s := readSpec(m.Name, e.version); s.kind == specRange && s.prefix > 0 {
			e.name, e.version = s.name, s.text
		} else if s.kind != specRange {
			e.resolved, e.version = e.version, ""
		}
		l.entries[e.loc] = e
		if err := l.readOld(m.Value.Get("dependencies"), e.loc); err != nil {
			return err
		}
	}
	return nil
}

// locked is the project's tree as the lock has it, to be looked at only.
func (p *project) locked() *tree {
	p.once.Do(func() { p.kept = p.tree() })
	return p.kept
}

// tree is the project's tree as the lock has it, with the tops of the
// manifests; without a lock, just the tops. It is a new one each time, to be
// changed.
func (p *project) tree() *tree {
	t := newTree()
	if o := readOverrides(p.root); o != nil {
		t.root.scope = scope{o}
	}
	t.tops[p.dir] = t.root
	t.root.name, t.root.version = p.root.name, p.root.version
	t.setTop(t.root, topEdges(p.root))
	for _, m := range p.tops {
		top := &node{
			loc: relative(p.dir, m.dir), name: path.Base(m.dir), pkgName: m.name, version: m.version,
			above: t.root, kids: map[string]*node{}, member: p.members[m.dir], body: &m.body,
		}
		if top.pkgName == "" {
			top.pkgName = top.name
		}
		t.tops[m.dir] = top
		t.setTop(top, topEdges(m))
	}
	switch {
	case p.lock != nil:
		t.load(p.lock)
	case p.foreign != nil:
		p.foreign.hang(t, p)
	}
	for _, m := range p.tops {
		top := t.tops[m.dir]
		name := m.name
		if name == "" {
			name = path.Base(m.dir)
		}
		if k := t.root.kids[name]; top.member && (k == nil || k.linkTo != top) {
			t.add(t.root, name).linkTo = top
		}
	}
	for _, m := range p.manifests() {
		for _, d := range m.dependencies {
			if d.spec.kind != specFile {
				continue
			}
			target, err := d.spec.fileTarget(m.dir)
			if top := t.tops[target]; err == nil && top != nil {
				if k := t.tops[m.dir].resolve(d.name); k == nil || k.linkTo != top {
					t.add(t.root, d.name).linkTo = top
				}
			}
		}
	}
	t.spreadScopes()
	return t
}

// relative is the folder below base, "" for base itself.
func relative(base, dir string) string {
	if dir == base {
		return ""
	}
	if base == "." {
		return dir
	}
	return strings.TrimPrefix(dir, base+"/")
}

// load hangs the lock's entries into the tree. Entries of tops tell nothing
// that the manifests do not; entries whose place does not exist are left out.
func (t *tree) load(l *lockfile) {
	byLoc := map[string]*node{"": t.root}
	for _, top := range t.tops {
		byLoc[top.loc] = top
		top.entry = l.entries[top.loc]
	}
	t.root.entry = l.entries[""]
	links := map[*node]string{}
	// What lies above comes first.
	byDepth := map[int][]string{}
	for _, loc := range collated(l.entries) {
		d := depthOf(loc)
		byDepth[d] = append(byDepth[d], loc)
	}
	for _, depth := range slices.Sorted(maps.Keys(byDepth)) {
		for _, loc := range byDepth[depth] {
			parentAt, name, ok := parentLoc(loc)
			parent := byLoc[parentAt]
			if !ok || parent == nil {
				continue
			}
			e := l.entries[loc]
			n := t.add(parent, name)
			n.entry, n.body, n.inBundle, n.deprecate = e, e.body, e.inBundle, e.deprecated
			n.version, n.resolved, n.integrity = e.version, e.resolved, e.integrity
			if e.name != "" {
				n.pkgName = e.name
			}
			byLoc[loc] = n
			if e.link {
				links[n] = path.Clean(e.resolved)
			} else if n.body != nil {
				t.setEdges(n, bodyEdges(n.body, nil))
			}
		}
	}
	for n, where := range links {
		if top := byLoc[where]; top != nil && top.isTop() {
			n.linkTo = top
		} else {
			delete(n.parent.kids, n.name)
		}
	}
}

func parseVersion(text string) (version.Version, error) { return version.NPM{}.Parse(text) }

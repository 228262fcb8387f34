// Package lock reads locks: package-lock.json, and those of other clients of the npm protocol.
package lock

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/packagejson"
)

// File is a package-lock.json as found, of version 1, 2 or 3. The format
// is that of npm's documentation ("package-lock.json").
type File struct {
	File    string
	Src     []byte
	Doc     *jsondoc.Value
	Version int
	Entries map[string]*Entry // by location; those of a version 1 lock too
}

// Entry is what a lock says of one location.
type Entry struct {
	Loc        string
	Name       string // of the package, where the location's differs
	Version    string
	Link       bool
	Resolved   string
	Integrity  string
	Deprecated string
	InBundle   bool
	Flags      Flags
	Extraneous bool              // nothing needs it, as the client found
	Text       []byte            // the entry's bytes, for versions 2 and 3
	Value      *jsondoc.Value    // the entry of a version 1 lock
	Body       *packagejson.Body // nil in a version 1 lock, which does not repeat it
}

// Flags say by which dependencies alone a location is reached.
type Flags struct{ Dev, Optional, DevOptional, Peer bool }

// Read reads a package-lock.json or npm-shrinkwrap.json.
func Read(fsys fs.FS, file string) (*File, error) {
	l := &File{File: file, Entries: map[string]*Entry{}}
	var err error
	if l.Src, err = fs.ReadFile(fsys, file); err != nil {
		return nil, packagejson.Unreadable("reading the lock", file, err)
	}
	if l.Doc, err = jsondoc.Parse(file, l.Src); err != nil {
		return nil, err
	}
	if v := l.Doc.Get("lockfileVersion"); v != nil {
		_, _ = fmt.Sscan(v.Text, &l.Version)
	}
	packages := l.Doc.Get("packages")
	switch {
	case packages != nil && (l.Version == 2 || l.Version == 3):
		for _, m := range packages.Members {
			if err := l.readEntry(m); err != nil {
				return nil, err
			}
		}
		if old := l.Doc.Get("dependencies"); old != nil {
			for _, m := range old.Members {
				m.Value.Members = nil // only written anew, never read
			}
		}
	case l.Version == 1:
		if err := l.readOld(l.Doc.Get("dependencies"), ""); err != nil {
			return nil, err
		}
	default:
		return nil, &model.Fault{
			Doing: "reading the lock", File: file, Line: 1,
			Wrong: fmt.Sprintf("lockfileVersion %d is not known (known are 1, 2 and 3)", l.Version),
			Next:  "let npm write the lock anew, or update Bellwether",
		}
	}
	return l, nil
}

func (l *File) fault(offset int, wrong string) error {
	return &model.Fault{
		Doing: "reading the lock", File: l.File,
		Line: model.LineOf(l.Src, offset), Col: model.ColumnOf(l.Src, offset), Wrong: wrong,
	}
}

func (l *File) readEntry(m jsondoc.Member) error {
	loc := m.Name
	if loc != "" && !fs.ValidPath(loc) {
		return l.fault(m.Start, fmt.Sprintf("%q is not a place inside the project", loc))
	}
	if _, name, inModules := ParentLoc(loc); inModules {
		if err := packagejson.CheckName(name); err != nil {
			return l.fault(m.Start, err.Error())
		}
	}
	if m.Value.Kind != '{' {
		return l.fault(m.Value.Start, fmt.Sprintf("the entry of %q is not an object", loc))
	}
	e := &Entry{Loc: loc, Text: m.Value.Raw(l.Src)}
	var raw packagejson.RawRelease
	if err := json.Unmarshal(e.Text, &raw, jsontext.AllowInvalidUTF8(true)); err != nil {
		return l.fault(m.Value.Start, fmt.Sprintf("the entry of %q: %v", loc, err))
	}
	b := raw.Body()
	e.Name, e.Version = raw.Name, raw.Version
	b.Shrinkwrap = m.Value.Get("hasShrinkwrap").True()
	e.Body = &b
	e.Link = m.Value.Get("link").True()
	e.Resolved, e.Integrity = m.Value.Get("resolved").String(), m.Value.Get("integrity").String()
	e.InBundle = m.Value.Get("inBundle").True()
	e.Deprecated = m.Value.Get("deprecated").String()
	e.Flags = Flags{
		Dev: m.Value.Get("dev").True(), Optional: m.Value.Get("optional").True(),
		DevOptional: m.Value.Get("devOptional").True(), Peer: m.Value.Get("peer").True(),
	}
	e.Extraneous = m.Value.Get("extraneous") != nil
	l.Entries[loc] = e
	m.Value.Members = nil // the entry and its text have it all
	return nil
}

// readOld reads the nested "dependencies" of a version 1 lock.
func (l *File) readOld(dependencies *jsondoc.Value, parent string) error {
	if dependencies == nil {
		return nil
	}
	for _, m := range dependencies.Members {
		if err := packagejson.CheckName(m.Name); err != nil {
			return l.fault(m.Start, err.Error())
		}
		e := &Entry{Loc: strings.TrimPrefix(parent+"/node_modules/"+m.Name, "/"), Value: m.Value, InBundle: m.Value.Get("bundled").True()}
		e.Version = m.Value.Get("version").String()
		e.Resolved, e.Integrity = m.Value.Get("resolved").String(), m.Value.Get("integrity").String()
		if s := packagejson.ReadSpec(m.Name, e.Version); s.Kind == packagejson.SpecRange && s.Prefix > 0 {
			e.Name, e.Version = s.Name, s.Text
		} else if s.Kind != packagejson.SpecRange {
			e.Resolved, e.Version = e.Version, ""
		}
		l.Entries[e.Loc] = e
		if err := l.readOld(m.Value.Get("dependencies"), e.Loc); err != nil {
			return err
		}
	}
	return nil
}

// Relative is the folder below base, "" for base itself.
func Relative(base, dir string) string {
	if dir == base {
		return ""
	}
	if base == "." {
		return dir
	}
	return strings.TrimPrefix(dir, base+"/")
}

// ParentLoc splits a location into the one it is in and the folder's name:
// "a/node_modules/@s/b" gives "a" and "@s/b". ok is false for a top's.
func ParentLoc(loc string) (parent, name string, ok bool) {
	at := strings.LastIndex("/"+loc, "/node_modules/")
	if at < 0 {
		return "", path.Base(loc), false
	}
	return strings.TrimSuffix(loc[:max(at-1, 0)], "/"), loc[at+len("node_modules/"):], true
}

package project

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"golang.org/x/mod/modfile"
	"golang.org/x/mod/module"

	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/selection"
)

// ModInfo is what counts of a dependency's go.mod.
type ModInfo struct {
	Hash       string // h1 of the file; empty for one that lies in a folder
	Path       string // what it calls itself
	GoVersion  string // empty if it states none
	Requires   []module.Version
	retracts   []modfile.VersionInterval
	reasons    []string // of the retractions
	Deprecated string
	Legacy     bool // the module has no go.mod, the proxy made one up
}

// ReadModInfo reads the go.mod of a fetched version.
func ReadModInfo(m module.Version, data []byte) (*ModInfo, error) {
	f, err := modfile.ParseLax(m.Path+"@"+m.Version+"/go.mod", data, nil)
	if err != nil {
		return nil, syntaxFault(m.Path+"@"+m.Version+"/go.mod", data, err)
	}
	i := summarize(f)
	i.Legacy = string(data) == "module "+modfile.AutoQuote(m.Path)+"\n"
	i.Hash, err = hashMod(data)
	return i, err
}

func summarize(f *modfile.File) *ModInfo {
	i := &ModInfo{}
	if f.Module != nil {
		i.Path, i.Deprecated = f.Module.Mod.Path, strings.Join(strings.Fields(f.Module.Deprecated), " ")
	}
	if f.Go != nil {
		i.GoVersion = f.Go.Version
	}
	for _, q := range f.Require {
		i.Requires = append(i.Requires, q.Mod)
	}
	for _, t := range f.Retract {
		i.retracts, i.reasons = append(i.retracts, t.VersionInterval), append(i.reasons, strings.Join(strings.Fields(t.Rationale), " "))
	}
	return i
}

// Retraction tells whether the module's author took a version back, and why.
func (i *ModInfo) Retraction(v string) (why string, yes bool) {
	for k, interval := range i.retracts {
		if selection.CompareVersions("", v, interval.Low) >= 0 && selection.CompareVersions("", v, interval.High) <= 0 {
			return i.reasons[k], true
		}
	}
	return "", false
}

// LocalInfo reads the go.mod of a folder that a replace line or a workspace
// puts in a module's place.
func (p *Project) LocalInfo(dir string) (*ModInfo, error) {
	file := path.Join(dir, "go.mod")
	data, err := imports.ReadFile(p.Fsys, file)
	if err != nil {
		return nil, err
	}
	f, err := modfile.ParseLax(file, data, nil)
	if err != nil {
		return nil, syntaxFault(file, data, err)
	}
	return summarize(f), nil
}

// source is where a module's files come from: a folder of the project, or a
// version of the same or another path.
type source struct {
	Dir string // relative to the project; empty for fetched
	Mod module.Version
}

// Source follows replace lines and the workspace.
func (p *Project) Source(m module.Version) (source, error) {
	if r := p.Replacement(m); r != nil {
		if r.New.Version != "" {
			return source{Mod: r.New}, nil
		}
		dir := path.Join(p.Dir, r.New.Path)
		fault := &model.Fault{Doing: "reading what replaces " + m.Path, File: p.File, Line: r.Syntax.Start.Line}
		if path.IsAbs(r.New.Path) || !fs.ValidPath(dir) {
			fault.Wrong, fault.Next = r.New.Path+" lies outside the project", "give the folder that holds both with --project"
			return source{}, fault
		}
		if _, err := fs.Stat(p.Fsys, path.Join(dir, "go.mod")); err != nil {
			fault.Wrong = fmt.Sprintf("there is no go.mod in %s", r.New.Path)
			fault.Next = "bring the folder back, or drop the replace line"
			return source{}, fault
		}
		return source{Dir: dir}, nil
	}
	if p.Work != nil {
		// Only what was never published is read from the workspace: go.sum knows the
		// rest, and has to go on knowing it where the workspace is not there.
		if dir, ok := p.Work.Members[m.Path]; ok && p.Sum.Hashes[ModKey(m)] == nil {
			return source{Dir: dir}, nil
		}
	}
	return source{Mod: m}, nil
}

// Misnamed is the error of a module that calls itself something else than it
// is asked for as.
type Misnamed struct {
	M    module.Version
	Name string
}

// Error says what it calls itself.
func (e *Misnamed) Error() string {
	return fmt.Sprintf("%s %s calls itself %s in its go.mod, so it cannot be required as %s", e.M.Path, e.M.Version, e.Name, e.M.Path)
}

// Mismatch is the error of a hash that is not the one that go.sum knows.
func (p *Project) Mismatch(m module.Version, hash string) error {
	line := 0
	for n, text := range strings.Split(string(p.Sum.Src), "\n") {
		if strings.HasPrefix(text, m.Path+" "+m.Version+" ") {
			line = n + 1
			break
		}
	}
	return &model.Fault{
		Doing: "checking what was fetched", File: p.SumFile, Line: line, Found: true,
		Wrong: fmt.Sprintf("SECURITY: %s %s has the hash %s, not the one that stands here", m.Path, m.Version, hash),
		Next: "find out which of the two is genuine before anything else (what was fetched is kept below bellwether in the " +
			"user's cache folder); nothing was written",
	}
}

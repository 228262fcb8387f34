package gomod

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"golang.org/x/mod/modfile"
	"golang.org/x/mod/module"

	"bellwether/internal/core/model"
	versions "bellwether/internal/core/version"
	"bellwether/internal/host/within"
)

// modInfo is what counts of a dependency's go.mod.
type modInfo struct {
	hash       string // h1 of the file; empty for one that lies in a folder
	path       string // what it calls itself
	goVersion  string // empty if it states none
	requires   []version
	retracts   []modfile.VersionInterval
	reasons    []string // of the retractions
	deprecated string
	legacy     bool // the module has no go.mod, the proxy made one up
}

// prunes tells whether a go.mod that states this Go lists all that is needed
// to build its module (since Go 1.17).
func prunes(goVersion string) bool {
	return goVersion != "" && compareGo(goVersion, "1.17") >= 0
}

// compareGo orders releases of Go; what is none comes first.
func compareGo(a, b string) int { return compareIn(versions.GoRelease{}, a, b) }

// compareVersions orders versions of one path, "go" among them. None at all
// comes before all others.
func compareVersions(path, a, b string) int {
	switch {
	case a == b:
		return 0
	case path == "go":
		return compareGo(a, b)
	}
	return compareIn(versions.GoMod{}, a, b)
}

func compareIn(order versions.Order, a, b string) int {
	va, errA := order.Parse(a)
	vb, errB := order.Parse(b)
	switch {
	case errA != nil && errB != nil:
		return 0
	case errA != nil:
		return -1
	case errB != nil:
		return 1
	}
	return va.Compare(vb)
}

// modInfo reads the go.mod of a version, from the module cache if it is there.
func (r *registry) modInfo(ctx context.Context, m version) (*modInfo, error) {
	return r.mods.get(m, func() (*modInfo, error) {
		if data, err := within.Plain(r.cached(m, ".mod"), maxModFile); err == nil {
			return readModInfo(m, data)
		}
		escaped, err := module.EscapeVersion(m.Version)
		if err != nil {
			return nil, err
		}
		data, err := r.ask(ctx, document{module: m.Path, file: "@v/" + escaped + ".mod", form: "mod/1", limit: maxModFile, forever: true})
		if err != nil {
			return nil, &unavailable{m, err}
		}
		return readModInfo(m, data)
	})
}

func readModInfo(m version, data []byte) (*modInfo, error) {
	f, err := modfile.ParseLax(m.Path+"@"+m.Version+"/go.mod", data, nil)
	if err != nil {
		return nil, syntaxFault(m.Path+"@"+m.Version+"/go.mod", data, err)
	}
	i := summarize(f)
	i.legacy = string(data) == "module "+modfile.AutoQuote(m.Path)+"\n"
	i.hash, err = hashMod(data)
	return i, err
}

func summarize(f *modfile.File) *modInfo {
	i := &modInfo{}
	if f.Module != nil {
		i.path, i.deprecated = f.Module.Mod.Path, strings.Join(strings.Fields(f.Module.Deprecated), " ")
	}
	if f.Go != nil {
		i.goVersion = f.Go.Version
	}
	for _, q := range f.Require {
		i.requires = append(i.requires, q.Mod)
	}
	for _, t := range f.Retract {
		i.retracts, i.reasons = append(i.retracts, t.VersionInterval), append(i.reasons, strings.Join(strings.Fields(t.Rationale), " "))
	}
	return i
}

// retraction tells whether the module's author took a version back, and why.
func (i *modInfo) retraction(v string) (why string, yes bool) {
	for k, interval := range i.retracts {
		if compareVersions("", v, interval.Low) >= 0 && compareVersions("", v, interval.High) <= 0 {
			return i.reasons[k], true
		}
	}
	return "", false
}

// localInfo reads the go.mod of a folder that a replace line or a workspace
// puts in a module's place.
func (p *project) localInfo(dir string) (*modInfo, error) {
	file := path.Join(dir, "go.mod")
	data, err := readFile(p.fsys, file)
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
	dir string // relative to the project; empty for fetched
	mod version
}

// source follows replace lines and the workspace.
func (p *project) source(m version) (source, error) {
	if r := p.replacement(m); r != nil {
		if r.New.Version != "" {
			return source{mod: r.New}, nil
		}
		dir := path.Join(p.dir, r.New.Path)
		fault := &model.Fault{Doing: "reading what replaces " + m.Path, File: p.file, Line: r.Syntax.Start.Line}
		if path.IsAbs(r.New.Path) || !fs.ValidPath(dir) {
			fault.Wrong, fault.Next = r.New.Path+" lies outside the project", "give the folder that holds both with --project"
			return source{}, fault
		}
		if _, err := fs.Stat(p.fsys, path.Join(dir, "go.mod")); err != nil {
			fault.Wrong = fmt.Sprintf("there is no go.mod in %s", r.New.Path)
			fault.Next = "bring the folder back, or drop the replace line"
			return source{}, fault
		}
		return source{dir: dir}, nil
	}
	if p.work != nil {
		// Only what was never published is read from the workspace: go.sum knows the
		// rest, and has to go on knowing it where the workspace is not there.
		if dir, ok := p.work.members[m.Path]; ok && p.sum.hashes[modKey(m)] == nil {
			return source{dir: dir}, nil
		}
	}
	return source{mod: m}, nil
}

// infoOf reads the go.mod that counts for a module in this project, and checks
// that it belongs to it.
func (r *registry) infoOf(ctx context.Context, p *project, m version) (*modInfo, error) {
	s, err := p.source(m)
	if err != nil {
		return nil, err
	}
	if s.dir != "" {
		i, err := p.localInfo(s.dir)
		if err == nil && i.path != m.Path {
			line := p.replacement(m)
			if line == nil || i.path == "" {
				return i, nil
			}
			return nil, &model.Fault{
				Doing: "reading what replaces " + m.Path, File: p.file, Line: line.Syntax.Start.Line,
				Wrong: fmt.Sprintf(
					"the module in %s calls itself %s", line.New.Path, i.path,
				), Next: "replace " + i.path + " instead, or mend its module line",
			}
		}
		return i, err
	}
	i, err := r.modInfo(ctx, s.mod)
	if err != nil {
		return nil, err
	}
	if i.path != m.Path && i.path != "" && s.mod == m {
		return nil, &unavailable{m, &misnamed{m, i.path}}
	}
	if i.hash != "" {
		if same, known := p.sum.has(modKey(s.mod), i.hash); known && !same {
			return nil, p.mismatch(modKey(s.mod), i.hash)
		}
	}
	return i, nil
}

// misnamed is the error of a module that calls itself something else than it
// is asked for as.
type misnamed struct {
	m    version
	name string
}

func (e *misnamed) Error() string {
	return fmt.Sprintf("%s %s calls itself %s in its go.mod, so it cannot be required as %s", e.m.Path, e.m.Version, e.name, e.m.Path)
}

// mismatch is the error of a hash that is not the one that go.sum knows.
func (p *project) mismatch(m version, hash string) error {
	line := 0
	for n, text := range strings.Split(string(p.sum.src), "\n") {
		if strings.HasPrefix(text, m.Path+" "+m.Version+" ") {
			line = n + 1
			break
		}
	}
	return &model.Fault{
		Doing: "checking what was fetched", File: p.sumFile, Line: line, Found: true,
		Wrong: fmt.Sprintf("SECURITY: %s %s has the hash %s, not the one that stands here", m.Path, m.Version, hash),
		Next: "find out which of the two is genuine before anything else (what was fetched is kept below bellwether in the " +
			"user's cache folder); nothing was written",
	}
}

package npm

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/core/version"
	"bellwether/internal/core/yamldoc"
)

// foreign is the lock of another client of the npm protocol, as far as it tells
// what is locked. It is that client which writes it.
type foreign struct {
	client   string // its command
	file     string
	packages []foreignPackage
	// direct gives the version of a requirement by the folder of its manifest, its
	// name and its value there; "" if the lock does not tell.
	direct func(dir, name, value string) string
	fetch  []string // the command that installs, and brings the lock up to date
}

// foreignPackage is a package that a lock names.
type foreignPackage struct {
	name, version string
	line          int
}

// readForeign reads the lock of another client in dir; nil if there is none.
func readForeign(fsys fs.FS, dir string) (*foreign, error) {
	for _, kind := range []struct {
		name string
		read func(f *foreign, src []byte) error
	}{{"yarn.lock", (*foreign).readYarn}, {"pnpm-lock.yaml", (*foreign).readPNPM}} {
		f := &foreign{file: path.Join(dir, kind.name)}
		src, err := fs.ReadFile(fsys, f.file)
		if err != nil {
			continue
		}
		if err := kind.read(f, src); err != nil {
			return nil, err
		}
		slices.SortStableFunc(f.packages, func(a, b foreignPackage) int { return collate(a.name+"@"+a.version, b.name+"@"+b.version) })
		f.packages = slices.CompactFunc(f.packages, func(a, b foreignPackage) bool { return a.name == b.name && a.version == b.version })
		return f, nil
	}
	return nil, nil
}

// readYarn reads a yarn.lock of either generation. The first is a form of its own:
// names with ranges, a colon, and indented fields; the second is YAML with
// "__metadata", the ranges of which name their protocol.
func (f *foreign) readYarn(src []byte) error {
	f.client, f.fetch = "yarn", []string{"yarn", "install", "--non-interactive"}
	entries := map[string]string{}
	note := func(key, locked string, line int) {
		name := ""
		for _, text := range strings.Split(key, ",") {
			var own, value string
			own, name, value = yarnDescriptor(strings.Trim(strings.TrimSpace(text), `"`))
			entries[own+"@"+value] = locked
			if own == name {
				entries[own+"@"+strings.TrimPrefix(value, "npm:")] = locked
			}
		}
		if checkName(name) == nil && locked != "" {
			f.packages = append(f.packages, foreignPackage{name, locked, line})
		}
	}
	f.direct = func(_, name, value string) string { return entries[name+"@"+value] }
	if bytes.Contains(src, []byte("__metadata:")) {
		f.fetch = []string{"yarn", "install", "--no-immutable"}
		doc, err := readMapping(f.file, src)
		if err != nil {
			return err
		}
		for key, n := range yamldoc.Pairs(doc) {
			if key.Value == "__metadata" || n.Kind != yaml.MappingNode || strings.Contains(key.Value, "@workspace:") {
				continue
			}
			note(key.Value, yamldoc.Text(yamldoc.Get(n, "version")), key.Line)
		}
		return nil
	}
	key, keyLine := "", 0
	line := 0
	for text := range strings.Lines(string(src)) {
		line++
		trimmed := strings.TrimSpace(text)
		switch {
		case trimmed == "" || trimmed[0] == '#':
		case text[0] != ' ' && text[0] != '\t':
			k, ok := strings.CutSuffix(trimmed, ":")
			if !ok {
				return &model.Fault{
					Doing: "reading the lock", File: f.file, Line: line, Wrong: "this is no entry of a yarn.lock", Next: "let yarn write it anew",
				}
			}
			key, keyLine = k, line
		case key != "" && strings.HasPrefix(trimmed, "version "):
			note(key, strings.Trim(trimmed[len("version "):], `"`), keyLine)
			key = ""
		}
	}
	return nil
}

// yarnDescriptor takes "left@^1.0.0", "left@npm:^1.0.0" or the alias
// "port@npm:left@^1.0.0" apart: what it is called, the package, and the value.
func yarnDescriptor(text string) (own, name, value string) {
	at := strings.Index(text[min(1, len(text)):], "@") + 1
	if at <= 0 {
		return text, text, ""
	}
	own, value = text[:at], text[at+1:]
	if of := strings.TrimPrefix(value, "npm:"); of != value {
		if end := strings.Index(of[min(1, len(of)):], "@") + 1; end > 0 {
			return own, of[:end], value
		}
	}
	return own, own, value
}

// readMapping reads a file of YAML that is a mapping, such as a lock. It may have very many keys, each once.
func readMapping(file string, src []byte) (*yaml.Node, error) {
	doc, err := yamldoc.Parse(file, src)
	if err != nil {
		return nil, err
	}
	if err := doc.Distinct(maxLocked); err != nil {
		return nil, err
	}
	if len(doc.Roots) == 0 {
		return &yaml.Node{}, nil
	}
	if root := doc.Roots[0]; root.Kind != yaml.MappingNode {
		return nil, doc.Fault("reading YAML", root, "a mapping is wanted here")
	}
	return doc.Roots[0], nil
}

// maxLocked bounds how many keys stand beside each other in a lock.
const maxLocked = 1_000_000

// pnpmImporter are the dependencies that a pnpm-lock.yaml says of one manifest, by their names.
type pnpmImporter map[string]*yaml.Node

// pnpmGroups are the groups of dependencies, the first one that has a name counts.
var pnpmGroups = []string{"dependencies", "devDependencies", "optionalDependencies"}

func readImporter(n *yaml.Node) pnpmImporter {
	all := pnpmImporter{}
	for _, group := range pnpmGroups {
		for name, value := range yamldoc.Pairs(yamldoc.Get(n, group)) {
			if all[name.Value] == nil {
				all[name.Value] = value
			}
		}
	}
	return all
}

// readPNPM reads a pnpm-lock.yaml of the versions 5, 6 or 9.
func (f *foreign) readPNPM(src []byte) error {
	f.client, f.fetch = "pnpm", []string{"pnpm", "install", "--no-frozen-lockfile"}
	doc, err := readMapping(f.file, src)
	if err != nil {
		return err
	}
	importers := map[string]pnpmImporter{}
	if list := yamldoc.Get(doc, "importers"); list != nil {
		for dir, n := range yamldoc.Pairs(list) {
			importers[dir.Value] = readImporter(n)
		}
	} else {
		importers["."] = readImporter(doc)
	}
	for key := range yamldoc.Pairs(yamldoc.Get(doc, "packages")) {
		if name, version, ok := pnpmPackage(key.Value); ok {
			f.packages = append(f.packages, foreignPackage{name, version, key.Line})
		}
	}
	base := path.Dir(f.file)
	f.direct = func(dir, name, _ string) string {
		n := importers[cmpDot(relative(base, dir))][name]
		if n == nil {
			return ""
		}
		text := yamldoc.Text(n)
		if n.Kind == yaml.MappingNode {
			text = yamldoc.Text(yamldoc.Get(n, "version"))
		}
		if _, version, ok := pnpmPackage(text); ok { // of an alias: "lodash@4.17.21", "/lodash/4.17.21"
			return version
		}
		return pnpmVersion(text)
	}
	return nil
}

func cmpDot(dir string) string {
	if dir == "" {
		return "."
	}
	return dir
}

// pnpmVersion is a version without what it stands beside: "1.0.0(left@2.0.0)", and
// up to version 5 of the form, "1.0.0_left@2.0.0".
func pnpmVersion(text string) string {
	text, _, _ = strings.Cut(text, "(")
	text, _, _ = strings.Cut(text, "_")
	return text
}

// pnpmPackage takes the key of a package apart: "/left/1.0.0", "/left@1.0.0" or
// "left@1.0.0", with what it stands beside.
func pnpmPackage(key string) (name, version string, ok bool) {
	text, _, _ := strings.Cut(key, "(")
	rest, rooted := strings.CutPrefix(text, "/")
	at := strings.LastIndex(rest, "@")
	if at <= 0 && rooted { // version 5
		at = strings.LastIndex(rest, "/")
	} else if rooted && strings.Contains(rest[:max(at, 0)], "_") {
		at = strings.LastIndex(rest[:strings.Index(rest, "_")], "/")
	}
	if at <= 0 {
		return "", "", false
	}
	name, version = rest[:at], pnpmVersion(rest[at+1:])
	if _, err := parseVersion(version); err != nil || checkName(name) != nil {
		return "", "", false
	}
	return name, version, true
}

// hang puts what the lock tells of the manifests' requirements into the tree.
func (f *foreign) hang(t *tree, p *project) {
	for _, m := range p.manifests() {
		top := t.tops[m.dir]
		for _, d := range m.dependencies {
			value, rng := d.spec.text, d.spec.rng
			if d.spec.prefix > 0 {
				value = "npm:" + d.spec.name + "@" + d.spec.text
			}
			locked := f.direct(m.dir, d.name, value)
			if rule := p.ruling(d); rule != nil {
				rng = readSpec(d.name, rule.String()).rng
				locked = cmp.Or(locked, f.direct(m.dir, d.name, rule.String()))
			}
			if v, err := parseVersion(locked); rng != nil && (err != nil || !rng.Contains(v)) {
				locked = atLeast(rng)
			}
			if locked != "" && top.kids[d.name] == nil && !p.isMember(d.name) {
				n := t.add(top, d.name)
				n.pkgName, n.version = d.spec.name, locked
			}
		}
	}
}

// ruling is where the root's manifest lays down which versions of a requirement
// everybody gets, whatever they ask for; nil if it does not. Yarn has "resolutions",
// whose names may have a path before them, and pnpm has overrides of its own besides.
func (p *project) ruling(d dependency) *jsondoc.Value {
	if p.foreign == nil {
		return nil
	}
	objects := []*jsondoc.Value{p.root.doc.Get("resolutions")}
	if p.foreign.client == "pnpm" {
		objects = append(objects, p.root.doc.At("pnpm", "overrides"))
	}
	for _, object := range objects {
		if object == nil || object.Kind != '{' {
			continue
		}
		for _, member := range object.Members {
			name, of := strings.TrimPrefix(member.Name, "**/"), ""
			if at := strings.LastIndex(name, "@"); at > 0 {
				name, of = name[:at], strings.TrimPrefix(name[at+1:], "npm:")
			}
			if name != d.name || of != "" && of != d.spec.text || member.Value.Kind != '"' {
				continue
			}
			if s := readSpec(name, member.Value.String()); s.kind == specRange && s.prefix == 0 {
				return member.Value
			}
		}
	}
	return nil
}

// atLeast is the version that a range begins with, which stands for what will be
// locked once the client has seen the range.
func atLeast(rng version.Range) string {
	if bounds := version.Bounds(version.NPM{}, rng); len(bounds) > 0 {
		return bounds[0].String()
	}
	return ""
}

// byHand is what a person does where the client is not installed.
func (f *foreign) byHand() string {
	return fmt.Sprintf(
		"%s is not installed here: run %s yourself, and commit %s with the leg", f.client, strings.Join(f.fetch, " "), path.Base(f.file),
	)
}

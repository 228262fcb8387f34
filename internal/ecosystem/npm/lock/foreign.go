package lock

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
	"bellwether/internal/ecosystem/npm/packagejson"
)

// Foreign is the lock of another client of the npm protocol, as far as it tells
// what is locked. It is that client which writes it.
type Foreign struct {
	Client   string // its command
	File     string
	Packages []ForeignPackage
	// direct gives the version of a requirement by the folder of its manifest, its
	// name and its value there; "" if the lock does not tell.
	Direct func(dir, name, value string) string
	Fetch  []string // the command that installs, and brings the lock up to date
}

// ForeignPackage is a package that a lock names.
type ForeignPackage struct {
	Name, Version string
	Line          int
}

// ReadForeign reads the lock of another client in dir; nil if there is none.
func ReadForeign(fsys fs.FS, dir string) (*Foreign, error) {
	for _, kind := range []struct {
		name string
		read func(f *Foreign, src []byte) error
	}{{"yarn.lock", (*Foreign).readYarn}, {"pnpm-lock.yaml", (*Foreign).readPNPM}} {
		f := &Foreign{File: path.Join(dir, kind.name)}
		src, err := fs.ReadFile(fsys, f.File)
		if err != nil {
			continue
		}
		if err := kind.read(f, src); err != nil {
			return nil, err
		}
		slices.SortStableFunc(f.Packages, func(a, b ForeignPackage) int {
			return packagejson.Collate(a.Name+"@"+a.Version, b.Name+"@"+b.Version)
		})
		f.Packages = slices.CompactFunc(f.Packages, func(a, b ForeignPackage) bool { return a.Name == b.Name && a.Version == b.Version })
		return f, nil
	}
	return nil, nil
}

// readYarn reads a yarn.lock of either generation. The first is a form of its own:
// names with ranges, a colon, and indented fields; the second is YAML with
// "__metadata", the ranges of which name their protocol.
func (f *Foreign) readYarn(src []byte) error {
	f.Client, f.Fetch = "yarn", []string{"yarn", "install", "--non-interactive"}
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
		if packagejson.CheckName(name) == nil && locked != "" {
			f.Packages = append(f.Packages, ForeignPackage{name, locked, line})
		}
	}
	f.Direct = func(_, name, value string) string { return entries[name+"@"+value] }
	if bytes.Contains(src, []byte("__metadata:")) {
		f.Fetch = []string{"yarn", "install", "--no-immutable"}
		doc, err := ReadMapping(f.File, src)
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
					Doing: "reading the lock", File: f.File, Line: line, Wrong: "this is no entry of a yarn.lock", Next: "let yarn write it anew",
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

// ReadMapping reads a file of YAML that is a mapping, such as a lock. It may have very many keys, each once.
func ReadMapping(file string, src []byte) (*yaml.Node, error) {
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
func (f *Foreign) readPNPM(src []byte) error {
	f.Client, f.Fetch = "pnpm", []string{"pnpm", "install", "--no-frozen-lockfile"}
	doc, err := ReadMapping(f.File, src)
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
			f.Packages = append(f.Packages, ForeignPackage{name, version, key.Line})
		}
	}
	base := path.Dir(f.File)
	f.Direct = func(dir, name, _ string) string {
		n := importers[cmpDot(Relative(base, dir))][name]
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
	if _, err := packagejson.ParseVersion(version); err != nil || packagejson.CheckName(name) != nil {
		return "", "", false
	}
	return name, version, true
}

// ByHand is what a person does where the client is not installed.
func (f *Foreign) ByHand() string {
	return fmt.Sprintf(
		"%s is not installed here: run %s yourself, and commit %s with the leg", f.Client, strings.Join(f.Fetch, " "), path.Base(f.File),
	)
}

package packagejson

import (
	"path"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// Terms are what a release asks of its surroundings. They stand apart from the
// body, since planning reads them of every release.
type Terms struct {
	_            struct{} `cbor:",toarray"`
	Peers        map[string]string
	PeerOptional []string // those of Peers that need not be there
	Node         string   // engines.node
	// Own are those of Peers that the package depends on as well, and so brings
	// along itself.
	Own []string
}

// PeerNames are the names of what the package has to meet, sorted.
func (t *Terms) PeerNames() []string {
	return slices.DeleteFunc(Collated(t.Peers), func(name string) bool { return slices.Contains(t.Own, name) })
}

// Body is what a package.json says that a lock file repeats or a resolver
// needs. The JSON texts are normalised as npm writes them to locks.
type Body struct {
	_            struct{} `cbor:",toarray"`
	Terms        `cbor:"-"`
	Dependencies map[string]string
	Optional     map[string]string
	PeersMeta    string // JSON
	Bundled      []string
	Engines      string // JSON
	OS           []string
	CPU          []string
	Libc         []string
	Funding      string // JSON
	License      string
	Bin          string // JSON
	Script       bool   // hasInstallScript
	Shrinkwrap   bool   // hasShrinkwrap
}

// looseMap is an object of strings; anything else in it is passed over, since
// old packages hold all kinds of things.
type looseMap map[string]string

func (m *looseMap) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	if d.PeekKind() != '{' {
		return d.SkipValue()
	}
	raw, err := d.ReadValue()
	if err != nil {
		return err
	}
	var values map[string]jsontext.Value
	if err := json.Unmarshal(raw, &values, jsontext.AllowDuplicateNames(true)); err != nil {
		return err
	}
	*m = looseMap{}
	for k, v := range values {
		var s string
		if v.Kind() == '"' && json.Unmarshal(v, &s) == nil {
			(*m)[k] = s
		}
	}
	return nil
}

// looseList is an array of strings, or one string; with true it is all, which
// bundleDependencies may say.
type looseList struct {
	items []string
	all   bool
}

func (l *looseList) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	raw, err := d.ReadValue()
	if err != nil {
		return err
	}
	switch raw.Kind() {
	case '[':
		_ = json.Unmarshal(raw, &l.items)
	case '"':
		var one string
		_ = json.Unmarshal(raw, &one)
		l.items = []string{one}
	case 't':
		l.all = true
	}
	return nil
}

// RawRelease is one version as the registry, or a package.json, states it.
type RawRelease struct {
	Name             string         `json:"name"`
	Version          string         `json:"version"`
	Dependencies     looseMap       `json:"dependencies"`
	Optional         looseMap       `json:"optionalDependencies"`
	Peers            looseMap       `json:"peerDependencies"`
	PeersMeta        jsontext.Value `json:"peerDependenciesMeta"`
	Bundle           looseList      `json:"bundleDependencies"`
	Bundled          looseList      `json:"bundledDependencies"`
	Engines          jsontext.Value `json:"engines"`
	OS               looseList      `json:"os"`
	CPU              looseList      `json:"cpu"`
	Libc             looseList      `json:"libc"`
	Funding          jsontext.Value `json:"funding"`
	License          jsontext.Value `json:"license"`
	Bin              jsontext.Value `json:"bin"`
	HasInstallScript bool           `json:"hasInstallScript"`
	Scripts          looseMap       `json:"scripts"`
	Shrinkwrap       jsontext.Value `json:"_hasShrinkwrap"`
	Deprecated       jsontext.Value `json:"deprecated"`
	Types            jsontext.Value `json:"types"`
	Typings          jsontext.Value `json:"typings"` // an older name of the same
	Dist             struct {
		Integrity string `json:"integrity"`
		Shasum    string `json:"shasum"`
		Tarball   string `json:"tarball"`
		// Attestations are of where and how the archive was built (in-toto, SLSA).
		Attestations jsontext.Value `json:"attestations"`
	} `json:"dist"`
}

// Body takes over what is kept, normalised.
func (r *RawRelease) Body() Body {
	b := Body{
		Terms: Terms{Peers: r.Peers}, Dependencies: r.Dependencies, Optional: r.Optional,
		PeersMeta: normalJSON(r.PeersMeta), Engines: normalJSON(r.Engines), Bin: r.normalBin(),
		OS: r.OS.items, CPU: r.CPU.items, Libc: r.Libc.items,
		Bundled: append(slices.Clone(r.Bundle.items), r.Bundled.items...),
		Script:  r.HasInstallScript || r.hasInstallScript(), Shrinkwrap: r.Shrinkwrap.Kind() == 't',
	}
	for name := range r.Optional {
		delete(b.Dependencies, name) // npm lists them in both
	}
	for _, name := range Collated(r.Peers) {
		_, needs := r.Dependencies[name]
		_, may := r.Optional[name]
		if needs || may {
			b.Own = append(b.Own, name)
		}
	}
	if r.Bundle.all || r.Bundled.all {
		b.Bundled = Collated(b.Dependencies)
	}
	slices.Sort(b.Bundled)
	b.Bundled = slices.Compact(b.Bundled)
	var engines struct {
		Node string `json:"node"`
	}
	if r.Engines.Kind() == '{' && json.Unmarshal(r.Engines, &engines) == nil {
		b.Node = engines.Node
	}
	var meta map[string]struct {
		Optional bool `json:"optional"`
	}
	if r.PeersMeta.Kind() == '{' && json.Unmarshal(r.PeersMeta, &meta) == nil {
		for name, m := range meta {
			if m.Optional {
				b.PeerOptional = append(b.PeerOptional, name)
			}
		}
		slices.Sort(b.PeerOptional)
	}
	switch r.Funding.Kind() {
	case '"':
		b.Funding = normalJSON(jsontext.Value(`{"url":` + string(r.Funding) + `}`))
	default:
		b.Funding = normalJSON(r.Funding)
	}
	switch r.License.Kind() {
	case '"':
		_ = json.Unmarshal(r.License, &b.License)
	case '{':
		var old struct {
			Type string `json:"type"`
		}
		_ = json.Unmarshal(r.License, &old)
		b.License = old.Type
	}
	return b
}

func (r *RawRelease) hasInstallScript() bool {
	return r.Scripts["preinstall"] != "" || r.Scripts["install"] != "" || r.Scripts["postinstall"] != ""
}

// normalBin gives bin as an object of names and clean relative paths.
func (r *RawRelease) normalBin() string {
	bin := looseMap{}
	switch r.Bin.Kind() {
	case '"':
		var file string
		_ = json.Unmarshal(r.Bin, &file)
		bin[r.Name[strings.LastIndex(r.Name, "/")+1:]] = file
	case '{':
		_ = json.Unmarshal(r.Bin, &bin)
	}
	clean := map[string]string{}
	for name, file := range bin {
		name = path.Base(strings.ReplaceAll(name, "\\", "/"))
		file = strings.TrimPrefix(path.Clean("/"+strings.ReplaceAll(file, "\\", "/")), "/")
		if name != "" && name != "." && file != "" {
			clean[name] = file
		}
	}
	if len(clean) == 0 {
		return ""
	}
	text, _ := json.Marshal(clean, json.Deterministic(true))
	return string(text)
}

// normalJSON gives an object or array on one line, "" for empty ones and all
// that is neither.
func normalJSON(v jsontext.Value) string {
	if v.Kind() != '{' && v.Kind() != '[' {
		return ""
	}
	v = slices.Clone(v)
	if v.Compact() != nil || len(v) == 2 {
		return ""
	}
	return string(v)
}

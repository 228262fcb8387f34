package npm

import (
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/jsondoc"
	"bellwether/internal/ecosystem"
)

// compactForm names the form below; a change of it must change the name.
const compactForm = "npm-package/6"

// compactPackage is what is kept of a package document: what resolving and
// lock writing need, and nothing else.
type compactPackage struct {
	_        struct{} `cbor:",toarray"`
	Name     string
	Base     string // the registry's address
	Tags     map[string]string
	Releases []compactRelease // in the order of the document
	Bodies   []cbor.RawMessage
	Terms    []terms
}

// compactRelease is one version; many share a body.
type compactRelease struct {
	_          struct{} `cbor:",toarray"`
	Version    string
	Published  int64 // Unix seconds, 0 if not stated
	Integrity  string
	Tarball    string // empty for the usual place
	Deprecated string
	Body       int  // index into Bodies
	Terms      int  // index into Terms
	Attested   bool // its provenance is attested
	Typed      bool // it describes its types itself
}

// terms are what a release asks of its surroundings. They stand apart from the
// body, since planning reads them of every release.
type terms struct {
	_            struct{} `cbor:",toarray"`
	Peers        map[string]string
	PeerOptional []string // those of Peers that need not be there
	Node         string   // engines.node
	// Own are those of Peers that the package depends on as well, and so brings
	// along itself.
	Own []string
}

// peers are the names of what the package has to meet, sorted.
func (t *terms) peers() []string {
	return slices.DeleteFunc(collated(t.Peers), func(name string) bool { return slices.Contains(t.Own, name) })
}

// body is what a package.json says that a lock file repeats or a resolver
// needs. The JSON texts are normalised as npm writes them to locks.
type body struct {
	_            struct{} `cbor:",toarray"`
	terms        `cbor:"-"`
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

// rawRelease is one version as the registry, or a package.json, states it.
type rawRelease struct {
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

// body takes over what is kept, normalised.
func (r *rawRelease) body() body {
	b := body{
		terms: terms{Peers: r.Peers}, Dependencies: r.Dependencies, Optional: r.Optional,
		PeersMeta: normalJSON(r.PeersMeta), Engines: normalJSON(r.Engines), Bin: r.normalBin(),
		OS: r.OS.items, CPU: r.CPU.items, Libc: r.Libc.items,
		Bundled: append(slices.Clone(r.Bundle.items), r.Bundled.items...),
		Script:  r.HasInstallScript || r.hasInstallScript(), Shrinkwrap: r.Shrinkwrap.Kind() == 't',
	}
	for name := range r.Optional {
		delete(b.Dependencies, name) // npm lists them in both
	}
	for _, name := range collated(r.Peers) {
		_, needs := r.Dependencies[name]
		_, may := r.Optional[name]
		if needs || may {
			b.Own = append(b.Own, name)
		}
	}
	if r.Bundle.all || r.Bundled.all {
		b.Bundled = collated(b.Dependencies)
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

func (r *rawRelease) hasInstallScript() bool {
	return r.Scripts["preinstall"] != "" || r.Scripts["install"] != "" || r.Scripts["postinstall"] != ""
}

// normalBin gives bin as an object of names and clean relative paths.
func (r *rawRelease) normalBin() string {
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

// distil reads a package document as a stream, version by version, and gives
// the compact form. The document's format is the npm registry's "packument".
func distil(name, base string) func(io.Reader) ([]byte, error) {
	return func(r io.Reader) ([]byte, error) {
		p, err := readPackument(name, base, r)
		if err != nil {
			return nil, fmt.Errorf("the document of %s: %w", name, err)
		}
		return cbor.Marshal(p)
	}
}

const (
	// maxPart bounds one release in a document, and every other text in it, in bytes.
	maxPart = 8 << 20
	// maxKept bounds what is kept of all releases together, in bytes.
	maxKept = 64 << 20
)

// errTooMuch is the error of a document that holds more than is kept of any.
var errTooMuch = fmt.Errorf("what its releases say is more than %d MB", maxKept>>20)

// readTexts reads an object of strings bit by bit, since it can be large.
func readTexts(d *jsontext.Decoder) (map[string]string, error) {
	if d.PeekKind() != '{' {
		return nil, d.SkipValue()
	}
	_, _ = d.ReadToken()
	texts, size := map[string]string{}, 0
	for d.PeekKind() == '"' {
		key, err := d.ReadToken()
		if err != nil {
			return nil, err
		}
		name := key.String()
		if d.PeekKind() != '"' {
			if err := d.SkipValue(); err != nil {
				return nil, err
			}
			continue
		}
		text, err := d.ReadToken()
		if err != nil {
			return nil, err
		}
		texts[name] = text.String()
		if size += len(name) + len(texts[name]) + 64; size > maxKept {
			return nil, errTooMuch
		}
	}
	_, err := d.ReadToken()
	return texts, err
}

func readPackument(name, base string, r io.Reader) (*compactPackage, error) {
	d := jsontext.NewDecoder(jsondoc.Bounded(r, 2, maxPart), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	if d.PeekKind() != '{' {
		if _, err := d.ReadToken(); err != nil {
			return nil, broken(err)
		}
		return nil, errors.New("this is no package document")
	}
	p := &compactPackage{Name: name, Base: base}
	times := map[string]string{}
	_, _ = d.ReadToken()
	for d.PeekKind() == '"' {
		key, err := d.ReadToken()
		if err != nil {
			return nil, broken(err)
		}
		switch key.String() {
		case "dist-tags":
			p.Tags, err = readTexts(d)
		case "time":
			times, err = readTexts(d)
		case "versions":
			err = p.readVersions(d)
		default:
			err = d.SkipValue()
		}
		if err != nil {
			return nil, broken(err)
		}
	}
	if _, err := d.ReadToken(); err != nil {
		return nil, broken(err)
	}
	for i := range p.Releases {
		if t, err := time.Parse(time.RFC3339, times[p.Releases[i].Version]); err == nil {
			p.Releases[i].Published = t.Unix()
		}
	}
	return p, nil
}

func broken(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return errors.New("the answer was cut short")
	}
	if errors.Is(err, errTooMuch) || errors.Is(err, ecosystem.ErrReleases) || errors.Is(err, jsondoc.ErrEndless) {
		return err
	}
	return fmt.Errorf("the answer is not the JSON of a package: %w", err)
}

func (p *compactPackage) readVersions(d *jsontext.Decoder) error {
	bodies, termses := map[string]int{}, map[string]int{}
	size := 0
	if d.PeekKind() != '{' {
		return d.SkipValue()
	}
	_, _ = d.ReadToken()
	for d.PeekKind() == '"' {
		key, err := d.ReadToken()
		if err != nil {
			return err
		}
		release := compactRelease{Version: key.String()}
		raw := rawRelease{}
		text, err := d.ReadValue()
		if err != nil {
			return err
		}
		if !ecosystem.ListedVersion(release.Version) {
			continue
		}
		if err := ecosystem.CheckReleases(len(p.Releases) + 1); err != nil {
			return err
		}
		if err := json.Unmarshal(text, &raw, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)); err != nil {
			continue // one odd version must not hide the others
		}
		release.Integrity, release.Tarball = raw.Dist.Integrity, archiveAddress(raw.Dist.Tarball)
		release.Typed = raw.Types.Kind() == '"' || raw.Typings.Kind() == '"'
		release.Attested = raw.Dist.Attestations.Kind() == '{'
		if release.Tarball == usualTarball(p.Base, p.Name, release.Version) {
			release.Tarball = ""
		}
		if release.Integrity == "" && raw.Dist.Shasum != "" {
			release.Integrity = shasumIntegrity(raw.Dist.Shasum)
		}
		switch raw.Deprecated.Kind() {
		case '"':
			_ = json.Unmarshal(raw.Deprecated, &release.Deprecated)
		case 't':
			release.Deprecated = "this version is deprecated"
		}
		b := raw.body()
		if release.Body, err = once(bodies, b, func(encoded []byte) {
			p.Bodies, size = append(p.Bodies, encoded), size+2*len(encoded)
		}); err != nil {
			return err
		}
		if release.Terms, err = once(termses, b.terms, func(encoded []byte) {
			p.Terms, size = append(p.Terms, b.terms), size+2*len(encoded)
		}); err != nil {
			return err
		}
		p.Releases = append(p.Releases, release)
		if size += 128 + len(release.Version) + len(release.Tarball) + len(release.Deprecated) + len(release.Integrity); size > maxKept {
			return errTooMuch
		}
	}
	_, err := d.ReadToken()
	return err
}

// archiveAddress is an address of an archive as it may go into a lock: on the web, and
// without a login; "" for any other.
func archiveAddress(address string) string {
	plain, ok := harmless.WithoutLogin(address)
	if !ok || !strings.HasPrefix(plain, "https://") && !strings.HasPrefix(plain, "http://") {
		return ""
	}
	return plain
}

// usualTarball is where registries keep the archive of a release.
func usualTarball(base, name, version string) string {
	return base + name + "/-/" + path.Base(name) + "-" + version + ".tgz"
}

// tarball is where the release's archive is.
func (r *release) tarball() string {
	if r.Tarball == "" {
		return usualTarball(r.pkg.base, r.pkg.name, r.text)
	}
	return r.Tarball
}

// once gives the number of a value among those seen; a new one is added.
func once(seen map[string]int, v any, add func(encoded []byte)) (int, error) {
	encoded, err := canonical.Marshal(v)
	if err != nil {
		return 0, err
	}
	at, known := seen[string(encoded)]
	if !known {
		at = len(seen)
		seen[string(encoded)] = at
		add(encoded)
	}
	return at, nil
}

// canonical encodes equal bodies to equal bytes.
var canonical = func() cbor.EncMode {
	mode, err := cbor.CanonicalEncOptions().EncMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return mode
}()

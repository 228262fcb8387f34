package registry

import (
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/jsondoc"
	"bellwether/internal/ecosystem"
	"bellwether/internal/ecosystem/npm/packagejson"
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
	Terms    []packagejson.Terms
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
		raw := packagejson.RawRelease{}
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
		b := raw.Body()
		if release.Body, err = once(bodies, b, func(encoded []byte) {
			p.Bodies, size = append(p.Bodies, encoded), size+2*len(encoded)
		}); err != nil {
			return err
		}
		if release.Terms, err = once(termses, b.Terms, func(encoded []byte) {
			p.Terms, size = append(p.Terms, b.Terms), size+2*len(encoded)
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

// Archive is where the release's archive is.
func (r *Release) Archive() string {
	if r.Tarball == "" {
		return usualTarball(r.Pkg.base, r.Pkg.Name, r.Text)
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

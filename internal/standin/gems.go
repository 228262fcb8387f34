package standin

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"
)

// Gems is all gems that a stand-in knows, by their names.
type Gems map[string][]*GemRelease

// GemRelease is a release for one platform.
type GemRelease struct {
	Version  string
	Platform string // empty for all
	Deps     []GemDep
	Ruby     string            // what it needs of Ruby; empty for anything
	RubyGems string            // and of RubyGems
	Files    map[string]string // of the archive, besides a file of its name that can be required
	Gone     bool              // it was taken back: it is in no list, and cannot be fetched
	archive  []byte
}

// GemDep is what a release depends on; the parts of its requirement have commas between.
type GemDep struct{ Name, Range string }

func (r *GemRelease) full() string {
	if r.Platform == "" {
		return r.Version
	}
	return r.Version + "-" + r.Platform
}

// Pack makes the archives, and must be called before anything is served.
func (g Gems) Pack() error {
	for name, releases := range g {
		for _, r := range releases {
			archive, err := r.pack(name)
			if err != nil {
				return fmt.Errorf("packing the gem %s %s: %w", name, r.full(), err)
			}
			r.archive = archive
		}
	}
	return nil
}

// Index serves the gems by the protocol of the compact index (names, versions, and a list a gem),
// and their archives.
func (g Gems) Index() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text := ""
		switch name, isInfo := strings.CutPrefix(r.URL.Path, "/info/"); {
		case isInfo && g[name] != nil:
			text = g.info(name)
		case r.URL.Path == "/names":
			text = "---\n" + strings.Join(slices.Sorted(maps.Keys(g)), "\n") + "\n"
		case r.URL.Path == "/versions":
			text = g.versions()
		case strings.HasPrefix(r.URL.Path, "/gems/"):
			if archive := g.archive(strings.TrimPrefix(r.URL.Path, "/gems/")); archive != nil {
				w.Header().Set("Content-Type", "application/octet-stream")
				_, _ = w.Write(archive)
				return
			}
			http.NotFound(w, r)
			return
		default:
			http.NotFound(w, r)
			return
		}
		sum := md5.Sum([]byte(text))
		tag := `"` + hex.EncodeToString(sum[:]) + `"`
		w.Header().Set("ETag", tag)
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		whole := sha256.Sum256([]byte(text))
		w.Header().Set("Repr-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(whole[:])+":")
		http.ServeContent(w, r, "", time.Time{}, strings.NewReader(text))
	})
}

func (g Gems) archive(file string) []byte {
	for name, releases := range g {
		for _, r := range releases {
			if file == name+"-"+r.full()+".gem" && !r.Gone {
				return r.archive
			}
		}
	}
	return nil
}

// info is the list of a gem.
func (g Gems) info(name string) string {
	var b strings.Builder
	b.WriteString("---\n")
	for _, r := range g[name] {
		if r.Gone {
			continue
		}
		var deps []string
		for _, d := range r.Deps {
			deps = append(deps, d.Name+":"+strings.ReplaceAll(d.Range, ", ", "&"))
		}
		sum := sha256.Sum256(r.archive)
		fmt.Fprintf(&b, "%s %s|checksum:%s", r.full(), strings.Join(deps, ","), hex.EncodeToString(sum[:]))
		if r.Ruby != "" {
			b.WriteString(",ruby:" + strings.ReplaceAll(r.Ruby, ", ", "&"))
		}
		if r.RubyGems != "" {
			b.WriteString(",rubygems:" + strings.ReplaceAll(r.RubyGems, ", ", "&"))
		}
		b.WriteString("\n")
	}
	return b.String()
}

// versions is the list of all gems, each with the digest of its own list.
func (g Gems) versions() string {
	var b strings.Builder
	b.WriteString("created_at: 2024-01-01T00:00:00Z\n---\n")
	for _, name := range slices.Sorted(maps.Keys(g)) {
		var all []string
		for _, r := range g[name] {
			all = append(all, map[bool]string{true: "-"}[r.Gone]+r.full())
		}
		sum := md5.Sum([]byte(g.info(name)))
		fmt.Fprintf(&b, "%s %s %s\n", name, strings.Join(all, ","), hex.EncodeToString(sum[:]))
	}
	return b.String()
}

// pack makes the archive of a release: what it says of itself, and its files, each compressed.
func (r *GemRelease) pack(name string) ([]byte, error) {
	files := map[string]string{"lib/" + name + ".rb": fmt.Sprintf("# %s %s\n", name, r.Version)}
	maps.Copy(files, r.Files)
	data, err := tarred(files)
	if err != nil {
		return nil, err
	}
	packed := map[string]string{}
	for file, content := range map[string]string{"metadata.gz": r.metadata(name, files), "data.tar.gz": data} {
		if packed[file], err = gzipped(content); err != nil {
			return nil, err
		}
	}
	whole, err := tarred(packed)
	return []byte(whole), err
}

func tarred(files map[string]string) (string, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Size: int64(len(files[name])), Mode: 0o644}); err != nil {
			return "", err
		}
		if _, err := w.Write([]byte(files[name])); err != nil {
			return "", err
		}
	}
	return b.String(), w.Close()
}

func gzipped(text string) (string, error) {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if _, err := w.Write([]byte(text)); err != nil {
		return "", err
	}
	err := w.Close()
	return b.String(), err
}

// metadata is what a gem says of itself, as RubyGems writes it in YAML.
func (r *GemRelease) metadata(name string, files map[string]string) string {
	platform := r.Platform
	if platform == "" {
		platform = "ruby"
	}
	var b strings.Builder
	fmt.Fprintf(&b, "--- !ruby/object:Gem::Specification\nname: %s\nversion: !ruby/object:Gem::Version\n"+
		"  version: %s\nplatform: %s\n", name, r.Version, platform)
	b.WriteString("authors:\n- Saltmarsh Ferries\nbindir: bin\ncert_chain: []\ndate: 2024-01-01 00:00:00.000000000 Z\ndependencies:\n")
	if len(r.Deps) == 0 {
		text := strings.TrimSuffix(b.String(), "\n")
		b.Reset()
		b.WriteString(text + " []\n")
	}
	for _, d := range r.Deps {
		b.WriteString("- !ruby/object:Gem::Dependency\n  name: " + d.Name + "\n  requirement: " + requirement(d.Range, "    "))
		b.WriteString("  type: :runtime\n  prerelease: false\n  version_requirements: " + requirement(d.Range, "    "))
	}
	b.WriteString("description: an invented gem\nemail:\nexecutables: []\nextensions: []\nextra_rdoc_files: []\nfiles:\n")
	for _, file := range slices.Sorted(maps.Keys(files)) {
		b.WriteString("- " + file + "\n")
	}
	b.WriteString("homepage: https://saltmarsh.example\nlicenses:\n- MIT\nmetadata: {}\n")
	b.WriteString("post_install_message:\nrdoc_options: []\nrequire_paths:\n- lib\n")
	b.WriteString("required_ruby_version: " + requirement(r.Ruby, "  ") + "required_rubygems_version: " + requirement(r.RubyGems, "  "))
	b.WriteString("requirements: []\nrubygems_version: 3.3.5\nsigning_key:\nspecification_version: 4\n")
	b.WriteString("summary: an invented gem\ntest_files: []\n")
	return b.String()
}

// requirement is a requirement in YAML.
func requirement(text, indent string) string {
	if text == "" {
		text = ">= 0"
	}
	out := "!ruby/object:Gem::Requirement\n" + indent + "requirements:\n"
	for part := range strings.SplitSeq(text, ",") {
		op, v, ok := strings.Cut(strings.TrimSpace(part), " ")
		if !ok {
			op, v = "=", op
		}
		out += fmt.Sprintf("%s- - %q\n%s  - !ruby/object:Gem::Version\n%s    version: '%s'\n", indent, op, indent, indent, v)
	}
	return out
}

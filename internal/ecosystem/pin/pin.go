// Package pin reads which versions of runtimes, tools and images the files of a
// project state: base images, runtime files, continuous integration. One table
// says which files are read, and how.
package pin

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"bellwether/internal/core/model"
)

// kind is a kind of file.
type kind struct {
	pattern string // of names relative to the project, as doublestar has it
	read    func(f *file)
}

// kinds is the table. A file is read by each kind that it matches.
var kinds = []kind{
	{"**/rust-toolchain", oneLine("rust")},
	{"**/rust-toolchain.toml", text("runtime/rust", `(?m)^\s*channel\s*=\s*"(?P<version>[^"]+)"`)},
	{"**/global.json", text("runtime/dotnet", `"sdk"\s*:\s*\{[^}]*"version"\s*:\s*"(?P<version>[^"]+)"`)},
	{"**/gradle-wrapper.properties", text("tool/gradle", `(?m)^\s*distributionUrl\s*=.*/gradle-(?P<version>[0-9][^/]*?)-(?:bin|all)\.zip`)},
	{"**/maven-wrapper.properties", text("tool/maven", `(?m)^\s*distributionUrl\s*=.*/apache-maven-(?P<version>[0-9][^/]*?)-bin\.zip`)},
	{"**/pom.xml", text("runtime/java at least", `<(?:maven\.compiler\.(?:release|source|target)|java\.version)>\s*(?P<version>[0-9][0-9.]*)\s*<`)},
	{"**/*.gradle{,.kts}", text("runtime/java at least", `(?m)^\s*(?:source|target)Compatibility\s*=?\s*['"]?(?P<version>[0-9][0-9.]*)`)},
	{"**/*.gradle{,.kts}", text("runtime/java at least", `(?m)^\s*(?:source|target)Compatibility\s*=?\s*JavaVersion\.VERSION_(?P<version>[0-9]+)`)},
	{"**/*.gradle{,.kts}", text("runtime/java", `(?m)^\s*languageVersion(?:\.set\(|\s*=\s*)JavaLanguageVersion\.of\((?P<version>[0-9]+)\)`)},
	{"**/*.gradle{,.kts}", text("platform/android-compile", `(?m)^\s*compileSdk(?:Version)?\s*[=(]?\s*(?P<version>[0-9]+)`)},
	{"**/*.gradle{,.kts}", text("platform/android-min", `(?m)^\s*minSdk(?:Version)?\s*[=(]?\s*(?P<version>[0-9]+)`)},
	{"**/*.gradle{,.kts}", text("platform/android-target", `(?m)^\s*targetSdk(?:Version)?\s*[=(]?\s*(?P<version>[0-9]+)`)},
	{"**/*.gradle{,.kts}", text("tool/ndk", `(?m)^\s*ndkVersion\s*=?\s*["'](?P<version>[0-9][0-9.]*)`)},
	{"**/*.{cs,fs,vb}proj", text("runtime/dotnet at least", `<TargetFramework>\s*net(?P<version>[0-9]+\.[0-9]+)`)},
	{"**/pyproject.toml", text("runtime/python", `(?m)^\s*requires-python\s*=\s*["'](?P<version>[^"']+)["']`)},
	{"**/Gemfile", text("runtime/ruby", `(?m)^\s*ruby\s+["'](?P<version>[^"']+)["']`)},
	{"**/mix.exs", text("runtime/elixir", `(?m)^\s*elixir:\s*"(?P<version>[^"]+)"`)},
	{"**/composer.json", text("runtime/php", `"php"\s*:\s*"(?P<version>[^"]+)"`)},
	{"**/pubspec.yaml", text("runtime/dart", `(?m)^\s+sdk:\s*["']?(?P<version>[0-9<>=^][^"'\r\n#]*[0-9])`)},
	{"**/runtime.txt", text("runtime/python", `^python-(?P<version>[0-9][0-9.]*)`)},
	{"**/system.properties", text("runtime/java", `(?m)^\s*java\.runtime\.version\s*=\s*(?P<version>[0-9][0-9.]*)`)},
	{"**/package.json", text("tool/npm", `"packageManager"\s*:\s*"npm@(?P<version>[0-9][^"+]*)`)},
	{"**/package.json", text("tool/pnpm", `"packageManager"\s*:\s*"pnpm@(?P<version>[0-9][^"+]*)`)},
	{"**/package.json", text("tool/yarn", `"packageManager"\s*:\s*"yarn@(?P<version>[0-9][^"+]*)`)},
	{"**/{.nvmrc,.node-version}", oneLine("node")},
	{"**/.python-version", oneLine("python")},
	{"**/.ruby-version", oneLine("ruby")},
	{"**/.java-version", oneLine("java")},
	{"**/.go-version", oneLine("go")},
	{"**/.tool-versions", toolVersions},
	{"**/{Dockerfile,Containerfile}{,.*}", containerFile},
	{"**/*.{Dockerfile,dockerfile}", containerFile},
	{"**/{compose,docker-compose}{,.*}.{yml,yaml}", workflow},
	{".github/workflows/*.{yml,yaml}", workflow},
	{"**/{.gitlab-ci,.woodpecker,bitbucket-pipelines,azure-pipelines}.{yml,yaml}", workflow},
	{".circleci/config.{yml,yaml}", workflow},
}

// maxFile bounds the files that are read, in bytes: none of these is written
// by more than one hand.
const maxFile = 1 << 20

// file is a file that is being read.
type file struct {
	name string
	src  []byte
	here bool // what it states is for the machine that the project is worked on
	pins []model.Pin
}

// Row is a row that a project adds to the table.
type Row struct {
	Files   string `yaml:"files"`   // pattern of names relative to the project
	Subject string `yaml:"subject"` // "runtime/node", or "runtime/node at least"
	Match   string `yaml:"match"`   // regular expression with a group named version
}

// Check says what is wrong with a row, if anything is.
func (r Row) Check() error {
	if !doublestar.ValidatePattern(r.Files) || r.Files == "" {
		return fmt.Errorf("files: %q is not a pattern of file names", r.Files)
	}
	if kind, name, ok := strings.Cut(strings.TrimSuffix(r.Subject, atLeast), "/"); !ok || name == "" || !slices.Contains([]string{"runtime", "tool", "platform", "image"}, kind) {
		return fmt.Errorf("subject: %q is not runtime/…, tool/…, platform/… or image/…", r.Subject)
	}
	match, err := regexp.Compile(r.Match)
	if err != nil {
		return fmt.Errorf("match: %w", err)
	}
	if match.SubexpIndex("version") < 0 {
		return fmt.Errorf("match: %q has no group named version, as in (?P<version>[0-9.]+)", r.Match)
	}
	return nil
}

// Read gives the pins of all files of a project that the table knows, with the
// project's own rows in it, in the order of the files. Folders that skip names
// are left out.
func Read(fsys fs.FS, skip func(dir string) bool, own []Row) ([]model.Pin, error) {
	kinds := slices.Clone(kinds)
	for _, r := range own {
		kinds = append(kinds, kind{r.Files, text(r.Subject, r.Match)})
	}
	var pins []model.Pin
	err := fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if name != "." && (d.Name() == "node_modules" || d.Name() == "vendor" || d.Name() == ".git" || skip(name)) {
				return fs.SkipDir
			}
			return nil
		}
		var matching []kind
		for _, k := range kinds {
			if doublestar.MatchUnvalidated(k.pattern, name) {
				matching = append(matching, k)
			}
		}
		if len(matching) == 0 || !d.Type().IsRegular() {
			return nil
		}
		found, err := readFile(fsys, name, matching)
		pins = append(pins, found...)
		return err
	})
	return pins, err
}

func readFile(fsys fs.FS, name string, kinds []kind) ([]model.Pin, error) {
	info, err := fs.Stat(fsys, name)
	if err != nil || info.Size() > maxFile {
		return nil, err
	}
	src, err := fs.ReadFile(fsys, name)
	if err != nil {
		var pathError *fs.PathError
		if errors.As(err, &pathError) {
			err = pathError.Err
		}
		return nil, &model.Fault{Doing: "reading", File: name, Wrong: err.Error()}
	}
	f := &file{name: name, src: src}
	for _, k := range kinds {
		f.here = false
		k.read(f)
	}
	slices.SortStableFunc(f.pins, func(a, b model.Pin) int { return a.Site.Start - b.Site.Start })
	return f.pins, nil
}

// add notes a pin at a byte range. What is no text there is not noted.
func (f *file) add(subject model.Subject, start, end int) {
	if start < 0 || end > len(f.src) || start >= end {
		return
	}
	text := string(f.src[start:end])
	f.pins = append(f.pins, model.Pin{
		Subject: subject, Range: text, Floating: !startsWithDigit(strings.TrimLeft(text, "v<>=^~ ")), Here: f.here,
		Site: model.Site{File: f.name, Start: start, End: end, Line: model.LineOf(f.src, start), Text: text},
	})
}

func startsWithDigit(text string) bool { return text != "" && text[0] >= '0' && text[0] <= '9' }

// lines calls do with each line, without its end, and where it starts.
func (f *file) lines(do func(line string, start int)) {
	at := 0
	for line := range bytes.Lines(f.src) {
		do(strings.TrimRight(string(line), "\r\n"), at)
		at += len(line)
	}
}

// runtimes are what runtimes are called in files and as images.
var runtimes = map[string]string{
	"node": "node", "nodejs": "node", "go": "go", "golang": "go", "python": "python", "ruby": "ruby", "java": "java", "openjdk": "java",
	"eclipse-temurin": "java", "amazoncorretto": "java", "php": "php", "rust": "rust", "elixir": "elixir", "erlang": "erlang", "dotnet": "dotnet",
}

// runtime is the subject of a runtime by one of its names; ok is false for any
// other word.
func runtime(name string) (s model.Subject, ok bool) {
	known, ok := runtimes[name]
	return model.Subject{Kind: "runtime", Name: known}, ok
}

// oneLine reads a file that holds nothing but a version of a runtime.
func oneLine(name string) func(f *file) {
	return func(f *file) {
		f.here = true
		done := false
		f.lines(func(line string, start int) {
			text := strings.TrimSpace(strings.TrimPrefix(line, "\ufeff"))
			if done || text == "" || strings.HasPrefix(text, "#") {
				return
			}
			done = true
			at := start + strings.Index(line, text)
			if rest, ok := strings.CutPrefix(text, name+"-"); ok { // "ruby-3.3.0"
				at, text = at+len(name)+1, rest
			}
			f.add(model.Subject{Kind: "runtime", Name: name}, at, at+len(text))
		})
	}
}

// atLeast stands after a subject for which anything newer will do as well.
const atLeast = " at least"

// text reads what a regular expression calls the version, wherever it matches.
func text(subject, match string) func(f *file) {
	subject, open := strings.CutSuffix(subject, atLeast)
	kind, name, _ := strings.Cut(subject, "/")
	expression := regexp.MustCompile(match)
	group := 2 * expression.SubexpIndex("version")
	return func(f *file) {
		for _, m := range expression.FindAllSubmatchIndex(f.src, -1) {
			before := len(f.pins)
			f.add(model.Subject{Kind: kind, Name: name}, m[group], m[group+1])
			for i := range f.pins[before:] {
				f.pins[before+i].AtLeast = open
			}
		}
	}
}

// toolVersions reads lines of a name and the versions to use, of which the
// first counts.
func toolVersions(f *file) {
	f.here = true
	f.lines(func(line string, start int) {
		line, _, _ = strings.Cut(line, "#")
		fields := strings.Fields(line)
		if len(fields) < 2 {
			return
		}
		subject, ok := runtime(fields[0])
		if !ok {
			subject = model.Subject{Kind: "tool", Name: fields[0]}
		}
		after := strings.Index(line, fields[0]) + len(fields[0])
		at := start + after + strings.Index(line[after:], fields[1])
		f.add(subject, at, at+len(fields[1]))
	})
}

// image notes the version in a reference to an image that starts at a byte:
// registry/name:tag@digest. A reference with a variable that is not known is
// left out.
func (f *file) image(reference string, start int) {
	name, _, _ := strings.Cut(reference, "@")
	if name == "" || strings.Contains(reference, "$") {
		return
	}
	tag, at := "", len(name)
	if colon := strings.LastIndexByte(name, ':'); colon > strings.LastIndexByte(name, '/') {
		name, tag, at = name[:colon], name[colon+1:], colon+1
	}
	subject, known := runtime(path.Base(name))
	if !known {
		subject = model.Subject{Kind: "image", Name: name}
	}
	version := tag
	if startsWithDigit(strings.TrimPrefix(tag, "v")) {
		version, _, _ = strings.Cut(tag, "-") // what follows is the image's flavour
	}
	if tag == "" {
		// No tag is the same as "latest"; the name stands for it.
		f.add(subject, start, start+len(name))
		if n := len(f.pins); n > 0 && f.pins[n-1].Site.Start == start {
			f.pins[n-1].Range, f.pins[n-1].Floating = "latest", true
		}
		return
	}
	f.add(subject, start+at, start+at+len(version))
}

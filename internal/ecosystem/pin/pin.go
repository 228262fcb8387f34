// Package pin reads which versions of runtimes, tools and images the files of a
// project state: base images, runtime files, continuous integration. One table
// says which files are read, and how.
package pin

import (
	"bytes"
	"errors"
	"io/fs"
	"path"
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

// kinds is the table. A file is read by the first kind that it matches.
var kinds = []kind{
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

// Read gives the pins of all files of a project that the table knows, in the
// order of the files. Folders that skip names are left out.
func Read(fsys fs.FS, skip func(dir string) bool) ([]model.Pin, error) {
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
		i := slices.IndexFunc(kinds, func(k kind) bool { return doublestar.MatchUnvalidated(k.pattern, name) })
		if i < 0 || !d.Type().IsRegular() {
			return nil
		}
		found, err := readFile(fsys, name, kinds[i])
		pins = append(pins, found...)
		return err
	})
	return pins, err
}

func readFile(fsys fs.FS, name string, k kind) ([]model.Pin, error) {
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
	k.read(f)
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

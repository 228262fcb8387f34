// Package pin reads which versions of runtimes, tools, platforms and images
// the files of a project state, and moves them: base images, runtime files,
// continuous integration, build scripts. One table says which files are read,
// and how.
package pin

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem"
)

// maxFile bounds the files that are read, in bytes: none of these is written
// by more than one hand.
const maxFile = 1 << 20

// file is a file that is being read.
type file struct {
	name  string
	src   []byte
	pins  []model.Pin
	notes []string // what could not be read, as sentences
}

// Row is a row that a project adds to the table.
type Row struct {
	Files   string `yaml:"files"`   // pattern of names relative to the project
	Subject string `yaml:"subject"` // "runtime/node", or "runtime/node at least"
	Match   string `yaml:"match"`   // regular expression with a group named version
	Key     string `yaml:"key"`     // instead: the path to a key of YAML or JSON, "services.web.image"
}

// openEnd stands after a subject for which anything newer will do as well.
const openEnd = " at least"

// subject reads what a row is about.
func (r Row) subject() (s model.Subject, open bool, err error) {
	text, open := strings.CutSuffix(r.Subject, openEnd)
	kind, name, _ := strings.Cut(text, "/")
	if name == "" || !slices.Contains(model.PinKinds, kind) {
		return s, open, fmt.Errorf("subject: %q is not runtime/…, tool/…, platform/… or image/…", r.Subject)
	}
	return model.Subject{Kind: kind, Name: name}, open, nil
}

// Check says what is wrong with a row, if anything is.
func (r Row) Check() error {
	if !doublestar.ValidatePattern(r.Files) || r.Files == "" {
		return fmt.Errorf("files: %q is not a pattern of file names", r.Files)
	}
	if _, _, err := r.subject(); err != nil {
		return err
	}
	if (r.Match == "") == (r.Key == "") {
		return fmt.Errorf("the row of %s has either match or key", r.Files)
	}
	if r.Key != "" {
		return nil
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

// reader reads a row's files.
func (r Row) reader() func(f *file) {
	s, open, err := r.subject()
	if err != nil {
		return func(*file) {}
	}
	var options []option
	if open {
		options = append(options, atLeast)
	}
	if r.Key != "" {
		return keyed(s, strings.Split(r.Key, "."), options)
	}
	return text(s.String(), r.Match, options...)
}

// index finds the kinds of a file by its name.
type index struct {
	exact    map[string][]kind // by names that are no patterns
	patterns []pattern
}

type pattern struct {
	text  string
	whole bool // of the path, not only of the name
	kind
}

func newIndex(own []Row) *index {
	x := &index{exact: map[string][]kind{}}
	for _, k := range kinds {
		for _, p := range strings.Fields(k.files) {
			switch {
			case strings.Contains(p, "/"):
				x.patterns = append(x.patterns, pattern{p, true, k})
			case strings.Contains(p, "*"):
				x.patterns = append(x.patterns, pattern{p, false, k})
			default:
				x.exact[p] = append(x.exact[p], k)
			}
		}
	}
	for _, r := range own {
		x.patterns = append(x.patterns, pattern{r.Files, true, kind{r.Files, r.reader()}})
	}
	return x
}

func (x *index) of(name string) []kind {
	base := path.Base(name)
	matching := slices.Clone(x.exact[base])
	for _, p := range x.patterns {
		subject := base
		if p.whole {
			subject = name
		}
		if doublestar.MatchUnvalidated(p.text, subject) {
			matching = append(matching, p.kind)
		}
	}
	return matching
}

// Read gives the pins of all files of a project that the table knows, with the
// project's own rows in it, in the order of the files, and notes on what could
// not be read. Folders that skip names are left out.
func Read(x *ecosystem.Index, skip func(dir string) bool, own []Row) (pins []model.Pin, notes []string, err error) {
	known := newIndex(own)
	type found struct {
		pins  []model.Pin
		notes []string
		err   error
	}
	var all []*found
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for _, name := range x.Files() {
		matching := known.of(name)
		if len(matching) == 0 || inVendor(name) || skip(path.Dir(name)) {
			continue
		}
		in := &found{}
		all = append(all, in)
		if x.IsLink(name) {
			if _, err := fs.Stat(x.FS, name); err != nil {
				in.notes = []string{name + " is a link that leads out of the project, or nowhere; it was not read"}
			}
			continue
		}
		group.Go(func() error {
			f, err := readFile(x.FS, name, matching)
			if in.err = err; f != nil {
				in.pins, in.notes = f.pins, f.notes
			}
			return nil
		})
	}
	_ = group.Wait()
	for _, in := range all { // in the order of the files, whichever was read first
		pins, notes = append(pins, in.pins...), append(notes, in.notes...)
		if in.err != nil {
			return pins, notes, in.err
		}
	}
	return pins, notes, nil
}

// inVendor tells whether a file lies in a copy of what others wrote.
func inVendor(name string) bool {
	return strings.HasPrefix(name, "vendor/") || strings.Contains(name, "/vendor/")
}

func readFile(fsys fs.FS, name string, kinds []kind) (*file, error) {
	info, err := fs.Stat(fsys, name)
	if err != nil {
		return nil, err
	}
	f := &file{name: name}
	if info.Size() > maxFile {
		f.notes = append(f.notes, fmt.Sprintf("%s has %d MB, which nobody wrote by hand; it was not read", name, info.Size()>>20))
		return f, nil
	}
	if f.src, err = fs.ReadFile(fsys, name); err != nil {
		var pathError *fs.PathError
		if errors.As(err, &pathError) {
			err = pathError.Err
		}
		f.notes = append(f.notes, fmt.Sprintf("%s was not read: %v", name, err))
		return f, nil
	}
	for _, k := range kinds {
		k.read(f)
	}
	slices.SortStableFunc(f.pins, func(a, b model.Pin) int { return a.Site.Start - b.Site.Start })
	f.pins = slices.CompactFunc(f.pins, func(a, b model.Pin) bool { return a.Subject == b.Subject && a.Site.Start == b.Site.Start })
	return f, nil
}

// option says more of a pin that was found.
type option func(p *model.Pin)

func atLeast(p *model.Pin) { p.AtLeast = true }
func here(p *model.Pin)    { p.Here = true }
func whole(p *model.Pin)   { p.Whole = true }
func assumed(p *model.Pin) { p.Assumed = true }

// site is a byte range of the file.
func (f *file) site(start, end int) model.Site {
	return model.Site{File: f.name, Start: start, End: end, Line: model.LineOf(f.src, start), Text: string(f.src[start:end])}
}

// add notes a pin at a byte range. What is no text there is not noted.
func (f *file) add(subject model.Subject, start, end int, options ...option) {
	if start < 0 || end > len(f.src) || start >= end {
		return
	}
	if subject.Name == "java" && bytes.HasPrefix(f.src[start:end], []byte("openjdk")) {
		start += len("openjdk")
	}
	s := f.site(start, end)
	p := model.Pin{Subject: subject, Range: s.Text, Site: s}
	if subject.Name == "java" {
		p.Range = strings.TrimPrefix(p.Range, "1.") // "1.8" is how 8 was called up to 9
	}
	p.Floating = !startsWithDigit(strings.TrimLeft(s.Text, "v<>=!^~ "))
	for _, o := range options {
		o(&p)
	}
	f.pins = append(f.pins, p)
}

// unknown notes a place whose version cannot be known from the file.
func (f *file) unknown(subject model.Subject, start, end int, why string) {
	f.add(subject, start, end, func(p *model.Pin) { p.Unknown, p.Floating = why, false })
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

// runtimeNamed is the subject of a runtime by one of its names; ok is false for any
// other word.
func runtimeNamed(name string) (s model.Subject, ok bool) {
	known, ok := runtimes[name]
	return model.Subject{Kind: "runtime", Name: known}, ok
}

// oneLine reads a file that holds nothing but a version of a runtime.
func oneLine(name string) func(f *file) {
	return func(f *file) {
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
			f.add(model.Subject{Kind: "runtime", Name: name}, at, at+len(text), here)
		})
	}
}

// text reads what a regular expression calls the version, wherever it matches,
// and the digest behind it where it has a group for one.
func text(subject, match string, options ...option) func(f *file) {
	kind, name, _ := strings.Cut(subject, "/")
	expression := lazyregexp.New(match)
	return func(f *file) {
		version, digest := 2*expression.SubexpIndex("version"), 2*expression.SubexpIndex("digest")
		for _, m := range expression.FindAllSubmatchIndex(f.src, -1) {
			all := options
			if digest >= 0 && m[digest] >= 0 {
				all = append(slices.Clone(options), func(p *model.Pin) { p.Digest = f.site(m[digest], m[digest+1]) })
			}
			f.add(model.Subject{Kind: kind, Name: name}, m[version], m[version+1], all...)
		}
	}
}

// textList reads lists: match has a group named list, and item, which matches a
// whole entry of it, one named version.
func textList(subject, match, item string) func(f *file) {
	kind, name, _ := strings.Cut(subject, "/")
	expression, entry := lazyregexp.New(match), lazyregexp.New(item)
	return func(f *file) {
		list, version := 2*expression.SubexpIndex("list"), 2*entry.SubexpIndex("version")
		for _, m := range expression.FindAllSubmatchIndex(f.src, -1) {
			start := m[list]
			for _, e := range entry.FindAllSubmatchIndex(f.src[start:m[list+1]], -1) {
				f.add(model.Subject{Kind: kind, Name: name}, start+e[version], start+e[version+1], among(start, f.site(start+e[0], start+e[1])))
			}
		}
	}
}

func among(list int, entry model.Site) option {
	return func(p *model.Pin) { p.List = &model.List{Start: list, Entry: entry} }
}

// imageText reads references to images that a regular expression finds.
func imageText(match string) func(f *file) {
	expression := lazyregexp.New(match)
	return func(f *file) {
		group := 2 * expression.SubexpIndex("image")
		for _, m := range expression.FindAllSubmatchIndex(f.src, -1) {
			f.image(trace(string(f.src[m[group]:m[group+1]]), m[group], nil), m[group], m[group+1])
		}
	}
}

// toolVersions reads lines of a name and the versions to use, of which the
// first counts.
func toolVersions(f *file) {
	f.lines(func(line string, start int) {
		line, _, _ = strings.Cut(line, "#")
		fields := strings.Fields(line)
		if len(fields) < 2 {
			return
		}
		subject, ok := runtimeNamed(fields[0])
		if !ok {
			subject = model.Subject{Kind: "tool", Name: fields[0]}
		}
		after := strings.Index(line, fields[0]) + len(fields[0])
		at := start + after + strings.Index(line[after:], fields[1])
		f.add(subject, at, at+len(fields[1]), here, whole)
	})
}

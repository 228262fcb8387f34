package printed

import (
	"net/url"
	"path"
	"strings"

	"bellwether/internal/core/finding"
)

// sink takes findings, and tells places as those of the project.
type sink struct {
	Source
	finding.Tally
}

func (s *sink) put(f finding.Finding, at spot) {
	if at.file != "" {
		pkg, version := finding.PackageOf(at.file)
		if pkg == "" {
			f.Place = s.place(at)
		} else if f.Package == "" {
			f.Package, f.Version = pkg, version
		}
	}
	if f.Tool == "" {
		f.Tool = compilers[path.Ext(at.file)]
	}
	if f.Kind == finding.Failure && f.Package == "" {
		f.Package, f.Version = namedIn(f.Text)
	}
	f.Text = s.ours(f.Text)
	s.Add(f)
}

// place is where a spot lies in the project, "" for elsewhere.
func (s *sink) place(at spot) string {
	file := strings.ReplaceAll(at.file, "\\", "/")
	if file == "" || finding.InRuntime(file) {
		return ""
	}
	own := s.trim(file)
	switch {
	case own != "":
		file = own
	case path.IsAbs(file) || len(file) > 1 && file[1] == ':' || strings.HasPrefix(file, "../"):
		return ""
	default:
		file = path.Join(s.Dir, file)
	}
	for _, n := range []string{at.line, at.col} {
		if n != "" {
			file += ":" + n
		}
	}
	return file
}

// trim is a path of the scratch as one of the project, "" for another.
func (s *sink) trim(file string) string {
	if s.Scratch == "" {
		return ""
	}
	own, ok := strings.CutPrefix(strings.TrimPrefix(file, "file://"), s.Scratch+"/")
	if !ok {
		return ""
	}
	return own
}

// ours is a text with the scratch's paths as the project's. Each checkout lies elsewhere,
// so that nothing of it may be told or compared.
func (s *sink) ours(text string) string {
	if s.Scratch == "" {
		return text
	}
	quoted := (&url.URL{Path: s.Scratch}).EscapedPath()
	for _, folder := range []string{s.Scratch, quoted, strings.ReplaceAll(s.Scratch, "/", `\`), strings.ReplaceAll(s.Scratch, "/", `\\`)} {
		if !strings.Contains(text, folder) {
			continue
		}
		for _, whole := range []string{"file://" + folder + "/", folder + "/", folder + `\\`, folder + `\`} {
			text = strings.ReplaceAll(text, whole, "")
		}
		text = strings.ReplaceAll(text, folder, ".")
	}
	return text
}

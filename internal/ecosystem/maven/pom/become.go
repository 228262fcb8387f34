package pom

import (
	"bytes"
	"slices"

	"bellwether/internal/core/model"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Named are the statements of a file about a package, also in profiles that are not active.
func (e *Effective) Named(name string) (all []*Dependency) {
	for _, of := range append([]*Pom{e.Pom}, e.Asleep...) {
		for _, d := range slices.Concat(of.Managed, of.Dependencies, of.Plugins, of.Extensions) {
			if e.CoordsOf(d).String() == name {
				all = append(all, d)
			}
		}
	}
	return all
}

// Become gives a statement other coordinates, and where it stated a version another one. One that keeps its coordinates is to state
// its version, also where it did not, and so is another one if nothing else states it.
func (e *Effective) Become(d *Dependency, to mavenrepo.Coordinates, rng string, alone bool) (splices []model.Splice) {
	for name, text := range map[string]string{"groupId": to.Group, "artifactId": to.Artifact, "version": rng} {
		part := d.At.Child(name)
		switch {
		case part != nil && text != "":
			splices = append(splices, Spliced(e.Pom, part.Site.Start, part.Site.End, xmldoc.Escaped(text)))
		case part == nil && name == "version" && text != "" && (alone || e.CoordsOf(d) == to):
			artifact := d.At.Child("artifactId")
			between := IndentAt(e.Pom.Src, artifact.Start)
			if between != "" {
				between = e.Pom.LineEnd() + between
			}
			splices = append(splices, Spliced(e.Pom, artifact.End, artifact.End, between+"<version>"+xmldoc.Escaped(text)+"</version>"))
		case part == nil && name == "groupId": // a plugin of Maven's own
			splices = append(splices, Spliced(e.Pom, d.At.Inner, d.At.Inner, "<groupId>"+xmldoc.Escaped(text)+"</groupId>"))
		}
	}
	return splices
}

// LineEnd is what ends the lines of a file.
func (p *Pom) LineEnd() string {
	if bytes.Contains(p.Src, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// Spliced is a change of a file between two of its bytes.
func Spliced(p *Pom, start, end int, fresh string) model.Splice {
	return model.Splice{
		Site: model.Site{
			File:  p.File,
			Start: start,
			End:   end,
			Line:  model.LineOf(p.Src, start),
			Text:  string(p.Src[start:end]),
		}, New: fresh,
	}
}

// Dropped takes an element out, with its line where nothing else stands on it.
func Dropped(p *Pom, e *xmldoc.Element) model.Splice {
	start, end := e.Start, e.End
	before := start - len(IndentAt(p.Src, start))
	behind := end
	for behind < len(p.Src) && (p.Src[behind] == ' ' || p.Src[behind] == '\t' || p.Src[behind] == '\r') {
		behind++
	}
	if (before == 0 || p.Src[before-1] == '\n') && behind < len(p.Src) && p.Src[behind] == '\n' {
		start, end = before, behind+1
	}
	return Spliced(p, start, end, "")
}

// IndentAt is the white space before a place on its line, if nothing else stands there.
func IndentAt(src []byte, at int) string {
	start := at
	for start > 0 && (src[start-1] == ' ' || src[start-1] == '\t') {
		start--
	}
	return string(src[start:at])
}

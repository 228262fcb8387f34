package maven

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/model"
	"bellwether/internal/core/xmldoc"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Rewrite gives the poms with packages renamed, added or dropped. A renamed one keeps its place, and states its version
// itself; one that is added stands behind the last dependency of the project's first file.
func (Ecosystem) Rewrite(c *model.Component, changes []contract.Change, overrides []model.Override) ([]model.FileEdit, error) {
	p := c.Detail.(*project)
	if len(overrides) > 0 {
		return nil, &model.Fault{
			Doing: "overriding " + overrides[0].Name + " in " + overrides[0].Of, File: c.Manifest, Line: 1, Found: true,
			Wrong: "a pom cannot say what one package gets of another", Next: "manage its version for all, in <dependencyManagement>",
		}
	}
	splices := map[string][]model.Splice{}
	for i, change := range changes {
		again := func(later contract.Change) bool { return later.Old == change.Old }
		if change.Old != "" && slices.ContainsFunc(changes[i+1:], again) {
			continue // the last word about a package counts
		}
		to, named := mavenrepo.Read(change.New)
		if change.New != "" && !named {
			return nil, fmt.Errorf("%q is no name of a package (want group:artifact)", change.New)
		}
		if change.Old == "" {
			file, add := p.addition(to, change.Range)
			splices[file] = append(splices[file], add)
			continue
		}
		for _, e := range p.poms {
			for _, d := range e.named(change.Old) {
				switch {
				case change.New == "":
					splices[e.file] = append(splices[e.file], dropped(e.pom, d.at))
				default:
					splices[e.file] = append(splices[e.file], e.become(d, to, change.Range)...)
				}
			}
		}
	}
	var edits []model.FileEdit
	for file, list := range splices {
		src := p.file(file).src
		text, err := model.Apply(src, list)
		if err != nil {
			return nil, err
		}
		if !bytes.Equal(text, src) {
			edits = append(edits, model.FileEdit{File: file, Old: src, New: text})
		}
	}
	slices.SortFunc(edits, func(a, b model.FileEdit) int { return strings.Compare(a.File, b.File) })
	return edits, nil
}

// named are the statements of a file about a package, also in profiles that are not active.
func (e *effective) named(name string) (all []*dependency) {
	for _, of := range append([]*pom{e.pom}, e.asleep...) {
		for _, d := range slices.Concat(of.managed, of.dependencies, of.plugins, of.extensions) {
			if e.coordsOf(d).String() == name {
				all = append(all, d)
			}
		}
	}
	return all
}

// become gives a statement other coordinates, and where it stated a version another one.
func (e *effective) become(d *dependency, to mavenrepo.Coordinates, rng string) (splices []model.Splice) {
	for name, text := range map[string]string{"groupId": to.Group, "artifactId": to.Artifact, "version": rng} {
		part := d.at.Child(name)
		switch {
		case part != nil && text != "":
			splices = append(splices, spliced(e.pom, part.Site.Start, part.Site.End, xmldoc.Escaped(text)))
		case part == nil && name == "groupId": // a plugin of Maven's own
			splices = append(splices, spliced(e.pom, d.at.Inner, d.at.Inner, "<groupId>"+xmldoc.Escaped(text)+"</groupId>"))
		}
	}
	return splices
}

func spliced(p *pom, start, end int, fresh string) model.Splice {
	return model.Splice{
		Site: model.Site{
			File:  p.file,
			Start: start,
			End:   end,
			Line:  model.LineOf(p.src, start),
			Text:  string(p.src[start:end]),
		}, New: fresh,
	}
}

// dropped takes an element out, with its line where nothing else stands on it.
func dropped(p *pom, e *xmldoc.Element) model.Splice {
	start, end := e.Start, e.End
	before := start - len(indentAt(p.src, start))
	behind := end
	for behind < len(p.src) && (p.src[behind] == ' ' || p.src[behind] == '\t' || p.src[behind] == '\r') {
		behind++
	}
	if (before == 0 || p.src[before-1] == '\n') && behind < len(p.src) && p.src[behind] == '\n' {
		start, end = before, behind+1
	}
	return spliced(p, start, end, "")
}

// indentAt is the white space before a place on its line, if nothing else stands there.
func indentAt(src []byte, at int) string {
	start := at
	for start > 0 && (src[start-1] == ' ' || src[start-1] == '\t') {
		start--
	}
	return string(src[start:at])
}

// addition puts a dependency behind the last one of the first file, in the form that it has.
func (p *project) addition(c mavenrepo.Coordinates, rng string) (file string, s model.Splice) {
	first := p.poms[0].pom
	end := "\n"
	if bytes.Contains(first.src, []byte("\r\n")) {
		end = "\r\n"
	}
	parts := []string{
		"<groupId>" + xmldoc.Escaped(c.Group) + "</groupId>", "<artifactId>" + xmldoc.Escaped(c.Artifact) + "</artifactId>",
		"<version>" + xmldoc.Escaped(rng) + "</version>",
	}
	list := first.root.Child("dependencies")
	if all := list.All("dependency"); len(all) > 0 {
		last := all[len(all)-1]
		indent, within := indentAt(first.src, last.Start), ""
		if bytes.Contains(first.src[last.Start:last.End], []byte("\n")) && len(last.Children) > 0 {
			within = end + indentAt(first.src, last.Children[0].Start)
		}
		text := end + indent + "<dependency>" + within + strings.Join(parts, within)
		if within != "" {
			text += end + indent
		}
		return first.file, spliced(first, last.End, last.End, text+"</dependency>")
	}
	text := "  <dependencies>" + end + "    <dependency>" + strings.Join(parts, "") + "</dependency>" + end + "  </dependencies>" + end
	if list != nil {
		return first.file, spliced(first, list.Start, list.End, strings.TrimSpace(text))
	}
	at := bytes.LastIndex(first.src[:first.root.End], []byte("</"))
	return first.file, spliced(first, at, at, text)
}

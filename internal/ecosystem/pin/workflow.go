package pin

import (
	"bytes"
	"path"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/model"
	"bellwether/internal/core/yamldoc"
)

// workflow reads YAML of continuous integration and of compose files: keys
// that set a runtime up ("node-version"), lists of a matrix, and images.
func workflow(f *file) { f.readYAML(false) }

// languageMatrix reads YAML in which the bare names of runtimes are keys.
func languageMatrix(f *file) { f.readYAML(true) }

func (f *file) readYAML(inMatrix bool) {
	doc, err := yamldoc.Parse(f.name, f.src)
	if err != nil {
		f.notes = append(f.notes, err.Error()+"; it was not read")
		return
	}
	w := &walker{file: f, doc: doc, values: map[string]traced{}}
	for _, root := range doc.Roots {
		w.variables(root)
	}
	for _, root := range doc.Roots {
		w.node(root, inMatrix)
	}
}

// walker walks through YAML. Aliases are followed only to plain values: what an
// anchor names is read where it stands.
type walker struct {
	*file
	doc    *yamldoc.Document
	values map[string]traced // of variables that the file sets
}

var variableName = lazyregexp.New(`^[A-Z][A-Z0-9_]*$`)

// variables notes what the file sets variables to; one that is set to
// different values is not known.
func (w *walker) variables(n *yaml.Node) {
	if n.Kind == yaml.AliasNode {
		return
	}
	for i, c := range n.Content {
		if n.Kind == yaml.MappingNode && i%2 == 1 && variableName.MatchString(n.Content[i-1].Value) {
			if site, ok := w.doc.Site(c); ok && !strings.Contains(c.Value, "$") {
				name, value := n.Content[i-1].Value, traced{}
				value.add(c.Value, site.Start)
				if known, twice := w.values[name]; twice && known.text != c.Value {
					value = traced{hole, []int{-1}}
				}
				w.values[name] = value
			}
		}
		w.variables(c)
	}
}

// node reads what is below n. In a matrix, a runtime's bare name is a key, too.
func (w *walker) node(n *yaml.Node, inMatrix bool) {
	switch n.Kind {
	case yaml.MappingNode:
		task := ""
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "task" {
				task = n.Content[i+1].Value
			}
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "inputs" && task != "" {
				w.task(strings.ToLower(task), n.Content[i+1])
				continue
			}
			w.entry(n.Content[i].Value, n.Content[i+1], inMatrix)
		}
	case yaml.SequenceNode:
		for _, c := range n.Content {
			w.node(c, inMatrix)
		}
	}
}

func (w *walker) entry(key string, value *yaml.Node, inMatrix bool) {
	switch {
	case key == "image" || key == "container":
		w.imageOf(value)
	case key == "services" && value.Kind == yaml.SequenceNode:
		for _, item := range value.Content {
			if item.Kind == yaml.MappingNode || strings.Contains(item.Value, ":") { // else it is the name of a service
				w.imageOf(item)
			}
		}
	}
	name, isVersion := strings.CutSuffix(strings.ToLower(strings.ReplaceAll(key, "_", "-")), "-version")
	if subject, ok := runtimeNamed(name); ok && (isVersion || inMatrix) {
		w.versions(subject, value)
		return
	}
	w.node(value, inMatrix || key == "matrix")
}

// imageOf reads an image, or a mapping that names one.
func (w *walker) imageOf(n *yaml.Node) {
	if n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "name" {
				w.imageOf(n.Content[i+1])
			}
		}
		return
	}
	n = plain(n)
	if site, ok := w.doc.Site(n); ok && !strings.Contains(n.Value, " ") {
		w.image(trace(n.Value, site.Start, w.values), site.Start, site.End)
	}
}

// plain is the node that an alias stands for, else the node itself.
func plain(n *yaml.Node) *yaml.Node {
	if n.Kind == yaml.AliasNode {
		return n.Alias
	}
	return n
}

// task reads the inputs of a task that sets a runtime up.
func (w *walker) task(task string, inputs *yaml.Node) {
	for part, name := range setupTasks {
		if !strings.Contains(task, part) || inputs.Kind != yaml.MappingNode {
			continue
		}
		for i := 0; i+1 < len(inputs.Content); i += 2 {
			if key := inputs.Content[i].Value; key == "version" || key == "versionSpec" {
				w.versions(model.Subject{Kind: "runtime", Name: name}, inputs.Content[i+1])
			}
		}
	}
}

// expression is a value that is worked out when the file is run.
var expression = lazyregexp.New(`^\$\{\{\s*(matrix|env|inputs)\.`)

// versions reads one version, or a list of them.
func (w *walker) versions(subject model.Subject, value *yaml.Node, options ...option) {
	value = plain(value)
	list := []*yaml.Node{value}
	if value.Kind == yaml.SequenceNode {
		list = value.Content
	}
	for _, item := range list {
		item = plain(item)
		site, ok := w.doc.Site(item)
		all := options
		if len(list) > 1 {
			all = append(all, among(w.doc.LineStart(value.Line)+value.Column, w.listEntry(item, site, value.Style == yaml.FlowStyle)))
		}
		switch {
		case item.Kind != yaml.ScalarNode || expression.MatchString(item.Value):
			// Nested further, or stated where the matrix is.
		case !ok && item.Value != "":
			at := w.doc.LineStart(item.Line)
			line := w.src[at:w.doc.LineStart(item.Line+1)]
			end := at + len(bytes.TrimRight(line, " \r\n"))
			at += len(line) - len(bytes.TrimLeft(line, " "))
			w.unknown(subject, at, end, "it is not written as one plain text")
		case strings.Contains(item.Value, "$"):
			if start, end, ok := trace(item.Value, site.Start, w.values).place(); ok {
				w.add(subject, start, end, all...)
			} else {
				w.unknown(subject, site.Start, site.End, "it comes from a variable that has no value here")
			}
		default:
			w.add(subject, site.Start, site.End, all...)
		}
	}
}

// listEntry is the whole entry of a list that a scalar is: between commas with
// its quotes, or its lines. An entry that shares its line with something else
// has none.
func (w *walker) listEntry(item *yaml.Node, s model.Site, flow bool) model.Site {
	if flow {
		if item.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
			return w.site(s.Start-1, s.End+1)
		}
		return s
	}
	start, end := w.doc.LineStart(s.Line), w.doc.LineStart(s.Line+1)
	if before := strings.Trim(string(w.src[start:max(start, s.Start)]), " \"'"); before != "-" {
		return model.Site{}
	}
	return w.site(start, end)
}

// keyed reads what stands at a path of keys in YAML or JSON; "*" is any entry of
// a list or mapping.
func keyed(subject model.Subject, keys []string, options []option) func(f *file) {
	return func(f *file) {
		if path.Ext(f.name) == ".json" {
			if v, err := jsondoc.Parse(f.name, f.src); err == nil {
				f.jsonAt(subject, v, keys, options)
			} else {
				f.notes = append(f.notes, err.Error()+"; it was not read")
			}
			return
		}
		doc, err := yamldoc.Parse(f.name, f.src)
		if err != nil {
			f.notes = append(f.notes, err.Error()+"; it was not read")
			return
		}
		w := &walker{file: f, doc: doc}
		for _, root := range doc.Roots {
			w.at(subject, root, keys, options)
		}
	}
}

func (w *walker) at(subject model.Subject, n *yaml.Node, keys []string, options []option) {
	if len(keys) == 0 {
		if subject.Kind == "image" {
			w.imageOf(n)
		} else {
			w.versions(subject, n, options...)
		}
		return
	}
	for i, c := range n.Content {
		switch {
		case n.Kind == yaml.SequenceNode && keys[0] == "*":
			w.at(subject, c, keys[1:], options)
		case n.Kind == yaml.MappingNode && i%2 == 1 && (keys[0] == "*" || n.Content[i-1].Value == keys[0]):
			w.at(subject, c, keys[1:], options)
		}
	}
}

func (f *file) jsonAt(subject model.Subject, v *jsondoc.Value, keys []string, options []option) {
	if len(keys) == 0 {
		if v.Kind == '"' || v.Kind == '0' {
			s := v.Within(f.name, f.src)
			f.add(subject, s.Start, s.End, options...)
		}
		return
	}
	for _, m := range v.Members {
		if keys[0] == "*" || m.Name == keys[0] {
			f.jsonAt(subject, m.Value, keys[1:], options)
		}
	}
	for _, item := range v.Items {
		if keys[0] == "*" {
			f.jsonAt(subject, item, keys[1:], options)
		}
	}
}

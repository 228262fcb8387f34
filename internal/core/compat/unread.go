package compat

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite"
	"bellwether/internal/core/spelling"
)

// KeyList is the keys of configuration that a version knows.
type KeyList struct {
	Files    []string // patterns of the files that they are in
	Except   []string
	Root     []string // the key that they are below; empty for the file's top
	Known    []string // below the root, with dots; "*" is any one name, "**" at the end anything below
	Required []string
	// Schema is a JSON Schema that lists them: a file of the project, or of the release's archive.
	Schema   string
	SchemaOf model.Subject // the package in whose archive it is; zero for the project
}

// keyList reads the keys that a version knows.
func (p *parser) keyList(n *yaml.Node) {
	l := &KeyList{}
	p.now.Keys = l
	p.mapping(n, "keys", fields{
		"when":   func(n *yaml.Node) { p.conditions(n, &p.now.When) },
		"files":  func(n *yaml.Node) { l.Files = p.texts(n) },
		"except": func(n *yaml.Node) { l.Except = p.texts(n) },
		"root": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode && n.Value == "" {
				return // the file's top
			}
			l.Root = keys.Split(p.text(n))
		},
		"known":    func(n *yaml.Node) { l.Known = p.texts(n) },
		"required": func(n *yaml.Node) { l.Required = p.texts(n) },
		"schema": func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode {
				l.Schema = p.text(n)
				return
			}
			p.mapping(n, "schema", fields{
				"of": func(n *yaml.Node) { l.SchemaOf, _ = p.subject(n, p.now) }, "file": p.string(&l.Schema),
			}, "of", "file")
		},
	}, "when", "files")
	if len(l.Known) == 0 && l.Schema == "" {
		p.wrong(n, "it lists no key", "write known: [a.b, c], or schema: FILE")
	}
}

// Unread is a key of the project that a version does not know, or one that it requires and that
// is not there.
type Unread struct {
	File    string
	Line    int
	Key     string
	Missing bool
	Nearest string // a known key that looks like it; empty for none
}

// Unread finds the keys of a file that are not known, and those that are missing.
func (l *KeyList) Unread(file, text string) (unread []Unread, err error) {
	format, ok := keys.FormatOf(file)
	if !ok || !rewrite.Matches(l.Files, file) || rewrite.Matches(l.Except, file) {
		return nil, nil
	}
	d, err := keys.Read(format, text)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", file, err)
	}
	if format == keys.Env {
		return l.variables(d, file), nil
	}
	var below []*keys.Entry
	there := len(l.Root) == 0
	for _, e := range d.Entries {
		if d.Below(e.Path, l.Root) {
			there = true
			if len(e.Path) > len(l.Root) {
				below = append(below, e)
			}
		}
	}
	for i, e := range below {
		inner := slices.ContainsFunc(below[i+1:], func(o *keys.Entry) bool { return len(o.Path) > len(e.Path) && d.Below(o.Path, e.Path) })
		key := strings.Join(e.Path[len(l.Root):], ".")
		if inner || l.knows(d, e.Path[len(l.Root):]) || strings.Contains(key, "[") {
			continue
		}
		unread = append(unread, Unread{file, e.Line, e.Name(), false, l.nearest(key)})
	}
	for _, name := range l.Required {
		full := append(slices.Clone(l.Root), keys.Split(name)...)
		if there && len(d.Find(full)) == 0 && !slices.ContainsFunc(below, func(e *keys.Entry) bool { return d.Below(e.Path, full) }) {
			unread = append(unread, Unread{File: file, Key: strings.Join(full, "."), Missing: true})
		}
	}
	return unread, nil
}

// knows tells whether a key is known, or leads to one that is.
func (l *KeyList) knows(d *keys.Document, path []string) bool {
	return slices.ContainsFunc(l.Known, func(known string) bool {
		names := keys.Split(known)
		for i, name := range names {
			switch {
			case name == "**":
				return true
			case i >= len(path):
				return true // it leads there
			case name != "*" && !d.Below(path[i:i+1], []string{name}):
				return false
			}
		}
		return len(path) == len(names)
	})
}

// variables finds the variables of the environment that stand for keys below the root.
func (l *KeyList) variables(d *keys.Document, file string) (unread []Unread) {
	if len(l.Root) == 0 {
		return nil
	}
	prefix := keys.Variable(l.Root) + "_"
	for _, e := range d.Entries {
		name := e.Path[0]
		if !strings.HasPrefix(name, prefix) {
			continue
		}
		known := slices.ContainsFunc(l.Known, func(k string) bool {
			bare, open := strings.CutSuffix(k, "**")
			v := keys.Variable(append(slices.Clone(l.Root), keys.Split(strings.TrimSuffix(bare, "."))...))
			return v == name || open && strings.HasPrefix(name, v) || strings.Contains(k, "*") && !open
		})
		if !known {
			unread = append(
				unread,
				Unread{file, e.Line, name, false, l.nearest(strings.ToLower(strings.ReplaceAll(name[len(prefix):], "_", ".")))},
			)
		}
	}
	return unread
}

// nearest is the known key that looks like one.
func (l *KeyList) nearest(key string) string {
	near := spelling.Nearest(key, l.Known)
	if near == "" {
		// Or one of which the last name is the same.
		last := key[strings.LastIndexByte(key, '.')+1:]
		for _, k := range l.Known {
			if k[strings.LastIndexByte(k, '.')+1:] == last {
				near = k
			}
		}
	}
	if near == "" || len(l.Root) == 0 {
		return near
	}
	return strings.Join(l.Root, ".") + "." + near
}

// WithSchema is the list with the keys that a JSON Schema lists.
func (l *KeyList) WithSchema(src []byte) (*KeyList, error) {
	var schema map[string]any
	if err := json.Unmarshal(src, &schema); err != nil {
		return nil, fmt.Errorf("the JSON Schema %s: %w", l.Schema, err)
	}
	next := *l
	next.Known, next.Required = slices.Clone(l.Known), slices.Clone(l.Required)
	w := schemaWalk{root: schema, list: &next}
	w.object(schema, "", true, 0)
	return &next, nil
}

// schemaWalk lists the keys of a JSON Schema.
type schemaWalk struct {
	root map[string]any
	list *KeyList
}

// object takes in what a schema says of an object at a key.
func (w *schemaWalk) object(schema map[string]any, key string, required bool, depth int) {
	if depth > 20 || len(w.list.Known) > 100_000 {
		return
	}
	if ref, ok := schema["$ref"].(string); ok {
		if target := w.find(ref); target != nil {
			w.object(target, key, required, depth+1)
		} else {
			w.know(key, "**")
		}
		return
	}
	for _, word := range []string{"allOf", "anyOf", "oneOf"} {
		list, _ := schema[word].([]any)
		for _, item := range list {
			if inner, ok := item.(map[string]any); ok {
				w.object(inner, key, required && word == "allOf", depth+1)
			}
		}
	}
	properties, _ := schema["properties"].(map[string]any)
	must, _ := schema["required"].([]any)
	for name, item := range properties {
		at := join(key, name)
		needed := required && slices.Contains(must, any(name))
		inner, _ := item.(map[string]any)
		if needed {
			w.list.Required = append(w.list.Required, at)
		}
		w.list.Known = append(w.list.Known, at)
		w.object(inner, at, needed, depth+1)
	}
	if open, stated := schema["additionalProperties"]; key != "" && properties == nil || schema["patternProperties"] != nil ||
		stated && open != false {
		w.know(key, "**")
	}
}

func (w *schemaWalk) know(key, rest string) { w.list.Known = append(w.list.Known, join(key, rest)) }

func join(key, name string) string {
	if strings.Contains(name, ".") {
		name = `"` + name + `"`
	}
	if key == "" {
		return name
	}
	return key + "." + name
}

// find follows a reference within the schema.
func (w *schemaWalk) find(ref string) map[string]any {
	path, ok := strings.CutPrefix(ref, "#/")
	if !ok {
		return nil
	}
	now := w.root
	for name := range strings.SplitSeq(path, "/") {
		next, ok := now[strings.NewReplacer("~1", "/", "~0", "~").Replace(name)].(map[string]any)
		if !ok {
			return nil
		}
		now = next
	}
	return now
}

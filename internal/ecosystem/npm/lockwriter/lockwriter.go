// Package lockwriter writes a tree as a package-lock.json. What says the same as before keeps its bytes.
package lockwriter

import (
	"bytes"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"bellwether/internal/core/jsondoc"
	"bellwether/internal/core/model"
	"bellwether/internal/ecosystem/npm/lock"
	"bellwether/internal/ecosystem/npm/packagejson"
	"bellwether/internal/ecosystem/npm/tree"
)

// newLockVersion is the lockfileVersion of a lock where there was none.
const newLockVersion = 3

// Writer gives a tree the form of a lock file. What does not change keeps
// its bytes.
type Writer struct {
	Tree         *tree.Tree
	Old          *lock.File // nil for a new lock
	Tops         map[*tree.Node]*packagejson.Manifest
	OmitResolved bool // npm's omit-lockfile-registry-resolved
	indent, nl   string
}

// object is a JSON object under construction.
type object = map[string]any

// Write gives the lock's new bytes; the old ones if nothing changed.
func (w *Writer) Write() ([]byte, error) {
	root := w.Tops[w.Tree.Root]
	w.indent, w.nl = jsondoc.Indentation(root.Src), jsondoc.LineEnd(root.Src)
	if w.Old == nil {
		w.Old = &lock.File{Version: newLockVersion, Src: w.emptyLock(root)}
		var err error
		if w.Old.Doc, err = ParseOwn(w.Old.Src); err != nil {
			return nil, err
		}
	} else {
		w.indent, w.nl = jsondoc.Indentation(w.Old.Src), jsondoc.LineEnd(w.Old.Src)
	}
	var splices []model.Splice
	if w.Old.Version >= 2 {
		splices = append(splices, w.replaceObject("packages", w.packages()))
	}
	if w.Old.Version <= 2 {
		splices = append(splices, w.replaceObject("dependencies", w.legacy(w.Tree.Root)))
	}
	return model.Apply(w.Old.Src, splices)
}

// emptyLock is the frame of a new lock.
func (w *Writer) emptyLock(root *packagejson.Manifest) []byte {
	var b bytes.Buffer
	name := root.Name
	if name == "" {
		name = path.Base(root.Dir)
	}
	line := func(key string, value any) {
		b.WriteString(w.indent)
		w.value(&b, key, 1)
		b.WriteString(": ")
		w.value(&b, value, 1)
		b.WriteString("," + w.nl)
	}
	b.WriteString("{" + w.nl)
	line("name", name)
	if root.Version != "" {
		line("version", root.Version)
	}
	b.WriteString(w.indent + `"lockfileVersion": 3,` + w.nl)
	line("requires", true)
	b.WriteString(w.indent + `"packages": {}` + w.nl + "}" + w.nl)
	return b.Bytes()
}

// member is one entry of an object with its text.
type member struct {
	key  string
	text string
}

// replaceObject puts members in the place of one of the lock's objects.
func (w *Writer) replaceObject(name string, members []member) model.Splice {
	v := w.Old.Doc.Get(name)
	site := model.Site{File: w.Old.File, Start: len(w.Old.Src), End: len(w.Old.Src)}
	if v == nil {
		return model.Splice{Site: site}
	}
	site.Start, site.End, site.Text = v.Start, v.End, string(v.Raw(w.Old.Src))
	unchanged := len(members) == len(v.Members)
	for i := 0; unchanged && i < len(members); i++ {
		m := v.Members[i]
		unchanged = m.Name == members[i].key && string(m.Value.Raw(w.Old.Src)) == members[i].text
	}
	if unchanged {
		return model.Splice{Site: site, New: site.Text}
	}
	var b bytes.Buffer
	b.WriteString("{")
	for i, m := range members {
		if i > 0 {
			b.WriteString(",")
		}
		b.WriteString(w.nl + strings.Repeat(w.indent, 2))
		w.value(&b, m.key, 2)
		b.WriteString(": " + m.text)
	}
	if len(members) > 0 {
		b.WriteString(w.nl + w.indent)
	}
	b.WriteString("}")
	return model.Splice{Site: site, New: b.String()}
}

// packages are the entries of all locations: known ones in the order of the
// lock, new ones where they belong between them.
func (w *Writer) packages() []member {
	texts := map[string]string{}
	w.Tree.Walk(func(n *tree.Node) { texts[n.Loc] = w.entryText(n) })
	var members []member
	if v := w.Old.Doc.Get("packages"); v != nil {
		for _, m := range v.Members {
			if text, ok := texts[m.Name]; ok {
				members = append(members, member{m.Name, text})
				delete(texts, m.Name)
			}
		}
	}
	return merge(members, texts)
}

// merge puts new members before the first known one that sorts after them.
func merge(known []member, fresh map[string]string) []member {
	merged := make([]member, 0, len(known)+len(fresh))
	order := packagejson.Collated(fresh)
	for _, k := range known {
		for len(order) > 0 && packagejson.Collate(order[0], k.key) < 0 {
			merged = append(merged, member{order[0], fresh[order[0]]})
			order = order[1:]
		}
		merged = append(merged, k)
	}
	for _, key := range order {
		merged = append(merged, member{key, fresh[key]})
	}
	return merged
}

// entryText is a location's entry: as it was if it says the same.
func (w *Writer) entryText(n *tree.Node) string {
	var before object
	if n.Entry != nil && n.Entry.Text != nil {
		if !n.IsTop() && n.LinkTo == nil && n.Flags == n.Entry.Flags && !n.Entry.Extraneous {
			return string(n.Entry.Text) // only the flags of a node that was there can have changed
		}
		_ = json.Unmarshal(n.Entry.Text, &before)
	}
	after := w.entry(n, before)
	if before != nil && reflect.DeepEqual(before, after) {
		return string(n.Entry.Text)
	}
	return w.text(after, 2)
}

// entry is what the lock is to say of a location. For a node that was in the
// lock before, only the flags can have changed.
func (w *Writer) entry(n *tree.Node, before object) object {
	var e object
	switch {
	case n.IsTop():
		e = w.topEntry(n)
		if n == w.Tree.Root {
			return e
		}
	case n.LinkTo != nil:
		e = object{"resolved": n.LinkTo.Loc, "link": true}
	case before != nil:
		e = maps.Clone(before)
		for _, flag := range []string{"dev", "optional", "devOptional", "peer", "extraneous"} {
			delete(e, flag)
		}
	default:
		e = w.newEntry(n)
	}
	f := n.Flags
	for flag, set := range map[string]bool{"dev": f.Dev, "optional": f.Optional, "devOptional": f.DevOptional, "peer": f.Peer} {
		if set {
			e[flag] = true
		}
	}
	return e
}

func (w *Writer) newEntry(n *tree.Node) object {
	e := object{"version": n.Version}
	if n.Package != n.Name {
		e["name"] = n.Package
	}
	if n.Resolved != "" && (!w.OmitResolved || packagejson.IsGit(n.Resolved)) {
		e["resolved"] = n.Resolved
	}
	putText(e, "integrity", n.Integrity)
	putText(e, "deprecated", n.Deprecate)
	if n.InBundle {
		e["inBundle"] = true
	}
	putBody(e, n.Body)
	return e
}

// topEntry repeats what a manifest says, as its new text has it.
func (w *Writer) topEntry(n *tree.Node) object {
	m := w.Tops[n]
	e := object{}
	if n == w.Tree.Root || m.Name != path.Base(m.Dir) {
		putText(e, "name", m.Name)
	}
	putText(e, "version", m.Version)
	putBody(e, &m.Body)
	dev := map[string]string{}
	for _, d := range m.Dependencies {
		if d.Group == "devDependencies" {
			dev[d.Name] = m.Doc.At("devDependencies", d.Name).String()
		}
	}
	if m.Doc.Get("devDependencies") != nil && len(dev) == 0 {
		e["devDependencies"] = object{} // which npm leaves for this group alone
	}
	putMap(e, "devDependencies", dev)
	if v := m.Doc.Get("workspaces"); v != nil && n == w.Tree.Root {
		putJSON(e, "workspaces", string(v.Raw(m.Src)))
	}
	return e
}

func putBody(e object, b *packagejson.Body) {
	putMap(e, "dependencies", b.Dependencies)
	putMap(e, "optionalDependencies", b.Optional)
	putMap(e, "peerDependencies", b.Peers)
	putJSON(e, "peerDependenciesMeta", b.PeersMeta)
	putJSON(e, "engines", b.Engines)
	putJSON(e, "funding", b.Funding)
	putJSON(e, "bin", b.Bin)
	putText(e, "license", b.License)
	putList(e, "os", b.OS)
	putList(e, "cpu", b.CPU)
	putList(e, "libc", b.Libc)
	putList(e, "bundleDependencies", b.Bundled)
	if b.Script {
		e["hasInstallScript"] = true
	}
	if b.Shrinkwrap {
		e["hasShrinkwrap"] = true
	}
}

func putText(e object, key, text string) {
	if text != "" {
		e[key] = text
	}
}

func putMap(e object, key string, m map[string]string) {
	if len(m) == 0 {
		return
	}
	o := object{}
	for k, v := range m {
		o[k] = v
	}
	e[key] = o
}

func putList(e object, key string, list []string) {
	if len(list) == 0 {
		return
	}
	items := make([]any, len(list))
	for i, s := range list {
		items[i] = s
	}
	e[key] = items
}

func putJSON(e object, key, text string) {
	var v any
	if text != "" && json.Unmarshal([]byte(text), &v) == nil {
		e[key] = v
	}
}

// legacy are the entries of the nested "dependencies" that versions 1 and 2
// have for old clients.
func (w *Writer) legacy(n *tree.Node) []member {
	var members []member
	for _, name := range packagejson.Collated(n.Kids) {
		members = append(members, member{name, w.text(w.legacyEntry(n.Kids[name]), 2)})
	}
	return members
}

func (w *Writer) legacyEntry(n *tree.Node) object {
	e := object{"version": n.Version}
	switch {
	case n.LinkTo != nil:
		e["version"] = "file:" + n.LinkTo.Loc
	case n.Version == "" || packagejson.IsGit(n.Resolved):
		e["version"] = n.Resolved
	case n.Package != n.Name:
		e["version"] = "npm:" + n.Package + "@" + n.Version
	}
	if n.InBundle {
		e["bundled"] = true
	} else if n.Resolved != "" && e["version"] != n.Resolved && n.LinkTo == nil && !(w.OmitResolved && n.Entry == nil) {
		e["resolved"] = n.Resolved
	}
	putText(e, "integrity", n.Integrity)
	for flag, set := range map[string]bool{
		"dev": n.Flags.Dev, "optional": n.Flags.Optional, "devOptional": n.Flags.DevOptional, "peer": n.Flags.Peer,
	} {
		if set {
			e[flag] = true
		}
	}
	requires := map[string]string{}
	b := n.Target().Body
	if b != nil {
		maps.Copy(requires, b.Dependencies)
		maps.Copy(requires, b.Optional)
	}
	if n.LinkTo != nil {
		for _, d := range w.Tops[n.LinkTo].Dependencies {
			if !d.Kind.IsPeer() {
				requires[d.Name] = w.Tops[n.LinkTo].Doc.At(d.Group, d.Name).String()
			}
		}
	}
	putMap(e, "requires", requires)
	if kids := n.Target().Kids; len(kids) > 0 {
		nested := object{}
		for name, k := range kids {
			nested[name] = w.legacyEntry(k)
		}
		e["dependencies"] = nested
	}
	return e
}

func (w *Writer) text(v any, depth int) string {
	var b bytes.Buffer
	w.value(&b, v, depth)
	return b.String()
}

// leading are the keys that npm writes first in every object.
var leading = []string{"name", "version", "lockfileVersion", "resolved", "integrity", "requires", "packages", "dependencies"}

// compareKeys orders an object's keys as npm does: plain values before
// objects, the leading keys before others.
func compareKeys(o object) func(a, b string) int {
	isObject := func(key string) int {
		if _, ok := o[key].(object); ok {
			return 1
		}
		return 0
	}
	place := func(key string) int {
		if at := slices.Index(leading, key); at >= 0 {
			return at
		}
		return len(leading)
	}
	return func(a, b string) int {
		if d := isObject(a) - isObject(b); d != 0 {
			return d
		}
		if d := place(a) - place(b); d != 0 {
			return d
		}
		return packagejson.Collate(a, b)
	}
}

func (w *Writer) value(b *bytes.Buffer, v any, depth int) {
	inner := w.nl + strings.Repeat(w.indent, depth+1)
	switch v := v.(type) {
	case object:
		if len(v) == 0 {
			b.WriteString("{}")
			return
		}
		keys := slices.SortedFunc(maps.Keys(v), compareKeys(v))
		for i, key := range keys {
			b.WriteString(map[bool]string{true: "{", false: ","}[i == 0] + inner)
			w.value(b, key, depth+1)
			b.WriteString(": ")
			w.value(b, v[key], depth+1)
		}
		b.WriteString(w.nl + strings.Repeat(w.indent, depth) + "}")
	case []any:
		if len(v) == 0 {
			b.WriteString("[]")
			return
		}
		for i, item := range v {
			b.WriteString(map[bool]string{true: "[", false: ","}[i == 0] + inner)
			w.value(b, item, depth+1)
		}
		b.WriteString(w.nl + strings.Repeat(w.indent, depth) + "]")
	default:
		text, _ := json.Marshal(v, jsontext.AllowInvalidUTF8(true))
		b.Write(text)
	}
}

// ParseOwn reads a lock that was just written.
func ParseOwn(src []byte) (*jsondoc.Value, error) { return jsondoc.Parse("package-lock.json", src) }

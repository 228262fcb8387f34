package npm

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
)

// newLockVersion is the lockfileVersion of a lock where there was none.
const newLockVersion = 3

// lockWriter gives a tree the form of a lock file. What does not change keeps
// its bytes.
type lockWriter struct {
	t            *tree
	old          *lockfile // nil for a new lock
	tops         map[*node]*manifest
	omitResolved bool // npm's omit-lockfile-registry-resolved
	indent, nl   string
}

// object is a JSON object under construction.
type object = map[string]any

// write gives the lock's new bytes; the old ones if nothing changed.
func (w *lockWriter) write() ([]byte, error) {
	root := w.tops[w.t.root]
	w.indent, w.nl = jsondoc.Indentation(root.src), jsondoc.LineEnd(root.src)
	if w.old == nil {
		w.old = &lockfile{version: newLockVersion, src: w.emptyLock(root)}
		var err error
		if w.old.doc, err = parseOwn(w.old.src); err != nil {
			return nil, err
		}
	} else {
		w.indent, w.nl = jsondoc.Indentation(w.old.src), jsondoc.LineEnd(w.old.src)
	}
	var splices []model.Splice
	if w.old.version >= 2 {
		splices = append(splices, w.replaceObject("packages", w.packages()))
	}
	if w.old.version <= 2 {
		splices = append(splices, w.replaceObject("dependencies", w.legacy(w.t.root)))
	}
	return model.Apply(w.old.src, splices)
}

// emptyLock is the frame of a new lock.
func (w *lockWriter) emptyLock(root *manifest) []byte {
	var b bytes.Buffer
	name := root.name
	if name == "" {
		name = path.Base(root.dir)
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
	if root.version != "" {
		line("version", root.version)
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
func (w *lockWriter) replaceObject(name string, members []member) model.Splice {
	v := w.old.doc.Get(name)
	site := model.Site{File: w.old.file, Start: len(w.old.src), End: len(w.old.src)}
	if v == nil {
		return model.Splice{Site: site}
	}
	site.Start, site.End, site.Text = v.Start, v.End, string(v.Raw(w.old.src))
	unchanged := len(members) == len(v.Members)
	for i := 0; unchanged && i < len(members); i++ {
		m := v.Members[i]
		unchanged = m.Name == members[i].key && string(m.Value.Raw(w.old.src)) == members[i].text
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
func (w *lockWriter) packages() []member {
	texts := map[string]string{}
	w.t.walk(func(n *node) { texts[n.loc] = w.entryText(n) })
	var members []member
	if v := w.old.doc.Get("packages"); v != nil {
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
	order := collated(fresh)
	for _, k := range known {
		for len(order) > 0 && collate(order[0], k.key) < 0 {
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
func (w *lockWriter) entryText(n *node) string {
	var before object
	if n.entry != nil && n.entry.text != nil {
		_ = json.Unmarshal(n.entry.text, &before)
	}
	after := w.entry(n, before)
	if before != nil && reflect.DeepEqual(before, after) {
		return string(n.entry.text)
	}
	return w.text(after, 2)
}

// entry is what the lock is to say of a location. For a node that was in the
// lock before, only the flags can have changed.
func (w *lockWriter) entry(n *node, before object) object {
	var e object
	switch {
	case n.isTop():
		e = w.topEntry(n)
		if n == w.t.root {
			return e
		}
	case n.linkTo != nil:
		e = object{"resolved": n.linkTo.loc, "link": true}
	case before != nil:
		e = maps.Clone(before)
		for _, flag := range []string{"dev", "optional", "devOptional", "peer", "extraneous"} {
			delete(e, flag)
		}
	default:
		e = w.newEntry(n)
	}
	f := n.flags
	for flag, set := range map[string]bool{"dev": f.dev, "optional": f.optional, "devOptional": f.devOptional, "peer": f.peer} {
		if set {
			e[flag] = true
		}
	}
	return e
}

func (w *lockWriter) newEntry(n *node) object {
	e := object{"version": n.version}
	if n.pkgName != n.name {
		e["name"] = n.pkgName
	}
	if n.resolved != "" && (!w.omitResolved || isGit(n.resolved)) {
		e["resolved"] = n.resolved
	}
	putText(e, "integrity", n.integrity)
	putText(e, "deprecated", n.deprecate)
	if n.inBundle {
		e["inBundle"] = true
	}
	putBody(e, n.body)
	return e
}

// topEntry repeats what a manifest says, as its new text has it.
func (w *lockWriter) topEntry(n *node) object {
	m := w.tops[n]
	e := object{}
	if n == w.t.root || m.name != path.Base(m.dir) {
		putText(e, "name", m.name)
	}
	putText(e, "version", m.version)
	putBody(e, &m.body)
	dev := map[string]string{}
	for _, d := range m.dependencies {
		if d.group == "devDependencies" {
			dev[d.name] = m.doc.At("devDependencies", d.name).String()
		}
	}
	if m.doc.Get("devDependencies") != nil && len(dev) == 0 {
		e["devDependencies"] = object{} // which npm leaves for this group alone
	}
	putMap(e, "devDependencies", dev)
	if v := m.doc.Get("workspaces"); v != nil && n == w.t.root {
		putJSON(e, "workspaces", string(v.Raw(m.src)))
	}
	return e
}

func putBody(e object, b *body) {
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
func (w *lockWriter) legacy(n *node) []member {
	var members []member
	for _, name := range collated(n.kids) {
		members = append(members, member{name, w.text(w.legacyEntry(n.kids[name]), 2)})
	}
	return members
}

func (w *lockWriter) legacyEntry(n *node) object {
	e := object{"version": n.version}
	switch {
	case n.linkTo != nil:
		e["version"] = "file:" + n.linkTo.loc
	case n.version == "" || isGit(n.resolved):
		e["version"] = n.resolved
	case n.pkgName != n.name:
		e["version"] = "npm:" + n.pkgName + "@" + n.version
	}
	if n.inBundle {
		e["bundled"] = true
	} else if n.resolved != "" && e["version"] != n.resolved && n.linkTo == nil && !(w.omitResolved && n.entry == nil) {
		e["resolved"] = n.resolved
	}
	putText(e, "integrity", n.integrity)
	for flag, set := range map[string]bool{
		"dev": n.flags.dev, "optional": n.flags.optional, "devOptional": n.flags.devOptional, "peer": n.flags.peer,
	} {
		if set {
			e[flag] = true
		}
	}
	requires := map[string]string{}
	b := n.target().body
	if b != nil {
		maps.Copy(requires, b.Dependencies)
		maps.Copy(requires, b.Optional)
	}
	if n.linkTo != nil {
		for _, d := range w.tops[n.linkTo].dependencies {
			if !d.kind.peer() {
				requires[d.name] = w.tops[n.linkTo].doc.At(d.group, d.name).String()
			}
		}
	}
	putMap(e, "requires", requires)
	if kids := n.target().kids; len(kids) > 0 {
		nested := object{}
		for name, k := range kids {
			nested[name] = w.legacyEntry(k)
		}
		e["dependencies"] = nested
	}
	return e
}

func (w *lockWriter) text(v any, depth int) string {
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
		return collate(a, b)
	}
}

func (w *lockWriter) value(b *bytes.Buffer, v any, depth int) {
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

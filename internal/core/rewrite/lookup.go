package rewrite

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/keys"
	"bellwether/internal/core/rewrite/source"
)

// lookups lists where a key that got another name is still looked up by its old one: as a variable of the environment, where a file
// for the environment changed, and in placeholders of other values.
func (b *Key) lookups(t *state, o *Outcome) error {
	if b.Old == "" || b.New == "" || b.Keep || b.Join != nil || strings.HasSuffix(b.Old, "*") {
		return nil
	}
	old, fresh := map[string]string{}, keys.Split(b.New)
	for _, name := range o.Files {
		switch format, _ := keys.FormatOf(name); format {
		case keys.Env:
			old[keys.Variable(keys.Split(b.Old))] = keys.Variable(fresh)
		case keys.Properties, keys.YAML:
			old["${"+b.Old] = b.New
		}
	}
	for _, name := range t.names() {
		if len(old) == 0 {
			break
		}
		f := t.glance(name, slices.Collect(maps.Keys(old)))
		if f == nil {
			continue
		}
		for _, was := range slices.Sorted(maps.Keys(old)) {
			for _, at := range source.Standing(f.Text, was) {
				reason := fmt.Sprintf("%s is looked up here, and is %s now", strings.TrimPrefix(was, "${"), old[was])
				o.Left = append(o.Left, Left{name, f.Line(at), reason})
			}
		}
	}
	return nil
}

// glance is a file as it is now, if one of some texts is in it; nil for others, for what cannot be read, and for what a program made.
func (t *state) glance(name string, texts []string) *source.File {
	if c, ok := t.changed[name]; ok {
		return c.File
	}
	raw, err := t.in.Read(name)
	if err != nil || !slices.ContainsFunc(texts, func(text string) bool { return bytes.Contains(raw, []byte(text)) }) {
		return nil
	}
	content, _, reason := decoded(raw)
	if reason != "" || source.Ours(content) || source.Generated(name, content) != "" {
		return nil
	}
	return source.NewFile(name, content)
}

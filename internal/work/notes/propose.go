package notes

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"bellwether/internal/core/compat"
	"bellwether/internal/core/finding"
	"bellwether/internal/core/keys"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/mention"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/work/tree"
)

// advise takes the renames that deprecations of the untouched project plainly say.
func (r *reader) advise(baseline *finding.Verification) {
	if baseline == nil {
		return
	}
	for _, c := range finding.Causes(baseline.Findings(), finding.Deprecation) {
		for _, x := range notes.Renames(c.Text) {
			advice := model.MessageRename{Old: x.Old, New: x.New, Source: c.Text}
			if !slices.ContainsFunc(r.result.Advice, func(o model.MessageRename) bool { return o.Old == x.Old }) {
				r.result.Advice = append(r.result.Advice, advice)
			}
		}
	}
}

// propose makes rules of the renames that notes and deprecations plainly state, as far as the
// project mentions the old name.
func (r *reader) propose() {
	var names []string
	for _, f := range r.found {
		for _, x := range f.entry.Renames {
			names = append(names, x.Old)
		}
	}
	for _, a := range r.result.Advice {
		names = append(names, a.Old)
	}
	uses, err := r.search(mention.NewNames(slices.Compact(slices.Sorted(slices.Values(names)))))
	if err != nil {
		return
	}
	for _, f := range r.found {
		p := r.result.Packages[f.pkg]
		for _, x := range f.entry.Renames {
			if use := uses(f.part, x.Old); use.Count > 0 && !notes.Common(x.Old) {
				r.rule(x, p, f.shown.Version, fmt.Sprintf("%s of %s %s", f.shown.Place, p.Name, f.shown.Version), use)
			}
		}
	}
	for _, a := range r.result.Advice {
		var all model.NameUse
		for _, part := range r.tree.Parts {
			use := uses(part, a.Old)
			all.Count += use.Count
			all.Places = append(all.Places, use.Places...)
		}
		if all.Count > 0 {
			r.rule(notes.Rename{Old: a.Old, New: a.New}, model.PackageNotes{}, "", "a deprecation: "+a.Source, all)
		}
	}
}

var (
	identifier = lazyregexp.New(`^[A-Za-z_$][\w$]*$`)
	dotted     = lazyregexp.New(`^[A-Za-z_$][\w$]*(\.[A-Za-z_$][\w$]*)+$`)
	slug       = lazyregexp.New(`[^a-z0-9]+`)
	humps      = lazyregexp.New(`([a-z0-9])([A-Z])`)
)

// configured is what a rule for a key or a value of configuration does: the first file that has
// it tells where it stands.
func (r *reader) configured(x notes.Rename, use model.NameUse) (kind string, does map[string]any, file, before, after string) {
	for _, place := range use.Places {
		name, _, _ := strings.Cut(place, ":")
		format, ok := keys.FormatOf(name)
		if !ok {
			return "", nil, "", "", "" // it is used in code as well
		}
		data, err := fs.ReadFile(r.tree.Files.FS, name)
		if err != nil {
			continue
		}
		d, err := keys.Read(format, string(data))
		if err != nil {
			continue
		}
		old := keys.Split(x.Old)
		for _, e := range d.Entries {
			switch above := len(e.Path) - len(old); {
			case e.Text == x.Old:
				return "value", map[string]any{"old": x.Old, "new": x.New}, "example.json",
					fmt.Sprintf("{\"a\": %q}\n", x.Old), fmt.Sprintf("{\"a\": %q}\n", x.New)
			case above >= 0 && slices.Equal(e.Path[above:], old):
				to := strings.Join(append(slices.Clone(e.Path[:above]), keys.Split(x.New)...), ".")
				return "key", map[string]any{"old": e.Name(), "new": to}, name, e.Name() + "=1\n", to + "=1\n"
			}
		}
	}
	return "", nil, "", "", ""
}

// body is what a rule for a rename does, with an example; kind is empty where none can be made.
func body(x notes.Rename, p model.PackageNotes) (kind string, does map[string]any, before, after string) {
	switch {
	case strings.Contains(x.Old, "/") || x.Old == p.Name:
		if strings.HasPrefix(x.Old, "/") || strings.HasPrefix(x.Old, ".") {
			return "", nil, "", ""
		}
		return "rename", map[string]any{"what": "module", "old": x.Old, "new": x.New, "below": true},
			fmt.Sprintf("import a from '%s'\n", x.Old), fmt.Sprintf("import a from '%s'\n", x.New)
	case identifier.MatchString(x.Old) && identifier.MatchString(x.New):
		return "rename", map[string]any{"old": x.Old, "new": x.New}, x.Old + "(1)\n", x.New + "(1)\n"
	case (identifier.MatchString(x.Old) || dotted.MatchString(x.Old)) && (identifier.MatchString(x.New) || dotted.MatchString(x.New)):
		return "pattern", map[string]any{
			"find": x.Old + "(`arguments:list`)",
			"put":  x.New + "(`arguments`)",
		}, x.Old + "(1)\n", x.New + "(1)\n"
	}
	return "", nil, "", ""
}

// rule adds a proposed rule, once.
func (r *reader) rule(x notes.Rename, p model.PackageNotes, since, source string, use model.NameUse) {
	adapt := map[string]any{}
	file := "example.js"
	kind, does, example, before, after := r.configured(x, use)
	switch {
	case kind == "key":
		adapt["files"] = []string{"**/" + path.Base(example), "example.properties"}
		file = "example.properties"
	case kind != "":
		file = example
	default:
		kind, does, before, after = body(x, p)
	}
	id := strings.Trim(slug.ReplaceAllString(strings.ToLower(humps.ReplaceAllString(x.Old, "$1-$2")), "-"), "-")
	if kind == "" || slices.ContainsFunc(r.result.Rules, func(o model.ProposedRule) bool { return o.ID == id }) {
		return
	}
	if strings.HasPrefix(p.PURL, "pkg:golang/") && file == "example.js" {
		file = "example.go"
		if does["what"] == "module" {
			before, after = fmt.Sprintf("import \"%s\"\n", x.Old), fmt.Sprintf("import \"%s\"\n", x.New)
		}
	}
	adapt[kind], adapt["examples"] = does, []any{map[string]any{"file": file, "before": before, "after": after}}
	if p.Name != "" {
		if subject, ok := r.subject(p); ok {
			adapt["once"] = map[string]string{subject.String(): ">=" + since}
		}
	}
	text, err := yaml.Marshal([]any{map[string]any{
		"id": id, "because": fmt.Sprintf("%s goes on as %s", x.Old, x.New), "source": source, "adapt": adapt,
	}})
	if err != nil {
		return
	}
	says := fmt.Sprintf("renames %s to %s", x.Old, x.New)
	r.result.Rules = append(
		r.result.Rules,
		model.ProposedRule{ID: id, Kind: kind, Says: says, Source: source, Used: use.Count, Text: string(text)},
	)
}

// subject is the package that notes are of.
func (r *reader) subject(p model.PackageNotes) (s model.Subject, ok bool) {
	part := r.tree.Part(p.Component)
	if part == nil {
		return s, false
	}
	return part.SubjectOf(p.Name)
}

// Book is the proposed rules as a compat book. It is read once more, so that what is written can
// be used.
func Book(t *tree.Tree, rules []model.ProposedRule) ([]byte, error) {
	text := "# Rules that follow from what releases and deprecations plainly say. Read them before you use\n" +
		"# them: bellwether adapt --rules FILE shows what they would do.\nschema: " + compat.Schema + "\nrules:\n"
	for _, rule := range rules {
		for line := range strings.Lines(rule.Text) {
			text += "  " + line
		}
	}
	if len(rules) == 0 {
		text = strings.TrimSuffix(text, "rules:\n") + "rules: []\n"
	}
	if _, faults := compat.Parse("proposed rules", []byte(text), t.Table.Order); len(faults) > 0 {
		return nil, faults[0]
	}
	return []byte(text), nil
}

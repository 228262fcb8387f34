package notes

import (
	"context"
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
	"bellwether/internal/core/lex"
	"bellwether/internal/core/mention"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/ecosystem"
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
func (r *reader) propose(ctx context.Context) {
	var names []string
	for _, f := range r.found {
		for _, x := range f.entry.Renames {
			names = append(names, x.Old, behind(x.Old, r.result.Packages[f.pkg].Name))
		}
	}
	for _, a := range r.result.Advice {
		names = append(names, a.Old)
	}
	found := r.search(mention.NewNames(slices.Compact(slices.Sorted(slices.Values(names)))))
	for _, f := range r.found {
		p := r.result.Packages[f.pkg]
		for _, x := range f.entry.Renames {
			use := found.Of(f.part, x.Old, p.Name)
			if use.Count == 0 || notes.Common(x.Old) {
				continue
			}
			source := fmt.Sprintf("%s of %s %s", f.shown.Place, p.Name, f.shown.Version)
			configured, _, _, _, _ := r.configured(x, use) // keys are no words of a program
			if kindOf(x.Old) == kindOf(x.New) && (configured != "" || r.replaced(ctx, f.part, p, x)) {
				r.rule(x, p, f.shown.Version, source, use)
			} else {
				r.note(x, p, f.shown, source, use)
			}
		}
	}
	for _, a := range r.result.Advice {
		var all model.NameUse
		for _, part := range r.tree.Parts {
			use := found.Of(part, a.Old, "")
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

// kindOf is what sort of name a name is: only one of the same sort can take its place by itself.
func kindOf(name string) string {
	switch {
	case strings.HasPrefix(name, "-"):
		return "flag"
	case strings.Contains(name, "/") || strings.HasPrefix(name, "@"):
		return "module"
	case identifier.MatchString(name):
		return "identifier"
	case dotted.MatchString(name):
		return "path"
	}
	return "other"
}

// The bounds of a file of a release that is searched for a name, and of all of them, in bytes.
const (
	maxSource  = 2 << 20
	maxSources = 48 << 20
)

var sources = ecosystem.Wanted{Form: "sources/1", File: func(name string, size int64) bool {
	l := lex.Of(name)
	other := strings.Contains(name, "test") || strings.Contains(name, ".min.")
	return l != nil && size <= maxSource && slices.Contains(programs, l.Name) && !other
}}

// programs are the languages whose words tell what a release declares.
var programs = []string{"javascript", "typescript", "go", "python", "ruby", "java", "kotlin", "php"}

// replaced tells whether a release has the new name and no longer the old one, as code. Where nothing of it can be read, what the
// notes say is taken as it is.
func (r *reader) replaced(ctx context.Context, part *tree.Part, p model.PackageNotes, x notes.Rename) bool {
	kind := kindOf(x.Old)
	if kind != "identifier" && kind != "path" {
		return true
	}
	registry, err := r.desk.Registry(ctx, part)
	archived, ok := registry.(ecosystem.Archived)
	subject, known := part.SubjectOf(p.Name)
	if err != nil || !ok || !known {
		return true
	}
	files, err := archived.Archive(ctx, subject, p.To, sources)
	if err != nil || len(files) == 0 {
		return true
	}
	last := func(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }
	old, fresh, size := false, false, 0
	for _, f := range files {
		if size += len(f.Data); size > maxSources {
			return false // not all of it was read
		}
		text := string(f.Data)
		hasOld, hasNew := strings.Contains(text, last(x.Old)), strings.Contains(text, last(x.New))
		if !hasOld && !hasNew {
			continue
		}
		for _, t := range lex.Split(lex.Of(f.Name), text) {
			if t.Kind == lex.Word {
				old, fresh = old || t.Of(text) == last(x.Old), fresh || t.Of(text) == last(x.New)
			}
		}
	}
	return fresh && !old
}

// note proposes a thing to do where the project uses a name of which nobody can tell that another takes its place by itself.
func (r *reader) note(x notes.Rename, p model.PackageNotes, said model.NoteEntry, source string, use model.NameUse) {
	name, todo := x.Old, map[string]any{}
	switch kindOf(name) {
	case "identifier":
		todo["name"] = name
	case "path":
		todo["member"] = name[strings.LastIndexByte(name, '.')+1:]
	case "module":
		todo["module"] = name
	default:
		return
	}
	id := "see-" + idOf(name)
	subject, ok := r.subject(p)
	if !ok || slices.ContainsFunc(r.result.Rules, func(o model.ProposedRule) bool { return o.ID == id }) {
		return
	}
	text := said.Text
	if runes := []rune(text); len(runes) > 200 {
		text = string(runes[:200]) + "…"
	}
	todo["text"] = text
	example := map[string]any{"file": "example.js", "before": fmt.Sprintf("a.%s(1)\n", name[strings.LastIndexByte(name, '.')+1:])}
	switch kindOf(name) {
	case "identifier":
		example["before"] = name + "(1)\n"
	case "module":
		example["before"] = fmt.Sprintf("import a from '%s'\n", name)
	}
	written, err := yaml.Marshal([]any{map[string]any{
		"id": id, "because": p.Name + " says so", "source": source,
		"adapt": map[string]any{
			"once": map[string]string{subject.String(): ">=" + said.Version}, "todo": todo, "examples": []any{example},
		},
	}})
	if err != nil {
		return
	}
	r.result.Rules = append(r.result.Rules, model.ProposedRule{
		ID: id, Kind: "todo", Says: "lists where " + name + " is used, as something to do", Source: source, Used: use.Count,
		Text: string(written),
	})
}

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
		if x.Old != p.Name && !strings.HasPrefix(x.Old, p.Name+"/") { // a kind of document, a path of its own
			return "", nil, "", ""
		}
		return "rename", map[string]any{"what": "module", "old": x.Old, "new": x.New, "below": true},
			fmt.Sprintf("import a from '%s'\n", x.Old), fmt.Sprintf("import a from '%s'\n", x.New)
	case identifier.MatchString(x.Old) && identifier.MatchString(x.New) && strings.HasPrefix(p.PURL, "pkg:npm/"):
		imported := func(name string) string { return fmt.Sprintf("import { %s } from '%s'\n%s(1)\n", name, p.Name, name) }
		return "rename", map[string]any{"what": "member", "of": p.Name, "old": x.Old, "new": x.New}, imported(x.Old), imported(x.New)
	case identifier.MatchString(x.Old) && identifier.MatchString(x.New) && strings.HasPrefix(p.PURL, "pkg:golang/"):
		imported := func(name string) string {
			return fmt.Sprintf("package a\n\nimport q %q\n\nvar _ = q.%s\n", p.Name, name)
		}
		return "rename", map[string]any{"what": "member", "of": p.Name, "old": x.Old, "new": x.New}, imported(x.Old), imported(x.New)
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

// idOf is a rule's name after the name that it is about.
func idOf(name string) string {
	return strings.Trim(slug.ReplaceAllString(strings.ToLower(humps.ReplaceAllString(name, "$1-$2")), "-"), "-")
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
	id := idOf(x.Old)
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

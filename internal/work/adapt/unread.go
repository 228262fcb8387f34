package adapt

import (
	"context"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/compat"
	"bellwether/internal/core/keys"
	"bellwether/internal/core/model"
	"bellwether/internal/core/rewrite"
	"bellwether/internal/ecosystem"
	"bellwether/internal/work/tree"
)

// maxSchema bounds a JSON Schema, in bytes.
const maxSchema = 8 << 20

// unread finds the keys of the project that the versions after a step do not know, and those that
// they require and that are not there. Rules that held before the step tell nothing new.
func (j *job) unread(ctx context.Context, rules []*compat.Rule, s step, edits []model.FileEdit) (found []model.KeyFinding, err error) {
	files := j.tree.Over(edits)
	hold := func(r *compat.Rule, w compat.World) bool {
		return !slices.ContainsFunc(r.When, func(c compat.Condition) bool { return !w.Holds(c) })
	}
	own := func(string) bool { return true }
	if s.part != nil {
		own = j.belonging(s.part)
	}
	for _, r := range rules {
		if r.Keys == nil || r.Foreign != "" || !hold(r, s.after) || hold(r, s.before) {
			continue
		}
		list, err := j.listed(ctx, r.Keys, s, files.FS)
		if err != nil {
			return nil, err
		}
		for _, name := range files.Files() {
			if _, config := keys.FormatOf(name); !config || !own(name) || files.IsLink(name) {
				continue
			}
			text, ok := readText(files.FS, name)
			if !ok {
				continue
			}
			unread, err := list.Unread(name, text)
			if err != nil {
				found = append(found, model.KeyFinding{Place: name, Rule: r.ID, Because: err.Error()})
				continue
			}
			for _, u := range unread {
				one := model.KeyFinding{
					Place: model.Site{File: u.File, Line: u.Line}.String(), Key: u.Key, Missing: u.Missing, Nearest: u.Nearest, Rule: r.ID,
					Because: r.Because, Repair: repairOf(rules, u.Key),
				}
				for _, c := range r.When {
					one.By = append(one.By, c.String())
				}
				found = append(found, one)
			}
		}
	}
	return found, nil
}

// repairOf is a rule that would move a key; "" for none.
func repairOf(rules []*compat.Rule, key string) string {
	for _, r := range rules {
		if r.Repair == nil {
			continue
		}
		if b, ok := r.Repair.Body.(*rewrite.Key); ok && b.Old != "" &&
			(b.Old == key || strings.EqualFold(keys.Variable(keys.Split(b.Old)), key)) {
			return r.ID
		}
	}
	return ""
}

// readText reads a text of a moderate size.
func readText(files fs.FS, name string) (string, bool) {
	info, err := fs.Stat(files, name)
	if err != nil || info.Size() > rewrite.MaxFile {
		return "", false
	}
	data, err := fs.ReadFile(files, name)
	if err != nil {
		return "", false
	}
	text, _, err := charset.Decode(data)
	return text, err == nil
}

// listed is a list of keys with those of its JSON Schema: a file of the project, or one of the
// archive of the release that the step leads to.
func (j *job) listed(ctx context.Context, l *compat.KeyList, s step, files fs.FS) (*compat.KeyList, error) {
	switch {
	case l.Schema == "":
		return l, nil
	case l.SchemaOf == (model.Subject{}):
		src, err := fs.ReadFile(files, path.Clean(l.Schema))
		if err != nil {
			return nil, &model.Fault{Doing: "reading a JSON Schema", File: l.Schema, Wrong: model.Reason(err)}
		}
		return l.WithSchema(src)
	}
	for _, v := range s.after[l.SchemaOf] {
		src, err := j.archived(ctx, s.part, l, v.String())
		if err != nil {
			return nil, err
		}
		if src != nil {
			return l.WithSchema(src)
		}
	}
	return l, nil
}

// archived is a JSON Schema in the archive of a release; nil for none.
func (j *job) archived(ctx context.Context, part *tree.Part, l *compat.KeyList, version string) ([]byte, error) {
	if part == nil {
		return nil, nil
	}
	registry, err := j.desk.Registry(ctx, part)
	if err != nil {
		return nil, err
	}
	archive, ok := registry.(ecosystem.Archived)
	if !ok {
		return nil, nil
	}
	list, err := archive.Archive(ctx, l.SchemaOf, version, ecosystem.Wanted{
		Form: "file/1 " + l.Schema, File: func(name string, size int64) bool { return name == path.Clean(l.Schema) && size <= maxSchema },
	})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return list[0].Data, nil
}

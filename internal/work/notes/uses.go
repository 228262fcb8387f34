package notes

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bellwether/internal/core/charset"
	"bellwether/internal/core/keys"
	"bellwether/internal/core/lazyregexp"
	"bellwether/internal/core/mention"
	"bellwether/internal/core/model"
	"bellwether/internal/core/notes"
	"bellwether/internal/core/rewrite/source"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/pin"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/kept"
	"bellwether/internal/work/settings"
	"bellwether/internal/work/tree"
)

// shownPlaces is how many places of a name are told; the others are counted.
const shownPlaces = 5

// maxSearched bounds a file that is searched, in bytes.
const maxSearched = 2 << 20

// Uses are where the project's files mention names.
type Uses struct {
	reader  *reader
	files   []*source.File     // in which some name is mentioned
	lines   []map[string][]int // of each file, by name
	imports map[*source.File]map[string]bool
}

// leaveIgnored leaves out what git ignores.
func (r *reader) leaveIgnored(ctx context.Context, k *kept.Store) error {
	repo, err := k.OpenRepo(ctx)
	if err != nil || repo == nil {
		return err
	}
	r.ignored, err = repo.Ignored(ctx, r.desk.Root, r.tree.Files.Files())
	return err
}

// Search looks for names in the project's own files, without those that git ignores.
func Search(ctx context.Context, d *desk.Desk, t *tree.Tree, k *kept.Store, names []string) (*Uses, error) {
	r := &reader{desk: d, tree: t}
	if err := r.leaveIgnored(ctx, k); err != nil {
		return nil, err
	}
	return r.search(mention.NewNames(slices.Compact(slices.Sorted(slices.Values(names))))), nil
}

// search looks for names in the project's own files.
func (r *reader) search(names *mention.Names) *Uses {
	u := &Uses{reader: r, imports: map[*source.File]map[string]bool{}}
	files := r.tree.Files
	for _, name := range files.Files() {
		if names.Empty() || r.ignored[name] || files.IsLink(name) || name == settings.File ||
			slices.ContainsFunc(r.tree.Parts, func(p *tree.Part) bool { return p.Keeps(name) || p.Manifest == name }) {
			continue
		}
		if info, err := fs.Stat(files.FS, name); err != nil || info.Size() > maxSearched {
			continue
		}
		data, err := fs.ReadFile(files.FS, name)
		if err != nil {
			continue
		}
		text, _, err := charset.Decode(data)
		if errors.Is(err, charset.ErrBinary) || source.Ours(text) || source.Generated(name, text) != "" {
			continue
		}
		if lines := names.In(name, text); len(lines) > 0 {
			u.files, u.lines = append(u.files, source.NewFile(name, text)), append(u.lines, lines)
		}
	}
	return u
}

// Of is where a component's files mention a name that belongs to a package.
func (u *Uses) Of(part *tree.Part, name, pkg string) (use model.NameUse) {
	use.Name = name
	member := behind(name, pkg)
	for i, f := range u.files {
		lines := u.lines[i][name]
		owner := u.reader.owner(f.Name)
		if owner != part.Dir && owner != "" {
			continue
		}
		switch {
		case len(lines) > 0 && u.belongs(f, part, name, pkg):
		case member != "" && len(u.lines[i][member]) > 0 && f.Tied(member, pkg): // the file calls the package otherwise
			lines = u.lines[i][member]
		default:
			continue
		}
		use.Count += len(lines)
		for _, line := range lines {
			if len(use.Places) < shownPlaces {
				use.Places = append(use.Places, model.Site{File: f.Name, Line: line}.String())
			}
		}
	}
	return use
}

// behind is the member in a name that begins with a package's own: Read of "gauge.Read"; "" for other names.
func behind(name, pkg string) string {
	own := path.Base(pkg)
	if major, _ := path.Match("v[0-9]*", own); major {
		own = path.Base(path.Dir(pkg))
	}
	member, ok := strings.CutPrefix(name, own+".")
	if !ok || !plainName.MatchString(member) {
		return ""
	}
	return member
}

var (
	// plainName is a name that could be anything's: what has dots, dashes or slashes in it could not.
	plainName = lazyregexp.New(`^[A-Za-z_$][\w$]*$`)
	// everywhere are files that every project has.
	everywhere = lazyregexp.New(
		`(?i)^(package(-lock)?\.json|readme|license|changelog|tsconfig\.json|(index|main)\.[cm]?[jt]sx?|go\.(mod|sum)|pom\.xml|` +
			`gemfile(\.lock)?)(\.\w+)?$`,
	)
)

// globals are names that the runtimes themselves have.
var globals = func() map[string]bool {
	all := map[string]bool{}
	for _, name := range strings.Fields(`this self arguments Array Boolean Buffer Date Error Function Infinity JSON Map Math NaN Number Object
		Promise Proxy RegExp Set String Symbol TypeError URL WeakMap console document globalThis process window fmt os errors
		System Kernel`) {
		all[name] = true
	}
	return all
}()

// importing are the languages whose imports tell where a name comes from.
var importing = []string{"javascript", "typescript", "html", "go", "python", "java", "kotlin", "groovy", "scala"}

// belongs tells whether a file's mention of a name is one of what a package has by it: a plain name counts where the package is
// imported and the file does not declare it itself, and in configuration that is the package's.
func (u *Uses) belongs(f *source.File, part *tree.Part, name, pkg string) bool {
	switch {
	case pkg == "": // nobody says whose it is
		return true
	case everywhere.MatchString(name), globals[strings.SplitN(name, ".", 2)[0]], strings.HasPrefix(name, "/"):
		return false
	}
	name = strings.TrimPrefix(name, ".") // a member is written with its dot
	if !plainName.MatchString(name) || f.Lang == nil {
		return true
	}
	if slices.Contains(importing, f.Lang.Name) {
		if !unusual(name) { // a word of everyday has to hang together with the package
			return f.Tied(name, pkg)
		}
		return u.imported(f, part, pkg) && !u.own(f, name, pkg)
	}
	if d, err := f.Config(); d != nil && err == nil {
		below := func(e *keys.Entry) bool {
			above := e.Path[:len(e.Path)-1]
			return e.Path[len(e.Path)-1] == name && slices.ContainsFunc(above, func(key string) bool { return configures(key, pkg) })
		}
		return configures(f.Name, pkg) || slices.ContainsFunc(d.Entries, below)
	}
	// Of languages without imports by name, only what is no usual word tells something.
	return f.Lang.Name == "ruby" && unusual(name) && !u.own(f, name, pkg)
}

// unusual tells of a name that is no word of everyday: it has capitals, underscores or digits.
func unusual(name string) bool {
	return strings.ContainsFunc(name, func(r rune) bool { return r == '_' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' })
}

// own tells whether a file declares a name itself, and not by an import of the package.
func (u *Uses) own(f *source.File, name, pkg string) bool {
	f.Split()
	for _, n := range f.Bind(pkg).Named {
		if f.Word(n.Token) == name {
			return false
		}
	}
	f.Looked = 0
	return len(f.Declared(name)) > 0
}

// imported tells whether a file imports a package, as its ecosystem names it in code.
func (u *Uses) imported(f *source.File, part *tree.Part, pkg string) bool {
	if known, ok := u.imports[f][pkg]; ok {
		return known
	}
	names := []string{pkg}
	switch part.Type {
	case "maven": // packages of classes begin with the group, or with its first two parts
		group, _, _ := strings.Cut(pkg, ":")
		names = []string{group}
		if parts := strings.Split(group, "."); len(parts) > 2 {
			names = append(names, strings.Join(parts[:2], "."))
		}
	case "npm":
		if scope, _, scoped := strings.Cut(pkg, "/"); scoped && scope != "@types" {
			names = append(names, scope) // members of a family
		}
	}
	is := slices.ContainsFunc(names, f.Uses)
	if u.imports[f] == nil {
		u.imports[f] = map[string]bool{}
	}
	u.imports[f][pkg] = is
	return is
}

// configures tells whether a file, or a key above others, is called after a package: quay.config.json, .quayrc, "quay": {…}.
func configures(file, pkg string) bool {
	base := strings.ToLower(path.Base(pkg))
	if at := strings.LastIndexByte(base, ':'); at >= 0 {
		base = base[at+1:]
	}
	return len(base) > 2 && strings.Contains(strings.ToLower(path.Base(file)), base)
}

// owner is the folder of the component that a file belongs to, "" for none.
func (r *reader) owner(name string) string {
	owner := ""
	for _, p := range r.tree.Parts {
		if p.Dir == "." && owner == "" || strings.HasPrefix(name, p.Dir+"/") && len(p.Dir) > len(owner) {
			owner = p.Dir
		}
	}
	return owner
}

// unmet are the places that state what notes say is not enough.
func (r *reader) unmet(name string, need notes.Need) (places []string) {
	all, err := r.tree.Places()
	if err != nil {
		return nil
	}
	for _, q := range all.Of(model.Subject{Kind: "runtime", Name: name}) {
		low := pin.Low(q)
		if low == nil {
			continue
		}
		if c := version.CompareStated(low.String(), need.Version); c < 0 || c == 0 && need.After {
			places = append(places, q.Site.String()+" states "+q.Site.Text)
		}
	}
	return places
}

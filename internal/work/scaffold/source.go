package scaffold

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"bellwether/internal/core/harmless"
	"bellwether/internal/core/model"
	"bellwether/internal/core/scaffold"
	"bellwether/internal/core/spelling"
	"bellwether/internal/ecosystem"
	"bellwether/internal/host/git"
	"bellwether/internal/host/within"
	"bellwether/internal/work/desk"
	"bellwether/internal/work/tree"
)

// The bounds of a template: bytes of all, how many files, and of an archive as it comes.
const (
	maxTemplate = 100 << 20
	maxFiles    = 20_000
	maxPacked   = 100 << 20
)

// loader reads templates.
type loader struct {
	desk   *desk.Desk
	tree   *tree.Tree
	folder string // in it; empty for the usual ones
	// generate is a command that makes templates; empty for none.
	generate string
	ask      func(command string) (bool, error)
}

// fault is what is wrong with a template.
func fault(source, wrong, next string) error {
	return &model.Fault{Doing: "reading the template " + harmless.Address(source), Wrong: wrong, Next: next}
}

// load reads a template: a package of a registry ("npm/create-quayside@3"), a tag or commit of a repository
// ("https://…#v3"), a folder, or an archive.
func (l *loader) load(ctx context.Context, source string) (scaffold.Tree, error) {
	all, err := l.whole(ctx, source)
	if err != nil {
		return nil, err
	}
	if all, err = l.checked(source, all); err != nil {
		return nil, err
	}
	return l.within(source, stripped(all))
}

func (l *loader) whole(ctx context.Context, source string) (scaffold.Tree, error) {
	if l.generate != "" {
		return l.generated(ctx, l.generate, source)
	}
	kind, rest, _ := strings.Cut(source, "/")
	at := slices.IndexFunc(l.tree.Parts, func(p *tree.Part) bool { return p.Type == kind })
	if name, rng, versioned := cutVersion(rest); versioned && l.tree.Table.Order(kind) != nil {
		if at < 0 {
			return nil, fault(
				source,
				"no component of the project has packages of "+kind,
				"name a folder, an archive or a repository instead",
			)
		}
		return l.fromPackage(ctx, l.tree.Parts[at], name, rng, source)
	}
	if address, ref, is := strings.Cut(source, "#"); is {
		return fromRepository(ctx, address, ref, source)
	}
	info, err := os.Stat(source)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, fault(
			source,
			"there is no such folder or archive",
			"a tag of a repository is named as ADDRESS#TAG, a package as npm/NAME@VERSION",
		)
	case err != nil:
		return nil, err
	case info.IsDir():
		return l.fromFolder(source)
	}
	data, err := within.Plain(source, maxPacked)
	if err != nil {
		return nil, fault(source, model.Reason(err), "")
	}
	return unpacked(source, data)
}

// cutVersion parts a name from the version behind its last @.
func cutVersion(text string) (name, rng string, ok bool) {
	at := strings.LastIndexByte(text, '@')
	if at <= 0 || at == len(text)-1 {
		return "", "", false
	}
	return text[:at], text[at+1:], true
}

// fromPackage reads the archive of the newest release in a range. Nothing of it is run.
func (l *loader) fromPackage(ctx context.Context, part *tree.Part, name, text, source string) (scaffold.Tree, error) {
	registry, err := l.desk.Registry(ctx, part)
	if err != nil {
		return nil, err
	}
	archived, ok := registry.(ecosystem.Archived)
	if !ok {
		return nil, fault(source, "archives of "+part.Kind+" cannot be read", "name a folder, an archive or a repository instead")
	}
	s := model.Subject{Kind: part.Type, Name: name}
	releases, err := registry.Releases(ctx, s)
	if err != nil {
		return nil, err
	}
	order := part.Eco.Order()
	rng, err := order.ParseRange(text)
	if err != nil {
		return nil, fault(source, err.Error(), "")
	}
	best := ""
	var names []string
	for _, r := range releases {
		v, err := order.Parse(r.Version)
		if names = append(names, r.Version); err == nil && rng.Contains(v) && (!v.Preview() || text == r.Version) {
			best = r.Version
		}
	}
	if best == "" {
		return nil, fault(source, fmt.Sprintf("no release of %s is in %s", name, text), near(text, names))
	}
	files, err := archived.Archive(ctx, s, best, ecosystem.Wanted{Form: "template/1", File: func(string, int64) bool { return true }})
	if err != nil {
		return nil, err
	}
	all := scaffold.Tree{}
	for _, f := range files {
		all[f.Name] = f.Data
	}
	return all, nil
}

// near proposes what was meant.
func near(word string, names []string) string {
	if n := spelling.Nearest(word, names); n != "" {
		return "did you mean " + n + "?"
	}
	return "there are " + spelling.Few(names[max(0, len(names)-5):], 5)
}

// fromRepository reads a tag, branch or commit of a repository.
func fromRepository(ctx context.Context, address, ref, source string) (all scaffold.Tree, err error) {
	if info, err := os.Stat(address); err == nil && info.IsDir() {
		if address, err = filepath.Abs(address); err != nil {
			return nil, err
		}
		address = "file://" + filepath.ToSlash(address)
	}
	dir, err := os.MkdirTemp("", "bellwether-template-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	remote, err := git.OpenRemote(ctx, dir, address)
	if err != nil {
		return nil, err
	}
	commit, err := remote.Fetch(ctx, ref)
	if err != nil {
		var names []string
		refs, _ := remote.Refs(ctx)
		for name := range refs {
			if short, is := strings.CutPrefix(name, "refs/tags/"); is {
				names = append(names, short)
			}
		}
		if slices.Sort(names); len(names) == 0 || slices.Contains(names, ref) || ctx.Err() != nil {
			return nil, err
		}
		return nil, fault(source, "the repository has no "+ref, near(ref, names))
	}
	var packed bytes.Buffer
	if err := remote.Archive(ctx, commit, "", &packed, maxPacked); err != nil {
		return nil, err
	}
	return fromZip(source, packed.Bytes())
}

// fromFolder reads a folder of the person's.
func (l *loader) fromFolder(dir string) (scaffold.Tree, error) {
	folder, err := within.Open(dir, func(name string, why error) {
		l.desk.Aside(fmt.Sprintf("%s in the template is passed over: %v", name, why))
	})
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	all, total := scaffold.Tree{}, 0
	err = fs.WalkDir(folder, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			if err == nil && d.Name() == ".git" {
				return fs.SkipDir
			}
			return err
		}
		if !d.Type().IsRegular() {
			l.desk.Aside(name + " in the template is no plain file, and is passed over")
			return nil
		}
		data, err := fs.ReadFile(folder, name)
		if err != nil {
			return err
		}
		if total += len(data); total > maxTemplate || len(all) == maxFiles {
			return tooLarge(dir)
		}
		all[name] = data
		return nil
	})
	return all, err
}

func tooLarge(source string) error {
	return fault(
		source,
		fmt.Sprintf("it has more than %d MB or %d files", maxTemplate>>20, maxFiles),
		"name the folder that the template is in",
	)
}

// unpacked reads an archive, by what it begins with.
func unpacked(source string, data []byte) (scaffold.Tree, error) {
	if bytes.HasPrefix(data, []byte("PK")) {
		return fromZip(source, data)
	}
	var from io.Reader = bytes.NewReader(data)
	if bytes.HasPrefix(data, []byte{0x1f, 0x8b}) {
		unzipped, err := gzip.NewReader(from)
		if err != nil {
			return nil, fault(source, err.Error(), "")
		}
		from = unzipped
	}
	all := scaffold.Tree{}
	left := int64(maxTemplate)
	r := tar.NewReader(io.LimitReader(from, 2*maxTemplate))
	for {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, fault(source, "it is no archive that can be read: "+err.Error(), "it is to be a .zip, .tar or .tar.gz")
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		if left -= h.Size; left < 0 || len(all) == maxFiles {
			return nil, tooLarge(source)
		}
		if all[h.Name], err = io.ReadAll(r); err != nil {
			return nil, fault(source, err.Error(), "")
		}
	}
}

func fromZip(source string, data []byte) (scaffold.Tree, error) {
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fault(source, err.Error(), "")
	}
	all := scaffold.Tree{}
	left := int64(maxTemplate)
	for _, f := range archive.File {
		if !f.Mode().IsRegular() {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return nil, fault(source, f.Name+": "+err.Error(), "")
		}
		text, err := io.ReadAll(io.LimitReader(r, left+1))
		_ = r.Close()
		if err != nil {
			return nil, fault(source, f.Name+": "+err.Error(), "")
		}
		if left -= int64(len(text)); left < 0 || len(all) == maxFiles {
			return nil, tooLarge(source)
		}
		all[f.Name] = text
	}
	return all, nil
}

// stripped takes off a folder that everything is in.
func stripped(all scaffold.Tree) scaffold.Tree {
	top := ""
	for name := range all {
		first, _, in := strings.Cut(strings.TrimPrefix(name, "./"), "/")
		if !in || top != "" && first != top {
			return all
		}
		top = first
	}
	if slices.Contains([]string{"template", "templates", "src"}, top) {
		return all
	}
	inner := scaffold.Tree{}
	for name, data := range all {
		inner[strings.TrimPrefix(strings.TrimPrefix(name, "./"), top+"/")] = data
	}
	return inner
}

// checked is a template whose names are those of files in it. What Bellwether keeps there is passed over, and told.
func (l *loader) checked(source string, all scaffold.Tree) (scaffold.Tree, error) {
	clean := scaffold.Tree{}
	for name, data := range all {
		clean[strings.TrimPrefix(name, "./")] = data
	}
	clean, kept := clean.WithoutKept()
	if len(kept) > 0 {
		l.desk.Aside(fmt.Sprintf("what Bellwether keeps is no part of the template %s: %s", harmless.Address(source), spelling.Few(kept, 3)))
	}
	if len(clean) == 0 {
		return nil, fault(source, "there are no files in it", "")
	}
	if err := clean.CheckNames(); err != nil {
		return nil, fault(source, err.Error(), "use a template whose names can be those of files of a project")
	}
	return clean, nil
}

// usual are the folders in which packages keep their templates.
var usual = []string{"template", "templates/default", "templates/base"}

// within takes the folder of a template: the one that is named, else a usual one, else everything.
func (l *loader) within(source string, all scaffold.Tree) (scaffold.Tree, error) {
	below := func(dir string) scaffold.Tree {
		inner := scaffold.Tree{}
		for name, data := range all {
			if rest, in := strings.CutPrefix(name, dir+"/"); in {
				inner[rest] = data
			}
		}
		return inner
	}
	if l.folder != "" {
		inner := below(path.Clean(l.folder))
		if len(inner) == 0 {
			return nil, fault(source, "it has no folder "+l.folder, "")
		}
		return inner, nil
	}
	for _, dir := range usual {
		if inner := below(dir); len(inner) > 0 {
			return inner, nil
		}
	}
	return all, nil
}

// Package linked tells what a change leaves without what it refers to, from the class files in archives.
package linked

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/linkage"
	"bellwether/internal/core/spelling"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/maven/graph"
	"bellwether/internal/ecosystem/maven/registry"
	"bellwether/internal/ecosystem/mavenrepo"
)

// Loss is what a change takes away from the class paths of a project's modules.
type Loss struct {
	Told   []string        // what refers to what is gone, as sentences
	Cures  []contract.Cure // releases of what stays that do without that
	Hollow []string        // packages whose archives had classes, and have none any more
	Short  []Short         // what comes with the change, and refers to what another package is too old for
}

// Short is a package with what another one lacks that it refers to, each with its version: "pier:quay 2.0".
type Short struct{ By, Of string }

// Lost says what archives, and the project's own code, refer to in a module's class path that was there before and that nothing
// provides any more: archives compile without it, and fail when they are run.
func Lost(ctx context.Context, r *registry.Registry, was, is []graph.Tree) (*Loss, error) {
	all := &Loss{}
	before := map[string]graph.Tree{}
	for _, t := range was {
		before[t.Of.File] = t
	}
	for _, t := range is {
		old, known := before[t.Of.File]
		if !known || slices.Equal(versions(old), versions(t)) {
			continue
		}
		if err := all.in(ctx, r, old, t); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// in adds what a module loses.
func (l *Loss) in(ctx context.Context, r *registry.Registry, old, t graph.Tree) error {
	then, err := archives(ctx, r, old, old.Won)
	if err != nil {
		return err
	}
	now, err := archives(ctx, r, t, t.Won)
	if err != nil {
		return err
	}
	own := OwnClasses(r, t.Of.File)
	missing := linkage.Find(append(then, own), append(now, own), java{})
	there := versions(old)
	stays := func(by string) bool { return by == own.Name || slices.Contains(there, by) }
	renamed := slices.DeleteFunc(slices.Clone(missing), func(m linkage.Missing) bool { return m.Former == "" })
	missing = slices.DeleteFunc(missing, func(m linkage.Missing) bool { return m.Former != "" })
	imports, imported := importing(r, t.Of.File, then, now)
	missing = slices.DeleteFunc(missing, func(m linkage.Missing) bool { return m.By == own.Name && imported[unitOf(m.What)] })
	for _, m := range missing {
		short := Short{m.By, m.Lacks}
		if m.Lacks != "" && m.Hidden == "" && !stays(m.By) && !slices.Contains(l.Short, short) {
			l.Short = append(l.Short, short)
		}
	}
	sentences := told(missing, stays, func(by string) string {
		text, cure := wayOut(ctx, r, t, by, missing)
		l.cure(cure)
		return text
	})
	sentences = append(sentences, toldRenamed(ctx, r, t, now, renamed, l.cure)...)
	sentences = append(sentences, imports...)
	for _, text := range sentences {
		if !slices.Contains(l.Told, text) {
			l.Told = append(l.Told, text)
		}
	}
	for _, name := range hollow(old, t, then, now) {
		if !slices.Contains(l.Hollow, name) {
			l.Hollow = append(l.Hollow, name)
		}
	}
	return nil
}

// cure adds what helps, if anything does.
func (l *Loss) cure(c contract.Cure) {
	if c.To != "" && !slices.Contains(l.Cures, c) {
		l.Cures = append(l.Cures, c)
	}
}

// unitOf is the class of a class or member.
func unitOf(what string) string {
	unit, _, _ := strings.Cut(what, ".")
	return unit
}

// hollow are the packages whose archives lose all of their classes, and these are nowhere else: what tests alone get does not
// count for the rest.
func hollow(old, t graph.Tree, then, now []linkage.Archive) (names []string) {
	had := map[string][]linkage.Unit{}
	for i, w := range old.Won {
		for _, name := range slices.Concat(w.Statement.Was, []string{w.Coords.String()}) { // under former names, too
			had[name] = append(had[name], then[i].Units...)
		}
	}
	is := map[bool]map[string]bool{true: {}, false: {}} // by whether only tests have it
	for i, a := range now {
		for _, u := range a.Units {
			is[t.Won[i].Scope == "test"][u.Name] = true
		}
	}
	for i, w := range t.Won {
		name := w.Coords.String()
		elsewhere := slices.ContainsFunc(had[name], func(u linkage.Unit) bool {
			return is[false][u.Name] || w.Scope == "test" && is[true][u.Name]
		})
		if len(had[name]) > 0 && len(now[i].Units) == 0 && !elsewhere && w.Name == name && t.Own[w.Coords] == nil {
			names = append(names, name)
		}
	}
	return names
}

// versions are what a module gets, by name and version.
func versions(t graph.Tree) (all []string) {
	for _, w := range t.Won {
		all = append(all, w.Name+" "+w.Version)
	}
	slices.Sort(all)
	return all
}

// archives are those of what a module gets.
func archives(ctx context.Context, r *registry.Registry, t graph.Tree, of []graph.Won) ([]linkage.Archive, error) {
	all := make([]linkage.Archive, len(of))
	var group errgroup.Group
	group.SetLimit(8)
	for i, w := range of {
		all[i].Name = w.Coords.String() + " " + w.Version
		if w.Name != w.Coords.String() || t.Own[w.Coords] != nil {
			continue // no plain archive, or a module of the project itself
		}
		group.Go(func() error {
			classes, err := r.Client.Classes(ctx, t.Of.Repositories, w.Coords, w.Version)
			if err == nil {
				all[i].Units = classes.Units
			}
			return err
		})
	}
	return all, group.Wait()
}

// OwnClasses are what a module was compiled to, if it was, and if no source is newer than that.
func OwnClasses(r *registry.Registry, file string) linkage.Archive {
	dir := path.Dir(file)
	own := linkage.Archive{Name: "the project's own code"}
	if dir != "." {
		own.Name += " in " + dir
	}
	var compiled, changed time.Time
	walk := func(below string, latest *time.Time, visit func(name string)) {
		_ = fs.WalkDir(r.Around.Files, path.Join(dir, below), func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return nil
			}
			if info, err := d.Info(); err == nil && info.ModTime().After(*latest) {
				*latest = info.ModTime()
			}
			visit(name)
			return nil
		})
	}
	walk("target/classes", &compiled, func(name string) {
		if path.Ext(name) != ".class" || len(own.Units) >= mavenrepo.MaxUnits {
			return
		}
		if text, err := fs.ReadFile(r.Around.Files, name); err == nil {
			if unit, _, err := mavenrepo.ReadUnit(text); err == nil {
				own.Units = append(own.Units, unit)
			}
		}
	})
	if len(own.Units) > 0 {
		walk("src/main", &changed, func(string) {})
	}
	if changed.After(compiled) {
		own.Units = nil
	}
	return own
}

// wayOut says of an archive that misses something whether its newest release does, and gives it where it does not; empty for what has
// no releases.
func wayOut(
	ctx context.Context, r *registry.Registry, t graph.Tree, by string, missing []linkage.Missing,
) (text string, cure contract.Cure) {
	for _, w := range t.Won {
		if w.Coords.String()+" "+w.Version != by {
			continue
		}
		list, err := r.Client.Versions(ctx, t.Of.Repositories, w.Coords)
		if err != nil {
			return "", cure
		}
		does := func(v string) (refers, known bool) {
			classes, err := r.Client.Classes(ctx, t.Of.Repositories, w.Coords, v)
			if err != nil || len(classes.Units) == 0 {
				return false, false
			}
			return slices.ContainsFunc(
				missing,
				func(m linkage.Missing) bool { return m.By == by && linkage.Refers(classes.Units, m.What) },
			), true
		}
		newest, preview := newerThan(w.Version, list)
		text = "; there is no newer release of it"
		if newest != "" {
			switch refers, known := does(newest); {
			case !known:
				return "", cure
			case !refers:
				nearest := newest
				for _, v := range nearer(w.Version, newest, list) {
					if refers, known := does(v); known && !refers {
						nearest = v
						break
					}
				}
				cure = contract.Cure{
					Name: w.Coords.String(), To: nearest, Why: "refers to what is gone after this leg, and no longer does at " + nearest,
				}
				if nearest == newest {
					return "; its newest release, " + newest + ", does not", cure
				}
				return "; the nearest of its releases that does not is " + nearest, cure
			}
			text = "; its newest release, " + newest + ", does so, too"
		}
		if preview != "" {
			if refers, known := does(preview); known && !refers {
				text += "; its pre-release " + preview + " does not"
			}
		}
		return text, cure
	}
	return "", cure
}

// newerThan are the newest release and, if that is newer still, the newest pre-release behind a version; empty for none.
func newerThan(at string, list []string) (release, preview string) {
	for _, v := range slices.Backward(list) {
		parsed, err := version.Maven{}.Parse(v)
		switch {
		case mavenrepo.Compare(v, at) <= 0:
			return "", preview
		case err != nil:
		case !parsed.Preview():
			return v, preview
		case preview == "":
			preview = v
		}
	}
	return "", preview
}

// maxNearer bounds how many releases are looked into for the nearest one that does without what is gone.
const maxNearer = 6

// nearer are the newest releases of each minor version between two, ascending.
func nearer(from, to string, list []string) (all []string) {
	line := ""
	for _, v := range list {
		parsed, err := version.Maven{}.Parse(v)
		if err != nil || parsed.Preview() || mavenrepo.Compare(v, from) <= 0 || mavenrepo.Compare(v, to) >= 0 {
			continue
		}
		numbers := strings.SplitN(v, ".", 3)
		own := strings.Join(numbers[:min(2, len(numbers))], ".")
		if own == line {
			all[len(all)-1] = v
		} else if len(all) < maxNearer {
			all, line = append(all, v), own
		}
	}
	return all
}

// The bounds of a sentence: how many classes and members that an archive misses are named, and how many archives.
const (
	shownMissing  = 3
	shownArchives = 6
)

// told says what is missing, a sentence for each archive that misses something, with the way out. Of those that come with
// the change only the names are told of what is gone: they were made for what comes, and it is most often optional. What
// they refer to and another archive is too old for is told in full.
func told(missing []linkage.Missing, stays func(by string) bool, wayOut func(by string) string) (all []string) {
	var came []string
	for start := 0; start < len(missing); {
		by, end := missing[start].By, start
		var names, was, fresh, lacks []string
		for ; end < len(missing) && missing[end].By == by; end++ {
			if m := missing[end]; m.Hidden != "" {
				text := fmt.Sprintf("%s refers to %s, which %s has; %s has the same class without it, and comes first in the class path",
					by, spoken(m.What), m.Hidden, m.Lacks)
				if !slices.Contains(all, text) {
					all = append(all, text)
				}
			} else if m.Lacks != "" {
				fresh, lacks = append(fresh, spoken(m.What)), append(lacks, m.Lacks)
			} else {
				names, was = append(names, spoken(m.What)), append(was, m.Was)
			}
		}
		start = end
		if len(fresh) > 0 {
			slices.Sort(lacks)
			lacks = slices.Compact(lacks)
			text := "%s refers to %s, which %s does not have; it may be too old for that"
			if len(lacks) > 1 {
				text = "%s refers to %s, which %s do not have; they may be too old for that"
			}
			all = append(all, fmt.Sprintf(text, by, spelling.Few(slices.Compact(fresh), shownMissing), spelling.Few(lacks, shownMissing)))
		}
		switch {
		case len(names) == 0:
		case stays(by):
			slices.Sort(was)
			all = append(all, fmt.Sprintf("%s refers to %s, which %s had and nothing has after this leg%s",
				by, spelling.Few(slices.Compact(names), shownMissing), spelling.Few(slices.Compact(was), shownMissing), wayOut(by)))
		default:
			came = append(came, by)
		}
	}
	if len(came) > 0 {
		come := map[bool]string{true: " comes", false: " come"}[len(came) == 1]
		all = append(all, spelling.Few(came, shownArchives)+come+
			" with parts that refer to what nothing has after this leg; they may be optional")
	}
	return all
}

// spoken is a class or member as people write it: "old.servlet.Filter", "pier.Quay.depth".
func spoken(what string) string {
	class, member, is := strings.Cut(what, ".")
	class = strings.ReplaceAll(class, "/", ".")
	if !is {
		return class
	}
	name, _, _ := strings.Cut(member, "(")
	return class + "." + strings.TrimSuffix(name, ";")
}

// java is what every Java has.
type java struct{}

// platformPackages are what a JDK has besides "java/": javax is shared with others.
var platformPackages = []string{
	"java/", "jdk/", "sun/", "com/sun/", "org/w3c/dom/", "org/xml/sax/", "org/ietf/jgss/", "netscape/javascript/", "javax/accessibility/",
	"javax/annotation/processing/", "javax/crypto/", "javax/imageio/", "javax/lang/model/", "javax/management/", "javax/naming/", "javax/net/",
	"javax/print/", "javax/rmi/", "javax/script/", "javax/security/", "javax/sound/", "javax/sql/", "javax/swing/", "javax/tools/",
	"javax/transaction/xa/", "javax/xml/catalog/", "javax/xml/crypto/", "javax/xml/datatype/", "javax/xml/namespace/", "javax/xml/parsers/",
	"javax/xml/stream/", "javax/xml/transform/", "javax/xml/validation/", "javax/xml/xpath/",
}

// Provides tells of classes of the JDK.
func (java) Provides(unit string) bool {
	return slices.ContainsFunc(platformPackages, func(prefix string) bool { return strings.HasPrefix(unit, prefix) })
}

// objectMethods are those of java.lang.Object that others may call.
var objectMethods = []string{
	"clone()", "equals(", "finalize()", "getClass()", "hashCode()", "notify()", "notifyAll()", "toString()", "wait(", "<init>()",
}

// Has knows the methods of java.lang.Object, and of no other class.
func (java) Has(unit, member string) (has, known bool) {
	return slices.ContainsFunc(objectMethods, func(m string) bool { return strings.HasPrefix(member, m) }), unit == "java/lang/Object"
}

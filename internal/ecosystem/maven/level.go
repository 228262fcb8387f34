package maven

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// levels are the properties by which a project states which Java it is for, the first that is there counts.
var levels = []string{"maven.compiler.release", "maven.compiler.target", "maven.compiler.source", "java.version"}

// level is the Java that a project states, with the place; 0 for none.
func (e *effective) level() (java int, place string) {
	for _, name := range levels {
		v, ok := e.lookUp(name)
		if !ok {
			continue
		}
		at, _ := e.stated(v)
		if java, err := strconv.Atoi(strings.TrimPrefix(e.expand(v.text), "1.")); err == nil {
			return java, at.of.file + at.line()
		}
	}
	return 0, ""
}

// line is the line of a value behind a colon; empty where it is not known.
func (v value) line() string {
	if v.site.Line == 0 || v.of.src == nil {
		return ""
	}
	return ":" + strconv.Itoa(v.site.Line)
}

// tooNew says which archives that come with a state need a newer Java than a module states: Maven compiles against them
// without a word, and they fail when they are run.
func (r *registry) tooNew(ctx context.Context, was, is []tree) (all []string, err error) {
	before := map[string][]string{}
	for _, t := range was {
		before[t.of.file] = t.versions()
	}
	for _, t := range is {
		stated, place := t.of.level()
		if stated == 0 {
			continue
		}
		come := slices.DeleteFunc(slices.Clone(t.won), func(w won) bool {
			return slices.Contains(before[t.of.file], w.Name+" "+w.Version) || w.Name != w.coords.String() || t.own[w.coords] != nil
		})
		if _, err := r.archives(ctx, t, come); err != nil { // all at once
			return nil, err
		}
		by := map[int][]string{}
		for _, w := range come {
			classes, err := r.client.Classes(ctx, t.of.repositories, w.coords, w.Version)
			if err != nil {
				return nil, err
			}
			if classes.Java > stated {
				by[classes.Java] = append(by[classes.Java], w.coords.String()+" "+w.Version)
			}
		}
		for _, java := range slices.Sorted(maps.Keys(by)) {
			names := by[java]
			text, verb := names[0], "needs"
			if len(names) > 1 {
				text, verb = fmt.Sprintf("%s and %d more", text, len(names)-1), "need"
			}
			text = fmt.Sprintf("%s %s Java %d, and %s states %d", text, verb, java, place, stated)
			if !slices.Contains(all, text) {
				all = append(all, text)
			}
		}
	}
	return all, nil
}

package registry

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"golang.org/x/mod/module"
	"golang.org/x/sync/errgroup"

	"bellwether/internal/core/model"
	versions "bellwether/internal/core/version"
	"bellwether/internal/ecosystem/gomod/imports"
	"bellwether/internal/ecosystem/gomod/project"
	"bellwether/internal/ecosystem/gomod/protocol"
	"bellwether/internal/ecosystem/gomod/selection"
	"bellwether/internal/host/fetch"
)

// history is what has been released under one path, which is one major version
// (or v0 and v1).
type history struct {
	path     string
	Versions []string         // ascending
	info     *project.ModInfo // of the last one; nil if there are none
	gone     map[string]bool  // listed, but their go.mod cannot be had
}

// History gives what has been released under a path. The error is a *missing
// if no proxy knows it.
func (r *Registry) History(ctx context.Context, path string) (*history, error) {
	return r.histories.Get(path, func() (*history, error) {
		list, commits, err := r.listed(ctx, path)
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			i, err := r.Latest(ctx, path)
			if err != nil && !protocol.IsMissing(err) {
				return nil, err
			}
			if err == nil {
				list = []string{i.Version}
			} else {
				list = commits
			}
		}
		if list, err = r.inTime(ctx, path, list); err != nil {
			return nil, err
		}
		slices.SortFunc(list, func(a, b string) int { return selection.CompareVersions(path, a, b) })
		h := &history{path: path, Versions: list, gone: map[string]bool{}}
		if err := r.dropIncompatible(ctx, h); err != nil {
			return nil, err
		}
		for i := len(h.Versions) - 1; i >= 0 && h.info == nil; i-- {
			h.info, err = r.ModInfo(ctx, module.Version{Path: path, Version: h.Versions[i]})
			if protocol.IsRefused(err) && i > 0 {
				h.gone[h.Versions[i]], h.info, err = true, nil, nil
			}
			if err != nil {
				return nil, err
			}
		}
		return h, nil
	})
}

// inTime drops what was published too late for --as-of or min-age.
func (r *Registry) inTime(ctx context.Context, path string, list []string) ([]string, error) {
	if r.around.AsOf.IsZero() && r.around.MinAge == 0 {
		return list, nil
	}
	late := make([]bool, len(list))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(selection.AskAtOnce)
	for i, v := range list {
		group.Go(func() error {
			at, err := r.Published(ctx, module.Version{Path: path, Version: v})
			if protocol.IsMissing(err) {
				err = nil
			}
			late[i] = !r.around.InTime(at)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var kept []string
	for i, v := range list {
		if !late[i] {
			kept = append(kept, v)
		}
	}
	return kept, nil
}

// dropIncompatible leaves out versions from the time before modules
// ("+incompatible") where the newest other one has a go.mod.
func (r *Registry) dropIncompatible(ctx context.Context, h *history) error {
	compatible := slices.DeleteFunc(slices.Clone(h.Versions), func(v string) bool { return strings.HasSuffix(v, "+incompatible") })
	if len(compatible) == 0 || len(compatible) == len(h.Versions) {
		return nil
	}
	i, err := r.ModInfo(ctx, module.Version{Path: h.path, Version: compatible[len(compatible)-1]})
	if err == nil && !i.Legacy {
		h.Versions, h.info = compatible, i
	}
	return err
}

// Newest is the release to take where nothing speaks for another one; "" if
// there is none.
func (h *history) Newest() string {
	best := ""
	for _, v := range h.Versions {
		if _, back := h.info.Retraction(v); back || h.gone[v] {
			continue
		}
		if best == "" || IsPreview(best) || !IsPreview(v) {
			best = v
		}
	}
	return best
}

// NewestFor is the newest release that needs no newer Go than the given one; ""
// if there is none. What holds for one is taken to hold for those before it.
func (r *Registry) NewestFor(ctx context.Context, h *history, goVersion string) (string, error) {
	usable := slices.DeleteFunc(slices.Clone(h.Versions), func(v string) bool {
		_, back := h.info.Retraction(v)
		return back || h.gone[v] || IsPreview(v)
	})
	if len(usable) == 0 {
		return h.Newest(), nil
	}
	var failed error
	n := sort.Search(len(usable), func(i int) bool {
		// From the newest down, since that one will mostly do.
		info, err := r.ModInfo(ctx, module.Version{Path: h.path, Version: usable[len(usable)-1-i]})
		if err != nil {
			failed = err
			return true
		}
		return selection.CompareGo(info.GoVersion, goVersion) <= 0
	})
	if failed != nil || n == len(usable) {
		return "", failed
	}
	return usable[len(usable)-1-n], nil
}

// IsPreview tells of a version with a part for pre-releases.
func IsPreview(text string) bool {
	v, err := versions.GoMod{}.Parse(text)
	return err == nil && v.Preview()
}

// laterMajor is the path under which the major version that comes n after the
// present one is to be looked for.
func (h *history) laterMajor(n int) string {
	prefix, major, ok := module.SplitPathVersion(h.path)
	if !ok {
		return ""
	}
	at := 1
	if major != "" {
		at, _ = strconv.Atoi(strings.TrimSuffix(major[2:], "-unstable"))
	} else if len(h.Versions) > 0 {
		last, _, _ := strings.Cut(h.Versions[len(h.Versions)-1][1:], ".")
		if m, err := strconv.Atoi(last); err == nil && m > at {
			at = m // "+incompatible"
		}
	}
	if strings.HasPrefix(h.path, "gopkg.in/") {
		return fmt.Sprintf("%s.v%d", prefix, at+n)
	}
	return fmt.Sprintf("%s/v%d", prefix, at+n)
}

// majorsAhead is how many majors are looked for at a time: authors skip some.
const majorsAhead = 3

// majors are the histories of a path and of the majors after it.
func (r *Registry) majors(ctx context.Context, path string) ([]*history, error) {
	h, err := r.History(ctx, path)
	if err != nil {
		return nil, err
	}
	all := []*history{h}
	for {
		last := all[len(all)-1]
		found := make([]*history, majorsAhead)
		group, ctx := errgroup.WithContext(ctx)
		for i := range found {
			later := last.laterMajor(i + 1)
			if later == "" {
				break
			}
			group.Go(func() error {
				h, err := r.Guessed(ctx, later)
				found[i] = h
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return nil, err
		}
		found = slices.DeleteFunc(found, func(h *history) bool { return h == nil || len(h.Versions) == 0 })
		if len(found) == 0 {
			return all, nil
		}
		all = append(all, found...)
	}
}

// Guessed is the history of a path that may not exist: whatever the proxy
// answers but a list means that it does not, and gives nil.
func (r *Registry) Guessed(ctx context.Context, path string) (*history, error) {
	h, err := r.History(ctx, path)
	if protocol.IsRefused(err) || errors.Is(err, fetch.ErrNotCached) {
		return nil, nil
	}
	return h, err
}

// Releases gives all releases of a module, those of later majors under their
// other paths among them. For Go itself they are the toolchains that the proxy
// offers for this kind of machine.
func (r *Registry) Releases(ctx context.Context, s model.Subject) ([]model.Release, error) {
	if s == project.RuntimeGo {
		return r.goReleases(ctx)
	}
	all, err := r.majors(ctx, s.Name)
	if err != nil {
		return nil, err
	}
	var releases []model.Release
	for _, h := range all {
		unfit, err := r.unfitFrom(ctx, h)
		if err != nil {
			return nil, err
		}
		newest := h.Newest()
		for i, v := range h.Versions {
			rel := model.Release{Version: v}
			if h.path != s.Name {
				rel.As = h.path
			}
			rel.Because, rel.Retracted = h.info.Retraction(v)
			if h.info.Deprecated != "" {
				rel.Deprecated, rel.Replaced = h.info.Deprecated, successor(h.path, h.info.Deprecated)
			}
			if i == len(h.Versions)-1 || v == newest {
				if rel.Needs, err = r.needsGo(ctx, module.Version{Path: h.path, Version: v}); err != nil {
					return nil, err
				}
			}
			if h.gone[v] {
				rel.Unfit = "cannot be had: the proxy does not give its go.mod"
			} else if i >= unfit.from {
				rel.Unfit, rel.Replaced = unfit.why, unfit.replaced
			}
			if !r.around.AsOf.IsZero() || r.around.MinAge > 0 {
				rel.Published, _ = r.Published(ctx, module.Version{Path: h.path, Version: v})
			}
			releases = append(releases, rel)
		}
	}
	return releases, nil
}

// needsGo is the Go that a version needs those who require it to state. Go lines before 1.21
// ask nothing of others (Go Modules Reference, "go directive").
func (r *Registry) needsGo(ctx context.Context, m module.Version) ([]model.Need, error) {
	i, err := r.ModInfo(ctx, m)
	if protocol.IsRefused(err) {
		return nil, nil
	}
	if err != nil || selection.CompareGo(i.GoVersion, "1.21") < 0 {
		return nil, err
	}
	return []model.Need{{Subject: project.RuntimeGo, Range: ">=" + i.GoVersion, Stated: i.GoVersion}}, nil
}

// successor finds the path of another module in a deprecation notice.
func successor(path, notice string) string {
	for word := range strings.FieldsSeq(notice) {
		word = strings.TrimPrefix(strings.Trim(word, "`'\"()<>,;:!."), "https://")
		if word != path && strings.Contains(word, "/") && !imports.IsStandard(word) && module.CheckPath(word) == nil {
			return word
		}
	}
	return ""
}

// unfit are the versions of a history from an index on that cannot be used.
type unfit struct {
	from     int
	why      string
	replaced string
}

// unfitFrom finds the first version that does not build with the Go at hand, or
// calls itself something else. What holds for one is taken to hold for those
// after it.
func (r *Registry) unfitFrom(ctx context.Context, h *history) (unfit, error) {
	none := unfit{from: len(h.Versions)}
	if h.info == nil {
		return none, nil
	}
	because := func(i *project.ModInfo) (why, replaced string) {
		switch {
		case i.Path != h.path && i.Path != "":
			return "it calls itself " + i.Path, i.Path
		case r.GoVersion != "" && selection.CompareGo(i.GoVersion, r.GoVersion) > 0:
			return fmt.Sprintf("needs go %s, here is %s", i.GoVersion, r.GoVersion), ""
		}
		return "", ""
	}
	why, replaced := because(h.info)
	if why == "" {
		return none, nil
	}
	var failed error
	from := sort.Search(len(h.Versions)-1, func(k int) bool {
		i, err := r.ModInfo(ctx, module.Version{Path: h.path, Version: h.Versions[k]})
		if err != nil {
			if !protocol.IsMissing(err) {
				failed = err
			}
			return false
		}
		text, _ := because(i)
		return text != ""
	})
	return unfit{from, why, replaced}, failed
}

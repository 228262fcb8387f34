package registry

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"bellwether/internal/core/harmless"
)

// OwnSource is the source that a gem has of its own; empty for a gem of the global ones.
func (r *Registry) OwnSource(name string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.own[name]
}

// scope finds which gems come from a source of their own because a gem of that source needs them: all
// that such a source knows of what its gems need, in any release, as Bundler has it.
func (r *Registry) scope(ctx context.Context) {
	by := map[string][]string{}
	for name, source := range r.direct {
		by[source] = append(by[source], name)
	}
	for _, source := range slices.Sorted(maps.Keys(by)) {
		seen := map[string]bool{}
		for names := by[source]; len(names) > 0; {
			slices.Sort(names)
			names = r.needed(ctx, source, names, seen)
		}
	}
}

// needed are the gems that some gems of a source need, as far as they were not seen before. Those that the
// source knows are its own from then on.
func (r *Registry) needed(ctx context.Context, source string, names []string, seen map[string]bool) (next []string) {
	lists := make([][]*Variant, len(names))
	var wait sync.WaitGroup
	limit := make(chan struct{}, 16)
	for i, name := range names {
		seen[name] = true
		wait.Add(1)
		limit <- struct{}{}
		go func() {
			defer func() { <-limit; wait.Done() }()
			lists[i], _ = r.list(ctx, source, name) // an error is told when the gem is asked for
		}()
	}
	wait.Wait()
	for i, name := range names {
		if len(lists[i]) == 0 {
			continue
		}
		r.mu.Lock()
		r.heard[asked{source, name}] = lists[i]
		if r.own[name] == "" {
			r.own[name] = source
		}
		r.mu.Unlock()
		for _, v := range lists[i] {
			for _, d := range v.Deps {
				if !seen[d.Name] && GemName.MatchString(d.Name) {
					seen[d.Name] = true
					next = append(next, d.Name)
				}
			}
		}
	}
	return next
}

// together are the releases of several sources.
func together(all, more []*Variant, source string) []*Variant {
	for _, v := range more {
		v.source = source
	}
	all = slices.DeleteFunc(all, func(v *Variant) bool {
		return slices.ContainsFunc(more, func(o *Variant) bool { return o.Version == v.Version && o.Platform == v.Platform })
	})
	all = append(all, more...)
	slices.SortStableFunc(all, func(a, b *Variant) int { return a.V.Compare(b.V) })
	return all
}

// Twofold says that a gem's version was taken though several sources know the gem; empty for one
// that only one knows.
func (r *Registry) Twofold(ctx context.Context, name, version string) string {
	group, _ := r.Release(ctx, name, version)
	r.mu.Lock()
	defer r.mu.Unlock()
	from := r.doubled[name]
	if len(from) == 0 || len(group) == 0 {
		return ""
	}
	return fmt.Sprintf("%s is known to several sources, %s; %s comes from %s: give it a source of its own in the Gemfile",
		name, strings.Join(from, " and "), version, harmless.Address(group[0].source))
}

package gem

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"bellwether/internal/core/flat"
	"bellwether/internal/core/model"
	"bellwether/internal/core/route"
	"bellwether/internal/core/solve"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem"
)

var errUnknown = flat.ErrUnknown

// index is the gem servers as the resolver asks them. What comes from a repository or a folder has
// the one version that the lock has.
type index struct {
	*registry
	project *project
	fixed   map[string]*spec    // gems from elsewhere
	within  map[string]*section // the section of the lock that a gem of a server is in
	fresh   []*section          // repositories that the lock does not have
}

func newIndex(ctx context.Context, r *registry, p *project, changes []route.Change) (x index, err error) {
	x = index{r, p, map[string]*spec{}, map[string]*section{}, nil}
	if x.fresh, err = r.sourcedAnew(ctx, p, changes); err != nil {
		return x, err
	}
	for _, s := range p.lock.sections {
		for _, one := range s.specs {
			switch {
			case s.kind == "PATH", s.kind == "GIT" && p.inEffectAt(s):
				x.fixed[one.name] = one
			case s.kind == "GEM":
				x.within[one.name] = s
			}
		}
	}
	for _, s := range x.fresh {
		for _, one := range s.specs {
			x.fixed[one.name] = one
		}
	}
	return x, nil
}

// Releases are the versions that there are. Of those that a platform of the lock cannot have, Needs
// says so.
func (x index) Releases(ctx context.Context, k flat.Key) (all []flat.Release, err error) {
	if s := x.fixed[k.Name]; s != nil {
		v, err := version.Gem{}.Parse(s.version)
		if err != nil {
			return nil, err
		}
		return []flat.Release{{Text: s.version, Version: v}}, nil
	}
	list, err := x.variants(ctx, k.Name)
	if err != nil {
		return nil, err
	}
	for _, group := range byVersion(list) {
		unfit := !x.runs(group)
		all = append(all, flat.Release{
			Text: group[0].version, Version: group[0].v, Unfit: unfit, Shunned: unfit || group[0].gone,
		})
	}
	return all, nil
}

// runs tells whether a version runs on the Ruby at hand, in the variants that the lock's platforms get.
func (x index) runs(group []*variant) bool {
	chosen := x.chosen(group)
	return chosen != nil && !slices.ContainsFunc(chosen, func(v *variant) bool { return !x.fits(v) })
}

// AtHand is true: a gem's list has the needs of all its releases.
func (x index) AtHand(flat.Key) bool { return true }

// chosen are the variants of a version that the platforms of the lock have; nil if one has none.
func (x index) chosen(group []*variant) (chosen []*variant) {
	for _, platform := range x.project.lock.platforms {
		best := bestFor(group, platform)
		if best == nil {
			return nil
		}
		if !slices.Contains(chosen, best) {
			chosen = append(chosen, best)
		}
	}
	if len(x.project.lock.platforms) == 0 {
		return group
	}
	return chosen
}

// unserved is a platform of the lock that can have none of a version's variants, empty for none.
func (p *project) unserved(group []*variant) string {
	if p.lock == nil {
		return ""
	}
	for _, platform := range p.lock.platforms {
		if bestFor(group, platform) == nil {
			return platform
		}
	}
	return ""
}

// bestFor is the variant that a platform gets: one made for it before one that is for all.
func bestFor(group []*variant, platform string) (best *variant) {
	score := func(v *variant) int {
		switch {
		case v.platform == platform:
			return 3
		case v.platform == "ruby":
			return 1
		case sameCPU(v.platform, platform):
			return 2
		}
		return 0
	}
	for _, v := range group {
		if s := score(v); s > 0 && (best == nil || s > score(best)) {
			best = v
		}
	}
	return best
}

// sameCPU tells whether a gem's platform is a platform but for the version of its system: a gem of
// "arm64-darwin" runs on "arm64-darwin-23", one of "x86_64-linux" on "x86_64-linux-gnu".
func sameCPU(of, platform string) bool {
	if strings.Contains(platform, "musl") != strings.Contains(of, "musl") {
		return false
	}
	return strings.HasPrefix(platform, of+"-") || strings.TrimSuffix(platform, "-gnu") == strings.TrimSuffix(of, "-gnu")
}

// Needs are the gems that a version needs on any platform of the lock.
func (x index) Needs(ctx context.Context, k flat.Key, release string) (needs []flat.Need, err error) {
	if group, err := x.release(ctx, k.Name, release); err == nil && len(group) > 0 && x.fixed[k.Name] == nil {
		if group[0].gone {
			needs = append(needs, flat.Need{Text: "to be listed by a source, which it is not any more"})
		}
		if platform := x.project.unserved(group); platform != "" && release != x.project.lock.version(k.Name) {
			needs = append(needs, flat.Need{Text: "a file for " + platform + ", a platform of the lock, and has none"})
		}
	}
	for _, d := range x.deps(ctx, k.Name, release) {
		if d.name == "bundler" { // it is there, since it is what installs
			continue
		}
		rng, err := version.Gem{}.ParseRange(d.rng)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", k.Name, release, err)
		}
		needs = append(needs, flat.Need{
			Options: []flat.Option{
				{Key: flat.Key{Name: d.name}, Allows: x.allows(d.name, rng)},
			}, Text: strings.TrimSpace(d.name + " " + lockRange(d.rng)),
		})
	}
	return needs, nil
}

// allows tells which versions a requirement takes. A pre-release has to be named by one, or to be
// locked.
func (x index) allows(name string, rng version.Range) func(v version.Version) bool {
	locked := x.project.lock.version(name)
	named := rng.(*version.GemRange).Preview()
	return func(v version.Version) bool {
		return rng.Contains(v) && (!v.Preview() || named || v.String() == locked)
	}
}

// deps are what a version depends on, on any platform of the lock, each once.
func (x index) deps(ctx context.Context, name, release string) (all []dep) {
	if s := x.fixed[name]; s != nil {
		return slices.DeleteFunc(slices.Clone(s.deps), func(d dep) bool { return x.project.states(name, d.name) })
	}
	group, err := x.release(ctx, name, release)
	if err != nil {
		return nil
	}
	for _, v := range x.chosen(group) {
		for _, d := range v.deps {
			if !slices.Contains(all, d) {
				all = append(all, d)
			}
		}
	}
	return all
}

// inEffect tells whether a line of the Gemfile is for any platform of the lock: Bundler lists what is
// not among the dependencies alone.
func (p *project) inEffect(q model.Requirement) bool {
	if p.lock.has(q.Name) {
		return true
	}
	only := p.gemfile.elsewhere[q.Name]
	return (q.Fixed == "" || q.Fixed == "git source") && !p.lock.asksFor(q.Name) && (len(only) == 0 || meetAny(only, p.lock.platforms))
}

// versions are those that a requirement takes: of a gem from a repository, those that stand beside it.
func (p *project) versions(q model.Requirement) string {
	if !strings.HasPrefix(q.Range, sourceMark) {
		return q.Range
	}
	for _, d := range p.gemfile.gems {
		if d.name == q.Name {
			return d.rng
		}
	}
	return ""
}

// outdated tells whether the lock has a version that its Gemfile does not take any more.
func (p *project) outdated(name string, rng version.Range) bool {
	v, err := version.Gem{}.Parse(p.lock.version(name))
	return err == nil && p.lock.has(name) && !rng.Contains(v)
}

// Resolve finds versions for the whole component, with as little change as the goal allows, and
// writes manifest and lock.
func (r *registry) Resolve(ctx context.Context, ask ecosystem.Ask) (*route.State, error) {
	p := ask.Component.Detail.(*project)
	if p.lock == nil {
		var err error
		if p, err = r.withFirstLock(ctx, p); err != nil {
			return nil, err
		}
	}
	x, err := newIndex(ctx, r, p, ask.Changes)
	if err != nil {
		return nil, err
	}
	request := flat.Request{Goal: ask.Goal, Index: x, Locked: map[flat.Key]string{}}
	request.Goal.Bounds = maps.Clone(ask.Goal.Bounds)
	for _, s := range p.lock.gems() {
		request.Locked[flat.Key{Name: s.name}] = s.version
	}
	seen := map[string]bool{}
	for _, q := range ask.Component.Requirements {
		rng, err := version.Gem{}.ParseRange(p.versions(q))
		if err != nil {
			return nil, &model.Fault{Doing: "reading the Gemfile", File: q.Site.File, Line: q.Site.Line, Wrong: err.Error()}
		}
		if seen[q.Name] || !p.inEffect(q) {
			continue // the first line of a name counts, and one that is not in effect does not
		}
		seen[q.Name] = true
		allows := x.allows(q.Name, rng)
		request.Roots = append(request.Roots, flat.Root{
			Name: q.Name, Option: flat.Option{Key: flat.Key{Name: q.Name}, Allows: allows}, Range: orAny(q.Range),
			Place: q.Site.String(),
		})
		if request.Goal.Bounds[q.Name].Allow == nil && p.outdated(q.Name, rng) {
			if request.Goal.Bounds == nil {
				request.Goal.Bounds = map[string]route.Bound{}
			}
			request.Goal.Bounds[q.Name] = route.Bound{
				Allow: allows, Why: fmt.Sprintf("%s asks for %s %s, which the lock does not have", q.Site, q.Name, q.Range),
			}
		}
	}
	for _, s := range p.lock.sections {
		if s.kind != "PATH" {
			continue
		}
		for _, one := range s.specs {
			if !seen[one.name] {
				seen[one.name] = true
				request.Roots = append(request.Roots, flat.Root{
					Name: one.name, Option: flat.Option{
						Key: flat.Key{Name: one.name}, Allows: func(version.Version) bool { return true },
					}, Range: "as it is",
					Place: p.lock.file,
				})
			}
		}
	}
	// Nothing goes down where there is any other way; where there is none, it is told.
	request.Upward = true
	result, err := flat.Resolve(ctx, request)
	if errors.As(err, new(*solve.Conflict)) {
		request.Upward = false
		result, err = flat.Resolve(ctx, request)
	}
	if err != nil {
		return nil, err
	}
	moves := result.Moves(
		Name,
		ask.Component.Requirements,
		func(q model.Requirement) flat.Key { return flat.Key{Name: q.Name} },
		version.Gem{},
	)
	s := &route.State{Moves: moves.Moved, Carried: moves.Carried, Notable: moves.Down}
	for _, c := range result.Chosen {
		if text := r.twofold(ctx, c.Key.Name, c.Version); text != "" && c.Was != c.Version {
			s.Notable = append(s.Notable, text)
		}
		if text := r.takenBack(ctx, c.Key.Name, c.Was); text != "" {
			s.Notable = append(s.Notable, text)
		}
	}
	return s, r.write(ctx, x, ask, result, s)
}

// write gives the edits that make the state: requirements that do not take their new version any
// more, and the lock.
func (r *registry) write(ctx context.Context, x index, ask ecosystem.Ask, result *flat.Result, s *route.State) error {
	ranges := restatements{}
	splices := map[string][]model.Splice{}
	for i := range s.Moves {
		m := &s.Moves[i]
		m.Sites = nil
		for _, q := range ask.Component.Find(m.Name) {
			fresh, changes, err := restated(x.project.versions(q), m.To)
			if err != nil {
				return err
			}
			if !changes {
				continue
			}
			if q.Fixed != "" {
				s.Notices = append(s.Notices, fmt.Sprintf("%s states %s, which is not changed here: %s", q.Site, q.Range, q.Fixed))
				continue
			}
			ranges[q.Site] = fresh
			splices[q.Site.File] = append(splices[q.Site.File], model.Splice{Site: q.Site, New: x.project.quotedLike(q, fresh)})
			m.Sites = append(m.Sites, q.Site)
		}
	}
	for file, list := range splices {
		src, err := x.project.source(file, r.around)
		if err != nil {
			return err
		}
		text, err := model.Apply(src, list)
		if err != nil {
			return err
		}
		s.Edits = append(s.Edits, model.FileEdit{File: file, Old: src, New: text})
	}
	var gone []string
	for _, c := range ask.Changes {
		if c.Old != c.New {
			gone = append(gone, c.Old)
		}
	}
	next, err := x.relocked(ctx, result, ranges, gone)
	if err != nil {
		return err
	}
	if string(next) != string(x.project.lockText) {
		s.Edits = append(s.Edits, model.FileEdit{File: x.project.lock.file, Old: x.project.lockText, New: next})
	}
	slices.SortFunc(s.Edits, func(a, b model.FileEdit) int { return strings.Compare(a.File, b.File) })
	return nil
}

// restated is a requirement that takes a version; changes is false where it does already.
func restated(asked, to string) (fresh string, changes bool, err error) {
	v, err := version.Gem{}.Parse(to)
	if err != nil {
		return "", false, err
	}
	rng, err := version.Gem{}.ParseRange(asked)
	if err != nil {
		return "", false, err
	}
	if rng.Contains(v) {
		return "", false, nil
	}
	return version.Gem{}.Restate(asked, v), true, nil
}

// lockRange is a requirement as a lock has it: its parts in the reverse order of their texts, and
// nothing for any version.
func lockRange(rng string) string {
	var parts []string
	for part := range strings.SplitSeq(rng, ",") {
		part = strings.TrimSpace(part)
		if part == "" || part == ">= 0" {
			continue
		}
		if c := part[0]; c >= '0' && c <= '9' {
			part = "= " + part
		}
		parts = append(parts, part)
	}
	slices.Sort(parts)
	slices.Reverse(parts)
	return strings.Join(parts, ", ")
}

var errMissing = errors.New("the gem server does not list it any more")

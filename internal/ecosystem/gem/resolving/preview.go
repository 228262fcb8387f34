package resolving

import (
	"context"
	"slices"
	"sync"

	"bellwether/internal/core/contract"
	"bellwether/internal/core/flat"
	"bellwether/internal/core/version"
	"bellwether/internal/ecosystem/gem/project"
)

// previews are the gems whose pre-releases may be taken. Bundler takes them of a gem of which anything that is in
// effect names one.
type previews struct {
	stated map[string]bool // what the Gemfile names
	asked  map[string]bool // what a goal may take; which of them, its bounds say
	mu     sync.Mutex
	may    map[string]bool // what releases name
	heard  map[string]bool // what some release names that was looked at
}

func newPreviews(p *project.Project) *previews {
	all := &previews{stated: map[string]bool{}, may: map[string]bool{}, heard: map[string]bool{}}
	for _, d := range slices.Concat(p.Gemfile.Gems, p.Specced) {
		if rng, err := (version.Gem{}).ParseRange(d.Rng); err == nil && rng.(*version.GemRange).Preview() {
			all.stated[d.Name] = true
		}
	}
	return all
}

// ask notes whose pre-releases a goal asks for.
func (p *previews) ask(goal contract.Goal) {
	p.asked = map[string]bool{}
	for _, name := range goal.Previews {
		p.asked[name] = true
	}
	for name := range goal.Bounds {
		p.asked[name] = true
	}
}

// forget takes it back that pre-releases may be taken since releases name them.
func (p *previews) forget() { p.may, p.heard = map[string]bool{}, map[string]bool{} }

// name notes that a requirement names a pre-release of a gem.
func (p *previews) name(gem string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.heard[gem] = true
}

// widen lets pre-releases be taken that releases name; it is false if nothing is new in that.
func (p *previews) widen() (wider bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for gem := range p.heard {
		wider = wider || !p.may[gem] && !p.stated[gem]
		p.may[gem] = true
	}
	return wider
}

// allowed tells whether pre-releases of a gem may be taken; of a requirement of the project itself the goal decides that.
func (p *previews) allowed(gem string, own bool) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.may[gem] || !own && (p.stated[gem] || p.asked[gem])
}

// named tells whether of every pre-release in a state something in it names one, where it is not locked or asked for.
func (x index) named(ctx context.Context, result *flat.Result) bool {
	names := map[string]bool{}
	for _, c := range result.Chosen {
		for _, d := range x.deps(ctx, c.Key.Name, c.Version) {
			if said := read(x.Registry, d.Rng); said.err == nil && said.rng.Preview() {
				names[d.Name] = true
			}
		}
	}
	return !slices.ContainsFunc(result.Chosen, func(c flat.Chosen) bool {
		v, err := version.Gem{}.Parse(c.Version)
		return err == nil && v.Preview() && c.Was != c.Version && !names[c.Key.Name] && !x.preview.stated[c.Key.Name] &&
			!x.only(ctx, c.Key.Name)
	})
}
